"""First signs, confirmed changes and thresholds: tables by hand and an unchanged person."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dachi.core.judging.series import Verdict
from dachi.core.judging.stages import (
    Stage,
    confirmed,
    confirmed_lines,
    stage_of,
    stage_since_last,
    standing,
    verdict_of,
)
from dachi.core.judging.thresholds import Reached, against, together
from tests.core.judging.test_boundaries import line, session

YES, NO, UNKNOWN = Reached.YES, Reached.NO, Reached.UNKNOWN


class Standings(unittest.TestCase):
    def of(self, *values: float, every: float = 21.0, better: str = "higher"):
        return standing(line(*(session(v, every * i) for i, v in enumerate(values)), better=better))

    def test_what_speaks_for_a_change(self) -> None:
        """Trial 2, one each: 3.92 between two levels of two visits, each visit 2.4 from the start
        (one standard error of it is 2.45); four evenly at 3 weeks: slope from 0.58.
        """
        for values, twice, visits in (
            ((60, 60, 64, 64), True, None), ((60, 60, 63.8, 63.8), False, None),
            # One that does not lean that way by a standard error is no witness.
            ((60, 60, 62, 68), False, None), ((60, 60, 68, 62), False, None),
            ((60, 60, 54, 66), False, None), ((64, 64, 60, 60), True, None),
            ((60, 62, 64, 65.2), False, 4), ((60, 61, 62, 63), False, None),
            # A bad first visit, then as ever.
            ((54, 60, 60, 60), False, None), ((60, 60, 60, 60), False, None),
        ):  # fmt: skip
            found = self.of(*values)
            assert found is not None
            with self.subTest(values):
                self.assertEqual((found.twice, found.visits), (twice, visits))
        self.assertIsNone(self.of(60, 66, 66))
        self.assertEqual(self.of(60, 60, 64, 64).why, "seen at the last two visits")
        self.assertEqual(self.of(60, 63, 63, 66).why, "clear in the trend over 4 visits")
        self.assertEqual(self.of(60, 60, 61, 61).why, "")

    def test_how_rare_it_is_by_chance(self) -> None:
        """Two levels of two visits: 4 at root 2 times root 2, z 2, 4.55 %; of 0.85 of the level."""
        found = self.of(60, 60, 64, 64, every=1.0)
        assert found is not None
        # The slope of the four says more: 1.2 a day at 2 / root 5, z 1.79; the level counts.
        self.assertAlmostEqual(found.p, 0.0455 / 0.85, places=3)
        # Against the change of the first and last, a slope says nothing for it.
        against_it = self.of(60, 58, 50, 60.5)
        assert against_it is not None
        self.assertEqual(against_it.p, 1.0)

    @given(st.lists(st.floats(40, 90), min_size=4, max_size=8))
    def test_losses_are_judged_like_gains(self, values) -> None:
        one, other = self.of(*values), self.of(*(130 - v for v in values), better="lower")
        assert one is not None and other is not None
        self.assertAlmostEqual(one.p, other.p, places=6)
        self.assertEqual((one.twice, one.visits), (other.twice, other.visits))


class ManyLines(unittest.TestCase):
    def test_step_up(self) -> None:
        """Simes at 5 %: the k-th smallest of m is held against 5 % k / m."""
        for ps, sure in (
            ({"a": 0.05}, {"a"}), ({"a": 0.051}, set()),
            ({"a": 0.02, "b": 0.9}, {"a"}), ({"a": 0.026, "b": 0.9}, set()),
            ({"a": 0.04, "b": 0.05}, {"a", "b"}), ({"a": 0.01, "b": 0.03, "c": 0.9}, {"a", "b"}),
            ({"a": 0.01, "b": 0.034, "c": 0.9}, {"a"}), ({}, set()),
        ):  # fmt: skip
            with self.subTest(ps):
                self.assertEqual(confirmed(ps), sure)

    def test_lines_of_one_visit_are_looked_at_together(self) -> None:
        strong = standing(line(*(session(v, 21.0 * i) for i, v in enumerate((60, 60, 65, 65)))))
        assert strong is not None
        weak = standing(line(*(session(60, 21.0 * i) for i in range(4))))
        alone = [("a", 1, strong)]
        self.assertEqual(confirmed_lines(alone), {"a"})
        crowd = [*alone, *((i, 1, weak) for i in range(9))]
        self.assertEqual(confirmed_lines(crowd), set())
        # Another visit's lines, and those measured twice only, are no part of it.
        self.assertEqual(confirmed_lines([*alone, *((i, 2, weak) for i in range(9))]), {"a"})
        self.assertEqual(confirmed_lines([*alone, *((i, 1, None) for i in range(9))]), {"a"})

    def test_an_unchanged_person_rarely_has_news(self) -> None:
        """Twelve lines, seven visits, nothing true: anything confirmed in at most one in twenty."""
        rng = np.random.default_rng(8)
        news = []
        for _ in range(400):
            lines = [
                line(*(session(60 + rng.normal(0, 2.0), 21.0 * i) for i in range(7)))
                for _ in range(12)
            ]
            found = confirmed_lines((k, 1, standing(x)) for k, x in enumerate(lines))
            news.append(bool(found))
        self.assertLessEqual(np.mean(news), 0.05 + 2 * math.sqrt(0.05 * 0.95 / 400))


class Stages(unittest.TestCase):
    def test_stages(self) -> None:
        for real, sure, stage in (
            (True, True, Stage.CONFIRMED), (False, True, Stage.CONFIRMED),
            (True, False, Stage.FIRST_SIGN), (False, False, None),
        ):  # fmt: skip
            self.assertEqual(stage_of(real, sure), stage)
        for improvement, stage, verdict in (
            (3.0, None, Verdict.NONE),
            (3.0, Stage.FIRST_SIGN, Verdict.GAIN),
            (-3.0, Stage.CONFIRMED, Verdict.LOSS),
        ):
            self.assertEqual(verdict_of(improvement, stage), verdict)

    def test_since_the_visit_before(self) -> None:
        """One look is a first sign, unless it goes on what is confirmed along its trend."""
        rising = standing(line(*(session(60 + 4 * i, 21.0 * i) for i in range(4))))
        # Seen twice, its last visit no part of a trend.
        twice = standing(line(*(session(v, 21.0 * i) for i, v in enumerate((60, 60, 60, 65, 63)))))
        for real, onward, found, stage in (
            (True, True, rising, Stage.CONFIRMED), (True, False, rising, Stage.FIRST_SIGN),
            (True, True, twice, Stage.FIRST_SIGN), (True, True, None, Stage.FIRST_SIGN),
            (False, True, rising, None),
        ):  # fmt: skip
            self.assertEqual(stage_since_last(real, onward, found), stage)


class Thresholds(unittest.TestCase):
    def test_the_interval_is_judged(self) -> None:
        for value, half, bounds, found in (
            (86.0, 6.0, {"at_least": 80.0}, YES), (85.9, 6.0, {"at_least": 80.0}, UNKNOWN),
            (74.0, 6.0, {"at_least": 80.0}, UNKNOWN), (73.9, 6.0, {"at_least": 80.0}, NO),
            (24.0, 6.0, {"at_most": 30.0}, YES), (24.1, 6.0, {"at_most": 30.0}, UNKNOWN),
            (36.1, 6.0, {"at_most": 30.0}, NO), (80.0, 0.0, {"at_least": 80.0}, YES),
            (50.0, 5.0, {"at_least": 45.0, "at_most": 55.0}, YES),
            (50.0, 5.0, {"at_least": 45.0, "at_most": 54.0}, UNKNOWN),
        ):  # fmt: skip
            with self.subTest(value=value, half=half, **bounds):
                self.assertEqual(against(value, half, **bounds), found)

    def test_several_together(self) -> None:
        for found, every, either in (
            ([YES, YES], YES, YES), ([YES, NO], NO, YES), ([YES, UNKNOWN], UNKNOWN, YES),
            ([NO, UNKNOWN], NO, UNKNOWN), ([NO, NO], NO, NO), ([], UNKNOWN, NO),
        ):  # fmt: skip
            self.assertEqual(together(found, True), every)
            self.assertEqual(together(found, False), either)
