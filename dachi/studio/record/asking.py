"""What is asked before an assessment: groups with what lies behind a yes; reading the answers."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from dachi.core.assessing import permission
from dachi.core.assessing.permission import Screening
from dachi.core.catalogue.cautions import SIDES, Answer
from dachi.core.catalogue.screening import STAGES, Flag, Group, Question
from dachi.data import red_flags, screening_groups, screening_questions
from dachi.studio.visits.intake import Refused

#: Sides a condition may be of, and their words.
SIDE_WORDS = {"": "both, or not said", "left": "left", "right": "right"}
STAGE_WORDS = {str(n): words for n, words in STAGES.items()}
#: The group that the signs which stop every plan belong to.
SIGNS = "today"
MOST_WEEKS = 60


@dataclass(frozen=True)
class Asked:
    """A group with its questions, what was answered, and the signs that stand in it."""

    group: Group
    questions: tuple[Question, ...]
    flags: tuple[Flag, ...]
    #: Yes, no, or nothing said yet.
    answer: str


def asked(screening: Screening | None, birth_year: int | None, year: int) -> list[Asked]:
    """The groups in order, for somebody of an age, with what was answered last."""
    ages = permission.ages(birth_year, year)
    found = []
    for group in screening_groups():
        own = tuple(
            q
            for q in screening_questions()
            if q.group == group.id
            and (q.ages is None or (q.ages[0] <= ages[1] and ages[0] <= q.ages[1]))
        )
        signs = tuple(f for f in red_flags() if f.ask) if group.id == SIGNS else ()
        told = screening is not None and (
            any(q.id in screening.yes for q in own) or bool(signs and screening.flags)
        )
        answer = "" if screening is None else "yes" if told else "no"
        found.append(Asked(group, own, signs, answer))
    return found


@dataclass(frozen=True)
class Told:
    """What a form tells: questions answered yes, what was said of each, signs."""

    yes: tuple[str, ...]
    details: Mapping[str, Answer]
    flags: tuple[str, ...]


def read(form: Mapping[str, str], many: Callable[[str], Sequence[str]]) -> Told:
    """Read the answers of a form; ``many`` gives all values of a name.

    Raises Refused where a group was not answered, or a number is none.
    """
    groups = {g.id: form.get(f"group-{g.id}", "") for g in screening_groups()}
    if lacking := [g.ask for g in screening_groups() if groups[g.id] not in ("yes", "no")]:
        raise Refused(f"Still to be asked: {lacking[0]}")
    ticked = set(many("yes"))
    own = [q for q in screening_questions() if groups[q.group] == "yes" and q.id in ticked]
    flags = [f.id for f in red_flags() if f.ask and f.id in set(many("flag"))]
    if groups[SIGNS] != "yes":
        flags = []
    answered = {q.group for q in own} | ({SIGNS} if flags else set())
    for g in screening_groups():
        if groups[g.id] == "yes" and g.id not in answered:
            raise Refused(f"Say what of it applies, or answer no: {g.ask}")
    return Told(tuple(q.id for q in own), {q.id: _answer(q, form) for q in own}, tuple(flags))


def _answer(q: Question, form: Mapping[str, str]) -> Answer:
    side, part = form.get(f"side-{q.id}", ""), form.get(f"part-{q.id}", "")
    stage, weeks = form.get(f"stage-{q.id}", ""), form.get(f"weeks-{q.id}", "").strip()
    if weeks and not (weeks.isdecimal() and int(weeks) <= MOST_WEEKS):
        raise Refused(f"Weeks are a whole number up to {MOST_WEEKS}: {q.ask}")
    return Answer(
        side=side if q.side and side in SIDES else "",
        part=part if part in q.parts else "",
        stage=int(stage) if q.stage and stage in STAGE_WORDS else None,
        weeks=float(weeks) if q.weeks and weeks else None,
        since=form.get(f"since-{q.id}", "")[:10],
    )


def about(q: Question, answer: Answer) -> str:
    """What was told of an answer, in words: ``left, from the front, cleared by Dr Quay``."""
    said = [answer.side] if answer.side else []
    said += [q.parts[answer.part]] if answer.part in q.parts else []
    said += [STAGES[answer.stage]] if answer.stage in STAGES else []
    said += [f"week {answer.weeks:.0f}"] if answer.weeks is not None else []
    said += [f"since {answer.since}"] if answer.since else []
    if answer.cleared:
        until = f" until {answer.until}" if answer.until else ""
        said.append(f"cleared by {answer.by or 'a clinician'}{until}")
    elif q.clearing:
        said.append("not cleared yet")
    return ", ".join(said)


def again(screening: Screening, days_ago: float, answers: Mapping[str, Answer]) -> list[str]:
    """Why the questions should be asked again, so many days after; nothing where they need not."""
    why = []
    for q in screening_questions():
        if q.id in screening.yes and q.again_days and days_ago >= q.again_days:
            why.append(f"{q.ask.rstrip('?')}: asked {days_ago:.0f} days ago")
    for q in screening_questions():
        was, now = screening.told().get(q.id), answers.get(q.id)
        if was is not None and now is not None and was.cleared and not now.cleared:
            why.append(f"{q.ask.rstrip('?')}: the clearance ended on {was.until}")
    if not why and days_ago >= YEAR_DAYS:
        why.append("everything was last asked more than a year ago")
    return why


#: Everything is asked once a year.
YEAR_DAYS = 365
