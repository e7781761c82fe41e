"""A scene in, readings with their uncertainty out: the one entrance is ``measure``.

What came in is looked at (``asked``), the most probable bodies behind the marks are found
(``reconstruct``) with their uncertainty (``posterior``), and what those tell is put into readings,
checks and words (``told``).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.formula import Frame
from dachi.core.catalogue.poses import Catalogue, Mark, Pose, agrees
from dachi.core.measuring.asked import camera_for, forward_of, pose_of, usable_marks
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.posterior import posteriors, with_hips
from dachi.core.measuring.reconstruct import View
from dachi.core.measuring.scene import Result, Scene, SceneError
from dachi.core.measuring.told import read

Array = NDArray[np.float64]


def measure(scene: Scene, catalogue: Catalogue) -> Result:
    """Compute the readings and checks of one scene.

    Raises SceneError with a sentence for the person where nothing can be measured:
    unknown pose, missing or impossible marks, corners that cannot be a mat.
    Measures whose optional marks are absent are left out.
    """
    if scene.views:
        return _measure_together(scene, catalogue)
    pose = pose_of(scene, catalogue)
    marks = usable_marks(scene, pose)
    return _measure(scene, pose, marks, camera_for(scene, pose, marks))


def _measure_together(scene: Scene, catalogue: Catalogue) -> Result:
    """One result from several photographs of one hold, told by the pose's own view."""
    views = []
    for i, v in enumerate(scene.views, start=1):
        own = scene.seen_in(v)
        try:
            pose = pose_of(own, catalogue, together=True)
            marks = usable_marks(own, pose)
            own = replace(own, variant=pose.chosen(own.variant))
            forward, _ = forward_of(own, pose)
            views.append(View(own, pose, marks, camera_for(own, pose, marks), forward))
        except SceneError as error:
            raise SceneError(f"photograph {i} ({v.view}): {error}") from error
    views.sort(key=lambda v: v.pose.id != scene.pose)
    main = views[0]
    result = read(main.scene, main.pose, main.marks, posteriors(tuple(views)))
    weakest = max((v.estimate.method for v in views), key=("mat", "level", "picture").index)
    return replace(result, method=weakest)


def camera_of(scene: Scene, catalogue: Catalogue) -> CameraEstimate | None:
    """The camera that the mat's corners tell, whatever the marks; None without a mat.

    Raises SceneError as ``measure`` does.
    """
    return camera_for(scene, pose_of(scene, catalogue), ()) if scene.mat is not None else None


def measure_with(scene: Scene, pose: Pose, estimate: CameraEstimate) -> Result:
    """Compute readings through a camera that is already known (see ``measure``)."""
    return _measure(scene, pose, usable_marks(scene, pose), estimate)


def _measure(scene: Scene, pose: Pose, marks: tuple[Mark, ...], estimate: CameraEstimate) -> Result:
    scene = replace(scene, variant=pose.chosen(scene.variant))
    forward, _ = forward_of(scene, pose)
    return read(scene, pose, marks, posteriors((View(scene, pose, marks, estimate, forward),)))


def true_values(pose: Pose, scene: Scene, points: Mapping[str, Array]) -> dict[str, float]:
    """Evaluate a pose's measures on points known in space, (3,) cm each.

    What a perfect camera and perfect marks would read: the truth that simulated pictures
    are compared with. ``scene`` gives side and variant; facing is the camera's.
    """
    batch = with_hips({k: np.asarray(p, dtype=float)[None] for k, p in points.items()})
    a, b = pose.facing
    forward = 1.0
    if pose.view == "side":
        forward = math.copysign(1.0, float(batch[b][0, 0] - batch[a][0, 0]))
    values: dict[str, Array] = {}
    for m in pose.measures:
        if not (m.formula.marks <= set(batch) and m.formula.measures <= set(values)):
            continue
        if m.formula.on_body:
            # Points alone have no joint angles.
            continue
        if agrees(m.when, pose.chosen(scene.variant)):
            side = scene.side if m.outward == "side" else m.outward
            sign = forward if side is None else forward * (-1.0 if side == "right" else 1.0)
            values[m.id] = m.formula(Frame(batch, pose.plane, sign, values))
    return {k: float(v[0]) for k, v in values.items()}
