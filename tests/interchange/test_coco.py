"""Marks out as COCO keypoints and in again."""

import json
import unittest

from dachi.data import catalogue
from dachi.interchange.coco import CocoError, Marked, export, marks_for
from dachi.simulation.camera import Shot, set_up


def marked(pose_id: str, number: int = 1) -> Marked:
    pose = catalogue().pose(pose_id)
    side = "both" if pose.sides == "both" else "left"
    stage = set_up(pose, Shot(side, pose.figure.low + 5))
    marks = {k: stage.marks_px[k] for k in pose.required}
    return Marked(number, "a.jpg", 1280, 960, pose_id, side, next(iter(pose.modes)), marks)


class Coco(unittest.TestCase):
    def test_there_and_back_in_every_pose(self) -> None:
        for pose in catalogue().poses:
            one = marked(pose.id)
            text = json.dumps(export([one], catalogue())).encode()
            back = marks_for(text, pose, 2560, 1920)
            self.assertEqual(set(back), set(one.marks), pose.id)
            for name, (x, y) in one.marks.items():
                self.assertAlmostEqual(back[name][0], 2 * x, delta=0.02)
                self.assertAlmostEqual(back[name][1], 2 * y, delta=0.02)

    def test_shape_of_the_data_set(self) -> None:
        data = export([marked("butterfly", 4), marked("half-split", 9)], catalogue())
        self.assertEqual([c["name"] for c in data["categories"]], ["butterfly", "half-split"])
        for a in data["annotations"]:
            category = next(c for c in data["categories"] if c["id"] == a["category_id"])
            self.assertEqual(len(a["keypoints"]), 3 * len(category["keypoints"]))
            self.assertEqual(sum(v == 2 for v in a["keypoints"][2::3]), a["num_keypoints"])
            self.assertTrue(
                all(1 <= k <= len(category["keypoints"]) for b in category["skeleton"] for k in b)
            )

    def test_unusable_files(self) -> None:
        pose = catalogue().pose("butterfly")
        good = export([marked("butterfly")], catalogue())
        empty = json.loads(json.dumps(good))
        empty["annotations"][0]["keypoints"] = [0] * len(empty["annotations"][0]["keypoints"])
        cases = {
            "does not hold": [b"", b"[]", b"{}", b'{"categories": 3}', b"\xff\xfe"],
            "no keypoints for": [json.dumps(export([marked("pigeon")], catalogue())).encode()],
            "None of the file": [json.dumps(empty).encode()],
            "too large": [b" " * (6 << 20)],
        }
        for words, texts in cases.items():
            for text in texts:
                with self.subTest(words), self.assertRaises(CocoError) as caught:
                    marks_for(text, pose, 1280, 960)
                self.assertIn(words, str(caught.exception))
