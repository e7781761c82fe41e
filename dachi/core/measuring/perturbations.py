"""Solving a scene many times at once, once for each thing that is not exactly known."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import product

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring import lengths as segments
from dachi.core.measuring.assumptions import Assumptions
from dachi.core.measuring.bones import BodyAngle, Bone
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.mark_planes import RayPlanes, StepOrder, is_near
from dachi.core.measuring.scene import CheckResult, Scene, SceneError

Array = NDArray[np.float64]

#: How alike what repeats with a person is in two shots of one pose at different angles.
ALIKE = 0.8
#: Rounds of taking slopes again, and the move (standard deviations) that needs none.
MOST_ROUNDS = 6
SETTLED = 0.5
#: A segment whose length would be this uncertain from the picture alone, cm, lies so nearly
#: along the line of sight that it may as well point the other way.
ALONG_SIGHT_CM = 6.0


@dataclass(frozen=True)
class Batch:
    """One scene solved for 2n + 1 sets of inputs.

    ``points``: mark id to (2n + 1, 3) in cm; row 0 is the estimate, rows 1..n one
    standard deviation up in each nuisance, rows n+1..2n one down. ``shift`` (n,) and
    ``covariance`` (n, n) are the nuisances' mean and spread, in standard deviations,
    once known segment lengths are taken into account. ``log_weight`` compares this
    solution with others of the same scene. ``repeats`` (n, n) is the part of the
    covariance that repeats with the person, where it is known; ``angles`` (2n + 1,) are joint
    angles of a reconstructed body, degrees, ``strain`` what its marks and posture cost, ``bones``
    its lengths, ``body`` its joints.
    """

    estimate: CameraEstimate
    points: Mapping[str, Array]
    shift: Array
    covariance: Array
    log_weight: float
    foreshortened: tuple[CheckResult, ...]
    warnings: tuple[str, ...]
    repeats: Array | None = None
    angles: Mapping[str, Array] = field(default_factory=dict)
    strain: float | None = None
    bones: Mapping[str, Bone] = field(default_factory=dict)
    body: tuple[BodyAngle, ...] = ()

    def mean_sd(self, values: Array) -> tuple[Array, Array, Array]:
        """Values and standard deviations (m,) of evaluated batches (m, 2n + 1).

        The third are standard deviations of one reading's share in a change: without what repeats
        with the person, as far as that is alike in two shots of one pose.
        """
        n = len(self.shift)
        up, down = values[:, 1 : n + 1], values[:, n + 1 :]
        slope = (up - down) / 2.0
        # Second-order part of each nuisance alone: Var(h z^2 / 2) = h^2 / 2.
        bend = (up + down - 2.0 * values[:, :1]) * np.diag(self.covariance)
        variance = np.sum((slope @ self.covariance) * slope, axis=1)
        variance += np.sum(bend**2, axis=1) / 2.0
        sd = np.sqrt(np.maximum(variance, 0.0))
        if self.repeats is not None:
            variance = variance - ALIKE * np.sum((slope @ self.repeats) * slope, axis=1)
        return values[:, 0] + slope @ self.shift, sd, np.sqrt(np.maximum(variance, 0.0))


def solve(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    estimate: CameraEstimate,
    a: Assumptions,
) -> tuple[Batch, ...]:
    """Place every mark in its plane for the estimate and each perturbed input.

    Usually there is one solution; a limb seen nearly along the line of sight gives
    another, turned about the line of sight, which explains its length as well.
    Raises SceneError where a mark's ray never meets its plane.
    """
    px = np.array([scene.marks[m.id] for m in marks], dtype=float)
    bench = RayPlanes(scene, pose, marks, estimate)
    flat = _in_front(bench, marks, px)
    lengths = segments.lengths_of(marks, flat)
    sds = np.array([scene.sd_of(m.id) for m in marks])
    steps = _depth_steps(scene, pose, marks, lengths, {}, a)
    layout = StepOrder(len(marks), len(steps))

    def place(at: Array) -> Array:
        inputs = layout.inputs(at, px, sds, steps, a.contact_height_sd_cm)
        return bench.place(*inputs, bench.cameras(at[:7], layout.n))

    solved = place(np.zeros(layout.n))
    spreads = segments.length_sds(marks, solved, layout.n)
    warnings, foreshortened, limb_sd = segments.judge_lengths(
        scene, marks, lengths, spreads, estimate, a
    )
    if limb_sd:
        steps = _depth_steps(scene, pose, marks, lengths, limb_sd, a)
        solved = place(np.zeros(layout.n))
    known = [m for m in marks if segments.is_known(scene, m, marks, estimate, foreshortened)]
    curved = any(m.plane == "level" or m.forward_cm for m in known)

    def settle(at: Array, solved: Array, rivals: bool) -> tuple[Batch, Array, segments.Folded]:
        for turn in range(MOST_ROUNDS):
            folded = segments.fold_in(scene, marks, known, solved, at, a)
            # Where lengths tell depth they move the estimate far: look again from there.
            last = turn == MOST_ROUNDS - 1
            if last or not curved or np.abs(folded.mean - at).max() < SETTLED:
                break
            at = folded.mean
            solved = place(at)
        batch = Batch(
            estimate,
            {m.id: solved[:, i] for i, m in enumerate(marks)},
            folded.mean - at,
            folded.covariance,
            (folded.log_weight if rivals else 0.0) - segments.under_floor(solved[0]) / 2.0,
            tuple(foreshortened),
            tuple(warnings),
        )
        return batch, at, folded

    main, at, folded = settle(np.zeros(layout.n), solved, False)
    limbs = segments.along_sight(known, folded, ALONG_SIGHT_CM)
    if not limbs:
        return (main,)
    found = [replace(main, log_weight=main.log_weight + folded.log_weight)]
    for turned in _ways(limbs):
        shift = segments.turned_about_sight(scene, marks, turned, main.points, estimate.camera)
        start = at.copy()
        start[layout.depth_slice] += np.linalg.lstsq(steps.T, shift, rcond=None)[0]
        found.append(settle(start, place(start), True)[0])
    return tuple(found)


def _ways(limbs: Sequence[list[str]]) -> Iterator[set[str]]:
    """Marks that turn about the line of sight, for every choice of limbs but none."""
    for chosen in list(product((False, True), repeat=len(limbs)))[1:]:
        yield {m for limb, turn in zip(limbs, chosen, strict=True) if turn for m in limb}


def _in_front(bench: RayPlanes, marks: tuple[Mark, ...], px: Array) -> Array:
    """Marks once in their planes; SceneError where a ray never meets its plane."""
    flat = bench.place_once(px)
    for m, behind in zip(marks, bench.behind, strict=True):
        if behind:
            raise SceneError(
                f"the mark {m.label} would lie behind the camera or beyond the horizon: check "
                "it and the mat's corners"
            )
    return flat


def _depth_steps(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    lengths: Mapping[str, float],
    limb_sd: Mapping[str, float],
    a: Assumptions,
) -> Array:
    """One standard deviation of each thing that shifts marks off their planes, (d, k), cm."""
    steps: list[Array] = []
    for limb in dict.fromkeys(m.limb for m in marks if m.limb):
        sd = limb_sd.get(limb, a.limb_out_of_plane_sd_deg)
        steps.append(_limb_step(marks, lengths, limb, math.tan(math.radians(sd))))
    near = np.array([is_near(scene, m) for m in marks], dtype=float)
    steps.append(near * a.half_width_sd_cm)
    along = ("near", "mid", "limb")
    steps.append(np.array([float(m.plane in along) for m in marks]) * a.body_off_centre_sd_cm)
    if pose.floor_mark is None:
        upright = np.array([float(m.plane == "frontal") for m in marks])
        steps.append(upright * a.frontal_off_sd_cm)
    own = [0.0 if m.id == pose.floor_mark else _own_sd(scene, m, a) for m in marks]
    steps += list(np.diag(own))
    kept = [s for s in steps if s.any()]
    return np.array(kept) if kept else np.zeros((1, len(marks)))


def _own_sd(scene: Scene, mark: Mark, a: Assumptions) -> float:
    """How far a mark itself may lie off its plane; of its reach, for a mark at arm's length."""
    if mark.plane == "reach":
        return a.segment_sd_cm if mark.segment in scene.segments_cm else a.untaped_sd_cm
    scale = a.mark_depth_sd_cm / Assumptions.mark_depth_sd_cm
    return a.mark_depth_sd_cm if mark.depth_sd_cm is None else mark.depth_sd_cm * scale


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
