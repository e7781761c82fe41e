"""Runs every test, in two processes at once, and closes with one plain line that counts them."""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator

#: The real pages and the killed server take as long as everything else together.
LONG = ("tests.browser", "tests.shipped", "tests.web.test_killed")
COUNT = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped$", re.MULTILINE)


def every(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """The single tests of a suite."""
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from every(one)
        else:
            yield one


def run(part: str) -> int:
    """Run one part here."""
    found = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    own = [t for t in every(found) if t.id().startswith(LONG) == (part == "long")]
    # What could not be imported belongs to whoever notices first.
    own += [t for t in every(found) if "_FailedTest" in type(t).__name__ and t not in own]
    result = unittest.TextTestRunner(verbosity=1).run(unittest.TestSuite(own))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"{passed} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 0 if result.wasSuccessful() and result.testsRun else 1


def main() -> int:
    """Run both parts beside each other and add up what they say."""
    running = []
    for part in ("long", "rest"):
        said = tempfile.TemporaryFile("w+", encoding="utf-8")  # noqa: SIM115 (closed below)
        command = [sys.executable, "-m", "tests", part]
        running.append((subprocess.Popen(command, stdout=said, stderr=subprocess.STDOUT), said))
    totals, bad = [0, 0, 0], False
    for process, said in running:
        bad |= process.wait() != 0
        said.seek(0)
        text = said.read()
        said.close()
        print(text, flush=True)
        counts = COUNT.findall(text)
        bad |= not counts
        for row in counts:
            totals = [a + int(b) for a, b in zip(totals, row, strict=True)]
    print(f"{totals[0]} passed, {totals[1]} failed, {totals[2]} skipped")
    return 1 if bad or not totals[0] else 0


if __name__ == "__main__":
    sys.exit(run(sys.argv[1]) if len(sys.argv) > 1 else main())
