"""The mat's outline in a picture, where the person on it is of a person's size."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.poses import Pose
from dachi.core.measuring import calibration
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.fuse import fuse
from dachi.core.measuring.plausible import CORNER_SD_PX
from dachi.core.measuring.scene import Image, Point, SceneError
from dachi.photos.mat_outline import Outline, find_mat
from dachi.studio.bench.seen_joints import Sighted, where_is

#: A body behind the joints that fits people and the pose worse than this, through the camera an
#: outline tells, is of no person's size: the mat is another, or it is not the mat. On the pictures
#: kept for fitting 49 right outlines had at most 8.2, 11 of 16 wrong ones more than 9.
MOST_UNLIKELY = 9.0


def mat_seen(
    image: NDArray[np.uint8],
    pose: Pose,
    side: str,
    mat_cm: tuple[float, float],
    focal_35mm: float | None,
    sighted: Sighted | None,
    near: Mapping[str, Point] | None = None,
) -> Outline | None:
    """The outline of a mat of a size (length, width) in an RGB picture; None where none is certain.

    ``near`` are the corners another picture from there told.
    """
    found = find_mat(
        image, pose, side, mat_cm, focal_35mm,
        sighted.joints if sighted else None, where_is(image, sighted) if sighted else None, near,
    )  # fmt: skip
    if found is None or sighted is None:
        return found
    size = Image(image.shape[1], image.shape[0], focal_35mm)
    mat = Mat(*mat_cm, found.corners, corner_sds_px=found.sds_px)
    try:
        camera = calibration.solve_mat(
            mat, pose.view, size.width, size.height, focal_35mm, CORNER_SD_PX
        )
    except SceneError:
        return None
    body = fuse(
        pose, side, pose.default_variant(), size, sighted.joints, camera,
        spreads_px=sighted.apart,
    )  # fmt: skip
    return found if body is None or body.unlikely <= MOST_UNLIKELY else None
