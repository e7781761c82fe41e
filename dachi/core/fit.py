"""The articulated figure laid over marks: does the pose fit, and where is the head?

The figure is posed over its range, seen by the pose's usual camera from three directions,
and brought onto the marks by the best similarity (Umeyama 1991, least squares in the
plane, mirror images allowed for people who lie the other way round).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core import figure as bodies
from dachi.core.camera import look_from
from dachi.core.catalogue import Pose
from dachi.core.figure import Body
from dachi.core.scene import Point

Array = NDArray[np.float64]

STEPS = 9
YAWS_DEG = (-25.0, 0.0, 25.0)
#: A level camera's picture turns little; more than this is another pose, not a tilted phone.
MOST_TURN_DEG = 25.0
#: Above this misfit the marks do not show the pose (docs/method.md tells how it was chosen).
MISFIT_LIMIT = 0.25
#: Radius that hides a head with its hair, and how much of the way from the nearest mark a
#: neck and a spine may move the head, cm and share.
HEAD_CM, SWAY, MOST_HEAD_CM = 16.0, 0.3, 60.0
#: Lies of the figure this close to the best one (misfit) cannot be told from it.
TIE = 0.03
_BODY = Body()


@dataclass(frozen=True)
class Region:
    """A round part of a picture, px."""

    x: float
    y: float
    radius: float


@dataclass(frozen=True)
class Fit:
    """The best lie of the figure.

    ``misfit`` is the root mean square distance of the marks from the figure's, as a share
    of the figure's thigh as long as it is drawn; ``value`` the headline (degrees) it has.
    """

    misfit: float
    value: float
    head: Region

    @property
    def fits(self) -> bool:
        """Whether the marks can show this pose."""
        return self.misfit <= MISFIT_LIMIT


def fit(pose: Pose, side: str, variant: Mapping[str, str], marks: Mapping[str, Point]) -> Fit:
    """Lay the figure over marks (px). Raises ValueError with fewer than two known marks.

    Marks that no lie of the figure comes near have a misfit of infinity.
    """
    views = _views(pose, side, tuple(sorted(variant.items())))
    known = [i for i, m in enumerate(pose.marks) if m.id in marks]
    if len(known) < 2:
        raise ValueError("at least two marks are needed to lay the figure over them")
    target = np.array([marks[pose.marks[i].id] for i in known], dtype=float)
    scale, turn, shift, rms = _similarities(views.marks[:, known], target)
    with np.errstate(divide="ignore", invalid="ignore"):
        misfit = np.where(scale > 0, rms / (scale * views.px_per_cm * _BODY.thigh), np.inf)
    best = int(np.argmin(misfit))
    if not np.isfinite(misfit[best]):
        spread = float(np.ptp(target, axis=0).max())
        middle = target.mean(axis=0)
        return Fit(math.inf, pose.figure.low, Region(float(middle[0]), float(middle[1]), spread))
    tied = misfit <= misfit[best] + TIE
    heads = scale[tied, None] * np.einsum("vij,vj->vi", turn[tied], views.heads[tied]) + shift[tied]
    px_per_cm = float(scale[best] * views.px_per_cm[best])
    return Fit(float(misfit[best]), float(views.values[best]), _head(heads, px_per_cm, target))


def _head(heads: Array, px_per_cm: float, target: Array) -> Region:
    """A circle over the head in every lie that is about as good as the best one, (n, 2)."""
    middle = (heads.min(axis=0) + heads.max(axis=0)) / 2
    apart = float(np.linalg.norm(heads - middle, axis=1).max())
    near = float(np.linalg.norm(target - middle, axis=1).min())
    radius = apart + HEAD_CM * px_per_cm + SWAY * near
    return Region(float(middle[0]), float(middle[1]), min(radius, MOST_HEAD_CM * px_per_cm))


@dataclass(frozen=True)
class _Views:
    """The figure over its range, seen from turned cameras and mirrored: V views of n marks.

    ``values`` (V,), ``marks`` (V, n, 2) px, ``heads`` (V, 2) px, ``px_per_cm`` (V,).
    """

    values: Array
    marks: Array
    heads: Array
    px_per_cm: Array


@lru_cache(maxsize=128)
def _views(pose: Pose, side: str, variant: tuple[tuple[str, str], ...]) -> _Views:
    low, high = pose.figure.low, pose.figure.high
    height, distance = float(pose.camera["height_cm"]), float(pose.camera["distance_cm"])
    aim = float(pose.camera.get("look_at_cm", 40))
    chosen = pose.default_variant() | dict(variant)
    pitch = -math.degrees(math.atan2(height - aim, distance))
    values, marks, heads, scales = [], [], [], []
    for value in np.linspace(low, high, STEPS):
        posed = bodies.posed(pose.figure, side, float(value), pose.view, variant=chosen)
        points = bodies.place_on_mat(
            bodies.landmarks(_BODY, posed), "x" if pose.view == "side" else "y"
        )
        spots = bodies.mark_points(pose.marks, side, points)
        for yaw in YAWS_DEG:
            a = math.radians(yaw)
            eye = (-distance * math.sin(a), -distance * math.cos(a), height)
            camera = look_from(eye, yaw, pitch, 0.0, 26.0, 1600, 1200)
            seen = np.array([camera.project(spots[m.id]) for m in pose.marks])
            head = np.asarray(camera.project(points["head"]))
            for mirror in (1.0, -1.0):
                flip = np.array([mirror, 1.0])
                values.append(float(value))
                marks.append(seen * flip)
                heads.append(head * flip)
                scales.append(camera.focal_px / distance)
    return _Views(np.array(values), np.array(marks), np.array(heads), np.array(scales))


def _similarities(source: Array, target: Array) -> tuple[Array, Array, Array, Array]:
    """Scale (V,), rotation (V, 2, 2), shift (V, 2) and RMS distance (V,) of the best lie.

    ``source`` (V, n, 2) is brought onto ``target`` (n, 2).
    """
    s0, t0 = source.mean(axis=1), target.mean(axis=0)
    s, t = source - s0[:, None], target - t0
    cross = (s[..., 0] * t[:, 1] - s[..., 1] * t[:, 0]).sum(axis=1)
    most = math.radians(MOST_TURN_DEG)
    angle = np.clip(np.arctan2(cross, (s * t).sum(axis=(1, 2))), -most, most)
    cos, sin = np.cos(angle), np.sin(angle)
    turn = np.stack([np.stack([cos, -sin], -1), np.stack([sin, cos], -1)], 1)
    turned = np.einsum("vij,vnj->vni", turn, s)
    scale = (turned * t).sum(axis=(1, 2)) / np.maximum((s**2).sum(axis=(1, 2)), 1e-9)
    shift = t0 - scale[:, None] * np.einsum("vij,vj->vi", turn, s0)
    off = scale[:, None, None] * turned - t
    return scale, turn, shift, np.sqrt((off**2).sum(axis=(1, 2)) / source.shape[1])
