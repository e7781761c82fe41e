"""The planner: time, hard rules over a thousand people, worth against exhaustive search."""

from __future__ import annotations

import random
import statistics
import time

from dachi.core.programme import NoPlan, plan
from dachi.data import drills
from tests.core.test_programme import best_by_search, broken, small_case, somebody

PEOPLE, SMALL = 1000, 30


def run() -> None:
    """Print what was seen."""
    rng = random.Random(77)
    catalogue = drills()
    times, rules, gaps, none = [], 0, [], 0
    for _ in range(PEOPLE):
        person = somebody(rng)
        began = time.perf_counter()
        try:
            week = plan(catalogue, person)
        except NoPlan:
            none += 1
            continue
        times.append(time.perf_counter() - began)
        rules += bool(broken(week, person))
        gaps.append((week.bound - week.objective) / max(abs(week.bound), 1e-9))
    times.sort()
    print(
        f"plans of a week, {PEOPLE} random people: {none} without a plan, {rules} breaking a rule"
    )
    print(
        f"  time: median {statistics.median(times):.2f} s, p95 {times[int(0.95 * len(times))]:.2f} s,"
        f" longest {times[-1]:.2f} s"
    )
    print(
        f"  below the linear bound: median {100 * statistics.median(gaps):.1f} %, worst {100 * max(gaps):.1f} %"
    )
    short = []
    for n in range(SMALL):
        own, person = small_case(random.Random(500 + n), two_days=n % 2 == 0)
        try:
            week = plan(own, person)
        except NoPlan:
            continue
        best = best_by_search(own, person)
        short.append((best - week.objective) / max(abs(best), 1e-9))
    print(
        f"small catalogues against exhaustive search, {len(short)}: worst {100 * max(short):.2f} % below"
        f" the best, {sum(s > 1e-6 for s in short)} not the best itself"
    )
