"""Scatter of trials and visits against simulated studios, closed forms and quadrature."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import quad
from scipy.stats import chi2
from scipy.stats import t as student

from dachi.core.catalogue.problems import CatalogueError
from dachi.core.catalogue.scatter_priors import Prior, build_priors
from dachi.core.judging.scatter import Evidence, Variance, between, contrasts, crossed, estimate
from dachi.core.judging.series import TrialValue, build, evidence_of
from dachi.data import catalogue, scatter_priors


def person(rng, visit, trial, *, rate=0.0, slowing=math.inf, visits=8, k=2, sides=("left",)):
    """Trials of one line or two: course + visit + trial, half of the visit's variance shared."""
    weeks = np.cumsum(rng.uniform(1.5, 5.0, visits))
    day = rng.normal(0, visit * math.sqrt(0.5), visits)
    found = []
    for side in sides:
        own = day + rng.normal(0, visit * math.sqrt(0.5), visits)
        for i, w in enumerate(weeks):
            course = (
                rate * w if math.isinf(slowing) else rate * slowing * (1 - np.exp(-w / slowing))
            )
            for _ in range(k):
                value = 60 + course + own[i] + rng.normal(0, trial)
                found.append(
                    TrialValue(len(found), i, 7 * w, side, "passive", value, 1.0, True, ("warm",))
                )
    return found


class Estimates(unittest.TestCase):
    def test_both_scatters_of_ten_people_on_courses_of_their_own(self) -> None:
        """Within 15 %, and no course is taken for scatter: straight and slowing ones alike."""
        rng = np.random.default_rng(4)
        for visit, trial in ((1.0, 2.0), (2.0, 1.5), (3.0, 2.5)):
            rows = []
            for _ in range(12):
                people = [
                    evidence_of(
                        person(
                            rng, visit, trial, rate=rng.uniform(0, 2),
                            slowing=rng.choice([math.inf, 12.0, 30.0]), sides=("left", "right"),
                        )
                    )["passive"]
                    for _ in range(10)
                ]  # fmt: skip
                found = estimate(people)
                rows.append((found.visit_sd, found.trial_sd))
            mean = np.mean(rows, axis=0)
            with self.subTest(visit=visit, trial=trial):
                self.assertAlmostEqual(mean[0] / visit, 1.0, delta=0.15)
                self.assertAlmostEqual(mean[1] / trial, 1.0, delta=0.15)

    def test_nobody_measured_leaves_the_prior(self) -> None:
        """A half-t of 4 degrees and scale 2 has the mean square 2^2 x 4 / 2 = 8, cut at 12."""
        plain = estimate([], Prior(visit=2.0))
        law = student(4)
        for least, found in ((0.0, plain.visit), (0.15, plain.trial)):
            squares, whole = (
                quad(lambda s, n=n: s**n * law.pdf(s / 2), least, 12)[0] for n in (2, 0)
            )
            self.assertAlmostEqual(found, squares / whole, delta=0.02 * found)
        self.assertEqual(plain.shared, 0.5)
        self.assertGreater(estimate([], Prior(visit=4.0)).visit, 1.5 * plain.visit)

    def test_the_posterior_is_the_one_quadrature_gives(self) -> None:
        """Trials alone: chi square of 10 degrees on squares of 40, times the half-t."""
        found = estimate([Evidence(within=40.0, within_df=10.0)])
        law = student(4)

        def weight(s: float) -> float:
            return float(law.pdf(s / 2.0) * s**-10 * math.exp(-40.0 / (2 * s * s)))

        whole = quad(weight, 0.2, 12)[0]
        mean = quad(lambda s: s * s * weight(s), 0.2, 12)[0] / whole
        spread = quad(lambda s: (s * s - mean) ** 2 * weight(s), 0.2, 12)[0] / whole
        self.assertAlmostEqual(found.trial, mean, delta=0.01 * mean)
        self.assertAlmostEqual(found.spread[2], spread, delta=0.05 * spread)

    def test_what_both_sides_share(self) -> None:
        """Of a visit's variance 4, products of 3.6 over 100 pairs: nearly nine tenths."""
        many = Evidence(4.0 * 400, 400, 6.0 * 200, 200, 0.5, cross=2.0 * 100, cross_df=100)
        self.assertAlmostEqual(estimate([many]).shared, (12 * 0.5 + 100 * 0.5) / 112, delta=0.02)
        for cross, shared in ((900.0, 0.9), (-900.0, 0.0)):
            one = Evidence(4.0 * 400, 400, 6.0 * 200, 200, 0.5, cross=cross, cross_df=100)
            self.assertEqual(estimate([one]).shared, shared)

    def test_evidence_adds_up(self) -> None:
        one, two = Evidence(1, 2, 3, 4, 0.5, 5, 6), Evidence(10, 20, 30, 12, 1.0, 50, 60)
        self.assertEqual(one + two, Evidence(11, 22, 33, 16, 0.875, 55, 66))
        apart, together = estimate([two] * 3), estimate([Evidence(30, 60, 90, 36, 1.0, 150, 180)])
        self.assertEqual(apart, together)


class Courses(unittest.TestCase):
    @given(
        st.lists(st.floats(1, 60), min_size=3, max_size=12), st.floats(-3, 3), st.floats(-0.1, 0.1)
    )
    def test_a_smooth_course_leaves_nothing(self, gaps, rate, bend) -> None:
        days = tuple(float(d) for d in np.cumsum(gaps))
        rows = contrasts(days)
        n = len(days)
        degree = 1 if n < 5 else 2 if n < 9 else 3
        self.assertEqual(len(rows), max(n - 1 - degree, 0))
        weeks = (np.array(days) - days[0]) / 7
        course = 60 + rate * weeks + (bend * weeks**2 if degree > 1 else 0.0)
        np.testing.assert_allclose(rows @ course, 0.0, atol=1e-6 * (1 + np.abs(course).max()))
        np.testing.assert_allclose(rows @ rows.T, np.eye(len(rows)), atol=1e-9)

    def test_residuals_of_a_line_by_least_squares(self) -> None:
        days, values = (0.0, 10.0, 25.0, 40.0), (60.0, 63.0, 61.0, 66.0)
        _, (squares,), *_ = np.polyfit(days, values, 1, full=True)
        found = between(days, values, (0.5, 0.5, 0.5, 0.5))
        self.assertAlmostEqual(found.between, squares)
        self.assertEqual((found.between_df, round(found.share, 9)), (2.0, 0.5))
        self.assertEqual(between(days[:2], values[:2], (1, 1)), Evidence())
        self.assertEqual(between((3.0, 3.0, 3.0), (1, 2, 3), (1, 1, 1)), Evidence())
        self.assertAlmostEqual(crossed(days, values, values).cross, squares)

    def test_two_visits_of_a_week_without_practice(self) -> None:
        """60 and 64 lie 2 from their mean: 8 with one degree of freedom, and no course to pay for."""
        found = between((0.0, 4.0), (60.0, 64.0), (0.5, 0.5), still=True)
        self.assertAlmostEqual(found.between, 8.0)
        self.assertEqual(found.between_df, 1.0)

    def test_evidence_of_trials(self) -> None:
        """70, 74 and 81, 85: within 8 + 8 on 2; two visits alone tell nothing of the day."""
        rows = [
            TrialValue(i, i // 2, 14.0 * (i // 2), "left", "passive", v, 1.0, True, ("warm",))
            for i, v in enumerate((70.0, 74.0, 81.0, 85.0))
        ]
        (found,) = evidence_of(rows).values()
        self.assertEqual((found.within, found.within_df, found.between_df), (16.0, 2.0, 0.0))


class Laws(unittest.TestCase):
    def test_a_variance_of_an_inverse_chi_square_gives_students_t(self) -> None:
        """Nu degrees and scale 2: mean 4 nu / (nu - 2), variance 2 mean^2 / (nu - 4)."""
        for nu in (5.0, 8.0, 30.0):
            mean = 4.0 * nu / (nu - 2.0)
            found = Variance(mean, 2.0 * mean**2 / (nu - 4.0))
            self.assertAlmostEqual(found.half, 2.0 * student.ppf(0.975, nu), delta=0.02)
            self.assertAlmostEqual(found.p(5.0), 2.0 * student.sf(2.5, nu), places=5)

    def test_by_drawing(self) -> None:
        """95 of 100 changes lie within, whatever the scatter turns out to be."""
        rng = np.random.default_rng(2)
        s2 = 10.0 * 4.0 / chi2.rvs(10, size=200_000, random_state=rng)
        draws = rng.normal(0, np.sqrt(s2 + 2.0))
        found = Variance(float(s2.mean()), float(s2.var()), 2.0)
        self.assertAlmostEqual(np.mean(np.abs(draws) <= found.half), 0.95, delta=0.004)
        self.assertAlmostEqual(np.mean(np.abs(draws) >= 7.0), found.p(7.0), delta=0.003)

    def test_known_for_certain(self) -> None:
        self.assertAlmostEqual(Variance(4.0, 0.0).half, 3.92, places=2)
        self.assertAlmostEqual(Variance(4.0, 0.0).p(3.92), 0.05, places=3)
        self.assertEqual((Variance(0.0, 0.0).p(0.0), Variance(0.0, 0.0).p(1.0)), (1.0, 0.0))
        self.assertEqual(Variance(1.0, 2.0, 3.0) + Variance(4.0, 5.0, 6.0), Variance(5.0, 7.0, 9.0))


class Priors(unittest.TestCase):
    def test_the_wider_of_pose_and_mode(self) -> None:
        usual = {"trial": 2.0, "visit": 2.0, "df": 4.0}
        found = build_priors(
            {
                "usual": usual,
                "poses": {"front-split": {"visit": 3.0}},
                "modes": {"active": {"trial": 2.5}},
            },
            catalogue(),
        )
        for pose, mode, trial, visit in (
            ("butterfly", "passive", 2.0, 2.0), ("butterfly", "active", 2.5, 2.0),
            ("front-split", "passive", 2.0, 3.0), ("front-split", "active", 2.5, 3.0),
        ):  # fmt: skip
            one = found.of(pose, mode)
            self.assertEqual((one.trial, one.visit), (trial, visit))

    def test_the_shipped_ones(self) -> None:
        for pose in catalogue().poses:
            for mode in pose.modes:
                one = scatter_priors().of(pose.id, mode)
                self.assertTrue(1.5 <= one.trial <= 4 and 1.5 <= one.visit <= 5 and one.df <= 6)

    def test_mistakes_are_named(self) -> None:
        for wrong, words in (
            ({"usual": {"trial": 0.0}}, "above zero"),
            ({"usual": {}, "poses": {"nope": {}}}, "nope"),
            ({"usual": {}, "modes": {"slow": {}}}, "slow"),
            ({"usual": {"tiral": 1.0}}, "tiral"),
        ):
            with self.assertRaisesRegex(CatalogueError, words):
                build_priors(wrong, catalogue())


class Accidents(unittest.TestCase):
    """One person's injury is not how steady everybody's days are."""

    def test_one_of_several_people_is_cut(self) -> None:
        """Five people with 4 a degree of freedom; a sixth with 400 counts as 16."""
        steady = [Evidence(40.0, 10.0, 40.0, 10.0, 0.5)] * 5
        wild = Evidence(40.0, 10.0, 4000.0, 10.0, 0.5)
        cut = Evidence(40.0, 10.0, 160.0, 10.0, 0.5)
        self.assertEqual(estimate([*steady, wild]), estimate([*steady, cut]))
        self.assertLess(estimate([*steady, wild]).visit_sd, 3.0)
        # Among few nobody knows who is usual.
        self.assertGreater(estimate([*steady[:3], wild]).visit_sd, 6.0)

    def test_a_day_of_pain_tells_nothing_of_days(self) -> None:
        rng = np.random.default_rng(5)
        rows = person(rng, 1.0, 1.0)
        hurt = [replace(t, value=t.value - 30.0) if t.assessment_id == 7 else t for t in rows]
        plain = build(rows[: 2 * 7]).evidence["passive"]
        told = build(hurt, hurt=[7]).evidence["passive"]
        self.assertAlmostEqual(told.between, plain.between)
        self.assertEqual(told.within_df, plain.within_df + 1.0)
        self.assertGreater(build(hurt).evidence["passive"].between, 50 * plain.between_df)
