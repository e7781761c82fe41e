"""Marks proposed for a photograph: joints a network saw, judged by the pose they should form."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import exchanged, other_side
from dachi.core.body.staging import seen_over_range
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.fuse import SIDES, Fused, fuse
from dachi.core.measuring.scene import Image
from dachi.data import FOLDER, habits
from dachi.photos import landmarks
from dachi.photos.landmarks import Crop, Joints

Array = NDArray[np.float64]

MODEL = FOLDER / "models" / "body_landmarks.tflite"
#: How far a figure laid onto joints may be turned before it is another pose, degrees.
MOST_TURN_DEG = 30.0
#: What a turned figure and an unsure network add to the misfit.
TURNED, UNSURE = 0.5, 0.15
#: A figure smaller than this share of how large it should be seen is nobody.
LEAST_SCALE = 0.2
ROOM = 1.6


@dataclass(frozen=True)
class Layout:
    """The marks of a pose over its range, (n, 2) px each, and the joint each stands for."""

    names: tuple[str, ...]
    joints: tuple[str, ...]
    figures: tuple[Array, ...]


def layout_of(pose: Pose, side: str, variant: Mapping[str, str], size: tuple[int, int]) -> Layout:
    """What a pose should look like."""
    named = {m.id: joint for m in pose.marks if (joint := joint_of(m.body, side)) is not None}
    seen = seen_over_range(pose, side, size, variant)
    names = tuple(n for n in seen[0] if n in named)
    return Layout(
        names, tuple(named[n] for n in names),
        tuple(np.array([s[n] for n in names]) for s in seen),
    )  # fmt: skip


def joint_of(body: str, side: str) -> str | None:
    """The joint a mark stands for, None for a place that is none."""
    owner, _, part = body.partition(".")
    # Of a pose with both sides alike the right one is marked.
    own = side if side in SIDES else "right"
    whose = {"side": own, "other": other_side(own)}.get(owner, owner)
    part = part.split(".")[0]
    return f"{whose}.{part}" if part in landmarks.POINTS and whose in SIDES else None


@dataclass(frozen=True)
class Laid:
    """A figure laid onto joints: how badly it fits (share of its size), which one, how turned."""

    misfit: float
    figure: int
    turn: complex


def lay(layout: Layout, joints: Joints) -> Laid | None:
    """The figure of the range that fits joints best, moved, sized and turned.

    Least squares of a similarity in the complex plane; None where it would be tiny.
    """
    seen = np.array([complex(*joints[j]) for j in layout.joints])
    best: Laid | None = None
    for i, figure in enumerate(layout.figures):
        drawn = figure[:, 0] + 1j * figure[:, 1]
        a, b = drawn - drawn.mean(), seen - seen.mean()
        turn = complex(np.vdot(a, b) / max(float(np.vdot(a, a).real), 1e-9))
        if abs(turn) < LEAST_SCALE:
            continue
        size = abs(turn) * float(np.ptp(figure, axis=0).max())
        misfit = float(np.sqrt(np.mean(np.abs(b - turn * a) ** 2))) / max(size, 1e-6)
        if abs(np.degrees(np.angle(turn))) > MOST_TURN_DEG:
            misfit += TURNED
        if best is None or misfit < best.misfit:
            best = Laid(misfit, i, turn)
    return best


def _seen_roughly(
    image: NDArray[np.uint8], pose: Pose, side: str, variant: Mapping[str, str]
) -> Joints | None:
    """Joints of whoever is in the pose in an RGB picture, as far as the pose's figure tells."""
    height, width = image.shape[:2]
    layout = layout_of(pose, side, variant, (width, height))
    if len(layout.names) < 2:
        return None
    every = np.vstack(layout.figures)
    low, high = every.min(axis=0), every.max(axis=0)
    x, y = ((low + high) / 2).tolist()
    near = ROOM * float((high - low).max())
    starts = [Crop(width / 2, height / 2, max(width, height))]
    starts += [Crop(x, y, near, turned) for turned in (0.0, 90.0, -90.0)]

    def judge(joints: Joints, presence: float) -> float:
        fits = [lay(layout, j) for j in (joints, exchanged(joints))]
        least = min((f.misfit for f in fits if f is not None), default=9.0)
        return least + UNSURE * (1.0 - presence)

    return landmarks.find(image, starts, judge, MODEL)


@dataclass(frozen=True)
class Sighted:
    """Joints seen in a picture, px, and how far several looks at each lay apart, px.

    ``roughly`` is where a first look saw them: of a body that is cut off it says more.
    """

    joints: Joints
    apart: Mapping[str, float]
    roughly: Joints


def see(
    image: NDArray[np.uint8], pose: Pose, side: str, variant: Mapping[str, str]
) -> Sighted | None:
    """Joints of whoever is in the pose in an RGB picture: seen roughly, a body laid behind them,
    and looked at again as that body lies. Left and right are told by the body.
    """
    roughly = _seen_roughly(image, pose, side, variant)
    if roughly is None:
        return None
    size = Image(image.shape[1], image.shape[0])
    body = fuse(pose, side, variant, size, roughly, None)
    if body is None:
        return Sighted(roughly, {}, roughly)
    return Sighted(*landmarks.closer(image, body.centres, MODEL), roughly)


@lru_cache(256)
def _fused(key: _Asked) -> Fused | None:
    asked = key.asked
    return fuse(
        asked.pose, asked.side, asked.variant, asked.image, asked.joints, asked.estimate,
        spreads_px=asked.apart, segments_cm=asked.segments_cm, prop_cm=asked.prop_cm,
        habits=habits(),
    )  # fmt: skip


@dataclass(frozen=True)
class Question:
    """Everything that says where a body lies behind joints that were seen (see ``fuse``)."""

    pose: Pose
    side: str
    variant: Mapping[str, str]
    image: Image
    joints: Joints
    apart: Mapping[str, float]
    estimate: CameraEstimate | None
    segments_cm: Mapping[str, float]
    prop_cm: float | None


class _Asked:
    """A question that is the same as another which says the same."""

    def __init__(self, asked: Question) -> None:
        self.asked, self._said = asked, repr(asked)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Asked) and self._said == other._said

    def __hash__(self) -> int:
        return hash(self._said)


def body_of(asked: Question) -> Fused | None:
    """The body behind joints that were seen; the same question is answered once."""
    return _fused(_Asked(asked))
