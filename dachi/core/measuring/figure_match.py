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

from dachi.core.body.posing import mark_points
from dachi.core.body.staging import ANYBODY, on_mat
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.scene import Point

Array = NDArray[np.float64]
Complexes = NDArray[np.complex128]

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


@dataclass(frozen=True)
class Region:
    """A round part of a picture, px."""

    x: float
    y: float
    radius: float


@dataclass(frozen=True)
class FigureMatch:
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


def match_figure(
    pose: Pose, side: str, variant: Mapping[str, str], marks: Mapping[str, Point]
) -> FigureMatch:
    """Lay the figure over marks (px). Raises ValueError with fewer than two known marks.

    Marks that no lie of the figure comes near have a misfit of infinity.
    """
    known = tuple(i for i, m in enumerate(pose.marks) if m.id in marks)
    if len(known) < 2:
        raise ValueError("at least two marks are needed to lay the figure over them")
    views = _views(pose, side, tuple(sorted(variant.items())), known)
    target = np.array([complex(*marks[pose.marks[i].id]) for i in known])
    middle = complex(target.mean())
    t = target - middle
    # In the complex plane a turn and a scale are one factor: the whole fit is one product.
    inner = views.marks.conj() @ t
    most = math.radians(MOST_TURN_DEG)
    turn = np.exp(1j * np.clip(np.angle(inner), -most, most))
    along = (inner * turn.conj()).real
    scale = along / views.energy
    left = np.maximum(float(np.vdot(t, t).real) - along * scale, 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        rms = np.sqrt(left / len(known))
        misfit = np.where(scale > 0, rms / (scale * views.px_per_cm * ANYBODY.thigh), np.inf)
    best = int(np.argmin(misfit))
    if not np.isfinite(misfit[best]):
        spread = float(np.abs(t).max())
        return FigureMatch(math.inf, pose.figure.low, Region(middle.real, middle.imag, spread))
    tied = misfit <= misfit[best] + TIE
    heads = middle + scale[tied] * turn[tied] * views.heads[tied]
    px_per_cm = float(scale[best] * views.px_per_cm[best])
    return FigureMatch(
        float(misfit[best]), float(views.values[best]), _head(heads, px_per_cm, target)
    )


def _head(heads: Complexes, px_per_cm: float, target: Complexes) -> Region:
    """A circle over the head in every lie that is about as good as the best one."""
    x = (float(heads.real.min()) + float(heads.real.max())) / 2
    y = (float(heads.imag.min()) + float(heads.imag.max())) / 2
    apart = float(np.abs(heads - complex(x, y)).max())
    near = float(np.abs(target - complex(x, y)).min())
    radius = apart + HEAD_CM * px_per_cm + SWAY * near
    return Region(x, y, min(radius, MOST_HEAD_CM * px_per_cm))


@dataclass(frozen=True)
class _Views:
    """The figure over its range, seen from turned cameras and mirrored: V views of n marks.

    Places are complex numbers, px about the middle of the marks: ``marks`` (V, n) with
    their summed squares ``energy`` (V,), ``heads`` (V,). ``values`` and ``px_per_cm`` (V,).
    """

    values: Array
    marks: Complexes
    energy: Array
    heads: Complexes
    px_per_cm: Array


@lru_cache(maxsize=256)
def _views(
    pose: Pose, side: str, variant: tuple[tuple[str, str], ...], known: tuple[int, ...]
) -> _Views:
    chosen = dict(variant)
    values, marks, heads, scales = [], [], [], []
    for value in np.linspace(pose.figure.low, pose.figure.high, STEPS):
        points = on_mat(pose, side, float(value), variant=chosen).points
        spots = mark_points(pose.marks, side, points)
        for yaw in YAWS_DEG:
            camera = pose.camera.camera(yaw)
            seen = np.array([camera.project(spots[pose.marks[i].id]) for i in known])
            head = np.asarray(camera.project(points["head"])) - seen.mean(axis=0)
            seen = seen - seen.mean(axis=0)
            for mirror in (1.0, -1.0):
                values.append(float(value))
                marks.append(mirror * seen[:, 0] + 1j * seen[:, 1])
                heads.append(complex(mirror * float(head[0]), float(head[1])))
                scales.append(camera.focal_px / pose.camera.distance_cm)
    found = np.array(marks)
    energy = np.maximum((np.abs(found) ** 2).sum(axis=1), 1e-9)
    return _Views(np.array(values), found, energy, np.array(heads), np.array(scales))
