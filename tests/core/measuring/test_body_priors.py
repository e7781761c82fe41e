"""What is known of a body before a mark is seen."""

from __future__ import annotations

import math
import unittest

from dachi.core.measuring.body_priors import held
from dachi.core.measuring.skeleton import INDEX
from dachi.data import catalogue


class Raised(unittest.TestCase):
    def test_means_move_with_a_told_prop(self) -> None:
        """A leg that slopes down from a seat is flexed less, by what a stick opened between 60
        and 72 degrees is.
        """
        pose, leg = catalogue().pose("straddle"), 82.0
        (floor,), _ = held(pose, "both", pose.default_variant(), 1.0, True)
        i = INDEX["left.hip_flexion"]
        for seat in (5.0, 10.0, 15.0, 20.0):
            variant = pose.default_variant() | {"seat": "raised"}
            (prior,), _ = held(pose, "both", variant, 1.0, True, seat)
            down = math.asin(seat / leg)
            least, most = (
                math.degrees(math.atan2(math.tan(down), math.cos(math.radians(opened))))
                for opened in (60, 72)
            )
            moved = math.degrees(floor.mean[i] - prior.mean[i])
            self.assertTrue(least < moved < most, (seat, least, moved, most))
            self.assertAlmostEqual(prior.heights[0], seat + 10.0)

    def test_a_leg_on_a_prop_lies_lower_against_its_ankle(self) -> None:
        pose = catalogue().pose("leg-raise-out")
        contact = next(c for c in pose.held.contacts if c.prop)
        for prop, height in ((0.0, 7.6), (20.0, 26.6), (40.0, 45.6)):
            self.assertAlmostEqual(contact.on_prop(prop), height)
        flat, high = (
            held(pose, "left", pose.default_variant(), 1.0, True, cm)[0][0] for cm in (0.0, 30.0)
        )
        i = INDEX["left.hip_flexion"]
        self.assertAlmostEqual(math.degrees(high.mean[i] - flat.mean[i]), 31.5, delta=0.1)
