"""Is a called gain real? Simulated studios with known courses and scatters, judged by the core."""

from __future__ import annotations

import math
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from dachi.core.judging import stages
from dachi.core.judging import trend as trends
from dachi.core.judging.forecast import forecast
from dachi.core.judging.scatter import estimate
from dachi.core.judging.series import Line, Series, TrialValue, build

WARM = ("warm", "", "mat")
POSES, SIDES, MODES = 4, ("left", "right"), ("active", "passive")
STUDIOS = (1, 5, 30)
VISIT_SDS, TRIAL_SDS = (0.0, 1.0, 2.0, 3.0), (1.5, 2.5)
#: Judged people for each scatter and size of studio.
JUDGED = 240
#: Of the visit's variance, what all that one visit holds has in common.
SHARED = 0.5

Course = Callable[[float], float]


@dataclass(frozen=True)
class World:
    """How much a visit and a trial scatter, degrees."""

    visit: float
    trial: float
    shared: float = SHARED


def course(rng: np.random.Generator, rate: float | None = None) -> tuple[Course, float, float]:
    """A straight or slowing course, its first rate (degrees a week) and its slowing (weeks)."""
    first = float(rng.uniform(0, 2)) if rate is None else rate
    slowing = float(rng.uniform(6, 40)) if rng.random() < 0.5 else math.inf
    start = float(rng.uniform(50, 90))
    if math.isinf(slowing):
        return (lambda w: start + first * w), first, slowing
    return (lambda w: start + first * slowing * (1 - math.exp(-w / slowing))), first, slowing


def person(
    rng: np.random.Generator,
    world: World,
    weeks: Sequence[float],
    courses: Sequence[Course],
    poses: int = POSES,
) -> list[list[TrialValue]]:
    """Trials of one person, a list for each pose; ``courses`` one for each line in turn."""
    found = []
    days = rng.normal(0, world.visit * math.sqrt(world.shared), (poses, len(weeks)))
    number = 0
    for pose in range(poses):
        trials = []
        for line in range(len(SIDES) * len(MODES)):
            own = rng.normal(0, world.visit * math.sqrt(1 - world.shared), len(weeks))
            where = courses[(pose * len(SIDES) * len(MODES) + line) % len(courses)]
            for visit, week in enumerate(weeks):
                for _ in range(int(rng.choice([1, 2, 3], p=[0.2, 0.5, 0.3]))):
                    number += 1
                    value = (
                        where(week) + days[pose, visit] + own[visit] + rng.normal(0, world.trial)
                    )
                    side, mode = SIDES[line // 2], MODES[line % 2]
                    trials.append(
                        TrialValue(number, visit, 7 * week, side, mode, value, 1.2, True, WARM)
                    )
        found.append(trials)
    return found


def visits(rng: np.random.Generator, count: int | None = None) -> list[float]:
    """Weeks of so many visits, two to five weeks apart."""
    n = int(rng.integers(5, 11)) if count is None else count
    return [0.0, *np.cumsum(rng.uniform(1.5, 5.0, n - 1))]


def judged(
    studio: Sequence[Sequence[Sequence[TrialValue]]], who: int, evidence: Sequence[Sequence[Series]]
) -> list[Series]:
    """Every pose of one person of a studio, with what the others say of the scatter."""
    found = []
    for pose, trials in enumerate(studio[who]):
        others = {
            mode: [evidence[k][pose].evidence[mode] for k in range(len(studio)) if k != who]
            for mode in MODES
        }
        found.append(build(trials, others=others))
    return found


def sure_lines(poses: Sequence[Series]) -> set[tuple[int, str, str]]:
    """What is confirmed of a person, over all lines."""
    return stages.confirmed_lines(
        ((i, x.side, x.mode), x.sessions[-1].assessment_id, stages.standing(x))
        for i, series in enumerate(poses)
        for x in series.lines
    )


def share(hits: Sequence[bool]) -> str:
    return f"{100 * np.mean(hits):5.1f} %" if len(hits) else "    none"


def unchanged() -> None:
    print(f"\nno true change, {POSES} poses x 2 sides x 2 modes, 5 to 10 visits")
    print("(aims: called real <= 5 %, trend clear <= 5 %, confirmed news in a visit <= 5 %,")
    print(" and a coach's only person <= 8 %)")
    print(f"{'studio':>7}{'visit':>7}{'trial':>7}{'real':>9}{'clear':>9}{'news':>9}{'holds':>9}")
    for people in STUDIOS:
        for visit in VISIT_SDS:
            for trial in TRIAL_SDS:
                rng = np.random.default_rng(int(100 * people + 10 * visit + trial))
                real: list[bool] = []
                clear: list[bool] = []
                news: list[bool] = []
                holds: list[bool] = []
                while len(news) < JUDGED:
                    studio = [
                        person(rng, World(visit, trial), visits(rng), [course(rng, 0.0)[0]])
                        for _ in range(people)
                    ]
                    evidence = [[build(p) for p in one] for one in studio]
                    for who in range(people):
                        poses = judged(studio, who, evidence)
                        news.append(bool(sure_lines(poses)))
                        for line in (x for s in poses for x in s.lines):
                            found, slope = line.since_first, trends.trend(line)
                            assert found is not None
                            real.append(found.real)
                            holds.append(found.low <= 0 <= found.high)
                            if slope is not None:
                                clear.append(slope.clear)
                print(
                    f"{people:7}{visit:7.0f}{trial:7.1f}{share(real):>9}{share(clear):>9}"
                    f"{share(news):>9}{share(holds):>9}"
                )


def steadily(rate: float) -> Course:
    """A straight course from 60 degrees."""
    return lambda week: 60.0 + rate * week


def gaining() -> None:
    """A true degree a week in two lines, in a pose or in all, and a true loss."""
    print("\na true 1 degree a week over 10 to 16 weeks, visit SD 2 (aim: confirmed >= 85 %)")
    print(f"{'studio':>7}{'trial':>7}{'lines':>7}{'rate':>6}{'confirmed':>11}{'beyond MDC':>12}")
    for people in STUDIOS[:2]:
        for trial in TRIAL_SDS:
            for moving in (2, 4, 16):
                for rate in (1.0, -1.0):
                    sure, sign = _moved(people, trial, moving, rate)
                    print(
                        f"{people:7}{trial:7.1f}{moving:7}{rate:6.0f}{share(sure):>11}"
                        f"{share(sign):>12}"
                    )


def _moved(people: int, trial: float, moving: int, rate: float) -> tuple[list[bool], list[bool]]:
    """Of lines that truly move: whether confirmed, and whether first and last differ for sure."""
    rng = np.random.default_rng(people)
    sure: list[bool] = []
    sign: list[bool] = []
    while len(sure) < 2 * JUDGED:
        span = float(rng.uniform(10, 16))
        n = int(rng.integers(5, 9))
        at = [span * i / (n - 1) for i in range(n)]
        moved = [steadily(rate)] * moving + [steadily(0.0)] * (16 - moving)
        studio = [person(rng, World(2.0, trial), at, moved), *_others(rng, 2.0, trial, people)]
        poses = judged(studio, 0, [[build(p) for p in one] for one in studio])
        done = sure_lines(poses)
        for k in range(moving):
            key = (k // 4, SIDES[k % 4 // 2], MODES[k % 2])
            line = poses[key[0]].line(key[1], key[2])
            assert line is not None and line.since_first is not None
            sign.append(line.since_first.real)
            sure.append(key in done)
    return sure, sign


def _others(
    rng: np.random.Generator, visit: float, trial: float, people: int, poses: int = POSES
) -> list[list[list[TrialValue]]]:
    """The coach's other people, each on a course of their own."""
    return [
        person(rng, World(visit, trial), visits(rng), [course(rng)[0]], poses)
        for _ in range(min(people, 6) - 1)
    ]


def intervals() -> None:
    print("\ncoverage of 95 % intervals of change and slope, straight and slowing (aim 92-98 %)")
    for people in STUDIOS:
        for visit in VISIT_SDS:
            rng = np.random.default_rng(int(17 * people + visit))
            change: list[bool] = []
            slopes: list[bool] = []
            while len(change) < 10 * JUDGED:
                courses = [course(rng)[0] for _ in range(16)]
                when = visits(rng)
                studio = [
                    person(rng, World(visit, 2.0), when, courses),
                    *_others(rng, visit, 2.0, people),
                ]
                evidence = [[build(p) for p in one] for one in studio]
                for i, series in enumerate(judged(studio, 0, evidence)):
                    for j, (side, mode) in enumerate((s, m) for s in SIDES for m in MODES):
                        line = series.line(side, mode)
                        assert line is not None and line.since_first is not None
                        where = courses[4 * i + j]
                        true = where(when[-1]) - where(when[0])
                        change.append(line.since_first.low <= true <= line.since_first.high)
                        found = trends.trend(line)
                        assert found is not None
                        slopes.append(found.low <= _true_slope(where, line) <= found.high)
            print(
                f"  studio of {people:2}, visit SD {visit:.0f}: change {share(change)}, "
                f"slope {share(slopes)}"
            )


def _true_slope(where: Course, line: Line) -> float:
    """What the true course's own least-squares slope at those visits is."""
    sessions = trends.window(line)
    weeks = np.array([s.day / 7 for s in sessions])
    weights = np.array([1 / s.spread.mean for s in sessions])
    return float(np.polyfit(weeks, [where(w) for w in weeks], 1, w=np.sqrt(weights))[0])


def scatters() -> None:
    print(
        "\nestimates of the scatters, people with courses of their own (aim: within 15 % from ten)"
    )
    for people in (1, 5, 10, 30):
        for visit in VISIT_SDS:
            rng = np.random.default_rng(int(31 * people + visit))
            rows = []
            for _ in range(40):
                studio = [
                    person(
                        rng, World(visit, 2.0), visits(rng), [course(rng)[0] for _ in range(4)], 1
                    )
                    for _ in range(people)
                ]
                found = estimate(build(p[0]).evidence["passive"] for p in studio)
                rows.append((found.trial_sd, found.visit_sd))
            trial, at = np.mean(rows, axis=0)
            print(
                f"  {people:2} people, visit SD {visit:.0f}: trial {trial:.2f} of 2.00, "
                f"visit {at:.2f}"
            )


def forecasts() -> None:
    print("\nforecast windows labelled 80 % that hold the true date (aim 75-88 %)")
    for people in STUDIOS:
        for visit in (0.0, 1.0, 2.0, 3.0):
            rng = np.random.default_rng(int(7 * people + visit))
            hits: dict[str, list[bool]] = {"straight": [], "slowing": []}
            widths: list[float] = []
            left: list[float] = []
            for _ in range(JUDGED * 2):
                chosen = [course(rng) for _ in range(4)]
                when = visits(rng)
                studio = [person(rng, World(visit, 2.0), when, [c[0] for c in chosen], 1)]
                studio += _others(rng, visit, 2.0, people, 1)
                evidence = [[build(p) for p in one] for one in studio]
                series = judged(studio, 0, evidence)[0]
                for j, (side, mode) in enumerate((s, m) for s in SIDES for m in MODES):
                    line = series.line(side, mode)
                    assert line is not None
                    where, rate, slowing = chosen[j]
                    target = line.sessions[-1].value + float(rng.uniform(2, 15))
                    found = forecast(line, target)
                    true = _true_date(where, rate, slowing, target)
                    if found.state == "window" and true is not None:
                        assert found.earliest is not None and found.latest is not None
                        true = max(true, line.sessions[-1].day)
                        hit = found.earliest <= true <= found.latest
                        hits["straight" if math.isinf(slowing) else "slowing"].append(hit)
                        widths.append((found.latest - found.earliest) / 7)
                        middle = (found.latest + found.earliest) / 2 - line.sessions[-1].day
                        left.append((found.latest - found.earliest) / max(middle, 7.0))
            print(
                f"  studio of {people:2}, visit SD {visit:.0f}: "
                f"hold {share(hits['straight'] + hits['slowing'])}, "
                f"straight {share(hits['straight'])}, slowing {share(hits['slowing'])}, "
                f"of {len(widths)}, {np.median(widths):.0f} weeks wide, "
                f"{np.mean(left):.2f} of what is left"
            )


def _true_date(where: Course, rate: float, slowing: float, target: float) -> float | None:
    need = target - where(0.0)
    if need <= 0:
        return 0.0
    if rate <= 0:
        return None
    if math.isinf(slowing):
        return 7 * need / rate
    left = 1 - need / (rate * slowing)
    return -7 * slowing * math.log(left) if left > 0 else None


def main(wanted: Sequence[str] = ()) -> None:
    for part in (scatters, unchanged, gaining, intervals, forecasts):
        if wanted and part.__name__ not in wanted:
            continue
        began = time.monotonic()
        part()
        print(f"  ({time.monotonic() - began:.0f} s)", flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
