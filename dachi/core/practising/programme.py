"""What a week of practice is made of: persons, needs, sessions, and the rules they obey.

``dachi.core.practising.planner`` chooses within these rules; ``worth`` is what it maximises.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.cautions import SIDES, Caution
from dachi.core.catalogue.demands import DIRECTION_DEMANDS, Level
from dachi.core.catalogue.drills import ALWAYS, DIRECTIONS, Drill
from dachi.core.practising.dose import BREATH_S, Dose, dose
from dachi.errors import NotDone

#: Fewest and most drills of a phase in one session.
LEAST = {"settle": 1, "mobilise": 1, "counter": 1, "rest": 1}
MOST = {
    "settle": 1, "mobilise": 3, "flow": 2, "strength": 3, "hold": 5, "goal": 1, "counter": 2,
    "rest": 1,
}  # fmt: skip
#: Longer sessions hold more of these: half as many again from 30 minutes, twice from 60.
GROWING = ("mobilise", "flow", "strength", "hold", "counter")
#: However long a session is, it has no more long holds than this.
MOST_HOLDS = 7
#: Between so many minutes a session warms up by moving for at least this share of its time; in less
#: there is room for one thing that moves.
WARM_UP_MIN, WARM_SHARE = (10.0, 20.0), 0.25
#: A session with less than this share of its minutes says so.
FULL = 0.75
#: From this many minutes on a session has a warm flow.
FLOW_FROM_MIN = 20
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


class NoPlan(NotDone):
    """No session obeys every rule; the message says which one is in the way.

    ``by_caution`` where a caution forbids every session.
    """

    code = "no-plan"

    def __init__(self, message: str, *, by_caution: bool = False) -> None:
        super().__init__(message)
        self.by_caution = by_caution


#: An easy week has so much of the usual time, and of the seconds at the end of range; sessions as
#: short as this are not cut.
EASY_SHARE, EASY_END, SHORTEST_MIN = 0.75, 0.65, 8.0


@dataclass(frozen=True)
class Need:
    """Something the week should work on.

    ``kind``: ``direction``, ``lengthen`` or ``strengthen``; ``name`` a direction or tissue;
    ``weight`` relative to 1 for the plain coverage of a direction; ``reason`` a sentence.
    ``way``: only what trains this direction serves it (strength near the end of one range);
    ``held``: only what is held does (length, not warmth); ``worked``: only what is no hold does.
    """

    kind: str
    name: str
    weight: float
    reason: str
    way: str = ""
    held: bool = False
    worked: bool = False


@dataclass(frozen=True)
class Person:
    """Whom a week is planned for.

    ``days`` are weekdays of practice (0 is Monday), ``minutes`` a session's length, ``by_day``
    that of days which differ; ``cleared`` whether passive end-range work may be planned,
    ``prepares`` drills that prepare a goal in their usual order, ``rung`` those of the rung they
    stand on towards it, ``starts`` the side that goes first where neither is tighter,
    ``gentle`` a stiff or older body, ``breath_s`` its own breath, ``tight`` the tighter side for
    each direction, ``shut`` gates (id to why), ``locked`` drills of rungs not reached,
    ``known`` drills done before, ``longer`` drill to a factor of its dose, ``eased`` drills that
    hurt or were sent back to their easier form, ``ready`` drills above the level that were
    earned one by one, ``outgrown`` the easier forms they replace, ``styles`` answers to the
    questions schools differ on, ``quiet_days`` the weekdays of an assessment and its eve,
    ``soft_days`` those before an event on which nothing is hard, ``nothing_new`` those on
    which only what is known may come; ``halved`` drills at which a cramp came or a leg fell
    asleep, ``hold_s`` their own length of a hold, ``opened`` drills a coach opened against a pain,
    with the reason, ``referred`` ids of cautions no coach opens because a clinician has to look
    first, ``sore`` the sides of legs that hurt; ``lost`` (direction, hip) that lost range sharply
    while that leg hurts: no end of it.
    """

    level: int = 1
    minutes: float = 20
    days: tuple[int, ...] = (0, 2, 4, 6)
    by_day: Mapping[int, float] = field(default_factory=dict)
    props: frozenset[str] = frozenset({"mat", "wall"})
    cautions: tuple[Caution, ...] = ()
    cleared: bool = True
    school: str = "mixed"
    needs: tuple[Need, ...] = ()
    goals: tuple[str, ...] = ()
    prepares: tuple[str, ...] = ()
    rung: frozenset[str] = frozenset()
    starts: str = "left"
    gentle: bool = False
    breath_s: float = BREATH_S
    tight: Mapping[str, str] = field(default_factory=dict)
    shut: Mapping[str, str] = field(default_factory=dict)
    locked: Mapping[str, str] = field(default_factory=dict)
    styles: Mapping[str, str] = field(default_factory=dict)
    known: frozenset[str] = frozenset()
    longer: Mapping[str, float] = field(default_factory=dict)
    eased: frozenset[str] = frozenset()
    ready: frozenset[str] = frozenset()
    outgrown: frozenset[str] = frozenset()
    easy_week: bool = False
    quiet_days: frozenset[int] = frozenset()
    soft_days: frozenset[int] = frozenset()
    nothing_new: frozenset[int] = frozenset()
    halved: frozenset[str] = frozenset()
    hold_s: float | None = None
    opened: Mapping[str, str] = field(default_factory=dict)
    referred: frozenset[str] = frozenset()
    sore: frozenset[str] = frozenset()
    lost: frozenset[tuple[str, str]] = frozenset()

    def minutes_on(self, day: int | None) -> float:
        """Length of the session of a weekday; the usual one where no day is given.

        Shorter in an easy week.
        """
        usual = self.minutes if day is None else self.by_day.get(day, self.minutes)
        if day in self.soft_days and usual > SHORTEST_MIN:
            return EASY_SHARE * usual
        return EASY_SHARE * usual if self.easy_week and usual > SHORTEST_MIN else usual

    @property
    def back_s(self) -> float:
        """Seconds on the back that a session may have."""
        return min((c.back_s for c in self.cautions if c.back_s is not None), default=math.inf)

    @property
    def squat_s(self) -> float:
        """Seconds that a deep squat may last."""
        return min((c.squat_s for c in self.cautions if c.squat_s is not None), default=math.inf)

    @property
    def strength_first(self) -> bool:
        """Whether no session holds more seconds than it has of strength."""
        return any(c.strength_first for c in self.cautions)

    @property
    def week_min(self) -> float:
        """Minutes of practice in the week."""
        return sum(self.minutes_on(d) for d in set(self.days))


@dataclass(frozen=True)
class Wishes:
    """What the coach changed by hand: kept drills (weekday, drill) and dropped ones.

    ``dropped`` pairs a weekday, or None for the whole week, with a drill.
    """

    kept: frozenset[tuple[int, str]] = frozenset()
    dropped: frozenset[tuple[int | None, str]] = frozenset()


@dataclass(frozen=True)
class Item:
    """A drill of a session with its dose and why it is there."""

    drill: Drill
    dose: Dose
    first: str | None
    reason: str
    kept: bool = False


@dataclass(frozen=True)
class Session:
    """One day of practice in order."""

    weekday: int
    items: tuple[Item, ...]

    @property
    def total_s(self) -> float:
        """Seconds it takes."""
        return sum(i.dose.total_s for i in self.items)

    @property
    def hard(self) -> bool:
        """Whether it holds strength work."""
        return any(i.drill.strong for i in self.items)


@dataclass(frozen=True)
class Week:
    """A planned week. ``fell_out`` maps drills that are not in it to the reason.

    ``objective`` is the worth reached and ``bound`` what no plan can exceed; ``seconds``
    gives the work in each direction.
    """

    sessions: tuple[Session, ...]
    fell_out: Mapping[str, str]
    objective: float
    bound: float
    seconds: Mapping[str, float]


def most(phase: str, minutes: float) -> int:
    """How many drills of a phase a session of so many minutes may hold."""
    if phase not in GROWING or minutes < 30:
        return MOST[phase]
    grown = round(MOST[phase] * (2.0 if minutes >= 60 else 1.5))
    return min(grown, MOST_HOLDS) if phase == "hold" else grown


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


def barred(drill: Drill, person: Person) -> str | None:
    """Why a drill would not be safe, possible or fitting at any level; None where it would."""
    if unsafe := _unsafe(drill, person):
        return unsafe
    if lacking := missing(drill, person.props):
        return f"needs a {' and a '.join(lacking)}"
    question, _, option = drill.style.partition("=")
    if question and person.styles.get(question, option) != option:
        return "belongs to the other way of training it"
    if drill.id in person.eased:
        return "hurt lately, or was sent back to its easier form"
    return None


def missing(drill: Drill, props: Collection[str]) -> tuple[str, ...]:
    """What a drill requires and a person does not own."""
    return tuple(p for p in drill.requires if p not in props)


def closed_sides(drill: Drill, person: Person) -> dict[str, str]:
    """The sides on which a person may not do a drill, each with the sentence why.

    The one rule of every door. What a coach opened by hand stays open against a pain that comes
    back or an ache, not against what a clinician has to clear.
    """
    found: dict[str, str] = {}
    for caution in person.cautions:
        if (
            caution.source == "pain"
            and drill.id in person.opened
            and caution.id not in person.referred
        ):
            continue
        for side in sorted(caution.closes(drill)):
            found.setdefault(side, f"{caution.said}: {caution.words}")
    for motion, hip in sorted(person.lost):
        for side in _ends_on(drill, motion, hip):
            found.setdefault(side, LOST.format(motion.replace("_", " "), hip))
    return found


def not_to_open(drill: Drill, person: Person) -> bool:
    """Whether a drill is closed by what no coach may overrule: what a clinician has to clear, an
    age, a sign that stops all, a place that was referred.
    """
    for caution in person.cautions:
        if caution.no_session:
            return True
        if caution.closes(drill) and (caution.source != "pain" or caution.id in person.referred):
            return True
    return False


#: Why a line that lost range on a leg that hurts is left alone.
LOST = "{} lost range on the {} while that leg hurts: no end of it before somebody has asked"


def _ends_on(drill: Drill, motion: str, hip: str) -> frozenset[str]:
    """The sides on which a drill brings one hip to the end of a direction."""
    names = DIRECTION_DEMANDS.get(motion, ())

    def ends(side: str) -> bool:
        leg = hip if drill.sides == "each" else ""
        return any(drill.demands.asked(n, leg, side) >= Level.END for n in names)

    shut = frozenset(side for side in SIDES if ends(side))
    return shut if drill.sides == "each" else frozenset(SIDES if shut else ())


def only_side(drill: Drill, person: Person) -> str | None:
    """The one side on which a drill is done because the other is closed; None where both are."""
    shut = closed_sides(drill, person) if drill.sides == "each" else {}
    return next((s for s in SIDES if s not in shut), None) if len(shut) == 1 else None


def guarded(drill: Drill, person: Person, lost: Collection[tuple[str, str]]) -> bool:
    """Whether a drill works a side that hurts, comes back or lost range (direction, hip): it grows
    no further then.
    """
    sore = bool(closed_sides(drill, person)) or coming_back(drill, person)
    return sore or any(motion in drill.directions for motion, _ in lost)


def coming_back(drill: Drill, person: Person) -> bool:
    """Whether a drill is done at half the dose: what it loads comes back from a pain."""
    free = set(SIDES) - set(closed_sides(drill, person))
    return drill.id in person.halved or any(free & c.halves(drill) for c in person.cautions)


def _unsafe(drill: Drill, person: Person) -> str | None:
    shut = closed_sides(drill, person)
    if len(shut) == len(SIDES):
        return shut["left"]
    if shut and drill.phase == "goal" and drill.split:
        # Whoever slips in a split is on both legs at once: it waits until both may.
        return next(iter(shut.values()))
    if drill.passive_end and not person.cleared:
        return "passive end-range work waits for clearance by a doctor or physiotherapist"
    return None


def waits_for(drill: Drill, person: Person) -> tuple[str, ...]:
    """The props that would open a drill; nothing where it is closed for more than them."""
    return () if _unsafe(drill, person) else missing(drill, person.props)


def refused(drill: Drill, person: Person) -> str | None:
    """Why a drill is not planned for a person at all, None where it may be."""
    if why := barred(drill, person):
        return why
    for gate in drill.gate:
        if gate in person.shut:
            return f"its gate is shut: {person.shut[gate]}"
    if drill.id in person.locked:
        return f"its rung is not reached: {person.locked[drill.id]}"
    if drill.level > person.level and drill.id not in person.ready:
        return f"is for level {drill.level}"
    if drill.id in person.outgrown:
        return "became easy: its harder form does its work"
    return None


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
