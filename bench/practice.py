"""The planner: time, hard rules over a thousand people, worth against exhaustive search."""

from __future__ import annotations

import random
import statistics
import time

from dachi.core.practising.planner import plan
from dachi.core.practising.programme import NoPlan
from dachi.data import drills
from tests.core.practising.test_programme import best_by_search, broken, small_case, somebody

PEOPLE, SMALL = 1000, 30


def main() -> None:
    """Print what was seen."""
    rng = random.Random(77)
    catalogue = drills()
    times, rules, gaps, none = [], 0, [], 0
    for _ in range(PEOPLE):
        person = somebody(rng, most_days=7)
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
    print(f"weeks planned for {PEOPLE} random people: {none} without one, {rules} break a rule")
    late = times[int(0.95 * len(times))]
    print(f"  s: median {statistics.median(times):.2f}, p95 {late:.2f}, longest {times[-1]:.2f}")
    middle, worst = 100 * statistics.median(gaps), 100 * max(gaps)
    print(f"  below the linear bound: median {middle:.1f} %, worst {worst:.1f} %")
    short = []
    for n in range(SMALL):
        own, person = small_case(random.Random(500 + n), two_days=n % 2 == 0)
        try:
            week = plan(own, person)
        except NoPlan:
            continue
        best = best_by_search(own, person)
        short.append((best - week.objective) / max(abs(best), 1e-9))
    missed = sum(x > 1e-6 for x in short)
    print(
        f"small catalogues against exhaustive search: {len(short)}, {missed} not the best itself,"
    )
    print(f"  the worst {100 * max(short):.2f} % below it (aim: within 5 %)")
