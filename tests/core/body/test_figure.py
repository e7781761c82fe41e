"""The articulated figure against closed forms, and its camera against OpenCV."""

import unittest

import cv2
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from dachi.core.body.figure import Body, Pose3D, landmarks
from dachi.core.body.pinhole import look_from
from dachi.core.body.posing import evaluate, posed
from dachi.data import catalogue

BODY = Body(170.0)
RIGHT_LEG_DOWN = {"right.hip_flexion": 0.0}


def leg(posture: str, heading: str, **joints: float) -> dict[str, np.ndarray]:
    named = {k.replace("_", ".", 1): v for k, v in joints.items()}
    return landmarks(BODY, Pose3D(posture, heading, named))


class Landmarks(unittest.TestCase):
    def test_standing_is_a_plumb_line(self) -> None:
        p = leg("upright", "right")
        for side in ("left", "right"):
            hip, knee, ankle = (p[f"{side}.{j}"] for j in ("hip", "knee", "ankle"))
            np.testing.assert_allclose(knee - hip, [0, 0, -BODY.thigh], atol=1e-9)
            np.testing.assert_allclose(ankle - knee, [0, 0, -BODY.shin], atol=1e-9)

    def test_closed_forms(self) -> None:
        """Thigh and shin directions worked out by hand, world axes x right, y away, z up."""
        r, h = np.radians, np.sqrt(0.5)
        cases = [
            # posture, heading, joints, thigh direction, shin direction
            ("supine", "right", {"right_hip_flexion": 90.0}, (0, 0, 1), (0, 0, 1)),
            ("supine", "right", {"right_hip_flexion": 45.0}, (h, 0, h), (h, 0, h)),
            ("supine", "left", {"right_hip_flexion": 30.0},
             (-np.cos(r(30)), 0, 0.5), (-np.cos(r(30)), 0, 0.5)),
            ("upright", "right", {"right_hip_flexion": 90.0, "right_knee_flexion": 90.0},
             (1, 0, 0), (0, 0, -1)),
            ("upright", "right", {"right_hip_flexion": -20.0},
             (-np.sin(r(20)), 0, -np.cos(r(20))), (-np.sin(r(20)), 0, -np.cos(r(20)))),
            # Sitting with the shin hanging: external rotation carries the foot inwards.
            ("upright", "camera",
             {"right_hip_flexion": 90.0, "right_knee_flexion": 90.0, "right_hip_rotation": 30.0},
             (0, -1, 0), (0.5, 0, -np.cos(r(30)))),
            # Abduction tips the thigh out of the sagittal plane: right is -x facing the camera.
            ("upright", "camera", {"right_hip_abduction": 40.0},
             (-np.sin(r(40)), 0, -np.cos(r(40))), (-np.sin(r(40)), 0, -np.cos(r(40)))),
        ]  # fmt: skip
        for posture, heading, joints, thigh, shin in cases:
            with self.subTest(joints=joints, heading=heading):
                p = leg(posture, heading, **joints)
                np.testing.assert_allclose(
                    (p["right.knee"] - p["right.hip"]) / BODY.thigh, thigh, atol=1e-9
                )
                np.testing.assert_allclose(
                    (p["right.ankle"] - p["right.knee"]) / BODY.shin, shin, atol=1e-9
                )

    @given(
        flex=st.floats(-30, 140),
        abd=st.floats(-40, 70),
        rot=st.floats(-50, 50),
        knee=st.floats(0, 150),
        tilt=st.floats(-60, 60),
    )
    @settings(max_examples=60, deadline=None)
    def test_lengths_and_floor_hold_in_every_pose(
        self, flex: float, abd: float, rot: float, knee: float, tilt: float
    ) -> None:
        joints = {
            "left.hip_flexion": flex,
            "left.hip_abduction": abd,
            "left.hip_rotation": rot,
            "left.knee_flexion": knee,
            "pelvis_tilt": tilt,
        }
        p = landmarks(BODY, Pose3D("upright", "camera", joints))
        self.assertAlmostEqual(np.linalg.norm(p["left.knee"] - p["left.hip"]), BODY.thigh)
        self.assertAlmostEqual(np.linalg.norm(p["left.ankle"] - p["left.knee"]), BODY.shin)
        shin = (p["left.ankle"] - p["left.knee"]) / BODY.shin
        thigh = (p["left.knee"] - p["left.hip"]) / BODY.thigh
        self.assertAlmostEqual(np.degrees(np.arccos(np.clip(shin @ thigh, -1, 1))), knee, places=3)
        # Nothing sinks into the floor: every point keeps its skin's distance from it.
        self.assertGreater(min(p[k][2] for k in p if "axes" not in k), 0.0)

    def test_left_mirrors_right(self) -> None:
        pose = catalogue().poses[0]
        left = landmarks(BODY, posed(pose.figure, "left", 77.0, pose.view))
        right = landmarks(BODY, posed(pose.figure, "right", 77.0, pose.view))
        for name in ("hip.outer", "knee.outer", "ankle.outer", "shoulder.outer"):
            np.testing.assert_allclose(
                left[f"left.{name}"] * [-1, 1, 1], right[f"right.{name}"], atol=1e-9
            )

    def test_joint_expressions(self) -> None:
        for text, value, expected in (("v", 80, 80), ("90 - v/2", 60, 60), ("-v * 0.5", 10, -5)):
            self.assertAlmostEqual(evaluate(text, value), expected)
        for bad in ("v ** 2", "__import__('os')", "w + 1"):
            with self.assertRaises(ValueError):
                evaluate(bad, 1.0)


class Projection(unittest.TestCase):
    @given(
        yaw=st.floats(-40, 40),
        pitch=st.floats(-35, 10),
        roll=st.floats(-15, 15),
        focal=st.floats(20, 70),
    )
    @settings(max_examples=60, deadline=None)
    def test_agrees_with_opencv(self, yaw: float, pitch: float, roll: float, focal: float) -> None:
        cam = look_from((30.0, -280.0, 90.0), yaw, pitch, roll, focal, 1600, 1200)
        points = np.array([[0, 0, 0], [60, -16, 40], [-80, 25, 110], [5, 5, 5.0]])
        k = np.array([[cam.focal_px, 0, 800], [0, cam.focal_px, 600], [0, 0, 1.0]])
        theirs, _ = cv2.projectPoints(
            points, cv2.Rodrigues(cam.rotation)[0], cam.translation, k, None
        )
        np.testing.assert_allclose(cam.project(points), theirs[:, 0], atol=1e-6)
        self.assertAlmostEqual(cam.yaw_deg, yaw, places=6)
        self.assertAlmostEqual(cam.pitch_deg, pitch, places=6)
        self.assertAlmostEqual(cam.roll_deg, roll, places=6)
        self.assertAlmostEqual(cam.height_cm, 90.0, places=6)
