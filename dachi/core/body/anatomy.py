"""Names of sides, modes, views and body points, with published reference ranges."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TypeVar

T = TypeVar("T")

SIDES = ("left", "right", "both")
MODES = ("active", "passive")
VIEWS = ("side", "front")


@dataclass(frozen=True)
class Reference:
    """A published adult mean, for orientation and never as a verdict on a person."""

    mean_deg: float
    sd_deg: float
    source: str


_ROAAS = "Roaas and Andersson 1982, men aged 30 to 40, passive"

#: Hip motions in the neutral-zero convention (anatomical standing is 0 degrees).
HIP_REFERENCES: dict[str, Reference] = {
    "flexion": Reference(120, 8, _ROAAS),
    "extension": Reference(9, 5, _ROAAS),
    "abduction": Reference(39, 7, _ROAAS),
    "adduction": Reference(31, 7, _ROAAS),
    "internal_rotation": Reference(33, 8, _ROAAS),
    "external_rotation": Reference(34, 7, _ROAAS),
}


def other_side(side: str) -> str:
    """Return the opposite of ``left`` or ``right``."""
    return "right" if side == "left" else "left"


def exchanged(joints: Mapping[str, T]) -> dict[str, T]:
    """Joints written ``left.knee`` and so on, left and right exchanged."""
    return {f"{other_side(n.split('.')[0])}.{n.split('.')[1]}": p for n, p in joints.items()}


def longest_bone(joints: Mapping[str, tuple[float, float]]) -> float:
    """The longest of both thighs and shins between joints in a picture, px."""
    return max(
        math.dist(joints[f"{side}.{a}"], joints[f"{side}.{b}"])
        for side in ("left", "right")
        for a, b in (("hip", "knee"), ("knee", "ankle"))
    )


#: Body proportions as fractions of height: Drillis and Contini (1966), as
#: tabulated by Winter, Biomechanics and Motor Control of Human Movement.
THIGH_OF_HEIGHT = 0.245
SHIN_OF_HEIGHT = 0.246

#: Segment lengths assumed where nobody has measured this person, cm.
DEFAULT_SEGMENTS_CM = {"thigh": 42.0, "shin": 41.0, "trunk": 50.0}
