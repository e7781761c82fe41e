"""Handing out stored pictures to their coach: faces hidden, withheld where consent has ended."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, abort, send_file
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.photos import faces
from dachi.photos.ingest import path_of
from dachi.store import photos
from dachi.store.photos import Photo
from dachi.web import shown
from dachi.web.session import coach_id, data_folder, db, own_trial

room = Blueprint("pictures", __name__)

MISSING = "The picture's file is missing from the data folder."


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
    if shown.withdrawn(coach_id(), trial.practitioner_id):
        return withheld()
    return send(path_of(data_folder(), photo.sha256, "photo"))


@room.get("/t/<int:tid>/preview.jpg")
@login_required
def of_trial(tid: int) -> Response:
    """The preview of a trial's photograph."""
    return picture(own_trial(tid).photo_id, "preview")


def shared(coach: int, photo: Photo, kind: str) -> Response:
    """A picture for anywhere but the bench, as the practitioner's consent says."""
    try:
        path = shown.outside(coach, photo, kind)
    except OSError:
        abort(404, MISSING)
    return withheld() if path is None else send(path)


def send(path: Path) -> Response:
    """A picture that browsers keep and ask about, since consent can end."""
    if not path.exists():
        abort(404, MISSING)
    # Both photographs and their hidden versions are named by what is in them.
    answer = send_file(path, mimetype="image/jpeg", conditional=True, etag=path.stem)
    answer.headers["Cache-Control"] = "private, no-cache"
    return answer


def withheld() -> Response:
    """A plain picture in place of one that may not be shown."""
    answer = Response(faces.withheld(), mimetype="image/jpeg")
    answer.headers["Cache-Control"] = "no-store"
    return answer
