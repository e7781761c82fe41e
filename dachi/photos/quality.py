"""Whether a photograph is light and sharp enough to mark."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

#: Width at which sharpness is looked at, px: what is blurred there cannot be marked.
WIDTH = 1000
#: The two smoothings that are compared, px.
FINE, COARSE = 1.0, 3.0


def light(image: NDArray[np.uint8]) -> float:
    """How light the lighter parts of an RGB picture are, 0 to 1: its 90th percentile."""
    grey = cv2.cvtColor(image, cv2.COLOR_RGB2GRAY)
    return float(np.percentile(grey[::4, ::4], 90)) / 255.0


def blur_px(image: NDArray[np.uint8], box: tuple[float, float, float, float]) -> float:
    """How far edges in a box (left, top, right, bottom, px) are smeared, as a Gaussian's sigma.

    In px of a picture ``WIDTH`` across. A step seen through a blur s and smoothed by g slopes at
    most by 1 / sqrt(2 pi (s^2 + g^2)), so the ratio r of slopes under two smoothings tells s
    whatever the contrast: s^2 = (COARSE^2 - r^2 FINE^2) / (r^2 - 1).
    """
    height, width = image.shape[:2]
    scale = WIDTH / max(width, height)
    x0, y0, x1, y1 = (round(v) for v in box)
    part = image[max(y0, 0) : min(y1, height), max(x0, 0) : min(x1, width)]
    if min(part.shape[:2]) < 16:
        return 0.0
    grey: NDArray[Any] = cv2.cvtColor(np.ascontiguousarray(part), cv2.COLOR_RGB2GRAY)
    grey = grey.astype(np.float32)
    if scale < 1.0:
        grey = cv2.resize(grey, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    slopes = []
    for g in (FINE, COARSE):
        soft = cv2.GaussianBlur(grey, (0, 0), g)
        dx, dy = cv2.Sobel(soft, cv2.CV_32F, 1, 0), cv2.Sobel(soft, cv2.CV_32F, 0, 1)
        slopes.append(np.hypot(dx, dy))
    # The steepest edges, where the coarse look finds them.
    edges = slopes[1] >= np.percentile(slopes[1], 97)
    ratio = float(np.median(slopes[0][edges]) / max(np.median(slopes[1][edges]), 1e-6))
    if ratio <= 1.0 + 1e-3:
        return float(WIDTH)
    return float(np.sqrt(max(COARSE**2 - ratio**2 * FINE**2, 0.0) / (ratio**2 - 1.0)))
