"""Whether marks can be a person, the right way round, before a camera that stood still."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import DEFAULT_SEGMENTS_CM, other_side
from dachi.core.body.posing import mark_points
from dachi.core.body.staging import on_mat
from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring.scene import CheckResult, Point, Scene

Array = NDArray[np.float64]

#: Limbs beyond this many times the usual length are nobody's; nearly twice one another neither.
LONGEST, UNLIKE = 1.35, 1.9
#: Cosine of the angle to the line of sight from which on a limb points along it.
ALONG_SIGHT = 0.6
#: Clicks on one corner differ by this many pixels (one standard deviation, picture 1600 px wide).
CORNER_SD_PX = 2.0
#: Corners further apart than this many standard deviations are those of another camera place.
CORNERS_APART_SDS = 5.0


def mean_corners(
    found: Sequence[Mapping[str, Point]], names: Iterable[str] | None = None
) -> dict[str, Point]:
    """The mean of each corner over several photographs, px."""
    count = len(found)
    return {
        name: (sum(f[name][0] for f in found) / count, sum(f[name][1] for f in found) / count)
        for name in (found[0] if names is None else names)
    }


def corners_apart(own: Mapping[str, Point], others: list[Mapping[str, Point]], sd: float) -> float:
    """How far (px) corners lie from the mean of others where that is too far; else 0.

    ``sd`` is a single click's spread, px.
    """
    if not others:
        return 0.0
    mean = others[0] if len(others) == 1 else mean_corners(others, own)
    gap = max(math.dist(p, mean[name]) for name, p in own.items())
    limit = CORNERS_APART_SDS * sd * math.sqrt(1.0 + 1.0 / len(others))
    return gap if gap > limit else 0.0


def judge_body(
    scene: Scene,
    marks: tuple[Mark, ...],
    points: Mapping[str, Array],
    eye: Array,
    calibrated: bool,
) -> CheckResult | None:
    """Say when limbs have lengths that nobody has.

    ``points`` (3,) are where marks lie, cm, ``eye`` (3,) is the camera; without a mat only
    proportions count. Limbs that point along the line of sight are left out: a click moves their
    ends too far.
    """
    lengths, ratios = {}, {}
    for m in marks:
        usual = scene.segments_cm.get(m.segment or "") or DEFAULT_SEGMENTS_CM.get(m.segment or "")
        if not usual or m.parent is None or m.parent not in points:
            continue
        limb, sight = points[m.id] - points[m.parent], points[m.id] - eye
        lengths[m.id] = float(np.linalg.norm(limb))
        along = abs(float(limb @ sight)) / float(np.linalg.norm(sight)) / max(lengths[m.id], 1e-6)
        if along < ALONG_SIGHT:
            ratios[m.id] = lengths[m.id] / usual
    named = {m.id: f"the {m.segment} to the {m.label}" for m in marks}
    if calibrated and ratios:
        longest = max(ratios, key=lambda k: ratios[k])
        if ratios[longest] > LONGEST:
            return _body_check(
                ratios[longest],
                LONGEST,
                f"{named[longest]} would be {lengths[longest]:.0f} cm long, which nobody has: look "
                "at the marks, at the mat's corners and at its size",
            )
    for a, b in combinations(ratios, 2):
        long, short = (a, b) if ratios[a] > ratios[b] else (b, a)
        times = ratios[long] / max(ratios[short], 1e-6)
        if times > UNLIKE:
            return _body_check(
                times,
                UNLIKE,
                f"{named[long]} looks {times:.1f} times as long as {named[short]}: look whether "
                "each mark is on its joint",
            )
    return None


def _body_check(value: float, limit: float, words: str) -> CheckResult:
    return CheckResult(
        "body_size", "a body that can be", min(value, 9.0), 0.0, "ratio", limit, "retake",
        f"Take it again: {words}.",
    )  # fmt: skip


@lru_cache(maxsize=128)
def _usual_facing(pose: Pose, side: str, variant: tuple[tuple[str, str], ...]) -> float:
    """+1 or -1: where the figure faces in the picture when that side is towards the camera."""
    middle = (pose.figure.low + pose.figure.high) / 2.0
    points = on_mat(pose, side, middle, variant=dict(variant)).points
    spots = mark_points(pose.marks, side, points)
    a, b = (np.asarray(spots[m]) for m in pose.facing)
    return math.copysign(1.0, float(b[0] - a[0]))


def judge_side(scene: Scene, pose: Pose) -> CheckResult | None:
    """Say when the marks face the way that the other side would.

    A side view shows the measured side, towards the camera; which way the person then
    faces follows. A shot of the far leg reads through the wrong plane all the same.
    """
    if pose.view != "side" or pose.sides == "both" or scene.side not in ("left", "right"):
        return None
    a, b = pose.facing
    if a not in scene.marks or b not in scene.marks:
        return None
    seen = scene.marks[b][0] - scene.marks[a][0]
    variant = tuple(sorted(pose.chosen(scene.variant).items()))
    usual = _usual_facing(pose, scene.side, variant)
    if scene.variant.get("near_leg") == "back":
        usual = -usual
    if seen * usual >= 0:
        return None
    other = other_side(scene.side)
    way = "left" if seen < 0 else "right"
    return CheckResult(
        "side", "the side that was filed", 1.0, 0.0, "ratio", 0.0, "retake",
        f"Take it again: filed as {scene.side}, but the {pose.facing_what} point {way}, so that "
        f"the {other} side is towards the camera. If this is the {other} side, move it there; if "
        "the picture is mirrored, turn mirroring off.",
    )  # fmt: skip
