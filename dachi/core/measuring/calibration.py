"""Where the camera stood, from the mat's four corners, with its uncertainty.

Frames and pixels are those of ``dachi.core.body.pinhole``.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import (
    CORNERS,
    DEFAULT_FOCAL_35MM,
    Camera,
    focal_in_px,
    mat_points,
    rotation_from,
    rotations_from,
)
from dachi.core.rules import Z95
from dachi.errors import NotDone

Array = NDArray[np.float64]

#: EXIF focal lengths are whole millimetres and phones crop a little: 1.5 %.
EXIF_FOCAL_SD = 0.015
#: Spread of everyday phone and tablet cameras about 26 mm, as a log.
UNKNOWN_FOCAL_SD = 0.25
#: How squarely a coach sets a camera up by eye, used only where no mat says better.
FREE_YAW_SD_DEG = 10.0
FREE_PITCH_SD_DEG = 7.0
FREE_ROLL_SD_DEG = 1.5
FREE_TILT_OF_FLOOR_SD_DEG = 20.0
#: Chi-square of two degrees of freedom at 1e-4: beyond it the corners disagree.
CORNER_CHI2 = 18.4


class CameraError(NotDone):
    """Corners that no camera could have seen; the message says what to do."""

    code = "camera"


@dataclass(frozen=True)
class Mat:
    """A mat of known size (cm) and its corners in the picture (px).

    ``corner_sd_px`` is smaller than a single click's where corners are pooled
    from several shots of one camera position; ``corner_sds_px`` names each corner's own,
    where something else than clicks tells them.
    """

    length_cm: float
    width_cm: float
    corners: Mapping[str, tuple[float, float]]
    corner_sd_px: float | None = None
    corner_sds_px: Mapping[str, float] | None = None


@dataclass(frozen=True)
class CameraEstimate:
    """A camera with its uncertainty.

    ``covariance`` is (7, 7) over a small rotation in the camera frame (rad), the
    translation (cm) and the logarithm of the focal length. ``method`` is ``mat``,
    ``level`` or ``picture``. ``chi2`` and ``rms_px`` say how well the corners fit.
    ``rival`` is a second camera that explains the corners about as well.
    """

    camera: Camera
    covariance: Array
    method: str
    warnings: tuple[str, ...] = ()
    chi2: float = 0.0
    rms_px: float = 0.0
    rival: CameraEstimate | None = None


@dataclass(frozen=True)
class Seen:
    """What a fit explains: points (n, 3) in cm where they are seen (n, 2) in px.

    ``sd`` is each coordinate's spread (2n,) px; ``mixing`` (2n, 2n), where points stray
    together, turns coordinates divided by it into independent ones. ``centre`` is the picture's,
    ``prior_log`` and ``prior_sd`` hold the log focal length.
    """

    world: Array
    image: Array
    sd: Array
    centre: Array
    prior_log: float
    prior_sd: float
    mixing: Array | None = None

    @classmethod
    def of(
        cls, world: Array, image: Array, sd: Array, size: tuple[int, int], focal_35mm: float | None
    ) -> Seen:
        """With the focal length a picture names, or everyday ones; ``sd`` (n,) px."""
        prior = (DEFAULT_FOCAL_35MM, UNKNOWN_FOCAL_SD)
        if focal_35mm is not None:
            prior = (focal_35mm, EXIF_FOCAL_SD)
        centre = np.array([size[0] / 2, size[1] / 2])
        log_f = math.log(focal_in_px(prior[0], *size))
        return cls(world, image, np.repeat(sd, 2), centre, log_f, prior[1])


def solve_mat(
    mat: Mat, view: str, width: int, height: int, focal_35mm: float | None, corner_sd_px: float
) -> CameraEstimate:
    """Fit the camera to the mat's corners.

    Both solutions of the planar pose problem (Collins and Bartoli 2014, OpenCV's
    SOLVEPNP_IPPE) start a least-squares fit of pose and focal length, the latter
    held by its prior. Raises CameraError where the corners cannot be a mat seen
    from above the floor.
    """
    image = np.array([mat.corners[name] for name in CORNERS], dtype=float)
    _refuse_impossible_corners(image, width, height)
    world = mat_points(mat.length_cm, mat.width_cm, view)
    own = mat.corner_sds_px or {}
    sd = np.array([own.get(name, mat.corner_sd_px or corner_sd_px) for name in CORNERS])
    fits = _fits(world, image, width, height, focal_35mm, sd)
    if not fits:
        raise CameraError(
            "no camera above the floor could see these corners: check that the near edge "
            "is the one closest to the camera"
        )
    best = fits[0]
    longer = max(width, height)
    if best.chi2 > CORNER_CHI2:
        lying = mat_points(mat.width_cm, mat.length_cm, view)
        turned = _fits(lying, image, width, height, focal_35mm, sd)
        if turned and turned[0].chi2 < min(best.chi2 / 10, 10 * CORNER_CHI2):
            edge = "a long edge" if view == "side" else "a short end"
            raise CameraError(
                f"the corners fit a mat lying the other way: in this view the near edge is {edge}"
            )
        best = _doubtful(best, mat, longer)
    rival = next((f for f in fits[1:] if f.chi2 - best.chi2 < 4.0 and _differs(f, best)), None)
    warnings = best.warnings
    if focal_35mm is None:
        warnings += (_focal_found(best, longer),)
    return replace(best, warnings=warnings, rival=rival)


def _doubtful(best: CameraEstimate, mat: Mat, longer: int) -> CameraEstimate:
    """A camera whose corners disagree, less certain and with a word; CameraError beyond reason."""
    if best.rms_px > 0.02 * longer:
        raise CameraError(
            f"the corners are {best.rms_px:.0f} px away from any view of a "
            f"{mat.length_cm:g} x {mat.width_cm:g} cm mat: check the corners, the mat's "
            "size and that the picture is not cropped"
        )
    said = (
        f"the mat's corners are {best.rms_px:.1f} px away from the best camera: the "
        "mat's size, its flatness or the focal length may be off"
    )
    # Corners that disagree carry more error than a click: let the fit say how much.
    return replace(best, covariance=best.covariance * (best.chi2 / 2.0), warnings=(said,))


def _focal_found(best: CameraEstimate, longer: int) -> str:
    found = best.camera.focal_px / longer * 36.0
    spread = math.sqrt(best.covariance[6, 6])
    if spread < 0.12:
        return (
            "the picture does not tell its focal length; the mat suggests "
            f"{found:.0f} mm (± {Z95 * spread * found:.0f})"
        )
    return (
        "the picture does not tell its focal length and the mat is seen too squarely "
        f"to find it: {found:.0f} mm assumed"
    )


def _differs(a: CameraEstimate, b: CameraEstimate) -> bool:
    turn = a.camera.rotation @ b.camera.rotation.T
    angle = math.degrees(math.acos(max(-1.0, min(1.0, (float(np.trace(turn)) - 1) / 2))))
    return angle > 1.5


def _fits(
    world: Array, image: Array, width: int, height: int, focal_35mm: float | None, sd: Array
) -> list[CameraEstimate]:
    """Every admissible camera, best first."""
    starts = [20.0, 26.0, 35.0, 50.0] if focal_35mm is None else [focal_35mm]
    seen = Seen.of(world, image, sd, (width, height), focal_35mm)
    found: list[CameraEstimate] = []
    for start in starts:
        for camera in planar_cameras(seen, focal_in_px(start, width, height)):
            if found and _misfit(camera, seen) > found[0].chi2 + 2e3:
                continue
            fit = refine(camera, seen)
            if fit is not None and _sees_mat(fit.camera, world):
                found.append(fit)
    found.sort(key=lambda fit: fit.chi2)
    return found


def _misfit(camera: Camera, seen: Seen) -> float:
    """Chi-square of corners against an unrefined camera."""
    return float(np.sum(((camera.project(seen.world) - seen.image).ravel() / seen.sd) ** 2))


def planar_cameras(seen: Seen, focal_px: float) -> list[Camera]:
    """Both cameras of the planar pose problem for points of one level, not refined."""
    f, (cx, cy) = focal_px, seen.centre
    k = np.array([[f, 0, cx], [0, f, cy], [0, 0, 1.0]])
    level = np.array([0.0, 0.0, float(seen.world[0, 2])])
    found = []
    for rvec, tvec in _planar_poses(seen.world - level, seen.image, k):
        rotation = rotation_from(rvec)
        found.append(Camera(rotation, tvec.astype(float) - rotation @ level, f, seen.centre))
    return found


def _planar_poses(world: Array, image: Array, k: Array) -> list[tuple[Array, Array]]:
    """Both solutions of the planar pose problem.

    Perfectly symmetric corners can divide zero by zero in the solver; a twentieth of a
    pixel's asymmetry avoids it, and the fit that follows uses the true corners.
    """
    for shake in (0.0, 0.05):
        way = np.array([[1, 0], [0, 1], [-1, 0], [0.5, -1]])
        shaken = image + shake * np.resize(way, image.shape)
        try:
            _, rvecs, tvecs, _ = cv2.solvePnPGeneric(
                world, shaken, k, np.zeros(5), flags=cv2.SOLVEPNP_IPPE
            )
        except cv2.error:
            return []
        found = [
            (np.asarray(r, dtype=float).ravel(), np.asarray(t, dtype=float).ravel())
            for r, t in zip(rvecs, tvecs, strict=True)
            if np.isfinite(r).all() and np.isfinite(t).all()
        ]
        if found:
            return found
    return []


def _sees_mat(camera: Camera, world: Array) -> bool:
    depth = (world @ camera.rotation.T + camera.translation)[:, 2]
    near, far = depth[:2].mean(), depth[2:].mean()
    upright = camera.rotation[1, 2] < 0.5
    return bool(camera.height_cm > 1.0 and depth.min() > 1.0 and near < far and upright)


def refine(camera: Camera, seen: Seen) -> CameraEstimate | None:
    """Levenberg-Marquardt over rotation, translation and log focal length."""
    rotation, t, log_f = camera.rotation, camera.translation, math.log(camera.focal_px)
    damping = 1e-6
    state = _residuals(rotation, t, log_f, seen)
    if state is None:
        return None
    r, jac = state
    cost = float(r @ r)
    for _ in range(30):
        normal = jac.T @ jac
        normal.flat[::8] *= 1.0 + damping
        step = np.linalg.solve(normal, -(jac.T @ r))
        trial = (rotation_from(step[:3]) @ rotation, t + step[3:6], log_f + float(step[6]))
        state = _residuals(*trial, seen)
        if state is None or float(state[0] @ state[0]) > cost + 1e-9:
            damping *= 10
            if damping > 1e6:
                break
            continue
        r, jac = state
        settled = cost - float(r @ r) < 1e-3
        cost = float(r @ r)
        rotation, t, log_f = trial
        damping = max(damping / 10, 1e-9)
        if settled:
            break
    try:
        covariance = np.asarray(np.linalg.inv(jac.T @ jac), dtype=float)
    except np.linalg.LinAlgError:
        return None
    rms = float(np.sqrt(np.mean(r[:-1] ** 2)) * np.sqrt(np.mean(seen.sd**2)))
    solved = Camera(rotation, t, math.exp(log_f), camera.centre)
    return CameraEstimate(solved, covariance, "mat", chi2=cost, rms_px=rms)


def _residuals(rotation: Array, t: Array, log_f: float, seen: Seen) -> tuple[Array, Array] | None:
    """Residuals (2n + 1,) in standard deviations, their Jacobian (2n + 1, 7); None behind the lens.

    Unknowns: a small rotation in the camera frame, translation, log focal length.
    """
    turned = seen.world @ rotation.T
    cam = turned + t
    depth = cam[:, 2]
    if depth.min() < 1.0 or abs(log_f) > 20:
        return None
    f = math.exp(log_f)
    slope = cam[:, :2] / depth[:, None]
    a, b = slope[:, 0], slope[:, 1]
    x, y, z = turned[:, 0], turned[:, 1], turned[:, 2]
    n = 2 * len(depth)
    sd = seen.sd[::2]
    g = f / (depth * sd)
    r = np.empty(n + 1)
    r[:n] = (f * slope + seen.centre - seen.image).ravel() / seen.sd
    r[n] = (log_f - seen.prior_log) / seen.prior_sd
    jac = np.zeros((n + 1, 7))
    across, down = jac[0:n:2], jac[1:n:2]
    across[:, 0], across[:, 1], across[:, 2] = -g * a * y, g * (z + a * x), -g * y
    down[:, 0], down[:, 1], down[:, 2] = -g * (z + b * y), g * b * x, g * x
    across[:, 3] = down[:, 4] = g
    across[:, 5], down[:, 5] = -g * a, -g * b
    across[:, 6], down[:, 6] = (f / sd) * a, (f / sd) * b
    jac[n, 6] = 1.0 / seen.prior_sd
    if seen.mixing is not None:
        r[:n], jac[:n] = seen.mixing @ r[:n], seen.mixing @ jac[:n]
    return r, jac


def _refuse_impossible_corners(image: Array, width: int, height: int) -> None:
    """Raise CameraError for crossed, misnamed or nearly straight corners."""
    longer = max(width, height)
    spots = [(float(x), float(y)) for x, y in image]
    for i in range(4):
        for j in range(i):
            if math.dist(spots[i], spots[j]) < 0.005 * longer:
                raise CameraError(
                    f"the corners {_words(j)} and {_words(i)} are on the same spot: mark all four"
                )
    edges = [
        (spots[(i + 1) % 4][0] - x, spots[(i + 1) % 4][1] - y) for i, (x, y) in enumerate(spots)
    ]
    turns = [
        ax * by - ay * bx for (ax, ay), (bx, by) in zip(edges, edges[1:] + edges[:1], strict=True)
    ]
    area = 0.5 * sum(x * ey - ex * y for (x, y), (ex, ey) in zip(spots, edges, strict=True))
    longest = max(math.hypot(*e) for e in edges)
    one_way = min(turns) > 0 or max(turns) < 0
    if abs(area) / longest < 0.008 * longer and one_way:
        raise CameraError(
            "the four corners lie nearly on a line: raise the camera until the mat shows as an area"
        )
    positive = sum(t > 0 for t in turns)
    if positive == 2:
        raise CameraError(
            "the mat's outline crosses itself: two corners are swapped; go around the mat "
            "near left, near right, far right, far left"
        )
    if positive in (1, 3):
        odd = next(i for i, t in enumerate(turns) if (t > 0) == (positive == 1))
        raise CameraError(
            f"the corner {_words((odd + 1) % 4)} lies inside the other three: mark it again"
        )
    near, far = image[:2, 1].mean(), image[2:, 1].mean()
    if positive == 4:
        if near < far:
            raise CameraError(
                "near and far corners are swapped: the near edge is the one closest to the "
                "camera, lower in the picture"
            )
        raise CameraError("left and right corners are swapped: go by the picture, not by the body")
    if near < far:
        raise CameraError(
            "the corners are turned half way round: the near edge is the one closest to the "
            "camera, lower in the picture"
        )


def _words(index: int) -> str:
    return CORNERS[index].replace("_", " ")


def assume_square(
    width: int,
    height: int,
    focal_35mm: float | None,
    plane: str,
    distance_cm: float,
    level: tuple[tuple[float, float], tuple[float, float]] | None,
    mark_sd_px: float,
) -> CameraEstimate:
    """The camera assumed without a mat: square to the pose's plane.

    Readings are then those of a protractor on the picture, turned by the level
    line where there is one; the covariance says how far cameras set up by eye
    stray from square.
    """
    f = focal_in_px(focal_35mm or DEFAULT_FOCAL_35MM, width, height)
    warnings: tuple[str, ...] = ()
    roll, roll_sd, method = 0.0, FREE_ROLL_SD_DEG, "picture"
    if level is not None:
        (x0, y0), (x1, y1) = level
        span = math.hypot(x1 - x0, y1 - y0)
        if span < 0.05 * max(width, height):
            raise CameraError("the level line is too short to show a tilt: draw it longer")
        tilt = math.degrees(math.atan2(y1 - y0, x1 - x0))
        roll = -((tilt + 90.0) % 180.0 - 90.0)
        roll_sd = math.degrees(math.sqrt(2) * mark_sd_px / span)
        method = "level"
    if plane == "floor":
        base = np.array([[1.0, 0, 0], [0, -1.0, 0], [0, 0, -1.0]])
        spread = np.array([FREE_TILT_OF_FLOOR_SD_DEG, FREE_YAW_SD_DEG, roll_sd])
        position = np.array([0.0, 0.0, distance_cm])
        warnings = ("without the mat, an angle on the floor is only a rough guess",)
    else:
        base = np.array([[1.0, 0, 0], [0, 0, -1.0], [0, 1.0, 0]])
        spread = np.array([FREE_PITCH_SD_DEG, FREE_YAW_SD_DEG, roll_sd])
        position = np.array([0.0, -distance_cm, 0.0])
    c, s = math.cos(math.radians(roll)), math.sin(math.radians(roll))
    rotation = np.array([[c, s, 0], [-s, c, 0], [0, 0, 1.0]]) @ base
    covariance = np.zeros((7, 7))
    covariance[:3, :3] = np.diag(np.radians(spread) ** 2)
    covariance[6, 6] = (EXIF_FOCAL_SD if focal_35mm else UNKNOWN_FOCAL_SD) ** 2
    camera = Camera(rotation, -rotation @ position, f, np.array([width / 2, height / 2]))
    return CameraEstimate(camera, covariance, method, warnings)


def square_root(covariance: Array) -> Array:
    """A square root (7, 7) of a camera's covariance: columns are independent steps."""
    if covariance.diagonal().min() > 0:
        try:
            return np.asarray(np.linalg.cholesky(covariance))
        except np.linalg.LinAlgError:
            pass
    values, vectors = np.linalg.eigh(covariance)
    return np.asarray(vectors * np.sqrt(np.clip(values, 0.0, None)))


def moved_cameras(camera: Camera, steps: Array, turned: list[int]) -> tuple[Array, Array, Array]:
    """Cameras displaced by steps (s, 7) as in ``CameraEstimate.covariance``.

    Only the rows ``turned`` rotate otherwise than row 0. Returns rotations (s, 3, 3),
    translations (s, 3) and focal lengths (s,).
    """
    own = rotations_from(steps[turned, :3]) @ camera.rotation
    rotations = np.repeat(own[:1], len(steps), 0)
    rotations[turned] = own
    return rotations, camera.translation + steps[:, 3:6], camera.focal_px * np.exp(steps[:, 6])


def describe(camera: Camera) -> str:
    """Say in words how the camera stands, and whether that is fine."""
    yaw = camera.yaw_deg
    size = abs(yaw)
    turned = "square to the mat" if size < 1 else f"turned {size:.0f}° to the mat"
    if size <= 20:
        verdict = "fine"
    elif size <= 35:
        verdict = "better to stand squarer"
    else:
        verdict = "too far round: move it"
    tilt = abs(camera.roll_deg)
    rolled = f", tilted {tilt:.0f}° (corrected)" if tilt >= 1 else ""
    return (
        f"Camera {turned}{rolled}, {camera.height_cm:.0f} cm high, "
        f"{camera.distance_cm:.0f} cm away: {verdict}."
    )
