"""Judging at its boundaries: numbers worked out by hand, tables either side of every limit."""

import math
import unittest
from dataclasses import replace

import numpy as np

from dachi.core.catalogue.poses import Likeness
from dachi.core.judging.scatter import Scatter, t95
from dachi.core.judging.series import (
    NARROW_CONTROL,
    WIDE_CONTROL,
    Asymmetry,
    Gain,
    Line,
    Reserve,
    Series,
    SessionValue,
    TrialValue,
    Verdict,
    asymmetries,
    build,
    differing,
    gain,
    main_conditions,
    reserves,
    worth_acting,
)
from dachi.core.judging.thresholds import Reached
from dachi.core.judging.trend import Trend, plateau, retest, slope_of, trend, window
from dachi.core.judging.wording import say_likeness


def session(
    value: float, day: float = 0.0, *, sem: float = 2.0, count: int = 1, df: float = math.inf,
    side: str = "left", mode: str = "passive", at: int | None = None, other: bool = False,
) -> SessionValue:  # fmt: skip
    number = int(day) if at is None else at
    found = scatter(trial=sem, df=df)
    return SessionValue(
        number, day, side, mode, value, count, found, 1.0 / count, (number,), other
    )  # fmt: skip


def scatter(
    *, trial: float = 2.0, visit: float = 0.0, df: float = math.inf, shared: float = 0.5
) -> Scatter:
    """Scatter whose every change follows Student's t of ``df`` with these scales.

    A scaled inverse chi square of nu degrees and scale s^2 has the mean s^2 nu / (nu - 2) and
    the variance 2 mean^2 / (nu - 4).
    """
    if math.isinf(df):
        return Scatter(visit**2, trial**2, (0.0, 0.0, 0.0), shared)
    grown, loose = df / (df - 2.0), 2.0 / max(df - 4.0, 1e-6)
    v, t = grown * visit**2, grown * trial**2
    return Scatter(v, t, (loose * v * v, loose * v * t, loose * t * t), shared)


def line(*sessions: SessionValue, better: str = "higher") -> Line:
    side, mode = (sessions[0].side, sessions[0].mode) if sessions else ("left", "passive")
    return Line(side, mode, sessions, (), (), better)


def series(*lines: Line, better: str = "higher", included: frozenset[str] = frozenset()) -> Series:
    return Series(lines, ("warm",), {}, {}, better, included)


def reading(value: float, sd: float, *, trial: int = 1, valid: bool = True) -> TrialValue:
    return TrialValue(trial, 1, 0.0, "left", "passive", value, sd, valid, ("warm",))


class NeverNarrowerThanTheReadings(unittest.TestCase):
    """The bench said ± 23°, the overview ± 7°."""

    def test_the_spread_of_a_session(self) -> None:
        """Of a reading's 12, all goes into a level; four fifths, 9.6, into a change as well."""
        (wide,) = build([reading(70.0, 12.0)]).lines[0].sessions
        (fine,) = build([reading(70.0, 1.0)]).lines[0].sessions
        self.assertGreater(wide.half, 1.96 * 12.0)
        self.assertGreater(wide.mdc, 1.96 * 9.6 * math.sqrt(2))
        self.assertLess(fine.half, 0.6 * wide.half)

    def test_a_coarse_trial_weighs_less(self) -> None:
        """Readings of 2, 2 and 6 (usual 2): scatter 1, 1 and 0.5 + 0.5 x 9 = 5 times as wide."""
        rows = [reading(v, sd, trial=i) for i, (v, sd) in enumerate(((60, 2), (62, 2), (83, 6)))]
        (found,) = build(rows).lines[0].sessions
        self.assertAlmostEqual(found.value, (60 + 62 + 83 / 5) / 2.2)
        self.assertAlmostEqual(found.share, 1 / 2.2)


class TwoSessions(unittest.TestCase):
    def test_the_interval_of_a_value_and_the_change_it_can_show(self) -> None:
        """SEM 2: one trial 1.96 x 2 = 3.92, and 3.92 x 1.414 = 5.54; four trials half of both."""
        for count, half, mdc in ((1, 3.92, 5.54), (4, 1.96, 2.77)):
            s = session(70, count=count)
            self.assertAlmostEqual(s.half, half, places=2)
            self.assertAlmostEqual(s.mdc, mdc, places=2)
        # Student's t of 8 degrees of freedom is 2.306 in the printed tables, of 4 it is 2.776.
        self.assertAlmostEqual(session(70, df=8).half, 4.61, places=2)
        self.assertAlmostEqual(t95(4), 2.776, places=3)
        self.assertAlmostEqual(t95(math.inf), 1.95996, places=5)

    def test_unequal_sessions(self) -> None:
        """Trial 2, 1 and 4 trials: 1.96 x 2 x root 1.25 = 4.383."""
        found = gain(session(60), session(66, 28, count=4))
        self.assertAlmostEqual(found.mdc, 4.383, places=3)
        self.assertEqual(found.change, 6)
        self.assertAlmostEqual(found.low, 1.617, places=3)
        self.assertAlmostEqual(found.high, 10.383, places=3)
        # Few degrees of freedom count: 2.306 for eight in place of 1.96.
        few = gain(session(60, df=8), session(66, 28, count=4, df=8))
        self.assertAlmostEqual(few.mdc, 5.1564, places=3)
        # Twice two-sided: 6 / (2 root 1.25) is 2.683 standard errors, 0.73 % by the tables.
        self.assertAlmostEqual(found.p, 0.0073, places=4)

    def test_the_day_counts_between_visits_and_not_within_one(self) -> None:
        """Visit 3, trial 2, half of the visit shared: 9 + 4 a session; 4.5 + 4 within a visit."""
        known = scatter(trial=2.0, visit=3.0)
        one, two = (replace(session(v, d), scatter=known) for v, d in ((60, 0), (70, 28)))
        self.assertAlmostEqual(gain(one, two).mdc, 1.96 * math.sqrt(26), places=3)
        self.assertAlmostEqual(one.half, 1.96 * math.sqrt(13), places=3)
        pair = series(line(one), line(replace(one, side="right", value=64)))
        self.assertAlmostEqual(asymmetries(pair, "passive")[0].mdc, 1.96 * math.sqrt(17), places=3)
        # What repeats with the person is in a level and in no change.
        lasting = replace(one, lasting=36.0)
        self.assertAlmostEqual(lasting.half, 1.96 * 7.0, places=2)
        self.assertEqual(gain(lasting, two).mdc, gain(one, two).mdc)

    def test_a_verdict_either_side_of_its_limit(self) -> None:
        for change, better, verdict, real in (
            (5.0, "higher", Verdict.NONE, False), (5.1, "higher", Verdict.GAIN, True),
            (-5.0, "higher", Verdict.NONE, False), (-5.1, "higher", Verdict.LOSS, True),
            (5.1, "lower", Verdict.LOSS, True), (-5.1, "lower", Verdict.GAIN, True),
            (5.0, "lower", Verdict.NONE, False), (-5.0, "lower", Verdict.NONE, False),
        ):  # fmt: skip
            found = Gain(session(60), session(60 + change, 28), change, 5.0, better)
            with self.subTest(change, better=better):
                self.assertEqual((found.verdict, found.real), (verdict, real))

    def test_a_session_under_other_conditions_has_a_part(self) -> None:
        plain, other = session(60), session(70, 28, other=True)
        for a, b, mixed in ((plain, other, True), (other, plain, True), (plain, plain, False)):
            self.assertEqual(Gain(a, b, 1.0, 1.0).mixed, mixed)

    def test_against_the_first_and_against_the_one_before(self) -> None:
        one, two, three = session(60), session(64, 14), session(71, 28)
        found = line(one, two, three)
        assert found.since_first is not None and found.since_last is not None
        self.assertEqual((found.since_first.change, found.since_last.change), (9, 7))
        # Two visits are one level, known better: 1.96 x root (2 + 4), a third visit told.
        self.assertAlmostEqual(found.since_first.mdc, 1.96 * math.sqrt(6), places=3)
        # Of two hands the first visit alone is the start.
        other = line(replace(one, hands="her"), two, three).since_first
        assert other is not None
        self.assertEqual(other.change, 11)
        self.assertAlmostEqual(other.mdc, 1.96 * math.sqrt(8 + 3.5**2), places=3)
        self.assertIsNone(line(one).since_first)
        self.assertIsNone(line(one).since_last)
        self.assertIsNotNone(line(one, two).since_last)


class Sides(unittest.TestCase):
    def test_when_a_difference_is_worth_acting_on(self) -> None:
        """The whole interval above 8° and above a tenth of the larger side; below: not; else open."""
        yes, no, unknown = Reached.YES, Reached.NO, Reached.UNKNOWN
        for left, right, mdc, acting in (
            (60, 71, 3, yes), (71, 60, 3, yes), (60, 70.9, 3, unknown), (60, 65, 3, unknown),
            (60, 64.9, 3, no), (60, 60, 3, no),
            # A tenth of 100 is 10; a tenth of the smaller or of the mean would be less.
            (87, 100, 3, yes), (87.1, 100, 3, unknown), (100, 87, 3, yes),
            (60, 75, 15, unknown), (-4, 7, 3, yes), (-4, 4, 3, unknown), (0, -11, 3, yes),
        ):  # fmt: skip
            with self.subTest(left=left, right=right, mdc=mdc):
                self.assertEqual(worth_acting(left, right, mdc), acting)

    def test_who_is_tighter(self) -> None:
        """SEM 2, one trial each: sides differ for certain beyond 1.96 x 2 x root 2 = 5.54."""
        for left, right, better, tighter, acting in (
            (60, 65.5, "higher", None, False), (60, 65.6, "higher", "left", False),
            (65.6, 60, "higher", "right", False), (60, 65.6, "lower", "right", False),
            (65.6, 60, "lower", "left", False), (60, 74, "higher", "left", True),
        ):  # fmt: skip
            pair = series(
                line(session(left, at=1)), line(session(right, side="right", at=1)), better=better
            )
            (found,) = asymmetries(pair, "passive")
            with self.subTest(left=left, right=right, better=better):
                self.assertEqual((found.tighter, found.worth_acting), (tighter, acting))
                self.assertAlmostEqual(found.difference, left - right)
                self.assertAlmostEqual(found.mdc, 5.5436, places=4)

    def test_trials_of_two_counts_and_errors(self) -> None:
        """SEM 3 over 1 trial and SEM 4 over 4: root (9 + 4) x 1.96 = 7.067."""
        pair = series(
            line(session(60, sem=3, at=1)), line(session(90, sem=4, count=4, side="right", at=1))
        )
        (found,) = asymmetries(pair, "passive")
        self.assertAlmostEqual(found.mdc, 7.0667, places=3)
        few = series(
            line(session(60, sem=3, at=1, df=12)),
            line(session(90, sem=4, count=4, side="right", at=1)),
        )
        # The mean of the looser variance is 9 x 12 / 10, its variance 2 x 10.8^2 / 8; with the 4
        # that are known: 14.8, 4 + 2 x 14.8^2 / 29.16 = 19.02 degrees, scale root 13.244, t 2.093.
        self.assertAlmostEqual(asymmetries(few, "passive")[0].mdc, 7.617, places=2)

    def test_only_sessions_that_have_both_and_a_side_that_was_measured(self) -> None:
        left = line(session(60, 0, at=1), session(61, 14, at=2), session(62, 28, at=3))
        right = line(session(50, 0, side="right", at=1), session(52, 28, side="right", at=3))
        self.assertEqual(
            [a.assessment_id for a in asymmetries(series(left, right), "passive")], [1, 3]
        )
        self.assertEqual(asymmetries(series(left), "passive"), [])
        self.assertEqual(asymmetries(series(right), "passive"), [])


class ActiveAgainstPassive(unittest.TestCase):
    def both(self, active: float, passive: float, better: str = "higher") -> list[Reserve]:
        return reserves(
            series(line(session(active, mode="active")), line(session(passive)), better=better),
            "left",
        )

    def test_reserve(self) -> None:
        for active, passive, better, reserve, ratio in (
            (60, 80, "higher", 20, 0.75), (60, 0.5, "higher", -59.5, 120.0),
            (60, 0, "higher", -60, None), (60, -5, "higher", -65, None),
            (30, 18, "lower", 12, None),
        ):  # fmt: skip
            (found,) = self.both(active, passive, better)
            with self.subTest(active, passive=passive):
                self.assertEqual((found.reserve, found.control_ratio), (reserve, ratio))
                self.assertAlmostEqual(found.mdc, 5.5436, places=4)

    def test_without_the_other_mode_there_is_none(self) -> None:
        self.assertEqual(reserves(series(line(session(60))), "left"), [])
        self.assertEqual(reserves(series(line(session(60, mode="active"))), "left"), [])

    def test_a_wide_reserve_lies_under_a_narrow_one(self) -> None:
        """Active under four fifths of passive is wide; over 0.93 the two are about the same."""
        self.assertEqual((WIDE_CONTROL, NARROW_CONTROL), (0.8, 0.93))

    def test_the_mode_that_speaks_for_a_pose(self) -> None:
        empty = Line("left", "passive", (), (), ())
        for lines, mode in (
            ((line(session(60)), line(session(50, mode="active"))), "passive"),
            ((empty, line(session(50, mode="active"))), "active"),
        ):
            self.assertEqual(series(*lines).main_mode, mode)


def trial(
    number: int, value: float, *, visit: int = 1, day: float = 0.0, valid: bool = True,
    conditions: tuple[str, ...] = ("warm", "squared", "mat"), **beside: float,
) -> TrialValue:  # fmt: skip
    return TrialValue(number, visit, day, "left", "passive", value, 1.0, valid, conditions, beside)


class WhatIsComparedWithWhat(unittest.TestCase):
    def used(self, found: Series) -> list[int]:
        return [t.trial_id for x in found.lines for t in x.trials]

    def test_values_are_compared_in_todays_set_up(self) -> None:
        """Half a degree a centimetre, known to 0.2: from 30 cm to 22 the first 60 would be 64.

        Its error there is 8 x 0.2 = 1.6, which the change has beside its own.
        """
        rows = [
            trial(i, v, visit=i, day=7.0 * i, heels=h)
            for i, (v, h) in enumerate(((60.0, 30.0), (61.0, 26.0), (66.0, 22.0)))
        ]
        like = Likeness("heels", -0.5, 0.2)
        found, plain = build(rows, likeness=like).lines[0], build(rows).lines[0]
        self.assertEqual(self.used(build(rows, likeness=like)), [0, 1, 2])
        self.assertEqual([s.like for s in found.sessions], [64.0, 63.0, 66.0])
        self.assertEqual([s.value for s in found.sessions], [60.0, 61.0, 66.0])
        assert found.since_first is not None and plain.since_first is not None
        # The first two, 64 and 63, each weighed by what its set-up leaves open, against 66.
        self.assertTrue(2.0 < found.since_first.change < 3.0)
        self.assertGreater(found.since_first.mdc, plain.since_first.mdc)
        self.assertIn("the first 60° would be about 64°", say_likeness(found))
        self.assertEqual(say_likeness(plain), "")
        # One that nobody measured is taken to have been as it is now.
        unknown = build([replace(rows[0], beside={}), *rows[1:]], likeness=like).lines[0]
        self.assertEqual(unknown.sessions[0].like, 60.0)

    def test_conditions_that_are_asked_for(self) -> None:
        off = ("warm", "off centre", "mat")
        rows = [trial(i, 60.0, visit=i, day=7.0 * i) for i in range(3)]
        rows += [trial(9, 70.0, visit=9, day=70.0, conditions=off)]
        self.assertEqual(self.used(build(rows)), [0, 1, 2])
        self.assertEqual(self.used(build(rows, prefer={"variant": "off centre"})), [9])
        self.assertEqual(self.used(build(rows, prefer={"variant": "squared"})), [0, 1, 2])
        self.assertEqual(self.used(build(rows, prefer={"weather": "fair"})), [0, 1, 2])
        self.assertEqual(build(rows, prefer={"variant": "tipped"}).conditions, None)
        self.assertEqual(self.used(build(rows, include=["variant"])), [0, 1, 2, 9])
        mixed = build(rows, include=["variant"]).lines[0]
        self.assertEqual([s.other_conditions for s in mixed.sessions], [False, False, False, True])

    def test_the_usual_conditions_are_the_most_frequent_then_the_latest(self) -> None:
        cold = ("cold", "squared", "mat")
        one = [trial(1, 60, visit=1, day=0), trial(2, 60, visit=2, day=30, conditions=cold)]
        self.assertEqual(main_conditions(one), cold)
        self.assertEqual(
            main_conditions([*one, trial(3, 60, visit=3, day=9)]), ("warm", "squared", "mat")
        )
        # Many trials of one visit are one session.
        busy = [trial(i, 60, visit=5, day=50, conditions=cold) for i in range(9)]
        self.assertEqual(
            main_conditions([trial(1, 6, visit=1), trial(2, 6, visit=2), *busy])[0], "warm"
        )
        self.assertIsNone(main_conditions([trial(1, 60, valid=False)]))
        self.assertEqual(differing(one[1], ("warm", "squared", "mat")), {"warmth"})


class Slopes(unittest.TestCase):
    def steady(self, days: list[float], rate: float = 1.0, **more: float) -> list[SessionValue]:
        return [session(60 + rate * d / 7, d, **more) for d in days]  # type: ignore[arg-type]

    def test_what_a_trend_looks_back_on(self) -> None:
        """Half a year, or six sessions where that reaches further; the 182nd day still counts."""
        old = [session(50, d) for d in (-400, -300)]
        for recent, seen in (
            ([0, 30, 60, 90, 120, 182], 6), ([-0.5, 30, 60, 90, 120, 150, 182], 6),
            ([0, 30, 60, 90, 182], 6), ([0, 20, 40, 60, 80, 100, 120, 182], 8),
            ([182], 3),
        ):  # fmt: skip
            rows = [*old, *(session(60, d) for d in recent)]
            self.assertEqual(len(window(line(*rows))), seen, recent)
        self.assertEqual(window(line()), ())

    def test_the_slope_and_its_interval_by_hand(self) -> None:
        """Days 0, 7, 14, 21, trial 2, two of them: sum of squared weeks about their mean is 5.

        sd = 2 x root(1 / 2 / 5) = 0.6325; the interval is 1.96 of them to either side.
        """
        found = slope_of(self.steady([0, 7, 14, 21], count=2))
        assert found is not None
        self.assertAlmostEqual(found.slope, 1.0)
        self.assertAlmostEqual(found.sd, 0.6325, places=3)
        self.assertAlmostEqual(found.low, -0.2396, places=3)
        self.assertAlmostEqual(found.high, 2.2396, places=3)
        self.assertEqual((found.sessions, found.days), (4, 21))
        # Degrees of freedom widen it: 2.306 for eight.
        few = slope_of(self.steady([0, 7, 14, 21], df=8))
        assert few is not None
        self.assertAlmostEqual((few.high - few.slope) / few.sd, 2.306, places=3)

    def test_a_session_of_many_trials_pulls_the_slope(self) -> None:
        """By weighted least squares as numpy has it."""
        values, counts, days = (60.0, 64.0, 63.0, 70.0), (1, 4, 1, 2), (0, 7, 21, 28)
        found = slope_of(
            [session(v, d, count=c) for v, d, c in zip(values, days, counts, strict=True)]
        )
        assert found is not None
        weeks, root = np.array(days) / 7.0, np.sqrt(counts) / 2.0
        (slope, _), covariance = np.polyfit(weeks, values, 1, w=root, cov="unscaled")
        self.assertAlmostEqual(found.slope, slope)
        self.assertAlmostEqual(found.sd, math.sqrt(covariance[0, 0]))

    def test_three_days_make_a_slope_and_four_sessions_a_trend(self) -> None:
        self.assertIsNone(slope_of(self.steady([0, 0, 7])))
        self.assertIsNotNone(slope_of(self.steady([0, 7, 14])))
        # Half an hour apart is the same day; a tenth of a week is not.
        self.assertIsNone(slope_of(self.steady([0, 0.02, 7])))
        self.assertIsNotNone(slope_of(self.steady([0, 0.7, 7])))
        self.assertIsNone(trend(line(*self.steady([0, 7, 14]))))
        self.assertIsNotNone(trend(line(*self.steady([0, 7, 14, 21]))))

    def test_a_direction_is_clear_when_its_interval_leaves_zero_out(self) -> None:
        for low, high, clear in (
            (0.1, 1.0, True), (0.0, 1.0, False), (-0.1, 1.0, False), (-1.0, -0.1, True),
            (-1.0, 0.0, False), (0.5, 0.9, True), (-0.9, -0.5, True),
        ):  # fmt: skip
            self.assertEqual(
                Trend(0.5, 0.1, low, high, 4, 21.0, "higher").clear, clear, (low, high)
            )

    def test_a_plateau(self) -> None:
        """Four sessions or six weeks, whichever is more, no change that could be told, and three
        quarters of a degree a week ruled out: a slope of SEM 1 / (2 root 5), half 0.438.
        """
        flat = [session(60, d, sem=1) for d in (0, 14, 28, 42)]
        self.assertIsNone(plateau(line(*flat[:3])))
        for rows, expected in (
            (flat, (4, 42)), ([session(60, -7, sem=1), *flat], (4, 42)),
            ([session(60, 3, sem=1), *flat[1:]], (4, 39)),
            ([session(60, d, sem=1) for d in (0, 10, 20, 30, 40, 42)], (6, 42)),
            ([session(60, d, sem=1) for d in (-60, -30, 0, 42)], (4, 102)),
            # A SEM of 2 takes longer: a fifth visit, 0.620.
            ([session(60, d) for d in (-14, 0, 14, 28, 42)], (5, 56)),
        ):  # fmt: skip
            found = plateau(line(*rows))
            assert found is not None
            self.assertEqual((found.sessions, found.days), expected)
        self.assertIsNone(plateau(line(*(session(60, d) for d in (0, 14, 28, 42)))))
        # 2.08 more at the end is 0.312 a week, and 0.75 with half the interval.
        for last, there in ((62.0, True), (62.2, False), (58.0, True), (57.8, False)):
            moved = [*flat[:3], session(last, 42, sem=1)]
            self.assertEqual(plateau(line(*moved)) is not None, there, last)
        # Up and back again: the ends are alike, the last two looks are not.
        for third, there in ((62.7, True), (62.8, False)):
            back = [*flat[:2], session(third, 28, sem=1), flat[3]]
            self.assertEqual(plateau(line(*back)) is not None, there, third)
        rising = [session(60 + 3 * i, 14 * i) for i in range(4)]
        self.assertIsNone(plateau(line(*rising)), "clear slopes are none")


class TheNextLook(unittest.TestCase):
    def rising(self, rate: float, sem: float = 2.0) -> Line:
        return line(*(session(60 + rate * w, 7.0 * w, sem=sem) for w in range(5)))

    def test_when(self) -> None:
        """MDC 5.54: at 1° a week after 5.5 weeks; never before two nor after six."""
        for rate, weeks, words in (
            (1.0, 5.54, "take about 6 weeks"), (-1.0, 5.54, "take about 6 weeks"),
            (2.0, 2.77, "take about 3 weeks"), (5.0, 2.0, "2 weeks is the least"),
            (0.5, 6.0, "later than the 6 weeks"), (0.0, 6.0, "later than the 6 weeks"),
        ):  # fmt: skip
            found = retest(self.rising(rate))
            assert found is not None
            with self.subTest(rate):
                self.assertAlmostEqual(found.weeks, weeks, places=2)
                self.assertAlmostEqual(found.day, 28 + 7 * weeks, places=1)
                self.assertIn(words, found.reason)

    def test_without_a_trend_four_weeks_are_usual(self) -> None:
        found = retest(line(session(60, 10)))
        assert found is not None
        self.assertEqual((found.day, found.weeks), (38, 4))
        self.assertIn("no trend to go by yet", found.reason)
        self.assertIsNone(retest(line()))


class WhatIsSaid(unittest.TestCase):
    def test_an_asymmetry_is_a_fact_of_its_own(self) -> None:
        found = Asymmetry(1, "passive", -9.0, 4.0, "left", Reached.UNKNOWN)
        self.assertEqual(found.tighter, "left")
