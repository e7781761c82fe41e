"""Which pose, and which side of it, a person's joints in a picture look like.

Every pose's figure is seen by the camera the pose asks for, over its range and from some degrees
to either side; joints are laid onto each picture by a similarity (moved, sized, turned a little)
and what is left over, as a share of the body's size, is the misfit. Left and right of the joints
are not trusted: both namings are tried, so a side is told by the way the body lies in the picture.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import look_from
from dachi.core.body.staging import on_mat, within
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.scene import Point

Complex = NDArray[np.complex128]

PARTS = ("shoulder", "hip", "knee", "ankle", "heel", "toe")
JOINTS = tuple(f"{side}.{part}" for side in ("left", "right") for part in PARTS)
#: How much a joint tells: heels and toes are seen worst.
WEIGHTS = np.array([1.0, 1.2, 1.0, 1.0, 0.4, 0.4] * 2) / 10.0
STEPS, YAWS_DEG = 8, (-18.0, 0.0, 18.0)
FOCAL_35MM = 26.0
#: A picture held straight is turned no more; what more adds to the misfit.
MOST_TURN_DEG, TURNED = 25.0, 0.5
#: A pose is certain where its misfit is small and that of the next so much larger, or where it is
#: fair and all others are far.
CERTAIN, APART = 0.3, 0.03
FAIR, FAR = 0.4, 0.25


@dataclass(frozen=True)
class Likeness:
    """How little joints look like a pose on a side: the less the better."""

    pose: str
    side: str
    misfit: float


@lru_cache(maxsize=96)
def _pictures(pose: Pose, side: str, size: tuple[int, int]) -> Complex:
    """The figure's joints, (STEPS * yaws, 12) px, as x + iy."""
    stand, rows = pose.camera, []
    pitch = -math.degrees(math.atan2(stand.height_cm - stand.look_at_cm, stand.distance_cm))
    for i in range(STEPS):
        points = on_mat(pose, side, within(pose, i / (STEPS - 1))).points
        spots = np.array([points[j] for j in JOINTS])
        for yaw in YAWS_DEG:
            a = math.radians(yaw)
            eye = (-stand.distance_cm * math.sin(a), -stand.distance_cm * math.cos(a))
            camera = look_from((*eye, stand.height_cm), yaw, pitch, 0.0, FOCAL_35MM, *size)
            at = camera.project(spots)
            rows.append(at[:, 0] + 1j * at[:, 1])
    return np.array(rows)


def likenesses(
    joints: Mapping[str, Point], places: Iterable[tuple[Pose, str]], size: tuple[int, int]
) -> list[Likeness]:
    """Rank poses and sides (``both`` for poses that have none) by how well joints fit, best first.

    ``joints``: the twelve of ``JOINTS``, px of a picture of ``size``.
    """
    named = np.array([complex(*joints[j]) for j in JOINTS])
    half = len(PARTS)
    exchanged = np.concatenate([named[half:], named[:half]])
    found = []
    for pose, side in dict.fromkeys(places):
        drawn = _pictures(pose, side, size)
        drawn = drawn - (drawn * WEIGHTS).sum(axis=1, keepdims=True) / WEIGHTS.sum()
        best = min(_misfit(drawn, z) for z in (named, exchanged))
        found.append(Likeness(pose.id, side, best))
    return sorted(found, key=lambda x: x.misfit)


def _misfit(drawn: Complex, seen: Complex) -> float:
    seen = seen - (seen * WEIGHTS).sum() / WEIGHTS.sum()
    spread = float((WEIGHTS * np.abs(seen) ** 2).sum())
    if spread < 1e-9:
        return math.inf
    turn = (WEIGHTS * drawn.conj() * seen).sum(axis=1) / (WEIGHTS * np.abs(drawn) ** 2).sum(axis=1)
    left = (WEIGHTS * np.abs(seen - turn[:, None] * drawn) ** 2).sum(axis=1)
    turned = np.abs(np.degrees(np.angle(turn))) > MOST_TURN_DEG
    return float((np.sqrt(left / spread) + TURNED * turned).min())


def certain(ranked: Sequence[Likeness]) -> Likeness | None:
    """The best of a ranking where no other pose comes near; None where it is for an eye to say.

    Its side is empty where the other side of the pose comes as near.
    """
    if not ranked:
        return None
    best = ranked[0]
    others = min((x.misfit for x in ranked if x.pose != best.pose), default=math.inf)
    apart = others - best.misfit
    small = best.misfit <= CERTAIN and apart >= APART
    if not small and not (best.misfit <= FAIR and apart >= FAR):
        return None
    side = min((x.misfit for x in ranked[1:] if x.pose == best.pose), default=math.inf)
    return replace(best, side="") if side < best.misfit + APART else best
