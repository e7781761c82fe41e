"""What marks read while they are looked at: nothing here is kept."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

from dachi.core.body.pinhole import Camera
from dachi.core.judging import wording
from dachi.core.measuring import calibration
from dachi.core.measuring.measure import camera_of, measure
from dachi.core.measuring.scene import Result, Scene, SceneError
from dachi.core.rules import Z95
from dachi.data import catalogue
from dachi.interchange import coco
from dachi.store import assessments, markings, photos, second_opinions
from dachi.store.markings import Marking
from dachi.studio.alike import Alike
from dachi.studio.bench import drafts
from dachi.studio.bench.around import Surroundings
from dachi.studio.bench.corners import corners_said
from dachi.studio.bench.scenes import scene_of, whole
from dachi.studio.work import Work


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
        room_for = Z95 * (found.sd**2 + headline.sd**2) ** 0.5
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
def _measured(asked: Alike[Scene]) -> Result:
    """The readings of a scene: a bench looks at the same picture again and again."""
    return measure(asked.thing, catalogue())


def read(at: Surroundings, marking: Marking, guesses: set[str]) -> Read:
    """Measure a marking without keeping anything.

    A guess is nobody's joint: nothing is read while a required mark is one, but what marks would
    read that were seen, each with its spread, if they are right.
    """
    labels = tuple(drafts.label_of(g, at.pose) for g in drafts.in_order(at.pose, guesses))
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
        result = _measured(Alike(whole(at, replace(scene, marks=sure))))
    except SceneError as error:
        text = str(error)
        return Read(None, f"{text[0].upper()}{text[1:]}.", labels, corners=corners)
    return Read(result, None, labels, camera, corners, proposed)


def describe_camera(found: Read) -> str | None:
    """The camera that a marking's mat tells, in words."""
    return calibration.describe(found.camera) if found.camera is not None else None


def coco_of(work: Work, assessment_id: int) -> dict[str, Any]:
    """Every marked photograph of an assessment with its newest marks, as COCO keypoints."""
    shown = photos.of_assessment(work.db, work.coach, assessment_id)
    newest = markings.newest_of(work.db, work.coach, assessment_id)
    pictures = []
    for t in assessments.trials(work.db, work.coach, assessment_id):
        if t.id in newest and t.pose in catalogue():
            p = shown[t.photo_id]
            pictures.append(
                coco.Marked(
                    p.id, f"{p.sha256}.jpg", p.width, p.height, t.pose, t.side, t.mode,
                    newest[t.id].marks,
                )
            )  # fmt: skip
    return coco.export(pictures, catalogue())
