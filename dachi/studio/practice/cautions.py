"""What to mind with a person: screening answers, age, where it hurts and how far it is back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property

from dachi.core.assessing import permission
from dachi.core.assessing.permission import Screening
from dachi.core.catalogue.cautions import Answer, Caution, brought_by, stopped
from dachi.core.catalogue.hurts import CLOSES, DIZZY, Hurt, kind_of
from dachi.core.practising.returning import (
    Pained,
    Return,
    Said,
    fresh_dizziness,
    minded,
    returns,
    stops,
)
from dachi.core.words import AT_A_VISIT, PainKind
from dachi.data import cautions, red_flags
from dachi.store import day_states, practice_log, practitioners, preparation, safety
from dachi.store.practice_log import LogEntry
from dachi.store.safety import PainAnswer
from dachi.studio.work import Work

#: Sessions that are read for where it hurts.
READ = 400


def days_since(moment: str, today: datetime) -> float:
    """Days from a stored moment (local, or UTC with an offset) to now."""
    at = datetime.fromisoformat(moment)
    if at.tzinfo is not None:
        at = at.astimezone().replace(tzinfo=None)
    return (today - at).total_seconds() / 86400


@dataclass(frozen=True)
class Hurting:
    """Everything that is known of somebody's pain, and what follows from it."""

    pains: tuple[Pained, ...]
    sessions: tuple[float, ...]
    said: tuple[Said, ...]
    flags: tuple[str, ...] = ()

    @cached_property
    def returns(self) -> tuple[Return, ...]:
        """Where every place stands on its way back."""
        return returns(self.pains, self.sessions, self.said)

    @cached_property
    def hurts(self) -> frozenset[Hurt]:
        """What it means to the cautions today."""
        coming = (h for r in self.returns for h in r.hurts)
        return frozenset([*coming, *fresh_dizziness(self.pains)])

    @cached_property
    def stops(self) -> tuple[str, ...]:
        """Why nothing is planned until a clinician has seen them."""
        return stops(self.pains, self.flags, self.said)

    @property
    def minded(self) -> frozenset[str]:
        """Drills at which a cramp came or a leg fell asleep lately."""
        return minded(self.pains, "cramp") | minded(self.pains, "asleep")


def hurting(
    work: Work,
    pid: int,
    log: Sequence[LogEntry] | None = None,
    screening: Screening | None = None,
    answers: Sequence[PainAnswer] | None = None,
) -> Hurting:
    """Where and how it hurts, from the log and from visits, and what was answered of it.

    A later visit that asked how they are and heard of no pain there is an answer as well. What was
    read already is not read again.
    """
    asked, now = (work.db, work.coach, pid), work.now()
    if log is None:
        log = practice_log.entries(*asked, READ)
    if screening is None:
        screening = preparation.screening(*asked)
    found: list[Pained] = []
    for entry in log:
        days = days_since(entry.started_at, now)
        for p in entry.pains:
            if p.kind is PainKind.DIZZY:
                found.append(Pained(days_ago=days, place="elsewhere", kind=DIZZY, drill=p.drill))
                continue
            found += [
                Pained(
                    days_ago=days, place=place, kind=kind_of(p.kind), side=p.place.side,
                    level=p.level, spreads=p.spreads, after=p.after, drill=p.drill, about=p.place,
                )
                for place in CLOSES[p.place]
            ]  # fmt: skip
    said: list[Said] = []
    for state in day_states.of_person(*asked):
        days = days_since(state.saved_at, now)
        hurt = {c: p for p, level in state.pain.items() if level for c in CLOSES[p]}
        found += [
            Pained(days_ago=days, place=c, side=p.side, level=level, about=p)
            for p, level in state.pain.items()
            if level >= permission.PAIN_STOPS
            for c in CLOSES[p]
        ]
        asked_of = {c for p in AT_A_VISIT for c in CLOSES[p]}
        said += [Said(days, c) for c in sorted(asked_of - set(hurt))]
    said += [
        Said(days_since(a.said_at, now), a.place, a.side, seen=a.answer == "seen")
        for a in (safety.known(*asked).answers if answers is None else answers)
        if a.answer != "not_yet"
    ]
    sessions = tuple(days_since(e.started_at, now) for e in log if e.counts)
    return Hurting(tuple(found), sessions, tuple(said), screening.flags if screening else ())


def of_shots(work: Work, pid: int) -> tuple[Caution, ...]:
    """The cautions that say what may be photographed of a person today.

    With the coach beside them, what was cleared may be shown, but for what no clearance opens;
    and somebody young whose guardian consents.
    """
    screening = preparation.screening(work.db, work.coach, pid)
    answers = preparation.answers_of(screening, work.today())
    consent = preparation.consent(work.db, work.coach, pid)
    who = practitioners.get(work.db, work.coach, pid)
    pain = hurting(work, pid, screening=screening)
    ages = permission.ages(who.birth_year if who else None, work.today().year)
    found = list(stopped(pain.stops, red_flags()))
    for caution in brought_by(cautions(), answers, pain.hurts, age=ages):
        if _shown_cleared(caution, answers):
            continue
        if caution.source == "age" and consent is not None and consent.guardian.strip():
            continue
        found.append(caution)
    return tuple(found)


def _shown_cleared(caution: Caution, answers: dict[str, Answer]) -> bool:
    """Whether every answer that brings a caution was cleared, and clearing opens what it closes."""
    own = [answers[q] for q in caution.screening if q in answers]
    told = caution.source == "screening" and bool(own)
    return told and all(a.cleared for a in own) and not caution.by_direction
