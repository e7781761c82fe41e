"""Runs the tests in a few processes and closes with one plain line that counts them.

``python -m tests`` runs all but the slow ones, ``--slow`` those only; ``python -m tests
tests.core tests.web`` what lies under names; ``--coverage`` prints how many lines and branches of
each layer were run. Test classes are dealt out one by one, the longest first, so that all
processes end together. A warning is an error, wherever it comes from.

Every run takes place on one day, which changes with the commit: see ``DAYS``.
"""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections import deque
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import coverage

#: What takes longest starts first.
LONG = ("tests.shipped", "tests.web.test_killed", "tests.browser", "tests.web", "tests.core")
#: Days something stumbled over, or could: the rarest day, a year's last and first, both ends of
#: summer time, the end of a short month, an ordinary one.
DAYS = (
    "2028-02-29", "2030-11-26", "2026-12-31", "2029-01-01", "2027-03-28", "2031-10-26",
    "2027-02-28",
)  # fmt: skip
DAY = "DACHI_TEST_DAY"
#: One more than the processors of a small machine: half a browser test is waiting.
WORKERS = 3
SLOWEST = 12
LAYERS = ("dachi.core", "dachi.studio", "dachi.store", "dachi.web")
SENT = re.compile(r"SpooledTemporaryFile|BufferedRandom|mode='rb\+'")
#: Room that a folder in memory should have, bytes: tests then wait for no disk.
ROOM = 3 << 30
MEMORY = "/dev/shm"
COVERAGE = "DACHI_COVERAGE_FILE"
#: A folder that is to keep which test ran which line, and the seconds each took.
COVERAGE_KEPT = "DACHI_COVERAGE_KEPT"


def every(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """The single tests of a suite."""
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from every(one)
        else:
            yield one


def day_of_commit() -> str:
    """The day tests take place on: another one for another commit, the same for the same."""
    asked = subprocess.run(["git", "rev-parse", "HEAD"], capture_output=True, text=True)
    return DAYS[int(asked.stdout[:8], 16) % len(DAYS)] if asked.returncode == 0 else DAYS[0]


def is_slow(test: unittest.TestCase) -> bool:
    """Whether a test, or its class, was put aside for the long run."""
    method = getattr(type(test), test._testMethodName, None)
    return hasattr(method, "slow") or hasattr(type(test), "slow")


def classes(under: Sequence[str], slow: bool) -> list[str]:
    """Every class under one of the names with tests that are (not) slow, the longest first."""
    found = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    names: dict[str, None] = {}
    for test in every(found):
        if "_FailedTest" in type(test).__name__:
            names[test.id().split(".", 3)[-1]] = None
        elif is_slow(test) == slow:
            names[f"{type(test).__module__}.{type(test).__qualname__}"] = None
    wanted = [n for n in names if not under or n.startswith(tuple(under))]
    rank = {start: i for i, start in enumerate(LONG)}
    return sorted(wanted, key=lambda n: next((i for s, i in rank.items() if n.startswith(s)), 9))


def measuring_coverage() -> coverage.Coverage | None:
    """Begin to notice which lines are run, where that was asked for."""
    file = os.environ.get(COVERAGE)
    if not file:
        return None
    found = coverage.Coverage(data_file=file, data_suffix=True, source=list(LAYERS), branch=True)
    found.start()
    return found


class Timed(unittest.TextTestResult):
    """What a test made and dropped without closing counts against it; how long each took."""

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self.times: list[tuple[float, str]] = []
        self.dropped: list[str] = []

    def startTest(self, test: unittest.TestCase) -> None:
        """Begin to time it."""
        if (seen := coverage.Coverage.current()) is not None and COVERAGE_KEPT in os.environ:
            seen.switch_context(test.id())
        self.dropped.clear()
        self.began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        """Note its time; fail it for what was raised where nobody could catch it."""
        self.times.append((time.monotonic() - self.began, test._testMethodName))
        if self.dropped:
            self.failures.append((test, "\n".join(self.dropped)))
            self.dropped.clear()
        super().stopTest(test)


def work(slow: bool) -> int:
    """Run the classes named on standard input, one line each, and say how each went."""
    seen = measuring_coverage()
    answers = os.fdopen(os.dup(1), "w", encoding="utf-8")
    os.dup2(2, 1)
    for line in sys.stdin:
        name = line.strip()
        said = io.StringIO()
        start = time.monotonic()
        found = unittest.defaultTestLoader.loadTestsFromName(name)
        suite = unittest.TestSuite(
            t for t in every(found) if is_slow(t) == slow or "_FailedTest" in type(t).__name__
        )
        result = run_in_sight(suite, said)
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        # A class may fail before its first test: that counts as one.
        run = max(result.testsRun, failed)
        answer = {
            "name": name,
            "passed": run - failed - skipped,
            "failed": failed,
            "skipped": skipped,
            "seconds": time.monotonic() - start,
            "times": result.times,
            "said": "" if result.wasSuccessful() else said.getvalue(),
        }
        print(json.dumps(answer), file=answers, flush=True)
    if browsers := sys.modules.get("tests.browser.chromium"):
        browsers.put_away()
    answers.close()
    if seen is not None:
        seen.stop()
        seen.save()
    return 0


def run_in_sight(suite: unittest.TestSuite, said: io.StringIO) -> Timed:
    """Run tests so that what is raised in a destructor or a thread is seen too."""
    result: list[Timed] = []

    def begin(*args: Any, **more: Any) -> Timed:
        result.append(Timed(*args, **more))
        return result[0]

    def dropped(seen: sys.UnraisableHookArgs) -> None:
        # The test client leaves what it sends to the collector.
        if result and not SENT.search(str(seen.exc_value)):
            result[0].dropped.append(f"{seen.err_msg or 'dropped'}: {seen.exc_value!r}")

    sys.unraisablehook = dropped
    try:
        # The filters are those of the process: the runner would set its own.
        runner = unittest.TextTestRunner(said, verbosity=0, resultclass=begin)
        runner.warnings = None
        runner.run(suite)
    finally:
        sys.unraisablehook = sys.__unraisablehook__
    return result[0]


def say_coverage(folder: str) -> None:
    """Print the share of lines and branches of each layer that was run."""
    found = coverage.Coverage(data_file=f"{folder}/coverage")
    found.combine([folder])
    for layer in LAYERS:
        quiet = io.StringIO()
        share = found.report(
            file=quiet, include=[f"{layer.replace('.', '/')}/*"], ignore_errors=True
        )
        print(f"{share:6.1f} %  of the lines and branches of {layer}")


def deal(names: Sequence[str], slow: bool) -> list[dict[str, Any]]:
    """Hand the classes to the workers; what they answered."""
    waiting = deque(names)
    lock = threading.Lock()
    answers: list[dict[str, Any]] = []

    def serve() -> None:
        worker = subprocess.Popen(
            [sys.executable, "-W", "error", "-m", "tests", "--work"] + ["--slow"] * slow,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert worker.stdin is not None and worker.stdout is not None
        while True:
            with lock:
                name = waiting.popleft() if waiting else None
            if name is None:
                break
            print(name, file=worker.stdin, flush=True)
            line = worker.stdout.readline()
            dead = {
                "name": name,
                "passed": 0,
                "failed": 1,
                "skipped": 0,
                "seconds": 0.0,
                "times": [],
            }
            answer = json.loads(line) if line else dead | {"said": f"{name}: the process died"}
            with lock:
                answers.append(answer)
                if answer["said"]:
                    print(answer["said"], flush=True)
            if not line:
                break
        worker.stdin.close()
        worker.wait()

    threads = [threading.Thread(target=serve) for _ in range(WORKERS)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    for name in waiting:
        answers.append(
            {"name": name, "passed": 0, "failed": 1, "skipped": 0, "seconds": 0.0, "times": []}
        )
    return answers


def main(arguments: Sequence[str]) -> int:
    """Run what lies under the names and add up."""
    start = time.monotonic()
    under = [a for a in arguments if not a.startswith("--")]
    slow = "--slow" in arguments
    os.environ.setdefault(DAY, day_of_commit())
    if os.access(MEMORY, os.W_OK) and shutil.disk_usage(MEMORY).free > ROOM:
        os.environ["TMPDIR"] = tempfile.tempdir = MEMORY
    with tempfile.TemporaryDirectory(prefix="dachi-tests-") as folder:
        os.environ["DACHI_TEST_KEPT"] = f"{folder}/kept"
        os.mkdir(f"{folder}/kept")
        if "--coverage" in arguments:
            os.environ[COVERAGE] = f"{folder}/coverage"
        answers = deal(classes(under, slow), slow)
        if "--coverage" in arguments:
            say_coverage(folder)
            if kept := os.environ.get(COVERAGE_KEPT):
                shutil.copy2(f"{folder}/coverage", kept)
                seconds = {f"{a['name']}.{t}": s for a in answers for s, t in a["times"]}
                Path(kept, "seconds.json").write_text(json.dumps(seconds), "utf-8")
    if "--times" in arguments:
        single = [(s, f"{a['name']}.{t}") for a in answers for s, t in a["times"]]
        print("\n".join(f"{s:7.2f} s  {name}" for s, name in sorted(single, reverse=True)[:150]))
    longest = sorted(answers, key=lambda a: -a["seconds"])[:SLOWEST]
    print("\n".join(f"{a['seconds']:7.1f} s  {a['name']}" for a in longest))
    totals = [sum(a[k] for a in answers) for k in ("passed", "failed", "skipped")]
    print(f"in {time.monotonic() - start:.0f} s, as if it were {os.environ[DAY]}")
    print(f"{totals[0]} passed, {totals[1]} failed, {totals[2]} skipped")
    return 1 if totals[1] or not totals[0] else 0


if __name__ == "__main__":
    arguments = sys.argv[1:]
    sys.exit(work("--slow" in arguments) if "--work" in arguments else main(arguments))
