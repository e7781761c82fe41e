"""What to mind with a person: screening answers, age, and where it hurts lately."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime

from dachi.core.assessing import permission
from dachi.core.catalogue.cautions import Caution, Hurt, brought_by, hurts_of
from dachi.core.rules import PAIN_DAYS, RETURN_DAYS
from dachi.data import cautions
from dachi.store import day_states, practice_log, practitioners, preparation
from dachi.store.practice_log import LogEntry
from dachi.studio.work import Work


def days_since(moment: str, today: datetime) -> float:
    """Days from a stored moment (local, or UTC with an offset) to now."""
    at = datetime.fromisoformat(moment)
    if at.tzinfo is not None:
        at = at.astimezone().replace(tzinfo=None)
    return (today - at).total_seconds() / 86400


def hurting(work: Work, pid: int, log: Sequence[LogEntry]) -> set[Hurt]:
    """Where and how it hurts, from practice logged lately and from the last visit's state.

    What has been quiet for a while is still coming back, unless a later visit asked and heard that
    it does not hurt there.
    """
    today = work.now()
    state = day_states.newest(work.db, work.coach, pid)
    told = [
        (days_since(entry.started_at, today), p.place, hurts_of(p.place, p.kind))
        for entry in log
        for p in entry.pains
    ]
    asked = days_since(state.saved_at, today) if state is not None else None
    if state is not None and asked is not None:
        told += [
            (asked, place, hurts_of(place))
            for place, level in state.pain.items()
            if level >= permission.PAIN_STOPS
        ]
    found: set[Hurt] = set()
    for days, place, own in told:
        quiet = state is not None and asked is not None and asked < days
        if days <= PAIN_DAYS:
            found |= set(own)
        elif days <= PAIN_DAYS + RETURN_DAYS and not (quiet and state and place not in state.pain):
            found |= {replace(h, returning=True) for h in own}
    return found


def of_shots(work: Work, pid: int) -> tuple[Caution, ...]:
    """The cautions that say what may be photographed of a person today.

    With the coach beside them, what was cleared may be shown, but for what no clearance opens;
    and somebody young whose guardian consents.
    """
    answers = preparation.answers(work.db, work.coach, pid)
    consent = preparation.consent(work.db, work.coach, pid)
    who = practitioners.get(work.db, work.coach, pid)
    log = practice_log.entries(work.db, work.coach, pid, 60)
    found: list[Caution] = []
    for caution in brought_by(
        cautions(),
        answers,
        hurting(work, pid, log),
        may_be_young=permission.may_be_young(who.birth_year if who else None, work.today().year),
    ):
        answer = answers.get(caution.screening or "")
        if answer is not None and answer.cleared and not caution.by_direction:
            continue
        if caution.young and consent is not None and consent.guardian.strip():
            continue
        found.append(caution)
    return tuple(found)
