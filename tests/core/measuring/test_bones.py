"""Lengths from shots against draws whose parts are known, and by hand."""

import unittest

import numpy as np

from dachi.core.measuring.bones import SHOTS, Bone, learn


class Learning(unittest.TestCase):
    def test_interval_on_drawn_people(self) -> None:
        """Each shot is off by what repeats, the same for all, and by its own error."""
        rng = np.random.default_rng(4)
        inside, sds = [], []
        for _ in range(600):
            true, lasting = rng.normal(40, 3), rng.normal(0, 0.8)
            shots = [
                {"thigh": Bone(true + lasting + rng.normal(0, 0.9), np.hypot(0.8, 0.9), 0.8)}
                for _ in range(12)
            ]
            found = learn(shots)["thigh"]
            inside.append(abs(found.cm - true) < 1.96 * found.sd)
            sds.append(found.sd)
        self.assertAlmostEqual(np.mean(sds), np.hypot(0.8, 0.9 / np.sqrt(12)), delta=0.02)
        self.assertAlmostEqual(np.mean(inside), 0.95, delta=0.025)

    def test_by_hand(self) -> None:
        """New errors of 1 and 0.5: weights 1 and 4; (40 + 4 * 42 + 41 + 4 * 42) / 10 = 41.7."""
        rough, fine = np.hypot(1.0, 0.6), np.hypot(0.5, 0.6)
        shots = [
            {"shin": Bone(cm, sd, 0.6)}
            for cm, sd in ((40.0, rough), (42.0, fine), (41.0, rough), (42.0, fine))
        ]
        found = learn(shots)["shin"]
        self.assertAlmostEqual(found.cm, 41.7)
        self.assertAlmostEqual(found.sd, np.sqrt(0.1 + 0.36))
        self.assertEqual(found.shots, 4)

    def test_too_few_and_one_astray(self) -> None:
        one = {"thigh": Bone(40.0, 1.0, 0.5)}
        self.assertEqual(learn([]), {})
        self.assertEqual(learn([one] * (SHOTS - 1)), {})
        found = learn([one] * SHOTS + [{"thigh": Bone(55.0, 1.0, 0.5)}])["thigh"]
        self.assertEqual((found.cm, found.shots), (40.0, SHOTS))
