"""A joint's place read from the network's map of it, against hills drawn by their formula."""

from __future__ import annotations

import unittest

import numpy as np

from dachi.core.body.anatomy import longest_bone
from dachi.photos.landmarks import CELLS, _hill

ROWS, COLUMNS = np.mgrid[0:CELLS, 0:CELLS]


def drawn(*hills: tuple[float, float, float, float]) -> np.ndarray:
    """A map of logits with hills (x, y, height, width) on it."""
    chance = np.full((CELLS, CELLS), 1e-6)
    for x, y, height, width in hills:
        far2 = (COLUMNS - x) ** 2 + (ROWS - y) ** 2
        chance = np.maximum(chance, height * np.exp(-far2 / (2 * width**2)))
    return np.log(chance / (1 - chance)).astype(np.float32)


class Hills(unittest.TestCase):
    def test_the_middle_of_a_hill_is_found_to_a_tenth_of_a_cell(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(60):
            x, y = rng.uniform(6, 57, 2)
            height, width = rng.uniform(0.3, 0.95), rng.uniform(0.8, 1.4)
            near = np.array([x, y]) + rng.uniform(-3, 3, 2)
            at, plain = _hill(drawn((x, y, height, width)), near)
            self.assertLess(float(np.hypot(*(at - [x, y]))), 0.1)
            self.assertAlmostEqual(plain, height, delta=0.25 * height)

    def test_a_higher_hill_far_away_is_another_joint(self) -> None:
        at, plain = _hill(drawn((20, 30, 0.5, 1.2), (44, 30, 0.9, 1.2)), np.array([21.0, 31.0]))
        self.assertLess(float(np.hypot(*(at - [20, 30]))), 0.1)
        self.assertAlmostEqual(plain, 0.5, delta=0.02)

    def test_nothing_there_is_not_plain(self) -> None:
        for near in ([-30.0, 10.0], [30.0, 95.0], [30.0, 30.0]):
            at, plain = _hill(drawn(), np.array(near))
            self.assertLess(plain, 0.01)
            self.assertLess(float(np.hypot(*(at - near))), 1.0)

    def test_the_longest_bone(self) -> None:
        joints = {
            "left.hip": (0.0, 0.0), "left.knee": (3.0, 4.0), "left.ankle": (3.0, 5.0),
            "right.hip": (9.0, 0.0), "right.knee": (9.0, 1.0), "right.ankle": (9.0, 8.0),
        }  # fmt: skip
        self.assertEqual(longest_bone(joints), 7.0)
