"""Handing out stored pictures to their coach: faces hidden, withheld where consent has ended."""

from __future__ import annotations

import hashlib
from pathlib import Path

from flask import Blueprint, abort, send_file
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.fit import Region, fit
from dachi.data import catalogue
from dachi.photos import faces
from dachi.photos.ingest import path_of
from dachi.store import assessments, markings, photos, preparation
from dachi.store.photos import Photo
from dachi.web.session import coach_id, data_folder, db, own_trial

room = Blueprint("pictures", __name__)


@room.get("/photo/<int:photo_id>/<any(photo, preview, thumb):kind>.jpg")
@login_required
def picture(photo_id: int, kind: str) -> Response:
    """Send a photograph, its preview or its thumbnail as it may leave the bench."""
    photo = photos.get(db(), coach_id(), photo_id) or abort(404)
    return shared(coach_id(), photo, kind)


@room.get("/t/<int:tid>/bench.jpg")
@login_required
def original(tid: int) -> Response:
    """The photograph as it was taken: for marking, and for nothing else."""
    trial = own_trial(tid)
    photo = photos.get(db(), coach_id(), trial.photo_id) or abort(404)
    if _withdrawn(coach_id(), trial.practitioner_id):
        return withheld()
    return send(path_of(data_folder(), photo.sha256, "photo"), photo.sha256)


@room.get("/t/<int:tid>/preview.jpg")
@login_required
def of_trial(tid: int) -> Response:
    """The preview of a trial's photograph."""
    return picture(own_trial(tid).photo_id, "preview")


def _withdrawn(coach: int, practitioner_id: int) -> bool:
    consent = preparation.consent(db(), coach, practitioner_id)
    return consent is not None and consent.withdrawn_on is not None


def shared(coach: int, photo: Photo, kind: str) -> Response:
    """A picture for anywhere but the bench, as the practitioner's consent says."""
    shows = photos.shows(db(), photo.id)
    hide = True
    if shows is not None:
        consent = preparation.consent(db(), coach, shows.practitioner_id)
        if consent is not None and consent.withdrawn_on is not None:
            return withheld()
        hide = consent is None or consent.face_hidden
    if not hide:
        return send(path_of(data_folder(), photo.sha256, kind), f"{photo.sha256}{kind}")
    region = head_of(coach, photo)
    path = path_of(data_folder(), photo.sha256, "photo")
    if not path.exists():
        abort(404, "The picture's file is missing from the data folder.")
    return send(faces.hidden(data_folder(), photo.sha256, kind, region), f"{kind}{region}")


def head_of(coach: int, photo: Photo) -> Region | None:
    """Where the head is: as the coach said, or as the figure laid over the marks says."""
    picked = photos.head(db(), photo.id)
    shows = photos.shows(db(), photo.id)
    if picked is not None or shows is None or shows.trial_id is None:
        return picked
    trial = assessments.trial(db(), coach, shows.trial_id)
    newest = markings.history(db(), coach, shows.trial_id)[:1]
    if trial is None or not newest or trial.pose not in catalogue():
        return None
    try:
        found = fit(catalogue().pose(trial.pose), trial.side, trial.variant, newest[0].marks)
    except ValueError:
        return None
    return found.head if found.fits else None


def send(path: Path, tag: str) -> Response:
    """A picture that browsers keep and ask about, since consent can end."""
    if not path.exists():
        abort(404, "The picture's file is missing from the data folder.")
    etag = hashlib.sha256(f"{path.name}{tag}".encode()).hexdigest()[:32]
    answer = send_file(path, mimetype="image/jpeg", conditional=True, etag=etag)
    answer.headers["Cache-Control"] = "private, no-cache"
    return answer


def withheld() -> Response:
    """A plain picture in place of one that may not be shown."""
    answer = Response(faces.withheld(), mimetype="image/jpeg")
    answer.headers["Cache-Control"] = "no-store"
    return answer
