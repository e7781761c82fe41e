"""How somebody practises, read once: profile, log, readings, and what follows from them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime
from functools import cached_property

from dachi.core.assessing import permission
from dachi.core.assessing.permission import Screening
from dachi.core.catalogue.cautions import brought_by
from dachi.core.catalogue.drills import Drill
from dachi.core.judging.series import Verdict
from dachi.core.practising import person as persons
from dachi.core.practising.ladders import Facts, Standing
from dachi.core.practising.person import Known
from dachi.core.practising.programme import Person, Wishes
from dachi.core.rules import PAIN_DAYS
from dachi.core.words import PainKind, Place
from dachi.data import cautions, chosen_schools, rules
from dachi.store import goals, practice_log, preparation, safety
from dachi.store import weeks as stored
from dachi.store.goals import Goal
from dachi.store.practice_log import Felt, LogEntry
from dachi.store.practitioners import Practitioner
from dachi.store.safety import ComingEvent, Overruled
from dachi.store.summaries import PoseSummary
from dachi.store.weeks import Profile
from dachi.studio.phrases import moment_of
from dachi.studio.practice.cautions import Hurting, days_since, hurting
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: Kinds at which a drill hurt; a cramp, a leg asleep and a strong stretch are no harm.
HURTS = frozenset(PainKind) - {PainKind.STRETCH, PainKind.CRAMP, PainKind.ASLEEP}
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
    since: dict[str, float] = {}
    short: set[str] = set()
    known = drill_by_id()
    for entry in log:
        for d in entry.done:
            if d.drill not in broken:
                if d.felt is Felt.EASY:
                    easy[d.drill] = easy.get(d.drill, 0) + 1
                    if d.drill in known and _cut(known[d.drill], d.hold_s):
                        short.add(d.drill)
                else:
                    broken.add(d.drill)
            since[d.drill] = days_since(entry.started_at, today)
            if d.prop_cm is not None:
                prop.setdefault(d.drill, d.prop_cm)
        for p in entry.pains:
            pains.setdefault(p.place, days_since(entry.started_at, today))
    return Facts(easy, prop, pains, len(log), since, frozenset(short))


def _cut(drill: Drill, hold_s: float | None) -> bool:
    """Whether a hold was clearly shorter than the least dose there is of it; unsaid is not."""
    return hold_s is not None and bool(drill.seconds) and hold_s < 0.8 * drill.seconds[0]


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

    @cached_property
    def notes(self) -> dict[str, str]:
        """What the coach says to them of drills."""
        return stored.drill_notes(self.work.db, self.work.coach, self.who.id)

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
        screening, pain = self.screening, self.pain
        before = persons.before_event(self.days_to_event, today.weekday())
        return Known(
            year=today.year,
            minutes=profile.minutes,
            days=profile.weekdays,
            styles=chosen_schools(who.schools),
            cleared=screening is not None,
            level=profile.level,
            by_day=profile.by_day,
            gentle=profile.gentle,
            birth_year=who.birth_year,
            age=permission.ages(who.birth_year, today.year),
            breath_s=who.breath_s,
            props=who.props,
            answers=preparation.answers_of(screening, today),
            hurts=pain.hurts,
            stops=pain.stops,
            minded=pain.minded,
            referred=frozenset(h for r in pain.returns if r.referred for h in r.hurts),
            by_hand=profile.cautions,
            dominant_side=who.dominant_side,
            goals=tuple((g.pose, g.side) for g in self.goals),
            readings=summaries.readings_of(self.summaries),
            facts=self.facts,
            practised=frozenset(d.drill for e in log[:KNOWN_SESSIONS] for d in e.done),
            hurt=frozenset(
                p.drill
                for e in log
                if days_since(e.started_at, work.now()) <= PAIN_DAYS
                for p in e.pains
                if p.kind in HURTS
            ),
            longer=tuned.longer,
            eased=frozenset(tuned.eased),
            stepped=tuned.stepped,
            easy_week=tuned.easy_until is not None and tuned.easy_until >= today.isoformat(),
            quiet_days=_quiet_days(who, today) | before.eve,
            soft_days=before.soft,
            nothing_new=before.nothing_new,
            opened={o.name: o.reason for o in self.overruled if o.what == "open_drill"},
            not_loose=screening is not None and "over_mobile" not in screening.yes,
            lost=frozenset(_lost(self.summaries)),
        )

    @cached_property
    def pain(self) -> Hurting:
        """Where it hurts and how far each place is back."""
        return hurting(self.work, self.who.id, self.log, self.screening, self.minded.answers)

    @cached_property
    def screening(self) -> Screening | None:
        """The newest answers."""
        return preparation.screening(self.work.db, self.work.coach, self.who.id)

    @cached_property
    def minded(self) -> safety.Known:
        """What was answered of pain, overruled, and what they prepare for."""
        return safety.known(self.work.db, self.work.coach, self.who.id)

    @cached_property
    def overruled(self) -> list[Overruled]:
        """What the coach opened or shut by hand; a pain since at what a drill loads ends it."""
        return [o for o in self.minded.overruled if not self._ended(o)]

    def _ended(self, one: Overruled) -> bool:
        if one.what == "shut_gate":
            return False
        known = drill_by_id()
        asked = [known[one.name]] if one.name in known else _behind(one.name, known)
        since = days_since(one.said_at, self.work.now())
        later = {p.hurt for p in self.pain.pains if p.days_ago < since and p.hurt.harmful}
        brought = brought_by(cautions(), {}, later)
        return any(c.closes(d) for c in brought for d in asked)

    @cached_property
    def facts(self) -> Facts:
        """What the log tells the gates, and what the coach said of them."""
        told = facts_of(self.log, self.work.now())
        by_hand = {o.what: {} for o in self.overruled}  # type: dict[str, dict[str, str]]
        for o in self.overruled:
            by_hand[o.what][o.name] = o.reason
        return replace(told, opened=by_hand.get("open_gate", {}), shut=by_hand.get("shut_gate", {}))

    @cached_property
    def event(self) -> ComingEvent | None:
        """What they prepare for, while it lies ahead."""
        found = self.minded.event
        return found if found and found.on_date >= self.work.today().isoformat() else None

    @property
    def days_to_event(self) -> int | None:
        """Days to what they prepare for."""
        if self.event is None:
            return None
        return (date.fromisoformat(self.event.on_date) - self.work.today()).days

    @cached_property
    def person(self) -> Person:
        """Whom a week is planned for."""
        return persons.person_of(self.known, rules())

    @property
    def waits_to_lower(self) -> frozenset[str]:
        """Drills whose support stays as it is until their ladder says that it may go down."""
        return frozenset(
            d for s in self.standings for d in s.ladder.open if s.at < s.ladder.lower_from
        )

    @cached_property
    def closed_ladders(self) -> dict[str, str]:
        """Ladders whose goal is closed for as long as a condition is, each with why."""
        found = {}
        for ladder in rules().ladders:
            own = [d for d in rules().drills.values() if d.goal == ladder.goal]
            lasting = [c for c in self.person.cautions if c.source == "screening"]
            why = [next((c for c in lasting if c.forbidden(d)), None) for d in own]
            if own and all(why):
                found[ladder.id] = "; ".join(
                    dict.fromkeys(f"{c.said}: {c.words}" for c in why if c)
                )
        return found

    @cached_property
    def standings(self) -> list[Standing]:
        """Where they stand on every ladder, goals first."""
        return persons.standings(self.known, rules())


def _behind(gate: str, known: Mapping[str, Drill]) -> list[Drill]:
    """The drills that a gate opens: its own, and those of the rungs it guards."""
    own = {d.id for d in known.values() if gate in d.gate}
    own |= {n for x in rules().ladders for r in x.rungs if gate in r.gates for n in r.drills}
    return [known[n] for n in sorted(own)]


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
