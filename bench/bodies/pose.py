"""Putting a parametric body into a pose: joint angles, floor contacts, carried skin.

Angles as in ``dachi.core.body.figure``, computed here by themselves: flexion turns the thigh in
the pelvis's sagittal plane, abduction then tips it outwards, rotation turns the kneecap out.
World frame: x along the mat's near edge, y away from the camera, z up, cm.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from bench.bodies.mesh import REST, SEGMENTS, SIDES, Array, Person, frame, template

#: Height of the hip centres above what is sat on, for a body 170 cm tall: the sitting bones lie
#: some 8 cm under them and flesh is pressed to 2 cm.
SITTING, SITTING_SD = 9.9, 0.9
#: How far flesh gives way under weight, mean and spread, cm.
SEAT_SINK, SEAT_SINK_SD = 2.2, 0.6


@dataclass
class Posture:
    """Joint angles (degrees) with the way the person faces; ``frames`` override a limb's own.

    ``front`` and ``up`` are the pelvis's directions before it tilts (world). A foot in
    ``flat`` lies level on the floor.
    """

    front: Array
    up: Array
    joints: dict[str, float] = field(default_factory=dict)
    frames: dict[str, Array] = field(default_factory=dict)
    flat: set[str] = field(default_factory=set)

    def __getitem__(self, name: str) -> float:
        return self.joints.get(name, 0.0)


@dataclass(frozen=True)
class Posed:
    """A body in a pose: joint centres and segment frames in the world, and its skin."""

    person: Person
    centres: dict[str, Array]
    frames: dict[str, Array]

    def skin(self, index: np.ndarray | Sequence[int] | None = None) -> Array:
        """Skin points (v, 3), of some vertices or all."""
        rows = slice(None) if index is None else np.asarray(index)
        weights = template().weights[rows]
        rest = self.person.skin[rows]
        out: Array = np.zeros_like(rest)
        for i, name in enumerate(SEGMENTS):
            held = weights[:, i] > 0
            turn = self.frames[name] @ self.person.frames[name].T
            pivot = PIVOTS[name]
            moved = (rest[held] - self.person.centres[pivot]) @ turn.T + self.centres[pivot]
            out[held] += weights[held, i : i + 1] * moved
        return out

    def turned_a_quarter(self, name: str) -> Array:
        """A point of the groin carried by a quarter of the hip's turn, (3,): a skinning of its own.

        Skin over a joint's middle goes half way with it; the fold's middle hangs between two
        points of the pelvis and goes half of that. A mesh's blended weights say something else.
        """
        side = name.partition(".")[0]
        pelvis, thigh = (
            self.frames[s] @ self.person.frames[s].T for s in ("pelvis", f"{side}.thigh")
        )
        turn = Rotation.from_matrix(pelvis.T @ thigh).as_rotvec() / 4.0
        rest = self.person.skin[template().spots[name]] - self.person.centres[f"{side}.hip"]
        part = pelvis @ Rotation.from_rotvec(turn).as_matrix()
        return np.asarray(self.centres[f"{side}.hip"] + part @ rest)

    def spot(self, name: str, sliding: bool = False) -> Array:
        """A surface point by name, or a joint centre.

        Points felt for in the pose go with their bone; ``sliding`` ones are where the skin of
        standing has gone, as a sticker put on then.
        """
        spots = template().spots
        if name not in spots:
            return self.centres[name]
        bone = BONES.get(name.partition(".")[2])
        if sliding or bone is None:
            return np.asarray(self.skin([spots[name]])[0])
        segment = bone if bone in SEGMENTS else f"{name.partition('.')[0]}.{bone}"
        pivot = PIVOTS[segment]
        step = self.person.skin[spots[name]] - self.person.centres[pivot]
        turned = self.frames[segment] @ self.person.frames[segment].T
        return np.asarray(self.centres[pivot] + turned @ step)

    def lowest(self, *segments: str) -> float:
        """Height of the lowest skin of some segments."""
        return float(self.skin(_vertices(segments))[:, 2].min())

    def turned(self, by: Array) -> Posed:
        """The body carried round by a rotation of the world, (3, 3)."""
        centres = {n: by @ c for n, c in self.centres.items()}
        return Posed(self.person, centres, {n: by @ f for n, f in self.frames.items()})

    def lifted(self, by: Array) -> Posed:
        return Posed(self.person, {n: c + by for n, c in self.centres.items()}, self.frames)


PIVOTS = {
    "pelvis": "pelvis", "lumbar": "lumbar", "thorax": "thorax",
    **{f"{s}.{seg}": f"{s}.{joint}" for s in SIDES for seg, joint in
       (("arm", "shoulder"), ("thigh", "hip"), ("shin", "knee"), ("foot", "ankle"))},
}  # fmt: skip

#: Bony points and the bone they belong to; what is not named here is flesh.
BONES = {
    "asis": "pelvis", "psis": "pelvis", "hip.outer": "thigh", "knee.outer": "thigh",
    "knee.inner": "thigh", "knee.front": "thigh", "ankle.outer": "shin", "ankle.inner": "shin",
    "heel": "foot", "toe": "foot", "shoulder.top": "thorax",
}  # fmt: skip

_OWN: dict[tuple[str, ...], np.ndarray] = {}


def _vertices(segments: tuple[str, ...]) -> np.ndarray:
    if segments not in _OWN:
        owner = template().weights.argmax(axis=1)
        found = np.flatnonzero(np.isin(owner, [SEGMENTS.index(s) for s in segments]))
        # Contact needs no hair: every second vertex of large parts does.
        _OWN[segments] = found if len(found) < 900 else found[::2]
    return _OWN[segments]


def turn(axis: Array, degrees: float) -> Array:
    """Rotation about a unit axis by Rodrigues' formula."""
    a = math.radians(degrees)
    k = np.cross(np.eye(3), axis)
    return np.asarray(np.eye(3) + math.sin(a) * k + (1 - math.cos(a)) * (k @ k))


def pose(person: Person, posture: Posture) -> Posed:
    """Place every joint and segment, the pelvis's centre at the origin."""
    rest = dict(person.centres)
    up = posture.up
    lat = np.cross(up, posture.front)
    spin = turn(up, posture["pelvis_turn"])
    root = spin @ turn(lat, posture["pelvis_tilt"]) @ turn(posture.front, posture["pelvis_list"])
    pelvis = root @ np.stack([posture.front, lat, up], axis=1)
    frames = {"pelvis": pelvis}
    centres = {"pelvis": np.zeros(3)}
    half = turn(pelvis[:, 1], posture["spine_flexion"] / 2)
    side = turn(pelvis[:, 0], posture["spine_side"] / 2)
    frames["lumbar"] = half @ side @ pelvis
    frames["thorax"] = turn(frames["lumbar"][:, 1], posture["spine_flexion"] / 2) @ frames["lumbar"]

    def carried(segment: str, start: str, end: str) -> Array:
        step = rest[end] - rest[start]
        turned = frames[segment] @ person.frames[segment].T
        return np.asarray(centres[start] + turned @ step)

    centres["lumbar"] = carried("pelvis", "pelvis", "lumbar")
    centres["thorax"] = carried("lumbar", "lumbar", "thorax")
    centres["neck"] = carried("thorax", "thorax", "neck")
    for s, sign in SIDES.items():
        centres[f"{s}.hip"] = carried("pelvis", "pelvis", f"{s}.hip")
        thigh, shin, foot = leg_frames(pelvis, posture, s, sign)
        frames |= {f"{s}.thigh": thigh, f"{s}.shin": shin, f"{s}.foot": foot}
        frames |= {k: v for k, v in posture.frames.items() if k.startswith(s)}
        if s in posture.flat:
            way = frames[f"{s}.foot"][:, 0] * [1, 1, 0]
            frames[f"{s}.foot"] = frame(np.array([0, 0, 1.0]), np.cross([0, 0, 1.0], way))
        centres[f"{s}.knee"] = carried(f"{s}.thigh", f"{s}.hip", f"{s}.knee")
        centres[f"{s}.ankle"] = carried(f"{s}.shin", f"{s}.knee", f"{s}.ankle")
        centres[f"{s}.shoulder"] = carried("thorax", "thorax", f"{s}.shoulder")
        raised = turn(frames["thorax"][:, 1], -posture["arms"])
        frames[f"{s}.arm"] = raised @ frames["thorax"]
    return Posed(person, centres, frames)


def leg_frames(pelvis: Array, posture: Posture, s: str, sign: float) -> tuple[Array, Array, Array]:
    """Frames of thigh, shin and foot from the joint angles of one side."""
    f, lat, u = pelvis.T
    flex, abd, rot, knee, foot = (
        math.radians(posture[f"{s}.{j}"])
        for j in ("hip_flexion", "hip_abduction", "hip_rotation", "knee_flexion", "ankle_flexion")
    )
    out = sign * lat
    swing = math.sin(flex) * f - math.cos(flex) * u
    ahead = math.cos(flex) * f + math.sin(flex) * u
    thigh = math.cos(abd) * swing + math.sin(abd) * out
    outer = math.cos(abd) * out - math.sin(abd) * swing
    kneecap = math.cos(rot) * ahead + math.sin(rot) * outer
    axis = sign * (math.cos(rot) * outer - math.sin(rot) * ahead)
    shin = math.cos(knee) * thigh - math.sin(knee) * kneecap
    front = math.cos(knee) * kneecap + math.sin(knee) * thigh
    toes = math.cos(foot) * front + math.sin(foot) * shin
    return frame(-thigh, axis), frame(-shin, axis), np.stack([toes, axis, np.cross(toes, axis)], 1)


def two_bones(posture: Posture, s: str, hip: Array, knee: Array, ankle: Array) -> None:
    """Give a leg the frames that carry it from hip over knee to ankle (points in space)."""
    thigh, shin = knee - hip, ankle - knee
    axis = np.cross(thigh, shin)
    kneecap = np.cross(axis, -thigh)
    if kneecap @ shin > 0:
        axis = -axis
    posture.frames[f"{s}.thigh"] = frame(-thigh, axis)
    posture.frames[f"{s}.shin"] = frame(-shin, axis)
    lat = posture.frames[f"{s}.shin"][:, 1]
    way = np.cross(lat, -shin / np.linalg.norm(shin))
    foot = math.radians(20.0)
    toes = math.cos(foot) * way + math.sin(foot) * shin / np.linalg.norm(shin)
    posture.frames[f"{s}.foot"] = np.stack([toes, lat, np.cross(toes, lat)], 1)


def bisect(f: Callable[[float], float], low: float, high: float, steps: int = 14) -> float:
    """A root of f between two bounds, or the bound nearer to one."""
    a, b = f(low), f(high)
    if a * b > 0:
        return low if abs(a) < abs(b) else high
    for _ in range(steps):
        mid = (low + high) / 2
        if f(mid) * a > 0:
            low = mid
        else:
            high = mid
    return (low + high) / 2


UP = np.array([0, 0, 1.0])
__all__ = ["REST", "Posed", "Posture", "bisect", "pose", "two_bones"]
