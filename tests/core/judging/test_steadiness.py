"""What an error is made of: sums worked out by hand and by drawing."""

import math
import unittest

import numpy as np

from dachi.core.judging.steadiness import (
    STICKER_SHARE,
    Source,
    Twice,
    marking_sd,
    mdc,
    parts,
    remedies,
)
from tests.core.judging.test_boundaries import scatter


class Parts(unittest.TestCase):
    def test_a_session_of_two_trials(self) -> None:
        """Trial 2.5 (marks 1, reading 1.5), visit 2: 0.5 + 0.625 + 2 + 4 of 7.125."""
        found = parts(scatter(trial=2.5, visit=2.0), 2.0, 1.5, 1.0)
        wanted = {Source.MARKS: 0.5, Source.PICTURE: 0.625, Source.BODY: 2.0, Source.DAY: 4.0}
        for p in found:
            self.assertAlmostEqual(p.sd, math.sqrt(wanted[p.source]))
            self.assertAlmostEqual(p.share, wanted[p.source] / 7.125)
        self.assertEqual(len(found), 4)
        self.assertAlmostEqual(sum(p.share for p in found), 1.0)

    def test_without_second_markings_marks_are_in_the_picture(self) -> None:
        found = {p.source: p.sd for p in parts(scatter(trial=2.5, visit=2.0), 1.0, 1.5, None)}
        self.assertNotIn(Source.MARKS, found)
        self.assertAlmostEqual(found[Source.PICTURE], 1.5)

    def test_no_part_is_larger_than_the_whole(self) -> None:
        found = parts(scatter(trial=1.0, visit=0.0), 1.0, 3.0, 2.0)
        self.assertAlmostEqual(sum(p.sd**2 for p in found), 1.0)

    def test_marking_twice(self) -> None:
        """Differences of 2, 2 and 4 over three pairs: root(24 / 6) = 2."""
        pairs = [Twice(70.0, 72.0), Twice(70.0, 68.0), Twice(60.0, 64.0)]
        self.assertAlmostEqual(marking_sd(pairs) or 0.0, 2.0)
        self.assertIsNone(marking_sd([]))
        rng = np.random.default_rng(3)
        drawn = [Twice(*(70.0 + rng.normal(0, 1.3, 2))) for _ in range(4000)]
        self.assertAlmostEqual(marking_sd(drawn) or 0.0, 1.3, delta=0.05)


class Remedies(unittest.TestCase):
    def test_each_by_hand(self) -> None:
        """Now 1.96 root(2 (9 + 4 / 2)); three trials 9 + 4 / 3; two visits half of all."""
        known = scatter(trial=2.0, visit=3.0)
        self.assertAlmostEqual(mdc(known, 2.0), 1.96 * math.sqrt(22), places=3)
        found = {r.words.split()[0].strip(","): r.mdc for r in remedies(known, 2.0, 2.0)}
        self.assertAlmostEqual(found["two"], 1.96 * math.sqrt(11), places=3)
        self.assertAlmostEqual(found["three"], 1.96 * math.sqrt(2 * (9 + 4 / 3)), delta=0.01)
        self.assertNotIn("stickers", found, "a day of 3 drowns what they save")
        steady_days = {
            r.words.split()[0].strip(","): r.mdc for r in remedies(scatter(trial=3.0), 1.0, 3.0)
        }
        self.assertAlmostEqual(
            steady_days["stickers"], STICKER_SHARE * 1.96 * math.sqrt(18), places=3
        )

    def test_the_most_helpful_first_and_nothing_that_does_not_help(self) -> None:
        found = remedies(scatter(trial=2.0, visit=3.0), 3.0, 0.0)
        self.assertEqual([r.words.split()[0].strip(",") for r in found], ["two"])
        several = remedies(scatter(trial=4.0, visit=0.5), 1.0, 3.0)
        self.assertEqual([r.mdc for r in several], sorted(r.mdc for r in several))
