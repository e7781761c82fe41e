"""Taking a photograph in for an assessment, whoever sends it: sheet, phone, folder, simulation."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any

import numpy as np

from dachi.core import readiness
from dachi.core.catalogue import Pose
from dachi.core.runsheet import Slot, sides
from dachi.data import catalogue, variant_under
from dachi.photos import stickers
from dachi.photos.ingest import Taken, path_of, source_digest, take_in
from dachi.photos.stickers import Colour, ColourError, Found
from dachi.store import accounts, assessments, markings, photos, positions, preparation
from dachi.store.assessments import Assessment, Trial
from dachi.store.photos import Photo
from dachi.store.practitioners import Practitioner
from dachi.web import scenes
from dachi.web.session import data_folder, db, without_lock
from dachi.web.words import day, pose_name


class Refused(ValueError):
    """A photograph that is not taken in; the message is for the person."""


@dataclass(frozen=True)
class Place:
    """Where on the sheet a photograph goes, and how the pose was done."""

    pose: Pose
    side: str
    mode: str
    number: int
    variant: Mapping[str, str]

    @property
    def slot(self) -> Slot:
        """The place without its variant."""
        return Slot(self.pose.id, self.side, self.mode, self.number)


def place_of(form: Mapping[str, str], who: Practitioner) -> Place:
    """Read a place from a form; Refused where it names none there is."""
    pose_id = form.get("pose", "")
    if pose_id not in catalogue():
        raise Refused("There is no such pose.")
    pose = catalogue().pose(pose_id)
    side, mode, number = form.get("side", ""), form.get("mode", ""), form.get("number", "1")
    if side not in sides(pose, "left") or mode not in pose.modes or number not in list("123456789"):
        raise Refused(f"{pose.name} has no such side, mode or trial.")
    variant = usual_variant(pose, who)
    for v in pose.variants:
        if form.get(f"variant-{v.id}") in v.options:
            variant[v.id] = form[f"variant-{v.id}"]
    return Place(pose, side, mode, int(number), variant)


def usual_variant(pose: Pose, who: Practitioner) -> dict[str, str]:
    """How this person does the pose, by their schools and the pose's defaults."""
    found = pose.default_variant()
    for name, option in variant_under(pose.id, who.schools).items():
        if any(v.id == name and option in v.options for v in pose.variants):
            found[name] = option
    return found


def closed(visit: Assessment) -> str | None:
    """Why nothing may change any more, None while the assessment is open."""
    if visit.signed_off_at is None:
        return None
    return "This assessment is signed off. Reopen it under Review to change anything."


def refusal(
    coach_id: int, visit: Assessment, who: Practitioner, mode: str, *, figure: bool = False
) -> str | None:
    """Why a photograph in a mode may not be taken now, as a sentence; None where it may.

    A simulated ``figure`` shows nobody and needs no consent.
    """
    problem = closed(visit)
    if problem is None and not figure:
        consent = preparation.consent(db(), coach_id, who.id)
        problem = readiness.photograph_refused(consent, who.birth_year, date.today().year)
    if problem is None and mode == "passive":
        problem = readiness.passive_refused(preparation.screening(db(), coach_id, who.id))
    return problem


def already(double: Mapping[str, Any]) -> str:
    """That these very bytes are there, and where."""
    return (
        f"This very photograph is already there: {double['call_name']}, "
        f"{pose_name(double['pose'])}, {double['side']} {double['mode']}, trial "
        f"{double['number']} on {day(double['assessed_at'])}. Nothing was added."
    )


def stored(
    coach_id: int, data: bytes, origin: str, truth: Mapping[str, Any] | None = None
) -> tuple[int, Taken]:
    """Check and keep a picture; return its record's id. Raises PhotoError and OSError."""
    with without_lock():
        taken = take_in(data, data_folder())
    return recorded(db(), coach_id, taken, origin, truth), taken


def recorded(
    connection: sqlite3.Connection,
    coach_id: int,
    taken: Taken,
    origin: str,
    truth: Mapping[str, Any] | None = None,
) -> int:
    """The record of a picture that was taken in; its id."""
    return photos.add(
        connection,
        coach_id,
        sha256=taken.sha256,
        source_sha256=taken.source_sha256,
        width=taken.width,
        height=taken.height,
        focal_35mm=taken.focal_35mm,
        taken_at=taken.taken_at.isoformat() if taken.taken_at else None,
        origin=origin,
        truth=truth,
    )


def put(
    coach_id: int, visit: Assessment, place: Place, photo_id: int, once_key: str | None = None
) -> int:
    """Put a stored photograph in its place; return the trial. Raises Conflict."""
    photo = photos.get(db(), coach_id, photo_id)
    if photo is None:
        raise Refused("There is no such photograph.")
    trial_id = assessments.add_trial(
        db(),
        coach_id,
        visit.id,
        photo_id,
        pose=place.pose.id,
        side=place.side,
        mode=place.mode,
        variant=place.variant,
        number=place.number,
        once_key=once_key,
        position_id=positions.for_photo(
            db(), visit.id, place.pose.view, place.pose.setup, photo.width, photo.height
        ),
    )
    _propose(coach_id, trial_id, place.pose, photo)
    return trial_id


def send(coach_id: int, visit: Assessment, who: Practitioner, place: Place, data: bytes,
         origin: str, truth: Mapping[str, Any] | None, once_key: str | None) -> int:  # fmt: skip
    """Take one picture in and put it in its place; sent twice, it is there once.

    Raises Refused, PhotoError, Conflict and OSError, each with a sentence.
    """
    if problem := refusal(coach_id, visit, who, place.mode, figure=truth is not None):
        raise Refused(problem)
    if double := photos.use_of(db(), coach_id, source_digest(data)):
        trial = assessments.trial(db(), coach_id, double["trial_id"])
        same = trial is not None and place.slot == Slot(
            trial.pose, trial.side, trial.mode, trial.number
        )
        if same and once_key and double["assessment_id"] == visit.id:
            return int(double["trial_id"])
        raise Refused(already(double))
    if assessments.trial_at(db(), coach_id, visit.id, place.slot):
        raise Refused(
            f"Trial {place.number} of {place.side} {place.mode} already has a photograph. Delete "
            "it first, or choose another trial."
        )
    photo_id, _ = stored(coach_id, data, origin, truth)
    return put(coach_id, visit, place, photo_id, once_key)


def look_for_stickers(pose: Pose, trial: Trial, photo: Photo, colour: Colour) -> Found:
    """Find stickers of a colour and name them by the pose's layout."""
    path = path_of(data_folder(), photo.sha256, "photo")
    with without_lock():
        image = stickers.decode(path.read_bytes())
        return stickers.assign(
            stickers.find_dots(image, colour), scenes.layouts(pose, trial, photo), pose.required
        )


def _propose(coach_id: int, trial_id: int, pose: Pose, photo: Photo) -> None:
    """Where the studio has a sticker colour, look at once: the bench opens with the marks on."""
    coach = accounts.by_id(db(), coach_id)
    trial = assessments.trial(db(), coach_id, trial_id)
    if coach is None or trial is None or not coach.sticker_colour:
        return
    if markings.draft(db(), coach_id, trial_id) or trial.status != "unmarked":
        return
    try:
        found = look_for_stickers(pose, trial, photo, Colour.from_text(coach.sticker_colour))
    except (ColourError, ValueError, OSError, np.linalg.LinAlgError):
        return
    if found.marks:
        guess = scenes.guess_marks(pose, trial.side, photo.width, photo.height)
        body = scenes.guess_form({k: v for k, v in guess.items() if k in pose.required})
        markings.save_draft(db(), coach_id, trial_id, scenes.with_stickers(body, found))


def unwritten(error: OSError | sqlite3.OperationalError) -> str:
    """That a photograph could not be kept, and what to do."""
    why = getattr(error, "strerror", None) or str(error)
    return f"The photograph could not be written ({why}). Free some space first."
