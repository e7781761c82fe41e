"""A scene in, readings with their uncertainty out: the one entrance is ``measure``.

Every input that is not exactly known (marks, camera, focal length, where the body
lies, how far limbs point out of their plane) is an independent nuisance with a
standard deviation. All of them are stepped one at a time, the whole batch of
perturbed scenes is solved at once, and central differences give each reading's
derivative to each nuisance: first-order propagation with a numerical Jacobian.
Known segment lengths are then folded in as observations (a linear Gaussian
update), which helps exactly where a limb's length says something about its depth.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dachi.core import camera as cameras
from dachi.core import checks as judging
from dachi.core.anatomy import DEFAULT_SEGMENTS_CM, MODES, SIDES
from dachi.core.camera import CameraError, CameraEstimate
from dachi.core.catalogue import Catalogue, Mark, Pose
from dachi.core.fan import draw_fan
from dachi.core.formula import Formula, Frame
from dachi.core.nuisance import Assumptions, Batch, implausibility, solve
from dachi.core.scene import Reading, Result, Scene, SceneError

Array = NDArray[np.float64]

Z95 = 1.959964


DEFAULT_ASSUMPTIONS = Assumptions()


def measure(
    scene: Scene,
    catalogue: Catalogue,
    assumptions: Assumptions = DEFAULT_ASSUMPTIONS,
    *,
    drawn: bool = False,
) -> Result:
    """Compute the readings and checks of one scene.

    Raises SceneError with a sentence for the person where nothing can be measured:
    unknown pose, missing or impossible marks, corners that cannot be a mat.
    Measures whose optional marks are absent are left out. ``drawn`` adds the fans.
    """
    if scene.pose not in catalogue:
        raise SceneError(f"there is no pose called {scene.pose!r} in the catalogue")
    pose = catalogue.pose(scene.pose)
    marks = _usable_marks(scene, pose)
    return measure_with(scene, pose, _camera(scene, pose, marks), assumptions, drawn=drawn)


def measure_with(
    scene: Scene,
    pose: Pose,
    estimate: CameraEstimate,
    assumptions: Assumptions,
    *,
    drawn: bool = False,
) -> Result:
    """Compute readings through a camera that is already known (see ``measure``)."""
    marks = _usable_marks(scene, pose)
    batch = solve(scene, pose, marks, estimate, assumptions)
    rival = None
    if estimate.rival is not None:
        rival = solve(scene, pose, marks, estimate.rival, assumptions)
        if implausibility(rival) < implausibility(batch) - 1.0:
            batch, rival = rival, batch
        elif implausibility(rival) > implausibility(batch) + 9.0:
            rival = None
    return _read(scene, pose, marks, batch, rival, drawn)


# ---------------------------------------------------------------- what came in


def _usable_marks(scene: Scene, pose: Pose) -> tuple[Mark, ...]:
    if scene.side not in SIDES:
        raise SceneError(f"the side is {scene.side!r}; it must be left, right or both")
    if scene.mode not in MODES:
        raise SceneError(f"the mode is {scene.mode!r}; it must be active or passive")
    w, h = scene.image.width, scene.image.height
    known = {m.id: m for m in pose.marks}
    for name, (x, y) in scene.marks.items():
        if name not in known:
            continue
        if not (math.isfinite(x) and math.isfinite(y)):
            raise SceneError(f"the mark {known[name].label} has no usable position")
        if not (0 <= x <= w and 0 <= y <= h):
            raise SceneError(
                f"the mark {known[name].label} lies outside the picture: drag it back, or take "
                "the photo again with the whole body in it"
            )
    missing = [known[m].label for m in pose.required if m not in scene.marks]
    if missing:
        raise SceneError(f"still to mark: {', '.join(missing)}")
    present = tuple(m for m in pose.marks if m.id in scene.marks)
    for i, a in enumerate(present):
        for b in present[:i]:
            (ax, ay), (bx, by) = scene.marks[a.id], scene.marks[b.id]
            if math.hypot(ax - bx, ay - by) < 2e-3 * max(w, h):
                raise SceneError(
                    f"the marks {b.label} and {a.label} are on the same spot: move one of them"
                )
    return present


def _camera(scene: Scene, pose: Pose, marks: tuple[Mark, ...]) -> CameraEstimate:
    im = scene.image
    sd = scene.sd_of("")
    try:
        if scene.mat is not None:
            # A corner is crisper than a joint: two thirds of a mark's spread.
            corner_sd = max(sd * 2 / 3, max(im.width, im.height) / 1600.0)
            return cameras.solve_mat(
                scene.mat, scene.view or pose.view, im.width, im.height, im.focal_35mm, corner_sd
            )
        f = cameras.focal_in_px(im.focal_35mm or cameras.DEFAULT_FOCAL_35MM, im.width, im.height)
        distance = f * _cm_per_px(scene, marks)
        return cameras.assume_square(
            im.width, im.height, im.focal_35mm, pose.plane, distance, scene.level, sd
        )
    except CameraError as error:
        raise SceneError(str(error)) from error


def _cm_per_px(scene: Scene, marks: tuple[Mark, ...]) -> float:
    """Rough scale of an uncalibrated picture, from the longest segment seen."""
    seen = [
        (math.dist(scene.marks[m.id], scene.marks[m.parent]), _length_of(scene, m.segment))
        for m in marks
        if m.segment and m.parent and m.parent in scene.marks
    ]
    if not seen:
        return 300.0 / max(scene.image.width, scene.image.height)
    px, cm = max(seen)
    return cm / px


def _length_of(scene: Scene, segment: str) -> float:
    return scene.segments_cm.get(segment, DEFAULT_SEGMENTS_CM.get(segment, 42.0))


# ---------------------------------------------------------------- readings


def _read(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    batch: Batch,
    rival: Batch | None,
    drawn: bool,
) -> Result:
    warnings = list(batch.estimate.warnings) + list(batch.warnings)
    forward, said = _forward(scene, pose)
    warnings += said
    present = {m.id for m in marks}
    calibrated = batch.estimate.method == "mat"
    frames = _Frames(scene, pose, batch, forward)
    rivals = _Frames(scene, pose, rival, forward) if rival else None
    if rivals:
        warnings.append(
            "two camera positions explain the corners equally well: the readings allow for "
            "both; mark the corners again or raise the camera"
        )
    readings: list[Reading] = []
    fans = []
    for m in pose.measures:
        if not _computable(m.formula, present, {r.id for r in readings}):
            continue
        if m.unit == "cm" and not calibrated:
            continue
        value, sd = frames.evaluate(m.formula, m.outward, m.id)
        if rivals:
            other, _ = rivals.evaluate(m.formula, m.outward, m.id)
            sd = math.hypot(sd, (value - other) / 2)
        readings.append(
            Reading(
                m.id,
                m.label,
                m.unit,
                value,
                sd,
                value - Z95 * sd,
                value + Z95 * sd,
                m.headline,
                m.apparent,
            )
        )
        if drawn and m.fan is not None and {m.fan.vertex, m.fan.to} <= present:
            fan = draw_fan(m.id, m.fan, frames.at(m.outward), batch.estimate.camera, value, sd)
            if fan is not None:
                fans.append(fan)
    if not any(r.headline for r in readings):
        raise SceneError("the marks do not give this pose's main measure")
    results = [
        judging.judge(check, *frames.evaluate(check.formula, check.outward, None))
        for check in pose.checks
        if judging.applies(check, scene.variant)
        and _computable(check.formula, present, {r.id for r in readings})
        and (calibrated or not check.formula.in_cm)
    ]
    results += batch.foreshortened
    return Result(
        id=scene.id,
        method=batch.estimate.method,
        pose=pose.id,
        readings=tuple(readings),
        checks=tuple(results),
        camera=batch.estimate.camera if calibrated else None,
        warnings=tuple(warnings),
        fans=tuple(fans),
    )


def _computable(formula: Formula, marks: set[str], measures: set[str]) -> bool:
    return formula.marks <= marks and formula.measures <= measures


class _Frames:
    """Evaluates formulas on a batch, once for each direction they count from."""

    def __init__(self, scene: Scene, pose: Pose, batch: Batch, forward: float) -> None:
        self._scene, self._pose, self._batch, self._forward = scene, pose, batch, forward
        self._values: dict[str, Array] = {}

    def at(self, outward: str | None) -> Frame:
        sign = self._forward
        if outward is not None:
            side = self._scene.side if outward == "side" else outward
            sign = self._forward * (-1.0 if side == "right" else 1.0)
        return Frame(self._batch.points, self._pose.plane, sign, self._values)

    def evaluate(
        self, formula: Formula, outward: str | None, keep_as: str | None
    ) -> tuple[float, float]:
        values = formula(self.at(outward))
        if keep_as is not None:
            self._values[keep_as] = values
        return self._batch.mean_sd(values)


def _forward(scene: Scene, pose: Pose) -> tuple[float, list[str]]:
    """Return +1 or -1 for the picture direction readings count from.

    Side view: towards the feet or the front leg. Front view: towards the person's
    left, which is the picture's right when they face the camera.
    """
    said: list[str] = []
    seen = 0.0
    a, b = pose.facing
    if a in scene.marks and b in scene.marks:
        seen = math.copysign(1.0, scene.marks[b][0] - scene.marks[a][0])
    if pose.view == "front":
        if seen < 0:
            said.append(
                "left and right look swapped: is the picture mirrored, or does the person "
                "face away?"
            )
        return seen or 1.0, said
    stated = {"left": -1.0, "right": 1.0}.get(scene.facing or "", 0.0)
    if stated and seen and stated != seen:
        word = "left" if seen < 0 else "right"
        said.append(
            f"the {pose.facing_what} point {word} in the marks but not in what was said: is the "
            "picture mirrored, or are two marks swapped?"
        )
    return stated or seen or 1.0, said
