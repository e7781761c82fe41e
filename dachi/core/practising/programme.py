"""What a week of practice is made of: persons, needs, sessions, and the rules they obey.

``dachi.core.practising.planner`` chooses within these rules; ``worth`` is what it maximises.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from dachi.core.catalogue.cautions import Caution
from dachi.core.catalogue.drills import Drill
from dachi.core.practising.dose import BREATH_S, Dose
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
