"""A photograph's marks: what surrounds them, the scene they make, and keeping what is read."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

from dachi.core.assessing.runsheet import Slot
from dachi.core.body.pinhole import Camera
from dachi.core.catalogue.poses import Pose
from dachi.core.judging import wording
from dachi.core.measuring.bones import Learnt, learn
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.cards import Sighting
from dachi.core.measuring.measure import camera_of, measure
from dachi.core.measuring.plausible import CORNER_SD_PX, corners_apart
from dachi.core.measuring.scene import Image, PhotoView, Point, Result, Scene, SceneError
from dachi.data import catalogue
from dachi.store import (
    accounts,
    assessments,
    markings,
    photos,
    positions,
    practitioners,
    second_opinions,
)
from dachi.store.assessments import Trial
from dachi.store.markings import Marking
from dachi.store.photos import Photo
from dachi.store.positions import Position
from dachi.store.practitioners import Practitioner
from dachi.studio import versions
from dachi.studio.bench import corner_cards
from dachi.studio.bench.alike import Alike
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work


@dataclass(frozen=True)
class Surroundings:
    """Everything around one trial that measuring and marking it need.

    ``usual`` is how marks are set where a marking does not say.
    """

    trial: Trial
    photo: Photo
    who: Practitioner
    pose: Pose
    position: Position
    usual: str = "eye"
    #: Another photograph of the same hold, marked: the shot, and what of a scene is its own.
    beside: tuple[Trial, PhotoView] | None = None
    #: What corner cards tell of the camera: those in the photograph, else (``lent``) those of
    #: another photograph from the same place.
    cards: Sighting | None = None
    lent: bool = False
    #: Lengths of bones: a tape's, else what shots of visits before taught.
    segments_cm: Mapping[str, float] = field(default_factory=dict)

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the photograph, px."""
        return self.photo.width, self.photo.height


def surroundings(work: Work, trial: Trial) -> Surroundings:
    """What is kept around one of the coach's trials; KeyError where its pose is gone."""
    photo = photos.get(work.db, work.coach, trial.photo_id)
    position = positions.get(work.db, work.coach, trial.position_id or 0)
    who = practitioners.get(work.db, work.coach, trial.practitioner_id)
    assert photo is not None and position is not None and who is not None
    coach = accounts.by_id(work.db, work.coach)
    usual = coach.usual_marked if coach is not None else "eye"
    if photo.truth is not None:
        # The simulated camera's marks lie at joints: it has no skin over them.
        usual = "joint"
    beside = _beside(work, trial) if trial.held_with else None
    pose = catalogue().pose(trial.pose)
    cards, lent = corner_cards.for_shot(work, photo, position, pose, trial.id)
    visit = assessments.get(work.db, work.coach, trial.assessment_id)
    assert visit is not None
    learnt = learnt_lengths(work, who.id, visit.taken_at)
    lengths = {n: round(b.cm, 1) for n, b in learnt.items()} | who.segments_cm
    return Surroundings(trial, photo, who, pose, position, usual, beside, cards, lent, lengths)


def learnt_lengths(
    work: Work, practitioner_id: int, before: str | None = None
) -> dict[str, Learnt]:
    """Lengths that a person's marked shots have taught, of visits ``before`` a time or of all."""
    return learn(markings.bones(work.db, work.coach, practitioner_id, before))


def _corner_sd(at: Surroundings) -> float:
    return CORNER_SD_PX * max(at.size) / 1600.0


def corners_for(at: Surroundings, marking: Marking) -> tuple[dict[str, Point] | None, int]:
    """The corners that count for a photograph and how many shots they are the mean of.

    Its own with those of shots from the same place that agree; never another camera's.
    """
    sd = _corner_sd(at)
    return at.position.pooled(
        at.trial.id, marking.corners, lambda a, b: not corners_apart(a, [b], sd)
    )


def corners_said(at: Surroundings, marking: Marking) -> str | None:
    """That a photograph's corners are not those of the others from its camera place."""
    others = at.position.others(at.trial.id)
    gap = corners_apart(marking.corners, others[:1], _corner_sd(at)) if marking.corners else 0.0
    if not gap:
        return None
    return (
        f"These mat corners lie up to {gap:.0f} px from those of the photograph before from this "
        "camera place: was the camera moved in between? If so, say “camera moved”; if not, one of "
        "the two is marked wrongly. Until then each counts for its own photograph only"
    )


def scene_of(at: Surroundings, marking: Marking) -> Scene:
    """Assemble what ``measure`` needs from what is stored.

    The marking's own corners count with those of other shots from the same camera
    position; without its own, corner cards; without any, the level line, then the plain picture.
    """
    mat = None
    corners, shots = corners_for(at, marking)
    if marking.corners is None and at.cards is not None and at.cards.corners is not None:
        mat = Mat(
            at.position.mat_length_cm,
            at.position.mat_width_cm,
            at.cards.corners,
            corner_sds_px=at.cards.corner_sds_px,
        )
    elif corners is not None:
        mat = Mat(
            at.position.mat_length_cm,
            at.position.mat_width_cm,
            corners,
            corner_sd_px=_corner_sd(at) / math.sqrt(shots),
        )
    way = marking.marked or at.usual
    ways = {n: "eye" if n in marking.seen else "sticker" for n in marking.mark_sds}
    return Scene(
        id=str(at.trial.id),
        pose=at.trial.pose,
        side=at.trial.side,
        mode=at.trial.mode,
        variant=at.trial.variant,
        image=Image(at.photo.width, at.photo.height, at.photo.focal_35mm),
        marks=marking.marks,
        mark_sds=marking.mark_sds,
        mat=mat,
        level=marking.level,
        half_width_cm=at.who.half_width_cm,
        facing=marking.facing,
        segments_cm=at.segments_cm,
        prop_cm=at.trial.prop_cm,
        marked="sticker" if way == "standing" else way,
        sticker_put="standing" if way == "standing" else "in_pose",
        marked_by_mark={} if way == "joint" else ways,
    )


def whole(at: Surroundings, scene: Scene) -> Scene:
    """The scene with another photograph of the same hold, where there is one."""
    if at.beside is None:
        return scene
    own = PhotoView(
        at.pose.view, scene.image, scene.marks, scene.mat, scene.level, scene.facing,
        scene.mark_sds,
    )  # fmt: skip
    views = (own, at.beside[1])
    return replace(scene, views=views, marks={}, mat=None, level=None, facing=None, mark_sds={})


def _beside(work: Work, trial: Trial) -> tuple[Trial, PhotoView] | None:
    """The other photograph of a trial's hold, where it is there, marked and of a fitting pose."""
    for other in assessments.trials(work.db, work.coach, trial.assessment_id):
        if slot_of(other).key != trial.held_with or other not in _fitting(trial, [other]):
            continue
        newest = markings.history(work.db, work.coach, other.id)[:1]
        if not newest:
            return None
        # Its own second photograph is not asked for: one hold has two.
        at = surroundings(work, replace(other, held_with=None))
        s = scene_of(at, newest[0])
        view = PhotoView(at.pose.view, s.image, s.marks, s.mat, s.level, s.facing, s.mark_sds)
        return other, view
    return None


def slot_of(trial: Trial) -> Slot:
    """Where a trial stands on its sheet."""
    return Slot(trial.pose, trial.side, trial.mode, trial.number)


def _fitting(trial: Trial, others: Iterable[Trial]) -> list[Trial]:
    """Of other shots of an assessment those that may show the same hold from elsewhere."""
    poses = {p.id for p in catalogue().beside(trial.pose)}
    return [
        t
        for t in others
        if t.pose in poses and t.id != trial.id and t.read_from is None
        and (t.side == trial.side or "both" in (t.side, trial.side)) and t.mode == trial.mode
    ]  # fmt: skip


def may_stand_beside(work: Work, trial: Trial) -> dict[str, Trial]:
    """Marked shots of the same assessment that may show a trial's hold, by their place."""
    own = assessments.trials(work.db, work.coach, trial.assessment_id)
    return {slot_of(t).key: t for t in _fitting(trial, own) if t.status != "unmarked"}


def hold_with(work: Work, trial: Trial, other: Trial | None) -> str | None:
    """Read a trial together with another photograph of its hold, or by itself again.

    Returns the sentence why the readings stay as they were, None where they were renewed.
    """
    key = slot_of(other).key if other is not None else None
    assessments.hold_with(work.db, work.coach, trial.id, key)
    said = measure_again(work, replace(trial, held_with=key))
    summaries.refresh(work, trial.practitioner_id, trial.pose)
    return said


def renew_holds(work: Work, trial: Trial) -> None:
    """Shots that are read together with a trial's photograph follow its marks."""
    for other in assessments.trials(work.db, work.coach, trial.assessment_id):
        if other.held_with == slot_of(trial).key and other.status != "unmarked":
            measure_again(work, other)
            summaries.refresh(work, other.practitioner_id, other.pose)


def keep(
    work: Work,
    at: Surroundings,
    marking: Marking,
    *,
    once_key: str | None = None,
    seen: int | None = None,
) -> None:
    """Measure a marking and keep both; its summary is left to the caller."""
    marking = replace(marking, marked=marking.marked or at.usual)
    result = measure(whole(at, scene_of(at, marking)), catalogue())
    markings.save(
        work.db, work.coach, at.trial.id, marking, result, versions.measuring(),
        once_key=once_key, seen=seen,
    )  # fmt: skip


def measure_again(work: Work, trial: Trial) -> str | None:
    """Readings and checks of a trial's newest marking, under what the trial says now.

    Returns the sentence why the readings stay as they were, None where they were renewed.
    """
    at = surroundings(work, trial)
    for marking in markings.history(work.db, work.coach, trial.id)[:1]:
        try:
            result = measure(whole(at, scene_of(at, marking)), catalogue())
        except SceneError as error:
            return f"The readings stay as they were: {error}."
        markings.replace_readings(work.db, work.coach, marking.id, result, versions.measuring())
    return None


def measure_from(work: Work, at: Surroundings, *position_ids: int) -> list[str]:
    """Readings follow what calibrates them: every marked shot from these camera positions.

    Returns the sentences of those that could not be renewed.
    """
    poses = set()
    problems = []
    for trial in assessments.trials(work.db, work.coach, at.trial.assessment_id):
        if trial.position_id in position_ids and trial.status != "unmarked":
            problems.append(measure_again(work, trial))
            poses.add(trial.pose)
    for pose_id in poses:
        summaries.refresh(work, at.who.id, pose_id)
    return [p for p in problems if p]


@dataclass(frozen=True)
class SecondOpinion:
    """Another instrument's angle beside the photograph's, degrees, in words."""

    device: str
    angle: float
    words: str


def second_opinion(work: Work, at: Surroundings, result: Result | None) -> SecondOpinion | None:
    """Compare what another instrument showed with the photograph's headline."""
    found = second_opinions.of_trial(work.db, work.coach, at.trial.id)
    if found is None:
        return None
    headline = next((r for r in result.readings if r.headline), None) if result else None
    words = f"{found.device}: {found.angle:.0f}°"
    if headline is not None and headline.unit == "deg":
        apart = found.angle - headline.value
        room_for = 1.96 * (found.sd**2 + headline.sd**2) ** 0.5
        verdict = "as far as the two can differ" if abs(apart) <= room_for else "more than chance"
        words += f", {wording.signed(apart)} against the photograph ({verdict})"
    return SecondOpinion(found.device, found.angle, f"{words}.")


@dataclass(frozen=True)
class Read:
    """What a marking reads: the result, or the sentence why there is none.

    ``camera`` is what the mat tells by itself, while marks are still guesses too. ``proposed``
    where the result rests on marks that the program saw and nobody has looked at yet.
    """

    result: Result | None
    problem: str | None
    guesses: tuple[str, ...]
    camera: Camera | None = None
    corners: str | None = None
    proposed: bool = False


@lru_cache(512)
def _drawn(asked: Alike[Scene]) -> Result:
    """The readings and fans of a scene: a review looks at the same pictures again and again."""
    return measure(asked.thing, catalogue(), drawn=True)


def read(at: Surroundings, marking: Marking, guesses: set[str]) -> Read:
    """Measure a marking without keeping anything; the fans are drawn.

    A guess is nobody's joint: nothing is read while a required mark is one, but what marks would
    read that were seen, each with its spread, if they are right.
    """
    labels = tuple(m.label for m in at.pose.marks if m.id in guesses)
    wanting = guesses & set(at.pose.required)
    proposed = bool(wanting) and wanting <= set(marking.mark_sds)
    if proposed:
        marking = replace(marking, seen=(*marking.seen, *sorted(guesses & set(marking.mark_sds))))
        guesses = guesses - set(marking.mark_sds)
    scene = scene_of(at, marking)
    said = corners_said(at, marking)
    corners = f"{said}." if said else None
    try:
        estimate = camera_of(scene, catalogue())
        camera = estimate.camera if estimate else None
        if wanting and not proposed:
            return Read(None, None, labels, camera, corners)
        sure = {k: p for k, p in scene.marks.items() if k not in guesses}
        result = _drawn(Alike(whole(at, replace(scene, marks=sure))))
    except SceneError as error:
        text = str(error)
        return Read(None, f"{text[0].upper()}{text[1:]}.", labels, corners=corners)
    return Read(result, None, labels, camera, corners, proposed)


def marked_pictures(work: Work, assessment_id: int) -> list[tuple[Trial, Photo, Mapping[str, Any]]]:
    """Every marked photograph of an assessment with its newest marks."""
    found = []
    for trial in assessments.trials(work.db, work.coach, assessment_id):
        newest = markings.history(work.db, work.coach, trial.id)[:1]
        photo = photos.get(work.db, work.coach, trial.photo_id)
        if newest and photo is not None and trial.pose in catalogue():
            found.append((trial, photo, newest[0].marks))
    return found
