"""The camera from four corners: recovered, and refused where it cannot be."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from dachi.core.body.pinhole import CORNERS, look_from, mat_points
from dachi.core.measuring.calibration import (
    CameraError,
    Mat,
    assume_square,
    describe,
    moved_cameras,
    solve_mat,
    square_root,
)
from tests import slow

SIZE = (1600, 1200)


def corners_from(cam, view="side", size=(183.0, 61.0), noise=None, sd=0.0):
    px = cam.project(mat_points(size[0], size[1], view))
    if noise is not None:
        px = px + noise.normal(0, sd, px.shape)
    return dict(zip(CORNERS, map(tuple, px), strict=True))


def stand(yaw=8.0, pitch=-12.0, roll=1.0, focal=26.0, height=80.0, distance=290.0):
    a = math.radians(yaw)
    at = (-distance * math.sin(a), -distance * math.cos(a), height)
    return look_from(at, yaw, pitch, roll, focal, *SIZE)


class Recovered(unittest.TestCase):
    @given(
        yaw=st.floats(-30, 30),
        roll=st.floats(-8, 8),
        height=st.floats(35, 160),
        focal=st.floats(24, 50),
        view=st.sampled_from(["side", "front"]),
    )
    @settings(max_examples=60, deadline=None)
    def test_exact_corners_give_the_camera_back(self, yaw, roll, height, focal, view) -> None:
        cam = stand(yaw, -math.degrees(math.atan2(height, 290)), roll, focal, height)
        found = solve_mat(Mat(183, 61, corners_from(cam, view)), view, *SIZE, focal, 2.0).camera
        self.assertAlmostEqual(found.yaw_deg, yaw, delta=0.05)
        self.assertAlmostEqual(found.roll_deg, roll, delta=0.05)
        self.assertAlmostEqual(found.height_cm, height, delta=0.2)
        self.assertAlmostEqual(found.distance_cm, 290, delta=0.6)

    def test_focal_length_found_when_the_view_is_oblique_enough(self) -> None:
        cam = stand(yaw=25, pitch=-28, focal=35, height=150)
        fit = solve_mat(Mat(183, 61, corners_from(cam)), "side", *SIZE, None, 1.0)
        self.assertAlmostEqual(fit.camera.focal_px / 1600 * 36, 35, delta=2.0)
        self.assertIn("the mat suggests", fit.warnings[0])

    def test_focal_length_assumed_when_seen_squarely_from_low(self) -> None:
        cam = stand(yaw=0, pitch=-9, focal=30, height=150, distance=900)
        fit = solve_mat(Mat(183, 61, corners_from(cam)), "side", *SIZE, None, 3.0)
        self.assertIn("assumed", fit.warnings[0])

    @slow("Monte Carlo")
    def test_covariance_is_what_repeated_clicking_shows(self) -> None:
        cam = stand()
        rng = np.random.default_rng(5)
        fits = [
            solve_mat(Mat(183, 61, corners_from(cam, noise=rng, sd=2.0)), "side", *SIZE, 26.0, 2.0)
            for _ in range(400)
        ]
        seen = np.std([f.camera.yaw_deg for f in fits])
        steps = square_root(fits[0].covariance).T
        rotations, _, _ = moved_cameras(fits[0].camera, steps, list(range(7)))
        steps = [
            math.degrees(math.atan2(r[2, 0], r[2, 1])) - fits[0].camera.yaw_deg for r in rotations
        ]
        self.assertAlmostEqual(float(np.linalg.norm(steps)), seen, delta=0.2 * seen)


class Refused(unittest.TestCase):
    def test_corners_no_mat_could_show(self) -> None:
        good = corners_from(stand())
        nl, nr, fr, fl = (good[c] for c in CORNERS)
        cases = {
            "crosses itself": (nl, nr, fl, fr),
            "near and far corners are swapped": (fl, fr, nr, nl),
            "left and right corners are swapped": (nr, nl, fl, fr),
            "half way round": (fr, fl, nl, nr),
            "same spot": (nl, nl, fr, fl),
            "nearly on a line": (nl, nr, (nr[0], nr[1] - 9.0), (nl[0], nl[1] - 9.0)),
            "inside the other three": (
                nl, nr, ((nl[0] + nr[0]) / 2 - 20, nl[1] - 30), (nl[0] + 40, nl[1] - 300)),
            "lying the other way": tuple(corners_from(stand(), size=(61, 183)).values()),
            "away from any view": (nl, nr, fr, (fl[0] + 350, fl[1] - 60)),
        }  # fmt: skip
        for words, corners in cases.items():
            with self.subTest(words), self.assertRaises(CameraError) as caught:
                mat = Mat(183, 61, dict(zip(CORNERS, corners, strict=True)))
                solve_mat(mat, "side", *SIZE, 26.0, 2.0)
            self.assertIn(words, str(caught.exception))

    def test_level_line_too_short(self) -> None:
        with self.assertRaisesRegex(CameraError, "too short"):
            assume_square(*SIZE, 26.0, "upright", 300.0, ((10, 10), (20, 10)), 3.0)


class Words(unittest.TestCase):
    def test_described(self) -> None:
        self.assertIn("turned 8° to the mat", describe(stand()))
        self.assertIn("fine", describe(stand()))
        self.assertIn("move it", describe(stand(yaw=40)))
        self.assertIn("square to the mat", describe(stand(yaw=0.2)))
