"""Photographs looked at in the background: which place they show, joints, what is wrong."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.assessing.runsheet import Slot
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.recognise import Likeness, certain, likenesses
from dachi.data import catalogue
from dachi.errors import Told
from dachi.photos import stickers
from dachi.photos.ingest import path_of
from dachi.photos.landmarks import Joints
from dachi.photos.stickers import Colour, Dot, assign_near, find_dots
from dachi.store import accounts, assessments, markings, photos, positions, unsorted_photos
from dachi.store.database import transaction
from dachi.store.photos import Waiting
from dachi.store.unsorted_photos import UnsortedPhoto
from dachi.studio.bench import corner_cards, drafts
from dachi.studio.bench.markings import Surroundings, surroundings
from dachi.studio.bench.mat_seen import mat_seen
from dachi.studio.bench.opening import body_seen, start
from dachi.studio.bench.seen_joints import Sighted, see, see_anybody
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.shot_words import Concern, concerns
from dachi.studio.work import Work


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
        with transaction(work.db):
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
    found: Sighted | None = None
    outline: dict[str, tuple[float, float, float]] | None = None
    said: list[tuple[str, str]] = []
    spots: list[Dot] = []
    with contextlib.suppress(Told, OSError, cv2.error, ValueError):
        data = path_of(work.folder, one.photo.sha256, "photo").read_bytes()
        pose = catalogue().pose(one.pose)
        image = stickers.decode(data)
        places = _places(work, one, pose)
        # What lay in the tray was looked at there.
        roughly = dict(one.photo.glimpsed) or see_anybody(image, places)
        size = (one.photo.width, one.photo.height)
        likely = certain(likenesses(roughly, places, size)) if roughly else None
        found = see(image, pose, one.side, one.variant, roughly) if roughly else None
        said = [(c.use.value, c.words) for c in _concerns(work, one, image, pose, found, likely)]
        outline = _outline(work, one, image, pose, found)
        coach = accounts.by_id(work.db, work.coach)
        if found is not None and coach is not None and coach.sticker_colour:
            spots = find_dots(image, Colour.from_text(coach.sticker_colour))
    kept = (found.joints, said, found.apart) if found else ({}, said)
    with transaction(work.db):
        photos.set_joints(work.db, work.coach, one.photo.id, *kept)
        if outline is not None:
            photos.set_outline(work.db, work.coach, one.photo.id, outline)
    trial = assessments.trial(work.db, work.coach, one.trial)
    if trial is None or one.pose not in catalogue():
        return
    at = surroundings(work, trial)
    form, named = _offered(work, at, spots)
    with transaction(work.db):
        if named and intake.untouched(markings.draft(work.db, work.coach, trial.id)):
            markings.save_draft(work.db, work.coach, trial.id, form)
        count = sum(form.get(f"mark-{name}-state") == "guess" for name in at.pose.required)
        photos.set_doubtful(work.db, work.coach, one.photo.id, count)


def _offered(work: Work, at: Surroundings, spots: list[Dot]) -> tuple[dict[str, str], bool]:
    """Marks as the bench posts them, stickers named by the body seen, and whether there are any."""
    form, body = drafts.form_of(*start(work, at)), body_seen(at)
    if not spots or body is None:
        return form, False
    near = assign_near(spots, body.marks, body.sds, at.pose.required)
    return drafts.with_stickers(form, near) | {"made": intake.PROGRAM}, bool(near.marks)


def _outline(
    work: Work, one: Waiting, image: NDArray[np.uint8], pose: Pose, found: Sighted | None
) -> dict[str, tuple[float, float, float]] | None:
    """The mat's corners in a picture that nothing else tells the camera of; None: not looked."""
    trial = assessments.trial(work.db, work.coach, one.trial)
    if trial is None:
        return None
    position = positions.get(work.db, work.coach, trial.position_id or 0)
    if position is None or position.others(trial.id):
        return None
    if corner_cards.for_shot(work, one.photo, position, pose, trial.id)[0] is not None:
        return None
    near = photos.outlined(work.db, work.coach, position.id, trial.id)
    size = (position.mat_length_cm, position.mat_width_cm)
    told = near[0].outline if near else None
    corners = {n: (x, y) for n, (x, y, _) in told.items()} if told else None
    mat = mat_seen(image, pose, one.side, size, one.photo.focal_35mm, found, corners)
    if mat is None:
        return {}
    return {n: (x, y, mat.sds_px[n]) for n, (x, y) in mat.corners.items()}


def _places(work: Work, one: Waiting, pose: Pose) -> list[tuple[Pose, str]]:
    """What a photograph may show: any place of its sheet."""
    trial = assessments.trial(work.db, work.coach, one.trial)
    visit = assessments.get(work.db, work.coach, trial.assessment_id) if trial else None
    if visit is None:
        return [(pose, one.side)]
    lines = visits.stations(work, visit, visits.all_trials(work, visit))
    return list(dict.fromkeys([*sheet_places(visits.every(lines)), (pose, one.side)]))


def _concerns(
    work: Work,
    one: Waiting,
    image: NDArray[np.uint8],
    pose: Pose,
    found: Sighted | None,
    likely: Likeness | None,
) -> list[Concern]:
    trial = assessments.trial(work.db, work.coach, one.trial)
    if trial is None:
        return []
    position = positions.get(work.db, work.coach, trial.position_id or 0)
    return concerns(
        image, pose, one.side, found,
        corner_cards.sighting(one.photo, position, pose) if position is not None else None,
        likely,
        cards_used=position is not None
        and bool(photos.with_cards(work.db, work.coach, position.id, trial.id)),
    )  # fmt: skip
