"""Where a pose's marks lie on the figure, by the same steps over the skin as the skeleton's."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.figure import HIP_HALF, root_axes
from dachi.core.body.posing import sides_of
from dachi.core.body.staging import ANYBODY, Figure
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring import skeleton
from dachi.core.measuring.body_priors import seen
from dachi.core.measuring.skeleton import FIRST_LENGTH, INDEX, SIZE

Array = NDArray[np.float64]

#: The figure's trunk between hips and shoulders, and its foot, cm.
TRUNK, FOOT = 43.5, 18.0


@dataclass(frozen=True)
class SkinMark:
    """A mark on the figure: where it goes (3,), the joint's centre it stands for (3,), cm.

    ``taken_for`` are places it is confused with: words, and where they lie.
    """

    at: Array
    centre: Array
    taken_for: tuple[tuple[str, Array], ...]


def skin_marks(
    pose: Pose, side: str, figure: Figure, variant: Mapping[str, str]
) -> dict[str, SkinMark]:
    """Every mark of a pose on a figure posed in it; ``side`` is the one towards the camera."""
    names = sides_of(side)
    x = np.zeros((1, SIZE))
    x[0, :3] = figure.points["pelvis"]
    for name, degrees in figure.posed.joints.items():
        if name in INDEX:
            x[0, INDEX[name]] = np.radians(degrees)
    x[0, FIRST_LENGTH:] = HIP_HALF, ANYBODY.thigh, ANYBODY.shin, TRUNK, FOOT
    posed = skeleton.pose(x, root_axes(figure.posed.posture, figure.posed.heading).T)
    # The figure turns the measured leg to the camera.
    shown = {**variant, "near_leg": "front"}
    spots = seen(pose, pose.marks, names, shown, (), ("eye",) * len(pose.marks))
    at, centres = spots.skin.at(x, posed)[0], spots.joints.at(x, posed)[0]
    frames = posed.frames[0, spots.skin.segment]
    found = {}
    for i, m in enumerate(pose.marks):
        if m.skin.on == "free":
            owner, _, rest = m.body.partition(".")
            spot = figure.points[f"{names.get(owner, owner)}.{rest}" if rest else m.body]
            found[m.id] = SkinMark(spot, spot, ())
            continue
        out = np.array([1.0, spots.skin.hand[i], 1.0])
        wrong = tuple((n.words, at[i] + frames[i] @ (out * n.by)) for n in m.skin.not_the)
        found[m.id] = SkinMark(at[i], centres[i], wrong)
    return found
