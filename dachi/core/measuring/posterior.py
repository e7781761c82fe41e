"""Bodies behind the marks of a hold, and what they tell of any formula over them.

Each solved body is a peak with a covariance; points and joint angles are taken there and one
standard deviation either way along its own axes, so that central differences give a formula's
derivative to each. Where a hold may be seen in two ways the bodies are weighed by their evidence.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.formula import Frame
from dachi.core.catalogue.poses import Check, Measure, Pose
from dachi.core.measuring import reconstruct
from dachi.core.measuring.bones import BodyAngle, Bone
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.reconstruct import View
from dachi.core.measuring.scene import Scene, SceneError

Array = NDArray[np.float64]

#: What of a habit's variance is left in a change between two readings of one hand.
HABIT_IN_CHANGE = 0.2
#: How alike what repeats with a person is in two shots of one pose at different angles.
ALIKE = 0.8
#: Log odds against a reading outside what hips do.
IMPLAUSIBLE = 7.0
#: Log odds at which another way to see a scene no longer matters.
NEGLIGIBLE = 9.0


@dataclass(frozen=True)
class Posterior:
    """One body behind the marks, as points in space.

    ``points``: mark or joint to (2n + 1, 3) in cm; row 0 is the peak, rows 1..n one standard
    deviation up along each of the body's own axes, rows n+1..2n one down. ``repeats`` (n, n) is
    the part of the unit covariance of these axes that repeats with the person, ``habits`` (n, q)
    how far one standard deviation of each of a hand's habits goes along them. ``angles``
    (2n + 1,) are joint angles, degrees, ``strain`` what marks and posture cost, ``bones`` its
    lengths, ``body`` its joints. ``log_weight`` compares it with others of the same scene.
    """

    estimate: CameraEstimate
    points: Mapping[str, Array]
    repeats: Array
    habits: Array
    angles: Mapping[str, Array]
    log_weight: float
    strain: float
    bones: Mapping[str, Bone]
    body: tuple[BodyAngle, ...]

    def told(self, values: Array) -> tuple[Array, Array, Array, Array]:
        """Values and standard deviations (m,) of evaluated formulas (m, 2n + 1).

        The third are standard deviations of one reading's share in a change: without what repeats
        with the person, as far as that is alike in two shots of one pose. The fourth are what the
        habit of the hand that marked adds to a value, in neither of the others.
        """
        n = len(self.repeats)
        up, down = values[:, 1 : n + 1], values[:, n + 1 :]
        slope = (up - down) / 2.0
        # Second-order part of each axis alone: Var(h z^2 / 2) = h^2 / 2.
        bend = up + down - 2.0 * values[:, :1]
        variance = np.sum(slope**2, axis=1) + np.sum(bend**2, axis=1) / 2.0
        new = variance - ALIKE * np.sum((slope @ self.repeats) * slope, axis=1)
        habit = np.linalg.norm(slope @ self.habits, axis=1)
        return values[:, 0], np.sqrt(variance), np.sqrt(np.maximum(new, 0.0)), habit


def posteriors(views: tuple[View, ...]) -> tuple[Posterior, ...]:
    """The bodies that explain one hold's photographs, the unlikely left out.

    Raises SceneError where no body does. Where two camera positions explain the corners, both
    are tried.
    """
    found = list(_bodies(views))
    main = views[0]
    if main.estimate.rival is not None:
        rival = replace(main, estimate=main.estimate.rival)
        apart = (main.estimate.rival.chi2 - main.estimate.chi2) / 2.0
        found += [replace(p, log_weight=p.log_weight - apart) for p in _bodies((rival, *views[1:]))]
    best = max(p.log_weight for p in found)
    return tuple(p for p in found if p.log_weight > best - NEGLIGIBLE)


def _bodies(views: tuple[View, ...]) -> tuple[Posterior, ...]:
    main = views[0]
    scene, estimate = main.scene, main.estimate
    try:
        solutions = reconstruct.reconstruct(views)
    except np.linalg.LinAlgError as error:
        raise SceneError(
            "no body fits these marks: look whether each is on its joint, and at the mat's corners"
        ) from error
    found = []
    for solution in solutions:
        spots = solution.spots
        at, repeats, habits, rows = reconstruct.sampled(solution, spots.joints)
        points = {name: at[:, i] for i, name in enumerate(spots.names)}
        for m in main.marks:
            if m.skin.on == "free":
                points[m.id] = beside(scene.marks[m.id], points["own_hip"], estimate)
        found.append(
            Posterior(
                estimate,
                points,
                repeats,
                habits,
                spots.angles(rows),
                solution.log_weight,
                solution.body.strain,
                reconstruct.bones_of(solution.body, scene.segments_cm),
                reconstruct.angles_of(solution.body, solution.prior),
            )
        )
    return tuple(found)


def beside(px: tuple[float, float], at: Array, estimate: CameraEstimate) -> Array:
    """Where a mark's ray passes a point (s, 3) at its own depth along the picture."""
    camera = estimate.camera
    ray = camera.rotation.T @ np.array([*((np.array(px) - camera.centre) / camera.focal_px), 1.0])
    deep = int(np.argmax(np.abs(camera.rotation[2])))
    reach = (at[:, deep] - camera.position[deep]) / ray[deep]
    return np.asarray(camera.position + reach[:, None] * ray)


class Frames:
    """Evaluates formulas on a body, in one frame for each direction they count from."""

    def __init__(self, scene: Scene, pose: Pose, body: Posterior, forward: float) -> None:
        self._scene, self._pose, self._forward = scene, pose, forward
        self.body = body
        self._points = with_hips(body.points)
        self._values: dict[str, Array] = {}
        self._frames: dict[tuple[str | None, str], Frame] = {}

    def at(self, outward: str | None, plane: str | None = None) -> Frame:
        key = (outward, plane or self._pose.plane)
        if key not in self._frames:
            sign = self._forward
            if outward is not None:
                side = self._scene.side if outward == "side" else outward
                sign = self._forward * (-1.0 if side == "right" else 1.0)
            self._frames[key] = Frame(
                self._points, key[1], sign, self._values, angles=self.body.angles
            )
        return self._frames[key]

    def evaluate(self, wanted: Sequence[Measure | Check]) -> tuple[Array, ...]:
        """What the body tells (see ``Posterior.told``) of what is asked, in that order."""
        size = 2 * len(self.body.repeats) + 1
        rows = np.empty((len(wanted), size))
        for i, m in enumerate(wanted):
            values = m.formula(self.at(m.outward))
            rows[i] = values
            if isinstance(m, Measure):
                self._values[m.id] = values
        return self.body.told(rows)


def blend(
    modes: list[Frames], wanted: Sequence[Measure | Check], headline: int, widths: Array
) -> tuple[Array, Array, Array, Frames]:
    """Values and standard deviations (of changes too) over all bodies, and the likeliest.

    Bodies are weighed by how well they explain what is known, and by whether the
    headline is an angle a hip can have; mean and variance are those of the mixture. ``widths``
    (2, m) scale each body's own spread and that of its change, not what lies between bodies, nor
    what a hand's habit adds: all of its variance to a value, a part of it to a change.
    """
    found = [m.evaluate(wanted) for m in modes]
    values, sds, changes, habits = (np.array(part) for part in zip(*found, strict=True))
    sds = np.hypot(sds * widths[0], habits)
    changes = np.hypot(changes * widths[1], np.sqrt(HABIT_IN_CHANGE) * habits)
    if len(modes) == 1:
        return values[0], sds[0], changes[0], modes[0]
    logs = np.array([m.body.log_weight for m in modes])
    main = wanted[headline]
    if isinstance(main, Measure) and main.plausible is not None:
        low, high = main.plausible
        beyond = np.maximum(low - values[:, headline], values[:, headline] - high)
        logs = logs - np.where(beyond > 0, IMPLAUSIBLE, 0.0)
    weights = np.exp(logs - logs.max())
    weights /= weights.sum()
    mean = weights @ values
    apart = weights @ (values - mean) ** 2
    sds, changes = (np.sqrt(weights @ part**2 + apart) for part in (sds, changes))
    return mean, sds, changes, modes[int(np.argmax(weights))]


def with_hips(points: Mapping[str, Array]) -> dict[str, Array]:
    """Points with a hip for either side: where one mark stands for both, it is both."""
    found = dict(points)
    if "hip" in found:
        found.setdefault("own_hip", found["hip"])
        found.setdefault("other_hip", found["hip"])
    return found
