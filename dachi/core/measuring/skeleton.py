"""One skeleton: pelvis, two legs and a trunk, as joints that turn about their centres.

Unknowns of a body, in this order (radians, centimetres): where the middle of the hips lies (3),
the pelvis's turn, tilt and list, hip flexion, abduction, rotation, knee and ankle of the left and
of the right, the spine's bend forward and to the side, then lengths: half the distance of the
hips, thigh, shin, trunk, foot. Signs are those of ``dachi.core.body.figure``: anterior tilt,
flexion, abduction and outward rotation are positive; a knee may be negative, bent backwards.

Segment frames are columns front, left, up. A segment turns about its own axes, so every joint
angle has a world axis and a centre, and a point's derivative to it is axis x (point - centre).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

LEG = ("hip_flexion", "hip_abduction", "hip_rotation", "knee_flexion", "ankle_flexion")
NAMES: tuple[str, ...] = (
    "x", "y", "z", "pelvis_turn", "pelvis_tilt", "pelvis_list",
    *(f"left.{j}" for j in LEG), *(f"right.{j}" for j in LEG),
    "spine_flexion", "spine_side", "half_hips", "thigh", "shin", "trunk", "foot",
)  # fmt: skip
INDEX = {name: i for i, name in enumerate(NAMES)}
SIZE = len(NAMES)
FIRST_ANGLE, FIRST_LENGTH = 3, 18
#: Which unknowns are angles.
ANGLES = slice(FIRST_ANGLE, FIRST_LENGTH)

SEGMENTS = (
    "pelvis", "lumbar", "thorax", "left.thigh", "left.shin", "left.foot",
    "right.thigh", "right.shin", "right.foot",
)  # fmt: skip
SEGMENT = {name: i for i, name in enumerate(SEGMENTS)}

#: Usual lengths of an adult 170 cm tall, cm, as ``NAMES`` ends, with their spread at that height.
#: Between Drillis and Contini's fractions of height and those of scanned bodies, which disagree
#: by 3 cm in the thigh.
USUAL_LENGTHS = np.array([9.1, 39.0, 42.0, 49.0, 18.0])
OWN_SD = np.array([0.7, 2.2, 1.6, 2.5, 1.2])
#: Spread of height between adults, as a share.
HEIGHT_SD = 0.065

#: Where the spine bends above the middle of the hips and where the shoulders hang on it, as
#: shares of the trunk: (front, up).
LUMBAR_AT = (-0.13, 0.26)
THORAX_AT = (-0.11, 0.57)
SHOULDER_AT = (-0.04, 1.0)
SHOULDER_OUT = 0.34


@dataclass(frozen=True)
class Point:
    """A point fixed to a segment: ``step`` from the segment's joint in its frame, cm.

    ``step`` is front, outwards, up. ``of_trunk`` adds shares of the trunk's length, ``of_foot``
    of the foot's; ``of_hips``, ``of_thigh`` and ``of_shin`` go that share out to the hip or down
    the bone. ``behind`` is the share of ``step`` that turns with the pelvis instead.
    """

    segment: str
    step: tuple[float, float, float] = (0.0, 0.0, 0.0)
    side: str = "left"
    of_trunk: tuple[float, float, float] = (0.0, 0.0, 0.0)
    of_foot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    of_hips: float = 0.0
    of_thigh: float = 0.0
    of_shin: float = 0.0
    behind: float = 0.0


def joint_point(name: str) -> Point:
    """The point of a joint's centre, such as ``left.hip``, ``right.shoulder`` or ``pelvis``."""
    if name == "pelvis":
        return Point("pelvis")
    side, joint = name.split(".")
    if joint == "hip":
        return Point("pelvis", side=side, of_hips=1.0)
    if joint == "knee":
        return Point(f"{side}.shin", side=side)
    if joint == "ankle":
        return Point(f"{side}.foot", side=side)
    if joint == "shoulder":
        up = (SHOULDER_AT[0] - THORAX_AT[0], SHOULDER_OUT, SHOULDER_AT[1] - THORAX_AT[1])
        return Point("thorax", side=side, of_trunk=up)
    raise KeyError(name)


#: The rotations of the chain: unknown, axis (0 front, 1 left, 2 up) and sign.
_TURNS: tuple[tuple[str, int, float], ...] = (
    ("pelvis_turn", 2, 1.0),
    ("pelvis_tilt", 1, 1.0),
    ("pelvis_list", 0, 1.0),
    ("spine_flexion", 1, 0.5),
    ("spine_side", 0, 1.0),
    *(
        (f"{s}.{j}", axis, sign * (g if handed else 1.0))
        for s, g in (("left", 1.0), ("right", -1.0))
        for j, axis, sign, handed in (
            ("hip_flexion", 1, -1.0, False),
            ("hip_abduction", 0, 1.0, True),
            ("hip_rotation", 2, 1.0, True),
            ("knee_flexion", 1, 1.0, False),
            ("ankle_flexion", 1, 1.0, False),
        )
    ),
)
_WHICH = np.array([INDEX[n] for n, _, _ in _TURNS])
_SIGN = np.array([s for _, _, s in _TURNS])
_AXIS = np.array([a for _, a, _ in _TURNS])
_E = np.eye(3)
_SKEW = np.array([[[0, 0, 0], [0, 0, -1], [0, 1, 0]], [[0, 0, 1], [0, 0, 0], [-1, 0, 0]],
                  [[0, -1, 0], [1, 0, 0], [0, 0, 0]]], dtype=float)  # fmt: skip
_KEEP = np.array([np.outer(_E[a], _E[a]) for a in _AXIS])
_ACROSS = np.eye(3) - _KEEP
_CROSS = _SKEW[_AXIS]


def local_turns(x: Array) -> Array:
    """Rotation matrices (s, 15, 3, 3) of every joint for unknowns (s, SIZE)."""
    angle = (x[:, _WHICH] * _SIGN)[..., None, None]
    return np.asarray(_KEEP + np.cos(angle) * _ACROSS + np.sin(angle) * _CROSS)


@dataclass(frozen=True)
class Posed:
    """A batch of bodies: frames (s, 9, 3, 3) and joints (s, 9, 3) of the segments.

    ``axes`` (s, 16, 3), ``pivots`` (s, 16, 3): what each angle turns about; the spine's forward
    bend comes twice, half at either joint.
    """

    frames: Array
    joints: Array
    axes: Array
    pivots: Array


#: What each row of ``Posed.axes`` belongs to, and which segments it moves.
AXIS_OF = np.array(
    [INDEX[n] for n in ("pelvis_turn", "pelvis_tilt", "pelvis_list", "spine_flexion",
                        "spine_flexion", "spine_side",
                        *(f"left.{j}" for j in LEG), *(f"right.{j}" for j in LEG))]
)  # fmt: skip


def _moves() -> Array:
    found = np.zeros((len(AXIS_OF), len(SEGMENTS)))
    found[:3] = 1.0
    found[3, 1:3] = found[5, 1:3] = 1.0
    found[4, 2] = 1.0
    for first, base in ((6, 3), (11, 6)):
        found[first : first + 3, base : base + 3] = 1.0
        found[first + 3, base + 1 : base + 3] = 1.0
        found[first + 4, base + 2] = 1.0
    return found


MOVES = _moves()


def pose(x: Array, root: Array) -> Posed:
    """Place a batch of bodies (s, SIZE); ``root`` (3, 3) is the pelvis's frame at zero angles."""
    m = local_turns(x)
    n = len(x)
    frames = np.empty((n, 9, 3, 3))
    joints = np.empty((n, 9, 3))
    half, thigh, shin, trunk = (x[:, FIRST_LENGTH + i, None] for i in range(4))
    spun = root @ m[:, 0]
    tipped = spun @ m[:, 1]
    pelvis = tipped @ m[:, 2]
    frames[:, 0] = pelvis
    joints[:, 0] = x[:, :3]
    bent = pelvis @ m[:, 3]
    lumbar = bent @ m[:, 4]
    frames[:, 1] = lumbar
    thorax = lumbar @ m[:, 3]
    frames[:, 2] = thorax
    joints[:, 1] = joints[:, 0] + trunk * (
        LUMBAR_AT[0] * pelvis[:, :, 0] + LUMBAR_AT[1] * pelvis[:, :, 2]
    )
    joints[:, 2] = joints[:, 1] + trunk * (
        (THORAX_AT[0] - LUMBAR_AT[0]) * lumbar[:, :, 0]
        + (THORAX_AT[1] - LUMBAR_AT[1]) * lumbar[:, :, 2]
    )
    axes = np.empty((n, 16, 3))
    pivots = np.empty((n, 16, 3))
    axes[:, 0], axes[:, 1], axes[:, 2] = root[:, 2], spun[:, :, 1], tipped[:, :, 0]
    pivots[:, :3] = x[:, None, :3]
    axes[:, 3], axes[:, 4], axes[:, 5] = 0.5 * pelvis[:, :, 1], 0.5 * lumbar[:, :, 1], bent[:, :, 0]
    pivots[:, 3] = pivots[:, 5] = joints[:, 1]
    pivots[:, 4] = joints[:, 2]
    for base, turn, at, sign in ((3, 5, 6, 1.0), (6, 10, 11, -1.0)):
        hip = joints[:, 0] + sign * half * pelvis[:, :, 1]
        flexed = pelvis @ m[:, turn]
        opened = flexed @ m[:, turn + 1]
        upper = opened @ m[:, turn + 2]
        lower = upper @ m[:, turn + 3]
        frames[:, base], frames[:, base + 1] = upper, lower
        frames[:, base + 2] = lower @ m[:, turn + 4]
        joints[:, base] = hip
        joints[:, base + 1] = knee = hip - thigh * upper[:, :, 2]
        joints[:, base + 2] = ankle = knee - shin * lower[:, :, 2]
        axes[:, at], axes[:, at + 1] = -pelvis[:, :, 1], sign * flexed[:, :, 0]
        axes[:, at + 2] = sign * opened[:, :, 2]
        axes[:, at + 3] = axes[:, at + 4] = upper[:, :, 1]
        pivots[:, at : at + 3] = hip[:, None]
        pivots[:, at + 3], pivots[:, at + 4] = knee, ankle
    return Posed(frames, joints, axes, pivots)


class Points:
    """Points on segments, prepared: positions for a batch, derivatives for one body."""

    def __init__(self, points: list[Point]) -> None:
        self.points = tuple(points)
        self.segment = np.array([SEGMENT[p.segment] for p in points])
        sign = np.array([-1.0 if p.side == "right" else 1.0 for p in points])
        self.hand = sign
        hand = np.stack([np.ones_like(sign), sign, np.ones_like(sign)], axis=1)
        self.fixed = np.array([p.step for p in points], dtype=float) * hand
        self.trunk = np.array([p.of_trunk for p in points], dtype=float) * hand
        self.foot = np.array([p.of_foot for p in points], dtype=float) * hand
        hips = np.array([p.of_hips for p in points]) * sign
        self.hips = np.stack([0 * hips, hips, 0 * hips], axis=1)
        down = np.zeros((len(points), 3))
        self.down_thigh, self.down_shin = down.copy(), down.copy()
        self.down_thigh[:, 2] = [-p.of_thigh for p in points]
        self.down_shin[:, 2] = [-p.of_shin for p in points]
        self.behind = np.array([p.behind for p in points])
        self.slides = bool(self.behind.any())
        self.moved = MOVES[:, self.segment].T
        names = [SEGMENTS[i] for i in self.segment]
        self.limb = np.array(
            [
                1.0 if n.startswith("left.") else -1.0 if n.startswith("right.") else 0.0
                for n in names
            ]
        )
        self.thigh = np.array([3 if n.startswith("left.") else 6 for n in names])
        self.below_knee = np.array([n.endswith(("shin", "foot")) for n in names], dtype=float)
        self.below_ankle = np.array([n.endswith("foot") for n in names], dtype=float)
        self.on_lumbar = np.array([n in ("lumbar", "thorax") for n in names], dtype=float)
        self.on_thorax = np.array([n == "thorax" for n in names], dtype=float)

    def at(self, x: Array, posed: Posed) -> Array:
        """Positions (s, k, 3), cm."""
        half, thigh, shin, trunk, foot = (x[:, FIRST_LENGTH + i, None, None] for i in range(5))
        step = self.fixed + half * self.hips + trunk * self.trunk + foot * self.foot
        step = step + thigh * self.down_thigh + shin * self.down_shin
        frames = self.turned_by(posed)
        return np.asarray(posed.joints[:, self.segment] + (frames @ step[..., None])[..., 0])

    def turned_by(self, posed: Posed) -> Array:
        """What turns each point's step, (s, k, 3, 3): its segment, skin partly the pelvis."""
        frames = posed.frames[:, self.segment]
        if self.slides:
            share = self.behind[:, None, None]
            frames = (1.0 - share) * frames + share * posed.frames[:, :1]
        return frames

    def slopes(self, where: Array, posed: Posed) -> Array:
        """Derivatives (k, 3, SIZE) of one body's points (k, 3) to its unknowns."""
        k = len(where)
        axes, pivots = posed.axes[0], posed.pivots[0]
        arm = where[:, None, :] - pivots
        turned = np.empty((k, 16, 3))
        a0, a1, a2 = axes.T
        r0, r1, r2 = arm[..., 0], arm[..., 1], arm[..., 2]
        turned[..., 0] = a1 * r2 - a2 * r1
        turned[..., 1] = a2 * r0 - a0 * r2
        turned[..., 2] = a0 * r1 - a1 * r0
        turned *= self.moved[..., None]
        if self.slides:
            # The hip's own angles move only the share that goes with the thigh.
            thigh = (posed.frames[0, self.segment] @ self.fixed[..., None])[..., 0]
            for rows in (slice(6, 9), slice(11, 14)):
                share = ((1.0 - self.behind)[:, None] * self.moved[:, rows])[..., None]
                way = share * np.cross(axes[rows][None], thigh[:, None])
                turned[:, rows] = np.where(self.behind[:, None, None] > 0, way, turned[:, rows])
        out = np.zeros((k, 3, SIZE))
        out[:, 0, 0] = out[:, 1, 1] = out[:, 2, 2] = 1.0
        out[:, :, 3:6] = turned[:, :3].transpose(0, 2, 1)
        out[:, :, 16] = turned[:, 3] + turned[:, 4]
        out[:, :, 17] = turned[:, 5]
        out[:, :, 6:16] = turned[:, 6:].transpose(0, 2, 1)
        frames = posed.frames[0]
        own = self.turned_by(posed)[0]
        lateral = frames[0, :, 1]
        out[:, :, 18] = self.limb[:, None] * lateral + (own @ self.hips[..., None])[..., 0]
        way = frames[:, :, 2]
        out[:, :, 19] = (self.down_thigh[:, 2] - self.below_knee)[:, None] * way[self.thigh]
        out[:, :, 20] = (self.down_shin[:, 2] - self.below_ankle)[:, None] * way[self.thigh + 1]
        pelvis, lumbar = frames[0], frames[1]
        bend = LUMBAR_AT[0] * pelvis[:, 0] + LUMBAR_AT[1] * pelvis[:, 2]
        rest = (THORAX_AT[0] - LUMBAR_AT[0]) * lumbar[:, 0] + (
            THORAX_AT[1] - LUMBAR_AT[1]
        ) * lumbar[:, 2]
        out[:, :, 21] = (
            self.on_lumbar[:, None] * bend + self.on_thorax[:, None] * rest
            + (own @ self.trunk[..., None])[..., 0]
        )  # fmt: skip
        out[:, :, 22] = (own @ self.foot[..., None])[..., 0]
        return out
