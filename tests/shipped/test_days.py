"""The same pages on other days than the tests' own, and one place that reads the clock."""

import ast
import os
import subprocess
import sys
import unittest
from datetime import date
from pathlib import Path

from tests.support import LEAP_DAY

ROOT = Path(__file__).resolve().parents[2]
#: They start servers of their own or look at no day; everything else of web and studio runs.
BLIND = {
    "test_killed", "test_cli", "test_nonsense", "test_logs", "test_bench_stumbles", "test_pages",
    "test_cards", "test_seen_joints",
}  # fmt: skip
READS = {"now", "utcnow", "today", "time", "localtime", "gmtime"}


def modules() -> list[str]:
    found = [*(ROOT / "tests/web").glob("test_*.py"), *(ROOT / "tests/studio").glob("test_*.py")]
    return sorted(f"tests.{p.parent.name}.{p.stem}" for p in found if p.stem not in BLIND)


class OnAnotherDay(unittest.TestCase):
    def test_all_tests_run_on_a_29_february(self) -> None:
        self.assertEqual(date.fromisoformat(LEAP_DAY).strftime("%d %m"), "29 02")

    def test_web_and_studio_two_years_ahead(self) -> None:
        day = "2030-11-26"
        done = subprocess.run(
            [sys.executable, "-W", "ignore::ResourceWarning", "-m", "unittest", *modules()],
            cwd=ROOT, env=os.environ | {"DACHI_TEST_DAY": day}, capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr[-4000:])
        self.assertRegex(done.stderr, r"Ran \d{2,} tests")


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
