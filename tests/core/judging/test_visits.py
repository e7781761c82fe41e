"""What a trial, a visit and a line are worth: sums by hand."""

import math
import unittest
from dataclasses import replace

import numpy as np

from dachi.core.judging.scatter import Evidence, Scatter, estimate
from dachi.core.judging.series import TrialValue, alone, build, evidence_of, gain
from dachi.core.judging.trend import slope_of
from tests.core.judging.test_boundaries import line, scatter, session


def trial(number, value, visit=0, *, sd=2.0, day=None, side="left", **more):
    at = 14.0 * visit if day is None else day
    return TrialValue(number, visit, at, side, "passive", value, sd, True, ("warm",), **more)


class Variances(unittest.TestCase):
    def test_sums_with_their_spread(self) -> None:
        """2 visits and 3 trials of 4 and 5: 23; spread 4 x 1 + 2 x 2 x 3 x 0.5 + 9 x 2 = 28."""
        known = Scatter(4.0, 5.0, (1.0, 0.5, 2.0), 0.25)
        found = known.variance(2.0, 3.0, 7.0)
        self.assertEqual((found.mean, found.spread, found.known), (23.0, 28.0, 7.0))
        self.assertEqual((known.visit_sd, known.trial_sd), (2.0, math.sqrt(5.0)))
        s = replace(session(60), scatter=known, share=0.5, known=1.0)
        self.assertEqual(s.within_visit().mean, 0.75 * 4.0 + 2.5)
        self.assertEqual(s.spread.mean, 6.5)
        self.assertAlmostEqual(s.mdc, known.variance(2.0, 1.0, 2.0).half)

    def test_what_is_known_beside_the_scatter_widens_a_slope(self) -> None:
        """Days 0, 7, 14 with 3^2 more each: root((4 + 9) / 2)."""
        plain = [session(60.0 + d, 7.0 * d) for d in range(3)]
        wide = [replace(s, known=9.0) for s in plain]
        for rows, sd in ((plain, math.sqrt(2.0)), (wide, math.sqrt(6.5))):
            found = slope_of(rows)
            assert found is not None
            self.assertAlmostEqual(found.sd, sd)
        # What could not be made alike for certain is in it as one: 2 at the end is 1 a week.
        odd = [*plain[:2], replace(plain[2], apart=2.0)]
        found = slope_of(odd)
        assert found is not None
        self.assertAlmostEqual(found.sd, math.sqrt(2.0 + 1.0))


class Told(unittest.TestCase):
    def test_trials_count_by_their_readings(self) -> None:
        """Usual 2; one of 6 scatters 5 times as wide: mean 62, squares 4 + 4 + 0 / 5."""
        rows = [trial(1, 60.0), trial(2, 64.0), trial(3, 62.0, sd=6.0)]
        (found,) = evidence_of(rows).values()
        self.assertAlmostEqual(found.within, 8.0)
        wide = [trial(1, 62.0), trial(2, 62.0), trial(3, 73.0, sd=6.0)]
        (found,) = evidence_of(wide).values()
        # The mean is 63: 1 + 1 + 100 / 5.
        self.assertAlmostEqual(found.within, 22.0)

    def test_a_week_without_practice(self) -> None:
        """60 and 64 four days apart lie 8 about their mean; without the word there is no course."""
        rows = [trial(1, 60.0, 0, day=0.0), trial(2, 64.0, 1, day=4.0)]
        told = build(rows, still=[1]).evidence["passive"]
        self.assertAlmostEqual(told.between, 8.0)
        self.assertEqual(told.between_df, 1.0)
        self.assertEqual(build(rows).evidence["passive"].between_df, 0.0)
        # The visit that repeats another is no point of the course besides.
        more = [*rows, trial(3, 66.0, 2, day=30.0), trial(4, 68.0, 3, day=50.0)]
        self.assertEqual(build(more, still=[1]).evidence["passive"].between_df, 2.0)

    def test_sides_of_one_visit_are_no_two_witnesses(self) -> None:
        one = [trial(i, v, i) for i, v in enumerate((60.0, 66.0, 61.0, 67.0))]
        two = [*one, *(replace(t, side="right", trial_id=t.trial_id + 9) for t in one)]
        alone_, both = (build(rows).evidence["passive"] for rows in (one, two))
        self.assertAlmostEqual(both.cross, alone_.between)
        self.assertEqual((both.cross_df, both.between_df), (2.0, 4.0))

        # Told by many such people the day is known as if one side had been measured, or twice as
        # many: two sides that agree in everything are worth one (1 / (1 + 1)).
        def spread(one):
            return estimate([Evidence(within=4e5, within_df=1e5), *[one] * 40]).spread[0]

        apart = replace(both, cross=0.0)
        self.assertAlmostEqual(spread(both) / spread(alone_), 1.0, delta=0.15)
        self.assertLess(spread(apart), 0.7 * spread(both))

    def test_five_people_tell_who_is_usual(self) -> None:
        steady = [Evidence(40.0, 10.0, 40.0, 10.0, 0.5)] * 4
        wild = Evidence(40.0, 10.0, 4000.0, 10.0, 0.5)
        self.assertLess(estimate([*steady, wild]).visit_sd, 4.0)
        self.assertGreater(estimate([*steady[:3], wild]).visit_sd, 6.0)


class Alone(unittest.TestCase):
    def test_one_photograph_against_another(self) -> None:
        """Trial 2, visit 3: a single one has 9 + 4, and two differ by 1.96 root 26."""
        rows = [trial(1, 70.0), trial(2, 74.0), trial(3, 80.0, 1), trial(4, 90.0, 1)]
        found = build(rows).lines[0]
        known = scatter(trial=2.0, visit=3.0)
        sure = replace(found, sessions=tuple(replace(s, scatter=known) for s in found.sessions))
        one, two = alone(sure, 2), alone(sure, 3)
        assert one is not None and two is not None
        change = gain(one, two)
        self.assertEqual((one.value, two.value, change.change), (74.0, 80.0, 6.0))
        self.assertAlmostEqual(change.mdc, 1.96 * math.sqrt(26.0), places=3)
        self.assertEqual((one.count, one.share, one.trial_ids), (1, 1.0, (2,)))
        self.assertIsNone(alone(sure, 99))

    def test_a_coarse_photograph_is_known_worse(self) -> None:
        """A reading of 5 is new by 4 at each shot: 16, of which trials have 4 anyway."""
        found = build([trial(1, 70.0, sd=5.0), trial(2, 70.0, sd=5.0)]).lines[0]
        sure = replace(
            found, sessions=tuple(replace(s, scatter=scatter(trial=2.0)) for s in found.sessions)
        )
        one = alone(sure, 1)
        assert one is not None
        self.assertAlmostEqual(one.known, 12.0)

    def test_a_shot_of_another_set_up_is_made_alike_with_its_visit(self) -> None:
        (at,) = (replace(session(60.0), like=64.0, trial_ids=(1, 2)),)
        found = replace(line(at), trials=(trial(1, 58.0), trial(2, 62.0)))
        one = alone(found, 1)
        assert one is not None
        self.assertEqual((one.value, one.like), (58.0, 62.0))


class Levels(unittest.TestCase):
    def test_what_repeats_with_the_person(self) -> None:
        """Readings of 5, 3 of it new: 16 last and are in the level alone."""
        found = build([trial(1, 70.0, sd=5.0, sd_change=3.0)]).lines[0].sessions[0]
        self.assertAlmostEqual(found.lasting, 16.0)
        self.assertGreater(found.half, found.spread.half)
        two = build([trial(1, 70.0, sd=5.0, sd_change=3.0), trial(2, 70.0, sd=2.0, sd_change=2.0)])
        self.assertAlmostEqual(two.lines[0].sessions[0].lasting, np.mean([16.0, 0.0]))
