"""One page for a doctor or physiotherapist: what is closed, was practised, changed, is asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from dachi.core.practising.returning import AFTER, After
from dachi.core.practising.timeline import KINDS
from dachi.data import catalogue, red_flags, screening_questions
from dachi.store import preparation
from dachi.store.practice_log import LogEntry, Pain
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import say_day
from dachi.studio.practice.minding import coming_back
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.record.asking import about
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

WEEKS, MOST_PAINS = 8, 14


@dataclass(frozen=True)
class Handover:
    """Each part as sentences, empty where there is nothing to say."""

    answers: tuple[str, ...]
    closed: tuple[str, ...]
    practised: tuple[str, ...]
    pains: tuple[str, ...]
    back: tuple[str, ...]
    changed: tuple[str, ...]
    asked: tuple[str, ...]
    weeks: int = WEEKS


def handover(work: Work, who: Practitioner) -> Handover:
    """Everything a clinician is told of one person, and what is asked of them."""
    own = Practising(work, who)
    screening = preparation.screening(work.db, work.coach, who.id)
    answers = preparation.answers_of(screening, work.today())
    questions = [q for q in screening_questions() if q.id in answers]
    since = (work.today() - timedelta(weeks=WEEKS)).isoformat()
    log = [e for e in own.log if e.started_at[:10] >= since]
    back = coming_back(own)
    flags = [f for f in red_flags() if f.id in own.known.stops]
    asked = [f"{f.words.rstrip('.')}: please say whether practice may go on." for f in flags]
    asked += [
        f"{q.ask.rstrip('?')}: which directions and loads are free, from when, until when?"
        for q in questions
        if q.clearing and not answers[q.id].cleared
    ]
    asked += [
        f"{c.words.capitalize()}: it came again, or swelled, locked or gave way. What is it, and "
        "what is free?"
        for c in back
        if c.referred
    ]
    return Handover(
        answers=tuple(
            f"{q.ask.rstrip('?')}{f': {said}' if (said := about(q, answers[q.id])) else ''}."
            for q in questions
        ),
        closed=tuple(dict.fromkeys(f"{c.said}: {c.words}" for c in own.person.cautions)),
        practised=_practised(own, log),
        pains=_pains(log),
        back=tuple(
            f"{c.words.capitalize()}: quiet for {c.quiet_days} days; {c.next_step}." for c in back
        ),
        changed=_changed(work, who),
        asked=tuple(asked),
    )


def _practised(own: Practising, log: Sequence[LogEntry]) -> tuple[str, ...]:
    """Sessions done of those planned, and what they held."""
    counted = [e for e in log if e.counts]
    if not counted:
        return ()
    known = drill_by_id()
    weeks = min(WEEKS, max(1, round((own.work.now() - _first(counted)).days / 7 + 0.5)))
    seconds = {"end": 0.0, "strength": 0.0}
    for d in (d for e in counted for d in e.done if d.drill in known):
        drill = known[d.drill]
        seconds["end"] += d.seconds if drill.passive_end else 0.0
        seconds["strength"] += d.seconds if drill.strong else 0.0
    total = sum(e.seconds for e in counted) / 60
    planned = own.profile.week_sessions * weeks
    sore = [e.soreness for e in counted if e.soreness is not None]
    said = [
        f"{len(counted)} of about {planned} sessions in {weeks} weeks, {total:.0f} minutes in all.",
        f"A week: {seconds['end'] / 60 / weeks:.0f} minutes held at the end of passive range, "
        f"{seconds['strength'] / 60 / weeks:.0f} of strength.",
    ]
    if sore:
        said.append(f"Soreness the day after, 0 to 10: {min(sore)} to {max(sore)}.")
    return tuple(said)


def _first(counted: Sequence[LogEntry]) -> datetime:
    return datetime.fromisoformat(counted[-1].started_at[:19])


def _pains(log: Sequence[LogEntry]) -> tuple[str, ...]:
    known = drill_by_id()

    def said(e: LogEntry, p: Pain) -> str:
        more = [KINDS[p.kind]]
        more += [f"{p.level} of 10"] if p.level is not None else []
        more += ["spreading"] if p.spreads else []
        more += [AFTER[After(p.after)]] if p.after else []
        at = f", at {known[p.drill].name.lower()}" if p.drill in known else ""
        return f"{say_day(e.started_at)}: {p.place.said}, {', '.join(more)}{at}."

    return tuple(said(e, p) for e in log for p in e.pains)[:MOST_PAINS]


def _changed(work: Work, who: Practitioner) -> tuple[str, ...]:
    """What changed beyond error since the first visit, with its interval."""
    found = []
    for d in summaries.of_practitioner(work, who.id):
        if d.pose not in catalogue():
            continue
        pose = catalogue().pose(d.pose)
        for family in d.families:
            for x in family.lines:
                if x.first is None or not x.first.confirmed or family.unit != "deg":
                    continue
                found.append(
                    f"{pose.named(x.side, x.mode)}, {family.label}: {x.value:.0f}° now, "
                    f"{x.first.change:+.0f}° (at least {x.first.mdc:.0f}° is beyond error)."
                )
    return tuple(found)
