"""Readings, checks and warnings of a scene, told from the bodies behind its marks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.formula import Formula
from dachi.core.catalogue.poses import Check, Mark, Measure, Pose, agrees
from dachi.core.measuring import checks as compensations
from dachi.core.measuring import plausible
from dachi.core.measuring.angle_fans import lay_fan
from dachi.core.measuring.asked import forward_of
from dachi.core.measuring.body_priors import SLIDES
from dachi.core.measuring.figure_match import MISFIT_LIMIT, match_figure
from dachi.core.measuring.posterior import Frames, Posterior, beside, blend
from dachi.core.measuring.reconstruct import BONES
from dachi.core.measuring.scene import CheckResult, LaidFan, Reading, Result, Scene, SceneError
from dachi.core.rules import Z95

Array = NDArray[np.float64]

#: A headline less certain than this deserves a word.
DOUBTFUL_SD_DEG = 5.0
#: Marks whose spread is so many times a click's are not clicked.
LOOSE = 2.0
#: What marks and posture cost a body in the pose (95 % of clean shots: 4 to 26), and beyond what
#: it is none.
EASY, STRAINED = 36.0, 90.0


def read(scene: Scene, pose: Pose, marks: tuple[Mark, ...], found: tuple[Posterior, ...]) -> Result:
    """What the bodies behind a scene's marks tell.

    Raises SceneError where these marks, or this picture without a mat, do not give the pose's
    main measure.
    """
    forward, said = forward_of(scene, pose)
    calibrated = found[0].estimate.method == "mat"
    if pose.needs_mat and not calibrated:
        raise SceneError(
            f"{pose.name} cannot be read without the mat: an angle on the floor says nothing "
            "without it. Mark the mat's four corners, or photograph it again with the mat or cards"
        )
    present = {m.id for m in marks}
    taken, checked = _readable(scene, pose, present, calibrated)
    known = {m.id for m in taken}
    heads = [m.heads(scene.variant) and m.headline_unless not in known for m in taken]
    if not any(heads):
        raise SceneError(
            "the marks do not give this pose's main measure"
            if calibrated
            else "this pose cannot be read without the mat: mark its four corners"
        )
    wanted: list[Measure | Check] = [*taken, *checked]
    modes = [Frames(scene, pose, body, forward) for body in found]
    values, sds, changes, frames = blend(
        modes, wanted, heads.index(True), _widths(scene, pose, marks, heads, calibrated, wanted)
    )
    changes = np.minimum(changes, sds)
    body = frames.body
    readings = [
        Reading(m.id, m.label, m.unit, v, sd, v - Z95 * sd, v + Z95 * sd, main, m.apparent, change)
        for m, main, v, sd, change in zip(
            taken, heads, values.tolist(), sds.tolist(), changes.tolist(), strict=False
        )
    ]
    after = len(taken)
    results = [
        compensations.judge(c, float(v), float(sd))
        for c, v, sd in zip(checked, values[after:], sds[after:], strict=True)
    ]
    results += _strange(scene, pose, marks, body)
    return Result(
        id=scene.id,
        method=body.estimate.method,
        pose=pose.id,
        readings=tuple(readings),
        checks=tuple(results),
        camera=body.estimate.camera if calibrated else None,
        warnings=(*body.estimate.warnings, *said, *_warnings(scene, marks, found, body, readings)),
        fans=_fans(taken, readings, frames, present),
        bones=body.bones if calibrated else {},
        body=body.body,
        level_known=_level_known(scene, marks),
    )


def _level_known(scene: Scene, marks: tuple[Mark, ...]) -> bool:
    """Whether thigh and shin are known where a mark says less than they do."""
    if all(m.skin.sd_told is None or scene.marked_as(m.id) == "joint" for m in marks):
        return True
    return BONES.keys() <= scene.segments_cm.keys()


def _widths(
    scene: Scene,
    pose: Pose,
    marks: tuple[Mark, ...],
    heads: Sequence[bool],
    calibrated: bool,
    wanted: Sequence[object],
) -> Array:
    """How spreads of values and of changes are scaled, (2, m).

    Priors are wider than people, and a camera set up by eye is not as square as it is taken to
    be; by how much was fitted on bodies (see HeldStill).
    """
    widths = np.ones((2, len(wanted)))
    width = np.array([[pose.held.width], [pose.held.change_width]])
    if not calibrated:
        width = width * pose.held.bare_width
    if any(
        scene.sd_of(m.id) > LOOSE * scene.sd_of("") or scene.marked_as(m.id) == "joint"
        for m in marks
    ):
        # Fitted to clicks on skin: marks this loose miss together, which priors do not know, and
        # joints' centres come from anywhere, from any camera.
        width = np.maximum(width, 1.0)
    widths[:, : len(heads)] = np.where(heads, width, 1.0)
    return widths


def _warnings(
    scene: Scene,
    marks: tuple[Mark, ...],
    found: tuple[Posterior, ...],
    body: Posterior,
    readings: Sequence[Reading],
) -> Iterator[str]:
    """What a coach should know of a reading beside its interval."""
    if any(scene.skin_way(m.id) == "sliding" and m.body.endswith(SLIDES) for m in marks):
        yield (
            "stickers put on while standing have slid over hip, pelvis and shoulder: the interval "
            "allows for it; put on in the pose they tell more"
        )
    if any(b.estimate is not body.estimate for b in found):
        yield (
            "two camera positions explain the corners equally well: the readings allow for "
            "both; mark the corners again or raise the camera"
        )
    if len({b.strain for b in found if b.estimate is body.estimate}) > 1:
        yield (
            "whether the limb lies on the floor or is held up is not plain from this photograph: "
            "say the height of its support (0 on the floor), or photograph the hold from the "
            "side as well"
        )
    if not _level_known(scene, marks):
        yield (
            "its change counts, its level not yet: that asks for the lengths of thigh and shin, by "
            "tape on the record, or learnt after four shots of earlier visits"
        )
    doubtful = next((r for r in readings if r.headline and r.unit == "deg"), None)
    calibrated = body.estimate.method == "mat"
    if calibrated and doubtful is not None and doubtful.sd > DOUBTFUL_SD_DEG:
        yield (
            f"from this camera the {doubtful.label} is only good to ± {Z95 * doubtful.sd:.0f}°: "
            "raise the camera, come closer, or photograph the same hold from the side as well"
        )


def _fans(
    taken: Sequence[Measure], readings: Sequence[Reading], frames: Frames, present: set[str]
) -> tuple[LaidFan, ...]:
    """The fans of headlines whose lines are marked."""
    camera = frames.body.estimate.camera
    found = [
        lay_fan(m.id, m.fan, frames.at(m.outward, m.fan.plane), camera, r.value, r.sd)
        for m, r in zip(taken, readings, strict=True)
        if r.headline and m.fan is not None and {m.fan.vertex, m.fan.to} <= present
    ]
    return tuple(fan for fan in found if fan is not None)


def _strange(
    scene: Scene, pose: Pose, marks: tuple[Mark, ...], body: Posterior
) -> Iterator[CheckResult]:
    """What says that these marks are no such pose, no body, or the other side."""
    misfit = match_figure(pose, scene.side, scene.variant, scene.marks).misfit
    # A body that lies easily behind the marks is the pose, whatever the figure looks like.
    misfit = 0.0 if body.strain < EASY else max(misfit, body.strain / STRAINED * MISFIT_LIMIT)
    # A body always has limbs that somebody has: what was marked, at its depth, need not.
    deep = {m.id: "own_hip" if pose.view == "side" else m.id for m in marks}
    at = {n: beside(scene.marks[n], body.points[d][:1], body.estimate)[0] for n, d in deep.items()}
    eye = body.estimate.camera.position
    calibrated = body.estimate.method == "mat"
    for found in (
        compensations.judge_figure_match(pose.name, misfit, MISFIT_LIMIT),
        plausible.judge_body(scene, marks, at, eye, calibrated),
        plausible.judge_side(scene, pose),
    ):
        if found is not None:
            yield found


def _readable(
    scene: Scene, pose: Pose, present: set[str], calibrated: bool
) -> tuple[list[Measure], list[Check]]:
    """Measures and checks that these marks and this camera can tell."""

    def usable(formula: Formula, known: set[str]) -> bool:
        if formula.marks <= present and formula.measures <= known:
            return calibrated or not (formula.in_cm or formula.deep)
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
