"""The most probable body behind the marks, with how sure every part of it is.

Unknowns are the camera's seven and the skeleton's (see ``skeleton``). Marks on the skin, heights
of what rests on the floor, the camera the corners tell, and what the pose and people's bodies
make likely are all observations with a spread; the posterior is taken at its peak by
Levenberg-Marquardt on the analytic Jacobian, its covariance from the curvature there (Laplace).
Where the skin lies from the bone is not solved for: it is integrated out, as a mark's own
covariance in the picture. Angles a pose prescribes have Student-t priors, so that a body which
does something else is not pulled back to the book.

What repeats with a person (lengths, skin, flesh under a seat) and what is new at each shot are
told apart in the covariance: with information H = sum of J'WJ and C = H^-1, the error is
C (sum of J'W e), so each observation's share of the variance is C (J'W S W J) C.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack

from dachi.core.body.pinhole import rotation_from
from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring import skeleton
from dachi.core.measuring.body_priors import Held, Seen, held, seen
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.scene import Scene
from dachi.core.measuring.skeleton import SIZE, Points

Array = NDArray[np.float64]

CAMERA = 7
ALL = CAMERA + SIZE
#: The unknowns whose priors give way: the angles.
LOOSE = skeleton.ANGLES
LOOSE_DIAGONAL = (np.arange(LOOSE.start, LOOSE.stop), np.arange(LOOSE.start, LOOSE.stop))
#: Degrees of freedom of the priors that give way.
STUDENT = 2.5
MOST_STEPS = 30
SETTLED = 5e-3
#: What is new at each shot in where a mark is put, as a share of the spread between people.
NEW_SHARE = {"eye": 0.45, "palpated": 0.3, "sticker": 0.2, "joint": 1.0}
#: How far spreads between people hold for a way of marking.
SKIN_SHARE = {"eye": 1.0, "palpated": 0.85, "sticker": 0.85, "joint": 0.3}
#: Bones that a coach may tape.
BONES = {"thigh": skeleton.INDEX["thigh"], "shin": skeleton.INDEX["shin"]}
#: Log odds against a limb in the air where the pose has it on the floor.
LIFTED_ODDS = 4.0
#: Spread of a taped length against the distance of joint centres, cm.
TAPED_SD_CM = 1.5


@dataclass(frozen=True)
class Body:
    """A solved body: unknowns, covariance, and the part of it that repeats with the person.

    ``cost`` is minus twice the log posterior at the peak, ``log_det`` of the information;
    ``mark_chi2`` what the marks alone cost, ``strain`` that and what the posture costs.
    """

    x: Array
    covariance: Array
    repeats: Array
    cost: float
    log_det: float
    mark_chi2: float
    strain: float


@dataclass(frozen=True)
class Weighed:
    """A state weighed: cost (of all, of the marks, of marks and posture), gradient (ALL,),
    information (ALL, ALL) and the part of it that repeats with the person.
    """

    cost: float
    marks: float
    strain: float
    gradient: Array
    information: Array
    repeats: Array


class Problem:
    """One scene's observations, ready to be weighed at any body."""

    def __init__(
        self, scene: Scene, pose: Pose, marks: tuple[Mark, ...], estimate: CameraEstimate,
        prior: Held, spots: Seen,
    ) -> None:  # fmt: skip
        self.prior, self.spots = prior, spots
        camera = estimate.camera
        self.rotation, self.translation = camera.rotation, camera.translation
        self.focal, self.centre = camera.focal_px, camera.centre
        self.px = np.array([scene.marks[m.id] for m in marks], dtype=float)
        self.click = np.array([scene.sd_of(m.id) ** 2 for m in marks])
        how = [scene.marked_as(m.id) for m in marks]
        share = np.array([SKIN_SHARE[h] for h in how])[:, None]
        new = np.array([NEW_SHARE[h] for h in how])[:, None]
        self.skin_var = (spots.sds * share) ** 2
        self.lasting = 1.0 - new[:, 0] ** 2
        ridge = np.diag([1e-8, 1e-8, 1e-8, 1e-3, 1e-3, 1e-3, 1e-8])
        self.camera_precision = np.linalg.inv(estimate.covariance + ridge)
        self.mean, precision, lengths = taped(prior, scene.segments_cm)
        self.precision, self.lengths = precision, lengths
        self.sd = prior.sd[LOOSE]
        self.marks = len(marks)

    def view(self, state: Array) -> tuple[Array, Array, float]:
        """The camera of a state: rotation, translation, focal length in px."""
        rotation = rotation_from(state[:3]) @ self.rotation
        return rotation, self.translation + state[3:6], self.focal * math.exp(state[6])

    def weigh(self, state: Array) -> Weighed:
        """Cost, gradient and information at a state, all priors included."""
        x = state[CAMERA:]
        points, k = self.spots.skin, self.marks
        posed = skeleton.pose(x[None], self.prior.root)
        at = points.at(x[None], posed)[0]
        slopes = points.slopes(at, posed)
        rotation, t, f = self.view(state)
        turned = at[:k] @ rotation.T
        q = turned + t
        z = np.maximum(q[:, 2], 1.0)
        seen_at = f * q[:, :2] / z[:, None]
        r = self.px - self.centre - seen_at
        d = np.zeros((k, 2, 3))
        d[:, 0, 0] = d[:, 1, 1] = f / z
        d[:, :, 2] = -seen_at / z[:, None]
        seen_way = d @ rotation
        flesh = seen_way @ posed.frames[0, points.segment[:k]]
        spread = (flesh * self.skin_var[:, None, :]) @ flesh.transpose(0, 2, 1)
        s00, s11, s01 = spread[:, 0, 0] + self.click, spread[:, 1, 1] + self.click, spread[:, 0, 1]
        det = s00 * s11 - s01**2
        w = np.empty((k, 2, 2))
        w[:, 0, 0], w[:, 1, 1] = s11 / det, s00 / det
        w[:, 0, 1] = w[:, 1, 0] = -s01 / det
        j = np.empty((k, 2, ALL))
        j[:, :, CAMERA:] = seen_way @ slopes[:k]
        j[:, :, 0] = d[:, :, 2] * turned[:, 1:2] - d[:, :, 1] * turned[:, 2:3]
        j[:, :, 1] = d[:, :, 0] * turned[:, 2:3] - d[:, :, 2] * turned[:, 0:1]
        j[:, :, 2] = d[:, :, 1] * turned[:, 0:1] - d[:, :, 0] * turned[:, 1:2]
        j[:, :, 3:6] = d
        j[:, :, 6] = seen_at
        wj = (w @ j).reshape(2 * k, ALL)
        flat_j, flat_r = j.reshape(2 * k, ALL), r.ravel()
        info = wj.T @ flat_j
        grad = wj.T @ flat_r
        lasting = spread * self.lasting[:, None, None]
        rep = wj.T @ (lasting @ wj.reshape(k, 2, ALL)).reshape(2 * k, ALL)
        marks_cost = float(r[:, 0] @ (w[:, 0, 0] * r[:, 0] + 2 * w[:, 0, 1] * r[:, 1])
                           + r[:, 1] @ (w[:, 1, 1] * r[:, 1]))  # fmt: skip
        cam, dx = state[:CAMERA], x - self.mean
        pull, hold = self.camera_precision @ cam, self.precision @ dx
        zs = dx[LOOSE] / self.sd
        loose_w = np.minimum(1.0, (STUDENT + 1) / (STUDENT + zs**2)) / self.sd**2
        up = self.prior.heights - at[k:, 2]
        miss = up / self.prior.height_sds
        high_w = np.minimum(1.0, (STUDENT + 1) / (STUDENT + miss**2)) / self.prior.height_sds**2
        cj = slopes[k:, 2, :]
        weighed = cj.T * high_w
        contact = weighed @ cj
        info[:CAMERA, :CAMERA] += self.camera_precision
        grad[:CAMERA] -= pull
        body = info[CAMERA:, CAMERA:]
        body += self.precision
        body += contact
        body[LOOSE_DIAGONAL] += loose_w
        grad[CAMERA:] += weighed @ up - hold
        grad[CAMERA + LOOSE.start : CAMERA + LOOSE.stop] -= loose_w * dx[LOOSE]
        rep[CAMERA:, CAMERA:] += self.lengths + contact
        cost = marks_cost + float(np.log(det).sum()) + float(cam @ pull) + float(dx @ hold)
        posture = (STUDENT + 1) * float(
            np.log1p(zs**2 / STUDENT).sum() + np.log1p(miss**2 / STUDENT).sum()
        )
        cost += posture
        return Weighed(cost, marks_cost, marks_cost + posture, grad, info, rep)

    def start(self) -> Array:
        """The figure, at the headline and the place on the mat that the marks look most like."""
        rows = self.prior.starts
        posed = skeleton.pose(rows, self.prior.root)
        turned = self.spots.skin.at(rows, posed)[:, : self.marks] @ self.rotation.T
        n = len(rows)
        shift = np.zeros((n, 3))
        weight = np.diag(1.0 / self.prior.sd[:3] ** 2)
        scale = 0.125
        for last in (False, False, True):
            q = turned + (shift @ self.rotation.T)[:, None] + self.translation
            z = np.maximum(q[..., 2], 20.0)
            seen_at = self.focal * q[..., :2] / z[..., None]
            # A figure's marks lie within some 8 cm of the person's.
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
        best = int(np.argmin((r**2).sum(axis=(1, 2))))
        chosen = rows[best].copy()
        chosen[:3] += shift[best]
        return np.concatenate([np.zeros(CAMERA), chosen])


def taped(prior: Held, segments_cm: Mapping[str, float]) -> tuple[Array, Array, Array]:
    """Mean and precision of the prior, and its part of lengths, once bones have been taped.

    A known length is one more observation of that bone, and through the shared height of others.
    """
    known = {BONES[n]: cm for n, cm in segments_cm.items() if n in BONES}
    if not known:
        return prior.mean, prior.precision, prior.lengths
    at = slice(skeleton.FIRST_LENGTH, SIZE)
    mean, precision, lengths = prior.mean.copy(), prior.precision.copy(), prior.lengths.copy()
    weight = np.zeros(SIZE)
    pull = np.zeros(SIZE)
    for i, cm in known.items():
        weight[i] = 1.0 / TAPED_SD_CM**2
        pull[i] = weight[i] * (cm - mean[i])
    precision += np.diag(weight)
    lengths += np.diag(weight)
    mean[at] += np.linalg.solve(precision[at, at], pull[at])
    return mean, precision, lengths


#: The longest step: radians, centimetres along.
_LIMIT = np.full(ALL, 0.35)
_LIMIT[3:6] = 30.0
_LIMIT[CAMERA : CAMERA + 3] = 40.0
_LIMIT[CAMERA + skeleton.FIRST_LENGTH :] = 6.0


def peak(problem: Problem, state: Array) -> Body:
    """Climb to the most probable body from a start."""
    damping = 1e-3
    now = problem.weigh(state)
    for _ in range(MOST_STEPS):
        damped = now.information.copy()
        damped.flat[:: ALL + 1] *= 1.0 + damping
        step = lapack.dposv(damped, now.gradient)[1]
        step *= min(1.0, float(1.0 / np.max(np.abs(step) / _LIMIT)))
        trial = problem.weigh(state + step)
        if trial.cost > now.cost + 1e-6:
            damping = max(damping, 1e-4) * 8.0
            if damping > 1e7:
                break
            continue
        gained = now.cost - trial.cost
        state, now = state + step, trial
        damping = max(damping / 6.0, 1e-9)
        if gained < SETTLED:
            break
    covariance = np.asarray(np.linalg.inv(now.information), dtype=float)
    log_det = float(np.linalg.slogdet(now.information)[1])
    return Body(
        state,
        covariance,
        covariance @ now.repeats @ covariance,
        now.cost,
        log_det,
        now.marks,
        now.strain,
    )


@dataclass(frozen=True)
class Solution:
    """A body with the prior it was found under and the marks' points on it."""

    body: Body
    prior: Held
    spots: Seen

    @property
    def log_weight(self) -> float:
        """Log evidence by Laplace's approximation, up to a constant of the scene."""
        priors = float(np.log(self.prior.sd[LOOSE]).sum() + np.log(self.prior.height_sds).sum())
        likely = -(self.body.cost + self.body.log_det) / 2.0 - priors
        return likely - (LIFTED_ODDS if self.prior.lifted else 0.0)


def reconstruct(
    scene: Scene, pose: Pose, marks: tuple[Mark, ...], estimate: CameraEstimate, forward: float
) -> tuple[Solution, ...]:
    """Solve one scene: one body, or one for each of two ways it may lie."""
    calibrated = estimate.method == "mat"
    priors, names = held(pose, scene.side, scene.variant, forward, calibrated, scene.prop_cm)
    marks = tuple(m for m in marks if m.skin.on != "free")
    how = tuple(scene.skin_way(m.id) for m in marks)
    found = []
    for prior in priors:
        spots = seen(pose, marks, names, scene.variant, prior.contacts, how)
        problem = Problem(scene, pose, marks, estimate, prior, spots)
        found.append(Solution(peak(problem, problem.start()), prior, spots))
    return tuple(found)


def sampled(body: Body, prior: Held, points: Points) -> tuple[Array, Array, Array]:
    """Points (2n + 1, k, 3) at the peak and one standard deviation either way along n axes.

    Also what of each pair of axes repeats with the person, (n, n), and the axes' unknowns.
    """
    c = body.covariance[CAMERA:, CAMERA:]
    root = np.linalg.cholesky(c)
    x = body.x[CAMERA:]
    rows = np.concatenate([x[None], x + root.T, x - root.T])
    posed = skeleton.pose(rows, prior.root)
    half = np.linalg.solve(root, body.repeats[CAMERA:, CAMERA:])
    repeats = np.linalg.solve(root, half.T)
    return points.at(rows, posed), (repeats + repeats.T) / 2.0, rows
