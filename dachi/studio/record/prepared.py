"""What has to be asked before the first photograph, what was answered, and what it stops."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from dachi.core.assessing import permission
from dachi.core.assessing.permission import Consent, Screening
from dachi.core.catalogue.cautions import Answer
from dachi.core.catalogue.drills import DIRECTIONS
from dachi.core.catalogue.screening import Flag, Question
from dachi.data import red_flags, screening_questions
from dachi.store import preparation
from dachi.store.practitioners import Practitioner
from dachi.studio.record import asking
from dachi.studio.record.asking import Asked
from dachi.studio.visits.allowed import allowed
from dachi.studio.work import Work

#: A consent that ends within so many days is asked for again.
SOON_DAYS = 31


@dataclass(frozen=True)
class Answered:
    """A question answered yes, what was told of it, and that in words."""

    question: Question
    answer: Answer
    words: str


def asked_again(work: Work, pid: int) -> list[str]:
    """Why the screening should be asked again; nothing where it need not, or was never."""
    screening = preparation.screening(work.db, work.coach, pid)
    if screening is None:
        return []
    today = work.today()
    days = (today - date.fromisoformat(screening.answered_on[:10])).days
    return asking.again(screening, days, preparation.answers_of(screening, today))


@dataclass(frozen=True, kw_only=True)
class Prepared:
    """Consent and screening with what they stop, each a sentence where it stops something.

    ``not_photographed``: poses that the sheet leaves out, by the sentence that says why.
    """

    consent: Consent | None
    ends_soon: bool
    no_photograph: str | None
    minor: bool
    screening: Screening | None
    no_passive: str | None
    not_photographed: Mapping[str, tuple[str, ...]]
    cautions: tuple[str, ...]
    scopes: Mapping[str, str]
    asked: Sequence[Asked]
    answered: Sequence[Answered]
    flags: tuple[Flag, ...]
    again: Sequence[str]
    directions: Mapping[str, str]


def prepared(work: Work, who: Practitioner) -> Prepared:
    """How far a person is prepared."""
    consent = preparation.consent(work.db, work.coach, who.id)
    screening = preparation.screening(work.db, work.coach, who.id)
    today, questions = work.today(), screening_questions()
    soon = (today + timedelta(days=SOON_DAYS)).isoformat()
    holds = consent is not None and consent.withdrawn_on is None
    answers = preparation.answers_of(screening, today)
    return Prepared(
        consent=consent,
        ends_soon=consent is not None
        and holds
        and not consent.ended(today.isoformat())
        and consent.ended(soon),
        no_photograph=permission.photograph_refused(consent, who.birth_year, today.isoformat()),
        minor=permission.may_be_minor(who.birth_year, today.year),
        screening=screening,
        no_passive=permission.passive_refused(screening),
        not_photographed={
            why: tuple(p.name for p in poses)
            for why, poses in allowed(work, who.id).shut_poses().items()
        },
        cautions=permission.cautions(screening, questions),
        scopes=permission.SCOPES,
        asked=asking.asked(screening, who.birth_year, today.year),
        answered=[
            Answered(q, answers[q.id], asking.about(q, answers[q.id]))
            for q in questions
            if q.id in answers
        ],
        flags=tuple(f for f in red_flags() if screening and f.id in screening.flags),
        again=asked_again(work, who.id),
        directions={d: d.replace("_", " ") for d in DIRECTIONS},
    )
