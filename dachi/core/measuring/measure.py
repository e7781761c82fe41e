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
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import DEFAULT_SEGMENTS_CM, MODES, SIDES
from dachi.core.body.pinhole import DEFAULT_FOCAL_35MM, focal_in_px
from dachi.core.catalogue.formula import Formula, Frame
from dachi.core.catalogue.poses import Catalogue, Check, Mark, Measure, Pose, agrees
from dachi.core.measuring import calibration, plausible, reconstruct
from dachi.core.measuring import checks as compensations
from dachi.core.measuring.angle_fans import lay_fan
from dachi.core.measuring.assumptions import Assumptions
from dachi.core.measuring.body_priors import SLIDES
from dachi.core.measuring.calibration import CameraError, CameraEstimate
from dachi.core.measuring.figure_match import MISFIT_LIMIT, match_figure
from dachi.core.measuring.lengths import lengths_of
from dachi.core.measuring.perturbations import Batch, solve
from dachi.core.measuring.scene import CheckResult, LaidFan, Reading, Result, Scene, SceneError

Array = NDArray[np.float64]

Z95 = 1.959964


#: A headline less certain than this deserves a word.
DOUBTFUL_SD_DEG = 5.0
#: Marks whose spread is so many times a click's are not clicked.
LOOSE = 2.0
#: Log odds against a reading outside what hips do.
IMPLAUSIBLE = 7.0

#: What marks and posture cost a body in the pose (95 % of clean shots: 4 to 26), and beyond what
#: it is none.
EASY, STRAINED = 36.0, 90.0
#: Log odds at which another way to see a scene no longer matters.
NEGLIGIBLE = 9.0

DEFAULT_ASSUMPTIONS = Assumptions()


def measure(
    scene: Scene,
    catalogue: Catalogue,
    assumptions: Assumptions = DEFAULT_ASSUMPTIONS,
) -> Result:
    """Compute the readings and checks of one scene.

    Raises SceneError with a sentence for the person where nothing can be measured:
    unknown pose, missing or impossible marks, corners that cannot be a mat.
    Measures whose optional marks are absent are left out.
    """
    if scene.views:
        return _measure_together(scene, catalogue)
    pose = _pose_of(scene, catalogue)
    marks = _usable_marks(scene, pose)
    return _measure(scene, pose, marks, _camera(scene, pose, marks), assumptions)


def _measure_together(scene: Scene, catalogue: Catalogue) -> Result:
    """One result from several photographs of one hold, told by the pose's own view."""
    views = []
    for i, v in enumerate(scene.views, start=1):
        own = scene.seen_in(v)
        try:
            pose = _pose_of(own, catalogue, together=True)
            marks = _usable_marks(own, pose)
            own = replace(own, variant=pose.chosen(own.variant))
            forward, _ = _forward(own, pose)
            views.append(reconstruct.View(own, pose, marks, _camera(own, pose, marks), forward))
        except SceneError as error:
            raise SceneError(f"photograph {i} ({v.view}): {error}") from error
    views.sort(key=lambda v: v.pose.id != scene.pose)
    main = views[0]
    result = _read(main.scene, main.pose, main.marks, _batches(tuple(views)))
    weakest = max((v.estimate.method for v in views), key=("mat", "level", "picture").index)
    return replace(result, method=weakest)


def camera_of(scene: Scene, catalogue: Catalogue) -> CameraEstimate | None:
    """The camera that the mat's corners tell, whatever the marks; None without a mat.

    Raises SceneError as ``measure`` does.
    """
    return _camera(scene, _pose_of(scene, catalogue), ()) if scene.mat is not None else None


def _pose_of(scene: Scene, catalogue: Catalogue, together: bool = False) -> Pose:
    if scene.pose not in catalogue:
        raise SceneError(f"there is no pose called {scene.pose!r} in the catalogue")
    try:
        return catalogue.seen_from(scene.pose, scene.view, together)
    except KeyError as error:
        usual = catalogue.pose(scene.pose)
        raise SceneError(
            f"{usual.name} is photographed from the {usual.view}, not from the {scene.view}"
        ) from error


def measure_with(
    scene: Scene,
    pose: Pose,
    estimate: CameraEstimate,
    assumptions: Assumptions,
) -> Result:
    """Compute readings through a camera that is already known (see ``measure``)."""
    return _measure(scene, pose, _usable_marks(scene, pose), estimate, assumptions)


def _measure(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    estimate: CameraEstimate,
    assumptions: Assumptions,
) -> Result:
    scene = replace(scene, variant=pose.chosen(scene.variant))
    if any(scene.marked_as(m.id) != "joint" for m in marks):
        return _read(scene, pose, marks, _on_body(scene, pose, marks, estimate))
    batches = solve(scene, pose, marks, estimate, assumptions)
    if estimate.rival is not None:
        apart = (estimate.rival.chi2 - estimate.chi2) / 2.0
        for batch in solve(scene, pose, marks, estimate.rival, assumptions):
            batches += (replace(batch, log_weight=batch.log_weight - apart),)
    return _read(scene, pose, marks, batches)


def _on_body(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    estimate: CameraEstimate,
    beside: tuple[reconstruct.View, ...] = (),
) -> tuple[Batch, ...]:
    """The marks' joint centres on the most probable bodies, with their uncertainty."""
    forward, _ = _forward(scene, pose)
    view = reconstruct.View(scene, pose, marks, estimate, forward)
    return _batches((view, *beside))


def _solved(views: tuple[reconstruct.View, ...]) -> tuple[reconstruct.Solution, ...]:
    try:
        return reconstruct.reconstruct(views)
    except np.linalg.LinAlgError as error:
        raise SceneError(
            "no body fits these marks: look whether each is on its joint, and at the mat's corners"
        ) from error


def _batches(views: tuple[reconstruct.View, ...]) -> tuple[Batch, ...]:
    main = views[0]
    scene, marks, estimate = main.scene, main.marks, main.estimate
    found = []
    for solution in _solved(views):
        spots = solution.spots
        at, repeats, rows = reconstruct.sampled(solution.body, solution.prior, spots.joints)
        points = {name: at[:, i] for i, name in enumerate(spots.names)}
        for m in marks:
            if m.skin.on == "free":
                points[m.id] = _beside(scene.marks[m.id], points["own_hip"], estimate)
        n = len(repeats)
        found.append(
            Batch(
                estimate,
                points,
                np.zeros(n),
                np.eye(n),
                solution.log_weight,
                (),
                (),
                repeats,
                spots.angles(rows),
                solution.body.strain,
                reconstruct.bones_of(solution.body, scene.segments_cm),
                reconstruct.angles_of(solution.body, solution.prior),
            )
        )
    best = max(b.log_weight for b in found)
    return tuple(b for b in found if b.log_weight > best - NEGLIGIBLE)


def _beside(px: tuple[float, float], at: Array, estimate: CameraEstimate) -> Array:
    """Where a mark's ray passes a point (s, 3) at its own depth along the picture."""
    camera = estimate.camera
    ray = camera.rotation.T @ np.array([*((np.array(px) - camera.centre) / camera.focal_px), 1.0])
    deep = int(np.argmax(np.abs(camera.rotation[2])))
    reach = (at[:, deep] - camera.position[deep]) / ray[deep]
    return np.asarray(camera.position + reach[:, None] * ray)


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
            if a.touches or b.touches:
                continue
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
            return calibration.solve_mat(
                scene.mat, pose.view, im.width, im.height, im.focal_35mm, corner_sd
            )
        f = focal_in_px(im.focal_35mm or DEFAULT_FOCAL_35MM, im.width, im.height)
        distance = f * _cm_per_px(scene, marks)
        return calibration.assume_square(
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


def _read(scene: Scene, pose: Pose, marks: tuple[Mark, ...], batches: tuple[Batch, ...]) -> Result:
    forward, said = _forward(scene, pose)
    present = {m.id for m in marks}
    calibrated = batches[0].estimate.method == "mat"
    taken, checked = _readable(scene, pose, present, calibrated, bool(batches[0].angles))
    known = {m.id for m in taken}
    heads = [m.heads(scene.variant) and m.headline_unless not in known for m in taken]
    if not any(heads):
        raise SceneError(
            "the marks do not give this pose's main measure"
            if calibrated
            else "this pose cannot be read without the mat: mark its four corners"
        )
    wanted: list[Measure | Check] = [*taken, *checked]
    modes = [_Frames(scene, pose, batch, forward) for batch in batches]
    widths = np.ones((2, len(wanted)))
    if batches[0].angles:
        # Priors are wider than people; by how much was fitted on bodies (see HeldStill).
        width = np.array([[pose.held.width], [pose.held.change_width]])
        if any(scene.sd_of(m.id) > LOOSE * scene.sd_of("") for m in marks):
            # Fitted to clicks: marks this loose miss together, which priors do not know.
            width = np.maximum(width, 1.0)
        widths[:, : len(heads)] = np.where(heads, width, 1.0)
    values, sds, changes, frames = _blend(modes, wanted, heads.index(True), widths)
    changes = np.minimum(changes, sds)
    batch = frames.batch
    warnings = [*batch.estimate.warnings, *batch.warnings, *said]
    if any(scene.skin_way(m.id) == "sliding" and m.body.endswith(SLIDES) for m in marks):
        warnings.append(
            "stickers put on while standing have slid over hip, pelvis and shoulder: the interval "
            "allows for it; put on in the pose they tell more"
        )
    if any(b.estimate is not batch.estimate for b in batches):
        warnings.append(
            "two camera positions explain the corners equally well: the readings allow for "
            "both; mark the corners again or raise the camera"
        )
    if len({b.strain for b in batches}) > 1:
        warnings.append(
            "whether the limb lies on the floor or is held up is not plain from this photograph: "
            "say the height of its support (0 on the floor), or photograph the hold from the "
            "side as well"
        )
    readings = [
        Reading(m.id, m.label, m.unit, v, sd, v - Z95 * sd, v + Z95 * sd, main, m.apparent, change)
        for m, main, v, sd, change in zip(
            taken, heads, values.tolist(), sds.tolist(), changes.tolist(), strict=False
        )
    ]
    doubtful = next((r for r in readings if r.headline and r.unit == "deg"), None)
    if calibrated and doubtful is not None and doubtful.sd > DOUBTFUL_SD_DEG:
        warnings.append(
            f"from this camera the {doubtful.label} is only good to ± {Z95 * doubtful.sd:.0f}°: "
            "raise the camera, come closer, or photograph the same hold from the side as well"
        )
    after = len(taken)
    results = [
        compensations.judge(c, float(v), float(sd))
        for c, v, sd in zip(checked, values[after:], sds[after:], strict=True)
    ]
    results += batch.foreshortened
    results += _strange(scene, pose, marks, batch)
    return Result(
        id=scene.id,
        method=batch.estimate.method,
        pose=pose.id,
        readings=tuple(readings),
        checks=tuple(results),
        camera=batch.estimate.camera if calibrated else None,
        warnings=tuple(warnings),
        fans=_fans(taken, readings, frames, present),
        bones=batch.bones if calibrated else {},
        body=batch.body,
    )


def _fans(
    taken: Sequence[Measure], readings: Sequence[Reading], frames: _Frames, present: set[str]
) -> tuple[LaidFan, ...]:
    """The fans of headlines whose lines are marked."""
    camera = frames.batch.estimate.camera
    found = [
        lay_fan(m.id, m.fan, frames.at(m.outward, m.fan.plane), camera, r.value, r.sd)
        for m, r in zip(taken, readings, strict=True)
        if r.headline and m.fan is not None and {m.fan.vertex, m.fan.to} <= present
    ]
    return tuple(fan for fan in found if fan is not None)


def _strange(
    scene: Scene, pose: Pose, marks: tuple[Mark, ...], batch: Batch
) -> Iterator[CheckResult]:
    """What says that these marks are no such pose, no body, or the other side."""
    misfit = match_figure(pose, scene.side, scene.variant, scene.marks).misfit
    if batch.strain is not None:
        # A body that lies easily behind the marks is the pose, whatever the figure looks like.
        misfit = 0.0 if batch.strain < EASY else max(misfit, batch.strain / STRAINED * MISFIT_LIMIT)
    points = np.array([batch.points[m.id][0] for m in marks])
    if batch.strain is not None:
        # A body always has limbs that somebody has: what was marked, at its depth, need not.
        deep = {m.id: "own_hip" if pose.view == "side" else m.id for m in marks}
        at = [_beside(scene.marks[n], batch.points[d][:1], batch.estimate) for n, d in deep.items()]
        points = np.concatenate(at)
    calibrated = batch.estimate.method == "mat"
    for found in (
        compensations.judge_figure_match(pose.name, misfit, MISFIT_LIMIT),
        plausible.judge_body(scene, marks, lengths_of(marks, points), calibrated),
        plausible.judge_side(scene, pose),
    ):
        if found is not None:
            yield found


def _readable(
    scene: Scene, pose: Pose, present: set[str], calibrated: bool, on_body: bool
) -> tuple[list[Measure], list[Check]]:
    """Measures and checks that these marks and this camera can tell."""

    def usable(formula: Formula, known: set[str]) -> bool:
        if formula.marks <= present and formula.measures <= known and on_body >= formula.on_body:
            return calibrated or not (formula.in_cm or (formula.deep and pose.plane != "floor"))
        return False

    taken: list[Measure] = []
    for m in pose.measures:
        if not set(m.needs) <= present:
            continue
        if agrees(m.when, scene.variant) and usable(m.formula, {t.id for t in taken}):
            if m.unit == "ratio" and not calibrated:
                continue
            taken.append(m)
    known = {m.id for m in taken}
    checked = [
        c
        for c in pose.checks
        if compensations.applies(c, scene.variant) and usable(c.formula, known)
    ]
    return taken, checked


class _Frames:
    """Evaluates formulas on a batch, in one frame for each direction they count from."""

    def __init__(self, scene: Scene, pose: Pose, batch: Batch, forward: float) -> None:
        self._scene, self._pose, self._forward = scene, pose, forward
        self.batch = batch
        self._points = with_hips(batch.points)
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
                self._points, key[1], sign, self._values, angles=self.batch.angles
            )
        return self._frames[key]

    def evaluate(self, wanted: Sequence[Measure | Check]) -> tuple[Array, Array, Array]:
        """Values, standard deviations and those of changes (m,), in the order asked for."""
        size = 2 * len(self.batch.shift) + 1
        rows = np.empty((len(wanted), size))
        for i, m in enumerate(wanted):
            values = m.formula(self.at(m.outward))
            rows[i] = values
            if isinstance(m, Measure):
                self._values[m.id] = values
        return self.batch.mean_sd(rows)


def _blend(
    modes: list[_Frames], wanted: Sequence[Measure | Check], headline: int, widths: Array
) -> tuple[Array, Array, Array, _Frames]:
    """Values and standard deviations (of changes too) over all solutions, and the likeliest.

    Solutions are weighed by how well they explain what is known, and by whether the
    headline is an angle a hip can have; mean and variance are those of the mixture. ``widths``
    (2, m) scale each solution's own spread and that of its change, not what lies between them.
    """
    found = [m.evaluate(wanted) for m in modes]
    all_values, all_sds, all_changes = (np.array(part) for part in zip(*found, strict=True))
    all_sds, all_changes = all_sds * widths[0], all_changes * widths[1]
    if len(modes) == 1:
        return all_values[0], all_sds[0], all_changes[0], modes[0]
    logs = np.array([m.batch.log_weight for m in modes])
    main = wanted[headline]
    if isinstance(main, Measure) and main.plausible is not None:
        low, high = main.plausible
        beyond = np.maximum(low - all_values[:, headline], all_values[:, headline] - high)
        logs = logs - np.where(beyond > 0, IMPLAUSIBLE, 0.0)
    weights = np.exp(logs - logs.max())
    weights /= weights.sum()
    mean = weights @ all_values
    apart = weights @ (all_values - mean) ** 2
    sds, changes = (np.sqrt(weights @ part**2 + apart) for part in (all_sds, all_changes))
    return mean, sds, changes, modes[int(np.argmax(weights))]


def with_hips(points: Mapping[str, Array]) -> dict[str, Array]:
    """Points with a hip for either side: where one mark stands for both, it is both."""
    found = dict(points)
    if "hip" in found:
        found.setdefault("own_hip", found["hip"])
        found.setdefault("other_hip", found["hip"])
    return found


def true_values(pose: Pose, scene: Scene, points: Mapping[str, Array]) -> dict[str, float]:
    """Evaluate a pose's measures on points known in space, (3,) cm each.

    What a perfect camera and perfect marks would read: the truth that simulated pictures
    are compared with. ``scene`` gives side and variant; facing is the camera's.
    """
    batch = with_hips({k: np.asarray(p, dtype=float)[None] for k, p in points.items()})
    a, b = pose.facing
    forward = 1.0
    if pose.view == "side":
        forward = math.copysign(1.0, float(batch[b][0, 0] - batch[a][0, 0]))
    values: dict[str, Array] = {}
    for m in pose.measures:
        if not (m.formula.marks <= set(batch) and m.formula.measures <= set(values)):
            continue
        if m.formula.on_body:
            # Points alone have no joint angles.
            continue
        if agrees(m.when, pose.chosen(scene.variant)):
            side = scene.side if m.outward == "side" else m.outward
            sign = forward if side is None else forward * (-1.0 if side == "right" else 1.0)
            values[m.id] = m.formula(Frame(batch, pose.plane, sign, values))
    return {k: float(v[0]) for k, v in values.items()}


def _forward(scene: Scene, pose: Pose) -> tuple[float, list[str]]:
    """Return +1 or -1 for the picture direction readings count from.

    Side view: towards the feet or the front leg. Front view: towards the person's
    left, which is the picture's right when they face the camera; ``facing`` then runs
    from right to left, or to the measured side where one side is measured.
    """
    said: list[str] = []
    seen = 0.0
    a, b = pose.facing
    if a in scene.marks and b in scene.marks:
        seen = math.copysign(1.0, scene.marks[b][0] - scene.marks[a][0])
    if pose.view == "front":
        if scene.side == "right" and pose.mark(b).body.startswith("side."):
            seen = -seen
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
