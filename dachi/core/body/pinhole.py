"""A pinhole camera and the mat it looks at.

World frame of a view: origin at the mat's centre on the floor, x to the right
along the mat's near edge, y away from the camera, z up, centimetres. In a side
view the near edge is a long edge of the mat, in a front view a short end.

Camera frame as in OpenCV: x right, y down, z forward; ``camera = R world + t``.
Pixels: focal length = focal_35mm / 36 x the longer side of the picture, principal
point at the middle, no lens distortion.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

CORNERS = ("near_left", "near_right", "far_right", "far_left")
DEFAULT_FOCAL_35MM = 26.0


@dataclass(frozen=True)
class Camera:
    """A pinhole camera: rotation (3, 3), translation (3,) cm, focal length px, centre px."""

    rotation: Array
    translation: Array
    focal_px: float
    centre: Array

    @property
    def position(self) -> Array:
        """Camera centre in the world frame, (3,), cm."""
        return np.asarray(-self.rotation.T @ self.translation)

    @property
    def height_cm(self) -> float:
        """Height of the lens above the floor."""
        return float(self.position[2])

    @property
    def distance_cm(self) -> float:
        """Distance along the floor from below the lens to the mat's centre."""
        return float(math.hypot(self.position[0], self.position[1]))

    @property
    def yaw_deg(self) -> float:
        """0 is square to the near edge; positive looks towards the right."""
        forward = self.rotation[2]
        return math.degrees(math.atan2(forward[0], forward[1]))

    @property
    def pitch_deg(self) -> float:
        """0 is level; negative looks down."""
        return math.degrees(math.asin(max(-1.0, min(1.0, self.rotation[2, 2]))))

    @property
    def roll_deg(self) -> float:
        """0 is upright; positive is turned clockwise as seen from behind the camera."""
        right_z, down_z = self.rotation[0, 2], self.rotation[1, 2]
        return math.degrees(math.atan2(-right_z, -down_z))

    def project(self, points: Array) -> Array:
        """World points (..., 3) in cm to pixels (..., 2)."""
        cam = points @ self.rotation.T + self.translation
        return np.asarray(self.focal_px * cam[..., :2] / cam[..., 2:3] + self.centre)


def look_from(
    position: tuple[float, float, float],
    yaw_deg: float,
    pitch_deg: float,
    roll_deg: float,
    focal_35mm: float,
    width: int,
    height: int,
) -> Camera:
    """Build a camera from where it stands (cm) and how it is turned (degrees)."""
    yaw, pitch, roll = (math.radians(a) for a in (yaw_deg, pitch_deg, roll_deg))
    forward = np.array(
        [math.sin(yaw) * math.cos(pitch), math.cos(yaw) * math.cos(pitch), math.sin(pitch)]
    )
    level_right = np.array([math.cos(yaw), -math.sin(yaw), 0.0])
    level_up = np.cross(level_right, forward)
    right = math.cos(roll) * level_right - math.sin(roll) * level_up
    rotation = np.stack([right, np.cross(forward, right), forward])
    return Camera(
        rotation,
        -rotation @ np.asarray(position, dtype=float),
        focal_in_px(focal_35mm, width, height),
        np.array([width / 2, height / 2]),
    )


def focal_in_px(focal_35mm: float, width: int, height: int) -> float:
    """Focal length in pixels from its 35 mm equivalent."""
    return focal_35mm / 36.0 * max(width, height)


def mat_points(length_cm: float, width_cm: float, view: str) -> Array:
    """Return the mat's corners in the world frame of a view, (4, 3), in CORNERS order."""
    near, deep = (length_cm, width_cm) if view == "side" else (width_cm, length_cm)
    x, y = near / 2, deep / 2
    return np.array([[-x, -y, 0.0], [x, -y, 0.0], [x, y, 0.0], [-x, y, 0.0]])


def rotation_from(omega: NDArray[Any]) -> Array:
    """Rotation matrix (3, 3) of a rotation vector (3,), by Rodrigues' formula."""
    return np.asarray(cv2.Rodrigues(np.asarray(omega, dtype=float))[0])


def rotations_from(omegas: Array) -> Array:
    """Rotation matrices (n, 3, 3) of rotation vectors (n, 3), by Rodrigues' formula."""
    angle = np.linalg.norm(omegas, axis=1) + 1e-12
    k = np.zeros((len(omegas), 3, 3))
    k[:, 2, 1], k[:, 0, 2], k[:, 1, 0] = omegas[:, 0], omegas[:, 1], omegas[:, 2]
    k -= k.transpose(0, 2, 1)
    first = (np.sin(angle) / angle)[:, None, None]
    second = ((1 - np.cos(angle)) / angle**2)[:, None, None]
    return np.asarray(np.eye(3) + first * k + second * (k @ k))
