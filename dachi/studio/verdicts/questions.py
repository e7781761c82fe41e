"""What looks like a slip, asked of the coach where it can be answered; what was answered counts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from dachi.core.catalogue.poses import Pose
from dachi.core.judging import doubts, wording
from dachi.core.judging.doubts import Asked, Doubt, What
from dachi.core.judging.series import Series
from dachi.data import catalogue
from dachi.store import doubts as stored
from dachi.store.doubts import Said
from dachi.store.markings import Charted
from dachi.studio.records import Assessment
from dachi.studio.work import Work

#: A visit that was said to be a try-out counts as if it could lie off by so much, degrees.
TRYOUT_DEG = 60.0
#: What may be answered, in words, by what is asked.
ANSWERS: dict[What, dict[Said, str]] = {
    What.TRIAL: {Said.SO: "It is so", Said.OFF: "A slip: wrong side, pose or mark"},
    What.SLIP: {Said.SO: "It is so", Said.OFF: "Something was off: side, strap, mark"},
    What.VISIT: {
        Said.SO: "It is so",
        Said.OFF: "Tired, sore or ill",
        Said.SET_UP: "Set up or marked otherwise",
        Said.TRYOUT: "A try-out: count from the next",
    },
    What.JUMP: {Said.SO: "Nothing was changed", Said.SET_UP: "Set up or marked otherwise"},
}


@dataclass(frozen=True)
class Doubted:
    """What is doubtful of a person's visits, and what was said of it."""

    doubts: Sequence[Doubt] = ()
    said: Mapping[Asked, Said] = field(default_factory=dict)

    def of_pose(self, pose_id: str) -> tuple[list[Doubt], list[tuple[Asked, Said]]]:
        """What bears on a pose: its own and what is said of whole visits."""
        return (
            [d for d in self.doubts if d.pose in ("", pose_id)],
            sorted((a, s) for a, s in self.said.items() if a[2] in ("", pose_id)),
        )

    def kept(self) -> set[Asked]:
        """What is so, however far it lies off."""
        return {a for a, s in self.said.items() if s is Said.SO}

    def kept_trials(self, rows: Iterable[Charted]) -> set[int]:
        """Trials that count because somebody looked at them again."""
        so = {a for a in self.kept() if a[1] is What.TRIAL}
        return {
            r.trial_id for r in rows if (r.assessment_id, What.TRIAL, r.pose, r.side, r.mode) in so
        }

    def set_ups(self, rows: Iterable[Charted]) -> list[str]:
        """When things stood or were marked otherwise from then on, ISO, oldest first."""
        changed = {a[0] for a, s in self.said.items() if s is Said.SET_UP}
        return sorted({r.taken_at for r in rows if r.assessment_id in changed})

    def counted(self, series: Series, pose: Pose, family: str) -> Series:
        """A series whose doubtful visits count wide."""
        own = next((m for m in pose.families if m.family == family), None)
        if own is None or own.unit != "deg":
            return series
        head = pose.families[0].family == family
        used = [
            d
            for d in self.doubts
            if (d.what is What.VISIT or head) and self.said.get(d.asked) is not Said.SET_UP
        ]
        used += [
            Doubt(What.VISIT, a[0], 0.0, TRYOUT_DEG)
            for a, s in self.said.items()
            if s is Said.TRYOUT
        ]
        return doubts.applied({pose.id: series}, used)[pose.id]


def of(work: Work, practitioner_id: int) -> Doubted:
    """What is doubtful of a person, as it was last derived."""
    asked = (work.db, work.coach, practitioner_id)
    return Doubted(stored.of_practitioner(*asked), stored.said(*asked))


@dataclass(frozen=True)
class Question:
    """Something to ask about a visit, with what may be answered and what was."""

    asked: Asked
    words: str
    answers: Mapping[Said, str]
    answer: Said | None

    @property
    def key(self) -> str:
        """What a form sends back."""
        return "|".join(map(str, self.asked[1:]))


def at_visit(work: Work, visit: Assessment) -> list[Question]:
    """What is asked about a visit, what nobody has answered first."""
    known = of(work, visit.practitioner_id)
    found = [_question(d, known.said.get(d.asked)) for d in known.doubts]
    asked = {q.asked for q in found}
    # What was said to be so is doubtful no more, and can still be taken back.
    found += [
        _question(Doubt(a[1], a[0], 0.0, 0.0, *a[2:]), s)
        for a, s in known.said.items()
        if a not in asked
    ]
    own = [q for q in found if q.asked[0] == visit.id]
    return sorted(own, key=lambda q: q.answer is not None)


def _question(d: Doubt, answer: Said | None) -> Question:
    return Question(d.asked, say(d), ANSWERS[d.what], answer)


def say(d: Doubt) -> str:
    """A question in words."""
    known = d.pose in catalogue()
    return wording.say_doubt(d, catalogue().pose(d.pose).named if known else None)


def asked_by(visit: Assessment, key: str) -> Asked | None:
    """What a form's key asks about a visit; None where it asks nothing."""
    try:
        what, pose, side, mode = key.split("|")
        return visit.id, What(what), pose, side, mode
    except ValueError:
        return None


def looked(known: Doubted, series: Mapping[str, Series]) -> Doubted:
    """What is doubtful of a person's series now, beside what was said."""
    lines = doubts.lines_of(series)
    kept = known.kept()
    found = [*doubts.look(lines, kept), *doubts.trials_asked(lines, kept)]
    return replace(known, doubts=tuple(found))


def keep(work: Work, practitioner_id: int, found: Sequence[Doubt]) -> None:
    """Keep what is doubtful of a person in place of what was."""
    stored.replace_all(work.db, work.coach, practitioner_id, found)
