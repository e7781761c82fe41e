"""What came in: is it a scene that can be read, and how was its picture taken."""

from __future__ import annotations

import math

from dachi.core.body.anatomy import DEFAULT_SEGMENTS_CM, MODES, SIDES
from dachi.core.body.pinhole import DEFAULT_FOCAL_35MM, focal_in_px
from dachi.core.catalogue.poses import Catalogue, Mark, Pose
from dachi.core.measuring import calibration
from dachi.core.measuring.calibration import CameraError, CameraEstimate
from dachi.core.measuring.scene import Scene, SceneError


def pose_of(scene: Scene, catalogue: Catalogue, together: bool = False) -> Pose:
    if scene.pose not in catalogue:
        raise SceneError(f"there is no pose called {scene.pose!r} in the catalogue")
    try:
        return catalogue.seen_from(scene.pose, scene.view, together)
    except KeyError as error:
        usual = catalogue.pose(scene.pose)
        raise SceneError(
            f"{usual.name} is photographed from the {usual.view}, not from the {scene.view}"
        ) from error


def usable_marks(scene: Scene, pose: Pose) -> tuple[Mark, ...]:
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


def camera_for(scene: Scene, pose: Pose, marks: tuple[Mark, ...]) -> CameraEstimate:
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


def forward_of(scene: Scene, pose: Pose) -> tuple[float, list[str]]:
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
