"""What a visit comes to, in three sentences that can be said aloud."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from dachi.core.judging import wording
from dachi.core.judging.stages import Stage
from dachi.store import goals
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import say_day
from dachi.studio.practice import weeks
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.verdicts import overview, summaries
from dachi.studio.verdicts.overview import Held
from dachi.studio.verdicts.reports import ReviewPart, TodayAgainst
from dachi.studio.work import Work

#: Phases of a session in which range and strength are won.
WORK = ("strength", "hold", "goal")
#: So many changes and drills are named; more is no conclusion.
NAMED = 3


@dataclass(frozen=True)
class Conclusion:
    """What changed for certain, what holds back, what to practise until when."""

    changed: str
    held: str
    practise: str


def conclude(work: Work, who: Practitioner, parts: Sequence[ReviewPart]) -> Conclusion:
    """The three sentences of a visit's review."""
    found = summaries.of_practitioner(work, who.id)
    kept = goals.of_practitioner(work.db, work.coach, who.id)
    held = overview.held_back(found, kept)[:1]
    because = (
        f"{held[0].sentence}: {held[0].limiter.rule.because}."
        if held
        else "Nothing stands out from what has been measured so far."
    )
    practise = _practise(work, who, held[0] if held else None, summaries.next_look(found))
    return Conclusion(changed(parts), because, practise)


def changed(parts: Sequence[ReviewPart]) -> str:
    """What the measures of a visit say together: losses first, what is certain before signs."""
    told = [(p, n) for p in parts for n in p.rows if n.stage is not None and n.whole is not None]
    certain = [(p, n) for p, n in told if n.stage is Stage.CONFIRMED]
    signs = [(p, n) for p, n in told if n.stage is not Stage.CONFIRMED]
    if not any(n.whole for p in parts for n in p.rows):
        return "This is the first time: everything later is compared with today."
    if certain:
        more = f", and {len(certain) - NAMED} more" if len(certain) > NAMED else ""
        return f"For certain: {_named(certain)}{more}."
    if signs:
        return f"Nothing is certain yet; first signs are {_named(signs)}."
    return "Nothing has moved that could be told from chance."


def _named(rows: Sequence[tuple[ReviewPart, TodayAgainst]]) -> str:
    ordered = sorted(rows, key=lambda row: _gain(row[1]))
    return "; ".join(
        f"{p.pose.name.lower()}{'' if n.side == 'both' else ', ' + n.side} {n.mode} "
        f"{wording.signed(n.whole.change, p.measure.unit)}"
        for p, n in ordered[:NAMED]
        if n.whole is not None
    )


def _gain(row: TodayAgainst) -> tuple[bool, float]:
    """Losses before gains, the larger first."""
    assert row.whole is not None
    better = row.whole.improvement
    return better > 0, -abs(better) / max(row.whole.mdc, 1e-6)


def _practise(work: Work, who: Practitioner, held: Held | None, look: str | None) -> str:
    """The week in a sentence: drills for what holds back come first. Nothing is planned here."""
    until = f" until {say_day(look)}, when a change can show" if look else ""
    week = weeks.kept_week(Practising(work, who))
    if week is None:
        about = held.limiter.rule.practice if held else "what was measured"
        return f"Work on {about}{until}; the plan makes a week of it."
    rule = held.limiter.rule if held else None
    wanted = {*rule.lengthen, *rule.strengthen} if rule else set()
    known = drill_by_id()
    planned = [i.drill for x in week.sessions for i in x.items if i.drill in known and not i.first]
    work_drills = [d for d in dict.fromkeys(planned) if known[d].phase in WORK]

    def rank(drill: str) -> tuple[bool, int]:
        about = {*known[drill].lengthens, *known[drill].strengthens}
        return not about & wanted, -planned.count(drill)

    names = sorted(work_drills, key=rank)[:NAMED]
    if not names:
        return f"Practise as planned{until}."
    times = len(week.sessions)
    said = ", ".join(known[d].name.lower() for d in names)
    days = "once a week" if times == 1 else f"{times} times a week"
    return f"Practise {days}{until}: above all {said}."
