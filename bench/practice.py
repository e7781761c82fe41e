"""The planner: time, hard rules over a thousand people, worth against exhaustive search."""

from __future__ import annotations

import random
import statistics
import time
from dataclasses import replace

from dachi.core.catalogue.cautions import brought_by
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import NoPlan
from dachi.data import cautions, drills
from tests.core.catalogue.test_safety import TABLE
from tests.core.practising.test_programme import best_by_search, broken, small_case, somebody

PEOPLE, SMALL = 1000, 30


def main() -> None:
    """Print what was seen."""
    planning()
    safety()


def safety() -> None:
    """Weeks of people with anything the safety page names, read by its table, not by the data."""
    rng = random.Random(41)
    weeks = unsafe = none = 0
    for n in range(PEOPLE):
        rows = [TABLE[n % len(TABLE)], *rng.sample(TABLE, rng.randint(0, 2))]
        answers = {k: a for row in rows for k, a in row[0].items()}
        hurts = [h for row in rows for h in row[1]]
        # What one row closes stays closed, unless another answer to the same question was drawn.
        closed = {
            d for a, _, ids, _ in rows if all(answers[k] == v for k, v in a.items()) for d in ids
        }
        person = replace(
            somebody(rng),
            cautions=brought_by(cautions(), answers, hurts),
            cleared=rng.random() < 0.6,
        )
        try:
            week = plan(drills(), person)
        except NoPlan:
            none += 1
            continue
        weeks += 1
        unsafe += any(i.drill.id in closed for s in week.sessions for i in s.items)
    print(f"people with cautions: {weeks} weeks, {none} without one; unsafe by the table: {unsafe}")


def planning() -> None:
    """Rules, time, and the worth of plans."""
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
