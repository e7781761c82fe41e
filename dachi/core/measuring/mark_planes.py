"""Rays through marks, cut with the plane each mark is known to lie in."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import DEFAULT_SEGMENTS_CM
from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring.calibration import CameraEstimate, moved_cameras, square_root
from dachi.core.measuring.scene import Scene, SceneError

Array = NDArray[np.float64]
#: Rotations (s, 3, 3), translations (s, 3) in cm and focal lengths (s,) in px.
Cameras = tuple[Array, Array, Array]


@dataclass(frozen=True)
class StepOrder:
    """Order of the nuisances: camera (7), marks across and down, depths, contact height."""

    marks: int
    depths: int

    @property
    def n(self) -> int:
        """How many nuisances there are."""
        return 7 + 2 * self.marks + self.depths + 1

    @property
    def depth_slice(self) -> slice:
        """Where the depths stand among them."""
        return slice(7 + 2 * self.marks, self.n - 1)

    def inputs(
        self, at: Array, px: Array, sds: Array, steps: Array, contact_sd: float
    ) -> tuple[Array, Array, Array]:
        """Pixels (s, k, 2), depths (s, k) and contact heights (s,) stepped about ``at``."""
        k, n = self.marks, self.n
        first = 7 + 2 * k
        pixels = np.repeat((px + at[7:first].reshape(k, 2) * sds[:, None])[None], 2 * n + 1, 0)
        rows = np.arange(2 * k)
        for sign, start in ((1.0, 1), (-1.0, n + 1)):
            pixels[start + 7 + rows, rows // 2, rows % 2] += sign * sds[rows // 2]
        depths = np.repeat((at[first:-1] @ steps)[None], 2 * n + 1, 0)
        depths[1 + first : n] += steps
        depths[n + 1 + first : 2 * n] -= steps
        contact = np.full(2 * n + 1, at[-1] * contact_sd)
        contact[n] += contact_sd
        contact[2 * n] -= contact_sd
        return pixels, depths, contact


class RayPlanes:
    """Rays of a batch of cameras, cut with each mark's plane."""

    def __init__(
        self, scene: Scene, pose: Pose, marks: tuple[Mark, ...], estimate: CameraEstimate
    ) -> None:
        self.scene, self.pose, self.marks = scene, pose, marks
        self.index = {m.id: i for i, m in enumerate(marks)}
        self.flat_floor = estimate.method != "mat" and pose.plane == "floor"
        self.flat = estimate.method != "mat"
        self.estimate = estimate
        self.root = square_root(estimate.covariance)
        self.behind = np.zeros(len(marks), dtype=bool)
        # Without a mat there is one plane only, square to the assumed camera.
        level = [self.flat_floor if self.flat else m.plane == "level" for m in marks]
        self.axis = np.array([2 if z else 1 for z in level])

    def cameras(self, at: Array, n: int) -> Cameras:
        """The camera at ``at`` (7,) and one step up and down in each of its directions."""
        steps = np.repeat((self.root @ at)[None], 2 * n + 1, 0)
        steps[1:8] += self.root.T
        steps[n + 1 : n + 8] -= self.root.T
        return moved_cameras(self.estimate.camera, steps, [*range(8), *range(n + 1, n + 8)])

    def place_once(self, px: Array) -> Array:
        """Place marks (k, 2) by the estimate alone, (k, 3) cm."""
        cam = self.estimate.camera
        cameras = cam.rotation[None], cam.translation[None], np.array([cam.focal_px])
        return np.asarray(self.place(px[None], np.zeros((1, len(px))), np.zeros(1), cameras)[0])

    def place(self, pixels: Array, depths: Array, contact: Array, cameras: Cameras) -> Array:
        """Cut rays with planes: pixels (s, k, 2), depths (s, k), contact (s,) -> (s, k, 3)."""
        rotation, translation, focal = cameras
        unit = (pixels - self.estimate.camera.centre) / focal[:, None, None]
        rays = unit @ rotation[:, :2, :] + rotation[:, 2:3, :]
        origin = -np.einsum("sji,sj->si", rotation, translation)
        at = self._planes(rays, origin, contact) + depths
        along = rays[:, np.arange(len(self.axis)), self.axis]
        with np.errstate(divide="ignore", invalid="ignore"):
            reach = (at - origin[:, self.axis]) / along
        if not self.flat:
            for i, m in enumerate(self.marks):
                if m.plane == "reach" and m.parent in self.index:
                    p = self.index[m.parent]
                    parent = origin + reach[:, p, None] * rays[:, p]
                    length = _usual(self.scene, m) + depths[:, i]
                    reach[:, i] = _meet(origin, rays[:, i], parent, length)
        self.behind = ~(np.isfinite(reach[0]) & (reach[0] > 0) & (reach[0] < 1e5))
        reach = np.where(np.isfinite(reach), reach, 0.0)
        return np.asarray(origin[:, None, :] + reach[..., None] * rays)

    def _planes(self, rays: Array, origin: Array, contact: Array) -> Array:
        at = np.zeros((len(rays), len(self.marks)))
        if self.flat:
            return at
        frontal = self._frontal(rays, origin, contact)
        for i, m in enumerate(self.marks):
            if m.plane == "level":
                at[:, i] = m.height_cm
            elif m.plane == "frontal":
                at[:, i] = frontal - m.forward_cm
            elif is_near(self.scene, m):
                at[:, i] = -self.scene.half_width_cm - m.forward_cm
            else:
                at[:, i] = -m.forward_cm
        return at

    def _frontal(self, rays: Array, origin: Array, contact: Array) -> Array:
        """Depth of the upright plane through the mark that touches the floor, (s,)."""
        if self.pose.floor_mark not in self.index:
            return np.zeros(len(rays))
        ray = rays[:, self.index[self.pose.floor_mark]]
        height = self.pose.floor_height_cm + contact
        with np.errstate(divide="ignore", invalid="ignore"):
            reach = (height - origin[:, 2]) / ray[:, 2]
        reach = np.where(np.isfinite(reach) & (reach > 0), reach, np.nan)
        if not math.isfinite(float(reach[0])):
            label = self.pose.mark(self.pose.floor_mark).label
            raise SceneError(
                f"the mark {label} is said to touch the floor but lies above the horizon"
            )
        depth = origin[:, 1] + reach * ray[:, 1]
        return np.asarray(np.where(np.isfinite(depth), depth, depth[0]))


def _meet(origin: Array, ray: Array, centre: Array, radius: Array) -> Array:
    """How far along rays (s, 3) they meet spheres on the camera's side, (s,).

    A ray that passes a sphere by is taken to its nearest point: the limb then lies square
    to the line of sight.
    """
    to = centre - origin
    rr = np.einsum("si,si->s", ray, ray)
    middle = np.einsum("si,si->s", ray, to) / rr
    inside = radius**2 - (np.einsum("si,si->s", to, to) - middle**2 * rr)
    return np.asarray(middle - np.sqrt(np.maximum(inside, 0.0) / rr))


def _usual(scene: Scene, mark: Mark) -> float:
    segment = mark.segment or ""
    return scene.segments_cm.get(segment, DEFAULT_SEGMENTS_CM.get(segment, 42.0))


def is_near(scene: Scene, mark: Mark) -> bool:
    """Whether a mark lies on the limb towards the camera.

    Where the scene does not say which leg is nearer, both are read in the near
    plane.
    """
    if mark.plane == "limb":
        return scene.variant.get("near_leg", mark.leg) == mark.leg
    return mark.plane == "near"
