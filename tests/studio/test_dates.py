"""Dates as people write them: in one meaning or none."""

import unittest
from datetime import date, datetime

from dachi.studio.phrases import day_of, moment_of, say_moment


class Written(unittest.TestCase):
    def test_ways_that_mean_one_day(self) -> None:
        at = datetime(2026, 3, 5, 18, 15)
        for text in (
            "2026-03-05T18:15", "2026-03-05 18:15", " 5 Mar 2026, 18:15 ", "5 March 2026 18:15",
            "Thu 5 Mar 2026 at 18.15", "05 mar 2026, 18:15", "Thursday, 5. March 2026, 18:15",
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(moment_of(text), at)
        for text in ("2026-03-05", "5 Mar 2026", "5 mar. 2026", "2026-03-05T23:59"):
            self.assertEqual(day_of(text), date(2026, 3, 5), text)

    def test_what_could_be_two_days_or_is_none(self) -> None:
        for text in (
            "", "5/3/2026", "05/03.2026", "32.3.2026", "5.13.2026", "3-5-2026", "5 Mar", "31 Feb 2026", "5 Mag 2026", "0 Mar 2026",
            "5 Mar 26", "5 Mar 2026, 25:00", "tomorrow", "2026-13-01", "5 Mar 2026 and more",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ValueError):
                moment_of(text)

    def test_what_is_said_is_read_back(self) -> None:
        for month in range(1, 13):
            at = datetime(2028, month, 29, 6, 5)
            self.assertEqual(moment_of(say_moment(at.isoformat())), at)
