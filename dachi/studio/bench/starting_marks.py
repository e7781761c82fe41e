"""Where marks and mat corners may lie before anybody has placed them, px."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from dachi.core.body.staging import seen_corners, seen_marks, seen_over_range, within
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.scene import Point
from dachi.photos.stickers import MarkLayout
from dachi.store.assessments import Trial
from dachi.store.photos import Photo

#: Guesses stay this share of the picture away from its rim.
MARGIN = 0.04
CORNER_MARGIN_PX = 10


def guess_marks(pose: Pose, side: str, width: int, height: int) -> dict[str, Point]:
    """Where the marks would lie for a figure half way through the pose's range, px."""
    seen = seen_marks(pose, side, within(pose, 0.5), (width, height))
    return {
        k: (
            round(min(max(x, MARGIN * width), (1 - MARGIN) * width), 1),
            round(min(max(y, MARGIN * height), (1 - MARGIN) * height), 1),
        )
        for k, (x, y) in seen.items()
    }


def guess_corners(pose: Pose, width: int, height: int) -> dict[str, Point]:
    """Where the mat's corners would lie for the recommended camera, px."""
    m = CORNER_MARGIN_PX
    return {
        k: (round(min(max(x, m), width - m), 1), round(min(max(y, m), height - m), 1))
        for k, (x, y) in seen_corners(pose, (width, height)).items()
    }


def scaled(
    marks: Mapping[str, Point], was: tuple[int, int], now: tuple[int, int]
) -> dict[str, Point]:
    """Carry marks over to a picture of another size."""
    fx, fy = now[0] / was[0], now[1] / was[1]
    return {k: (round(x * fx, 1), round(y * fy, 1)) for k, (x, y) in marks.items()}


def layouts(pose: Pose, trial: Trial, photo: Photo) -> list[MarkLayout]:
    """The pose over its range, for naming stickers by the layout they form."""
    spread = seen_over_range(pose, trial.side, (photo.width, photo.height), trial.variant)
    return [MarkLayout(tuple(marks), np.array(list(marks.values()))) for marks in spread]
