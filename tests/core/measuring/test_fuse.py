"""A body laid behind joints that were seen, on parametric bodies whose joints are known."""

import json
import math
import unittest
from pathlib import Path

from dachi.core.body.anatomy import exchanged
from dachi.core.measuring.calibration import CameraEstimate, Mat, solve_mat
from dachi.core.measuring.fuse import Fused, fuse
from dachi.core.measuring.habits import DOUBTFUL, Habit, read_habits
from dachi.core.measuring.recognise import JOINTS
from dachi.core.measuring.scene import Image, Point
from dachi.data import catalogue, habits

PICTURES = Path(__file__).parents[2] / "pictures"
NAMES = ("low-lunge", "butterfly", "supine-leg-raise")


def told(name: str) -> tuple[dict, dict[str, Point], dict[str, float]]:
    """A picture's truth, its joints (feet only about: nobody measured them), how sure each is."""
    truth = json.loads((PICTURES / f"{name}.json").read_text())
    known = {n: (x, y) for n, (x, y) in truth["joints"].items() if n in JOINTS}
    joints = {n: known.get(n, known[f"{n.split('.')[0]}.ankle"]) for n in JOINTS}
    return truth, joints, {n: 0.0 if n in known else 40.0 for n in JOINTS}


def camera(truth: dict) -> CameraEstimate:
    pose = catalogue().pose(truth["pose"])
    corners = {n: (x, y) for n, (x, y) in truth["corners"].items()}
    length, width = truth["mat"]
    return solve_mat(
        Mat(length, width, corners), pose.view, truth["width"], truth["height"],
        truth["focal_35mm"], 1.0,
    )  # fmt: skip


def laid(truth: dict, joints: dict[str, Point], apart: dict[str, float], mat: bool = True) -> Fused:
    pose = catalogue().pose(truth["pose"])
    side = truth["side"] if pose.sides != "both" else "both"
    found = fuse(
        pose, side, pose.default_variant(),
        Image(truth["width"], truth["height"], truth["focal_35mm"]), joints,
        camera(truth) if mat else None, spreads_px=apart, habits=habits(),
    )  # fmt: skip
    assert found is not None
    return found


def thigh(truth: dict) -> float:
    return 0.25 * truth["height_cm"] * truth["width"] / 330


class Laying(unittest.TestCase):
    def test_hips_and_knees_come_to_lie_near_their_own(self) -> None:
        for name in NAMES:
            for mat in (True, False):
                truth, joints, apart = told(name)
                found = laid(truth, joints, apart, mat)
                for joint, at in found.centres.items():
                    with self.subTest(name, joint=joint, mat=mat):
                        off = math.dist(at, truth["joints"][joint])
                        self.assertLess(off, 0.25 * thigh(truth))

    def test_left_taken_for_right_is_put_right(self) -> None:
        for name in ("butterfly", "supine-leg-raise"):
            with self.subTest(name):
                truth, joints, apart = told(name)
                straight = laid(truth, joints, apart)
                turned = laid(truth, exchanged(joints), exchanged(apart))
                self.assertNotEqual(straight.renamed, turned.renamed)
                for mark, at in straight.marks.items():
                    self.assertLess(math.dist(at, turned.marks[mark]), 1.0)

    def test_one_wrong_joint_is_outvoted_and_its_mark_less_sure(self) -> None:
        for name, joint, mark in (
            ("low-lunge", "{side}.knee", "back_knee"), ("butterfly", "left.knee", "left_knee"),
            ("supine-leg-raise", "{side}.ankle", "ankle"),
        ):  # fmt: skip
            with self.subTest(name):
                truth, joints, apart = told(name)
                joint = joint.format(side=truth["side"])
                right = laid(truth, joints, apart)
                x, y = joints[joint]
                far = 0.8 * thigh(truth)
                wrong = laid(truth, joints | {joint: (x + far, y - far)}, apart)
                moved = math.dist(wrong.marks[mark], right.marks[mark])
                self.assertLess(moved, 0.8 * far * math.sqrt(2))
                self.assertGreater(wrong.sds[mark], 1.3 * right.sds[mark])

    def test_looks_that_lie_apart_make_a_mark_less_sure(self) -> None:
        truth, joints, apart = told("low-lunge")
        sure = laid(truth, joints, apart).sds_cm["back_knee"]
        vague = laid(truth, joints, apart | {f"{truth['side']}.knee": 60.0}).sds_cm["back_knee"]
        self.assertGreater(vague, sure)

    def test_what_is_off_the_body_or_seen_apart_wants_a_look(self) -> None:
        mark = Habit(0.0, 0.0, 1.0, -4.6)
        chances = [mark.doubt(*at) for at in ((0, 0), (1, 0), (1, 2), (6, 2), (6, 20))]
        self.assertEqual(sorted(chances), chances)
        self.assertAlmostEqual(chances[0], 0.01, places=3)
        self.assertLess(chances[0], DOUBTFUL)
        self.assertGreater(chances[-1], DOUBTFUL)
        # What nothing was learnt of is asked about always.
        self.assertGreater(Habit(0.0, 0.0, 1.0).doubt(0.0, 0.0), 0.5)
        truth, joints, apart = told("low-lunge")
        knee = {f"{truth['side']}.knee": 60.0}
        self.assertIn("back_knee", laid(truth, joints, apart).certain())
        self.assertNotIn("back_knee", laid(truth, joints, apart | knee).certain())

    def test_habits_are_read_as_they_are_written(self) -> None:
        found = read_habits("pose,mark,ahead,down,sd,odds\nlunge,hip,0.50,-1.25,2.00,-4.2\n\n")
        self.assertEqual(found["lunge"]["hip"], Habit(0.5, -1.25, 2.0, -4.2))
        for pose, marks in habits().items():
            self.assertLessEqual(set(marks), {m.id for m in catalogue().pose(pose).marks})
            self.assertTrue(all(0.3 < h.sd < 12 for h in marks.values()), pose)
