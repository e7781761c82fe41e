"""What was said wrongly to a coach or a practitioner: figures in, sentence out, read aloud."""

import unittest
from dataclasses import replace
from datetime import date
from unittest import mock

from dachi.core.judging.limiters import Limiter
from dachi.core.judging.series import Verdict
from dachi.core.judging.stages import Stage
from dachi.core.judging.trend import next_looks
from dachi.core.judging.wording import say_asymmetry
from dachi.core.practising.needs import SideRange, from_limiters, tighter
from dachi.data import limiter_rules
from dachi.store.practice_log import Felt, LogEntry
from dachi.store.summaries import Change, FamilySummary, LineSummary, PoseSummary
from dachi.studio.practice.practice_history import by_week
from dachi.studio.verdicts import kind_words, summaries
from tests.core.judging.test_boundaries import line, series, session

LEG_RAISE = "supine-leg-raise"


def visits(side: str, *values: tuple[float, int]):
    """A line of sessions: value and assessment, one a week."""
    return line(*(session(v, 7.0 * at, at=at, side=side) for v, at in values))


def summary(
    pose: str, change: float, mdc: float, verdict: Verdict, stage: Stage | None = Stage.CONFIRMED,
    **more: str,
) -> PoseSummary:  # fmt: skip
    one = LineSummary(
        side="left", mode="passive", value=70.0, before=60.0, half=3.0, count=2, sessions=2,
        taken_at=more.get("taken_at", "2028-02-01T09:00"), trial=1, first_trial=1,
        first=Change(change, mdc, verdict, 28.0, verdict is not Verdict.NONE, stage, "seen twice"),
        last=None, slope=None, plateau=None, mdc=mdc, within=3.0, visit=2, visit_before=1,
        standing=None, stood=None, flat=None, better="higher",
    )  # fmt: skip
    family = FamilySummary("f", "label", "deg", "higher", "flexion", "", "", {}, (one,))
    return PoseSummary(1, pose, (family,), (), more.get("retest_on"))


class Sides(unittest.TestCase):
    def test_left_against_right(self) -> None:
        """ "Differ by 0°" stood under 125 and 152: an older visit had both, the newest had not."""
        for left, right, words in (
            (((125, 1),), ((152, 1),), "The left is tighter by 27°"),
            (((152, 1),), ((125, 1),), "The right is tighter by 27°"),
            (((125, 1), (125, 2)), ((125, 1), (152, 2)), "The left is tighter by 27°"),
            (((125, 1),), ((125, 1), (152, 2)), "not both measured the last time"),
            (((125, 1), (152, 2)), ((125, 1),), "not both measured the last time"),
            (((125, 1),), ((126, 1),), "differ by 1°, which chance explains"),
        ):
            said = say_asymmetry(series(visits("left", *left), visits("right", *right)))
            with self.subTest(left=left, right=right):
                self.assertIn(words, said)

    def test_the_tighter_side_is_the_one_with_less(self) -> None:
        """Two poses of one direction that disagree name nobody."""
        a = SideRange("a", "flexion", "left", None, 60.0, 4.0)
        b = replace(a, side="right", passive=80.0)
        for ranges, found in (
            ([a, b], {"flexion": "left"}),
            ([b, a], {"flexion": "left"}),
            ([replace(a, higher=False), replace(b, higher=False)], {"flexion": "right"}),
            ([a, b, replace(a, pose="b", side="right"), replace(b, pose="b", side="left")], {}),
            ([a, replace(b, passive=64.0)], {}),
        ):
            self.assertEqual(tighter(ranges), found)


class Reasons(unittest.TestCase):
    def test_a_reason_names_what_the_drill_works_on(self) -> None:
        """ "The split itself, its parts being long enough" stood beside nearly every drill."""
        for rule in limiter_rules():
            limiter = Limiter(rule, "left", (), True, ())
            for need in from_limiters([("Front split", limiter)]):
                with self.subTest(rule.id, need=need.name):
                    self.assertIn(need.name.replace("_", " "), need.reason)
                    self.assertNotIn("being long enough", need.reason)
                    self.assertTrue(need.reason.endswith("what the front split lacks"))
        split = next(r for r in limiter_rules() if r.id == "split-pose")
        self.assertEqual(from_limiters([("Front split", Limiter(split, "left", (), True, ()))]), [])


class KindWords(unittest.TestCase):
    def test_steady_is_what_surely_hardly_moved(self) -> None:
        """ "Holding steady" was said of −27° that nobody could have told from chance."""
        for change, mdc, verdict, words in (
            (-27.0, 40.0, Verdict.NONE, "Too early to say: supine leg raise (left)"),
            (1.0, 5.0, Verdict.NONE, "Holding steady: supine leg raise (left)"),
            (4.0, 6.0, Verdict.NONE, "Holding steady"), (4.0, 6.1, Verdict.NONE, "Too early to say"),
            (-12.0, 5.0, Verdict.LOSS, "Resting a little, as they may: supine leg raise (left)"),
            (12.0, 5.0, Verdict.GAIN, "Your left supine leg raise has 12° more room"),
        ):  # fmt: skip
            found = [summary(LEG_RAISE, change, mdc, verdict)]
            with mock.patch.object(summaries, "of_practitioner", return_value=found):
                said = kind_words.kind_words(mock.Mock(), mock.Mock())
            with self.subTest(change=change, mdc=mdc):
                self.assertEqual(len(said), 1)
                self.assertIn(words, said[0])


class NextLook(unittest.TestCase):
    def test_it_is_counted_from_the_last_look(self) -> None:
        """ "From 10 December: 4 weeks is usual" was said after a look on 25 November."""
        left, right = visits("left", (60, 1), (61, 2)), visits("right", (60, 1))
        (found,) = next_looks(series(left, right))
        self.assertAlmostEqual(found.day, 7.0 * 2 + found.weeks * 7.0)
        self.assertEqual(next_looks(series()), [])

    def test_poses_left_out_do_not_make_it_overdue(self) -> None:
        same = (0.0, 5.0, Verdict.NONE)
        old = summary("butterfly", *same, taken_at="2028-01-13T09:00", retest_on="2028-02-10")
        new = summary(LEG_RAISE, *same, taken_at="2028-01-26T09:00", retest_on="2028-02-23")
        also = summary("low-lunge", *same, taken_at="2028-01-26T10:00", retest_on="2028-02-20")
        for found, on in (
            ([old, new], "2028-02-23"), ([new, old, also], "2028-02-20"), ([old], "2028-02-10"),
            ([], None),
        ):  # fmt: skip
            self.assertEqual(summaries.next_look(found), on)


class Weeks(unittest.TestCase):
    def entry(self, at: str, seconds: float = 600.0) -> LogEntry:
        return LogEntry(
            id=1,
            started_at=at,
            seconds=seconds,
            felt=Felt.RIGHT,
            finished=True,
            done=(),
            notes="",
            soreness=None,
            pains=(),
        )

    def test_nothing_was_asked_before_they_began(self) -> None:
        """ "0/4" stood for weeks before the person existed."""
        today = date(2028, 2, 29)
        for log, expected in (
            ([], [("28 Feb", 0)]),
            ([self.entry("2028-02-29T07:00:00")], [("28 Feb", 1)]),
            ([self.entry("2028-02-15T07:00:00")], [("14 Feb", 1), ("21 Feb", 0), ("28 Feb", 0)]),
            ([self.entry("2028-02-29T07:00:00", 59.0)], [("28 Feb", 0)]),
        ):
            self.assertEqual([(w, n) for w, _, n, _ in by_week(log, 4, today)], expected)
