"""Runs every test in three processes and closes with one plain line that counts them.

``python -m tests`` runs all; ``python -m tests tests.core tests.web`` what lies under names;
``--coverage`` prints how much of each layer was run. Test classes are dealt out one by one, the longest first, so that all processes end together.
"""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections import deque
from collections.abc import Iterator, Sequence
from typing import Any

import coverage

#: What takes longest starts first.
LONG = ("tests.shipped", "tests.web.test_killed", "tests.browser")
#: One more than the processors of a small machine: half a browser test is waiting.
WORKERS = 3
SLOWEST = 12
LAYERS = ("dachi.core", "dachi.studio", "dachi.store")
COVERAGE = "DACHI_COVERAGE_FILE"


def every(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """The single tests of a suite."""
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from every(one)
        else:
            yield one


def classes(under: Sequence[str]) -> list[str]:
    """Every test class under one of the names, the longest first."""
    found = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    names: dict[str, None] = {}
    for test in every(found):
        if "_FailedTest" in type(test).__name__:
            names[test.id().split(".", 3)[-1]] = None
        else:
            names[f"{type(test).__module__}.{type(test).__qualname__}"] = None
    wanted = [n for n in names if not under or n.startswith(tuple(under))]
    rank = {start: i for i, start in enumerate(LONG)}
    return sorted(wanted, key=lambda n: next((i for s, i in rank.items() if n.startswith(s)), 9))


def measuring_coverage() -> coverage.Coverage | None:
    """Begin to notice which lines are run, where that was asked for."""
    file = os.environ.get(COVERAGE)
    if not file:
        return None
    found = coverage.Coverage(data_file=file, data_suffix=True, source=list(LAYERS))
    found.start()
    return found


def work() -> int:
    """Run the classes named on standard input, one line each, and say how each went."""
    seen = measuring_coverage()
    answers = os.fdopen(os.dup(1), "w", encoding="utf-8")
    os.dup2(2, 1)
    for line in sys.stdin:
        name = line.strip()
        said = io.StringIO()
        start = time.monotonic()
        suite = unittest.defaultTestLoader.loadTestsFromName(name)
        result = unittest.TextTestRunner(said, verbosity=0).run(suite)
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
            "said": "" if result.wasSuccessful() else said.getvalue(),
        }
        print(json.dumps(answer), file=answers, flush=True)
    if seen is not None:
        seen.stop()
        seen.save()
    return 0


def say_coverage(folder: str) -> None:
    """Print the share of lines of each layer that was run."""
    found = coverage.Coverage(data_file=f"{folder}/coverage")
    found.combine([folder])
    for layer in LAYERS:
        quiet = io.StringIO()
        share = found.report(
            file=quiet, include=[f"{layer.replace('.', '/')}/*"], ignore_errors=True
        )
        print(f"{share:6.1f} %  of the lines of {layer}")


def deal(names: Sequence[str]) -> list[dict[str, Any]]:
    """Hand the classes to the workers; what they answered."""
    waiting = deque(names)
    lock = threading.Lock()
    answers: list[dict[str, Any]] = []

    def serve() -> None:
        worker = subprocess.Popen(
            [sys.executable, "-W", "ignore::ResourceWarning", "-m", "tests", "--work"],
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
            dead = {"name": name, "passed": 0, "failed": 1, "skipped": 0, "seconds": 0.0}
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
        answers.append({"name": name, "passed": 0, "failed": 1, "skipped": 0, "seconds": 0.0})
    return answers


def main(arguments: Sequence[str]) -> int:
    """Run what lies under the names and add up."""
    start = time.monotonic()
    under = [a for a in arguments if a != "--coverage"]
    with tempfile.TemporaryDirectory(prefix="dachi-tests-") as folder:
        os.environ["DACHI_TEST_KEPT"] = f"{folder}/kept"
        os.mkdir(f"{folder}/kept")
        if "--coverage" in arguments:
            os.environ[COVERAGE] = f"{folder}/coverage"
        answers = deal(classes(under))
        if "--coverage" in arguments:
            say_coverage(folder)
    slow = sorted(answers, key=lambda a: -a["seconds"])[:SLOWEST]
    print("\n".join(f"{a['seconds']:7.1f} s  {a['name']}" for a in slow))
    totals = [sum(a[k] for a in answers) for k in ("passed", "failed", "skipped")]
    print(f"in {time.monotonic() - start:.0f} s")
    print(f"{totals[0]} passed, {totals[1]} failed, {totals[2]} skipped")
    return 1 if totals[1] or not totals[0] else 0


if __name__ == "__main__":
    sys.exit(work() if sys.argv[1:] == ["--work"] else main(sys.argv[1:]))
