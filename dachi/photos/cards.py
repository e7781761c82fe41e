"""Finding corner cards in a photograph: codes by OpenCV's ``aruco``, corners to a fraction of a px.

A camera near the floor sees a card a tenth as deep as it is wide, so the picture is stretched
downwards before codes are looked for. Corners are then refined where the picture has all its
pixels: each of a code's four rims is a line fitted to the steps of brightness across it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cache

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.measuring.cards import CARDS, CODES, Ground, expected, read_cards

Array = NDArray[np.float64]
Grey = NDArray[np.uint8]

#: Codes are looked for in a picture of this longer side, px.
LOOKED_AT = 1600
#: How looks differ: so much larger, stretched so much, and what differs from its own softening
#: over OVER_PX px counting so many times more. The later ones are for blurred pictures, and were
#: found by trial on those kept for fitting.
LOOKS = ((1.0, 2.0, 0.0), (1.0, 2.0, 3.0), (1.5, 2.5, 3.0))
OVER_PX = 2.0
#: A card looked for where it must lie is drawn so large, with so much around it, px.
SQUARE, MARGIN = 132, 66
#: A code is there where its likeness is at least this and beats every other's by so much.
LEAST_LIKE, LEAST_AHEAD = 0.72, 0.1
#: A card part of which something hides looks less like itself than this, and is not used;
#: a sharp picture and a shaken one are about so blurred, px.
LEAST_WHOLE, PIXEL_BLURS = 0.72, (0.7, 2.0)
#: Points along a rim and how far to either side of it a step is looked for, as a share of a cell.
ALONG, ACROSS = 24, 0.45
#: Least step of light that counts as a rim, of 255.
LEAST_STEP = 6.0


@cache
def _detector() -> cv2.aruco.ArucoDetector:
    bits = [np.array([[int(c) for c in row] for row in CODES[card]], np.uint8) for card in CARDS]
    packed = np.vstack([cv2.aruco.Dictionary.getByteListFromBits(b) for b in bits])
    # Any two of the four differ in six cells: two may be read wrongly.
    codes = cv2.aruco.Dictionary(packed, 4, 2)
    told = cv2.aruco.DetectorParameters()
    told.adaptiveThreshWinSizeMin, told.adaptiveThreshWinSizeMax = 13, 37
    told.adaptiveThreshWinSizeStep = 24
    told.minMarkerPerimeterRate = 0.02
    told.minDistanceToBorder = 1
    told.polygonalApproxAccuracyRate = 0.06
    told.perspectiveRemovePixelPerCell = 6
    told.errorCorrectionRate = 1.0
    return cv2.aruco.ArucoDetector(codes, told)


def find_all(
    image: NDArray[np.uint8], ground: Ground, view: str, focal_35mm: float | None
) -> dict[int, Array]:
    """Cards about a mat: what is seen at once, what lies where those say, and, where no camera
    comes of it, what looks at the sharpened picture find; as ``find_cards``.
    """
    found: dict[int, Array] = {}
    size = (image.shape[1], image.shape[0])
    for harder in range(len(LOOKS)):
        found = find_cards(image, harder) | found
        if not found:
            continue
        seen = read_cards(found, ground, view, size, focal_35mm)
        if more := find_at(image, expected(seen, found, ground, view)):
            found |= more
            seen = read_cards(found, ground, view, size, focal_35mm)
        if seen.corners is not None:
            break
    return found


def find_cards(image: NDArray[np.uint8], harder: int = 0) -> dict[int, Array]:
    """Cards of an RGB or grey picture: code corners (4, 2) px, top left first, clockwise.

    Pixels are counted from the picture's outer corner, as everywhere in this program. Looking
    ``harder`` (1 or 2) finds blurred cards and takes two or four times as long.
    """
    grey = _grey(image)
    shrink = min(1.0, LOOKED_AT / max(grey.shape))
    small = _resized(grey, shrink, shrink, cv2.INTER_AREA)
    found = _look(small, *LOOKS[harder])
    sharp = {card: _sharpened(grey, at / shrink, card) for card, at in sorted(found.items())}
    return {card: at for card, at in sharp.items() if at is not None}


def find_at(image: NDArray[np.uint8], expected: Mapping[int, Array]) -> dict[int, Array]:
    """Cards where others say they must lie, seen as from straight above; as ``find_cards``.

    ``expected`` holds the code corners (4, 2) px of each card that was not found yet.
    """
    grey = _grey(image)
    square = np.array([[MARGIN, MARGIN], [MARGIN + SQUARE, MARGIN], [MARGIN + SQUARE] * 2,
                       [MARGIN, MARGIN + SQUARE]], np.float32)  # fmt: skip
    side = SQUARE + 2 * MARGIN
    found: dict[int, Array] = {}
    for card, at in expected.items():
        if (at.max(axis=0) < 0).any() or (at.min(axis=0) > grey.shape[::-1]).any():
            continue
        to = cv2.getPerspectiveTransform((at - 0.5).astype(np.float32), square)
        above = cv2.warpPerspective(
            grey, to, (side, side), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE
        )
        seen = _matched(np.asarray(above, dtype=np.uint8), card)
        if seen is not None:
            back = cv2.perspectiveTransform(seen[None].astype(np.float32), np.linalg.inv(to))
            sharp = _sharpened(grey, back.reshape(4, 2).astype(float) + 0.5, card)
            if sharp is not None:
                found[card] = sharp
    return found


def _sharpened(grey: Grey, at: Array, card: int) -> Array | None:
    """Refined corners, if the code still reads within them; None where it is partly hidden."""
    points = _refined(grey, at)
    return points if likeness(grey, points, card) > LEAST_WHOLE else None


def likeness(grey: Grey, points: Array, card: int, blurs: Sequence[float] = PIXEL_BLURS) -> float:
    """Correlation of what lies within four corners with the code, as blurred as a picture is, px;
    of several blurs the most.
    """
    size = 96
    rim = size // 6
    square = np.array([[0, 0], [size, 0], [size, size], [0, size]], np.float32) + rim - 0.5
    to = cv2.getPerspectiveTransform((points - 0.5).astype(np.float32), square)
    side = size + 2 * rim
    flat = cv2.warpPerspective(grey, to, (side, side), borderMode=cv2.BORDER_REPLICATE)
    wide = float(np.linalg.norm(points[1] - points[0]) + np.linalg.norm(points[2] - points[3])) / 2
    deep = _area(points) / max(wide, 1.0)
    alike = []
    for px in blurs:
        soft = [max(size / max(x, 1.0), 0.1) * px for x in (wide, deep)]
        printed = cv2.GaussianBlur(_sheet(card, 0, size), (0, 0), soft[0], sigmaY=soft[1])
        alike.append(float(cv2.matchTemplate(flat, printed, cv2.TM_CCOEFF_NORMED)[0, 0]))
    return max(alike)


def _matched(above: Grey, card: int) -> Array | None:
    """Where in a view from above a card's code lies, (4, 2) px; None where it does not.

    By correlation with the printed code and the paper around it: blurred cells that no
    threshold parts still tell one code from another.
    """
    best, where = LEAST_LIKE, None
    for scale in (0.92, 1.0, 1.08):
        size = int(SQUARE * scale / 6) * 6
        like = cv2.matchTemplate(above, _printed(card, 0, size), cv2.TM_CCOEFF_NORMED)
        _, top, _, (x, y) = cv2.minMaxLoc(like)
        if top <= best:
            continue
        rim = size // 6
        here = above[y : y + size + 2 * rim, x : x + size + 2 * rim]
        others = max(
            float(cv2.matchTemplate(here, _printed(c, k, size), cv2.TM_CCOEFF_NORMED)[0, 0])
            for c in CARDS for k in range(4) if (c, k) != (card, 0)
        )  # fmt: skip
        if top - others > LEAST_AHEAD:
            best, where = top, np.array([x + rim, y + rim, size], dtype=float)
    if where is None:
        return None
    x, y, size = where
    return np.array([[x, y], [x + size, y], [x + size, y + size], [x, y + size]]) - 0.5


@cache
def _printed(card: int, turns: int, size: int) -> Grey:
    """A code with a cell of paper around it, softened as a lens would."""
    soft = cv2.GaussianBlur(_sheet(card, turns, size), (0, 0), size / 30)
    return np.asarray(soft, dtype=np.uint8)


@cache
def _sheet(card: int, turns: int, size: int) -> Grey:
    """A code of a size with a cell of paper around it, turned by quarters."""
    cells = np.full((8, 8), 255, np.uint8)
    cells[1:7, 1:7] = 0
    cells[2:6, 2:6] = [[255 * int(c) for c in row] for row in CODES[card]]
    turned = np.rot90(cells, turns)
    return np.asarray(np.kron(turned, np.ones((size // 6, size // 6), np.uint8)), dtype=np.uint8)


def _grey(image: Grey) -> Grey:
    grey = image if image.ndim == 2 else cv2.cvtColor(image, cv2.COLOR_RGB2GRAY)
    return np.asarray(grey, dtype=np.uint8)


def _resized(grey: Grey, fx: float, fy: float, how: int) -> Grey:
    return np.asarray(cv2.resize(grey, None, fx=fx, fy=fy, interpolation=how), dtype=np.uint8)


def _look(small: Grey, larger: float, stretch: float, more: float) -> dict[int, Array]:
    how = cv2.INTER_CUBIC if larger > 1.0 else cv2.INTER_LINEAR
    tall = _resized(small, larger, larger * stretch, how)
    if more:
        over = OVER_PX * larger
        soft = cv2.GaussianBlur(tall, (0, 0), over, sigmaY=over * stretch)
        tall = np.asarray(cv2.addWeighted(tall, 1 + more, soft, -more, 0), dtype=np.uint8)
    corners, ids, _ = _detector().detectMarkers(tall)
    found: dict[int, Array] = {}
    for at, number in zip(corners, [] if ids is None else ids.ravel(), strict=True):
        card = CARDS[int(number)]
        points = (at.reshape(4, 2).astype(float) + 0.5) / (larger, larger * stretch)
        if card not in found or _area(points) > _area(found[card]):
            found[card] = points
    return found


def _area(points: Array) -> float:
    return float(cv2.contourArea(points.astype(np.float32)))


def _refined(grey: Grey, at: Array) -> Array:
    """Corners where lines along the four rims meet; as they were where a rim is not clear."""
    lines = []
    middle = at.mean(axis=0)
    for i in range(4):
        a, b = at[i], at[(i + 1) % 4]
        # A cell's depth across this rim: a sixth of the way to the opposite one.
        across = ((at[(i + 3) % 4] - a) + (at[(i + 2) % 4] - b)) / 12.0
        line = _rim(grey, a, b, across, middle)
        if line is None:
            return at
        lines.append(line)
    corners = []
    for i in range(4):
        (p, d), (q, e) = lines[i - 1], lines[i]
        turn = d[0] * e[1] - d[1] * e[0]
        if abs(turn) < 1e-6:
            return at
        step = q - p
        corners.append(p + d * (step[0] * e[1] - step[1] * e[0]) / turn)
    found = np.array(corners)
    reach = np.linalg.norm(at - np.roll(at, 1, axis=0), axis=1).max() / 10.0 + 1.5
    return found if np.linalg.norm(found - at, axis=1).max() < reach else at


def _rim(
    grey: Grey, a: Array, b: Array, across: Array, middle: Array
) -> tuple[Array, Array] | None:
    """A point and direction of the line along which brightness steps from the paper to the rim."""
    where = np.linspace(0.06, 0.94, ALONG)
    base = a + where[:, None] * (b - a)
    depth = max(float(np.linalg.norm(across)), 1e-6)
    reach = max(ACROSS * depth, 1.2)
    count = int(np.clip(4 * reach, 9, 81)) | 1
    steps = np.linspace(-reach, reach, count)
    unit = across / depth
    points = base[:, None] + steps[None, :, None] * unit
    values = _sample(grey, points)
    slope = -np.diff(values, axis=1)  # paper outside is bright, the rim dark
    slope[slope < 0] = 0.0
    total = slope.sum(axis=1)
    height = values.max(axis=1) - values.min(axis=1)
    between = (steps[:-1] + steps[1:]) / 2
    peak = slope.argmax(axis=1)
    near = abs(between[None] - between[peak][:, None]) < max(reach / 2, 0.9)
    weight = slope * near
    good = (height > LEAST_STEP) & (total > 0)
    if good.sum() < ALONG // 2:
        return None
    off = (weight * between).sum(axis=1)[good] / weight.sum(axis=1)[good]
    on = base[good] + off[:, None] * unit
    found = cv2.fitLine(on.astype(np.float32), cv2.DIST_HUBER, 0, 0.01, 0.01).ravel()
    return np.asarray(found[2:], dtype=float), np.asarray(found[:2], dtype=float)


def _sample(grey: Grey, points: Array) -> Array:
    """Light at points (n, m, 2), of 255, between pixels by weights; pixel centres lie at halves.

    A picture's numbers are a root of the light: blurred edges lie half way in light, not in them.
    """
    at = (points - 0.5).astype(np.float32)
    values = cv2.remap(
        grey, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
    )
    return np.asarray(255.0 * (np.asarray(values, dtype=float) / 255.0) ** 2.2)


def told(found: Mapping[int, Array]) -> dict[str, list[list[float]]]:
    """Found cards as plain lists, to be kept."""
    return {
        str(c): [[round(float(x), 2), round(float(y), 2)] for x, y in p] for c, p in found.items()
    }
