"""Forecasts against regression and Gaussian evidence computed another way, and exact curves."""

import math
import unittest
from itertools import pairwise

import numpy as np
from scipy.stats import multivariate_normal

from dachi.core.judging.forecast import (
    RATE_SD,
    SLOWING_PRIOR,
    SLOWING_WEEKS,
    ForecastState,
    _crossings,
    _regress,
    forecast,
)
from tests.core.judging.test_boundaries import line, session

#: What a level and a rate are held to be before anything is measured: spread 30° about the first
#: value, and 0.4° a week give or take 1.3.
LEVEL_SD, RATE = 30.0, 0.4


class Regression(unittest.TestCase):
    def setUp(self) -> None:
        self.weeks = np.array([0.0, 2.0, 4.0, 7.0, 11.0])
        self.values = np.array([60.0, 61.5, 62.0, 66.5, 67.0])
        self.errors = np.array([1.5, 2.0, 1.2, 1.8, 2.5])

    def dense(self, shape: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
        """The same posterior by conditioning one joint normal law on the sessions."""
        design = np.stack([np.ones_like(shape), shape], axis=1)
        prior = np.diag([LEVEL_SD**2, 1.3**2])
        middle = np.array([self.values[0], RATE])
        noise = np.diag(self.errors**2)
        marginal = design @ prior @ design.T + noise
        pull = prior @ design.T @ np.linalg.inv(marginal)
        mean = middle + pull @ (self.values - design @ middle)
        covariance = prior - pull @ design @ prior
        law = multivariate_normal(design @ middle, marginal)
        return mean, covariance, float(law.logpdf(self.values))

    def test_posterior_and_evidence(self) -> None:
        shapes = [
            self.weeks,
            14 * (1 - np.exp(-self.weeks / 14)),
            6 * (1 - np.exp(-self.weeks / 6)),
        ]
        found = [_regress(s, self.values, self.errors) for s in shapes]
        wanted = [self.dense(s) for s in shapes]
        for (mean, covariance, _), (m, c, _) in zip(found, wanted, strict=True):
            np.testing.assert_allclose(mean, m, rtol=1e-8)
            np.testing.assert_allclose(covariance, c, rtol=1e-6, atol=1e-10)
        # Evidence is compared between shapes only: what all share may be left out of it.
        for a, b in ((0, 1), (1, 2)):
            self.assertAlmostEqual(found[a][2] - found[b][2], wanted[a][2] - wanted[b][2], places=8)

    def test_beforehand(self) -> None:
        """Chances add up to one, and no way of slowing is missed: each is about 1.6 times quicker."""
        self.assertAlmostEqual(sum(SLOWING_PRIOR), 1.0)
        self.assertTrue(math.isinf(SLOWING_WEEKS[0]))
        for slow, fast in pairwise(SLOWING_WEEKS[1:]):
            self.assertTrue(1.45 < slow / fast < 1.7, (slow, fast))
        self.assertEqual(len(SLOWING_WEEKS), len(SLOWING_PRIOR))
        self.assertEqual(SLOWING_PRIOR[0], 0.36, "about one in three on a straight line")
        self.assertAlmostEqual(sum(SLOWING_PRIOR), 1.0)
        self.assertEqual(RATE_SD, 1.3)


class Crossings(unittest.TestCase):
    def times(self, course, target: float, sd: float = 0.01) -> np.ndarray:
        weeks = np.arange(0.0, 26.0, 2.0)
        return _crossings(weeks, course(weeks), np.full(len(weeks), sd), target)[0]

    def test_a_straight_course_crosses_where_it_must(self) -> None:
        found = self.times(lambda w: 60 + 0.5 * w, 80.0)
        self.assertAlmostEqual(float(np.median(found)), 40.0, delta=0.1)
        self.assertLess(float(np.std(found)), 0.5)

    def test_a_slowing_course_crosses_later_or_never(self) -> None:
        """60 + 1 x 14 (1 - exp(-w / 14)) passes 72 when exp(-w / 14) = 1 / 7: at 27.2 weeks."""
        slowing = lambda w: 60 + 14 * (1 - np.exp(-w / 14))  # noqa: E731
        self.assertAlmostEqual(
            float(np.median(self.times(slowing, 72.0))), 14 * math.log(7), delta=0.2
        )
        self.assertTrue(np.isinf(self.times(slowing, 75.0)).mean() > 0.95)

    def test_a_falling_course_never_arrives(self) -> None:
        self.assertTrue(np.isinf(self.times(lambda w: 60 - 0.5 * w, 70.0)).all())


class States(unittest.TestCase):
    def rising(self, rate: float, visits: int = 7, every: float = 14.0, sem: float = 0.05, **more):
        better = more.pop("better", "higher")
        rows = [
            session(60 + rate * every * i / 7, 100 + every * i, sem=sem, **more)
            for i in range(visits)
        ]
        return line(*rows, better=better)

    def test_each_state_and_its_edge(self) -> None:
        """Six fortnights: 12 weeks seen at 1° a week, 72° now; up to 24 more may be told of."""
        for target, state in (
            # 1.96 x 0.05 is 0.098: nearer than that it is not known well enough.
            (71.9, ForecastState.REACHED), (71.0, ForecastState.REACHED),
            (72.0, ForecastState.NEAR), (71.91, ForecastState.NEAR),
            (72.5, ForecastState.WINDOW), (90.0, ForecastState.WINDOW),
            (130.0, ForecastState.NOT_AT_THIS_RATE),
        ):  # fmt: skip
            with self.subTest(target):
                self.assertIs(forecast(self.rising(1.0), target).state, state)
        self.assertIs(forecast(self.rising(-1.0, better="lower"), 48.0).state, ForecastState.NEAR)
        self.assertIs(
            forecast(self.rising(-1.0, better="lower"), 49.0).state, ForecastState.REACHED
        )
        self.assertIs(forecast(self.rising(-1.0, better="lower"), 40.0).state, ForecastState.WINDOW)
        self.assertIs(forecast(self.rising(-1.0), 80.0).state, ForecastState.NOT_AT_THIS_RATE)
        self.assertIs(forecast(line(), 80.0).state, ForecastState.TOO_EARLY)
        self.assertIs(forecast(self.rising(1.0, 3), 80.0).state, ForecastState.TOO_EARLY)
        self.assertIsNot(forecast(self.rising(1.0, 4), 68.0).state, ForecastState.TOO_EARLY)
        self.assertIs(forecast(self.rising(1.0, 3), 60.0).state, ForecastState.REACHED)
        self.assertIs(forecast(self.rising(9.0, 4, every=2.0), 80.0).state, ForecastState.TOO_EARLY)
        self.assertIsNot(
            forecast(self.rising(9.0, 4, every=7 / 3), 80.0).state, ForecastState.TOO_EARLY
        )

    def test_dates_of_an_exact_course(self) -> None:
        """From day 100 at 1° a week, 80° is 20 weeks on: day 240, told closely."""
        for better, rate, target in (("higher", 1.0, 80.0), ("lower", -1.0, 40.0)):
            found = forecast(self.rising(rate, better=better), target)
            self.assertIs(found.state, ForecastState.WINDOW)
            assert found.earliest is not None and found.latest is not None
            self.assertAlmostEqual(found.earliest, 240, delta=2.5)
            self.assertAlmostEqual(found.latest, 240, delta=2.5)
            self.assertLessEqual(found.earliest, found.latest)

    def test_more_trials_and_a_surer_error_narrow_the_window(self) -> None:
        def width(**more: float) -> float:
            found = forecast(self.rising(1.0, sem=0.5, **more), 76.0)
            assert found.earliest is not None and found.latest is not None
            return found.latest - found.earliest

        plain, four, unsure = width(), width(count=4), width(df=8)
        self.assertLess(four, 0.75 * plain)
        # Student's t of eight degrees of freedom has root 8 / 6 times the spread of a normal law.
        self.assertGreater(unsure, 1.05 * plain)
        self.assertLess(unsure, 1.5 * plain)

    def test_nothing_is_told_before_the_last_look(self) -> None:
        rows = [session(v, 14.0 * i, sem=2.0) for i, v in enumerate((60, 64, 69, 70, 71, 68))]
        found = forecast(line(*rows), 69.0)
        assert found.earliest is not None
        self.assertGreaterEqual(found.earliest, 70.0)

    def test_an_open_end(self) -> None:
        """A target near what can be told of at all: an early date, and no late one."""
        states = {}
        for target in range(82, 130, 2):
            found = forecast(self.rising(1.0, sem=2.0), float(target))
            states[found.state] = states.get(found.state, 0) + 1
            if found.state is ForecastState.OPEN:
                self.assertIsNone(found.latest)
                assert found.earliest is not None
                # Day 100, 12 weeks seen, and twice as many again: day 352 is the last told of.
                self.assertTrue(184 <= found.earliest <= 352.5, found.earliest)
        self.assertIn(ForecastState.OPEN, states)
        self.assertIn(ForecastState.NOT_AT_THIS_RATE, states)


class LevelsOff(unittest.TestCase):
    def test_where_a_course_that_slows_down_ends(self) -> None:
        """20 degrees won at a pace that falls to a third each nine weeks, twelve visits: about 80."""
        values = [60 + 20 * (1 - math.exp(-3 * i / 9)) for i in range(12)]
        rows = line(*(session(v, 21.0 * i, sem=0.7) for i, v in enumerate(values[:9])))
        found = forecast(rows, 95.0)
        self.assertEqual(found.state, "not at this rate")
        assert found.level is not None
        self.assertAlmostEqual(found.level, 80.0, delta=2.0)
        # Where less is more the other way round.
        down = line(
            *(session(140 - v, 21.0 * i, sem=0.7) for i, v in enumerate(values[:9])), better="lower"
        )
        under = forecast(down, 45.0)
        assert under.level is not None
        self.assertAlmostEqual(under.level, 60.0, delta=2.0)
        # A straight one ends nowhere.
        rising = line(*(session(60 + 0.1 * i, 21.0 * i, sem=0.7) for i in range(3)))
        self.assertIsNone(forecast(rising, 95.0).level)
