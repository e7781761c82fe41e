"""Known segment lengths: what they say of a limb's depth, and of the shot."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import Camera
from dachi.core.catalogue.poses import Mark
from dachi.core.measuring import checks as compensations
from dachi.core.measuring.assumptions import Assumptions
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.scene import CheckResult, Scene

Array = NDArray[np.float64]


def lengths_of(marks: tuple[Mark, ...], points: Array) -> dict[str, float]:
    """Length from each mark's parent to it, cm, as if all lay in their planes."""
    at = {m.id: p for m, p in zip(marks, points.tolist(), strict=True)}
    return {m.id: math.dist(at[m.id], at[m.parent]) for m in marks if m.parent in at}


def length_sds(marks: tuple[Mark, ...], solved: Array, n: int) -> dict[str, float]:
    """How uncertain the picture leaves each length from a parent to its mark, cm."""
    index = {m.id: i for i, m in enumerate(marks)}
    found = {}
    for m in marks:
        if m.segment is None or m.parent not in index:
            continue
        span = solved[:, index[m.id]] - solved[:, index[m.parent]]
        length = np.sqrt(np.einsum("si,si->s", span, span))
        slope = (length[1 : n + 1] - length[n + 1 :]) / 2.0
        found[m.id] = float(np.sqrt(slope @ slope))
    return found


def judge_lengths(
    scene: Scene,
    marks: tuple[Mark, ...],
    lengths: Mapping[str, float],
    sds: Mapping[str, float],
    estimate: CameraEstimate,
    a: Assumptions,
) -> tuple[list[str], list[CheckResult], dict[str, float]]:
    """Compare seen with usual lengths: sentences, checks and wider limb spreads."""
    warnings: list[str] = []
    found: list[CheckResult] = []
    limb_sd: dict[str, float] = {}
    if estimate.method != "mat":
        return warnings, found, limb_sd
    for m in marks:
        if not m.segment or m.segment not in scene.segments_cm or m.id not in lengths:
            continue
        if m.plane in ("reach", "level") or m.forward_cm:
            # This limb is meant to point towards the camera, or lies along the line of sight.
            continue
        usual, seen = scene.segments_cm[m.segment], lengths[m.id]
        sd = math.hypot(a.segment_sd_cm, sds[m.id])
        ratio = seen / usual
        turned = math.degrees(math.acos(min(1.0, ratio)))
        # Length says little near square: allow the turn that two sd of length make.
        least = math.degrees(math.acos(min(1.0, (seen + 2.0 * sd) / usual)))
        if seen > usual + 3 * sd + 0.05 * usual:
            warnings.append(
                f"the {m.segment} to {m.label} looks {100 * (ratio - 1):.0f} % longer than usual: "
                "check the marks, the mat's size and where the person lies on it"
            )
        check = compensations.judge_foreshortening(m.id, m.label, m.segment, turned, turned - least)
        if check is not None and m.limb is not None:
            found.append(check)
            limb_sd[m.limb] = max(a.limb_out_of_plane_sd_deg, turned)
    return warnings, found, limb_sd


@dataclass(frozen=True)
class Folded:
    """Nuisances given the known lengths, in standard deviations.

    ``mean`` (n,), ``covariance`` (n, n); ``misfit`` is chi-square of prior and lengths
    together; ``total`` (m, m) the lengths' covariance against their own error;
    ``spreads_cm`` each known segment's uncertainty from the picture alone.
    """

    mean: Array
    covariance: Array
    misfit: float
    total: Array
    spreads_cm: tuple[float, ...]

    @property
    def log_weight(self) -> float:
        """How well this explains prior and lengths (Laplace), up to a constant."""
        return -(self.misfit + float(np.linalg.slogdet(self.total)[1])) / 2.0


def fold_in(
    scene: Scene,
    marks: tuple[Mark, ...],
    known: list[Mark],
    solved: Array,
    at: Array,
    a: Assumptions,
) -> Folded:
    """Condition the nuisances on known segment lengths (linear Gaussian update).

    ``at`` (n,) is where the slopes were taken, in standard deviations from the prior mean.
    """
    n = len(at)
    index = {m.id: i for i, m in enumerate(marks)}
    rows, misses, spreads = [], [], []
    ignored = 0
    for m in known:
        assert m.parent is not None and m.segment is not None
        span = solved[:, index[m.id]] - solved[:, index[m.parent]]
        length = np.sqrt(np.einsum("si,si->s", span, span))
        slope = (length[1 : n + 1] - length[n + 1 :]) / 2.0
        miss = scene.segments_cm[m.segment] - float(length[0]) + float(slope @ at)
        spreads.append(float(np.linalg.norm(slope)))
        if abs(miss) < 4 * math.hypot(a.segment_sd_cm, spreads[-1]):
            rows.append(slope)
            misses.append(miss)
        else:
            ignored += 1
    if not rows:
        return Folded(np.zeros(n), np.eye(n), 16.0 * ignored, np.eye(1), tuple(spreads))
    h, miss_cm = np.array(rows), np.array(misses)
    noise = a.segment_sd_cm**2 * np.eye(len(rows))
    total = h @ h.T + noise
    gain = np.linalg.solve(total, h).T
    mean = gain @ miss_cm
    left = (miss_cm - h @ mean) / a.segment_sd_cm
    misfit = float(mean @ mean + left @ left) + 16.0 * ignored
    total /= a.segment_sd_cm**2
    return Folded(mean, np.eye(n) - gain @ h, misfit, total, tuple(spreads))


def along_sight(known: list[Mark], folded: Folded, limit_cm: float) -> list[list[str]]:
    """Limbs (marks, in order) whose lengths the picture alone would leave very uncertain."""
    limbs: dict[str, list[str]] = {}
    for m, spread in zip(known, folded.spreads_cm, strict=True):
        if m.plane == "level" and spread > limit_cm:
            limbs.setdefault(m.limb or m.id, []).append(m.id)
    return list(limbs.values())


def turned_about_sight(
    scene: Scene,
    marks: tuple[Mark, ...],
    turned: set[str],
    points: Mapping[str, Array],
    camera: Camera,
) -> Array:
    """Height each mark must shift, (k,) cm, for limbs to take their other direction.

    Along a mark's ray two points lie at the segment's length from its parent; this is the
    way to the one further from the present solution.
    """
    origin = camera.position
    moved: dict[str, Array] = {m.id: points[m.id][0] for m in marks}
    shift = np.zeros(len(marks))
    for i, m in enumerate(marks):
        if m.id not in turned or m.parent is None or m.segment is None:
            continue
        ray = points[m.id][0] - origin
        to = moved[m.parent] - origin
        middle = float(ray @ to / (ray @ ray))
        inside = scene.segments_cm[m.segment] ** 2 - float(to @ to - middle**2 * (ray @ ray))
        half = math.sqrt(max(inside, 0.0) / float(ray @ ray))
        reach = max(middle - half, middle + half, key=lambda t: abs(t - 1.0))
        moved[m.id] = origin + reach * ray
        shift[i] = moved[m.id][2] - points[m.id][0][2]
    return shift


def under_floor(points: Array) -> float:
    """How far a solution (k, 3) puts marks under the floor, in squared 3 cm units."""
    return float(np.sum((np.minimum(points[:, 2], 0.0) / 3.0) ** 2))


def is_known(
    scene: Scene,
    mark: Mark,
    marks: tuple[Mark, ...],
    estimate: CameraEstimate,
    foreshortened: list[CheckResult],
) -> bool:
    return (
        estimate.method == "mat"
        and mark.plane != "reach"
        and mark.segment is not None
        and mark.segment in scene.segments_cm
        and any(m.id == mark.parent for m in marks)
        and all(c.id != f"foreshortened_{mark.id}" for c in foreshortened)
    )
