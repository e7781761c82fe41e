"""The same pages on other days than the tests' own, and one place that reads the clock."""

import ast
import os
import unittest
from datetime import date
from pathlib import Path

from tests.__main__ import DAY, DAYS, day_of_commit
from tests.support import LEAP_DAY, TODAY

ROOT = Path(__file__).resolve().parents[2]
READS = {"now", "utcnow", "today", "time", "localtime", "gmtime"}


class OnAnotherDay(unittest.TestCase):
    def test_days_that_programs_stumble_over_take_their_turn(self) -> None:
        self.assertIn(LEAP_DAY, DAYS)
        found = {date.fromisoformat(d) for d in DAYS}
        for day in ((2, 29), (12, 31), (1, 1)):
            self.assertIn(day, {(d.month, d.day) for d in found})
        # The last Sundays of March and of October.
        self.assertTrue({d.month for d in found if d.weekday() == 6 and d.day > 24} >= {3, 10})

    def test_a_commit_has_one_day(self) -> None:
        self.assertEqual(day_of_commit(), day_of_commit())
        self.assertIn(day_of_commit(), DAYS)
        self.assertIn(TODAY.date().isoformat(), (*DAYS, os.environ.get(DAY)))


def clock_reads(source: str) -> list[str]:
    """Calls such as ``datetime.now()`` or ``time.time()``, however they are imported."""
    found = []
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.Attribute) and node.attr in READS:
            on = node.value
            name = on.id if isinstance(on, ast.Name) else getattr(on, "attr", "")
            if name in ("datetime", "date", "time", "dt"):
                found.append(f"{node.lineno}: {name}.{node.attr}")
    return found


class OneClock(unittest.TestCase):
    def test_only_the_clock_reads_it(self) -> None:
        self.assertEqual(len(clock_reads("import time\ntime.time()\ndatetime.datetime.now()")), 2)
        wrong = {
            str(path.relative_to(ROOT)): reads
            for path in sorted((ROOT / "dachi").rglob("*.py"))
            if path.relative_to(ROOT).as_posix() != "dachi/clock.py"
            and (reads := clock_reads(path.read_text(encoding="utf-8")))
        }
        self.assertEqual(wrong, {})
        sql = [*(ROOT / "dachi").rglob("*.sql")]
        self.assertTrue(sql)
        for path in sql:
            text = path.read_text(encoding="utf-8").lower()
            self.assertNotRegex(text, r"current_(timestamp|date|time)|'now'", str(path))
