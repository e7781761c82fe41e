"""Verdicts against the formulas worked out by hand, and their properties."""

import math
import unittest
from dataclasses import replace
from statistics import stdev

from hypothesis import given
from hypothesis import strategies as st

from dachi.core.series import (
    TrialValue,
    build,
    gain,
    headline_sentence,
    pooled_sem,
    reserves,
    say_gain,
    span,
)

WARM = ("warm", "{}", "mat")
COLD = ("cold", "{}", "mat")


def trials(*rows, side="left", mode="passive", conditions=WARM, valid=True):
    """Rows of (assessment, day, value, value...)."""
    return [
        TrialValue(100 * a + i, a, float(day), side, mode, float(v), 1.0, valid, conditions)
        for a, day, *values in rows
        for i, v in enumerate(values)
    ]


class Formulas(unittest.TestCase):
    def test_pooled_sem(self) -> None:
        groups = [[70, 74], [80, 81, 85], [90]]
        total = 4 * 2.5**2 + 1 * stdev(groups[0]) ** 2 + 2 * stdev(groups[1]) ** 2
        self.assertAlmostEqual(pooled_sem(groups), math.sqrt(total / 7))
        self.assertAlmostEqual(pooled_sem([]), 2.5)

    def test_mdc_is_the_textbook_one(self) -> None:
        for k in (1, 2, 3):
            s = build(trials((1, 0, *[70] * k), (2, 28, *[80] * k)))
            g = s.lines[0].since_first
            self.assertAlmostEqual(g.mdc, 1.959964 * math.sqrt(2) * s.sem / math.sqrt(k))

    def test_verdicts(self) -> None:
        for change, verdict in (
            (12.0, "real gain"), (-12.0, "real loss"), (2.0, "no change we could detect"),
            (-2.0, "no change we could detect"),
        ):  # fmt: skip
            g = (
                build(trials((1, 0, 70, 70), (2, 28, 70 + change, 70 + change)))
                .lines[0]
                .since_first
            )
            with self.subTest(change):
                self.assertEqual(g.verdict, verdict)
                self.assertAlmostEqual((g.low + g.high) / 2, change)
                self.assertEqual(g.real, g.low > 0 or g.high < 0)

    def test_reserve_and_control(self) -> None:
        rows = trials((1, 0, 80, 84)) + trials((1, 0, 60, 62), mode="active")
        (r,) = reserves(build(rows), "left")
        self.assertAlmostEqual(r.reserve, 21)
        self.assertAlmostEqual(r.control_ratio, 61 / 82)


class LeftOut(unittest.TestCase):
    def test_cold_sessions_do_not_enter(self) -> None:
        warm = trials((1, 0, 70), (3, 28, 80))
        s = build(warm + trials((2, 14, 55), conditions=COLD))
        self.assertEqual([x.assessment_id for x in s.lines[0].sessions], [1, 3])
        self.assertEqual([t.value for t in s.lines[0].left_out], [55])

    def test_the_commonest_conditions_are_charted(self) -> None:
        s = build(trials((1, 0, 70)) + trials((2, 7, 60), (3, 14, 61), conditions=COLD))
        self.assertEqual(s.conditions, COLD)

    @given(st.floats(-50, 200), st.integers(1, 3))
    def test_an_invalid_trial_changes_no_verdict(self, value: float, where: int) -> None:
        rows = trials((1, 0, 70, 71), (2, 14, 75, 76), (3, 28, 80, 82))
        extra = replace(rows[2 * (where - 1)], value=value, valid=False, trial_id=999)
        before, after = build(rows).lines[0], build([*rows, extra]).lines[0]
        self.assertEqual(before.since_first, after.since_first)
        self.assertEqual(before.since_last, after.since_last)

    @given(st.floats(0.2, 5))
    def test_scaling_sem_scales_mdc(self, factor: float) -> None:
        a, b = build(trials((1, 0, 70), (2, 9, 80))).lines[0].sessions
        plain = gain(a, b).mdc
        wider = gain(replace(a, sem=a.sem * factor), replace(b, sem=b.sem * factor)).mdc
        self.assertAlmostEqual(wider, factor * plain)


class Words(unittest.TestCase):
    def test_sentences(self) -> None:
        rows = trials((1, 0, 70, 70), (2, 28, 74, 75), (3, 56, 85, 85))
        rows += trials((1, 0, 80, 80), (3, 56, 81, 81), side="right")
        s = build(rows)
        text = headline_sentence(s)
        self.assertIn("Left passive +15° in 8 weeks (detectable from", text)
        self.assertIn("Right passive: no change we could detect in 8 weeks (+1°)", text)
        self.assertIn("a real gain", say_gain(s.lines[0].since_first, "first assessment"))
        self.assertEqual(say_gain(None, "last"), "Nothing to compare with yet.")
        self.assertIn("one assessment so far", headline_sentence(build(trials((1, 0, 70)))))
        self.assertIn("Nothing to chart", headline_sentence(build([])))

    def test_spans(self) -> None:
        for days, words in (
            (0.1, "the same day"), (1, "1 day"), (6, "6 days"), (14, "2 weeks"), (84, "12 weeks"),
            (1100, "3 years"),
        ):  # fmt: skip
            self.assertEqual(span(days), words)
