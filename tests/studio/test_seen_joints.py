"""Marks proposed by a landmark network, on photographs of bodies this program did not draw."""

import json
import math
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import cv2
import numpy as np

from dachi.core.body.anatomy import exchanged
from dachi.core.measuring import fuse
from dachi.core.measuring.calibration import Mat, solve_mat
from dachi.core.measuring.fuse import Fused
from dachi.core.measuring.scene import Image, Point
from dachi.data import catalogue
from dachi.store import assessments, markings, photos
from dachi.store.database import connect
from dachi.store.markings import Marking
from dachi.studio.bench import opening, seen_joints, starting_marks
from dachi.studio.bench.around import Surroundings, surroundings
from dachi.studio.bench.opening import followed, start
from dachi.studio.bench.reading import read
from dachi.studio.bench.seen_joints import Question
from dachi.studio.visits import recognised
from tests import slow
from tests.support import CLOCK, Pages, plain_picture

PICTURES = Path(__file__).parents[1] / "pictures"


def told(pose: str) -> tuple[np.ndarray, dict]:
    """A rendered photograph and the truth beside it."""
    image = cv2.imread(str(PICTURES / f"{pose}.jpg"))
    truth = json.loads((PICTURES / f"{pose}.json").read_text())
    return cv2.cvtColor(image, cv2.COLOR_BGR2RGB), truth


def body(image: np.ndarray, truth: dict) -> Fused:
    """The body behind what the network saw, through the camera of the truth's corners."""
    pose = catalogue().pose(truth["pose"])
    side = truth["side"] if pose.sides != "both" else "both"
    seen = seen_joints.see(image, pose, side, pose.default_variant())
    corners = {n: (x, y) for n, (x, y) in truth["corners"].items()}
    mat = Mat(truth["mat"][0], truth["mat"][1], corners)
    size = Image(truth["width"], truth["height"], truth["focal_35mm"])
    camera = solve_mat(mat, pose.view, size.width, size.height, size.focal_35mm, 1.0)
    asked = Question(
        pose, side, pose.default_variant(), size, seen.joints, seen.apart, camera, {}, None
    )
    found = seen_joints.body_of(asked)
    assert found is not None
    return found


class Seeing(unittest.TestCase):
    @slow("the network looks at many pictures")
    def test_marks_lie_nearer_than_where_they_would_start_blind(self) -> None:
        for name in ("low-lunge", "butterfly", "supine-leg-raise"):
            with self.subTest(name):
                image, truth = told(name)
                pose = catalogue().pose(name)
                found = body(image, truth)
                blind = starting_marks.guess_marks(
                    pose, truth["side"], truth["width"], truth["height"]
                )

                def off(marks: dict[str, Point], truth: dict = truth) -> list[float]:
                    return [math.dist(marks[n], p) for n, p in truth["marks"].items()]

                self.assertLess(np.mean(off(found.marks)), 0.5 * np.mean(off(blind)))
                thigh = 0.25 * truth["height_cm"] * truth["width"] / 330
                self.assertLess(np.median(off(found.marks)), 0.15 * thigh)
                # Left and right are as the body's, not the picture's.
                there = {n: truth["joints"][n] for n in found.centres}
                right = sum(math.dist(found.centres[n], p) for n, p in there.items())
                wrong = sum(math.dist(exchanged(found.centres)[n], p) for n, p in there.items())
                self.assertLessEqual(right, wrong)

    def test_nobody_in_an_empty_picture(self) -> None:
        pose = catalogue().pose("butterfly")
        grey = np.full((600, 800, 3), 128, np.uint8)
        self.assertIsNone(seen_joints.see(grey, pose, "both", pose.default_variant()))


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
        self.assertLessEqual(set(states.values()), {"guess", "seen"})
        self.assertEqual(read(at, marking, set()).result is None, False)
        self.assertEqual(markings.history(self.db, self.coach.id, tid), [], "and none is kept")
        guesses = {n for n, s in states.items() if s == "guess"}
        self.assertEqual(set(marking.seen), set(states) - guesses)
        self.assertEqual(at.photo.doubtful, len(guesses))
        for name, p in truth["marks"].items():
            if name in marking.marks:
                self.assertLess(math.dist(marking.marks[name], p), 60.0, name)
        self.assertNotEqual(marking.marks, before.marks)
        self.a_reading_too_wide_wants_every_mark_looked_at(at)
        self.what_nobody_set_follows(at, marking, guesses)
        # Nobody else's photograph is looked at, or written.
        self.assertEqual(photos.unseen(self.db, self.coach.id + 1), [])
        self.assertFalse(photos.set_joints(self.db, self.coach.id + 1, trial.photo_id, {}))

    def a_reading_too_wide_wants_every_mark_looked_at(self, at: Surroundings) -> None:
        wants = []
        for limit in (0.5, 90.0):
            with (
                mock.patch.object(opening, "WIDE_DEG", limit),
                # The ankle in front is hardly doubted: as if it were not at all.
                mock.patch.object(fuse, "DOUBTFUL", 0.1),
            ):
                wants.append([n for n, s in start(self.work, at)[1].items() if s == "guess"])
        self.assertEqual(set(wants[0]), set(at.pose.required))
        self.assertLess(len(wants[1]), len(wants[0]))

    def what_nobody_set_follows(
        self, at: Surroundings, marking: Marking, guesses: set[str]
    ) -> None:
        x, y = marking.marks["hip"]
        moved = replace(marking, marks={**marking.marks, "hip": (x + 30.0, y)},
                        seen=tuple(n for n in marking.seen if n != "hip"))  # fmt: skip
        lie = followed(at, moved, guesses - {"hip"})
        self.assertEqual(set(lie), set(marking.marks) - {"hip"})
        self.assertGreater(lie["back_knee"][0], marking.marks["back_knee"][0] + 2.0)
        # What somebody set stays, and with nothing set all lie where they were seen.
        self.assertEqual(followed(at, replace(moved, seen=()), set()), {})
        for name, p in followed(at, marking, set(marking.marks) - set(marking.seen)).items():
            self.assertLess(math.dist(p, marking.marks[name]), 0.2, name)
        # What a reading makes provisional is told so, and no reading.
        found = read(at, marking, set(marking.marks))
        self.assertTrue(found.proposed)
        self.assertIsNotNone(found.result)
        self.assertIsNone(read(at, replace(marking, mark_sds={}, seen=()), guesses).result)

    def test_a_picture_that_is_lost_does_not_stop_the_rest(self) -> None:
        aid = self.new_assessment()
        self.upload(aid, plain_picture())
        for file in (self.folder / "photos").rglob("*.jpg"):
            file.unlink()
        self.assertEqual(recognised.look_at_all(self.work), 1)
        photo = photos.get(self.db, self.coach.id, 1)
        self.assertEqual(photo.joints, {})
