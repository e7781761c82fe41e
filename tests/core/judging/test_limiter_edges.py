"""Rules at their edges, with rules made for the purpose."""

import unittest

from dachi.core.catalogue.limiter_rules import Condition, LimiterRule, Settling
from dachi.core.judging.limiters import SessionReading, limiters
from dachi.data import catalogue


def rule(name: str, *needs: Condition, goal: str = "front-split") -> LimiterRule:
    return LimiterRule(
        id=name, goal=goal, tissue=name, needs=needs, because="", practice="",
        settle=Settling(pose=goal, mode="passive"),
    )  # fmt: skip


def reading(
    pose: str, family: str, value: float, mode: str = "passive", side: str = "left"
) -> SessionReading:
    return SessionReading(pose, family, family, side, mode, value)


def raised(value: float, mode: str = "passive", side: str = "left") -> SessionReading:
    return reading("supine-leg-raise", "leg_line", value, mode, side)


def knees(value: float, mode: str = "passive") -> SessionReading:
    """Butterfly: less is more range."""
    return reading("butterfly", "thigh_rise", value, mode)


RAISE = {"pose": "supine-leg-raise", "family": "leg_line", "of": "same"}
FLY = {"pose": "butterfly", "family": "thigh_rise", "of": "same"}


class Edges(unittest.TestCase):
    def holds(self, need: Condition, *readings: SessionReading) -> bool:
        return bool(limiters("front-split", "left", readings, [rule("x", need)], catalogue()))

    def test_short_and_long_meet_at_the_limit(self) -> None:
        for kind, read, value, expected in (
            ("short", raised, 79.9, True), ("short", raised, 80, False), ("long", raised, 80, True),
            ("long", raised, 79.9, False), ("short", knees, 20, True), ("short", knees, 19.9, False),
            ("long", knees, 19.9, True), ("long", knees, 20, False),
        ):  # fmt: skip
            base, limit = (RAISE, 80.0) if read is raised else (FLY, 20.0)
            need = Condition(**base, mode="passive", **{kind: limit})
            with self.subTest(kind, value=value, base=base["pose"]):
                self.assertEqual(self.holds(need, read(value)), expected)

    def test_control(self) -> None:
        need = Condition(**RAISE, control_below=0.8)
        for active, passive, expected in (
            (63.9, 80, True), (64, 80, False), (10, 0.5, False), (0.1, 0.5, True), (-1, 0, False), (5, -4, False),
        ):  # fmt: skip
            with self.subTest(active, passive=passive):
                self.assertEqual(
                    self.holds(need, raised(active, "active"), raised(passive)), expected
                )

    def test_reserve(self) -> None:
        need = Condition(**RAISE, reserve_above=10.0)
        for active, passive, expected in ((60, 70, False), (60, 70.1, True), (60, 65, False)):
            self.assertEqual(self.holds(need, raised(active, "active"), raised(passive)), expected)
        fly = Condition(**FLY, reserve_above=10.0)
        for active, passive, expected in ((30, 20, False), (30, 19.9, True), (20, 30.1, False)):
            self.assertEqual(self.holds(fly, knees(active, "active"), knees(passive)), expected)

    def test_a_mode_that_is_named_is_the_one_that_counts(self) -> None:
        need = Condition(**RAISE, mode="active", short=60.0)
        self.assertFalse(self.holds(need, raised(40)))
        self.assertTrue(self.holds(need, raised(40, "active"), raised(90)))

    def test_the_rule_with_most_met_comes_first_among_the_unsure(self) -> None:
        short = Condition(**RAISE, mode="passive", short=80.0)
        lunge = Condition(pose="low-lunge", family="hip_extension", of="any", short=20.0)
        squat = Condition(pose="deep-squat", family="hip_flexion", of="any", short=90.0)
        known = [raised(60), reading("deep-squat", "hip_flexion", 70, side="both")]
        found = limiters(
            "front-split", "left", known,
            [rule("one met of two", short, lunge), rule("two met of three", short, squat, lunge),
             rule("sure", short)], catalogue(),
        )  # fmt: skip
        self.assertEqual([x.rule.id for x in found], ["sure", "two met of three", "one met of two"])
        self.assertEqual([x.sure for x in found], [True, False, False])
        self.assertEqual(found[1].missing, ("low-lunge",))
        # Of two that fit as well the earlier one in the file wins.
        twins = limiters(
            "front-split", "left", known, [rule("b", short), rule("a", short)], catalogue()
        )
        self.assertEqual([x.rule.id for x in twins], ["b", "a"])
