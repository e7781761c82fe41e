"""The measuring core against other methods: a general optimiser, Euler's rays, plain propagation."""

import math
import unittest
from dataclasses import replace

import numpy as np
from scipy.optimize import approx_fprime, least_squares
from scipy.spatial.transform import Rotation

from dachi.core.body.pinhole import CORNERS, Camera, look_from, mat_points
from dachi.core.catalogue.formula import Frame
from dachi.core.catalogue.poses import Fan
from dachi.core.measuring.angle_fans import drawn_fan, lay_fan
from dachi.core.measuring.calibration import (
    CameraError,
    CameraEstimate,
    Mat,
    Seen,
    _differs,
    _residuals,
    assume_square,
    describe,
    moved_cameras,
    solve_mat,
    square_root,
)
from dachi.core.measuring.checks import judge, judge_figure_match
from dachi.core.measuring.measure import measure
from dachi.core.measuring.scene import Image, Scene, SceneError
from dachi.data import catalogue

SIZE = (1600, 1200)
LEG_RAISE = "supine-leg-raise"


def stand(yaw=8.0, pitch=-12.0, roll=1.0, focal=26.0, height=80.0, distance=290.0) -> Camera:
    a = math.radians(yaw)
    return look_from(
        (-distance * math.sin(a), -distance * math.cos(a), height), yaw, pitch, roll, focal, *SIZE
    )


def corners_of(
    camera: Camera, view: str = "side", rng=None, sd: float = 0.0
) -> dict[str, tuple[float, float]]:
    px = camera.project(mat_points(183, 61, view))
    if rng is not None:
        px = px + rng.normal(0, sd, px.shape)
    return {k: (float(p[0]), float(p[1])) for k, p in zip(CORNERS, px, strict=True)}


class TheCamera(unittest.TestCase):
    def residuals(self, start: Camera, image: np.ndarray, sd: float, focal: float, focal_sd: float):
        """What a camera away from ``start`` by seven steps leaves unexplained, written anew."""
        world = mat_points(183, 61, "side")

        def left(x: np.ndarray) -> np.ndarray:
            turn = Rotation.from_rotvec(x[:3]).as_matrix() @ start.rotation
            cam = world @ turn.T + start.translation + x[3:6]
            f = start.focal_px * math.exp(x[6])
            px = f * cam[:, :2] / cam[:, 2:] + start.centre
            return np.append(
                ((px - image) / sd).ravel(), (math.log(f) - math.log(focal / 36 * 1600)) / focal_sd
            )

        return left

    def test_the_jacobian_is_the_slope(self) -> None:
        camera, image = stand(), np.array(list(corners_of(stand(10, -11)).values()))
        left = self.residuals(camera, image, 1.7, 26.0, 0.015)
        prior = math.log(26 / 36 * 1600)
        seen = Seen(
            mat_points(183, 61, "side"), image, np.full(8, 1.7), camera.centre, prior, 0.015
        )
        found = _residuals(camera.rotation, camera.translation, math.log(camera.focal_px), seen)
        assert found is not None
        np.testing.assert_allclose(found[0], left(np.zeros(7)), rtol=1e-9)
        slope = np.array(
            [approx_fprime(np.zeros(7), lambda x, i=i: left(x)[i], 1e-7) for i in range(9)]
        )
        np.testing.assert_allclose(found[1], slope, rtol=1e-4, atol=1e-3 * np.abs(slope).max())
        behind = replace(camera, translation=camera.translation - np.array([0, 0, 1e4]))
        self.assertIsNone(_residuals(behind.rotation, behind.translation, 7.0, seen))

    def test_the_fit_and_its_covariance_are_a_general_optimisers(self) -> None:
        rng = np.random.default_rng(3)
        for yaw, focal in ((4.0, 26.0), (-15.0, 35.0)):
            true = stand(yaw, focal=focal)
            corners = corners_of(true, rng=rng, sd=1.0)
            ours = solve_mat(Mat(183, 61, corners, 2.0), "side", *SIZE, focal, 9.9)
            left = self.residuals(true, np.array(list(corners.values())), 2.0, focal, 0.015)
            theirs = least_squares(
                left, np.zeros(7), x_scale="jac", xtol=1e-14, ftol=1e-14, gtol=1e-14
            )
            turn = Rotation.from_rotvec(theirs.x[:3]).as_matrix() @ true.rotation
            np.testing.assert_allclose(ours.camera.rotation, turn, atol=2e-5)
            np.testing.assert_allclose(
                ours.camera.translation, true.translation + theirs.x[3:6], atol=0.05
            )
            self.assertAlmostEqual(ours.chi2, 2 * theirs.cost, places=2)
            here = self.residuals(ours.camera, np.array(list(corners.values())), 2.0, focal, 0.015)
            jac = np.array(
                [
                    approx_fprime(np.zeros(7), lambda x, i=i, here=here: here(x)[i], 1e-7)
                    for i in range(9)
                ]
            )
            np.testing.assert_allclose(
                ours.covariance, np.linalg.inv(jac.T @ jac), rtol=0.02, atol=1e-9
            )
            left_px = np.array(list(corners.values())) - ours.camera.project(
                mat_points(183, 61, "side")
            )
            self.assertAlmostEqual(ours.rms_px, float(np.sqrt(np.mean(left_px**2))), places=3)
            self.assertEqual((ours.method, ours.warnings, ours.rival), ("mat", (), None))

    def test_corners_that_disagree_carry_more_error(self) -> None:
        corners = corners_of(stand())
        moved = corners | {"far_left": (corners["far_left"][0] + 14, corners["far_left"][1] - 8)}
        wrong = solve_mat(Mat(183, 61, moved), "side", *SIZE, 26.0, 2.0)
        good = solve_mat(Mat(183, 61, corners), "side", *SIZE, 26.0, 2.0)
        self.assertGreater(wrong.chi2, 18.4)
        self.assertIn("px away from the best camera", wrong.warnings[0])
        self.assertAlmostEqual(
            float(np.sqrt(wrong.covariance[1, 1] / good.covariance[1, 1])),
            math.sqrt(wrong.chi2 / 2),
            delta=0.25 * math.sqrt(wrong.chi2 / 2),
        )
        small = corners | {"far_left": (corners["far_left"][0] + 3, corners["far_left"][1])}
        self.assertEqual(solve_mat(Mat(183, 61, small), "side", *SIZE, 26.0, 2.0).warnings, ())
        # Two per cent of the longer side, 32 px, is no mat of this size any more.
        gone = corners | {"far_left": (corners["far_left"][0] + 260, corners["far_left"][1])}
        with self.assertRaisesRegex(CameraError, "away from any view"):
            solve_mat(Mat(183, 61, gone), "side", *SIZE, 26.0, 2.0)

    def test_without_a_mat(self) -> None:
        """Square to the plane, turned by the level line; the spreads are those of cameras set up by eye."""
        for plane, spread, at in (
            ("upright", (7, 10, 1.5), (0, -300, 0)),
            ("floor", (20, 10, 1.5), (0, 0, 300)),
        ):
            found = assume_square(*SIZE, 26.0, plane, 300.0, None, 3.0)
            np.testing.assert_allclose(np.degrees(np.sqrt(np.diag(found.covariance)[:3])), spread)
            np.testing.assert_allclose(found.camera.position, at, atol=1e-9)
            self.assertEqual(found.method, "picture")
            self.assertAlmostEqual(found.covariance[6, 6], 0.015**2)
            self.assertAlmostEqual(found.camera.focal_px, 26 / 36 * 1600)
            self.assertEqual(bool(found.warnings), plane == "floor")
        self.assertAlmostEqual(
            assume_square(*SIZE, None, "upright", 300.0, None, 3.0).covariance[6, 6], 0.25**2
        )
        # A line that falls 1 in 10 to the right: the camera is turned the other way by 5.71°.
        for line, roll in (
            (((100, 500), (1100, 600)), -5.71), (((1100, 600), (100, 500)), -5.71), (((100, 600), (1100, 500)), 5.71),
            (((100, 500), (1100, 500)), 0.0),
        ):  # fmt: skip
            found = assume_square(*SIZE, 26.0, "upright", 300.0, line, 3.0)
            self.assertAlmostEqual(found.camera.roll_deg, roll, places=2)
            self.assertEqual(found.method, "level")
            span = math.dist(*line)
            self.assertAlmostEqual(
                math.sqrt(found.covariance[2, 2]), math.sqrt(2) * 3 / span, places=6
            )
        # A line shorter than a twentieth of the picture, 80 px, shows no tilt.
        with self.assertRaises(CameraError):
            assume_square(*SIZE, 26.0, "upright", 300.0, ((0, 0), (79, 0)), 3.0)
        assume_square(*SIZE, 26.0, "upright", 300.0, ((0, 0), (81, 0)), 3.0)

    def test_steps_away_from_a_camera(self) -> None:
        spread = np.diag([1e-4, 2e-4, 0.0, 4.0, 9.0, 1.0, 1e-4])
        spread[3, 4] = spread[4, 3] = 3.0
        for covariance in (spread, spread + 1e-6 * np.eye(7)):
            root = square_root(covariance)
            np.testing.assert_allclose(root @ root.T, covariance, atol=1e-12)
        camera = stand()
        steps = np.zeros((3, 7))
        steps[1] = [0.02, -0.01, 0.03, 1, 2, 3, 0.1]
        steps[2, 3:] = [5, 0, 0, 0]
        rotations, translations, focals = moved_cameras(camera, steps, [0, 1])
        np.testing.assert_allclose(
            rotations[1],
            Rotation.from_rotvec(steps[1, :3]).as_matrix() @ camera.rotation,
            atol=1e-10,
        )
        np.testing.assert_allclose(rotations[2], camera.rotation, atol=1e-10)
        np.testing.assert_allclose(translations - camera.translation, steps[:, 3:6])
        np.testing.assert_allclose(focals / camera.focal_px, [1, math.exp(0.1), 1])

    def test_two_cameras_are_two_beyond_a_degree_and_a_half(self) -> None:
        one = CameraEstimate(stand(), np.eye(7), "mat")
        for yaw, apart in ((9.4, False), (9.6, True), (6.4, True), (8.0, False)):
            self.assertEqual(
                _differs(CameraEstimate(stand(yaw), np.eye(7), "mat"), one), apart, yaw
            )

    def test_words(self) -> None:
        for camera, words in (
            (stand(0.9, roll=0.9), "Camera square to the mat, 80 cm high, 290 cm away: fine."),
            (stand(1.1, roll=-1.2), "Camera turned 1° to the mat, tilted 1° (corrected), 80 cm high, 290 cm away: fine."),
            (stand(-19.9, roll=0), "Camera turned 20° to the mat, 80 cm high, 290 cm away: fine."),
            (stand(20.1, roll=0), "Camera turned 20° to the mat, 80 cm high, 290 cm away: better to stand squarer."),
            (stand(34.9, roll=0), "Camera turned 35° to the mat, 80 cm high, 290 cm away: better to stand squarer."),
            (stand(35.1, roll=0), "Camera turned 35° to the mat, 80 cm high, 290 cm away: too far round: move it."),
        ):  # fmt: skip
            self.assertEqual(describe(camera), words)


class Refused(unittest.TestCase):
    """Marks of a leg raise that cannot be marks."""

    def setUp(self) -> None:
        self.pose = catalogue().pose(LEG_RAISE)
        self.camera = stand(7.0, -11.0, 0.8)
        self.points = {
            "shoulder": np.array([-45.0, -16.0, 12.0]), "hip": np.array([0.0, -16.0, 11.0]),
            "knee": np.array([20.0, -16.0, 46.0]), "ankle": np.array([40.0, -16.0, 81.0]),
            "rest_knee": np.array([41.0, 0.0, 10.0]), "rest_ankle": np.array([82.0, 0.0, 8.0]),
        }  # fmt: skip
        px = {k: self.camera.project(p) for k, p in self.points.items()}
        self.scene = Scene(
            LEG_RAISE, "left", "passive", Image(*SIZE, 26.0), {k: (float(p[0]), float(p[1])) for k, p in px.items()},
            mat=Mat(183, 61, corners_of(self.camera)), facing="right", variant=self.pose.default_variant(), mark_sd_px=3.0,
        )  # fmt: skip

    def test_marks_that_cannot_be(self) -> None:
        marks = dict(self.scene.marks)
        for changed, words in (
            ({**marks, "hip": (math.nan, 3.0)}, "has no usable position"), ({**marks, "hip": (-1.0, 3.0)}, "outside the picture"),
            ({**marks, "hip": (1600.1, 3.0)}, "outside the picture"), ({**marks, "hip": (3.0, 1200.1)}, "outside the picture"),
            ({**marks, "hip": (marks["knee"][0] + 3.1, marks["knee"][1])}, "on the same spot"),
            ({k: v for k, v in marks.items() if k != "hip"}, "still to mark"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(SceneError, words):
                measure(replace(self.scene, marks=changed), catalogue())
        measure(replace(self.scene, marks={**marks, "shoulder": (0.0, 1200.0)}), catalogue())
        measure(
            replace(self.scene, marks={**marks, "hip": (marks["knee"][0] + 3.3, marks["knee"][1])}),
            catalogue(),
        )
        for changed_scene, words in (
            (replace(self.scene, side="top"), "the side is"), (replace(self.scene, mode="lazy"), "the mode is"),
            (replace(self.scene, pose="moonwalk"), "no pose called"),
        ):  # fmt: skip
            with self.assertRaisesRegex(SceneError, words):
                measure(changed_scene, catalogue())


class Fans(unittest.TestCase):
    """Seen squarely from 300 cm, f 1000 px: one centimetre is 1000 / 300 px."""

    camera = Camera(
        np.array([[1.0, 0, 0], [0, 0, -1.0], [0, 1.0, 0]]),
        np.array([0.0, 0.0, 300.0]),
        1000.0,
        np.array([800.0, 600.0]),
    )

    def drawn(
        self,
        fan: Fan,
        to: tuple[float, float],
        value: float,
        sd: float = 2.0,
        forward: float = 1.0,
        **more,
    ):
        points = {
            "a": np.array([[0.0, 0, 0]]),
            "b": np.array([[to[0], 0, to[1]]]),
            "z": np.array([[0.0, 0, -30.0]]),
        }
        points |= {k: np.array([[x, 0.0, z]]) for k, (x, z) in more.items()}
        laid = lay_fan("m", fan, Frame(points, "upright", forward, {}), self.camera, value, sd)
        found = drawn_fan(laid) if laid is not None else None
        assert found is not None
        return found

    def polar(self, point: tuple[float, float]) -> tuple[float, float]:
        """Degrees above the picture's right and centimetres from the vertex."""
        x, y = (point[0] - 800) * 0.3, -(point[1] - 600) * 0.3
        return math.degrees(math.atan2(y, x)), math.hypot(x, y)

    def test_a_quarter_turn(self) -> None:
        found = self.drawn(Fan("a", "forward", "b"), (0.0, 50.0), 90.0)
        self.assertEqual(self.polar(found.vertex)[1], 0)
        for point, angle, radius in (
            (found.zero_end, 0, 50), (found.line_end, 90, 50), (found.rim[0], 0, 31), (found.rim[-1], 90, 31),
            (found.label_at, 45, 31 * 1.22), (found.soft[0], 90 - 2 * 1.959964, 31 * 0.86), (found.soft[8], 90 + 2 * 1.959964, 31 * 0.86),
            (found.soft[-1], 90 - 2 * 1.959964, 31 * 1.12), (found.soft[9], 90 + 2 * 1.959964, 31 * 1.12),
        ):  # fmt: skip
            got = self.polar(point)
            self.assertAlmostEqual(got[0], angle, places=6)
            self.assertAlmostEqual(got[1], radius, places=6)
        self.assertEqual((len(found.rim), len(found.soft), len(found.ticks)), (31, 18, 18))
        for i, (inner, outer) in enumerate(found.ticks):
            self.assertAlmostEqual(self.polar(inner)[0], 5 * i, places=6)
            self.assertAlmostEqual(self.polar(inner)[1], 31 * (0.94 if i % 2 else 0.88), places=6)
            self.assertAlmostEqual(self.polar(outer)[1], 31, places=6)

    def test_zero_lines_and_ways_round(self) -> None:
        for zero, to, value, forward, start, end, more in (
            ("up", (50.0, 0.0), 90, 1, 90, 0, {}), ("down", (50.0, 0.0), 90, 1, -90, 0, {}), ("level", (40.0, 30.0), 37, 1, 0, 36.87, {}),
            ("level", (-40.0, 30.0), 37, 1, 180, 143.13, {}), ("z", (50.0, 0.0), 90, 1, -90, 0, {}), ("z", (50.0, 0.0), 270, 1, -90, 0, {}),
            ("forward", (-50.0, 0.001), 180, -1, 180, 180, {}), ("beyond c", (0.0, 50.0), 90, 1, 180, 90, {"c": (20.0, 0.0)}),
            ("forward", (40.0, -30.0), -37, 1, 0, -36.87, {}),
        ):  # fmt: skip
            found = self.drawn(Fan("a", zero, "b"), to, value, forward=forward, **more)
            with self.subTest(zero, to=to, value=value):
                self.assertAlmostEqual(
                    math.cos(math.radians(self.polar(found.rim[0])[0] - start)), 1, places=6
                )
                self.assertAlmostEqual(
                    math.cos(math.radians(self.polar(found.rim[-1])[0] - end)), 1, places=4
                )
                middle = self.polar(found.rim[len(found.rim) // 2])[0]
                if value == 270:
                    self.assertAlmostEqual(
                        math.cos(math.radians(middle - 135)),
                        -math.cos(math.radians(90)) + 1,
                        delta=0.01,
                    )
        self.assertIsNone(
            lay_fan(
                "m",
                Fan("a", "forward", "a"),
                Frame({"a": np.zeros((1, 3))}, "upright", 1.0, {}),
                self.camera,
                9,
                1,
            )
        )
        close = np.array([[0.0, -299.5, 0.0]])
        self.assertIsNone(
            lay_fan(
                "m",
                Fan("a", "forward", "b"),
                Frame({"a": close, "b": close + np.array([[5.0, 0, 0]])}, "upright", 1.0, {}),
                self.camera,
                9,
                1,
            )
        )


class Compensations(unittest.TestCase):
    def check(self, name: str):
        pose = catalogue().pose(LEG_RAISE)
        return next(c for c in pose.checks if c.id == name)

    def test_statuses_either_side_of_the_limit(self) -> None:
        checks = [c for p in catalogue().poses for c in p.checks]
        signed = next(
            c
            for c in checks
            if not c.formula.size_only and c.severity == "retake" and c.unit == "deg"
        )
        sized = next(c for c in checks if c.formula.size_only and c.severity == "retake")
        watch = next(
            (c for c in checks if c.severity == "watch" and not c.formula.size_only and c.limit),
            None,
        )
        limit = signed.limit
        for value, sd, status in (
            (limit + 0.01, 0.0, "retake"), (limit, 0.0, "ok"), (limit, 0.01, "watch"), (limit - 1.65, 1.0, "ok"),
            (limit - 1.64, 1.0, "watch"), (limit / 3 - 0.01, limit, "ok"), (limit / 3 + 0.01, limit, "watch"), (-3.0, 0.5, "ok"),
        ):  # fmt: skip
            self.assertEqual(judge(signed, value, sd).status, status, (value, sd))
        self.assertTrue(judge(signed, limit + 1, 0).message.startswith("Take it again: "))
        self.assertIn("Close to the limit", judge(signed, limit, 0.5).message)
        self.assertIn("cannot be ruled out", judge(signed, limit - 1.5, 1.0).message)
        self.assertNotIn("-", judge(signed, -3.0, 0.1).message)
        # 5 read with an error of 3 is a size of 4; under the error nothing is left.
        self.assertAlmostEqual(judge(sized, 5.0, 3.0).value, 4.0)
        self.assertEqual(judge(sized, 2.0, 3.0).value, 0.0)
        assert watch is not None
        for value, sd, status in (
            (watch.limit + 1, 0.0, "watch"), (watch.limit - 1, 1.01, "watch"), (watch.limit - 1, 1.0, "ok"),
            (watch.limit / 2, watch.limit, "ok"), (watch.limit / 2 + 0.01, watch.limit, "watch"),
        ):  # fmt: skip
            self.assertEqual(judge(watch, value, sd).status, status, (value, sd))

    def test_a_figure_that_does_not_match(self) -> None:
        self.assertIsNone(judge_figure_match("Split", 0.25, 0.25))
        found = judge_figure_match("Split", 0.26, 0.25)
        assert found is not None
        self.assertEqual((found.status, found.value), ("retake", 0.26))
        strange = judge_figure_match("Split", math.inf, 0.25)
        assert strange is not None
        self.assertEqual(strange.value, 9.0)
