"""How somebody practises, read once: profile, log, readings, and what follows from them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import date, datetime
from functools import cached_property

from dachi.core.assessing import permission
from dachi.core.catalogue.drills import Drill
from dachi.core.judging.series import Verdict
from dachi.core.practising import person as persons
from dachi.core.practising.ladders import Facts, Standing
from dachi.core.practising.person import Known
from dachi.core.practising.programme import Person, Wishes
from dachi.core.rules import PAIN_DAYS
from dachi.core.words import Place
from dachi.data import chosen_schools, rules
from dachi.store import goals, practice_log, preparation
from dachi.store import weeks as stored
from dachi.store.goals import Goal
from dachi.store.practice_log import Felt, LogEntry
from dachi.store.practitioners import Practitioner
from dachi.store.summaries import PoseSummary
from dachi.store.weeks import Profile
from dachi.studio.phrases import moment_of
from dachi.studio.practice.cautions import days_since, hurting
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: Sessions whose drills somebody still knows.
KNOWN_SESSIONS = 20


def drill_by_id() -> dict[str, Drill]:
    """The catalogue's drills by id."""
    return dict(rules().drills)


def facts_of(log: Sequence[LogEntry], today: datetime) -> Facts:
    """What the log tells the gates."""
    easy: dict[str, int] = {}
    broken: set[str] = set()
    prop: dict[str, float] = {}
    pains: dict[Place, float] = {}
    for entry in log:
        for d in entry.done:
            if d.drill not in broken:
                if d.felt is Felt.EASY:
                    easy[d.drill] = easy.get(d.drill, 0) + 1
                else:
                    broken.add(d.drill)
            if d.prop_cm is not None:
                prop.setdefault(d.drill, d.prop_cm)
        for p in entry.pains:
            pains.setdefault(p.place, days_since(entry.started_at, today))
    return Facts(easy, prop, pains, len(log))


class Practising:
    """What is known of how one person practises; each part is read when it is first asked for."""

    def __init__(self, work: Work, who: Practitioner) -> None:
        self.work, self.who = work, who

    @cached_property
    def profile(self) -> Profile:
        """How somebody practises, the usual where nobody has said."""
        return stored.profile(self.work.db, self.work.coach, self.who.id) or Profile()

    @cached_property
    def log(self) -> list[LogEntry]:
        """Logged sessions, the newest first."""
        return practice_log.entries(self.work.db, self.work.coach, self.who.id)

    @cached_property
    def summaries(self) -> list[PoseSummary]:
        """What was measured, pose by pose."""
        return summaries.of_practitioner(self.work, self.who.id)

    @cached_property
    def goals(self) -> list[Goal]:
        """Open goals."""
        return goals.of_practitioner(self.work.db, self.work.coach, self.who.id)

    @cached_property
    def wishes(self) -> list[tuple[int, str, str]]:
        """What the coach changed by hand: (weekday or -1, drill, keep or drop)."""
        return stored.wishes(self.work.db, self.work.coach, self.who.id)

    @property
    def wished(self) -> Wishes:
        """The same as the planner looks at it."""
        return Wishes(
            frozenset((day, name) for day, name, kind in self.wishes if kind == "keep"),
            frozenset(
                (None if day < 0 else day, name)
                for day, name, kind in self.wishes
                if kind == "drop"
            ),
        )

    @cached_property
    def known(self) -> Known:
        """Everything that is known of them, to be planned by."""
        who, profile, log, work = self.who, self.profile, self.log, self.work
        today, tuned = work.today(), profile.tuned
        screening = preparation.screening(work.db, work.coach, who.id)
        return Known(
            year=today.year,
            minutes=profile.minutes,
            days=profile.weekdays,
            styles=chosen_schools(who.schools),
            cleared=permission.passive_refused(screening) is None,
            level=profile.level,
            by_day=profile.by_day,
            gentle=profile.gentle,
            birth_year=who.birth_year,
            may_be_young=permission.may_be_young(who.birth_year, today.year),
            breath_s=who.breath_s,
            props=who.props,
            answers=preparation.answers_of(screening),
            hurts=frozenset(hurting(work, who.id, log)),
            by_hand=profile.cautions,
            dominant_side=who.dominant_side,
            goals=tuple((g.pose, g.side) for g in self.goals),
            readings=summaries.readings_of(self.summaries),
            facts=facts_of(log, work.now()),
            practised=frozenset(d.drill for e in log[:KNOWN_SESSIONS] for d in e.done),
            hurt=frozenset(
                p.drill
                for e in log
                if days_since(e.started_at, work.now()) <= PAIN_DAYS
                for p in e.pains
            ),
            longer=tuned.longer,
            eased=frozenset(tuned.eased),
            stepped=tuned.stepped,
            easy_week=tuned.easy_until is not None and tuned.easy_until >= today.isoformat(),
            quiet_days=_quiet_days(who, today),
            lost=frozenset(_lost(self.summaries)),
        )

    @cached_property
    def person(self) -> Person:
        """Whom a week is planned for."""
        return persons.person_of(self.known, rules())

    @cached_property
    def standings(self) -> list[Standing]:
        """Where they stand on every ladder, goals first."""
        return persons.standings(self.known, rules())


def _quiet_days(who: Practitioner, today: date) -> frozenset[int]:
    """The weekdays of a visit within the coming week and of its eve: nothing at the end of range
    tires or loosens what is to be measured.
    """
    visit = moment_of(who.next_visit_at) if who.next_visit_at else None
    away = (visit.date() - today).days if visit is not None else -1
    if visit is None or not 0 <= away < 7:
        return frozenset()
    eve = {(visit.weekday() - 1) % 7} if away > 0 else set()
    return frozenset({visit.weekday()} | eve)


def _lost(found: Iterable[PoseSummary]) -> Iterator[tuple[str, str]]:
    """Directions and hips that lost range beyond chance since the last visit."""
    for summary in found:
        for family in summary.families:
            for line in family.lines:
                change = line.last
                if family.motion and change and change.real and change.verdict is Verdict.LOSS:
                    yield family.motion, family.hip_of(line.side)
