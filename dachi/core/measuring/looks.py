"""One photograph as observations of a body: its camera, marks, and how sure each is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import rotation_from
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.scene import Scene
from dachi.core.measuring.skeleton import SIZE

Array = NDArray[np.float64]

#: A camera's unknowns: a small rotation in its frame, its translation, its log focal length.
CAMERA = 7
#: What is new at each shot in where a mark is put, as a share of the spread between people.
NEW_SHARE = {"eye": 0.45, "palpated": 0.3, "sticker": 0.2, "joint": 1.0}
#: How far spreads between people hold for a way of marking.
SKIN_SHARE = {"eye": 1.0, "palpated": 0.85, "sticker": 0.85, "joint": 1.0}
#: How far a hand's habit shows in a way of marking; what is no hand's has none.
HABIT_SHARE = {"eye": 1.0, "palpated": 1.0, "sticker": 0.7, "sliding": 1.0, "joint": 0.0}
#: Spread of where a second camera stands when no mat says, cm.
FREE_PLACE_SD = 150.0
_RIDGE = np.diag([1e-8, 1e-8, 1e-8, 1e-3, 1e-3, 1e-3, 1e-8])


@dataclass(frozen=True)
class Glance:
    """What one photograph says at a state.

    Costs (of all with the determinant, of marks, of the camera), gradient and information over
    camera and body (CAMERA + SIZE), and the information's part that repeats with the person.
    """

    cost: float
    marks: float
    camera: float
    gradient: Array
    information: Array
    repeats: Array


class Named(Protocol):
    """What is marked in a picture."""

    @property
    def id(self) -> str:
        """Its name in the scene."""


class Look:
    """A photograph with its marks, ready to be weighed against any body.

    ``turn`` (3, 3) takes the body's world frame to this view's own. ``beside`` is a second
    photograph: without a mat nothing says where its camera stood.
    """

    def __init__(
        self,
        scene: Scene,
        marks: Sequence[Named],
        estimate: CameraEstimate,
        skin_sds: Array,
        turn: Array,
        beside: bool,
    ) -> None:
        camera = estimate.camera
        self.rotation, self.translation = camera.rotation @ turn, camera.translation
        self.focal, self.centre = camera.focal_px, camera.centre
        self.px = np.array([scene.marks[m.id] for m in marks], dtype=float)
        self.click = np.array([scene.sd_of(m.id) ** 2 for m in marks])
        how = [scene.marked_as(m.id) for m in marks]
        self.skin_var = (skin_sds * np.array([SKIN_SHARE[h] for h in how])[:, None]) ** 2
        self.habit = np.array([HABIT_SHARE[scene.skin_way(m.id)] for m in marks])
        self.lasting = 1.0 - np.array([NEW_SHARE[h] for h in how]) ** 2
        covariance = estimate.covariance + _RIDGE
        if beside and estimate.method != "mat":
            covariance = covariance + np.diag([0, 0, 0, *[FREE_PLACE_SD**2] * 3, 0])
        self.precision = np.linalg.inv(covariance)

    def view(self, cam: Array) -> tuple[Array, Array, float]:
        """The camera at a state (CAMERA,): rotation, translation, focal length in px."""
        rotation = rotation_from(cam[:3]) @ self.rotation
        return rotation, self.translation + cam[3:6], self.focal * math.exp(cam[6])

    def weigh(self, cam: Array, at: Array, slopes: Array, frames: Array) -> Glance:
        """Compare marks with skin points ``at`` (k, 3), their ``slopes`` (k, 3, SIZE) and the
        ``frames`` (k, 3, 3) of what they lie on.
        """
        k, size = len(at), CAMERA + SIZE
        r, _, spread, w, det, j = self._compare(cam, at, slopes, frames)
        wj = (w @ j).reshape(2 * k, size)
        info = wj.T @ j.reshape(2 * k, size)
        grad = wj.T @ r.ravel()
        lasting = spread * self.lasting[:, None, None]
        rep = wj.T @ (lasting @ wj.reshape(k, 2, size)).reshape(2 * k, size)
        marks = float(
            r[:, 0] @ (w[:, 0, 0] * r[:, 0] + 2 * w[:, 0, 1] * r[:, 1])
            + r[:, 1] @ (w[:, 1, 1] * r[:, 1])
        )
        pull = self.precision @ cam
        info[:CAMERA, :CAMERA] += self.precision
        grad[:CAMERA] -= pull
        camera = float(cam @ pull)
        cost = marks + float(np.log(det).sum()) + camera
        return Glance(cost, marks, camera, grad, info, rep)

    def pull(self, cam: Array, at: Array, slopes: Array, frames: Array) -> Array:
        """What moving each mark by 1 cm along its frame adds to the gradient, (k, 3, size)."""
        _, flesh, _, w, _, j = self._compare(cam, at, slopes, frames)
        return np.asarray((w @ flesh).transpose(0, 2, 1) @ j)

    def _compare(
        self, cam: Array, at: Array, slopes: Array, frames: Array
    ) -> tuple[Array, Array, Array, Array, Array, Array]:
        """Residuals (k, 2), what 1 cm of flesh is in px (k, 2, 3), its covariance, the weights
        (k, 2, 2) with their determinants, and the Jacobian (k, 2, CAMERA + SIZE).
        """
        k = len(at)
        rotation, t, f = self.view(cam)
        turned = at @ rotation.T
        q = turned + t
        z = np.maximum(q[:, 2], 1.0)
        seen_at = f * q[:, :2] / z[:, None]
        r = self.px - self.centre - seen_at
        d = np.zeros((k, 2, 3))
        d[:, 0, 0] = d[:, 1, 1] = f / z
        d[:, :, 2] = -seen_at / z[:, None]
        seen_way = d @ rotation
        flesh = seen_way @ frames
        spread = (flesh * self.skin_var[:, None, :]) @ flesh.transpose(0, 2, 1)
        s00, s11, s01 = spread[:, 0, 0] + self.click, spread[:, 1, 1] + self.click, spread[:, 0, 1]
        det = s00 * s11 - s01**2
        w = np.empty((k, 2, 2))
        w[:, 0, 0], w[:, 1, 1] = s11 / det, s00 / det
        w[:, 0, 1] = w[:, 1, 0] = -s01 / det
        j = np.empty((k, 2, CAMERA + SIZE))
        j[:, :, CAMERA:] = seen_way @ slopes
        j[:, :, 0] = d[:, :, 2] * turned[:, 1:2] - d[:, :, 1] * turned[:, 2:3]
        j[:, :, 1] = d[:, :, 0] * turned[:, 2:3] - d[:, :, 2] * turned[:, 0:1]
        j[:, :, 2] = d[:, :, 1] * turned[:, 0:1] - d[:, :, 0] * turned[:, 1:2]
        j[:, :, 3:6] = d
        j[:, :, 6] = seen_at
        return r, flesh, spread, w, det, j

    def at(self, cam: Array, points: Array) -> tuple[Array, Array]:
        """Where points (k, 3) lie in the picture, (k, 2) px, and how deep, (k,) cm."""
        rotation, t, f = self.view(cam)
        q = points @ rotation.T + t
        return f * q[:, :2] / q[:, 2:] + self.centre, q[:, 2]

    def lay(self, points: Array, place_sd: Array) -> tuple[Array, Array]:
        """Shifts (n, 3) that bring bodies' marks (n, k, 3) near those seen; what is left (n,)."""
        turned = points @ self.rotation.T
        n = len(points)
        shift = np.zeros((n, 3))
        weight = np.diag(1.0 / place_sd**2)
        # A figure's marks lie within some 8 cm of the person's.
        scale = 0.125
        r = np.zeros((n, points.shape[1], 2))
        for last in (False, False, True):
            q = turned + (shift @ self.rotation.T)[:, None] + self.translation
            z = np.maximum(q[..., 2], 20.0)
            seen_at = self.focal * q[..., :2] / z[..., None]
            r = (self.px - self.centre - seen_at) * (scale * z / self.focal)[..., None]
            if last:
                break
            d = np.zeros((*z.shape, 2, 3))
            d[..., 0, 0] = d[..., 1, 1] = scale
            d[..., 2] = -scale * q[..., :2] / z[..., None]
            j = (d @ self.rotation).reshape(n, -1, 3)
            jt = j.transpose(0, 2, 1)
            pull = jt @ r.reshape(n, -1, 1) - (weight @ shift.T).T[..., None]
            shift = shift + np.linalg.solve(jt @ j + weight, pull)[..., 0]
        return shift, (r**2).sum(axis=(1, 2))
