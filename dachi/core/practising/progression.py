"""What to change after an assessment or a logged session, one thing at a time, with the reason."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TypeVar

from dachi.core.catalogue.drills import Drill
from dachi.core.practising.timeline import SITTING_S
from dachi.core.rules import PAIN_NEWS_DAYS, RECUR_DAYS, RECUR_TIMES
from dachi.core.words import PainKind, Place

#: Next-day soreness above this, 0 to 10, asks for less.
SORE = 3
#: Sessions in a row that must be easy before anything grows.
EASY_ROW = 3
#: Times in a row that a drill must be hard before it is eased.
HARD_ROW = 3
#: A drill that is hard and has nothing easier is done at this share of its dose.
SHORTER = 0.75
#: So many things grow at once, each of another tissue.
MOST_GROWING = 3
#: An easy week that was proposed and left alone for so long holds growth up no longer, days.
LEFT_DAYS = 7
#: At one prop height, before it is lowered.
EASY_AT_HEIGHT = 2
LONGER, LONGEST = 1.25, 2.0
#: Heights of a block laid flat, on its side and on end, cm; above them it goes down by this.
BLOCK_CM, FIRM_STEP_CM = (22.0, 15.0, 8.0), 7.0
HARD_WEEKS = 3
#: Share of planned sessions below which the plan asks too much.
ADHERED = 0.5


def lengthened(drill: Drill, level: int, factor: float) -> float:
    """The next factor of a dose that grows; the same where it is as long as it may be.

    What grows to minutes goes from one time of ``SITTING_S`` to the next.
    """
    if not drill.most_s:
        return max(factor, min(LONGEST, round(factor * LONGER, 2)))
    usual = drill.seconds[max(0, min(level, 3) - 1)]
    longer = [s for s in SITTING_S if usual * factor < s <= drill.most_s]
    return longer[0] / usual if longer else factor


@dataclass(frozen=True)
class Done:
    """A drill as it was done: ``felt`` easy, right, hard or unsaid; prop height where logged."""

    drill: str
    felt: str | None
    prop_cm: float | None = None
    layers: float | None = None


@dataclass(frozen=True)
class Logged:
    """A session in the log, ``on`` a day, ISO, that many ``days_ago``; ``soreness`` of the next.

    One that hardly began does not count as practised.
    """

    days_ago: float
    felt: str | None
    done: tuple[Done, ...]
    soreness: int | None = None
    pains: tuple[tuple[str, Place, PainKind], ...] = ()
    hard: bool = False
    minutes: float = 0.0
    counts: bool = True
    on: str = ""


class Why(StrEnum):
    """Why something is proposed; each tells numbers or names of its own in ``Proposal.about``."""

    HURT = "hurt"
    HURT_NO_EASIER = "hurt_no_easier"
    HURT_AGAIN = "hurt_again"
    SORE = "sore"
    HARD_WEEKS = "hard_weeks"
    HARD = "hard"
    HARD_NO_EASIER = "hard_no_easier"
    MISSED = "missed"
    EASY_AT_HEIGHT = "easy_at_height"
    EASY = "easy"
    EASY_AND_LONG = "easy_and_long"
    ALL_WELL = "all_well"
    #: Decided under an earlier program, in whose words it is told.
    EARLIER = "earlier"


class ProposalKind(StrEnum):
    """What a proposal is about, the most pressing first."""

    REFER = "refer"
    BACK = "back"
    EASE = "ease"
    EASY_WEEK = "easy_week"
    ADVANCE = "advance"
    HOLD = "hold"


@dataclass(frozen=True)
class Adjustment:
    """What accepting a proposal does.

    ``longer`` {drill: factor of its dose}, ``prop_cm`` {drill: height}, ``stepped`` {drill:
    its harder form}, ``eased`` drills sent back to their easier form, ``easy_week``,
    ``minutes`` of a session from now on.
    """

    longer: Mapping[str, float] = field(default_factory=dict)
    prop_cm: Mapping[str, float] = field(default_factory=dict)
    stepped: Mapping[str, str] = field(default_factory=dict)
    eased: tuple[str, ...] = ()
    easy_week: bool = False
    minutes: float | None = None


@dataclass(frozen=True)
class Proposal:
    """A change that the coach may accept; its words are made of ``about`` where it is read.

    Two with the same kind, why, subject and change are the same proposal.
    """

    kind: ProposalKind
    why: Why
    subject: str
    about: Mapping[str, str | float] = field(default_factory=dict)
    change: Adjustment = field(default_factory=Adjustment)


@dataclass(frozen=True)
class Course:
    """How the practice stands that a log is read against.

    ``planned_two_weeks`` sessions of ``minutes``. ``gains`` maps a goal or measured pose to
    whether its passive reading improved beyond the minimal detectable change lately;
    ``longer`` {drill: factor of its dose}; ``firm`` supports are kept longer at a height and
    lowered by larger steps than soft ones; ``open_to`` are drills that cautions, gates and
    props allow whatever the level, ``safe`` those that cautions and props do (None: all),
    ``guarded`` those on a side that hurts, comes back or lost range: they do not grow. ``waits``:
    drills whose support may not go down yet; ``needed``: what serves the limiter most grows first;
    ``easy_left``: an easy week was proposed a while ago and left alone.
    """

    planned_two_weeks: int
    minutes: float
    gains: Mapping[str, bool] = field(default_factory=dict)
    longer: Mapping[str, float] = field(default_factory=dict)
    easy_week: bool = False
    firm: bool = False
    open_to: Collection[str] | None = None
    safe: Collection[str] | None = None
    guarded: Collection[str] = ()
    waits: Collection[str] = ()
    needed: Mapping[str, float] = field(default_factory=dict)
    easy_left: bool = False
    level: int = 1


def propose(
    log: Sequence[Logged], drills: Mapping[str, Drill], course: Course
) -> tuple[Proposal, ...]:
    """Read the log (newest first) and say what to change; safety first, growth last.

    Where something hurts or is sore nothing grows.
    """
    recent = [s for s in log if s.days_ago <= 14]
    found: list[Proposal] = []
    found += _pain(log, drills, course.safe)
    gentler = _soreness(recent)
    found += _hard(log, drills, course)
    # Two ways to a gentler week at once would be one too many.
    if not gentler and not course.easy_week:
        gentler = _hard_weeks(log)
    found += gentler
    practised = [s for s in recent if s.counts]
    found += _missed(practised, course.planned_two_weeks, course.minutes)
    held_up = [p for p in found if not (course.easy_left and p.kind is ProposalKind.EASY_WEEK)]
    if not held_up:
        found += _growth(log, drills, course)
    if not found and recent:
        found.append(Proposal(ProposalKind.HOLD, Why.ALL_WELL, "plan"))
    return tuple(found)


T = TypeVar("T")


def recurring(pains: Iterable[tuple[float, object, T]]) -> dict[T, int]:
    """Places that hurt on so many days lately that somebody should look, and on how many.

    ``pains``: how many days ago, something the same for all of one day, and the place.
    """
    days: dict[T, set[object]] = {}
    for ago, day, place in pains:
        if ago <= RECUR_DAYS:
            days.setdefault(place, set()).add(day)
    return {place: len(found) for place, found in days.items() if len(found) >= RECUR_TIMES}


def _pain(
    log: Sequence[Logged], drills: Mapping[str, Drill], safe: Collection[str] | None
) -> list[Proposal]:
    found = []
    again = recurring(
        (s.days_ago, s.on or math.floor(s.days_ago), one)
        for s in log
        for _, place, _ in s.pains
        # Where nobody said which side it may have been either.
        for one in (place.whole, *place.whole.sided)
    )
    again = {p: n for p, n in again.items() if p.sideless is p or p.sideless not in again}
    for session in log:
        for drill, place, kind in session.pains:
            if session.days_ago > PAIN_NEWS_DAYS or drill not in drills:
                continue
            easier = drills.get(drills[drill].easier or "")
            about = {"place": place.value, "kind": kind.value}
            change = Adjustment(eased=(drill,))
            if easier is not None and (safe is None or easier.id in safe):
                about["easier"] = easier.id
                found.append(Proposal(ProposalKind.BACK, Why.HURT, drill, about, change))
            else:
                found.append(Proposal(ProposalKind.EASE, Why.HURT_NO_EASIER, drill, about, change))
    for place, times in again.items():
        how_often = {"times": times}
        found.append(Proposal(ProposalKind.REFER, Why.HURT_AGAIN, place.value, how_often))
    unique = {(p.kind, p.subject): p for p in found}
    return list(unique.values())


def _soreness(recent: Sequence[Logged]) -> list[Proposal]:
    sore = next((s for s in recent if s.soreness is not None), None)
    if sore is None or sore.soreness is None or sore.soreness <= SORE:
        return []
    return [
        Proposal(
            ProposalKind.EASE,
            Why.SORE,
            "plan",
            {"soreness": sore.soreness},
            Adjustment(easy_week=True),
        )
    ]


def _hard_weeks(log: Sequence[Logged]) -> list[Proposal]:
    weeks = [
        any(s.hard and w * 7 <= s.days_ago < (w + 1) * 7 for s in log) for w in range(HARD_WEEKS)
    ]
    if not all(weeks):
        return []
    return [
        Proposal(ProposalKind.EASY_WEEK, Why.HARD_WEEKS, "plan", change=Adjustment(easy_week=True))
    ]


def _missed(recent: Sequence[Logged], planned: int, minutes: float) -> list[Proposal]:
    if planned < 4 or len(recent) >= ADHERED * planned:
        return []
    less = max(5.0, 5.0 * round(minutes * 0.6 / 5.0))
    if less >= minutes:
        return []
    return [
        Proposal(
            ProposalKind.EASE,
            Why.MISSED,
            "minutes",
            {"less": less, "minutes": minutes, "done": len(recent), "planned": planned},
            Adjustment(minutes=less),
        )
    ]


def _times(log: Sequence[Logged]) -> dict[str, list[Done]]:
    """Every drill as it was done, the newest first."""
    done: dict[str, list[Done]] = {}
    for session in log:
        for one in session.done:
            done.setdefault(one.drill, []).append(one)
    return done


def _hard(log: Sequence[Logged], drills: Mapping[str, Drill], course: Course) -> list[Proposal]:
    """What was hard three times in a row is eased: its easier form, or less of it."""
    found = []
    for name, times in sorted(_times([s for s in log if s.days_ago <= RECUR_DAYS]).items()):
        last = times[:HARD_ROW]
        if name not in drills or len(last) < HARD_ROW or any(x.felt != "hard" for x in last):
            continue
        drill, factor = drills[name], course.longer.get(name, 1.0)
        easier = drills.get(drill.easier or "")
        about: dict[str, str | float] = {"times": HARD_ROW}
        if easier is not None and (course.safe is None or easier.id in course.safe):
            change = Adjustment(eased=(name,))
            found.append(
                Proposal(ProposalKind.EASE, Why.HARD, name, about | {"easier": easier.id}, change)
            )
        elif factor * SHORTER >= 0.5:
            change = Adjustment(longer={name: round(factor * SHORTER, 2)})
            found.append(Proposal(ProposalKind.EASE, Why.HARD_NO_EASIER, name, about, change))
    return found


def _growth(log: Sequence[Logged], drills: Mapping[str, Drill], course: Course) -> list[Proposal]:
    """What grows: a hold, then a lower support once its hold has grown, then the load.

    What serves the limiter most first, and one thing of a tissue at a time.
    """
    growing = [
        (drills[name], times)
        for name, times in sorted(
            _times(log).items(), key=lambda one: (-course.needed.get(one[0], 0.0), one[0])
        )
        if name in drills and drills[name].phase in ("hold", "goal", "strength")
        if (course.open_to is None or name in course.open_to) and name not in course.guarded
    ]
    easy = [
        drill
        for drill, times in growing
        if len(last := times[:EASY_ROW]) == EASY_ROW and all(x.felt == "easy" for x in last)
    ]
    ways = (
        (_lowered(drill, times, course) for drill, times in growing),
        (_lengthened(drill, course) for drill in easy),
        (_harder(drill, drills, course) for drill in easy),
    )
    chosen: list[Proposal] = []
    worked: set[str] = set()
    offered = [p for way in ways for p in way if p is not None]
    offered.sort(key=lambda p: -course.needed.get(p.subject, 0.0))
    for one in offered:
        tissues = {*drills[one.subject].lengthens, *drills[one.subject].strengthens}
        if tissues & worked or (not tissues and chosen) or len(chosen) == MOST_GROWING:
            continue
        chosen.append(one)
        worked |= tissues
    return chosen


def _lowered(drill: Drill, times: Sequence[Done], course: Course) -> Proposal | None:
    at = times[0].prop_cm
    wanted = EASY_ROW if course.firm else EASY_AT_HEIGHT
    same = [x for x in times if x.prop_cm == at][:wanted]
    easy = len(same) == wanted and all(x.felt == "easy" for x in same)
    grown = course.longer.get(drill.id, 1.0) >= LONGER
    gained = course.gains.get(drill.goal or drill.figure.pose or "")
    if drill.id in course.waits:
        return None
    if not (drill.prop_height and at and easy and grown and gained):
        return None
    # A soft pile loses one layer; a firm block is owned longer and goes to its next height.
    layers = times[0].layers
    about: dict[str, str | float] = {"from": at, "times": wanted}
    if course.firm:
        lower = next((h for h in BLOCK_CM if h < at <= h + FIRM_STEP_CM), at - FIRM_STEP_CM)
        lower = 0.0 if at <= BLOCK_CM[-1] else lower
    elif layers and layers >= 1:
        lower = round(at * (layers - 1) / layers, 1)
        about["layers"] = layers
    else:
        lower = max(0.0, at - (2.0 if at > 4 else 1.0))
    return Proposal(
        ProposalKind.ADVANCE, Why.EASY_AT_HEIGHT, drill.id, about | {"to": lower},
        Adjustment(prop_cm={drill.id: lower}, longer={drill.id: 1.0}),
    )  # fmt: skip


def _lengthened(drill: Drill, course: Course) -> Proposal | None:
    factor = course.longer.get(drill.id, 1.0)
    more = lengthened(drill, course.level, factor)
    if more <= factor:
        return None
    about: dict[str, str | float] = {"times": EASY_ROW}
    if drill.most_s:
        about["seconds"] = more * drill.seconds[max(0, min(course.level, 3) - 1)]
    change = Adjustment(longer={drill.id: more})
    return Proposal(ProposalKind.ADVANCE, Why.EASY, drill.id, about, change)


def _harder(drill: Drill, drills: Mapping[str, Drill], course: Course) -> Proposal | None:
    harder = drills.get(drill.harder or "")
    if harder is None or not (course.open_to is None or harder.id in course.open_to):
        return None
    if harder.id in course.guarded:
        return None
    return Proposal(
        ProposalKind.ADVANCE, Why.EASY_AND_LONG, drill.id,
        {"harder": harder.id, "times": EASY_ROW}, Adjustment(stepped={drill.id: harder.id}),
    )  # fmt: skip
