"""Inner steps of measuring against plain loops, closed forms and numbers by hand."""

import math
import unittest
from dataclasses import replace
from unittest import mock

import cv2
import numpy as np

from dachi.core.body.pinhole import CORNERS, look_from, mat_points, rotation_from
from dachi.core.body.staging import ANYBODY
from dachi.core.measuring import asked, calibration, figure_match, measure, posterior, told
from dachi.core.measuring.calibration import CameraEstimate, Mat, solve_mat
from dachi.core.measuring.figure_match import match_figure
from dachi.core.measuring.posterior import posteriors
from dachi.core.measuring.reconstruct import View
from dachi.core.measuring.scene import Image, Scene
from dachi.data import catalogue
from dachi.simulation.camera import Shot, set_up
from tests.support import LEG_RAISE, scene_of

SIZE = (1600, 1200)


class Heads(unittest.TestCase):
    def test_the_circle_over_a_head(self) -> None:
        """One lie, 4 px a cm, nearest mark 50 px off: 16 x 4 + 0.3 x 50; never over 60 cm."""
        one = np.array([100 + 100j])
        for target, radius in (([150 + 100j], 79.0), ([100 + 1000j], 240.0)):
            found = figure_match._head(one, 4.0, np.array(target))
            self.assertEqual((found.x, found.y), (100.0, 100.0))
            self.assertAlmostEqual(found.radius, radius)
        two = np.array([100 + 100j, 140 + 130j])
        found = figure_match._head(two, 4.0, np.array([120 + 115j]))
        self.assertEqual((found.x, found.y), (120.0, 115.0))
        self.assertAlmostEqual(found.radius, 25.0 + 64.0)

    def test_a_picture_turns_so_far_and_no_further(self) -> None:
        pose = catalogue().pose(LEG_RAISE)
        stage = set_up(pose, Shot("left", pose.figure.low))
        marks = {k: complex(*p) for k, p in stage.marks_px.items() if k in pose.required}

        def misfit(turn: float) -> float:
            spun = {k: m * np.exp(1j * math.radians(turn)) for k, m in marks.items()}
            return match_figure(
                pose, "left", {}, {k: (m.real, m.imag) for k, m in spun.items()}
            ).misfit

        still = misfit(0.0)
        for turn in (-24.0, 24.0):
            self.assertAlmostEqual(misfit(turn), still, places=6)
        self.assertGreater(misfit(27.0), still + 1e-4)
        self.assertGreater(misfit(-27.0), still + 1e-4)

    def test_misfit_is_a_share_of_the_thigh(self) -> None:
        """One of six marks off by a cm: root of 1/6 over a 42 cm thigh, less what the fit takes up."""
        pose = catalogue().pose(LEG_RAISE)
        stage = set_up(pose, Shot("left", pose.figure.low))
        marks = {k: p for k, p in stage.marks_px.items() if k in pose.required}
        px_per_cm = stage.camera.focal_px / pose.camera.distance_cm
        x, y = marks["ankle"]
        off = match_figure(pose, "left", {}, marks | {"ankle": (x + 10 * px_per_cm, y)})
        most = 10.0 * math.sqrt(1 / len(marks)) / ANYBODY.thigh
        self.assertLess(off.misfit, most)
        self.assertGreater(off.misfit, 0.4 * most)


class Calibrating(unittest.TestCase):
    camera = look_from((40.0, -290.0, 80.0), 8.0, -12.0, 1.0, 26.0, *SIZE)

    def corners(self, camera=None):
        px = (camera or self.camera).project(mat_points(183, 61, "side"))
        return dict(zip(CORNERS, map(tuple, px), strict=True))

    def test_a_solver_that_divides_by_zero_is_asked_again_a_twentieth_of_a_pixel_off(self) -> None:
        asked = []
        true = cv2.solvePnPGeneric

        def solve(world, image, *more, **other):
            asked.append(np.array(image))
            if len(asked) == 1:
                return 1, [np.full(3, np.nan)], [np.zeros(3)], None
            return true(world, image, *more, **other)

        image = np.array(list(self.corners().values()))
        k = np.array([[self.camera.focal_px, 0, 800], [0, self.camera.focal_px, 600], [0, 0, 1.0]])
        with mock.patch.object(cv2, "solvePnPGeneric", solve):
            found = calibration._planar_poses(mat_points(183, 61, "side"), image, k)
        self.assertTrue(found)
        np.testing.assert_allclose(asked[0], image)
        moved = (asked[1] - image) / 0.05
        np.testing.assert_allclose(moved, [[1, 0], [0, 1], [-1, 0], [0.5, -1]], atol=1e-9)
        with mock.patch.object(cv2, "solvePnPGeneric", side_effect=cv2.error("bad")):
            self.assertEqual(calibration._planar_poses(mat_points(183, 61, "side"), image, k), [])

    def test_what_is_said_of_the_focal_length(self) -> None:
        """36 mm across the longer side; 1.96 spreads of its logarithm either way; known to 12 %."""
        for spread, words in (
            (0.05, "the mat suggests 35 mm (± 3)"), (0.119, "the mat suggests 35 mm (± 8)"),
            (0.121, "too squarely to find it: 35 mm assumed"),
        ):  # fmt: skip
            covariance = np.zeros((7, 7))
            covariance[6, 6] = spread**2
            camera = replace(self.camera, focal_px=35.0 / 36.0 * 1600)
            said = calibration._focal_found(CameraEstimate(camera, covariance, "mat"), 1600)
            self.assertIn(words, said)

    def test_corners_that_are_no_mats(self) -> None:
        """Two per cent of the longer side: at 32 px a doubt, beyond it a refusal."""
        mat = Mat(183, 61, self.corners())
        fit = CameraEstimate(self.camera, np.eye(7), "mat", chi2=50.0, rms_px=32.0)
        doubt = calibration._doubtful(fit, mat, 1600)
        self.assertIn("32.0 px away from the best camera", doubt.warnings[0])
        np.testing.assert_allclose(doubt.covariance, 25.0 * np.eye(7))
        with self.assertRaisesRegex(
            calibration.CameraError, "32 px away from any view of a 183 x 61"
        ):
            calibration._doubtful(replace(fit, rms_px=32.1), mat, 1600)

    def test_rivals(self) -> None:
        """A camera counts beside the best within chi-square 4 and from a degree and a half on."""
        own = solve_mat(Mat(183, 61, self.corners()), "side", *SIZE, 26.0, 2.0)
        turned = replace(
            self.camera,
            rotation=rotation_from(np.array([0.0, math.radians(2.0), 0.0])) @ self.camera.rotation,
        )
        near = replace(
            self.camera,
            rotation=rotation_from(np.array([0.0, math.radians(1.0), 0.0])) @ self.camera.rotation,
        )
        for other, chi2, counts in ((turned, 3.9, True), (turned, 4.1, False), (near, 1.0, False)):
            fits = [replace(own, chi2=0.0), CameraEstimate(other, np.eye(7), "mat", chi2=chi2)]
            with mock.patch.object(calibration, "_fits", return_value=fits):
                found = solve_mat(Mat(183, 61, self.corners()), "side", *SIZE, 26.0, 2.0)
            self.assertEqual(found.rival is not None, counts)

    def test_a_mat_lying_the_other_way(self) -> None:
        """Ten times better, and within ten times the limit."""
        own = CameraEstimate(self.camera, np.eye(7), "mat", chi2=1000.0, rms_px=20.0)
        for other, refused in ((99.0, True), (101.0, False), (None, False)):
            turned = [] if other is None else [replace(own, chi2=other)]
            with mock.patch.object(calibration, "_fits", side_effect=[[own], turned]):
                arrange = lambda: solve_mat(Mat(183, 61, self.corners()), "side", *SIZE, 26.0, 2.0)  # noqa: E731
                if refused:
                    with self.assertRaisesRegex(
                        calibration.CameraError, "near edge is a long edge"
                    ):
                        arrange()
                else:
                    self.assertIn("away from the best camera", arrange().warnings[0])
        poor = replace(own, chi2=5000.0)
        for other, refused in ((183.0, True), (185.0, False)):
            with mock.patch.object(
                calibration, "_fits", side_effect=[[poor], [replace(own, chi2=other)]]
            ):
                if refused:
                    with self.assertRaises(calibration.CameraError):
                        solve_mat(Mat(183, 61, self.corners()), "side", *SIZE, 26.0, 2.0)
                else:
                    self.assertTrue(
                        solve_mat(Mat(183, 61, self.corners()), "side", *SIZE, 26.0, 2.0).warnings
                    )

    def test_without_a_rival_two_cameras_are_one_reading(self) -> None:
        """With one: both are read, weighed by how marks and corners fit, and it is said."""
        scene = scene_of(LEG_RAISE, Shot("left", 70.0))
        pose = catalogue().pose(LEG_RAISE)
        marks = asked.usable_marks(scene, pose)
        forward, _ = asked.forward_of(scene, pose)
        own = asked.camera_for(scene, pose, ())
        turned = replace(
            own.camera,
            rotation=rotation_from(np.array([0.0, 0.0, math.radians(1.6)])) @ own.camera.rotation,
        )
        other = CameraEstimate(turned, own.covariance, "mat", chi2=own.chi2)
        alone = [posteriors((View(scene, pose, marks, e, forward),))[0] for e in (own, other)]
        plain, far = (measure.measure_with(scene, pose, e).headline for e in (own, other))
        self.assertGreater(abs(plain.value - far.value), 0.5)
        for apart in (0.0, 4.0, 60.0):
            rival = replace(other, chi2=own.chi2 + apart)
            both = measure.measure_with(scene, pose, replace(own, rival=rival))
            odds = alone[1].log_weight - alone[0].log_weight - apart / 2.0
            weight = 1.0 / (1.0 + math.exp(odds)) if odds > -9.0 else 1.0
            self.assertAlmostEqual(
                both.headline.value, weight * plain.value + (1 - weight) * far.value, places=6
            )
            said = any("two camera positions" in w for w in both.warnings)
            self.assertEqual(said, odds > -9.0)
            if apart == 0.0:
                self.assertGreater(both.headline.sd, plain.sd)


class WhatIsSaid(unittest.TestCase):
    def test_a_doubtful_headline(self) -> None:
        """More than 5° of spread from a mat deserves a word; the limit itself does not."""
        scene = scene_of(LEG_RAISE, Shot("left", 70.0))
        pose = catalogue().pose(LEG_RAISE)
        estimate = asked.camera_for(scene, pose, ())
        for sd, said in ((5.0, False), (5.1, True)):
            true = posterior.blend

            def widened(modes, wanted, headline, widths, sd=sd, true=true):
                values, sds, changes, frames = true(modes, wanted, headline, widths)
                return values, np.where(np.arange(len(sds)) == headline, sd, sds), changes, frames

            with mock.patch.object(told, "blend", widened):
                found = measure.measure_with(scene, pose, estimate)
            self.assertEqual(any("only good to ± " in w for w in found.warnings), said)

    def test_mirrored_and_swapped_sentences(self) -> None:
        scene = scene_of(LEG_RAISE, Shot("right", 70.0))
        pose = catalogue().pose(LEG_RAISE)
        for facing, sign, word in (
            ("left", -1.0, "point right"),
            ("right", 1.0, None),
            (None, 1.0, None),
        ):
            forward, said = asked.forward_of(replace(scene, facing=facing), pose)
            self.assertEqual(forward, sign)
            self.assertEqual([word in s for s in said], [True] if word else [])
        turned = {k: (1280 - x, y) for k, (x, y) in scene.marks.items()}
        forward, said = asked.forward_of(replace(scene, marks=turned, facing="right"), pose)
        self.assertEqual((forward, "point left" in said[0]), (1.0, True))

    def test_truth_without_optional_marks_leaves_only_those_measures_out(self) -> None:
        pose = catalogue().pose(LEG_RAISE)
        for side, value in (("left", 63.0), ("right", 88.0)):
            stage = set_up(pose, Shot(side, value))
            scene = Scene(pose.id, side, "passive", Image(1280, 960, 26.0), {}, variant={})
            whole = measure.true_values(pose, scene, stage.marks_3d)
            some = {k: p for k, p in stage.marks_3d.items() if k in pose.required}
            fewer = measure.true_values(pose, scene, some)
            self.assertAlmostEqual(whole["hip_flexion"], value, delta=0.01)
            self.assertLess(set(fewer), set(whole))
            self.assertEqual(fewer, {k: whole[k] for k in fewer})

    def test_without_a_mat_there_is_no_camera_to_show(self) -> None:
        pose = catalogue().pose(LEG_RAISE)
        flat = scene_of(LEG_RAISE, Shot("left", 70.0), mat=False)
        self.assertIsNone(measure.measure(flat, catalogue()).camera)
        self.assertIsNone(measure.camera_of(flat, catalogue()))
        matted = scene_of(LEG_RAISE, Shot("left", 70.0))
        found, own = measure.measure(matted, catalogue()), measure.camera_of(matted, catalogue())
        assert own is not None and found.camera is not None
        np.testing.assert_allclose(found.camera.rotation, own.camera.rotation, atol=1e-9)
        drawn = {f.measure for f in found.fans}
        lines = {m.id: m.fan for m in pose.measures if m.fan is not None}
        self.assertTrue(drawn)
        for name, fan in lines.items():
            there = {fan.vertex, fan.to} <= set(matted.marks) and name in {
                r.id for r in found.readings if r.headline
            }
            self.assertEqual(name in drawn, there)

    def test_the_floor_seen_from_above(self) -> None:
        """Assumed square to the floor: right stays right, away goes up the picture."""
        found = calibration.assume_square(1000, 640, 26.0, "floor", 300.0, None, 3.0)
        centre = found.camera.project(np.zeros(3))
        right = found.camera.project(np.array([10.0, 0, 0])) - centre
        away = found.camera.project(np.array([0, 10.0, 0])) - centre
        scale = 10.0 * found.camera.focal_px / 300.0
        np.testing.assert_allclose(right, [scale, 0], atol=1e-9)
        np.testing.assert_allclose(away, [0, -scale], atol=1e-9)
        self.assertAlmostEqual(found.camera.height_cm, 300.0)
