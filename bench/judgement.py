"""Is a called gain real? Simulated practitioners with known truth, judged by the core."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.stats import theilslopes

from dachi.core.judging import trend as trends
from dachi.core.judging.forecast import forecast
from dachi.core.judging.series import Line, Repeats, TrialValue, build

PEOPLE = 2400


@dataclass(frozen=True)
class Truth:
    """A practitioner's true course: degrees at a number of weeks, and the SEM of a trial."""

    course: Callable[[float], float]
    slope: float
    slowing: float
    sem: float


def simulate(
    rng: np.random.Generator, slope: float | None = None
) -> tuple[Truth, list[TrialValue]]:
    """Irregular visits over four to nine months, one to three trials each, left passive.

    Other sides and modes are measured too; their trials inform the SEM as they would.
    """
    sem = float(rng.uniform(1.5, 4.0))
    rate = float(rng.uniform(0, 2)) if slope is None else slope
    slowing = float(rng.uniform(6, 40)) if rng.random() < 0.5 else math.inf
    start = float(rng.uniform(50, 90))

    def course(week: float) -> float:
        if math.isinf(slowing):
            return start + rate * week
        return start + rate * slowing * (1 - math.exp(-week / slowing))

    visits = int(rng.integers(5, 11))
    week, trials, number = 0.0, [], 0
    for visit in range(visits):
        for side, mode in (("left", "passive"), ("right", "passive")):
            for _ in range(int(rng.choice([1, 2, 3], p=[0.2, 0.35, 0.45]))):
                number += 1
                level = course(week) if side == "left" else start + 4
                value = level + float(rng.normal(0, sem))
                trials.append(
                    TrialValue(
                        number, visit, 7 * week, side, mode, value, 1.2, True, ("w", "", "mat")
                    )
                )
        week += float(rng.uniform(1.5, 5.5))
    return Truth(course, rate, slowing, sem), trials


def left(truth: Truth, trials: list[TrialValue], others: int, rng: np.random.Generator) -> Line:
    """The judged line, in a studio whose coach has measured ``others`` more people."""
    df = 20 * others
    seen = Repeats(truth.sem**2 * float(rng.chisquare(df)), df) if df else Repeats()
    line = build(trials, repeats={"passive": seen}).line("left", "passive")
    assert line is not None
    return line


def true_slope(truth: Truth, line: Line) -> float:
    """What a robust slope of the true course would be at the same visits."""
    weeks = np.array([s.day / 7 for s in trends.window(line)])
    values = np.array([truth.course(w) for w in weeks])
    return float(theilslopes(values, weeks)[0])


def share(hits: list[bool]) -> str:
    return f"{100 * np.mean(hits):5.1f}% of {len(hits)}" if hits else "none"


def gains_and_slopes(others: int) -> None:
    rng = np.random.default_rng(5)
    bands = {"SEM 1.5-2.3": (1.5, 2.3), "SEM 2.3-3.2": (2.3, 3.2), "SEM 3.2-4.0": (3.2, 4.0)}
    cover: dict[str, list[bool]] = {}
    slope_cover: dict[str, list[bool]] = {}
    for _ in range(PEOPLE):
        truth, trials = simulate(rng)
        line = left(truth, trials, others, rng)
        gain = line.since_first
        assert gain is not None
        real = truth.course(gain.later.day / 7) - truth.course(gain.earlier.day / 7)
        inside = gain.low <= real <= gain.high
        found = trends.trend(line)
        held = found is not None and found.low <= true_slope(truth, line) <= found.high
        for name, (low, high) in bands.items():
            if low <= truth.sem < high:
                cover.setdefault(name, []).append(inside)
                slope_cover.setdefault(name, []).append(held)
        cover.setdefault("all", []).append(inside)
        slope_cover.setdefault("all", []).append(held)
    print("\ncoverage of 95 % intervals (aim 92-98 %)")
    for name in ("all", *bands):
        print(f"  {name:12} gain {share(cover[name])}   slope {share(slope_cover[name])}")

    print("\na true change of zero (aims: called a gain <= 3 %, called anything <= 5 %)")
    rows: dict[str, list[tuple[str, bool]]] = {}
    for _ in range(2 * PEOPLE):
        truth, trials = simulate(rng, slope=0.0)
        gain = left(truth, trials, others, rng).since_first
        assert gain is not None
        naive = gain.change > 0
        for name in ("all", *(n for n, (a, b) in bands.items() if a <= truth.sem < b)):
            rows.setdefault(name, []).append((gain.verdict, naive))
    for name in ("all", *bands):
        verdicts = rows[name]
        gained = [v == "real gain" for v, _ in verdicts]
        either = [v != "no change we could detect" for v, _ in verdicts]
        print(
            f"  {name:12} gain {share(gained)}   gain or loss {share(either)}   "
            f"naive rule calls a gain {share([n for _, n in verdicts])}"
        )


def power(others: int) -> None:
    """A true gain of 1.5 MDC, from one pair of assessments and from a whole series."""
    rng = np.random.default_rng(6)
    pair, series = [], []
    for _ in range(PEOPLE):
        truth, trials = simulate(rng, slope=0.0)
        line = left(truth, trials, others, rng)
        a, b = line.sessions[0], line.sessions[-1]
        # The MDC that the true SEM gives to this pair; the gain is laid over the noise.
        mdc = 1.959964 * truth.sem * math.sqrt(1 / a.count + 1 / b.count)
        span = b.day - a.day
        moved = [
            TrialValue(
                t.trial_id, t.assessment_id, t.day, t.side, t.mode,
                t.value + (1.5 * mdc * (t.day - a.day) / span if t.side == "left" else 0.0),
                t.sd, True, t.conditions,
            )
            for t in trials
        ]  # fmt: skip
        line = left(truth, moved, others, rng)
        assert line.since_first is not None
        pair.append(line.since_first.verdict == "real gain")
        found = trends.trend(line)
        series.append(found is not None and found.low > 0)
    print("\npower to call a true gain of 1.5 MDC (aim >= 80 % from a pair, more from the series)")
    print(f"  one pair {share(pair)}   slope of the whole series {share(series)}")


def forecasts(others: int) -> None:
    rng = np.random.default_rng(7)
    hits: dict[str, list[bool]] = {}
    states: dict[str, int] = {}
    widths = []
    for _ in range(PEOPLE):
        truth, trials = simulate(rng)
        line = left(truth, trials, others, rng)
        last = line.sessions[-1]
        target = last.value + float(rng.uniform(2, 15))
        found = forecast(line, target)
        states[found.state] = states.get(found.state, 0) + 1
        when = _true_date(truth, target)
        if found.state == "window" and when is not None:
            assert found.earliest is not None and found.latest is not None
            when = max(when, last.day)
            hit = found.earliest <= when <= found.latest
            kind = "straight" if math.isinf(truth.slowing) else "slowing"
            hits.setdefault("all", []).append(hit)
            hits.setdefault(kind, []).append(hit)
            widths.append((found.latest - found.earliest) / 7)
    print("\nforecast windows labelled 80 % that hold the true date (aim 72-88 %)")
    for name, found_hits in hits.items():
        print(f"  {name:12} {share(found_hits)}")
    print(f"  median width {np.median(widths):.0f} weeks; answers: {states}")


def _true_date(truth: Truth, target: float) -> float | None:
    need = target - truth.course(0.0)
    if need <= 0:
        return 0.0
    if truth.slope <= 0:
        return None
    weeks = need / truth.slope
    if not math.isinf(truth.slowing):
        share_left = 1 - need / (truth.slope * truth.slowing)
        if share_left <= 0:
            return None
        weeks = -truth.slowing * math.log(share_left)
    return 7 * weeks


def main() -> None:
    for others in (3, 0):
        who = f"one of {others + 1} people the coach measures" if others else "the coach's only one"
        print(f"\n-- {PEOPLE} practitioners, each {who} --")
        gains_and_slopes(others)
        power(others)
        forecasts(others)


if __name__ == "__main__":
    main()
