"""Pictures as they may leave the bench: faces hidden, withheld where consent has ended."""

from __future__ import annotations

from pathlib import Path

from dachi.core.measuring.figure_match import Region, match_figure
from dachi.data import catalogue
from dachi.photos import faces
from dachi.photos.ingest import path_of
from dachi.store import assessments, markings, photos, preparation
from dachi.store.photos import Photo
from dachi.studio.work import Work


def withdrawn(work: Work, practitioner_id: int) -> bool:
    """Whether the person took their consent back: nobody sees their pictures any more."""
    consent = preparation.consent(work.db, work.coach, practitioner_id)
    return consent is not None and consent.withdrawn_on is not None


def to_themselves(work: Work, practitioner_id: int) -> bool:
    """Whether the person agreed to be shown their own pictures."""
    consent = preparation.consent(work.db, work.coach, practitioner_id)
    if (
        consent is None
        or consent.withdrawn_on is not None
        or consent.ended(work.today().isoformat())
    ):
        return False
    return consent.scope != "measure"


def outside(work: Work, photo: Photo, kind: str) -> Path | None:
    """The file of a picture for anywhere but the bench; None where consent was taken back.

    Raises OSError where the stored picture is missing.
    """
    people = photos.people_on(work.db, work.coach, photo.id)
    if any(withdrawn(work, pid) for pid in people):
        return None
    consents = [preparation.consent(work.db, work.coach, pid) for pid in people]
    hide = not consents or any(c is None or c.face_hidden for c in consents)
    if not hide:
        return path_of(work.folder, photo.sha256, kind)
    return faces.hidden(work.folder, photo.sha256, kind, head_of(work, photo))


def head_of(work: Work, photo: Photo) -> Region | None:
    """Where the head is: as the coach said, or as the figure laid over the marks says."""
    picked = photos.head(work.db, work.coach, photo.id)
    shows = photos.shows(work.db, work.coach, photo.id)
    if picked is not None or shows is None or shows.trial_id is None:
        return picked
    trial = assessments.trial(work.db, work.coach, shows.trial_id)
    newest = markings.history(work.db, work.coach, shows.trial_id)[:1]
    if trial is None or not newest or trial.pose not in catalogue():
        return None
    try:
        found = match_figure(
            catalogue().pose(trial.pose), trial.side, trial.variant, newest[0].marks
        )
    except ValueError:
        return None
    return found.head if found.fits else None


def whole_picture(work: Work, photo: Photo) -> Path:
    """Where a photograph lies as it was taken: for marking, and for nothing else."""
    return path_of(work.folder, photo.sha256, "photo")
