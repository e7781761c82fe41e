"""The figure posed, set on the mat, and seen by the camera a pose asks for."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from dachi.core.body.figure import Body, Landmarks, Pose3D, landmarks
from dachi.core.body.pinhole import (
    CORNERS,
    DEFAULT_FOCAL_35MM,
    Array,
    Camera,
    look_from,
    mat_points,
)
from dachi.core.body.posing import BodyMark, FigurePose, mark_points, place_on_mat, posed

#: The body that stands for anybody.
ANYBODY = Body()
#: Length and width of the mat most studios have, cm.
USUAL_MAT_CM = (183.0, 61.0)


@dataclass(frozen=True)
class Stand:
    """Where the camera is asked to stand: lens height, distance along the floor, aim, cm."""

    height_cm: float
    distance_cm: float
    stand: str
    look_at_cm: float = 40.0

    def camera(
        self,
        yaw_deg: float = 0.0,
        *,
        roll_deg: float = 0.0,
        focal_35mm: float = DEFAULT_FOCAL_35MM,
        size: tuple[int, int] = (1600, 1200),
    ) -> Camera:
        """The camera on the stand, moved round the mat by ``yaw_deg``; ``size`` in px."""
        yaw = math.radians(yaw_deg)
        eye = (-self.distance_cm * math.sin(yaw), -self.distance_cm * math.cos(yaw), self.height_cm)
        pitch = -math.degrees(math.atan2(self.height_cm - self.look_at_cm, self.distance_cm))
        return look_from(eye, yaw_deg, pitch, roll_deg, focal_35mm, *size)


class Stageable(Protocol):
    """What staging needs of a benchmark pose."""

    @property
    def figure(self) -> FigurePose: ...
    @property
    def view(self) -> str: ...
    @property
    def sides(self) -> str: ...
    def chosen(self, variant: Mapping[str, str]) -> dict[str, str]: ...


class MarkedPose(Stageable, Protocol):
    """A benchmark pose with its marks and the camera it asks for."""

    @property
    def marks(self) -> Sequence[BodyMark]: ...
    @property
    def camera(self) -> Stand: ...


@dataclass(frozen=True)
class Figure:
    """A posed body on the mat: the joint angles it has, and its points in space, cm."""

    posed: Pose3D
    points: Landmarks


def on_mat(
    pose: Stageable,
    side: str,
    value: float,
    *,
    variant: Mapping[str, str] | None = None,
    body: Body = ANYBODY,
    extra: Mapping[str, float] | None = None,
    scatter: Mapping[str, float] | None = None,
) -> Figure:
    """Pose the figure at a headline value (degrees) and lay it centred on the mat.

    ``extra`` adds to joints (compensations); ``scatter`` does too, without moving the
    pelvis up or down: what scatters is held, not stood on.
    """
    whole = pose.chosen(variant or {})
    settled = posed(pose.figure, side, value, pose.view, extra, whole)
    held = settled
    if scatter:
        both = dict(extra or {})
        for joint, degrees in scatter.items():
            both[joint] = both.get(joint, 0.0) + degrees
        held = posed(pose.figure, side, value, pose.view, both, whole)
    points = landmarks(body, held, settled)
    return Figure(held, place_on_mat(points, "x" if pose.view == "side" else "y"))


def within(pose: Stageable, share: float) -> float:
    """The headline value at a share (0 to 1) of the range the figure shows."""
    return pose.figure.low + share * (pose.figure.high - pose.figure.low)


def shown_side(pose: Stageable, side: str) -> str:
    """``both`` for poses that have no side of their own."""
    return "both" if pose.sides == "both" else side


def seen_marks(
    pose: MarkedPose,
    side: str,
    value: float,
    size: tuple[int, int],
    variant: Mapping[str, str] | None = None,
) -> dict[str, tuple[float, float]]:
    """Where a pose's marks lie in a picture of a size, px, from the usual camera."""
    camera = pose.camera.camera(size=size)
    spots = mark_points(pose.marks, side, on_mat(pose, side, value, variant=variant).points)
    return {name: _pixel(camera, spot) for name, spot in spots.items()}


def seen_over_range(
    pose: MarkedPose,
    side: str,
    size: tuple[int, int],
    variant: Mapping[str, str] | None = None,
    steps: int = 16,
) -> list[dict[str, tuple[float, float]]]:
    """Where a pose's marks lie, px, for values spread evenly over its range."""
    shares = [i / (steps - 1) for i in range(steps)]
    return [seen_marks(pose, side, within(pose, s), size, variant) for s in shares]


def seen_corners(
    pose: MarkedPose, size: tuple[int, int], mat_cm: tuple[float, float] = USUAL_MAT_CM
) -> dict[str, tuple[float, float]]:
    """Where the mat's corners lie in a picture of a size, px, from the usual camera."""
    camera = pose.camera.camera(size=size)
    points = mat_points(*mat_cm, pose.view)
    return {name: _pixel(camera, p) for name, p in zip(CORNERS, points, strict=True)}


def _pixel(camera: Camera, point: Array) -> tuple[float, float]:
    u, v = camera.project(point)
    return float(u), float(v)
