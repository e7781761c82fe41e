"""Photographs looked at in the background: which place they show, joints, what is wrong."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.assessing import runsheet
from dachi.core.assessing.runsheet import Slot
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.recognise import Likeness, certain, likenesses
from dachi.data import catalogue
from dachi.errors import Told
from dachi.photos import stickers
from dachi.photos.ingest import path_of
from dachi.photos.landmarks import Joints
from dachi.photos.stickers import Colour, Dot, assign_near, find_dots
from dachi.store import accounts, assessments, markings, photos, unsorted_photos
from dachi.store.assessments import Assessment
from dachi.store.photos import Photo, Waiting
from dachi.store.unsorted_photos import UnsortedPhoto
from dachi.studio.acting import acting
from dachi.studio.bench import drafts
from dachi.studio.bench.around import Around, Surroundings
from dachi.studio.bench.mat_seen import mat_seen
from dachi.studio.bench.opening import body_seen, start
from dachi.studio.bench.seen_joints import Sighted, see, see_anybody
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.shot_words import Concern, concerns
from dachi.studio.work import Work

#: A photograph whose joints are no nearer to its own pose may show one that is not on the sheet.
FAR_OFF = 0.35


def sheet_places(slots: Iterable[Slot]) -> list[tuple[Pose, str]]:
    """Poses and sides of a sheet's places, each once; poses of two sides with both of them."""
    found: dict[tuple[str, str], tuple[Pose, str]] = {}
    for slot in slots:
        pose = catalogue().pose(slot.pose)
        for side in ("left", "right") if pose.sides != "both" else ("both",):
            found[slot.pose, side] = (pose, side)
    return list(found.values())


def recognised(photo: UnsortedPhoto, places: Sequence[tuple[Pose, str]]) -> Likeness | None:
    """The pose and side a photograph of the tray shows, where that is certain."""
    if not photo.joints:
        return None
    return certain(likenesses(photo.joints, places, (photo.width, photo.height)))


@dataclass(frozen=True)
class Elsewhere:
    """Another place that a photograph seems to belong to: its pose and side in words, its key."""

    words: str
    key: str


def elsewhere(work: Work, at: Surroundings) -> Elsewhere | None:
    """Where an unmarked photograph seems to belong, if that is another pose or side than filed."""
    joints = dict(at.photo.glimpsed) or at.photo.joints
    if at.trial.marked or not joints:
        return None
    found = visits.stations(work, at.visit, visits.all_trials(work, at.visit))
    seen = likely(joints, sheet_places(visits.every(found)), (at.pose, at.trial.side), at.size)
    if seen is None or (seen.pose == at.pose.id and seen.side in ("", "both", at.trial.side)):
        return None
    pose = catalogue().pose(seen.pose)
    side = seen.side or (at.trial.side if at.trial.side in runsheet.sides(pose, "left") else "left")
    own = [s for s in visits.free(found) if (s.pose, s.side) == (pose.id, side)]
    modes = [at.trial.mode, *pose.modes]
    best = min(own, key=lambda s: modes.index(s.mode), default=None)
    if best is None:
        best = Slot(pose.id, side, next(m for m in modes if m in pose.modes), 1)
    place = "" if side == "both" else f", {side}"
    return Elsewhere(f"{pose.name.lower()}{place}", best.key)


def likely(
    joints: Mapping[str, tuple[float, float]], places: Sequence[tuple[Pose, str]],
    own: tuple[Pose, str], size: tuple[int, int],
) -> Likeness | None:  # fmt: skip
    """The pose and side that a photograph filed as ``own`` shows, where that is certain.

    Places of the sheet come first; where none is certain and its own is far, any pose there is.
    """
    ranked = likenesses(joints, list(dict.fromkeys([*places, own])), size)
    if (found := certain(ranked)) is not None:
        return found
    fit = min(x.misfit for x in ranked if x.pose == own[0].id)
    if fit <= FAR_OFF:
        return None
    every = [(p, s) for p in catalogue().poses for s in runsheet.sides(p, "left")]
    return certain(likenesses(joints, every, size))


@dataclass(frozen=True)
class LaidOut:
    """A tray laid onto a sheet: each photograph with the place proposed for it, if there is one.

    ``seen`` is what photographs show for certain, ``unlooked`` how many were not looked at yet.
    """

    rows: list[tuple[UnsortedPhoto, Slot | None]]
    free: list[Slot]
    seen: dict[int, Likeness]
    unlooked: int


def laid_out(
    work: Work, visit: Assessment, out: Collection[int], *, looking: bool = True
) -> LaidOut:
    """The tray in the order the photographs were taken; those left ``out`` come last.

    While somebody is ``looking``, nothing is placed by its order alone before it was looked at.
    """
    waiting = unsorted_photos.of_assessment(work.db, work.coach, visit.id)
    stations = visits.stations(work, visit, visits.all_trials(work, visit))
    free, places = visits.free(stations), sheet_places(visits.every(stations))
    seen = {w.photo_id: found for w in waiting if (found := recognised(w, places)) is not None}
    laid = runsheet.sort_onto(
        [(w.photo_id, w.taken_at) for w in waiting if w.photo_id not in out],
        free,
        {i: (x.pose, x.side) for i, x in seen.items()},
    )
    by_id = {w.photo_id: w for w in waiting}
    rows: list[tuple[UnsortedPhoto, Slot | None]] = [
        (by_id[i], None if looking and by_id[i].joints is None else slot) for i, slot in laid
    ]
    rows += [(w, None) for w in waiting if w.photo_id in out]
    return LaidOut(rows, free, seen, sum(w.joints is None for w in waiting))


def _look_at_tray(work: Work) -> int:
    """Look at what lies in trays, by the sheets it is for."""
    done = 0
    while waiting := unsorted_photos.unseen(work.db, work.coach):
        aid, photo_id, sha256 = waiting[0]
        visit = assessments.get(work.db, work.coach, aid)
        joints: Joints | None = None
        with contextlib.suppress(Told, OSError, cv2.error, ValueError):
            data = path_of(work.folder, sha256, "photo").read_bytes()
            if visit is not None:
                lines = visits.stations(work, visit, visits.all_trials(work, visit))
                places = sheet_places(visits.every(lines))
                joints = see_anybody(stickers.decode(data), places)
        with acting(work):
            unsorted_photos.set_joints(work.db, work.coach, aid, photo_id, joints or {})
        done += 1
    return done


def look_at_all(work: Work) -> int:
    """Look at trays, then at photographs that have a place; how many were looked at."""
    done = _look_at_tray(work)
    while waiting := photos.unseen(work.db, work.coach):
        _look(work, waiting[0])
        done += 1
    return done


def _look(work: Work, one: Waiting) -> None:
    """See a photograph's joints and what is wrong with it, and keep both at once; a picture
    that cannot be read has none.
    """
    trial = assessments.trial(work.db, work.coach, one.trial)
    if trial is None or one.pose not in catalogue():
        with acting(work):
            photos.set_joints(work.db, work.coach, one.photo.id, {})
        return
    around = Around(work, trial.practitioner_id)
    at = around.of(trial)
    found: Sighted | None = None
    outline: dict[str, tuple[float, float, float]] | None = None
    said: list[tuple[str, str]] = []
    spots: list[Dot] = []
    with contextlib.suppress(Told, OSError, cv2.error, ValueError):
        data = path_of(work.folder, at.photo.sha256, "photo").read_bytes()
        image = stickers.decode(data)
        places = _places(work, at)
        # What lay in the tray was looked at there.
        roughly = dict(at.photo.glimpsed) or see_anybody(image, places)
        shown = likely(roughly, places, (at.pose, at.trial.side), at.size) if roughly else None
        found = see(image, at.pose, at.trial.side, trial.variant, roughly) if roughly else None
        said = [(c.use.value, c.words) for c in _concerns(around, at, image, found, shown)]
        outline = _outline(around, at, image, found)
        coach = accounts.by_id(work.db, work.coach)
        if found is not None and coach is not None and coach.sticker_colour:
            spots = find_dots(image, Colour.from_text(coach.sticker_colour))
    kept = (found.joints, said, found.apart) if found else ({}, said)
    with acting(work, at.who.id):
        photos.set_joints(work.db, work.coach, at.photo.id, *kept)
        if outline is not None:
            photos.set_outline(work.db, work.coach, at.photo.id, outline)
    at = Around(work, at.who.id).of(trial)
    form, named = _offered(work, at, spots)
    with acting(work):
        if named and intake.untouched(markings.draft(work.db, work.coach, trial.id)):
            markings.save_draft(work.db, work.coach, trial.id, form)
        count = sum(form.get(f"mark-{name}-state") == "guess" for name in at.pose.required)
        photos.set_doubtful(work.db, work.coach, at.photo.id, count)


def _offered(work: Work, at: Surroundings, spots: list[Dot]) -> tuple[dict[str, str], bool]:
    """Marks as the bench posts them, stickers named by the body seen, and whether there are any."""
    form, body = drafts.form_of(*start(work, at)), body_seen(at)
    if not spots or body is None:
        return form, False
    near = assign_near(spots, body.marks, body.sds, at.pose.required)
    return drafts.with_stickers(form, near) | {"made": intake.PROGRAM}, bool(near.marks)


def _from_there(around: Around, at: Surroundings) -> list[Photo]:
    """Photographs of the other shots from a shot's camera place, the newest first."""
    here = around.shots(at.visit.id)
    own = [t for t in here.trials if t.position_id == at.position.id and t.id != at.trial.id]
    return [here.photos[t.photo_id] for t in reversed(own)]


def _outline(
    around: Around, at: Surroundings, image: NDArray[np.uint8], found: Sighted | None
) -> dict[str, tuple[float, float, float]] | None:
    """The mat's corners in a picture whose own cards do not tell the camera; None: not looked."""
    if at.by_cards:
        return None
    told = next((p.outline for p in _from_there(around, at) if p.outline), None)
    near = {n: (x, y) for n, (x, y, _) in told.items()} if told else None
    if near is None and at.lent is not None:
        near = dict(at.lent.corners)
    size = (at.position.mat_length_cm, at.position.mat_width_cm)
    mat = mat_seen(image, at.pose, at.trial.side, size, at.photo.focal_35mm, found, near)
    if mat is None:
        return {}
    return {n: (x, y, mat.sds_px[n]) for n, (x, y) in mat.corners.items()}


def _places(work: Work, at: Surroundings) -> list[tuple[Pose, str]]:
    """What a photograph may show: any place of its sheet."""
    lines = visits.stations(work, at.visit, visits.all_trials(work, at.visit))
    return list(dict.fromkeys([*sheet_places(visits.every(lines)), (at.pose, at.trial.side)]))


def _concerns(
    around: Around,
    at: Surroundings,
    image: NDArray[np.uint8],
    found: Sighted | None,
    likely: Likeness | None,
) -> list[Concern]:
    used = any(p.cards for p in _from_there(around, at))
    return concerns(image, at.pose, at.trial.side, found, at.cards, likely, cards_used=used)
