"""What to change after an assessment or a logged session, one thing at a time, with the reason."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from dachi.core.catalogue.drills import Drill
from dachi.core.practising.timeline import SITTING_S

#: Next-day soreness above this, 0 to 10, asks for less.
SORE = 3
#: Sessions in a row that must be easy before anything grows.
EASY_ROW = 3
#: At one prop height, before it is lowered.
EASY_AT_HEIGHT = 2
LONGER, LONGEST = 1.25, 2.0
#: Heights of a block laid flat, on its side and on end, cm; above them it goes down by this.
BLOCK_CM, FIRM_STEP_CM = (22.0, 15.0, 8.0), 7.0
HARD_WEEKS = 3
RECUR_DAYS, RECUR_TIMES = 28, 2
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
    """A drill as it was done: ``felt`` easy, right or hard; prop height where logged."""

    drill: str
    felt: str
    prop_cm: float | None = None
    layers: float | None = None


@dataclass(frozen=True)
class Logged:
    """A session in the log. ``days_ago`` counts from today; ``soreness`` of the next day.

    One that hardly began does not count as practised.
    """

    days_ago: float
    felt: str
    done: tuple[Done, ...]
    soreness: int | None = None
    pains: tuple[tuple[str, str, str], ...] = ()
    hard: bool = False
    minutes: float = 0.0
    counts: bool = True


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
    """A change that the coach may accept."""

    kind: ProposalKind
    subject: str
    text: str
    reason: str
    change: Adjustment = field(default_factory=Adjustment)


@dataclass(frozen=True)
class Course:
    """How the practice stands that a log is read against.

    ``planned_two_weeks`` sessions of ``minutes``. ``gains`` maps a goal or measured pose to
    whether its passive reading improved beyond the minimal detectable change lately;
    ``longer`` {drill: factor of its dose}; ``firm`` supports are kept longer at a height and
    lowered by larger steps than soft ones; ``open_to`` are drills that cautions, gates and
    props allow whatever the level (None: all).
    """

    planned_two_weeks: int
    minutes: float
    gains: Mapping[str, bool] = field(default_factory=dict)
    longer: Mapping[str, float] = field(default_factory=dict)
    easy_week: bool = False
    firm: bool = False
    open_to: Collection[str] | None = None
    level: int = 1


def propose(
    log: Sequence[Logged], drills: Mapping[str, Drill], course: Course
) -> tuple[Proposal, ...]:
    """Read the log (newest first) and say what to change; safety first, growth last.

    Where something hurts or is sore nothing grows.
    """
    recent = [s for s in log if s.days_ago <= 14]
    found: list[Proposal] = []
    found += _pain(log, drills)
    gentler = _soreness(recent)
    # Two ways to a gentler week at once would be one too many.
    if not gentler and not course.easy_week:
        gentler = _hard_weeks(log)
    found += gentler
    practised = [s for s in recent if s.counts]
    found += _missed(practised, course.planned_two_weeks, course.minutes)
    if not found:
        found += _growth(log, drills, course)
    if not found and recent:
        found.append(
            Proposal(
                ProposalKind.HOLD,
                "plan",
                "Leave the plan as it is.",
                "sessions are done, nothing hurts, and nothing has been easy for long",
            )
        )
    return tuple(found)


def _pain(log: Sequence[Logged], drills: Mapping[str, Drill]) -> list[Proposal]:
    found = []
    seen: dict[str, int] = {}
    for session in log:
        if session.days_ago > RECUR_DAYS:
            continue
        # A place hurts once in a session, however often it was tapped.
        for place in {place.partition(",")[0] for _, place, _ in session.pains}:
            seen[place] = seen.get(place, 0) + 1
        for drill, place, kind in session.pains:
            if session.days_ago > 7 or drill not in drills:
                continue
            d = drills[drill]
            easier = drills.get(d.easier or "")
            like = "" if kind in place else f" ({kind})"
            where = f"pain in the {place}{like} was logged at “{d.name}”"
            if easier is not None:
                found.append(
                    Proposal(
                        ProposalKind.BACK,
                        drill,
                        f"Back a rung: “{easier.name}” instead of “{d.name}”.",
                        where,
                        Adjustment(eased=(drill,)),
                    )
                )
            else:
                found.append(
                    Proposal(
                        ProposalKind.EASE,
                        drill,
                        f"Leave “{d.name}” out for now.",
                        where,
                        Adjustment(eased=(drill,)),
                    )
                )
    for place, times in seen.items():
        if times >= RECUR_TIMES:
            found.append(
                Proposal(
                    ProposalKind.REFER,
                    place,
                    f"Have the {place} looked at by a doctor or physiotherapist.",
                    f"pain there was logged {times} times in four weeks",
                )
            )
    unique = {(p.kind, p.subject): p for p in found}
    return list(unique.values())


def _soreness(recent: Sequence[Logged]) -> list[Proposal]:
    sore = next((s for s in recent if s.soreness is not None), None)
    if sore is None or sore.soreness is None or sore.soreness <= SORE:
        return []
    return [
        Proposal(
            ProposalKind.EASE,
            "plan",
            "A gentler week: doses of the level below, no strength work.",
            f"the day after the last session was {sore.soreness} of 10 sore",
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
        Proposal(
            ProposalKind.EASY_WEEK,
            "plan",
            "An easy week: lower doses, no strength work.",
            "three weeks with strength work lie behind",
            Adjustment(easy_week=True),
        )
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
            "minutes",
            f"Sessions of {less:.0f} minutes instead of {minutes:.0f}.",
            f"{len(recent)} of {planned} sessions were done in two weeks: short ones that happen "
            "are worth more than long ones that do not",
            Adjustment(minutes=less),
        )
    ]


def _growth(log: Sequence[Logged], drills: Mapping[str, Drill], course: Course) -> list[Proposal]:
    """One thing grows: a hold, then a lower support once its hold has grown, then the load."""
    done: dict[str, list[Done]] = {}
    for session in log:
        for one in session.done:
            done.setdefault(one.drill, []).append(one)
    growing = [
        (drills[name], times)
        for name, times in sorted(done.items())
        if name in drills and drills[name].phase in ("hold", "goal", "strength")
        if course.open_to is None or name in course.open_to
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
    return next(([found] for way in ways for found in way if found is not None), [])


def _lowered(drill: Drill, times: Sequence[Done], course: Course) -> Proposal | None:
    at = times[0].prop_cm
    wanted = EASY_ROW if course.firm else EASY_AT_HEIGHT
    same = [x for x in times if x.prop_cm == at][:wanted]
    easy = len(same) == wanted and all(x.felt == "easy" for x in same)
    grown = course.longer.get(drill.id, 1.0) >= LONGER
    gained = course.gains.get(drill.goal or drill.figure.pose or "")
    if not (drill.prop_height and at and easy and grown and gained):
        return None
    # A soft pile loses one layer; a firm block is owned longer and goes to its next height.
    layers = times[0].layers
    how = ""
    if course.firm:
        lower = next((h for h in BLOCK_CM if h < at <= h + FIRM_STEP_CM), at - FIRM_STEP_CM)
        lower = 0.0 if at <= BLOCK_CM[-1] else lower
    elif layers and layers >= 1:
        lower = round(at * (layers - 1) / layers, 1)
        how = f", one layer less of {layers:.0f}"
    else:
        lower = max(0.0, at - (2.0 if at > 4 else 1.0))
    return Proposal(
        ProposalKind.ADVANCE,
        drill.id,
        f"“{drill.name}”: support from {at:g} to {lower:g} cm{how}, with the usual hold.",
        f"the last {wanted} sessions at this height were easy and the passive reading "
        "improved beyond what chance explains",
        Adjustment(prop_cm={drill.id: lower}, longer={drill.id: 1.0}),
    )


def _lengthened(drill: Drill, course: Course) -> Proposal | None:
    factor = course.longer.get(drill.id, 1.0)
    more = lengthened(drill, course.level, factor)
    if more <= factor:
        return None
    what = "more repetitions" if drill.reps else "a longer hold"
    much = "a quarter more"
    if drill.most_s:
        seconds = more * drill.seconds[max(0, min(course.level, 3) - 1)]
        much = f"{seconds / 60:g} min" if seconds >= 120 else f"{seconds:.0f} s"
    return Proposal(
        ProposalKind.ADVANCE,
        drill.id,
        f"“{drill.name}”: {what}, {much}.",
        f"the last {EASY_ROW} times were easy; length grows before load",
        Adjustment(longer={drill.id: more}),
    )


def _harder(drill: Drill, drills: Mapping[str, Drill], course: Course) -> Proposal | None:
    harder = drills.get(drill.harder or "")
    if harder is None or not (course.open_to is None or harder.id in course.open_to):
        return None
    return Proposal(
        ProposalKind.ADVANCE,
        drill.id,
        f"“{harder.name}” instead of “{drill.name}”.",
        f"the last {EASY_ROW} times were easy, at twice the usual length",
        Adjustment(stepped={drill.id: harder.id}),
    )
