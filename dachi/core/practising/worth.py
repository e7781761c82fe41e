"""What a week is worth to somebody, and the dose of each drill in it: what planning maximises."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.drills import ALWAYS, DIRECTIONS, Drill
from dachi.core.practising.allowed import coming_back, only_side
from dachi.core.practising.dose import Dose, dose
from dachi.core.practising.programme import Item, Need, Person, Session

#: Share of a week's minutes each direction should get at least, and each needed tissue.
DIRECTION_SHARE, TISSUE_SHARE = 0.05, 0.18
#: Of somebody who needs nothing in particular every direction gets more.
EVEN_SHARE = 0.12
BASE_WEIGHT = 1.0
BEYOND = 0.25
#: Worth of a drill that suits the school, that is known, that is the goal itself or prepares it.
SUITS, KNOWN, GOAL, PREPARES = 0.35, 0.15, 2.0, 0.8
#: Of what the rung somebody stands on is made of; against kneeling and hanging for stiff bodies.
RUNG, HARSH = 1.0, 0.4
AGAINST_SCHOOL = -0.6
#: What comes back from a pain is done at this share of its dose.
COMING_BACK = 0.5
#: Each day a drill is used beyond this costs.
SAME_DAYS, SAME_COST = 3, 0.5


def trimmed(session: Session, person: Person, minutes: float) -> Session:
    """The session for a day with less time, in the same order.

    What serves least for its time falls out first; settle, mobilise, counter and rest
    never do, but their doses shrink and no more than one of each stays where it must.
    """
    usual = person.minutes_on(session.weekday)
    short = replace(person, minutes=min(minutes, usual), by_day={})
    items = [replace(i, dose=dose_for(i.drill, short)) for i in session.items]
    needs = coverage(short)

    def merit(i: Item) -> float:
        weight = sum(n.weight for n in needs if served(i.drill, n)) + 5.0 * i.kept
        return weight * i.dose.work_s / i.dose.total_s

    def may_go(i: Item) -> bool:
        alone = sum(x.drill.phase == i.drill.phase for x in items) == 1
        return i.drill.phase not in ALWAYS or not alone

    while sum(i.dose.total_s for i in items) > 60.0 * minutes:
        free = [i for i in items if may_go(i)]
        if not free:
            break
        items.remove(min(free, key=lambda i: (i.drill.phase in ALWAYS, merit(i))))
    if not any(i.drill.phase in ("flow", "hold", "strength") for i in items):
        items = [i for i in items if i.drill.phase != "goal"]
    return Session(session.weekday, tuple(items))


def served(drill: Drill, need: Need) -> bool:
    """Whether a drill works on a need."""
    if need.way and need.way not in drill.directions:
        return False
    if need.held and drill.phase not in ("hold", "goal"):
        return False
    if need.worked and drill.phase in ("hold", "goal"):
        return False
    if need.kind == "direction":
        return need.name in drill.directions
    if need.kind == "lengthen":
        return need.name in drill.lengthens
    return need.name in drill.strengthens


def coverage(person: Person) -> tuple[Need, ...]:
    """What a week is judged by: every direction of the hip, and the person's own needs."""
    base = tuple(
        Need("direction", d, BASE_WEIGHT, f"keeps {d.replace('_', ' ')} in the week")
        for d in DIRECTIONS
    )
    return (*person.needs, *base)


def worth(person: Person, sessions: Sequence[Sequence[Drill]], drills: Sequence[Drill]) -> float:
    """The objective of a given choice (drills a day), computed directly: the yardstick."""
    days = sorted(set(person.days))
    total = 0.0
    for need in coverage(person):
        target = wanted_s(need, person)
        done = sum(
            dose_for(d, person, day).work_s
            for day, own in zip(days, sessions, strict=True)
            for d in own
            if served(d, need)
        )
        beyond = min(max(done - target, 0.0), target)
        total += need.weight * (min(done, target) + BEYOND * beyond) / 60
    for i, d in enumerate(drills):
        used = sum(d in day for day in sessions)
        total += used * liking(d, person, i, len(drills))
        total -= SAME_COST * max(0, used - free_days(d, len(days)))
    return total


def free_days(drill: Drill, days: int) -> int:
    """On how many days a drill may be used at no cost; what opens and ends a session: on all."""
    return days if drill.phase in ("settle", "rest") else SAME_DAYS


def direction_target(week_min: float) -> float:
    """Seconds a week that each direction should get, for so many minutes of practice."""
    return DIRECTION_SHARE * 60.0 * week_min


def wanted_s(need: Need, person: Person) -> float:
    """Seconds a week up to which a need has its full worth."""
    if need.kind == "direction" and need.weight <= BASE_WEIGHT:
        share = 1.0 if person.needs else EVEN_SHARE / DIRECTION_SHARE
        return share * direction_target(person.week_min)
    return TISSUE_SHARE * 60.0 * person.week_min


def liking(drill: Drill, person: Person, index: int, count: int) -> float:
    """Worth of a drill by itself: school, familiarity, the goal (points)."""
    found = 0.0
    if drill.schools:
        found += SUITS if person.school in drill.schools else AGAINST_SCHOOL
    elif _leans(drill) == person.school:
        found += SUITS / 2
    if drill.id in person.known:
        found += KNOWN
    if drill.id in person.prepares:
        found += PREPARES
    if drill.id in person.rung:
        found += RUNG
    if person.gentle and (drill.demands.most("kneel") or drill.demands.most("head_low")):
        found -= HARSH
    if drill.phase == "goal":
        found += GOAL if drill.goal in person.goals else -GOAL / 2
    # Ties go to the drill that comes first in the catalogue: the same plan every time.
    return found - 0.01 * index / max(count, 1)


def _leans(drill: Drill) -> str:
    """The school a drill is nearest to where it names none."""
    if drill.mode in ("active", "contract-relax"):
        return "engaged"
    return "yielding" if drill.passive_end else ""


def tight_side(drill: Drill, person: Person) -> str | None:
    """The side of a drill that trains a tighter hip: in a lunge the hip behind is the other's.

    None where the leg that the side names hurts: nothing is done once more on it.
    """
    for direction in drill.directions:
        if direction in person.tight:
            tight = person.tight[direction]
            side = tight if drill.leg_of(direction) == "own" else other_side(tight)
            return None if side in person.sore else side
    return None


def dose_for(drill: Drill, person: Person, day: int | None = None, *, whole: bool = False) -> Dose:
    """The dose of a drill for a person on a weekday: level, minutes, tighter side, easy week.

    ``whole``: as long as it would be were nothing coming back.
    """
    back = not whole and coming_back(drill, person)
    return dose(
        drill, person.level, person.minutes_on(day), tight=tight_side(drill, person),
        easy=person.easy_week, gentle=person.gentle, breath_s=person.breath_s,
        longer=1.0 if back else person.longer.get(drill.id, 1.0),
        only=only_side(drill, person), share=COMING_BACK if back else 1.0, squat_s=person.squat_s,
        own_hold_s=person.hold_s,
    )  # fmt: skip
