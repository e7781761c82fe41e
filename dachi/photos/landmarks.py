"""Joints of a person in a photograph, by a general body-landmark network.

The network (``data/models/README``) sees one upright person in a square. Where the person is and
how they are turned is not known before: it looks at several crops, and after each at the one that
its own points of the hips and of the body's reach ask for. Which of them all is believed is for
``judge`` to say, which knows the pose.

It says where a joint is twice: as a point, and as a map of how much each place looks like it. The
hill of the map that the point stands on is half as far off as the point (knees 0.07 of the thigh
against 0.12 on pictures of bodies), and a low hill is a joint that was hardly seen.
"""

from __future__ import annotations

import math
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import exchanged, longest_bone

Array = NDArray[np.float64]
Pixels = NDArray[np.float32]
Joints = dict[str, tuple[float, float]]

SIDE = 256
#: The network's points by joint, left and right.
POINTS: Mapping[str, tuple[int, int]] = {
    "shoulder": (11, 12), "hip": (23, 24), "knee": (25, 26), "ankle": (27, 28),
    "heel": (29, 30), "toe": (31, 32),
}  # fmt: skip
#: Its points for the middle of the hips and for how far the body reaches from there.
MIDDLE, REACH = 33, 34
#: A crop holds the reach and a quarter more; looked at again so often.
ROOM, AGAIN = 1.25, 2
#: Cells of a joint's map, how far about a place its middle is taken, in cells, and how often.
CELLS, ABOUT, CLIMBS = 64, 4, 6
#: How far off a joint is taken to be that the map does not show at all, as a share of the longest
#: bone seen: least squares on the 300 pictures of ``bench.bodies.network``; heel and toe by hand.
FAINT: Mapping[str, float] = {
    "shoulder": 0.12, "hip": 0.26, "knee": 0.15, "ankle": 0.14, "heel": 0.14, "toe": 0.2,
}  # fmt: skip
#: Below this the network itself says that nobody is there.
LEAST_PRESENCE = 0.4
#: Looks that fit the pose this much worse than the best, as a share of its size, count with it.
ALIKE = 0.05


@dataclass(frozen=True)
class _Look:
    """What the network said of one crop: joints, px, how plainly the map shows each (0 to 1), its
    points for the middle and the reach, px, and its presence (0 to 1).
    """

    joints: Joints
    plain: dict[str, float]
    middle: Array
    reach: Array
    presence: float


@dataclass(frozen=True)
class Crop:
    """A square of the picture: its middle and side, px, and how far it is turned, degrees."""

    x: float
    y: float
    side: float
    turned_deg: float = 0.0


#: One network, asked by one at a time.
_ASKING = threading.Lock()


@cache
def _network(path: Path) -> cv2.dnn.Net:
    return cv2.dnn.readNet(str(path), engine=cv2.dnn.ENGINE_CLASSIC)


def find(
    image: NDArray[np.uint8],
    starts: Sequence[Crop],
    judge: Callable[[Joints, float], float],
    model: Path,
) -> Joints | None:
    """Joints (``left.knee`` and so on, px) of an RGB picture; None where nobody is seen.

    ``judge`` says how badly joints and the network's presence fit, the less the better.
    """
    seen = [
        (judge(look.joints, look.presence), look.joints)
        for start in starts
        for look in _looks(image, start, model)
        if look.presence >= LEAST_PRESENCE
    ]
    if not seen:
        return None
    least, best = min(seen, key=lambda pair: pair[0])
    alike = [_as(best, joints, {})[0] for fit, joints in seen if fit <= least + ALIKE]
    middle = {n: np.median([j[n] for j in alike], axis=0) for n in best}
    return {n: (float(x), float(y)) for n, (x, y) in middle.items()}


#: A body known roughly is looked at again in squares this much larger than its reach.
CLOSER = (1.4, 1.6, 1.8)


def closer(
    image: NDArray[np.uint8], roughly: Mapping[str, tuple[float, float]], model: Path
) -> tuple[Joints, dict[str, float]]:
    """Joints of a body whose joints are roughly known, px, and how unsure each is, px.

    ``roughly`` has at least hips, shoulders, knees and ankles. It is looked at upright, as it is
    and mirrored. Unsure is a joint that looks saw apart or hardly.
    """
    x, y, up, reach = _lies(roughly)
    last = image.shape[1] - 1
    mirrored = np.ascontiguousarray(image[:, ::-1])
    looks: list[tuple[Joints, dict[str, float]]] = []
    for room in CLOSER:
        side = 2 * room * reach
        own = _ask(image, Crop(x, y, side, up), model)
        other = _ask(mirrored, Crop(last - x, y, side, -up), model)
        back = {n: (last - a, b) for n, (a, b) in other.joints.items()}
        looks += [(own.joints, own.plain), (exchanged(back), exchanged(other.plain))]
    alike = [_as(dict(roughly), *look) for look in looks]
    bone = longest_bone(roughly)
    joints, unsure = {}, {}
    for n in alike[0][0]:
        (a, b), apart = (
            np.median([j[n] for j, _ in alike], axis=0),
            np.std([j[n] for j, _ in alike], axis=0),
        )
        faint = 1.0 - float(np.median([plain[n] for _, plain in alike]))
        joints[n] = (float(a), float(b))
        unsure[n] = math.hypot(*apart, FAINT[n.partition(".")[2]] * faint * bone)
    return joints, unsure


def _as(best: Joints, joints: Joints, plain: dict[str, float]) -> tuple[Joints, dict[str, float]]:
    """Joints named as in another look: the network takes left for right at times."""

    def gap(found: tuple[Joints, dict[str, float]]) -> float:
        return sum(math.dist(found[0][n], best[n]) for n in best)

    return min((joints, plain), (exchanged(joints), exchanged(plain)), key=gap)


def _looks(image: NDArray[np.uint8], crop: Crop, model: Path) -> Iterator[_Look]:
    for _ in range(AGAIN + 1):
        look = _ask(image, crop, model)
        yield look
        step = look.reach - look.middle
        reach = float(np.hypot(*step))
        if reach < 0.02 * max(image.shape):
            return
        x, y = look.middle
        up = math.degrees(math.atan2(step[1], step[0])) + 90.0
        crop = Crop(float(x), float(y), 2 * ROOM * reach, up)


def silhouette(
    image: NDArray[np.uint8], joints: Mapping[str, tuple[float, float]], model: Path
) -> NDArray[np.bool_]:
    """Where the person whose joints (px) are known is in the picture, (height, width)."""
    x, y, up, reach = _lies(joints)
    height, width = image.shape[:2]
    chance = np.zeros((height, width), dtype=np.float32)
    for room in CLOSER[:2]:
        answers, turn, shift = _answers(image, Crop(x, y, 2 * room * reach, up), model)
        logits = np.clip(answers[(1, 1, SIDE, SIDE)][0, 0], -30, 30)
        own = (1.0 / (1.0 + np.exp(-logits))).astype(np.float32)
        to = np.column_stack([turn, shift])
        chance += cv2.warpAffine(
            own, to, (width, height), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        )
    return np.asarray(chance > 1.0)


def _lies(joints: Mapping[str, tuple[float, float]]) -> tuple[float, float, float, float]:
    """Middle of the hips (x, y), px, the turn from upright, degrees, and the reach, px."""
    at = {n: np.array(p) for n, p in joints.items()}
    hips = (at["left.hip"] + at["right.hip"]) / 2
    way = (at["left.shoulder"] + at["right.shoulder"]) / 2 - hips
    up = math.degrees(math.atan2(way[1], way[0])) + 90.0
    return (
        float(hips[0]),
        float(hips[1]),
        up,
        max(float(np.hypot(*(p - hips))) for p in at.values()),
    )


def _answers(
    image: NDArray[np.uint8], crop: Crop, model: Path
) -> tuple[dict[tuple[int, ...], Pixels], Array, Array]:
    """What the network says of a crop, by its shape, and what takes the picture's px to the
    crop's: a matrix (2, 2) and a shift (2,).
    """
    a, scale = math.radians(crop.turned_deg), SIDE / max(crop.side, 8.0)
    turn = scale * np.array([[math.cos(a), math.sin(a)], [-math.sin(a), math.cos(a)]])
    # Shrunk by whole steps first: a sample of every tenth pixel is no picture.
    shrink = max(1, int(1.0 / scale / 1.5))
    small = image if shrink == 1 else cv2.resize(
        image, None, fx=1 / shrink, fy=1 / shrink, interpolation=cv2.INTER_AREA
    )  # fmt: skip
    shift = SIDE / 2 - turn @ np.array([crop.x, crop.y])
    to = np.column_stack([turn * shrink, shift])
    square = cv2.warpAffine(
        small, to, (SIDE, SIDE), flags=cv2.INTER_LINEAR, borderValue=(114, 114, 114)
    )
    with _ASKING:
        network = _network(model)
        network.setInput((square.astype(np.float32) / 255.0).transpose(2, 0, 1)[None])
        answers = network.forward(network.getUnconnectedOutLayersNames())
    return {tuple(x.shape): np.asarray(x) for x in answers}, turn, shift


def _ask(image: NDArray[np.uint8], crop: Crop, model: Path) -> _Look:
    """Where the network sees joints in a crop of the picture."""
    answers, turn, shift = _answers(image, crop, model)
    points = answers[(1, 195)].reshape(39, 5)[:, :2].astype(float)
    maps = answers[(1, 39, CELLS, CELLS)][0]
    back = np.linalg.inv(turn)
    joints, plain = {}, {}
    for joint, pair in POINTS.items():
        for side, i in zip(("left", "right"), pair, strict=True):
            at, height = _hill(maps[i], points[i] * (CELLS / SIDE) - 0.5)
            x, y = back @ ((at + 0.5) * (SIDE / CELLS) - shift)
            joints[f"{side}.{joint}"] = (float(x), float(y))
            plain[f"{side}.{joint}"] = height
    middle, reach = (points[[MIDDLE, REACH]] - shift) @ back.T
    return _Look(joints, plain, middle, reach, float(answers[(1, 1)][0, 0]))


def _hill(logits: Pixels, near: Array) -> tuple[Array, float]:
    """The middle of a map's hill that a cell (x, y) stands on, in cells, and its height, 0 to 1."""
    at, height = near, 0.0
    for _ in range(CLIMBS):
        low = np.clip(at.round().astype(int) - ABOUT, 0, CELLS)
        high = np.clip(at.round().astype(int) + ABOUT + 1, 0, CELLS)
        if (high <= low).any():
            return near, 0.0
        (x0, y0), (x1, y1) = low, high
        w = 1.0 / (1.0 + np.exp(-logits[y0:y1, x0:x1].astype(float)))
        height = float(w.max())
        columns, rows = w.sum(axis=0), w.sum(axis=1)
        at = np.array([columns @ np.arange(x0, x1), rows @ np.arange(y0, y1)]) / w.sum()
    return at, height
