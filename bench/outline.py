"""The mat's outline without cards: ``python -m bench.outline [FOLDER]`` (var/bare).

The folder is made by ``python -m bench.bodies.pictures var/bare 60 2000``: the report half of the
bodies, no cards. A mat contrasts where its colour and the floor's lie ``CONTRAST`` apart along most
of what is in sight of its edges. A wrong size is given as well: it must be refused.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import cv2
import numpy as np

from bench.bodies.sights import sights
from dachi.core.body.pinhole import CORNERS
from dachi.photos.stickers import decode
from dachi.studio.bench.mat_seen import mat_seen
from dachi.studio.bench.seen_joints import where_is

CONTRAST, BESIDE_PX = 14.0, 8.0
#: A corner further off than this, px at 1600, is another outline's.
WRONG_PX = 12.0
#: Mats of other shapes that are given for the same picture, cm.
OTHERS = ((173.0, 80.0), (200.0, 100.0))


def contrast(image: np.ndarray, corners: np.ndarray, hidden: np.ndarray) -> float:
    """Median distance of colours (Lab) inside and outside the edges that nobody hides."""
    lab = cv2.cvtColor(cv2.GaussianBlur(image, (0, 0), 2.0), cv2.COLOR_RGB2LAB).astype(float)
    height, width = lab.shape[:2]
    middle, gaps = corners.mean(axis=0), []
    for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        out = np.array([-(b - a)[1], (b - a)[0]]) / np.hypot(*(b - a))
        out = out * np.sign(out @ ((a + b) / 2 - middle))
        for u in np.linspace(0.05, 0.95, 30):
            at = a + u * (b - a)
            spots = [(at + k * BESIDE_PX * out).round().astype(int) for k in (-1, 1)]
            if all(0 <= x < width and 0 <= y < height and not hidden[y, x] for x, y in spots):
                (x, y), (x2, y2) = spots
                gaps.append(float(np.hypot(*(lab[y, x] - lab[y2, x2])[1:])) + abs(
                    float(lab[y, x, 0] - lab[y2, x2, 0])) / 2)  # fmt: skip
    return float(np.median(gaps)) if gaps else 0.0


def main(argv: list[str] | None = None) -> None:
    rows, took, taken = [], [], 0
    folder = Path((argv or ["var/bare"])[0])
    for sight in sights(folder):
        if sight.told["cards"] or sight.seen is None:
            continue
        image = decode((folder / f"{sight.name}.jpg").read_bytes())
        true = np.array([sight.told["corners"][c] for c in CORNERS])
        length, width = sight.told["mat"]
        hidden = where_is(image, sight.seen)
        began = time.perf_counter()
        focal = sight.image.focal_35mm
        found = mat_seen(image, sight.pose, sight.side, (length, width), focal, sight.seen)
        took.append(time.perf_counter() - began)
        off = np.nan if found is None else max(
            np.hypot(*np.subtract(found.corners[c], sight.told["corners"][c])) for c in CORNERS
        )  # fmt: skip
        middle = np.nan if found is None else float(np.median([
            np.hypot(*np.subtract(found.corners[c], sight.told["corners"][c])) for c in CORNERS
        ]))  # fmt: skip
        rows.append((contrast(image, true, hidden) >= CONTRAST, off, middle))
        other = OTHERS[len(rows) % 2]
        wrong = mat_seen(image, sight.pose, sight.side, other, focal, sight.seen)
        taken += wrong is not None
    plain, off, middle = np.array(rows, dtype=float).T
    for name, which in (("contrasting", plain > 0), ("all", plain >= 0)):
        o = off[which]
        print(
            f"{name:12} {which.sum()} pictures: proposed {np.mean(~np.isnan(o)):.0%}, of them off"
            f" by more than {WRONG_PX:.0f} px {np.sum(o > WRONG_PX)}; corners off"
            f" {np.nanmedian(middle[which]):.1f} px (median), the worst of a picture"
            f" {np.nanmedian(o):.1f}, 90 % {np.nanpercentile(o, 90):.1f}"
        )
    print(f"with a size that is not the mat's: {taken} of {len(rows)} proposed all the same")
    print(f"{np.median(took):.1f} s a picture, longest {max(took):.1f}")


if __name__ == "__main__":
    main(sys.argv[1:])
