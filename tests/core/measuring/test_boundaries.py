"""Limits and mixtures of the measuring core, with numbers worked out by hand."""

import math
import unittest
from dataclasses import replace
from types import SimpleNamespace
from unittest import mock

import numpy as np

from dachi.core.body.pinhole import CORNERS, look_from, mat_points
from dachi.core.catalogue.poses import Mark
from dachi.core.measuring import asked, calibration, posterior
from dachi.core.measuring.angle_fans import _sweep
from dachi.core.measuring.calibration import CameraError, CameraEstimate, Mat, describe, solve_mat
from dachi.core.measuring.checks import judge_figure_match
from dachi.core.measuring.figure_match import MISFIT_LIMIT, FigureMatch, Region, match_figure
from dachi.core.measuring.scene import Image, Scene, SceneError
from dachi.data import catalogue
from dachi.simulation.camera import Shot, set_up
from tests.support import LEG_RAISE, scene_of

SIZE = (1600, 1200)
PLAIN = Scene(LEG_RAISE, "left", "passive", Image(1600, 1200, 26.0), {})
CAMERA = look_from((0.0, -290.0, 80.0), 0.0, -12.0, 0.0, 26.0, *SIZE)
MATTED = CameraEstimate(CAMERA, np.eye(7), "mat")


def solution(
    values: tuple[float, ...], sds: tuple[float, ...], log_weight: float, habit=(0.0, 0.0)
):
    """Something that answers as one solution of a scene does."""
    found = (np.array(values), np.array(sds), np.array(sds) / 2, np.array(habit))
    return SimpleNamespace(evaluate=lambda _: found, body=SimpleNamespace(log_weight=log_weight))


class Mixtures(unittest.TestCase):
    """Mean and variance of weighted solutions by the law of total variance."""

    head = next(m for m in catalogue().pose("straddle").measures if m.plausible)

    def blend(self, *modes, widths=((1.0, 1.0), (1.0, 1.0))):
        return posterior.blend(list(modes), [self.head, self.head], 1, np.array(widths))

    def test_one_solution_is_itself(self) -> None:
        only = solution((10.0, 20.0), (1.0, 2.0), -3.0)
        values, sds, changes, best = self.blend(only)
        self.assertEqual((list(values), list(sds), best), ([10.0, 20.0], [1.0, 2.0], only))
        self.assertEqual(list(changes), [0.5, 1.0])

    def test_a_habit_is_in_a_value_and_a_fifth_of_it_in_a_change(self) -> None:
        """Widths do not scale it: 2^2 + 3^2 of a value; of a change 1^2 2^2 + 9 / 5."""
        only = solution((10.0, 20.0), (1.0, 2.0), 0.0, (0.0, 3.0))
        _, sds, changes, _ = self.blend(only, widths=((1.0, 1.0), (1.0, 2.0)))
        self.assertAlmostEqual(sds[1], math.sqrt(13.0))
        self.assertAlmostEqual(changes[1], math.sqrt(4.0 + 9.0 / 5.0))

    def test_two_solutions(self) -> None:
        low, high = self.head.plausible
        inside = (low + high) / 2
        a = solution((10.0, inside), (1.0, 2.0), math.log(3.0))
        b = solution((18.0, inside + 4), (3.0, 2.0), 0.0)
        values, sds, changes, best = self.blend(a, b)
        self.assertAlmostEqual(values[0], 12.0)
        self.assertAlmostEqual(values[1], inside + 1.0)
        # 3/4 (1 + 4) + 1/4 (9 + 36) and 4 + 3/4 1 + 1/4 9.
        self.assertAlmostEqual(sds[0], math.sqrt(15.0))
        self.assertAlmostEqual(sds[1], math.sqrt(7.0))
        # 3/4 (1/4 + 4) + 1/4 (9/4 + 36).
        self.assertAlmostEqual(changes[0], math.sqrt(12.75))
        self.assertIs(best, a)
        # Widths scale what each solution spreads, 3/4 (1/4 1 + 4) + 1/4 (1/4 9 + 36), not what
        # lies between them; of a change 3/4 (4/4 + 4) + 1/4 (4 9/4 + 36).
        _, sds, changes, _ = self.blend(a, b, widths=((0.5, 1.0), (2.0, 1.0)))
        self.assertAlmostEqual(sds[0], math.sqrt(12.75))
        self.assertAlmostEqual(sds[1], math.sqrt(7.0))
        self.assertAlmostEqual(changes[0], math.sqrt(15.0))

    def test_what_no_hip_does_counts_for_little(self) -> None:
        low, high = self.head.plausible
        inside = (low + high) / 2
        for beyond in (low - 0.1, high + 0.1):
            a, b = (
                solution((0.0, beyond), (0.0, 0.0), 0.0),
                solution((1.0, inside), (0.0, 0.0), 0.0),
            )
            values, _, _, best = self.blend(a, b)
            self.assertIs(best, b)
            self.assertAlmostEqual(values[0], 1 / (1 + math.exp(-7.0)))
        for edge in (low, high):
            a, b = (
                solution((0.0, edge), (0.0, 0.0), 0.0),
                solution((1.0, inside), (0.0, 0.0), 0.0),
            )
            self.assertAlmostEqual(self.blend(a, b)[0][0], 0.5)


class Limits(unittest.TestCase):
    marks = (
        Mark("a", "the hip", "", "side.hip"),
        Mark("b", "the knee", "", "side.knee", parent="a", segment="thigh"),
    )

    def test_scale_of_a_picture_without_a_mat(self) -> None:
        """A 40 cm thigh seen as 80 px is half a centimetre a pixel; 42 cm where nobody taped."""
        scene = replace(PLAIN, marks={"a": (10.0, 10.0), "b": (90.0, 10.0)})
        taped = replace(scene, segments_cm={"thigh": 40.0})
        self.assertAlmostEqual(asked._cm_per_px(taped, self.marks), 0.5)
        odd = (self.marks[0], replace(self.marks[1], segment="tail"))
        self.assertAlmostEqual(asked._cm_per_px(scene, odd), 42.0 / 80.0)
        self.assertAlmostEqual(asked._cm_per_px(scene, self.marks[:1]), 300.0 / 1600.0)

    def test_spread_of_a_click(self) -> None:
        """Three pixels at 1600, in proportion."""
        for width, height, sd in ((1600, 1200, 3.0), (800, 600, 1.5), (600, 3200, 6.0)):
            scene = replace(PLAIN, image=Image(width, height, 26.0))
            self.assertAlmostEqual(scene.sd_of("hip"), sd)
        self.assertEqual(replace(PLAIN, mark_sd_px=1.0).sd_of("hip"), 1.0)
        self.assertEqual(replace(PLAIN, mark_sds={"hip": 0.5}).sd_of("hip"), 0.5)

    def test_the_figure_fits_up_to_its_limit(self) -> None:
        at = FigureMatch(MISFIT_LIMIT, 0.0, Region(0, 0, 1))
        self.assertTrue(at.fits)
        self.assertFalse(replace(at, misfit=MISFIT_LIMIT + 1e-6).fits)
        self.assertIsNone(judge_figure_match("Pose", 0.25, 0.25))
        found = judge_figure_match("Pose", 30.0, 0.25)
        assert found is not None
        self.assertEqual((found.value, found.sd, found.status), (9.0, 0.0, "retake"))

    def test_the_figure_lies_either_way_round(self) -> None:
        stage = set_up(catalogue().pose(LEG_RAISE), Shot("left", 70.0))
        pose = catalogue().pose(LEG_RAISE)
        marks = {k: p for k, p in stage.marks_px.items() if k in pose.required}
        mirrored = {k: (1280 - x, y) for k, (x, y) in marks.items()}
        a, b = (match_figure(pose, "left", {}, m) for m in (marks, mirrored))
        self.assertAlmostEqual(a.misfit, b.misfit, places=9)
        self.assertAlmostEqual(a.head.x, 1280 - b.head.x, places=6)
        self.assertTrue(a.fits and b.fits)

    def test_a_turn_goes_the_way_the_value_counts(self) -> None:
        for zero, moving, value, turn in (
            (0, 90, 90, 90), (0, 90, 270, -270), (170, -170, 20, 20), (-170, 170, 20, -20),
            (10, -60, 70, -70), (10, -60, 290, 290), (0, 90, 179, 90), (0, 90, 181, -270),
        ):  # fmt: skip
            with self.subTest(zero=zero, moving=moving, value=value):
                self.assertAlmostEqual(_sweep(zero, moving, value), turn)

    def test_camera_words_at_their_limits(self) -> None:
        for yaw, words in ((20.0, "fine"), (20.2, "squarer"), (35.0, "squarer"), (35.2, "move it")):
            at = math.radians(yaw)
            camera = look_from(
                (-290 * math.sin(at), -290 * math.cos(at), 80), yaw, -12, 0, 26, *SIZE
            )
            with mock.patch.object(type(camera), "yaw_deg", yaw):
                self.assertIn(words, describe(camera))

    def test_marks_that_may_touch_do_not_hide_others_that_may_not(self) -> None:
        pose = catalogue().pose(LEG_RAISE)
        scene = scene_of(LEG_RAISE, Shot("left", 70.0))
        first, second, third = pose.required[:3]
        marks = tuple(replace(m, touches=m.id == second) for m in pose.marks if m.id in scene.marks)
        odd = replace(pose, marks=marks)
        same = dict(scene.marks) | {third: scene.marks[first]}
        with self.assertRaisesRegex(SceneError, "same spot"):
            asked.usable_marks(replace(scene, marks=same), odd)
        allowed = dict(scene.marks) | {second: scene.marks[first]}
        asked.usable_marks(replace(scene, marks=allowed), odd)


class Corners(unittest.TestCase):
    def seen(
        self, camera=CAMERA, size: tuple[float, float] = (183.0, 61.0), **moved: tuple[float, float]
    ):
        px = dict(zip(CORNERS, map(tuple, camera.project(mat_points(*size, "side"))), strict=True))
        return px | {k: (px[k][0] + dx, px[k][1] + dy) for k, (dx, dy) in moved.items()}

    def test_the_odd_corner_is_named(self) -> None:
        good = self.seen()
        for odd in CORNERS:
            others = [good[c] for c in CORNERS if c != odd]
            inside = tuple(float(np.mean([p[i] for p in others])) for i in (0, 1))
            with self.assertRaisesRegex(CameraError, f"corner {odd.replace('_', ' ')} lies inside"):
                solve_mat(Mat(183, 61, good | {odd: inside}), "side", *SIZE, 26.0, 2.0)

    def test_a_square_mat_has_no_other_way_to_lie(self) -> None:
        """Its sides swapped it is the same mat: poor corners are poor corners, no more."""
        moved = self.seen(size=(100.0, 100.0), far_left=(16.0, -9.0))
        found = solve_mat(Mat(100, 100, moved), "side", *SIZE, 26.0, 2.0)
        self.assertIn("away from the best camera", found.warnings[0])

    def test_from_below_and_from_behind_nothing_is_seen(self) -> None:
        world = mat_points(183, 61, "side")
        self.assertTrue(calibration._sees_mat(CAMERA, world))
        under = look_from((0.0, -290.0, -80.0), 0.0, 12.0, 0.0, 26.0, *SIZE)
        behind = look_from((0.0, 290.0, 80.0), 0.0, -12.0, 0.0, 26.0, *SIZE)
        across = look_from((0.0, 290.0, 80.0), 180.0, -12.0, 0.0, 26.0, *SIZE)
        for camera in (under, behind, across):
            self.assertFalse(calibration._sees_mat(camera, world))

    def test_a_picture_squarely_taken_is_centred(self) -> None:
        found = calibration.assume_square(1000, 640, 26.0, "upright", 300.0, None, 3.0)
        self.assertEqual(list(found.camera.project(np.zeros(3))), [500.0, 320.0])
