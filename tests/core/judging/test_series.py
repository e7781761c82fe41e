"""Verdicts against the formulas worked out by hand, and their properties."""

import math
import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import (
    TrialValue,
    asymmetries,
    build,
    reserves,
)
from dachi.core.judging.stages import Stage
from dachi.core.judging.wording import (
    headline_sentence,
    say_asymmetry,
    say_gain,
    say_reserve,
    span,
    why_left_out,
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
    def test_other_people_inform_the_scatter(self) -> None:
        """The coach's trials with others count; the own ones are in already."""
        rows = trials((1, 0, 70, 71), (2, 28, 80, 81))
        alone = build(rows).lines[0]
        told = build(rows, others={"passive": [Evidence(5.0**2 * 90, 90, 37.5 * 90, 90, 0.5)]})
        self.assertAlmostEqual(told.scatters["passive"].trial_sd, 5.0, delta=0.3)
        self.assertGreater(told.lines[0].since_first.mdc, alone.since_first.mdc)

    def test_the_change_that_can_be_told_is_the_textbook_one(self) -> None:
        """1.96 root(2 (visit^2 + trial^2 / k)) once both scatters are well known."""
        for k in (1, 2, 3):
            rows = trials((1, 0, *[70] * k), (2, 28, *[80] * k))
            sure = Evidence(6.0 * 1e5, 1e5, (9.0 + 6.0 / 2) * 1e5, 1e5, 0.5)
            found = build(rows, others={"passive": [sure]}).lines[0].since_first
            with self.subTest(k=k):
                self.assertAlmostEqual(found.mdc, 1.96 * math.sqrt(2 * (9 + 6 / k)), delta=0.05)

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

    def test_less_can_be_more(self) -> None:
        """Knees that come down read lower: that is the gain, and passive lies below active."""
        rows = trials((1, 0, 30, 30), (2, 28, 18, 18)) + trials((2, 28, 24, 24), mode="active")
        s = build(rows, better="lower")
        self.assertEqual(s.line("left", "passive").since_first.verdict, "real gain")
        self.assertEqual(build(rows).line("left", "passive").since_first.verdict, "real loss")
        (r,) = reserves(s, "left")
        self.assertAlmostEqual(r.reserve, 6)
        self.assertIsNone(r.control_ratio)

    def test_scatter_is_each_modes_own(self) -> None:
        rows = trials((1, 0, 60, 70), (2, 9, 62, 73)) + trials((1, 0, 80, 80.2), mode="active")
        found = build(rows).scatters
        self.assertGreater(found["passive"].trial_sd, 1.5 * found["active"].trial_sd)

    def test_best_of_trials_by_choice(self) -> None:
        rows = trials((1, 0, 60, 66, 63))
        self.assertEqual(build(rows, best=True).lines[0].sessions[0].value, 66)
        self.assertEqual(build(rows, best=True, better="lower").lines[0].sessions[0].value, 60)
        self.assertEqual(build(rows).lines[0].sessions[0].value, 63)

    @given(
        st.lists(st.tuples(st.floats(20, 120), st.floats(20, 120)), min_size=1, max_size=5),
        st.sampled_from(["higher", "lower"]),
    )
    def test_swapping_sides_swaps_the_asymmetry(self, pairs, better) -> None:
        left = [(i, 7 * i, a) for i, (a, _) in enumerate(pairs)]
        right = [(i, 7 * i, b) for i, (_, b) in enumerate(pairs)]
        one = build(trials(*left) + trials(*right, side="right"), better=better)
        two = build(trials(*right) + trials(*left, side="right"), better=better)
        for a, b in zip(asymmetries(one, "passive"), asymmetries(two, "passive"), strict=True):
            self.assertAlmostEqual(a.difference, -b.difference)
            self.assertAlmostEqual(a.mdc, b.mdc)
            self.assertEqual(a.worth_acting, b.worth_acting)
            if a.tighter:
                self.assertNotEqual(a.tighter, b.tighter)

    def test_asymmetry_worth_acting_on(self) -> None:
        """Its whole interval above the larger of a tenth and 8 degrees."""
        for right, tighter, worth in (
            (71, None, False), (79.5, "left", False), (90, "left", True), (50, "right", True),
        ):  # fmt: skip
            rows = trials((1, 0, 70, 70, 70, 70)) + trials((1, 0, *[right] * 4), side="right")
            (a,) = asymmetries(build(rows), "passive")
            with self.subTest(right=right):
                self.assertEqual((a.tighter, a.worth_acting), (tighter, worth))


class LeftOut(unittest.TestCase):
    def test_cold_sessions_do_not_enter(self) -> None:
        warm = trials((1, 0, 70), (3, 28, 80))
        s = build(warm + trials((2, 14, 55), conditions=COLD))
        self.assertEqual([x.assessment_id for x in s.lines[0].sessions], [1, 3])
        self.assertEqual([t.value for t in s.lines[0].left_out], [55])

    def test_the_commonest_conditions_are_charted(self) -> None:
        s = build(trials((1, 0, 70)) + trials((2, 7, 60), (3, 14, 61), conditions=COLD))
        self.assertEqual(s.conditions, COLD)

    def test_other_conditions_by_choice(self) -> None:
        rows = trials((1, 0, 70), (3, 28, 80)) + trials((4, 42, 95), conditions=COLD)
        s = build(rows, include=["warmth"])
        self.assertEqual(len(s.lines[0].sessions), 3)
        self.assertTrue(s.lines[0].since_first.mixed)
        self.assertIn("Conditions differ", say_gain(s.lines[0].since_first, "first"))
        self.assertIn("included by choice", headline_sentence(s))
        plain = build(rows)
        self.assertIn("warm or cold", why_left_out(plain.left_out[0], plain))

    @given(st.floats(-50, 200), st.integers(1, 3))
    def test_an_invalid_trial_changes_no_verdict(self, value: float, where: int) -> None:
        rows = trials((1, 0, 70, 71), (2, 14, 75, 76), (3, 28, 80, 82))
        extra = replace(rows[2 * (where - 1)], value=value, valid=False, trial_id=999)
        before, after = build(rows).lines[0], build([*rows, extra]).lines[0]
        self.assertEqual(before.since_first, after.since_first)
        self.assertEqual(before.since_last, after.since_last)


class Words(unittest.TestCase):
    def test_sentences(self) -> None:
        rows = trials((1, 0, 70, 70), (2, 28, 74, 75), (3, 56, 85, 85))
        rows += trials((1, 0, 80, 80), (3, 56, 81, 81), side="right")
        s = build(rows)
        text = headline_sentence(s)
        self.assertRegex(text, r"Left passive \+12° ± \d+° over 8 weeks, a first sign")
        self.assertRegex(text, r"Right passive \+1° ± \d+° over 8 weeks, no change we could detect")
        told = {("left", "passive"): (Stage.CONFIRMED, "seen at the last two visits")}
        self.assertIn(
            "over 8 weeks, a real gain, seen at the last two visits: confirmed",
            headline_sentence(s, staged=told),
        )
        since = s.lines[0].since_first
        self.assertRegex(
            say_gain(since, "first assessment"),
            r"\+12° ± \d+° since the first assessment \(8 weeks\), a first sign of a gain",
        )
        self.assertEqual(say_gain(None, "last"), "Nothing to compare with yet.")
        self.assertIn("one assessment so far", headline_sentence(build(trials((1, 0, 70)))))
        self.assertIn("Nothing to chart", headline_sentence(build([])))

    def test_reserve_and_asymmetry_in_words(self) -> None:
        rows = trials((1, 0, 90, 90)) + trials((1, 0, 60, 60), mode="active")
        wide = build(rows + trials((1, 0, 60, 60), side="right"))
        self.assertIn("build strength", say_reserve(reserves(wide, "left")[0]))
        self.assertIn("right is tighter by 30°", say_asymmetry(wide))
        narrow = build(trials((1, 0, 90, 90)) + trials((1, 0, 89, 89), mode="active"))
        self.assertIn("about the same", say_reserve(reserves(narrow, "left")[0]))

    def test_spans(self) -> None:
        for days, words in (
            (0.1, "the same day"), (1, "1 day"), (6, "6 days"), (14, "2 weeks"), (84, "12 weeks"),
            (1100, "3 years"),
        ):  # fmt: skip
            self.assertEqual(span(days), words)
