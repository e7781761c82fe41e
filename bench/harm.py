"""Whom a week would harm: random people of every class, read by tables that are not the data.

What must not be in a week is written from what a physiotherapist says (``tests``): which drill on
which side under which answer or pain; and what a whole week owes to a body: little on the back, as
much strength as holding, no block underfoot, no extra round on a side that hurts, easy weeks that
are easy, days of a visit without ends.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Collection, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

from dachi.core.catalogue.cautions import Answer
from dachi.core.catalogue.hurts import Hurt
from dachi.core.judging.limiters import SessionReading
from dachi.core.practising.person import Known, person_of
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import Item, NoPlan, Week
from dachi.core.practising.timeline import steps
from dachi.data import chosen_schools, drills, props, rules, schools
from tests.core.catalogue.test_legs import BY_ID, CONDITIONS, HURTS

PEOPLE, SEED = 2000, 640
GOALS = ("front-split", "straddle", "pigeon", "butterfly", "crossed-seat", "deep-squat")
EASY_MOST, BACK_S, SQUAT_S = 0.7, 180.0, 90.0


@dataclass(frozen=True)
class Class:
    """Answers or a pain, with what must not be done under it on which side."""

    answers: tuple[tuple[str, Answer], ...]
    hurt: Hurt | None
    closed: frozenset[tuple[str, str]]


def classes() -> list[Class]:
    """Every answer and every pain of the tables, each with all its rows."""
    found: dict[object, tuple[Class, set[tuple[str, str]]]] = {}
    for answers, drill, sides in CONDITIONS:
        told = tuple(sorted(answers.items()))
        row = found.setdefault(repr(told), (Class(told, None, frozenset()), set()))
        row[1].update((drill, s) for s in sides)
    for hurt, drill, sides in HURTS:
        row = found.setdefault(repr(hurt), (Class((), hurt, frozenset()), set()))
        row[1].update((drill, s) for s in sides)
    return [replace(c, closed=frozenset(shut)) for c, shut in found.values()]


def main() -> None:
    """Print what was seen."""
    own = classes()
    with ProcessPoolExecutor() as pool:
        found = sum(pool.map(_look, range(PEOPLE), chunksize=25), Counter())
    told = f"{PEOPLE} of {len(own)} classes, {found['week']} weeks, {found['none']} without one"
    print(f"random people: {told}")
    for name in ("table", "extra", "back", "hold", "underfoot", "squat", "easy", "visit"):
        print(f"  {name}: {found[name]} of {found[f'{name} asked']}")


def _look(n: int) -> Counter[str]:
    rng = random.Random(SEED + n)
    own = classes()
    drawn = [own[n % len(own)], *rng.sample(own, rng.choice([0, 0, 1, 2]))]
    answers = {k: a for c in drawn for k, a in c.answers}
    hurts = [c.hurt for c in drawn if c.hurt is not None]
    # What one class closes stays closed, unless another answer to the same question was drawn.
    closed = {
        pair for c in drawn if all(answers[k] == a for k, a in c.answers) for pair in c.closed
    }
    age = rng.choice([17, 24, 33, 41, 58, 72, 79])
    if "falls" in answers and rng.random() < 0.7:
        age = rng.randint(71, 85)
    known = _somebody(rng, answers, hurts, age)
    seen: Counter[str] = Counter()
    try:
        week = plan(drills(), person_of(known, rules()))
    except NoPlan:
        return Counter({"none": 1})
    seen["week"] += 1
    seen["table asked"] += 1
    seen["table"] += bool(closed & set(_worked(week)))
    sore = {h.side or s for h in hurts if h.harmful for s in ("left", "right") if h.of_leg(s)}
    if sore:
        seen["extra asked"] += 1
        seen["extra"] += any(i.dose.extra in sore for s in week.sessions for i in s.items)
    weeks = answers["pregnancy"].weeks if "pregnancy" in answers else 0.0
    if weeks is None or weeks >= 16:
        seen["back asked"] += 1
        seen["back"] += any(_longest_on_the_back(s.items) > BACK_S for s in week.sessions)
    if "over_mobile" in answers:
        seen["hold asked"] += 1
        held = [_seconds(s.items, ("hold", "goal")) for s in week.sessions]
        strong = [_seconds(s.items, ("strength",)) for s in week.sessions]
        seen["hold"] += any(h > s for h, s in zip(held, strong, strict=True))
    if "falls" in answers and age > 70:
        seen["underfoot asked"] += 1
        seen["squat asked"] += 1
        used = [i for s in week.sessions for i in s.items]
        seen["underfoot"] += any(i.drill.id == "leg-swing" for i in used)
        long = [i for i in used if i.dose.hold_s > SQUAT_S]
        seen["squat"] += any(i.drill.id in ("squat-supported", "goal-deep-squat") for i in long)
    if n % 4 == 0:
        seen["easy asked"] += 1
        try:
            easy = plan(drills(), person_of(replace(known, easy_week=True), rules()))
            seen["easy"] += _ends(easy) > EASY_MOST * _ends(week) + 1e-6
        except NoPlan:
            seen["easy asked"] -= 1
    if n % 4 == 1:
        seen["visit asked"] += 1
        day = rng.choice(known.days)
        quiet = frozenset({day, (day - 1) % 7})
        try:
            spared = plan(drills(), person_of(replace(known, quiet_days=quiet), rules()))
            seen["visit"] += _ends(spared, quiet) > 0
        except NoPlan:
            seen["visit asked"] -= 1
    return seen


def _somebody(rng: random.Random, answers: dict[str, Answer], hurts: list[Hurt], age: int) -> Known:
    raised = rng.gauss(75, 15)
    readings = []
    for side in ("left", "right"):
        for mode, less in (("active", 15.0), ("passive", 0.0)):
            if rng.random() < 0.7:
                value = raised + rng.gauss(0, 6) - less
                one = SessionReading("supine-leg-raise", "leg_line", "x", side, mode, value)
                readings.append(replace(one, half=3.0, within=4.0, mdc=6.0))
    days = tuple(sorted(rng.sample(range(7), rng.randint(1, 5))))
    return Known(
        year=2026, minutes=float(rng.choice([10, 15, 20, 30, 45])), days=days,
        styles=chosen_schools({s.id: rng.choice(list(s.options)) for s in schools()}),
        cleared=True, level=rng.choice([1, 2, 3]), birth_year=2026 - age, age=(age, age),
        props=frozenset(p.id for p in props() if rng.random() < 0.7), answers=answers,
        hurts=frozenset(hurts),
        goals=tuple((g, "left") for g in rng.sample(GOALS, rng.randint(0, 2))),
        readings=tuple(readings), practised=frozenset(rng.sample(sorted(BY_ID), 12)),
    )  # fmt: skip


def _worked(week: Week) -> list[tuple[str, str]]:
    found = []
    for i in (i for s in week.sessions for i in s.items):
        for step in steps(i):
            if step.worked:
                found += [(i.drill.id, s) for s in ("left", "right") if step.side in (None, s)]
    return found


def _seconds(items: Sequence[Item], phases: Collection[str]) -> float:
    return sum(i.dose.work_s for i in items if i.drill.phase in phases)


def _ends(week: Week, days: frozenset[int] = frozenset(range(7))) -> float:
    return sum(
        i.dose.work_s for s in week.sessions for i in s.items
        if s.weekday in days and i.drill.passive_end
    )  # fmt: skip


def _longest_on_the_back(items: Sequence[Item]) -> float:
    longest = run = 0.0
    for i in items:
        run = run + i.dose.total_s if i.drill.position == "lying" else 0.0
        longest = max(longest, run)
    return longest


if __name__ == "__main__":
    main()
