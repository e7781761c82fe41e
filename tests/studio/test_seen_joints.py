"""Marks proposed by a landmark network, on photographs of bodies this program did not draw."""

import json
import math
import unittest
from pathlib import Path

import cv2
import numpy as np

from dachi.core.measuring.scene import Point
from dachi.data import catalogue
from dachi.photos.landmarks import swapped
from dachi.store import assessments, photos
from dachi.store.database import connect
from dachi.studio import recognised, seen_joints, starting_marks
from dachi.studio.markings import surroundings
from dachi.studio.opening import start
from tests.support import CLOCK, Pages, plain_picture

PICTURES = Path(__file__).parents[1] / "pictures"


def told(pose: str) -> tuple[np.ndarray, dict]:
    """A rendered photograph and the truth beside it."""
    image = cv2.imread(str(PICTURES / f"{pose}.jpg"))
    truth = json.loads((PICTURES / f"{pose}.json").read_text())
    return cv2.cvtColor(image, cv2.COLOR_BGR2RGB), truth


class Seeing(unittest.TestCase):
    def test_marks_lie_nearer_than_where_they_would_start_blind(self) -> None:
        for name in ("low-lunge", "butterfly", "supine-leg-raise"):
            with self.subTest(name):
                image, truth = told(name)
                pose, side = catalogue().pose(name), truth["side"]
                joints = seen_joints.see(image, pose, side, pose.default_variant())
                size = (truth["width"], truth["height"])
                found = seen_joints.marks_of(joints, pose, side, pose.default_variant(), size)
                blind = starting_marks.guess_marks(pose, side, *size)

                def off(marks: dict[str, Point], truth: dict = truth) -> list[float]:
                    return [math.dist(marks[n], p) for n, p in truth["marks"].items()]

                self.assertLess(np.mean(off(found)), 0.6 * np.mean(off(blind)))
                thigh = 0.25 * truth["height_cm"] * truth["width"] / 330
                self.assertLess(np.median(off(found)), 0.25 * thigh)
                # Left and right are as the body's, not the picture's.
                there = {n: truth["joints"][n] for n in joints if n in truth["joints"]}
                right = sum(math.dist(joints[n], p) for n, p in there.items())
                wrong = sum(math.dist(swapped(joints)[n], p) for n, p in there.items())
                self.assertLessEqual(right, 1.25 * wrong)

    def test_nobody_in_an_empty_picture(self) -> None:
        pose = catalogue().pose("butterfly")
        grey = np.full((600, 800, 3), 128, np.uint8)
        self.assertIsNone(seen_joints.see(grey, pose, "both", pose.default_variant()))


class Laying(unittest.TestCase):
    """A pose's figure laid onto joints, against maps worked out by hand."""

    def setUp(self) -> None:
        self.pose = catalogue().pose("front-split")
        self.variant = self.pose.default_variant()
        self.layout = seen_joints.layout_of(self.pose, "left", self.variant, (1600, 1200))

    def joints(self, figure: int, turn: complex, shift: complex) -> dict[str, Point]:
        moved = {}
        for joint, (x, y) in zip(self.layout.joints, self.layout.figures[figure], strict=True):
            z = turn * complex(x, y) + shift
            moved[joint] = (z.real, z.imag)
        return moved

    def test_a_moved_and_sized_figure_is_found_again(self) -> None:
        turn = 0.7 * complex(math.cos(0.1), math.sin(0.1))
        found = seen_joints.lay(self.layout, self.joints(2, turn, 90 + 40j))
        self.assertEqual(found.figure, 2)
        self.assertAlmostEqual(found.misfit, 0.0, places=6)
        self.assertAlmostEqual(abs(found.turn - turn), 0.0, places=6)
        x, y = found.at((100.0, 50.0))
        self.assertAlmostEqual(abs(complex(x, y) - (turn * (100 + 50j) + 90 + 40j)), 0, places=6)

    def test_a_figure_on_its_head_fits_badly(self) -> None:
        upright = seen_joints.lay(self.layout, self.joints(2, 1, 0))
        over = seen_joints.lay(self.layout, self.joints(2, -1, 0))
        self.assertGreater(over.misfit, upright.misfit + 0.3)

    def test_marks_stay_in_the_picture_and_unseen_ones_are_carried(self) -> None:
        pose = catalogue().pose("butterfly")
        layout = seen_joints.layout_of(pose, "both", pose.default_variant(), (1600, 1200))
        seen = {
            j: (float(x), float(y))
            for j, (x, y) in zip(layout.joints, layout.figures[1], strict=True)
        }
        size = (1600, 1200)
        found = seen_joints.marks_of(seen, pose, "both", pose.default_variant(), size)
        self.assertLessEqual(set(pose.required), set(found))
        self.assertLess(math.dist(found["groin"], layout.whole[1]["groin"]), 1.0)
        far = {j: (x + 9000.0, y) for j, (x, y) in seen.items()}
        moved = seen_joints.marks_of(far, pose, "both", pose.default_variant(), size)
        self.assertTrue(all(0 <= x <= 1600 and 0 <= y <= 1200 for x, y in moved.values()))


class Waiting(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def test_photographs_that_wait_are_looked_at_once(self) -> None:
        aid = self.new_assessment()
        _, truth = told("low-lunge")
        place = {"pose": "low-lunge", "side": truth["side"], "mode": "passive"}
        answer = self.upload(aid, (PICTURES / "low-lunge.jpg").read_bytes(), **place)
        tid = int(answer.headers["Location"].rsplit("/", 1)[1])
        trial = assessments.trial(self.db, self.coach.id, tid)
        at = surroundings(self.work, trial)
        self.assertIsNone(at.photo.joints)
        before, _ = start(self.work, at)
        self.assertEqual(recognised.look_at_all(self.work), 1)
        self.assertEqual(recognised.look_at_all(self.work), 0)
        # Kept at once: another connection sees the last one too.
        other = connect(self.folder, CLOCK)
        self.assertEqual(photos.unseen(other, self.coach.id), [])
        other.close()
        at = surroundings(self.work, trial)
        marking, states = start(self.work, at)
        self.assertEqual(set(states.values()), {"guess"}, "a proposal is no reading")
        for name, p in truth["marks"].items():
            if name in marking.marks:
                self.assertLess(math.dist(marking.marks[name], p), 60.0, name)
        self.assertNotEqual(marking.marks, before.marks)
        # Nobody else's photograph is looked at, or written.
        self.assertEqual(photos.unseen(self.db, self.coach.id + 1), [])
        self.assertFalse(photos.set_joints(self.db, self.coach.id + 1, trial.photo_id, {}))

    def test_a_picture_that_is_lost_does_not_stop_the_rest(self) -> None:
        aid = self.new_assessment()
        self.upload(aid, plain_picture())
        for file in (self.folder / "photos").rglob("*.jpg"):
            file.unlink()
        self.assertEqual(recognised.look_at_all(self.work), 1)
        photo = photos.get(self.db, self.coach.id, 1)
        self.assertEqual(photo.joints, {})
