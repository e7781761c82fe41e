"""Whom a week is planned for: everything the planner looks at, from what is known of somebody.

Pages and person files ask here, so that the same facts give the same person.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.cautions import SIDES, Answer, Caution, brought_by, stopped, torn
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.gates import Gate, Ladder
from dachi.core.catalogue.hurts import Hurt
from dachi.core.catalogue.limiter_rules import LimiterRule
from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.schools import Prop, with_stand_ins
from dachi.core.catalogue.screening import Flag
from dachi.core.judging.limiters import Limiter, SessionReading, believable, limiters
from dachi.core.practising import allowed
from dachi.core.practising import needs as needing
from dachi.core.practising.dose import BREATH_S
from dachi.core.practising.ladders import Facts, Standing, answer, locked, proven, stand
from dachi.core.practising.programme import Need, Person


@dataclass(frozen=True, kw_only=True)
class Rules:
    """The catalogues that a person is read against."""

    catalogue: Catalogue
    drills: Mapping[str, Drill]
    ladders: tuple[Ladder, ...]
    gates: Mapping[str, Gate]
    cautions: tuple[Caution, ...]
    props: tuple[Prop, ...]
    limiters: tuple[LimiterRule, ...]
    flags: tuple[Flag, ...]


@dataclass(frozen=True, kw_only=True)
class Known:
    """What is known of somebody, whoever tells it.

    ``days`` (0 is Monday) of ``minutes``, ``by_day`` where they differ; ``styles`` an answer to
    every question schools differ on; ``goals`` (pose, side); ``facts`` what the log tells gates,
    ``practised`` drills done lately, ``hurt`` drills at which something hurt lately; ``by_hand``
    cautions a coach set; ``longer``, ``eased``, ``stepped``, ``easy_week`` what was accepted;
    ``lost`` (direction, hip) that lost range beyond chance, ``quiet_days`` weekdays of a visit
    and its eve, ``soft_days`` the last before an event, ``nothing_new`` before it; ``stops`` why
    nothing is planned until a clinician has seen them; ``minded`` drills at which a cramp came or a
    leg fell asleep; ``opened`` drills a coach opened against a pain, with the reason; ``referred``
    what hurts and waits for a clinician; ``not_loose``: asked whether they are over-mobile, they
    said no; ``hold_s`` how long they hold.
    """

    year: int
    minutes: float
    days: tuple[int, ...]
    styles: Mapping[str, str]
    cleared: bool
    level: int = 1
    by_day: Mapping[int, float] = field(default_factory=dict)
    gentle: bool = False
    birth_year: int | None = None
    age: tuple[int, int] | None = None
    breath_s: float = BREATH_S
    props: frozenset[str] = frozenset()
    answers: Mapping[str, Answer] = field(default_factory=dict)
    hurts: frozenset[Hurt] = frozenset()
    by_hand: tuple[str, ...] = ()
    dominant_side: str = ""
    goals: tuple[tuple[str, str], ...] = ()
    readings: Sequence[SessionReading] = ()
    facts: Facts = field(default_factory=Facts)
    practised: frozenset[str] = frozenset()
    hurt: frozenset[str] = frozenset()
    longer: Mapping[str, float] = field(default_factory=dict)
    eased: frozenset[str] = frozenset()
    stepped: Mapping[str, str] = field(default_factory=dict)
    easy_week: bool = False
    quiet_days: frozenset[int] = frozenset()
    soft_days: frozenset[int] = frozenset()
    nothing_new: frozenset[int] = frozenset()
    lost: frozenset[tuple[str, str]] = frozenset()
    stops: tuple[str, ...] = ()
    minded: frozenset[str] = frozenset()
    opened: Mapping[str, str] = field(default_factory=dict)
    referred: frozenset[Hurt] = frozenset()
    not_loose: bool = False
    hold_s: float | None = None


def person_of(known: Known, rules: Rules) -> Person:
    """Everything the planner looks at."""
    known = replace(
        known, readings=believable(known.readings, rules.catalogue), facts=with_proofs(known, rules)
    )
    ranges = needing.ranges_of(known.readings, rules.catalogue)
    goals = tuple(dict.fromkeys(g for g, _ in known.goals))
    aimed = [g for g in goals if g in rules.catalogue]
    wants: list[Need] = needing.from_limiters(
        (rules.catalogue.pose(pose).name, one)
        for pose, _, one in held_back(known.goals, known.readings, rules)
    )
    wants += needing.from_reserves(ranges) + needing.from_short(ranges)
    aims, prepares = needing.from_goals(
        [(g, rules.catalogue.pose(g).name.lower()) for g in aimed], rules.ladders, rules.drills
    )
    cautions = cautions_of(known, rules)
    wants += needing.from_cautions(cautions)
    found = needing.spared(needing.merged([*wants, *aims]), cautions, ranges)
    person = Person(
        level=known.level,
        minutes=known.minutes,
        by_day=known.by_day,
        gentle=known.gentle or needing.gentle(known.birth_year, known.year, ranges),
        breath_s=known.breath_s,
        days=known.days,
        props=with_stand_ins(known.props | {"mat"}, rules.props),
        cautions=cautions,
        cleared=known.cleared,
        school=known.styles["lengthen"],
        needs=found,
        prepares=prepares,
        rung=needing.on_the_rung(aimed, standings(known, rules)),
        # The less practised side first, while one is fresh.
        starts=other_side(known.dominant_side) if known.dominant_side else "left",
        goals=goals,
        tight={
            motion: side
            for motion, side in needing.tighter(ranges).items()
            if not guarded(known, motion, side)
        },
        shut=shut(known.readings, known.facts, rules),
        styles=known.styles,
        locked=locked(
            rules.ladders, dict(rules.gates), known.readings, known.facts, rules.catalogue
        ),
        known=known.practised,
        longer=known.longer,
        # What hurt is left alone for a while, whatever is decided later.
        eased=known.eased | known.hurt,
        easy_week=known.easy_week,
        ready=frozenset(known.stepped.values()),
        quiet_days=known.quiet_days,
        soft_days=known.soft_days,
        nothing_new=known.nothing_new,
        halved=known.minded,
        hold_s=known.hold_s,
        opened=known.opened,
        referred=frozenset(
            c.id for c in brought_by(rules.cautions, {}, known.referred) if known.referred
        ),
        sore=frozenset(s for s in SIDES if any(h.of_leg(s) for h in sore(known))),
        lost=frozenset(
            (motion, hip) for motion, hip in known.lost if any(h.of_leg(hip) for h in sore(known))
        ),
    )
    # Where a harder form is closed again, the easier one comes back.
    outgrown = {
        old for old, new in known.stepped.items()
        if new in rules.drills and allowed.refused(rules.drills[new], person) is None
    }  # fmt: skip
    return replace(person, outgrown=frozenset(outgrown))


#: Days before an event: the last hard one lies this far off, and nothing is new for so long.
LAST_HARD, NOTHING_NEW = 5, 10


@dataclass(frozen=True)
class Before:
    """The weekdays before an event within the coming week: ``soft`` ones without anything hard,
    its ``eve`` and day without ends; those on which ``nothing_new`` is done.
    """

    soft: frozenset[int] = frozenset()
    eve: frozenset[int] = frozenset()
    nothing_new: frozenset[int] = frozenset()


def before_event(days: int | None, weekday: int) -> Before:
    """What an event in so many ``days`` asks of the week that begins today, a ``weekday``."""
    if days is None or not 0 <= days <= NOTHING_NEW:
        return Before()
    near = [n for n in range(7) if days - LAST_HARD < n <= days]
    return Before(
        soft=frozenset((weekday + n) % 7 for n in near),
        eve=frozenset((weekday + n) % 7 for n in near if n >= days - 1),
        nothing_new=frozenset((weekday + n) % 7 for n in range(min(days, 6) + 1)),
    )


def sore(known: Known) -> list[Hurt]:
    """What hurts, from pain and from a torn muscle, fresh or coming back."""
    return [h for h in (*known.hurts, *torn(known.answers)) if h.harmful]


def guarded(known: Known, motion: str, side: str) -> bool:
    """Whether a side holds back because it hurts, or lost range sharply: no short side then.

    A pain whose side nobody said may be of either.
    """
    return any(h.of_leg(side) for h in sore(known)) or (motion, side) in known.lost


def cautions_of(known: Known, rules: Rules) -> tuple[Caution, ...]:
    """Cautions from screening, from pain lately, from age, and those set by hand."""
    told = believable(known.readings, rules.catalogue)
    loose = not known.not_loose and needing.over_mobile(told, rules.catalogue)
    found = brought_by(
        rules.cautions, known.answers, known.hurts, age=known.age, readings=loose
    )  # fmt: skip
    brought = {c.id for c in found}
    by_hand = [c for c in rules.cautions if c.id in known.by_hand and c.id not in brought]
    return (*stopped(known.stops, rules.flags), *by_hand, *found)


def with_proofs(known: Known, rules: Rules) -> Facts:
    """What the log tells, what the coach said, and what a measured higher rung proves of lower
    ones; what a coach shut stays shut.
    """
    told = believable(known.readings, rules.catalogue)
    proofs = proven(rules.ladders, rules.gates, told, known.facts, rules.catalogue)
    return replace(known.facts, proven=proofs)


def shut(readings: Iterable[SessionReading], facts: Facts, rules: Rules) -> dict[str, str]:
    """Gates that are shut, with what they ask for and why they are."""
    told = list(readings)
    answers = {g: answer(gate, told, facts, rules.catalogue) for g, gate in rules.gates.items()}
    return {g: f"{a.gate.words} ({a.because})" for g, a in answers.items() if not a.open}


def standings(known: Known, rules: Rules) -> list[Standing]:
    """Where somebody stands on every ladder, those of their goals first."""
    wanted, told = {g for g, _ in known.goals}, believable(known.readings, rules.catalogue)
    facts = with_proofs(known, rules)
    found = [stand(x, dict(rules.gates), told, facts, rules.catalogue) for x in rules.ladders]
    return sorted(found, key=lambda s: s.ladder.goal not in wanted)


def held_back(
    goals: Iterable[tuple[str, str]], readings: Sequence[SessionReading], rules: Rules
) -> list[tuple[str, str, Limiter]]:
    """What likely holds each goal (pose, side) back; every measured pose where no goal is set."""
    wanted = list(goals) or [(r.pose, r.side) for r in readings]
    found, told = [], believable(readings, rules.catalogue)
    for pose, side in dict.fromkeys(wanted):
        if pose in rules.catalogue:
            likely = limiters(pose, side, told, rules.limiters, rules.catalogue)
            found += [(pose, side, one) for one in likely[:1]]
    return found
