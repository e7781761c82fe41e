"""Figures in, sentence out; read aloud."""

import unittest

from dachi.core.judging.series import Asymmetry, Gain, Line, Reserve, gain
from dachi.core.judging.stages import Stage
from dachi.core.judging.thresholds import Reached
from dachi.core.judging.wording import (
    describe_asymmetry,
    headline_sentence,
    plain,
    say_gain,
    say_reserve,
    say_two_shots,
    signed,
    span,
)
from tests.core.judging.test_boundaries import line, series, session


class Numbers(unittest.TestCase):
    def test_signs(self) -> None:
        for value, with_sign, without in (
            (9.4, "+9°", "9°"), (-3.2, "−3°", "−3°"), (0.4, "0°", "0°"), (-0.4, "0°", "0°"),
            (0.6, "+1°", "1°"), (-0.6, "−1°", "−1°"), (1.4, "+1°", "1°"), (-1.4, "−1°", "−1°"),
        ):  # fmt: skip
            self.assertEqual((signed(value), plain(value)), (with_sign, without))
        self.assertEqual(
            (signed(2, "cm"), plain(-2, "cm"), plain(3, "ratio")), ("+2 cm", "−2 cm", "3")
        )

    def test_spans(self) -> None:
        for days, words in (
            (0, "the same day"), (0.49, "the same day"), (0.5, "1 day"), (0.55, "1 day"), (1.49, "1 day"),
            (1.6, "2 days"), (1.8, "2 days"), (10.9, "11 days"), (11, "2 weeks"), (11.5, "2 weeks"), (28, "4 weeks"),
            (723, "103 weeks"), (728, "2 years"), (735, "2 years"), (1300, "4 years"),
        ):  # fmt: skip
            self.assertEqual(span(days), words, days)
        self.assertEqual(span(1.5), "2 days")


class Changes(unittest.TestCase):
    def test_sentences(self) -> None:
        seen = "seen at the last two visits"
        for change, other, stage, words in (
            (9.0, False, "alone", "a first sign of a gain: the next visit tells."),
            (-9.0, False, "alone", "a first sign of a loss: the next visit tells."),
            (3.0, False, "alone", "no change we could detect."),
            # Looked at with all other lines it may be none.
            (9.0, False, None, "no change we could detect."),
            (9.0, False, Stage.CONFIRMED, f"a real gain, {seen}: confirmed."),
            (-9.0, True, Stage.CONFIRMED, f"a real loss, {seen}: confirmed. Conditions differ between the two."),
            (4.0, False, Stage.CONFIRMED, f"a real gain, {seen}: confirmed."),
        ):  # fmt: skip
            found = Gain(session(60, 12), session(60 + change, 40, other=other), change, 5.0)
            size = f"{'+' if change > 0 else '−'}{abs(change):.0f}° ± 5° since the first (4 weeks)"
            staged = None if stage == "alone" else (stage, seen)
            self.assertEqual(say_gain(found, "first", "deg", staged), f"{size}, {words}")
        self.assertEqual(say_gain(None, "first"), "Nothing to compare with yet.")

    def test_two_photographs_speak_for_themselves(self) -> None:
        for value, words in (
            (66.0, "These two photographs: 60° and 66°, +6° ± 6°: more than chance explains between two single photographs."),
            (65.0, "These two photographs: 60° and 65°, +5° ± 6°: two single photographs do not tell so small a change."),
        ):  # fmt: skip
            self.assertEqual(say_two_shots(gain(session(60), session(value, 28))), words)

    def test_the_sentence_above_a_chart(self) -> None:
        """MDC 5.54 of two, 4.80 of three from the mean of the first two: 9 is real, 2 is not."""
        left = line(session(60, 10), session(69, 38))
        sign = "a first sign of a gain: the next visit tells"
        for lines, words in (
            ((left,), f"Left passive +9° ± 6° over 4 weeks, {sign}."),
            ((line(session(60, 10), session(51, 38)),), f"Left passive −9° ± 6° over 4 weeks, {sign.replace('gain', 'loss')}."),
            ((line(session(60, 10), session(62, 38)),), "Left passive +2° ± 6° over 4 weeks, no change we could detect."),
            ((line(session(60, 10), session(62, 24), session(70, 38)),), f"Left passive +9° ± 5° over 4 weeks, {sign}; +8° since last time, more than chance explains."),
            ((line(session(60, 10), session(68, 24), session(70, 38)),), f"Left passive +6° ± 5° over 4 weeks, {sign}; +2° since last time, too little to tell."),
            ((line(session(60, 10)),), "Left passive has one assessment so far (60°)."),
            ((line(session(60, 10)), line(session(60, 10, side="right"), session(69, 38, side="right"))), f"Left passive has one assessment so far (60°). Right passive +9° ± 6° over 4 weeks, {sign}."),
            ((Line("left", "passive", (), (), ()), line(session(60, 10, side="right"), session(69, 38, side="right"))), f"Right passive +9° ± 6° over 4 weeks, {sign}."),
            ((line(session(60, 10, side="both"), session(69, 38, side="both")),), f"Passive +9° ± 6° over 4 weeks, {sign}."),
            ((), "Nothing to chart yet: mark a photograph first."),
        ):  # fmt: skip
            self.assertEqual(headline_sentence(series(*lines)), words)

    def test_what_was_included_by_choice_is_said(self) -> None:
        mixed = line(session(60, 10), session(69, 38, other=True))
        told = "Sessions under other conditions are included by choice."
        for found, said in (
            (series(mixed, included=frozenset({"warmth"})), True), (series(mixed), False),
            (series(line(session(60, 10)), included=frozenset({"warmth"})), False),
        ):  # fmt: skip
            self.assertEqual(told in headline_sentence(found), said)


class ReserveAndSides(unittest.TestCase):
    def test_reserves(self) -> None:
        for reserve, mdc, ratio, words in (
            (5.0, 5.0, 0.9, "Reserve 5° ± 5°: active and passive range are about the same."),
            (5.1, 5.0, 0.95, "Reserve 5° ± 5° (active reaches 95 % of passive)."),
            (20.0, 5.0, None, "Reserve 20° ± 5°: passive range that is not yet under control."),
            (20.0, 5.0, 0.799, "Reserve 20° ± 5°, wide (active reaches 80 % of passive): build strength near the end of range."),
            (20.0, 5.0, 0.8, "Reserve 20° ± 5° (active reaches 80 % of passive)."),
            (20.0, 5.0, 0.5, "Reserve 20° ± 5°, wide (active reaches 50 % of passive): build strength near the end of range."),
        ):  # fmt: skip
            self.assertEqual(say_reserve(Reserve(1, "left", reserve, mdc, ratio)), words)

    def test_asymmetries(self) -> None:
        for difference, tighter, acting, words in (
            (-4.0, None, Reached.NO, "Left and right differ by 4°, which chance explains (up to 6°)."),
            (-7.0, "left", Reached.NO, "The left is tighter by 7° ± 6°: real, but small enough to leave alone."),
            (12.0, "right", Reached.UNKNOWN, "The right is tighter by 12° ± 6°: real, but whether it is enough to act on one more look would tell."),
            (15.0, "right", Reached.YES, "The right is tighter by 15° ± 6°, a real difference worth acting on: it gets more of the work, not all of it."),
        ):  # fmt: skip
            self.assertEqual(
                describe_asymmetry(Asymmetry(1, "passive", difference, 6.0, tighter, acting)), words
            )
