"""Poses told from joints that another camera saw, moved, mirrored and misnamed."""

import unittest

import numpy as np

from dachi.core.body.pinhole import look_from
from dachi.core.body.staging import on_mat
from dachi.core.measuring.recognise import JOINTS, Likeness, certain, likenesses
from dachi.data import catalogue

SIZE = (1600, 1200)
SHEET = (
    "supine-leg-raise",
    "front-split",
    "low-lunge",
    "straddle",
    "deep-squat",
    "seated-rotation",
)


def places(poses: tuple[str, ...] = SHEET) -> list:
    found = [catalogue().pose(p) for p in poses]
    return [(p, s) for p in found for s in (("left", "right") if p.sides != "both" else ("both",))]


def joints(pose_id: str, side: str, share: float, yaw: float, off: float, rng) -> dict:
    """Seen by a camera that stands, looks and zooms a little otherwise, with errors."""
    pose = catalogue().pose(pose_id)
    value = pose.figure.low + share * (pose.figure.high - pose.figure.low)
    points = on_mat(pose, side, value).points
    d, h = 1.2 * pose.camera.distance_cm, pose.camera.height_cm + 12
    a = np.radians(yaw)
    camera = look_from((-d * np.sin(a) + 20, -d * np.cos(a), h), yaw, -9, 1.5, 33, *SIZE)
    return {j: tuple(camera.project(points[j]) + rng.normal(0, off, 2)) for j in JOINTS}


class Recognising(unittest.TestCase):
    def test_every_pose_of_a_sheet(self) -> None:
        rng = np.random.default_rng(2)
        right = sure = tried = 0
        for pose, side in places():
            for share in (0.3, 0.8):
                for yaw in (-12.0, 12.0):
                    seen = joints(pose.id, side, share, yaw, 12.0, rng)
                    ranked = likenesses(seen, places(), SIZE)
                    found = certain(ranked)
                    right += (ranked[0].pose, ranked[0].side) == (pose.id, side)
                    if found is not None:
                        sure += 1
                        with self.subTest(pose=pose.id, side=side, share=share):
                            self.assertEqual(found.pose, pose.id)
                            self.assertIn(found.side, ("", side))
                    tried += 1
        self.assertGreater(right, 0.85 * tried)
        self.assertGreater(sure, 0.6 * tried)

    def test_names_and_place_in_the_picture_do_not_matter(self) -> None:
        rng = np.random.default_rng(3)
        seen = joints("low-lunge", "left", 0.5, 5.0, 3.0, rng)
        ranked = likenesses(seen, places(), SIZE)
        other = {"left": "right", "right": "left"}
        swapped = {f"{other[n.split('.')[0]]}.{n.split('.')[1]}": p for n, p in seen.items()}
        moved = {n: (0.4 * x + 700, 0.4 * y + 20) for n, (x, y) in seen.items()}
        for given in (swapped, moved):
            for a, b in zip(ranked, likenesses(given, places(), SIZE), strict=True):
                self.assertEqual((a.pose, a.side), (b.pose, b.side))
                self.assertAlmostEqual(a.misfit, b.misfit)

    def test_mirrored_is_the_other_side(self) -> None:
        rng = np.random.default_rng(4)
        for pose_id in ("supine-leg-raise", "low-lunge"):
            seen = joints(pose_id, "left", 0.6, 0.0, 4.0, rng)
            mirrored = {n: (SIZE[0] - x, y) for n, (x, y) in seen.items()}
            self.assertEqual(likenesses(seen, places(), SIZE)[0].side, "left")
            self.assertEqual(likenesses(mirrored, places(), SIZE)[0].side, "right")

    def test_certain_by_hand(self) -> None:
        def ranked(*misfits: float) -> list[Likeness]:
            return [Likeness(str(i), "left", m) for i, m in enumerate(misfits)]

        for misfits, sure in (
            ((), False), ((0.1,), True), ((0.41,), False), ((0.31, 0.5), False), ((0.39, 0.65), True), ((0.1, 0.12), False), ((0.1, 0.14), True),
            ((0.3, 0.5), True), ((0.29, 0.31, 0.9), False),
        ):  # fmt: skip
            self.assertEqual(certain(ranked(*misfits)) is not None, sure, misfits)
        sides = [Likeness("split", "left", 0.1), Likeness("split", "right", 0.11)]
        found = certain([*sides, Likeness("lunge", "left", 0.2)])
        assert found is not None
        self.assertEqual((found.pose, found.side), ("split", ""))
        self.assertIsNone(certain([*sides, Likeness("lunge", "left", 0.12)]))

    def test_all_in_one_spot_is_nothing(self) -> None:
        seen = dict.fromkeys(JOINTS, (100.0, 100.0))
        self.assertIsNone(certain(likenesses(seen, places(), SIZE)))
        self.assertEqual(likenesses(seen, [], SIZE), [])
