"""Nobody's limbs, the other side, another camera's corners: limits worked out by hand."""

import math
import unittest
from dataclasses import replace

import numpy as np

from dachi.core.catalogue.poses import Mark
from dachi.core.measuring.plausible import corners_apart, judge_body, judge_side
from dachi.core.measuring.scene import Image, Scene
from dachi.data import catalogue
from dachi.simulation.camera import Shot, set_up

SCENE = Scene("supine-leg-raise", "left", "passive", Image(1600, 1200, 26.0), {})


class Limbs(unittest.TestCase):
    marks = (
        Mark("hip", "hip", "", "side.hip"),
        Mark("knee", "knee", "", "side.knee", parent="hip", segment="thigh"),
        Mark("ankle", "ankle", "", "side.ankle", parent="knee", segment="shin"),
    )
    taped = replace(SCENE, segments_cm={"thigh": 40.0, "shin": 40.0})

    def judge(
        self,
        thigh: float,
        shin: float,
        marks=None,
        calibrated: bool = True,
        scene=None,
        turned: float = 0.0,
    ):
        """Limbs of these lengths (cm) across the line of sight, or ``turned`` (degrees) to it."""
        way = np.array([math.cos(math.radians(turned)), math.sin(math.radians(turned)), 0.0])
        knee = np.array([thigh, 0.0, 0.0])
        points = {"hip": np.zeros(3), "knee": knee, "ankle": knee + shin * way}
        eye = np.array([thigh, -1e6, 0.0])
        return judge_body(scene or self.taped, marks or self.marks, points, eye, calibrated)

    def test_longer_than_anybodys(self) -> None:
        """1.35 times 40 is 54 cm."""
        self.assertIsNone(self.judge(53.9, 40.0))
        found = self.judge(54.1, 40.0)
        assert found is not None
        self.assertEqual((found.id, found.status, found.limit), ("body_size", "retake", 1.35))
        self.assertAlmostEqual(found.value, 54.1 / 40)
        self.assertIn("the thigh to the knee would be 54 cm long", found.message)
        # Without a mat there are no centimetres: proportions alone.
        self.assertIsNone(self.judge(54.1, 40.0, calibrated=False))

    def test_out_of_proportion(self) -> None:
        """1.9 times one another, whichever is the longer."""
        for calibrated in (True, False):
            self.assertIsNone(self.judge(37.9, 20.0, calibrated=calibrated))
            for thigh, shin, words in (
                (
                    38.1,
                    20.0,
                    "the thigh to the knee looks 1.9 times as long as the shin to the ankle",
                ),
                (
                    20.0,
                    38.1,
                    "the shin to the ankle looks 1.9 times as long as the thigh to the knee",
                ),
            ):
                found = self.judge(thigh, shin, calibrated=calibrated)
                assert found is not None
                self.assertIn(words, found.message)
                self.assertAlmostEqual(found.value, 1.905)
        found = self.judge(30.0, 0.0)
        assert found is not None
        self.assertEqual(found.value, 9.0, "nothing endless is shown")

    def test_lengths_of_others_stand_in_for_untaped_ones(self) -> None:
        self.assertIsNone(self.judge(42.0, 42.0, scene=SCENE))
        self.assertIsNotNone(self.judge(62.0, 42.0, scene=SCENE))
        odd = (*self.marks[:2], replace(self.marks[2], segment="tail"))
        self.assertIsNone(self.judge(40.0, 400.0, odd), "a segment nobody knows says nothing")

    def test_limbs_that_point_along_the_line_of_sight_are_left_out(self) -> None:
        """Their cosine to it: 0.6 is 53.1°, so a limb turned by 36.9° out of the picture."""
        for turned, said in (
            (0.0, True),
            (-36.0, True),
            (36.0, True),
            (37.5, False),
            (-90.0, False),
        ):
            self.assertEqual(self.judge(40.0, 90.0, turned=turned) is not None, said, turned)
        marks = (*self.marks[:2], replace(self.marks[2], segment=None))
        self.assertIsNone(self.judge(40.0, 90.0, marks))
        self.assertIsNone(judge_body(self.taped, self.marks, {}, np.zeros(3), True))


class TheOtherSide(unittest.TestCase):
    """Right heads right and left heads left, where the far leg is not said to be the near one."""

    def test_every_side_pose(self) -> None:
        tried = 0
        for pose in catalogue().poses:
            near = [o for v in pose.variants if v.id == "near_leg" for o in v.options] or [""]
            for option in near:
                for side in ("left", "right"):
                    stage = set_up(
                        pose, Shot("both" if pose.sides == "both" else side, pose.figure.low)
                    )
                    marks = dict(stage.marks_px)
                    if option == "back":
                        marks = {k: (1280 - x, y) for k, (x, y) in marks.items()}
                    variant = {"near_leg": option} if option else {}
                    own = replace(SCENE, pose=pose.id, side=side, marks=marks, variant=variant)
                    other = replace(own, side="right" if side == "left" else "left")
                    with self.subTest(pose.id, side=side, near=option):
                        self.assertIsNone(judge_side(own, pose))
                        found = judge_side(other, pose)
                        if pose.view != "side" or pose.sides == "both":
                            self.assertIsNone(found)
                            continue
                        tried += 1
                        assert found is not None
                        self.assertIn(f"the {side} side is towards the camera", found.message)
                        self.assertEqual(found.status, "retake")
        self.assertGreater(tried, 14)

    def test_which_way_is_named(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        a, b = pose.facing
        for x, side, words in (
            (900.0, "left", "feet point right"),
            (100.0, "right", "feet point left"),
        ):
            marks = {a: (500.0, 500.0), b: (x, 500.0)}
            found = judge_side(replace(SCENE, side=side, marks=marks), pose)
            assert found is not None
            self.assertIn(words, found.message)
            self.assertIn(f"filed as {side}", found.message)
        self.assertIsNone(judge_side(replace(SCENE, marks={a: (500.0, 500.0)}), pose))
        self.assertIsNone(judge_side(replace(SCENE, marks={b: (500.0, 500.0)}), pose))
        level = {a: (500.0, 500.0), b: (500.0, 700.0)}
        self.assertIsNone(judge_side(replace(SCENE, marks=level), pose))


class Corners(unittest.TestCase):
    def test_how_far_apart_is_another_camera(self) -> None:
        """Five spreads of 2 px: times root 2 against one other 14.14, root 1.5 against two 12.25."""
        here = {"near_left": (100.0, 100.0), "far_left": (300.0, 50.0)}

        def moved(by: float) -> dict[str, tuple[float, float]]:
            return here | {"far_left": (300.0 + by, 50.0)}

        for by, others, apart in (
            (14.1, 1, False), (14.2, 1, True), (12.2, 2, False), (12.3, 2, True), (0.0, 1, False),
        ):  # fmt: skip
            found = corners_apart(moved(by), [here] * others, 2.0)
            with self.subTest(by=by, others=others):
                self.assertAlmostEqual(found, by if apart else 0.0)
        self.assertEqual(corners_apart(here, [], 2.0), 0.0)
        # Against the mean of others, both coordinates counting.
        mean = [moved(20.0), moved(40.0)]
        self.assertAlmostEqual(corners_apart(here, mean, 2.0), 30.0)
        self.assertAlmostEqual(
            corners_apart(here | {"near_left": (112.0, 116.0)}, [here], 2.0), math.hypot(12, 16)
        )
