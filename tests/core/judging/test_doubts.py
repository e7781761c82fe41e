"""What looks like a slip and what was lost from a best: other formulas, hand-made histories."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dachi.core.judging import doubts
from dachi.core.judging.best import since_best
from dachi.core.judging.doubts import BEND_SD, LEVEL_SD, PACE_SD, What, look, trials_asked, widened
from dachi.core.judging.series import HABIT_SD, build, pooled, slipped
from dachi.core.judging.stages import first_signs, lost_lines
from dachi.core.judging.wording import say_doubt
from tests.core.judging.test_boundaries import line, scatter, session
from tests.core.judging.test_series import trials

KEY = ("supine-leg-raise", "left", "passive")


def visits(*values: float, sem: float = 2.0, every: float = 28.0, **more):
    rows = (session(v, every * i, sem=sem, at=i) for i, v in enumerate(values))
    return line(*(replace(s, **more) for s in rows))


def many(off: dict[int, float], poses: int = 5, seed: int = 1):
    """Twenty lines that stand still but for what is added at some visits: trial and visit SD 2,
    half of the day in all lines.
    """
    rng = np.random.default_rng(seed)
    day = rng.normal(0, math.sqrt(2.0), 8)
    found = {}
    for pose in range(poses):
        for side in ("left", "right"):
            for mode in ("active", "passive"):
                own = rng.normal(0, math.sqrt(6.0), 8)
                rows = (
                    replace(
                        session(
                            60 + day[i] + own[i] + off.get(i, 0.0),
                            28.0 * i,
                            at=i,
                            side=side,
                            mode=mode,
                        ),
                        scatter=scatter(trial=2.0, visit=2.0),
                    )
                    for i in range(8)
                )
                found[f"p{pose}", side, mode] = line(*rows)
    return found


class LeftOut(unittest.TestCase):
    @given(st.lists(st.floats(40, 90), min_size=3, max_size=8), st.integers(0, 7))
    def test_what_the_others_foretell(self, values, which) -> None:
        """The closed form against the conditional mean and variance of a joint normal law."""
        own = visits(*values).sessions
        i = which % len(own)
        x = doubts._looked(KEY, own)
        assert x is not None
        weeks = np.array([4.0 * k for k in range(len(own))])
        weeks -= weeks.mean()
        joint = LEVEL_SD**2 + PACE_SD**2 * np.outer(weeks, weeks)
        joint += (
            BEND_SD**2 * np.outer(weeks**2, weeks**2) + HABIT_SD**2 / 2 + 4.0 * np.eye(len(own))
        )
        rest = [k for k in range(len(own)) if k != i]
        about = np.array(values) - np.mean(values)
        gain = joint[i, rest] @ np.linalg.inv(joint[np.ix_(rest, rest)])
        self.assertAlmostEqual(float(x.off[i]), float(about[i] - gain @ about[rest]), places=5)
        self.assertAlmostEqual(
            float(x.sd[i] ** 2), float(joint[i, i] - gain @ joint[rest, i]), places=5
        )

    def test_too_few_say_nothing(self) -> None:
        self.assertIsNone(doubts._looked(KEY, visits(60, 90).sessions))
        self.assertEqual(look({}), [])
        self.assertEqual(look({KEY: visits(60, 90)}), [])


class OneLine(unittest.TestCase):
    def test_what_is_asked_about(self) -> None:
        """SEM 2: a visit 15 off alone is; what stays, rises, or is off by twice chance is not."""
        for values, asked in (
            ((60, 61, 75, 60, 61, 60), [2]), ((60, 61, 45, 60, 61, 60), [2]),
            ((45, 60, 61, 60, 60, 61), [0]), ((60, 61, 60, 60, 61, 76), [5]),
            ((60, 61, 60, 70, 71, 70), []), ((60, 64, 68, 72, 76, 80), []),
            ((60, 65, 69, 72, 74, 75), []), ((60, 61, 65, 60, 61, 60), []),
            ((60, 64, 68, 72, 64, 65), []),
        ):  # fmt: skip
            found = look({KEY: visits(*values)})
            with self.subTest(values):
                self.assertEqual(
                    [(d.what, d.assessment_id) for d in found], [(What.SLIP, i) for i in asked]
                )

    def test_it_counts_wide_until_somebody_says_that_it_is_so(self) -> None:
        own = visits(60, 61, 60, 60, 61, 80)
        (odd,) = look({KEY: own})
        self.assertAlmostEqual(odd.size, 19.5, delta=1.5)
        wide = widened(own, [odd], KEY)
        assert own.since_first is not None and wide.since_first is not None
        self.assertTrue(own.since_first.real)
        self.assertFalse(wide.since_first.real)
        # As wide as it lies off: 1.96 root(2 + 4 + size^2).
        self.assertAlmostEqual(wide.since_first.mdc, 1.96 * math.sqrt(6 + odd.size**2), places=2)
        self.assertEqual(look({KEY: own}, {odd.asked}), [])
        other = ("supine-leg-raise", "right", "passive")
        self.assertEqual(widened(own, [odd], other), own, "another line's slip is none of this one")

    def test_trials(self) -> None:
        """Of three the one beyond 3.8 x 2 of the middle is out; of two that far apart both are in
        doubt; none that somebody looked at again.
        """
        for values, out, value in (
            ((60, 61, 75), [2], 60.5), ((60, 61, 68), [], 63), ((60, 75), [0, 1], 67.5),
            ((60, 70), [], 65), ((60,), [], 60), ((50, 60, 75), [0, 2], None), ((60, 61, 62, 80), [3], 61),
        ):  # fmt: skip
            rows = trials((1, 0, *values))
            found = slipped(rows, 2.0, 1.0)
            with self.subTest(values):
                # Where most are out there is no middle to be out of.
                most = 2 * len(out) >= len(values) > 2
                self.assertEqual([t.trial_id - 100 for t in found], [] if most else out)
                self.assertEqual(slipped(rows, 2.0, 1.0, {t.trial_id for t in rows}), ())
                if value is not None:
                    (s,) = build(rows).lines[0].sessions
                    self.assertAlmostEqual(s.value, value)
                    self.assertEqual(s.doubt, (7.5**2 if len(out) == 2 else 0.0))
        built = build(trials((1, 0, 60, 61, 90), (2, 28, 61, 62)))
        (d,) = trials_asked(doubts.lines_of({KEY[0]: built}))
        self.assertEqual((d.what, d.assessment_id, d.size), (What.TRIAL, 1, 29.5))
        self.assertEqual(trials_asked(doubts.lines_of({KEY[0]: built}), {d.asked}), [])


class AllLines(unittest.TestCase):
    def test_one_visit_off_everywhere(self) -> None:
        for at, off in ((0, -9.0), (3, -9.0), (7, -9.0), (4, 8.0)):
            found = look(many({at: off}))
            with self.subTest(at=at, off=off):
                self.assertEqual([(d.what, d.assessment_id) for d in found], [(What.VISIT, at)])
                self.assertAlmostEqual(found[0].size, off, delta=2.5)
        self.assertEqual(look(many({})), [])
        # What stays is no bad day.
        self.assertEqual(
            [d.what for d in look(many(dict.fromkeys(range(4, 8), 8.0))) if d.what is What.VISIT],
            [],
        )
        (one,) = look(many({3: -9.0}))
        again = look(many({3: -9.0}), {one.asked})
        self.assertEqual([d for d in again if d.assessment_id == 3], [])

    def test_poses_that_jump_apart(self) -> None:
        """Another set-up reads every pose otherwise from one visit on."""
        own = many({})
        jumps = dict(zip((f"p{i}" for i in range(5)), (7.0, -8.0, 6.0, -7.0, 8.0), strict=True))
        moved = {
            k: replace(x, sessions=tuple(
                replace(s, value=s.value + jumps[k[0]], like=s.like + jumps[k[0]]) if i >= 4 else s
                for i, s in enumerate(x.sessions)
            ))
            for k, x in own.items()
        }  # fmt: skip
        (found,) = look(moved)
        self.assertEqual((found.what, found.assessment_id), (What.JUMP, 4))
        self.assertEqual(look(moved, {found.asked}), [])
        # Where another hand is named there is nothing to ask.
        said = {
            k: replace(x, sessions=tuple(replace(s, hands="b" if i >= 4 else "a") for i, s in enumerate(x.sessions)))
            for k, x in moved.items()
        }  # fmt: skip
        self.assertNotIn((What.JUMP, 4), [(d.what, d.assessment_id) for d in look(said)])

    def test_clean_people_are_seldom_asked(self) -> None:
        """At the eighth visit of a person whose scatter is known for sure: of few, even so."""
        asked = [bool(look(many({}, seed=s))) for s in range(100)]
        self.assertLessEqual(np.mean(asked), 0.25)

    def test_words(self) -> None:
        (one,) = look(many({3: -9.0}))
        self.assertRegex(say_doubt(one, None), r"^−\d+° everywhere at this visit")
        (odd,) = look({KEY: visits(60, 61, 75, 60, 61, 60)})
        self.assertIn("Left raise", say_doubt(odd, lambda side, mode: "Left raise"))


class FromTheBest(unittest.TestCase):
    def test_levels_are_a_ridge(self) -> None:
        """The end of the line against the general normal equations."""
        from dachi.core.judging.best import PACE_SD as PACE
        from dachi.core.judging.best import _level

        own = visits(60, 65, 63, 70, 72).sessions
        weeks = np.array([4.0 * (i - 4) for i in range(5)])
        design = np.stack([np.ones(5), weeks], axis=1) / 2.0
        extra = np.vstack([design, [0.0, 1.0 / PACE]])
        wanted = np.linalg.lstsq(
            extra, np.array([60, 65, 63, 70, 72, 0.0]) / np.array([2] * 5 + [1.0]), rcond=None
        )[0]
        level = _level(own)
        self.assertAlmostEqual(level.value, wanted[0])
        noise = np.random.default_rng(4).normal(0, 2.0, (20000, 5)) @ np.array(level.weights)
        self.assertAlmostEqual(
            level.spread(replace(own[0], share=0.0, visits=0.0)).sd, noise.std(), delta=0.03
        )

    def test_losses(self) -> None:
        for values, lost in (
            ((60, 64, 68, 72, 76, 64, 65), True), ((60, 64, 68, 72, 76, 76, 77), False),
            ((60, 61, 60, 62, 61, 60, 61), False), ((60, 64, 68, 72, 76, 64), True),
            ((60, 64, 68, 72, 76, 73), False),
        ):  # fmt: skip
            found = since_best(visits(*values))
            assert found is not None
            with self.subTest(values):
                self.assertEqual(found.lost, lost)
        self.assertIsNone(since_best(visits(60, 80)))
        two, one = (since_best(visits(60, 64, 68, 72, 76, *rest)) for rest in ((62, 62), (62,)))
        assert two is not None and one is not None
        self.assertEqual(
            (two.at.assessment_id, one.p), (4, 1.0), "one visit under it confirms nothing"
        )
        self.assertEqual(lost_lines([("a", 1, two), ("b", 1, one), ("c", 1, None)]), {"a"})
        lower = since_best(replace(visits(60, 56, 52, 48, 44, 58, 58), better="lower"))
        assert lower is not None
        self.assertTrue(lower.lost and lower.change > 0 > lower.improvement)

    def test_a_level_of_two_visits(self) -> None:
        """Two equal visits have half the variance; unequal ones weigh by what they leave open."""
        one, two = session(60), replace(session(66, 28), doubt=8.0)
        both = pooled([one, two])
        self.assertAlmostEqual(both.value, (60 / 4 + 66 / 12) / (1 / 4 + 1 / 12))
        self.assertAlmostEqual(both.opened, 1 / (1 / 4 + 1 / 12))

    def test_first_signs_are_few(self) -> None:
        """Of twenty lines one beyond its size is none: an unchanged person has one in five visits."""
        sign = visits(60, 60, 65.2).since_first
        still = visits(60, 60, 60).since_first
        assert sign is not None and sign.real
        self.assertEqual(first_signs([("a", 1, sign)]), {"a"})
        self.assertEqual(first_signs([("a", 1, sign), *((i, 1, still) for i in range(19))]), set())
