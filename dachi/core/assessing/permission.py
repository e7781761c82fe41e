"""May a photograph be taken, and may it show the end of passive range?"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace

from dachi.core.catalogue.cautions import Answer, Caution
from dachi.core.catalogue.demands import Demands
from dachi.core.catalogue.screening import Question
from dachi.core.words import Place

#: What a consent allows: measuring only, showing to the practitioner, teaching others.
SCOPES = {
    "measure": "to measure from, seen by the coach only",
    "show": "to measure from, and to show to the practitioner",
    "teaching": "to measure from, to show, and to teach with, the face made unrecognisable",
}
ADULT_AGE = 18


@dataclass(frozen=True)
class Consent:
    """The newest consent of a practitioner. Dates are ISO.

    ``faces``: their face may be seen in what leaves the bench. Never where the pictures
    are for measuring only or for teaching. ``until``: its last day; None, until withdrawn.
    """

    given_on: str
    scope: str
    guardian: str = ""
    withdrawn_on: str | None = None
    faces: bool = False
    until: str | None = None

    def ended(self, today: str) -> bool:
        """Whether its time is over: it has to be asked for again."""
        return self.until is not None and self.until < today

    @property
    def face_hidden(self) -> bool:
        """Whether the face is made unrecognisable outside the bench."""
        return not (self.faces and self.scope == "show")


@dataclass(frozen=True)
class Screening:
    """The newest answers: ids answered yes, and what was told of each in ``details``.

    ``cleared_by``, ``cleared_on`` and ``allowed`` are of answers without details, from before each
    condition was cleared by itself. ``flags``: signs that stop every plan.
    """

    answered_on: str
    yes: tuple[str, ...]
    cleared_by: str = ""
    cleared_on: str | None = None
    allowed: tuple[str, ...] = ()
    details: Mapping[str, Answer] = field(default_factory=dict)
    flags: tuple[str, ...] = ()

    def told(self) -> dict[str, Answer]:
        """Every yes with what was told of it, as it was then."""
        cleared = self.cleared_on is not None
        old = Answer(
            cleared, self.allowed if cleared else (), by=self.cleared_by, on=self.cleared_on or ""
        )
        return {q: self.details.get(q, old) for q in self.yes}

    def answers(self, today: str, weeks_ago: float) -> dict[str, Answer]:
        """The same on a day, so many weeks after: what was cleared may have run out, and a
        pregnancy has gone on.
        """
        return {q: _as_of(a, today, weeks_ago) for q, a in self.told().items()}


def _as_of(answer: Answer, today: str, weeks_ago: float) -> Answer:
    if answer.cleared and answer.until and answer.until < today:
        answer = replace(answer, cleared=False)
    if answer.weeks is not None:
        answer = replace(answer, weeks=answer.weeks + weeks_ago)
    return answer


def may_be_minor(birth_year: int | None, year: int) -> bool:
    """Whether a person born in a year may still be under age; unknown is not adult."""
    return birth_year is None or year - birth_year <= ADULT_AGE


def ages(birth_year: int | None, year: int) -> tuple[int, int]:
    """From which to which age a person may be in a year; unknown is not adult."""
    return (0, ADULT_AGE - 1) if birth_year is None else (year - birth_year - 1, year - birth_year)


def photograph_refused(consent: Consent | None, birth_year: int | None, today: str) -> str | None:
    """Why no photograph may be taken, as a sentence; None where one may."""
    if consent is None:
        return "Consent to photographs is not recorded yet: ask, and record it under Prepare."
    if consent.withdrawn_on is not None:
        return "Consent to photographs was withdrawn: no photograph is taken."
    if consent.ended(today):
        return (
            f"Consent to photographs was given until {consent.until}: ask again, and record "
            "it under Prepare."
        )
    if may_be_minor(birth_year, int(today[:4])) and not consent.guardian.strip():
        if birth_year is None:
            return (
                "The birth year is not recorded, so they may be under age: write it into the "
                "record, or have a guardian consent."
            )
        return "They may be under age: a guardian's consent is needed before any photograph."
    return None


def passive_refused(screening: Screening | None) -> str | None:
    """Why no end-range passive shot may be taken, as a sentence; None where one may."""
    if screening is None:
        return (
            "The screening questions have not been asked yet: ask them under Prepare before a "
            "passive shot at the end of range."
        )
    return None


def shot_refused(
    demands: Demands, found: Collection[Caution], *, passive: bool, side: str = ""
) -> str | None:
    """Why a pose may not be photographed in a mode, on a side, under some cautions; None where it
    may.
    """
    for caution in found:
        if caution.no_session or caution.forbids_shot(demands, passive=passive, side=side):
            return f"{caution.said}: {caution.words}"
    return None


def cautions(screening: Screening | None, questions: Collection[Question]) -> tuple[str, ...]:
    """Cautions that the answers bring, cleared or not."""
    yes = set(screening.yes) if screening else set()
    return tuple(q.caution for q in questions if q.id in yes)


#: Pain from here on keeps a person from the end of range today (0 to 10).
PAIN_STOPS, PAIN_WATCH = 4, 1


def state_cautions(pain: Mapping[Place, int], warm_up_min: float | None) -> tuple[str, ...]:
    """What today's state asks of the assessment, as sentences."""
    found = []
    for place, level in sorted(pain.items(), key=lambda p: -p[1]):
        if level >= PAIN_STOPS:
            found.append(
                f"Pain in the {place.said} is {level} of 10: nothing that loads it at the end of "
                "its range today. If it keeps coming back, have it assessed."
            )
        elif level >= PAIN_WATCH:
            found.append(
                f"Pain in the {place.said}, {level} of 10: stop a shot that makes it worse."
            )
    if warm_up_min is not None and warm_up_min < 5:
        found.append(
            "The warm-up was shorter than 5 minutes: say cold, so that cold and warm readings "
            "are not compared as equals."
        )
    return tuple(found)
