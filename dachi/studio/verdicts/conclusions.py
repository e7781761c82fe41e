"""What a visit comes to, in three sentences that can be said aloud, and the one advice."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from dachi.core.judging import wording
from dachi.core.judging.stages import Stage
from dachi.core.practising.programme import NoPlan
from dachi.store import assessments
from dachi.store.assessments import Assessment
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
class Advice:
    """What holds somebody back and what to practise until when: one advice, the same on every page.

    ``drills``: those it names, ids, the ones for what holds back first.
    """

    held: str
    practise: str
    drills: tuple[str, ...] = ()


@dataclass(frozen=True)
class Conclusion:
    """What changed for certain at a visit, and the advice."""

    changed: str
    advice: Advice


def conclude(
    work: Work, who: Practitioner, visit: Assessment, parts: Sequence[ReviewPart]
) -> Conclusion:
    """The three sentences of a visit's review."""
    visits = assessments.of_practitioner(work.db, work.coach, who.id)
    before = any(v.taken_at < visit.taken_at for v in visits)
    return Conclusion(changed(parts, before=before), advise(work, who))


def advise(work: Work, who: Practitioner, own: Practising | None = None) -> Advice:
    """The advice as things stand: from what holds back, and from the week as it is planned."""
    own = own or Practising(work, who)
    held = next(iter(overview.held_back(own.summaries, own.goals)), None)
    because = (
        f"{held.sentence}: {held.limiter.rule.because}."
        if held
        else "Nothing stands out from what has been measured so far."
    )
    drills, said = _practise(own, held, summaries.next_look(own.summaries))
    return Advice(because, said, drills)


def changed(parts: Sequence[ReviewPart], *, before: bool = False) -> str:
    """What the measures of a visit say together: losses first, what is certain before signs.

    ``before``: there were visits before this one, compared with it or not.
    """
    told = [(p, n) for p in parts for n in p.rows if n.stage is not None and n.whole is not None]
    certain = [(p, n) for p, n in told if n.stage is Stage.CONFIRMED]
    signs = [(p, n) for p, n in told if n.stage is not Stage.CONFIRMED]
    if not any(n.whole for p in parts for n in p.rows):
        if before:
            return (
                "Nothing of this visit compares with an earlier one: other poses, or not done like "
                "them. The charts say which."
            )
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


def _practise(own: Practising, held: Held | None, look: str | None) -> tuple[tuple[str, ...], str]:
    """Drills of the week and a sentence that names them; the week is the one the plan shows.

    Where something holds back only drills that work on it are named: never others in its place.
    """
    until = f" until {say_day(look)}, when a change can show" if look else ""
    try:
        week = weeks.week_of(own)
    except NoPlan:
        about = held.limiter.rule.practice if held else "what was measured"
        return (), f"Work on {about}{until}; the plan has no session just now."
    rule = held.limiter.rule if held else None
    known = drill_by_id()
    planned = [i.drill for x in week.sessions for i in x.items if i.drill in known]
    about_it = [d for d in dict.fromkeys(planned) if known[d].phase in WORK]
    if rule is not None:
        wanted = {*rule.lengthen, *rule.strengthen}
        about_it = [d for d in about_it if wanted & {*known[d].lengthens, *known[d].strengthens}]
    names = tuple(sorted(about_it, key=lambda d: -planned.count(d))[:NAMED])
    if not names:
        if rule is None:
            return (), f"Practise as planned{until}."
        return (), (
            f"Work on {rule.practice}{until}. The week has nothing for it yet: the plan says why "
            "under “What fell out”."
        )
    times = len(week.sessions)
    said = ", ".join(known[d].name.lower() for d in names)
    days = "once a week" if times == 1 else f"{times} times a week"
    return names, f"Practise {days}{until}: above all {said}."
