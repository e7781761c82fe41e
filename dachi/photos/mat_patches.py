"""Patches of one colour on the floor by a person, drawn with four corners: what may be a mat."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Pixels = NDArray[np.float32]
Mask = NDArray[np.bool_]

#: Colours a picture is divided into, found on so many of its pixels.
COLOURS, SAMPLED = 10, 12000
#: What share of the picture a patch is at least, and its hull at most.
LEAST_PATCH, MOST_PATCH = 0.002, 0.5
#: A patch lies this near the person, px.
NEAR = 6


def four_cornered(lab: Pixels, hidden: Mask) -> list[Array]:
    """Corners (4, 2), px, of the hulls of patches of one colour in a picture (height, width, 3).

    ``hidden`` is where the person is: patches begin by them, and pieces of one colour on either
    side of them are one patch too. Where nobody is, every patch counts. Colours are told apart by
    k-means; the smallest hull of four corners holds the patch.
    """
    free = ~hidden
    pixels = lab[free]
    if len(pixels) < COLOURS:
        return []
    cv2.setRNGSeed(1)
    stop = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 12, 0.5)
    some = pixels[:: max(1, len(pixels) // SAMPLED)]
    _, _, colours = cv2.kmeans(some, COLOURS, np.empty(0), stop, 1, cv2.KMEANS_PP_CENTERS)
    label = np.full(free.shape, -1)
    label[free] = ((pixels[:, None] - colours[None]) ** 2).sum(axis=-1).argmin(axis=1)
    about = np.ones((2 * NEAR + 1, 2 * NEAR + 1), np.uint8)
    by = cv2.dilate(hidden.astype(np.uint8), about) > 0 if hidden.any() else free
    found = []
    for one in range(len(colours)):
        mask = cv2.morphologyEx((label == one).astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3)))
        count, pieces, stats, _ = cv2.connectedComponentsWithStats(mask, connectivity=4)
        here = set(np.unique(pieces[by]).tolist())
        large = stats[:, cv2.CC_STAT_AREA] > LEAST_PATCH * mask.size
        touching = [i for i in range(1, count) if large[i] and i in here]
        for group in [[i] for i in touching] + ([touching] if len(touching) > 1 else []):
            hull = cv2.convexHull(cv2.findNonZero(np.isin(pieces, group).astype(np.uint8)))
            if cv2.contourArea(hull) < MOST_PATCH * mask.size:
                found.append(cv2.approxPolyN(hull, 4).reshape(4, 2).astype(float))
    return found
