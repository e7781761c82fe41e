"""Marks proposed for a photograph: joints a network saw, judged by the pose they should form."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import other_side
from dachi.core.body.staging import seen_over_range
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.scene import Point
from dachi.data import FOLDER
from dachi.photos import landmarks
from dachi.photos.landmarks import Crop, Joints, swapped

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
    #: All marks by name, for those no joint is seen for.
    whole: tuple[Mapping[str, Point], ...]


def layout_of(pose: Pose, side: str, variant: Mapping[str, str], size: tuple[int, int]) -> Layout:
    """What a pose should look like."""
    named = {m.id: joint for m in pose.marks if (joint := joint_of(m.body, side)) is not None}
    seen = seen_over_range(pose, side, size, variant)
    names = tuple(n for n in seen[0] if n in named)
    return Layout(
        names, tuple(named[n] for n in names),
        tuple(np.array([s[n] for n in names]) for s in seen), tuple(seen),
    )  # fmt: skip


def joint_of(body: str, side: str) -> str | None:
    """The joint a mark stands for, None for a place that is none."""
    owner, _, part = body.partition(".")
    whose = {"side": side, "other": other_side(side)}.get(owner, owner)
    part = part.split(".")[0]
    return f"{whose}.{part}" if part in landmarks.POINTS and whose in ("left", "right") else None


@dataclass(frozen=True)
class Laid:
    """A figure laid onto joints: how badly it fits (share of its size), and the map to pixels."""

    misfit: float
    figure: int
    turn: complex
    shift: complex

    def at(self, point: Point) -> Point:
        """Where a point of the figure's picture comes to lie, px."""
        z = self.turn * complex(*point) + self.shift
        return z.real, z.imag


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
            best = Laid(misfit, i, turn, complex(seen.mean() - turn * drawn.mean()))
    return best


def see(
    image: NDArray[np.uint8], pose: Pose, side: str, variant: Mapping[str, str]
) -> Joints | None:
    """Joints of whoever is in the pose in an RGB picture, left and right told by the pose."""
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
        fits = [lay(layout, j) for j in (joints, swapped(joints))]
        least = min((f.misfit for f in fits if f is not None), default=9.0)
        return least + UNSURE * (1.0 - presence)

    found = landmarks.find(image, starts, judge, MODEL)
    if found is None:
        return None
    as_seen, exchanged = (lay(layout, j) for j in (found, swapped(found)))
    if exchanged is not None and (as_seen is None or exchanged.misfit < as_seen.misfit):
        return swapped(found)
    return found


def marks_of(
    joints: Joints, pose: Pose, side: str, variant: Mapping[str, str], size: tuple[int, int]
) -> dict[str, Point]:
    """Where a pose's marks are proposed: on their joints, others where the figure has them."""
    layout = layout_of(pose, side, variant, size)
    found = {n: joints[j] for n, j in zip(layout.names, layout.joints, strict=True)}
    laid = lay(layout, joints)
    if laid is not None:
        found = {n: laid.at(p) for n, p in layout.whole[laid.figure].items()} | found
    width, height = size
    return {
        n: (round(min(max(x, 2.0), width - 2.0), 1), round(min(max(y, 2.0), height - 2.0), 1))
        for n, (x, y) in found.items()
    }
