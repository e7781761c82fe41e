"""Slope, plateau, forecast and retest against closed forms and simulated people."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dachi.core.judging.forecast import forecast
from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import build
from dachi.core.judging.trend import plateau, retest, slope_of, trend, window
from tests.core.judging.test_series import trials

#: Trial 2 degrees, visits none.
WELL_KNOWN = {"passive": [Evidence(4.0 * 5000, 5000, 2.0 * 5000, 5000, 0.5)]}


def line(*rows, better="higher", others=WELL_KNOWN):
    return build(trials(*rows), better=better, others=others).lines[0]


def straight(rate: float, visits: int = 6, every: float = 14.0, start: float = 60.0, k: int = 2):
    return [(i, every * i, *[start + rate * every * i / 7] * k) for i in range(visits)]


class Slope(unittest.TestCase):
    @given(st.floats(-2, 2), st.integers(4, 9))
    def test_a_straight_course_is_read_exactly(self, rate, visits) -> None:
        found = trend(line(*straight(rate, visits)))
        self.assertAlmostEqual(found.slope, rate, places=6)
        self.assertTrue(found.low <= rate <= found.high)

    def test_three_assessments_are_too_few(self) -> None:
        self.assertIsNone(trend(line(*straight(1.0, 3))))
        same_day = build(trials(*[(i, 0, 60) for i in range(5)])).lines[0]
        self.assertIsNone(slope_of(same_day.sessions))

    def test_old_history_does_not_weigh(self) -> None:
        old = [(100 + i, -900 + 30 * i, 20.0) for i in range(10)]
        rows = old + [(i, 14.0 * i, 60.0 + i) for i in range(8)]
        self.assertEqual(len(window(line(*rows))), 8)
        self.assertAlmostEqual(trend(line(*rows)).slope, 0.5, delta=0.01)

    @given(st.floats(0.1, 1.5))
    def test_less_can_be_more(self, rate) -> None:
        self.assertAlmostEqual(trend(line(*straight(-rate), better="lower")).improvement, rate)

    def test_coverage_on_simulated_people(self) -> None:
        rng = np.random.default_rng(3)
        inside = []
        for _ in range(400):
            rate, weeks = rng.uniform(0, 2), np.cumsum(rng.uniform(1.5, 5, 6))
            rows = [
                (i, 7 * w, *(60 + rate * w + rng.normal(0, 2.0, rng.integers(1, 4))))
                for i, w in enumerate(weeks)
            ]
            found = trend(line(*rows))
            inside.append(found.low <= rate <= found.high)
        self.assertGreater(np.mean(inside), 0.92)
        self.assertLess(np.mean(inside), 0.985)


class Plateaus(unittest.TestCase):
    def test_flat_and_rising(self) -> None:
        values = (0, 0.8, -0.6, 0.4, 0.1, -0.3, 0.5)
        flat = [(i, 14.0 * i, 70 + v, 70 + v) for i, v in enumerate(values)]
        found = plateau(line(*flat))
        # Seven visits tell how little days differ; four of somebody unknown rule no pace out.
        self.assertEqual((found.sessions, found.days), (4, 42.0))
        self.assertIsNone(plateau(line(*flat[:4])))
        self.assertIsNone(plateau(line(*straight(1.5, 5))))
        self.assertIsNone(plateau(line(*flat[:3])))

    def test_a_late_plateau_after_a_rise(self) -> None:
        rows = straight(2.0, 4) + [(10 + i, 70.0 + 14 * i, 73.0, 73.2) for i in range(4)]
        self.assertIsNotNone(plateau(line(*rows)))


class Forecasts(unittest.TestCase):
    def test_states(self) -> None:
        rising = line(*straight(1.0, 7, k=3))
        last = rising.sessions[-1]
        self.assertEqual(forecast(rising, last.value - last.half - 0.1).state, "reached")
        self.assertEqual(forecast(rising, last.value - 1).state, "perhaps reached")
        self.assertEqual(forecast(rising, 300.0).state, "not at this rate")
        self.assertEqual(forecast(line(*straight(1.0, 3)), 90.0).state, "too early")
        self.assertEqual(forecast(line(*straight(0.0, 6)), 85.0).state, "not at this rate")

    def test_a_straight_course_is_held_by_its_window(self) -> None:
        rising = line(*straight(1.0, 8, k=3))
        target = rising.sessions[-1].value + 4.0
        found = forecast(rising, target)
        self.assertIn(found.state, ("window", "open"))
        true_day = rising.sessions[-1].day + 4 * 7
        self.assertLess(found.earliest, true_day)
        self.assertGreater(found.latest or math.inf, true_day)

    def test_nothing_is_said_beyond_twice_the_span(self) -> None:
        rising = line(*straight(1.0, 8, k=3))
        span = rising.sessions[-1].day
        for more in (4, 8, 14, 30):
            found = forecast(rising, rising.sessions[-1].value + more)
            if found.latest is not None:
                self.assertLessEqual(found.latest, 3 * span + 1e-6)

    def test_same_input_same_answer(self) -> None:
        rising = line(*straight(0.8, 6))
        self.assertEqual(forecast(rising, 75.0), forecast(rising, 75.0))

    def test_mirrored_scale_gives_the_same_dates(self) -> None:
        up = line(*straight(1.0, 7, start=40.0))
        down = line(
            *[(a, d, *[-v for v in vs]) for a, d, *vs in straight(1.0, 7, start=40.0)],
            better="lower",
        )
        self.assertEqual(forecast(up, 56.0), forecast(down, -56.0))


class Retests(unittest.TestCase):
    def test_between_two_and_six_weeks(self) -> None:
        for rate in (0.0, 0.3, 0.8, 1.5, 6.0):
            found = retest(line(*straight(rate, 6)))
            self.assertTrue(2.0 <= found.weeks <= 6.0, rate)
        self.assertEqual(retest(line(*straight(0.0, 6))).weeks, 6.0)
        self.assertEqual(retest(line(*straight(1.0, 2))).weeks, 4.0)
        self.assertIsNone(retest(replace(line((1, 0, 60.0)), sessions=())))

    def test_it_is_mdc_over_slope(self) -> None:
        own = line(*straight(1.0, 6))
        found = retest(own)
        self.assertAlmostEqual(found.weeks, own.sessions[-1].mdc / 1.0, delta=0.01)
        self.assertAlmostEqual(found.day, own.sessions[-1].day + 7 * found.weeks)
