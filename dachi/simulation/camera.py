"""The simulated camera: photographs a posed figure and tells the truth in a sidecar."""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dachi.core.body.figure import Body, Landmarks, bones
from dachi.core.body.pinhole import CORNERS, Camera, mat_points
from dachi.core.body.posing import joint_points, moved, supports_under
from dachi.core.body.staging import on_mat
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.measure import true_values
from dachi.core.measuring.scene import Image as Frame
from dachi.core.measuring.scene import Scene
from dachi.simulation.raymarch import Outfit, Scenery, Studio, on_skin, render, sticker_share

OUTFITS = (
    Outfit(),
    Outfit((0.30, 0.18, 0.12), (0.16, 0.05, 0.06), (0.42, 0.36, 0.24), (0.02, 0.02, 0.02)),
    Outfit((0.66, 0.49, 0.39), (0.05, 0.10, 0.08), (0.20, 0.27, 0.34), (0.30, 0.17, 0.08)),
)
EXIF_ORIENTATION, EXIF_TIME, EXIF_IFD = 0x0112, 0x9003, 0x8769
EXIF_FOCAL, EXIF_FOCAL_35MM = 0x920A, 0xA405


@dataclass(frozen=True)
class Shot:
    """What to photograph. Angles in degrees, lengths in cm.

    ``value`` is the pose's headline; ``scatter_deg`` the spread of every joint about
    it and of limbs out of their plane; ``extra`` adds to single joints, named as in
    ``dachi.core.body.posing.posed``. ``yaw_deg`` is the camera's turn against the mat.
    ``shift_cm`` moves the person on the mat, along its near edge and away from the camera.
    ``focal_35mm`` is the true focal length; EXIF tells it in whole millimetres.
    """

    side: str
    value: float
    yaw_deg: float = 0.0
    roll_deg: float = 0.0
    height_cm: float | None = None
    distance_cm: float | None = None
    focal_35mm: float = 26.0
    scatter_deg: float = 0.0
    stickers: bool = False
    sun: float = 0.0
    outfit: int = 0
    body: Body = field(default_factory=Body)
    extra: Mapping[str, float] = field(default_factory=dict)
    variant: Mapping[str, str] = field(default_factory=dict)
    shift_cm: tuple[float, float] = (0.0, 0.0)
    mat_cm: tuple[float, float] = (183.0, 61.0)
    width: int = 1280
    height: int = 960
    seed: int = 0


@dataclass(frozen=True)
class Stage:
    """A shot set up and not yet rendered: the camera, the figure and its true marks.

    The simulated camera marks joints' centres: its figure has no skin that a hand could feel.
    """

    camera: Camera
    points: Landmarks
    marks_3d: dict[str, NDArray[np.float64]]
    marks_px: dict[str, tuple[float, float]]
    corners_px: dict[str, tuple[float, float]]
    joints: Mapping[str, float]


def set_up(pose: Pose, shot: Shot) -> Stage:
    """Pose the figure and stand the camera, with the shot's scatter."""
    rng = np.random.default_rng(shot.seed)
    scatter: dict[str, float] = {}
    if shot.scatter_deg:
        for joint in pose.figure.scatter:
            scatter[joint] = scatter.get(joint, 0.0) + float(rng.normal(0, shot.scatter_deg))
    figure = on_mat(
        pose, shot.side, shot.value, variant=shot.variant, body=shot.body, extra=shot.extra,
        scatter=scatter,
    )  # fmt: skip
    points = moved(figure.points, (*shot.shift_cm, 0.0))
    stand = replace(
        pose.camera,
        height_cm=shot.height_cm or pose.camera.height_cm,
        distance_cm=shot.distance_cm or pose.camera.distance_cm,
    )
    # The stand moves round the mat and keeps the figure in the middle of the picture.
    camera = stand.camera(
        shot.yaw_deg, roll_deg=shot.roll_deg, focal_35mm=shot.focal_35mm,
        size=(shot.width, shot.height),
    )  # fmt: skip
    joints = joint_points(pose.marks, shot.side, points)
    marks = {m.id: joints[m.id] for m in pose.marks}
    mat = mat_points(*shot.mat_cm, pose.view)
    return Stage(
        camera,
        points,
        marks,
        {k: _pixel(camera, p) for k, p in marks.items()},
        dict(zip(CORNERS, (_pixel(camera, c) for c in mat), strict=True)),
        figure.posed.joints,
    )


def _pixel(camera: Camera, point: NDArray[np.float64]) -> tuple[float, float]:
    u, v = camera.project(point)
    return float(u), float(v)


def photograph(pose: Pose, shot: Shot, taken_at: datetime) -> tuple[bytes, dict[str, Any]]:
    """Render the shot to JPEG bytes with EXIF, and a sidecar with the truth."""
    stage = set_up(pose, shot)
    length, width = shot.mat_cm
    near, deep = (length, width) if pose.view == "side" else (width, length)
    props = supports_under(pose.figure, shot.side, stage.points)
    scenery = Scenery(
        [*bones(shot.body, stage.points), *((a, b, r, r, "prop") for a, b, r in props)],
        Studio(near, deep, deep / 2 + 95.0, sun=shot.sun),
        OUTFITS[shot.outfit % len(OUTFITS)],
        [spot for spot, _ in stickers(stage, shot).values()] if shot.stickers else (),
    )
    pixels = render(stage.camera, shot.width, shot.height, scenery, seed=shot.seed)
    out = io.BytesIO()
    Image.fromarray(pixels).save(
        out,
        "JPEG",
        quality=80,
        subsampling=0 if shot.stickers else 2,
        optimize=True,
        exif=exif(shot.focal_35mm, taken_at),
    )
    return out.getvalue(), sidecar(pose, shot, stage, taken_at)


def stickers(stage: Stage, shot: Shot) -> dict[str, tuple[NDArray[np.float64], float]]:
    """Where each mark's sticker is stuck, cm, and the share of it that the camera sees."""
    cones = bones(shot.body, stage.points)
    found = {}
    for name, point in stage.marks_3d.items():
        spot = on_skin(stage.camera, cones, point)
        found[name] = (spot, sticker_share(stage.camera, cones, spot))
    return found


def truths(pose: Pose, shot: Shot, stage: Stage) -> dict[str, float]:
    """What every measure of the pose truly is on the staged figure."""
    variant = pose.default_variant() | dict(shot.variant)
    image = Frame(shot.width, shot.height, shot.focal_35mm)
    scene = Scene(pose.id, shot.side, "passive", image, {}, variant=variant)
    return true_values(pose, scene, joint_points(pose.marks, shot.side, stage.points))


def exif(focal_35mm: float, taken_at: datetime, orientation: int = 1) -> Image.Exif:
    """EXIF with orientation, capture time and focal length, as a phone writes them."""
    data = Image.Exif()
    data[EXIF_ORIENTATION] = orientation
    inner = data.get_ifd(EXIF_IFD)
    inner[EXIF_TIME] = taken_at.strftime("%Y:%m:%d %H:%M:%S")
    inner[EXIF_FOCAL_35MM] = round(focal_35mm)
    inner[EXIF_FOCAL] = round(focal_35mm / 6.0, 2)
    return data


def sidecar(pose: Pose, shot: Shot, stage: Stage, taken_at: datetime) -> dict[str, Any]:
    """The truth about a shot, ready for JSON: camera, marks, corners and angles."""
    cam = stage.camera
    truth = truths(pose, shot, stage)
    variant = pose.default_variant() | dict(shot.variant)
    return {
        "pose": pose.id,
        "side": shot.side,
        "true_value_deg": round(truth[pose.headline_for(variant).id], 2),
        "true_values": {k: round(v, 2) for k, v in truth.items()},
        "taken_at": taken_at.isoformat(),
        "image": {"width": shot.width, "height": shot.height, "focal_35mm": shot.focal_35mm},
        "camera": {
            "yaw_deg": cam.yaw_deg,
            "pitch_deg": cam.pitch_deg,
            "roll_deg": cam.roll_deg,
            "height_cm": cam.height_cm,
            "distance_cm": cam.distance_cm,
        },
        "mat_cm": list(shot.mat_cm),
        "corners_px": {k: [round(v, 2) for v in p] for k, p in stage.corners_px.items()},
        "marks_px": {k: [round(v, 2) for v in p] for k, p in stage.marks_px.items()},
        "marks_cm": {k: [round(float(v), 3) for v in p] for k, p in stage.marks_3d.items()},
        "joints_deg": {k: round(v, 3) for k, v in stage.joints.items()},
        "segments_cm": {k: round(v, 2) for k, v in shot.body.segments_cm.items()},
        "stickers": shot.stickers,
        "seed": shot.seed,
    }
