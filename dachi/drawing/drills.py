"""A drill as the articulated figure shows it: one key position, or both of a movement."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.figure import Landmarks, Pose3D, landmarks
from dachi.core.body.posing import posed as posed_for
from dachi.core.body.posing import sides_of, supports_under
from dachi.core.body.staging import ANYBODY, shown_side
from dachi.core.catalogue.drills import Drawing, Drill
from dachi.core.catalogue.poses import Catalogue
from dachi.drawing.figure import filling, framed, silhouette

Array = NDArray[np.float64]

_LIFTS = {"side": 0.06, "front": 0.42, "top": 9.0}


@lru_cache(maxsize=512)
def drill_figures(drill: Drill, catalogue: Catalogue, side: str = "right") -> tuple[str, ...]:
    """Return the drill's key positions as SVG, one or two, on one scale."""
    drawn = drill.figure
    positions = [_placed(drawn, catalogue, side, second=False)]
    if drawn.to is not None or drawn.to_pose is not None:
        positions.append(_placed(drawn, catalogue, side, second=True))
    camera = filling([p for p, _ in positions], _LIFTS[drawn.view])
    words = ("", ": begin", ": and here")
    return tuple(
        framed(
            silhouette(points, camera, supports),
            drill.name + (words[i + 1] if len(positions) > 1 else ""),
        )
        for i, (points, supports) in enumerate(positions)
    )


def _placed(
    drawn: Drawing, catalogue: Catalogue, side: str, *, second: bool
) -> tuple[Landmarks, list[tuple[Array, Array, float]]]:
    """The figure in a key position, lying, sitting or standing on the floor."""
    pose_id = drawn.to_pose if second and drawn.to_pose else drawn.pose
    joints = drawn.to if second and drawn.to is not None else drawn.joints
    if pose_id is None:
        posed = _posed(drawn, joints, side)
        points = landmarks(ANYBODY, posed)
        if drawn.lying:
            points = _on_its_side(points, drawn.view, side)
        return points, []
    pose = catalogue.pose(pose_id)
    value = drawn.to_value if second and drawn.to_pose else drawn.value
    own = shown_side(pose, side)
    figure = posed_for(pose.figure, own, value, pose.view, variant=pose.default_variant())
    changed = dict(figure.joints) | _by_side(joints, own)
    heading = figure.heading
    if drawn.view != pose.view and drawn.view in ("front", "side"):
        heading = "camera" if drawn.view == "front" else side
    posed = Pose3D(figure.posture, heading, changed, figure.raise_cm)
    points = landmarks(ANYBODY, posed)
    return points, supports_under(pose.figure, own, points)


def _by_side(joints: Mapping[str, float], side: str) -> dict[str, float]:
    """Joints named for left and right; a leg's own angle replaces what both legs have."""
    names = sides_of(side)
    found: dict[str, float] = {}
    for key in sorted(joints, key=lambda k: not k.startswith("each.")):
        owner, _, joint = key.partition(".")
        owners = ("left", "right") if owner == "each" else (names.get(owner, ""),)
        for o in owners:
            found[f"{o}.{joint}" if o else key] = float(joints[key])
    return found


def _posed(drawn: Drawing, joints: Mapping[str, float], side: str) -> Pose3D:
    heading = "camera" if drawn.view == "front" else "right"
    return Pose3D(drawn.posture, heading, _by_side(joints, side))


def _on_its_side(points: Landmarks, view: str, side: str) -> Landmarks:
    """Lay an upright figure down, the drill's side up, head to the left of the picture."""

    def turn(p: Array) -> Array:
        x, y, z = p
        if view == "front":
            # What was up goes left; what was the picture's side goes up.
            return np.array([-z, y, x if side == "left" else -x])
        return np.array([-z, x, y if side == "left" else -y])

    turned = {k: turn(np.asarray(p)) for k, p in points.items()}
    lowest = min(float(p[2]) for k, p in turned.items() if "axes" not in k)
    return {k: p - np.array([0, 0, lowest]) for k, p in turned.items()}
