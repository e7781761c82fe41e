"""Solving a scene many times at once, once for each thing that is not exactly known."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dachi.core import checks as judging
from dachi.core.camera import CameraEstimate, spread_cameras
from dachi.core.catalogue import Mark, Pose
from dachi.core.scene import CheckResult, Scene, SceneError

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Assumptions:
    """Spreads that no mark shows. Degrees and centimetres, one standard deviation.

    ``limb_out_of_plane_sd_deg``: how far a limb points out of the pose's plane.
    ``body_off_centre_sd_cm``: how far the body lies off the mat's centre line.
    ``half_width_sd_cm``: error of the body's half width. ``mark_depth_sd_cm``: a
    single mark's own depth against its plane. ``contact_height_sd_cm``: height of a
    mark said to be on the floor. ``segment_sd_cm``: error of a taped limb length.
    """

    limb_out_of_plane_sd_deg: float = 4.0
    body_off_centre_sd_cm: float = 2.0
    half_width_sd_cm: float = 1.0
    mark_depth_sd_cm: float = 0.7
    contact_height_sd_cm: float = 0.7
    segment_sd_cm: float = 0.8


@dataclass(frozen=True)
class Batch:
    """One scene solved for 2n + 1 sets of inputs.

    ``points``: mark id to (2n + 1, 3) in cm; row 0 is the estimate, rows 1..n one
    standard deviation up in each nuisance, rows n+1..2n one down. ``shift`` (n,) and
    ``covariance`` (n, n) are the nuisances' mean and spread, in standard deviations,
    once known segment lengths are taken into account.
    """

    estimate: CameraEstimate
    points: Mapping[str, Array]
    shift: Array
    covariance: Array
    foreshortened: tuple[CheckResult, ...]
    warnings: tuple[str, ...]

    def gradient(self, values: Array) -> Array:
        """Central difference of an evaluated batch for each nuisance, (n,)."""
        n = len(self.shift)
        full = values if len(values) > 1 else np.repeat(values, 2 * n + 1)
        return np.asarray((full[1 : n + 1] - full[n + 1 :]) / 2.0)

    def mean_sd(self, values: Array) -> tuple[float, float]:
        """Value and standard deviation of an evaluated batch, shape (2n + 1,)."""
        g = self.gradient(values)
        n = len(self.shift)
        full = values if len(values) > 1 else np.repeat(values, 2 * n + 1)
        # Second-order part of each nuisance alone: Var(h z^2 / 2) = h^2 / 2.
        bend = full[1 : n + 1] + full[n + 1 :] - 2.0 * full[0]
        curved = float(np.sum((bend * np.diag(self.covariance)) ** 2)) / 2.0
        variance = float(g @ self.covariance @ g) + curved
        return float(values[0] + g @ self.shift), math.sqrt(max(variance, 0.0))


def solve(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    estimate: CameraEstimate,
    assumptions: Assumptions,
) -> Batch:
    """Place every mark in its plane for the estimate and each perturbed input.

    Raises SceneError where a mark's ray never meets its plane.
    """
    a = assumptions
    px = np.array([scene.marks[m.id] for m in marks], dtype=float)
    first = _Bench(scene, pose, marks, estimate, 0)
    flat = first.place(px[None], np.zeros((1, len(marks))), np.zeros(1))
    for m, behind in zip(marks, first.behind, strict=True):
        if behind:
            raise SceneError(
                f"the mark {m.label} would lie behind the camera or beyond the horizon: check "
                "it and the mat's corners"
            )
    lengths = _lengths(marks, flat[0])
    warnings, foreshortened, limb_sd = _judge_lengths(scene, marks, lengths, estimate, a, px)

    depth_steps: list[Array] = []
    limbs = dict.fromkeys(m.limb for m in marks if m.limb)
    for limb in limbs:
        sd = limb_sd.get(limb, a.limb_out_of_plane_sd_deg)
        depth_steps.append(_limb_step(marks, lengths, limb, math.tan(math.radians(sd))))
    near = np.array([_is_near(scene, m) for m in marks], dtype=float)
    body = np.array([m.plane in ("near", "mid", "limb") for m in marks], dtype=float)
    depth_steps.append(near * a.half_width_sd_cm)
    depth_steps.append(body * a.body_off_centre_sd_cm)
    own = np.array([0.0 if m.id == pose.floor_mark else a.mark_depth_sd_cm for m in marks])
    depth_steps += list(np.diag(own))
    depth_steps = [s for s in depth_steps if s.any()]

    k, d = len(marks), len(depth_steps)
    n = 7 + 2 * k + d + 1
    pixels = np.repeat(px[None], 2 * n + 1, axis=0)
    depths = np.zeros((2 * n + 1, k))
    contact = np.zeros(2 * n + 1)
    for sign, start in ((1.0, 1), (-1.0, n + 1)):
        for i, m in enumerate(marks):
            row = start + 7 + 2 * i
            pixels[row, i, 0] += sign * scene.sd_of(m.id)
            pixels[row + 1, i, 1] += sign * scene.sd_of(m.id)
        for j, step in enumerate(depth_steps):
            depths[start + 7 + 2 * k + j] += sign * step
        contact[start + n - 1] += sign * a.contact_height_sd_cm
    bench = _Bench(scene, pose, marks, estimate, n)
    solved = bench.place(pixels, depths, contact)
    points = {m.id: solved[:, i] for i, m in enumerate(marks)}
    shift, covariance = _fold_in_lengths(
        scene, marks, solved, n, estimate, a, {c.id for c in foreshortened}
    )
    return Batch(estimate, points, shift, covariance, tuple(foreshortened), tuple(warnings))


class _Bench:
    """Rays of a batch of cameras, cut with each mark's plane."""

    def __init__(
        self,
        scene: Scene,
        pose: Pose,
        marks: tuple[Mark, ...],
        estimate: CameraEstimate,
        steps: int,
    ) -> None:
        self.scene, self.pose, self.marks = scene, pose, marks
        self.flat_floor = estimate.method != "mat" and pose.plane == "floor"
        self.flat = estimate.method != "mat"
        cam = estimate.camera
        self.centre = cam.centre
        size = 2 * steps + 1
        self.rotation = np.broadcast_to(cam.rotation, (size, 3, 3)).copy()
        self.translation = np.broadcast_to(cam.translation, (size, 3)).copy()
        self.focal = np.full(size, cam.focal_px)
        if steps:
            rotations, translations, focals = spread_cameras(estimate)
            for part, start in ((slice(0, 7), 1), (slice(7, 14), steps + 1)):
                self.rotation[start : start + 7] = rotations[part]
                self.translation[start : start + 7] = translations[part]
                self.focal[start : start + 7] = focals[part]
        self.behind = np.zeros(len(marks), dtype=bool)

    def place(self, pixels: Array, depths: Array, contact: Array) -> Array:
        """Cut rays with planes: pixels (s, k, 2), depths (s, k), contact (s,) -> (s, k, 3)."""
        unit = (pixels - self.centre) / self.focal[:, None, None]
        rays = unit @ self.rotation[:, :2, :] + self.rotation[:, 2:3, :]
        origin = -np.einsum("sji,sj->si", self.rotation, self.translation)
        axis = np.array([1 if m.plane != "level" else 2 for m in self.marks])
        if self.flat:
            # Without a mat there is one plane only, square to the assumed camera.
            axis = np.full(len(self.marks), 2 if self.flat_floor else 1)
        at = self._planes(rays, origin, contact) + depths
        along = np.take_along_axis(rays, axis[None, :, None].repeat(len(rays), 0), axis=2)[..., 0]
        start = origin[:, axis]
        with np.errstate(divide="ignore", invalid="ignore"):
            reach = (at - start) / along
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
                at[:, i] = frontal + m.height_cm
            elif _is_near(self.scene, m):
                at[:, i] = -self.scene.half_width_cm
        return at

    def _frontal(self, rays: Array, origin: Array, contact: Array) -> Array:
        """Depth of the upright plane through the mark that touches the floor, (s,)."""
        ids = [m.id for m in self.marks]
        if self.pose.floor_mark not in ids:
            return np.zeros(len(rays))
        ray = rays[:, ids.index(self.pose.floor_mark)]
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


def _is_near(scene: Scene, mark: Mark) -> bool:
    """Whether a mark lies on the limb towards the camera.

    Where the scene does not say which leg is nearer, both are read in the near
    plane.
    """
    if mark.plane == "limb":
        return scene.variant.get("near_leg", mark.leg) == mark.leg
    return mark.plane == "near"


def _lengths(marks: tuple[Mark, ...], points: Array) -> dict[str, float]:
    """Length from each mark's parent to it, cm, as if all lay in their planes."""
    index = {m.id: i for i, m in enumerate(marks)}
    return {
        m.id: float(np.linalg.norm(points[index[m.id]] - points[index[m.parent]]))
        for m in marks
        if m.parent in index
    }


def _limb_step(
    marks: tuple[Mark, ...], lengths: Mapping[str, float], limb: str, slope: float
) -> Array:
    """Depth of each mark when a limb turns out of its plane, carried down the chain."""
    step = dict.fromkeys((m.id for m in marks), 0.0)
    for m in marks:
        if m.parent in step:
            own = slope * lengths[m.id] if m.limb == limb else 0.0
            step[m.id] = step[m.parent] + own
    return np.array([step[m.id] for m in marks])


def _judge_lengths(
    scene: Scene,
    marks: tuple[Mark, ...],
    lengths: Mapping[str, float],
    estimate: CameraEstimate,
    a: Assumptions,
    px: Array,
) -> tuple[list[str], list[CheckResult], dict[str, float]]:
    """Compare seen with usual lengths: sentences, checks and wider limb spreads."""
    warnings: list[str] = []
    found: list[CheckResult] = []
    limb_sd: dict[str, float] = {}
    if estimate.method != "mat":
        return warnings, found, limb_sd
    cam = estimate.camera
    for m in marks:
        if not m.segment or m.segment not in scene.segments_cm or m.id not in lengths:
            continue
        usual, seen = scene.segments_cm[m.segment], lengths[m.id]
        cm_per_px = float(np.linalg.norm(cam.position)) / cam.focal_px
        sd = math.hypot(a.segment_sd_cm, math.sqrt(2) * scene.sd_of(m.id) * cm_per_px)
        ratio = seen / usual
        turned = math.degrees(math.acos(min(1.0, ratio)))
        # Length says little near square: allow the turn that 1.6 sd of length makes.
        least = math.degrees(math.acos(min(1.0, (seen + 1.6 * sd) / usual)))
        if seen > usual + 4 * sd + 0.05 * usual:
            warnings.append(
                f"the {m.segment} to {m.label} looks {100 * (ratio - 1):.0f} % longer than usual: "
                "check the marks, the mat's size and where the person lies on it"
            )
        check = judging.judge_foreshortening(m.segment, turned, turned - least)
        if check is not None and m.limb is not None:
            found.append(check)
            limb_sd[m.limb] = max(a.limb_out_of_plane_sd_deg, turned)
    return warnings, found, limb_sd


def _fold_in_lengths(
    scene: Scene,
    marks: tuple[Mark, ...],
    solved: Array,
    n: int,
    estimate: CameraEstimate,
    a: Assumptions,
    foreshortened: set[str],
) -> tuple[Array, Array]:
    """Condition the nuisances on known segment lengths (linear Gaussian update)."""
    index = {m.id: i for i, m in enumerate(marks)}
    rows, misses = [], []
    if estimate.method == "mat":
        for m in marks:
            if m.parent not in index:
                continue
            if m.segment is None or m.parent is None or m.segment not in scene.segments_cm:
                continue
            if f"foreshortened_{m.segment}" in foreshortened:
                continue
            span = solved[:, index[m.id]] - solved[:, index[m.parent]]
            length = np.linalg.norm(span, axis=1)
            slope = (length[1 : n + 1] - length[n + 1 :]) / 2.0
            miss = scene.segments_cm[m.segment] - float(length[0])
            if abs(miss) < 4 * math.hypot(a.segment_sd_cm, float(np.linalg.norm(slope))):
                rows.append(slope)
                misses.append(miss)
    if not rows:
        return np.zeros(n), np.eye(n)
    h = np.array(rows)
    gain = np.linalg.solve(h @ h.T + a.segment_sd_cm**2 * np.eye(len(rows)), h).T
    return gain @ np.array(misses), np.eye(n) - gain @ h


def implausibility(batch: Batch) -> float:
    """How far a solution puts marks under the floor, in squared 3 cm units."""
    depth = [min(0.0, float(p[0, 2])) / 3.0 for p in batch.points.values()]
    return sum(d * d for d in depth)
