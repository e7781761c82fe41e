"""Joints of a person in a photograph, by a general body-landmark network.

The network (``data/models/README``) sees one upright person in a square. Where the person is and
how they are turned is not known before: it looks at several crops, and after each at the one that
its own points of the hips and of the body's reach ask for. Which of them all is believed is for
``judge`` to say, which knows the pose.
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

from dachi.core.body.anatomy import exchanged

Array = NDArray[np.float64]
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
#: Below this the network itself says that nobody is there.
LEAST_PRESENCE = 0.4
#: Looks that fit the pose this much worse than the best, as a share of its size, count with it.
ALIKE = 0.05


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
        (judge(joints, presence), joints)
        for start in starts
        for joints, presence in _looks(image, start, model)
        if presence >= LEAST_PRESENCE
    ]
    if not seen:
        return None
    least, best = min(seen, key=lambda pair: pair[0])
    alike = [_as(best, joints) for fit, joints in seen if fit <= least + ALIKE]
    middle = {n: np.median([j[n] for j in alike], axis=0) for n in best}
    return {n: (float(x), float(y)) for n, (x, y) in middle.items()}


#: A body known roughly is looked at again in squares this much larger than its reach.
CLOSER = (1.4, 1.6, 1.8)


def closer(
    image: NDArray[np.uint8], roughly: Mapping[str, tuple[float, float]], model: Path
) -> tuple[Joints, dict[str, float]]:
    """Joints of a body whose joints are roughly known, px, and how far looks at each lay apart.

    ``roughly`` has at least hips and shoulders. It is looked at upright, as it is and mirrored.
    """
    at = {n: np.array(p) for n, p in roughly.items()}
    hips = (at["left.hip"] + at["right.hip"]) / 2
    way = (at["left.shoulder"] + at["right.shoulder"]) / 2 - hips
    up = math.degrees(math.atan2(way[1], way[0])) + 90.0
    reach = max(float(np.hypot(*(p - hips))) for p in at.values())
    (x, y), last = hips.tolist(), image.shape[1] - 1
    mirrored = np.ascontiguousarray(image[:, ::-1])
    looks = []
    for room in CLOSER:
        side = 2 * room * reach
        looks.append(_named(_ask(image, Crop(x, y, side, up), model)[0]))
        other = _named(_ask(mirrored, Crop(last - x, y, side, -up), model)[0])
        looks.append(exchanged({n: (last - a, b) for n, (a, b) in other.items()}))
    alike = [_as(dict(roughly), joints) for joints in looks]
    middle = {n: np.median([j[n] for j in alike], axis=0) for n in alike[0]}
    apart = {n: float(np.hypot(*np.std([j[n] for j in alike], axis=0))) for n in alike[0]}
    return {n: (float(a), float(b)) for n, (a, b) in middle.items()}, apart


def _as(best: Joints, joints: Joints) -> Joints:
    """Joints named as in another look: the network takes left for right at times."""

    def gap(found: Joints) -> float:
        return sum(math.dist(found[n], best[n]) for n in best)

    return min(joints, exchanged(joints), key=gap)


def _looks(image: NDArray[np.uint8], crop: Crop, model: Path) -> Iterator[tuple[Joints, float]]:
    for _ in range(AGAIN + 1):
        points, presence = _ask(image, crop, model)
        yield _named(points), presence
        step = points[REACH] - points[MIDDLE]
        reach = float(np.hypot(*step))
        if reach < 0.02 * max(image.shape):
            return
        x, y = points[MIDDLE]
        up = math.degrees(math.atan2(step[1], step[0])) + 90.0
        crop = Crop(float(x), float(y), 2 * ROOM * reach, up)


def _named(points: Array) -> Joints:
    return {
        f"{side}.{joint}": (float(points[i][0]), float(points[i][1]))
        for joint, pair in POINTS.items()
        for side, i in zip(("left", "right"), pair, strict=True)
    }


def _ask(image: NDArray[np.uint8], crop: Crop, model: Path) -> tuple[Array, float]:
    """The network's points (39, 2) in px of the picture, and its presence, 0 to 1."""
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
    by_shape = {tuple(x.shape): x for x in answers}
    points = by_shape[(1, 195)].reshape(39, 5)[:, :2].astype(float)
    back = np.linalg.inv(turn)
    return (points - shift) @ back.T, float(by_shape[(1, 1)][0, 0])
