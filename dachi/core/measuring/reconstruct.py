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

import itertools
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack

from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring import skeleton
from dachi.core.measuring.body_priors import Held, Seen, held, seen, sides_for, together
from dachi.core.measuring.bones import BodyAngle, Bone
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.looks import CAMERA, Look
from dachi.core.measuring.scene import Scene
from dachi.core.measuring.skeleton import SIZE, Points

Array = NDArray[np.float64]
#: Mean (SIZE,), precision (SIZE, SIZE) and its part of lengths, once bones are known.
Taped = tuple[Array, Array, Array]

#: The unknowns whose priors give way: the angles.
LOOSE = skeleton.ANGLES
LOOSE_DIAGONAL = (np.arange(LOOSE.start, LOOSE.stop), np.arange(LOOSE.start, LOOSE.stop))
#: Degrees of freedom of the priors that give way.
STUDENT = 2.5
MOST_STEPS = 30
#: An angle known to less than this share of its prior's spread was seen.
SEEN = 0.6
#: What marks and posture cost a body that other starts are tried for, and how many of them.
UNEASY, MORE_STARTS = 15.0, 2
SETTLED = 5e-3
#: Bones that a coach may tape.
BONES = {"thigh": skeleton.INDEX["thigh"], "shin": skeleton.INDEX["shin"]}
#: Log odds against a limb in the air where the pose has it on the floor.
LIFTED_ODDS = 4.0
#: Spread of a taped length against the distance of joint centres, cm.
TAPED_SD_CM = 1.5


@dataclass(frozen=True)
class Body:
    """A solved body: unknowns, covariance, the part of it that repeats with the person, its root.

    ``cost`` is minus twice the log posterior at the peak, ``log_det`` of the information;
    ``strain`` what marks and posture cost, ``unmarked`` what all but marks does. ``state`` is
    the cameras' unknowns and the body's, ``whole`` their covariance.
    """

    x: Array
    covariance: Array
    repeats: Array
    root: Array
    cost: float
    log_det: float
    strain: float
    unmarked: float
    state: Array
    whole: Array


@dataclass(frozen=True)
class Weighed:
    """A state weighed: cost (of all, of marks and posture alone, of all that no mark says),
    gradient, information and the part of it that repeats with the person.
    """

    cost: float
    strain: float
    unmarked: float
    gradient: Array
    information: Array
    repeats: Array


class Problem:
    """Every photograph of one hold and what is known before, ready to be weighed at any body.

    The state is each camera's unknowns in turn, then the body's.
    """

    def __init__(self, looks: tuple[Look, ...], prior: Held, spots: Seen, taped: Taped) -> None:
        self.looks, self.prior, self.spots = looks, prior, spots
        self.mean, self.precision, self.lengths = taped
        self.sd = prior.sd[LOOSE]
        self.body = CAMERA * len(looks)
        self.size = self.body + SIZE
        ends = np.cumsum([0, *(len(look.px) for look in looks)]).tolist()
        self.parts = [slice(i, j) for i, j in itertools.pairwise(ends)]
        self.marks = ends[-1]

    def weigh(self, state: Array) -> Weighed:
        """Cost, gradient and information at a state, all priors included."""
        x = state[self.body :]
        points, k, first = self.spots.skin, self.marks, self.body
        posed = skeleton.pose(x[None], self.prior.root)
        at = points.at(x[None], posed)[0]
        slopes = points.slopes(at, posed)
        frames = posed.frames[0, points.segment[:k]]
        info, rep = np.zeros((self.size, self.size)), np.zeros((self.size, self.size))
        grad = np.zeros(self.size)
        cost = marks_cost = cameras = 0.0
        own = np.arange(first, self.size)
        for i, (look, part) in enumerate(zip(self.looks, self.parts, strict=True)):
            cam = slice(CAMERA * i, CAMERA * (i + 1))
            found = look.weigh(state[cam], at[part], slopes[part], frames[part])
            cost += found.cost
            marks_cost += found.marks
            cameras += found.camera
            if len(self.looks) == 1:
                info, grad, rep = found.information, found.gradient, found.repeats
                break
            index = np.concatenate([np.arange(cam.start, cam.stop), own])
            info[np.ix_(index, index)] += found.information
            rep[np.ix_(index, index)] += found.repeats
            grad[index] += found.gradient
        dx = x - self.mean
        hold = self.precision @ dx
        zs = dx[LOOSE] / self.sd
        loose_w = np.minimum(1.0, (STUDENT + 1) / (STUDENT + zs**2)) / self.sd**2
        up = self.prior.heights - at[k:, 2]
        miss = up / self.prior.height_sds
        high_w = np.minimum(1.0, (STUDENT + 1) / (STUDENT + miss**2)) / self.prior.height_sds**2
        cj = slopes[k:, 2, :]
        weighed = cj.T * high_w
        contact = weighed @ cj
        body = info[first:, first:]
        body += self.precision
        body += contact
        body[LOOSE_DIAGONAL] += loose_w
        grad[first:] += weighed @ up - hold
        grad[first + LOOSE.start : first + LOOSE.stop] -= loose_w * dx[LOOSE]
        rep[first:, first:] += self.lengths + contact
        posture = (STUDENT + 1) * float(
            np.log1p(zs**2 / STUDENT).sum() + np.log1p(miss**2 / STUDENT).sum()
        )
        known = float(dx @ hold) + posture
        return Weighed(cost + known, marks_cost + posture, cameras + known, grad, info, rep)

    def habits(self, state: Array) -> Array:
        """What each hand's habit adds to the gradient, (size, q): a column for a kind of mark and
        a direction of its bone, left and right put alike.
        """
        points, k = self.spots.skin, self.marks
        x = state[self.body :]
        posed = skeleton.pose(x[None], self.prior.root)
        at = points.at(x[None], posed)[0]
        slopes = points.slopes(at, posed)
        frames = posed.frames[0, points.segment[:k]]
        kinds = list(dict.fromkeys(self.spots.kinds))
        found = np.zeros((self.size, len(kinds), 3))
        for i, (look, part) in enumerate(zip(self.looks, self.parts, strict=True)):
            cam = slice(CAMERA * i, CAMERA * (i + 1))
            pull = look.pull(state[cam], at[part], slopes[part], frames[part])
            size = self.spots.habits[part] * look.habit
            for mark, own, cm in zip(range(part.start, part.stop), pull, size, strict=True):
                out = np.array([1.0, points.hand[mark], 1.0])
                moved = (out * cm)[:, None] * own
                column = kinds.index(self.spots.kinds[mark])
                found[cam, column] += moved[:, :CAMERA].T
                found[self.body :, column] += moved[:, CAMERA:].T
        return found.reshape(self.size, -1)

    def starts(self) -> list[Array]:
        """The figure at some headlines, laid on the mat, that the marks look most like first."""
        rows = self.prior.starts
        posed = skeleton.pose(rows, self.prior.root)
        points = self.spots.skin.at(rows, posed)
        miss = np.zeros(len(rows))
        shift = np.zeros((len(rows), 3))
        for i, (look, part) in enumerate(zip(self.looks, self.parts, strict=True)):
            moved, left = look.lay(points[:, part], self.prior.sd[:3])
            miss += left
            if i == 0:
                shift = moved
        laid = rows.copy()
        laid[:, :3] += shift
        return [np.concatenate([np.zeros(self.body), laid[i]]) for i in np.argsort(miss)]


def taped(prior: Held, segments_cm: Mapping[str, float]) -> Taped:
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


#: The longest step of a camera and of a body: radians, centimetres along.
_CAMERA_LIMIT = np.array([0.35, 0.35, 0.35, 30.0, 30.0, 30.0, 0.35])
_BODY_LIMIT = np.full(SIZE, 0.35)
_BODY_LIMIT[:3] = 40.0
_BODY_LIMIT[skeleton.FIRST_LENGTH :] = 6.0


def peak(problem: Problem, state: Array) -> Body:
    """Climb to the most probable body from a start."""
    damping = 1e-3
    size, first = problem.size, problem.body
    limit = np.concatenate([np.tile(_CAMERA_LIMIT, len(problem.looks)), _BODY_LIMIT])
    now = problem.weigh(state)
    for _ in range(MOST_STEPS):
        damped = now.information.copy()
        damped.flat[:: size + 1] *= 1.0 + damping
        step = lapack.dposv(damped, now.gradient)[1]
        step *= min(1.0, float(1.0 / np.max(np.abs(step) / limit)))
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
    if not np.isfinite(now.cost):
        raise np.linalg.LinAlgError("nothing to climb to")
    covariance = np.asarray(np.linalg.inv(now.information), dtype=float)
    repeats = covariance @ now.repeats @ covariance
    return Body(
        state[first:],
        covariance[first:, first:],
        repeats[first:, first:],
        np.linalg.cholesky(covariance[first:, first:]),
        now.cost,
        float(np.linalg.slogdet(now.information)[1]),
        now.strain,
        now.unmarked,
        state,
        covariance,
    )


def solve(problem: Problem) -> Body:
    """The most probable body: from the start that looks best, and where that body lies uneasily
    behind the marks from the next ones too, for a climb may end on the wrong side of a limb.
    """
    first, *others = problem.starts()
    best = peak(problem, first)
    if best.strain > UNEASY:
        for start in others[:MORE_STARTS]:
            other = peak(problem, start)
            best = min(best, other, key=lambda b: b.cost)
    return best


@dataclass(frozen=True)
class Solution:
    """A body with the prior it was found under and the marks' points on it.

    ``habits`` (SIZE, q): how far one standard deviation of each of a hand's habits moves it.
    """

    body: Body
    prior: Held
    spots: Seen
    habits: Array

    @property
    def log_weight(self) -> float:
        """Log evidence by Laplace's approximation, up to a constant of the scene."""
        priors = float(np.log(self.prior.sd[LOOSE]).sum() + np.log(self.prior.height_sds).sum())
        likely = -(self.body.cost + self.body.log_det) / 2.0 - priors
        return likely - (LIFTED_ODDS if self.prior.lifted else 0.0)


def bones_of(body: Body, segments_cm: Mapping[str, float]) -> dict[str, Bone]:
    """Thigh and shin as this body tells them by itself: what a tape said is taken out again.

    A taped length is information on the lengths alone, so it is subtracted from theirs.
    """
    at = slice(skeleton.FIRST_LENGTH, SIZE)
    info = np.linalg.inv(body.covariance[at, at])
    pull = info @ body.x[at]
    for name, i in BONES.items():
        if name in segments_cm:
            j = i - skeleton.FIRST_LENGTH
            info[j, j] -= 1.0 / TAPED_SD_CM**2
            pull[j] -= segments_cm[name] / TAPED_SD_CM**2
    free = np.linalg.inv(info)
    lengths = free @ pull
    found = {}
    for name, i in BONES.items():
        j = i - skeleton.FIRST_LENGTH
        sd = float(np.sqrt(free[j, j]))
        share = float(np.sqrt(body.repeats[i, i] / body.covariance[i, i]))
        found[name] = Bone(float(lengths[j]), sd, min(share, 1.0) * sd)
    return found


def angles_of(body: Body, prior: Held) -> tuple[BodyAngle, ...]:
    """Pelvis, spine, hips and knees of a solved body, and which of them were seen."""
    found = []
    for name, i in skeleton.INDEX.items():
        if LOOSE.start <= i < LOOSE.stop and not name.endswith("ankle_flexion"):
            sd = float(np.degrees(np.sqrt(body.covariance[i, i])))
            seen = sd < SEEN * float(np.degrees(prior.sd[i]))
            value = float(np.degrees(body.x[i]))
            found.append(BodyAngle(name.replace(".", "_"), value, sd, seen))
    return tuple(found)


@dataclass(frozen=True)
class View:
    """One photograph of a hold: what was marked on it, its pose entry, camera and facing."""

    scene: Scene
    pose: Pose
    marks: tuple[Mark, ...]
    estimate: CameraEstimate
    forward: float

    @property
    def front(self) -> Array:
        """Where the person's front (lying: the feet) points on this view's floor, (2,)."""
        side = self.pose.view == "side"
        return np.array([self.forward, 0.0]) if side else np.array([0.0, -1.0])


def turn_between(main: View, other: View) -> Array:
    """Takes the first view's world frame to another's: both know where the person faces."""
    (ax, ay), (bx, by) = main.front, other.front
    cos, sin = ax * bx + ay * by, ax * by - ay * bx
    return np.array([[cos, -sin, 0.0], [sin, cos, 0.0], [0.0, 0.0, 1.0]])


def reconstruct(views: tuple[View, ...]) -> tuple[Solution, ...]:
    """Solve one hold from its photographs: one body, or one for each of two ways it may lie.

    The first view's pose and floor are the body's.
    """
    main = views[0]
    scene, variant = main.scene, main.scene.variant
    calibrated = any(v.estimate.method == "mat" for v in views)
    priors, _ = held(main.pose, scene.side, variant, main.forward, calibrated, scene.prop_cm)
    found = []
    for prior in priors:
        spots = together([_seen_in(v, prior, v is views[-1]) for v in views])
        looks, start = [], 0
        for v in views:
            marks = tuple(m for m in v.marks if m.skin.on != "free")
            sds = spots.sds[start : start + len(marks)]
            start += len(marks)
            turn = turn_between(main, v)
            looks.append(Look(v.scene, marks, v.estimate, sds, turn, v is not main))
        problem = Problem(tuple(looks), prior, spots, taped(prior, scene.segments_cm))
        body = solve(problem)
        habits = (body.whole @ problem.habits(body.state))[problem.body :]
        found.append(Solution(body, prior, spots, habits))
    return tuple(found)


def _seen_in(view: View, prior: Held, last: bool) -> Seen:
    scene, variant = view.scene, view.scene.variant
    names = sides_for(view.pose, scene.side, variant, view.forward)
    marks = tuple(m for m in view.marks if m.skin.on != "free")
    how = tuple(scene.skin_way(m.id) for m in marks)
    told = BONES.keys() <= scene.segments_cm.keys()
    return seen(view.pose, marks, names, variant, prior.contacts if last else (), how, told)


def sampled(found: Solution, points: Points) -> tuple[Array, Array, Array, Array]:
    """Points (2n + 1, k, 3) at the peak and one standard deviation either way along n axes.

    Also what of each pair of axes repeats with the person, (n, n), how far habits go along them,
    (n, q), and the axes' unknowns.
    """
    body, root = found.body, found.body.root
    rows = np.concatenate([body.x[None], body.x + root.T, body.x - root.T])
    posed = skeleton.pose(rows, found.prior.root)
    half = np.linalg.solve(root, body.repeats)
    repeats = np.linalg.solve(root, half.T)
    habits = np.asarray(np.linalg.solve(root, found.habits), dtype=float)
    return points.at(rows, posed), (repeats + repeats.T) / 2.0, habits, rows
