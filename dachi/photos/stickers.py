"""Coloured stickers on the landmarks: found by colour and roundness, named by their layout.

A sticker's chroma (the a, b plane of CIE L*a*b*) keeps its direction from light to shade and
only shrinks, so dots are where the chroma points the sticker's way. Their centres are
chroma-weighted centroids. Names come from laying the pose's figure, over its range, onto
the dots: similarity transforms fitted to the cheapest one-to-one assignment (Kuhn's
Hungarian method).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linear_sum_assignment

from dachi.errors import NotDone

Array = NDArray[np.float64]
Point = tuple[float, float]

WORKING_SIDE = 2000
#: Half the angle about the sticker's hue that still counts, and the least chroma, L*a*b* units.
HUE_SLACK_DEG = 24.0
LEAST_CHROMA = 14.0
#: A sticker's diameter in the picture, as a share of its longer side.
SMALLEST, LARGEST = 0.0028, 0.03
#: A dot this far from where the figure would have it is not taken, as a share of the layout's size.
REACH = 0.16
#: Landmarks closer than this are easily taken for each other when a dot is missing.
NEIGHBOUR = 0.1
#: With so few dots and one missing, several layouts fit equally well.
FEW = 3
DOT_SD_PX = 1.0


class ColourError(NotDone):
    """No sticker could have the colour that was picked; the message is for the person."""

    code = "colour"


@dataclass(frozen=True)
class Colour:
    """A sticker's colour as a direction and length in the a, b plane of L*a*b*."""

    hue_deg: float
    chroma: float

    def text(self) -> str:
        """How it is stored."""
        return f"{self.hue_deg:.1f},{self.chroma:.1f}"

    @classmethod
    def from_text(cls, text: str) -> Colour:
        """Read what ``text`` wrote."""
        hue, chroma = text.split(",")
        return cls(float(hue), float(chroma))


@dataclass(frozen=True)
class Dot:
    """A round patch of the sticker's colour, px of the picture as stored."""

    x: float
    y: float
    radius: float
    roundness: float


@dataclass(frozen=True)
class MarkLayout:
    """Where each landmark would lie for one value of the pose, in any similar picture."""

    names: tuple[str, ...]
    points: Array


@dataclass(frozen=True)
class Found:
    """Dots given to landmarks.

    ``marks`` with standard deviations ``sds`` px; ``doubtful`` names those whose dot could as
    well be another's; ``missing`` the landmarks without a dot; ``spare`` dots of no landmark.
    """

    marks: Mapping[str, Point]
    sds: Mapping[str, float]
    doubtful: tuple[str, ...]
    missing: tuple[str, ...]
    spare: int


def decode(data: bytes) -> NDArray[np.uint8]:
    """Decode a stored JPEG to RGB."""
    image = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR)
    if image is None:
        raise ColourError("The picture cannot be read.")
    # In place: 48 megapixels are not held twice.
    return np.asarray(cv2.cvtColor(image, cv2.COLOR_BGR2RGB, image), dtype=np.uint8)


def pick_colour(image: NDArray[np.uint8], x: float, y: float) -> Colour:
    """The colour of the sticker at a point of an RGB picture (h, w, 3).

    Takes the most colourful pixels close by, so that a click on the rim does as well.
    Raises ColourError where everything there is grey.
    """
    height, width = image.shape[:2]
    r = max(3, round(0.004 * max(height, width)))
    x0, y0 = int(min(max(x, r), width - r - 1)), int(min(max(y, r), height - r - 1))
    lab = _lab(image[y0 - r : y0 + r + 1, x0 - r : x0 + r + 1]).reshape(-1, 3)
    chroma = np.hypot(lab[:, 1], lab[:, 2])
    best = lab[chroma >= np.quantile(chroma, 0.7)]
    a, b = np.median(best[:, 1]), np.median(best[:, 2])
    found = Colour(math.degrees(math.atan2(b, a)) % 360.0, float(math.hypot(a, b)))
    if found.chroma < 2 * LEAST_CHROMA:
        raise ColourError(
            "There is hardly any colour at that spot: pick the middle of a sticker, or use "
            "stickers of a stronger colour."
        )
    return found


def _lab(image: NDArray[np.uint8]) -> NDArray[np.float32]:
    return np.asarray(cv2.cvtColor(image.astype(np.float32) / 255.0, cv2.COLOR_RGB2LAB))


def find_dots(image: NDArray[np.uint8], colour: Colour) -> list[Dot]:
    """Round patches of a colour in an RGB picture (h, w, 3), largest and roundest first."""
    height, width = image.shape[:2]
    scale = min(1.0, WORKING_SIDE / max(height, width))
    small = image
    if scale < 1.0:
        size = (round(width * scale), round(height * scale))
        small = np.asarray(cv2.resize(image, size, interpolation=cv2.INTER_AREA), dtype=np.uint8)
    weight = _likeness(small, colour)
    mask = (weight > 0.35).astype(np.uint8)
    longer = max(small.shape[:2])
    count, labels, stats, _ = cv2.connectedComponentsWithStats(mask, connectivity=8)
    low = math.pi / 4 * (SMALLEST * longer) ** 2 * 0.35
    high = math.pi / 4 * (LARGEST * longer) ** 2
    found = []
    for i in range(1, count):
        left, top, w, h, area = (int(v) for v in stats[i])
        if not low <= area <= high:
            continue
        pad = max(2, round(0.2 * max(w, h)))
        y0, x0 = max(top - pad, 0), max(left - pad, 0)
        view = (slice(y0, top + h + pad), slice(x0, left + w + pad))
        own = labels[view]
        soft = np.where((own == i) | (own == 0), weight[view], 0.0).astype(np.float64)
        ys, xs = np.mgrid[0 : soft.shape[0], 0 : soft.shape[1]]
        total = soft.sum()
        cx, cy = float((soft * xs).sum() / total), float((soft * ys).sum() / total)
        dx, dy = xs - cx, ys - cy
        cov = np.array(
            [[(soft * dx * dx).sum(), (soft * dx * dy).sum()],
             [(soft * dx * dy).sum(), (soft * dy * dy).sum()]]
        ) / total  # fmt: skip
        minor, major = np.sqrt(np.maximum(np.linalg.eigvalsh(cov), 1e-6))
        # A full ellipse covers pi times the product of its half axes, twice the spreads.
        fill = area / (4 * math.pi * float(minor * major))
        roundness = float(minor / major) * min(1.0, fill)
        if minor / major < 0.3 or fill < 0.6:
            continue
        found.append(
            Dot(
                (x0 + cx + 0.5) / scale,
                (y0 + cy + 0.5) / scale,
                2.0 * math.sqrt(float(minor * major)) / scale,
                roundness,
            )
        )
    return sorted(found, key=lambda d: -d.radius * d.roundness)


def _likeness(image: NDArray[np.uint8], colour: Colour) -> NDArray[np.float32]:
    """How much of the sticker's colour each pixel has, 0 to 1."""
    lab = cv2.cvtColor(image, cv2.COLOR_RGB2LAB).astype(np.float32)
    a, b = lab[..., 1] - 128.0, lab[..., 2] - 128.0
    ca, cb = math.cos(math.radians(colour.hue_deg)), math.sin(math.radians(colour.hue_deg))
    along = a * np.float32(ca) + b * np.float32(cb)
    across = np.abs(b * np.float32(ca) - a * np.float32(cb))
    slack = np.float32(math.tan(math.radians(HUE_SLACK_DEG)))
    floor = np.float32(max(LEAST_CHROMA, 0.22 * colour.chroma))
    strength = (along - floor) / np.float32(max(0.35 * colour.chroma, 6.0))
    return np.where(across < slack * along, np.clip(strength, 0.0, 1.0), 0.0).astype(np.float32)


def assign(dots: Sequence[Dot], layouts: Sequence[MarkLayout], required: Sequence[str]) -> Found:
    """Give dots to landmarks by the layout they form.

    ``layouts`` are the pose over its range, as photographed from about the same place;
    ``required`` are the landmarks that must have a dot to be called found.
    """
    names = layouts[0].names
    if len(dots) < 2:
        return Found({}, {}, (), tuple(required), len(dots))
    places = np.array([(d.x, d.y) for d in dots])
    trials = []
    for layout in layouts:
        for start in _starts(layout.points, places):
            trials.append(_settle(layout.points, places, start))
    trials.sort(key=lambda t: t[0])
    cost, given, laid = trials[0]
    rivals = [g for c, g, _ in trials[1:] if g != given and c < 1.35 * cost + 0.012]
    size = max(float(np.ptp(laid, axis=0).max()), 1.0)
    marks: dict[str, Point] = {}
    sds: dict[str, float] = {}
    doubtful = []
    for i, name in enumerate(names):
        dot = given[i]
        if dot < 0:
            continue
        d = dots[dot]
        marks[name] = (d.x, d.y)
        # Where two landmarks lie close and one has no dot, this one's may be the other's.
        contested = any(
            given[j] < 0 and math.dist(laid[j], places[dot]) < NEIGHBOUR * size
            for j, other in enumerate(names)
            if other in required
        )
        sds[name] = DOT_SD_PX if d.roundness > 0.6 else 1.5 * DOT_SD_PX
        if contested or cost > 0.11 or any(g[i] != dot for g in rivals):
            doubtful.append(name)
    missing = tuple(n for n in required if n not in marks)
    if missing and len(marks) <= FEW:
        doubtful = list(marks)
    return Found(marks, sds, tuple(doubtful), missing, len(dots) - len(marks))


#: What it costs, as a chi-square of two, to leave a landmark without a dot: one that must have one,
#: and one that may; and how much worse the next way of naming must be for a name to be sure.
_WITHOUT, _MAY_BE_WITHOUT, _SURE = 14.0, 6.0, 6.0


def assign_near(
    dots: Sequence[Dot],
    seen: Mapping[str, Point],
    sds_px: Mapping[str, float],
    required: Sequence[str],
) -> Found:
    """Give dots to landmarks by where a body seen in the picture has them, px, and how surely."""
    names = list(seen)
    if not dots or not names:
        return Found({}, {}, (), tuple(required), len(dots))
    apart = np.array([[math.dist(seen[n], (d.x, d.y)) / sds_px[n] for d in dots] for n in names])
    without = np.array([_WITHOUT if n in required else _MAY_BE_WITHOUT for n in names])
    cost = np.hstack([apart**2, np.where(np.eye(len(names)) > 0, without[:, None], 1e6)])
    rows, columns = linear_sum_assignment(cost)
    least = float(cost[rows, columns].sum())
    marks: dict[str, Point] = {}
    sds: dict[str, float] = {}
    doubtful = []
    for row, column in zip(rows.tolist(), columns.tolist(), strict=True):
        if column >= len(dots):
            continue
        other = cost.copy()
        other[row, column] = 1e6
        worse = float(other[linear_sum_assignment(other)].sum()) - least
        name, d = names[row], dots[column]
        marks[name] = (d.x, d.y)
        sds[name] = DOT_SD_PX if d.roundness > 0.6 else 1.5 * DOT_SD_PX
        if worse < _SURE:
            doubtful.append(name)
    missing = tuple(n for n in required if n not in marks)
    return Found(marks, sds, tuple(doubtful), missing, len(dots) - len(marks))


#: Cost of leaving a landmark without a dot, in layout sizes.
_SKIP = 0.13


def _starts(model: Array, places: Array) -> list[tuple[float, Array]]:
    """Scales and shifts that lay the figure's box onto the dots' box."""
    size = np.ptp(model, axis=0)
    found = []
    for low, high in ((0.0, 1.0), (0.06, 0.94)):
        a, b = np.quantile(places, low, axis=0), np.quantile(places, high, axis=0)
        spread = b - a
        axis = int(np.argmax(size))
        scale = float(spread[axis] / max(size[axis], 1e-9))
        middle = (model.max(axis=0) + model.min(axis=0)) / 2
        found.append((scale, (a + b) / 2 - scale * middle))
    found.append((1.0, np.zeros(2)))
    return found


def _settle(
    model: Array, places: Array, start: tuple[float, Array]
) -> tuple[float, tuple[int, ...], Array]:
    """Alternate assigning dots and fitting a similarity.

    Returns the cost, each landmark's dot (-1 for none) and the figure as laid, (k, 2) px.
    """
    k = len(model)
    extent = float(np.ptp(model, axis=0).max())
    scale, shift = start
    laid = model * scale + shift
    given: tuple[int, ...] = (-1,) * k
    cost = math.inf
    for _ in range(8):
        size = max(extent * scale, 1.0)
        gaps = np.linalg.norm(laid[:, None] - places[None], axis=2) / size
        # Dummy dots let a landmark go without.
        padded = np.concatenate([np.minimum(gaps, 9.0), np.full((k, k), _SKIP)], axis=1)
        rows, columns = linear_sum_assignment(padded)
        now = tuple(
            int(c) if c < len(places) and gaps[r, c] < REACH else -1
            for r, c in zip(rows, columns, strict=True)
        )
        kept = [i for i, c in enumerate(now) if c >= 0]
        cost = float(sum(gaps[i, now[i]] if now[i] >= 0 else _SKIP for i in range(k)) / k)
        if now == given or len(kept) < 2:
            break
        given = now
        laid, scale = _fit(model, model[kept], places[[now[i] for i in kept]])
    return cost, given, laid


def _fit(model: Array, own: Array, seen: Array) -> tuple[Array, float]:
    """Least-squares similarity from own to seen points, applied to the model (Umeyama 1991)."""
    mo, ms = own.mean(axis=0), seen.mean(axis=0)
    a, b = own - mo, seen - ms
    norm = float((a**2).sum())
    if norm < 1e-9:
        return model - mo + ms, 1.0
    c = float((a * b).sum()) / norm
    s = float((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum()) / norm
    turn = np.array([[c, -s], [s, c]])
    return (model - mo) @ turn.T + ms, math.hypot(c, s)
