"""From what the store knows of a practitioner to a planned week, and back to pages."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date, datetime, timedelta

import msgspec

from dachi.core.assessing import permission
from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.schools import with_stand_ins
from dachi.core.practising import needs as needing
from dachi.core.practising import planner, programme
from dachi.core.practising.dose import Dose
from dachi.core.practising.ladders import Facts, Standing, answer, locked, stand
from dachi.core.practising.needs import SideRange
from dachi.core.practising.programme import Item, Need, Person, Session, Week, Wishes
from dachi.core.practising.timeline import direction_seconds, steps
from dachi.data import (
    catalogue,
    chosen_schools,
    drills,
    gates,
    ladders,
    props,
)
from dachi.store import goals, practice_log, preparation
from dachi.store import weeks as stored
from dachi.store.practice_log import Felt, LogEntry
from dachi.store.practitioners import Practitioner
from dachi.store.summaries import LineSummary, PoseSummary
from dachi.store.weeks import PlannedItem, PlannedSession, PlannedWeek, Profile
from dachi.studio import versions
from dachi.studio.phrases import moment_of
from dachi.studio.practice.cautions import PAIN_DAYS, active_cautions, days_since
from dachi.studio.verdicts import overview, summaries
from dachi.studio.work import Work

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


def drill_by_id() -> dict[str, Drill]:
    """The catalogue's drills by id."""
    return {d.id: d for d in drills()}


def profile_of(work: Work, pid: int) -> Profile:
    """How somebody practises, the usual where nobody has said."""
    return stored.profile(work.db, work.coach, pid) or Profile()


def facts_of(log: list[LogEntry], today: datetime) -> Facts:
    """What the log tells the gates."""
    easy: dict[str, int] = {}
    broken: set[str] = set()
    prop: dict[str, float] = {}
    pains: dict[str, float] = {}
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


def ranges_of(found: Sequence[PoseSummary]) -> list[SideRange]:
    """The newest ranges by pose, direction and side."""
    ranges = []
    for d in found:
        for f in d.families:
            if not f.motion or f.unit != "deg":
                continue
            by_side: dict[str, dict[str, LineSummary]] = {}
            for line in f.lines:
                by_side.setdefault(f.hip_of(line.side), {})[line.mode] = line
            for side, modes in by_side.items():
                active, passive = modes.get("active"), modes.get("passive")
                ranges.append(
                    SideRange(
                        d.pose,
                        f.motion,
                        side,
                        active.value if active else None,
                        passive.value if passive else None,
                        max(x.mdc for x in modes.values()),
                        f.better == "higher",
                    )
                )
    return ranges


def person_of(work: Work, who: Practitioner) -> Person:
    """Everything the planner looks at, from the store."""
    profile = profile_of(work, who.id)
    tuned = profile.tuned
    log = practice_log.entries(work.db, work.coach, who.id)
    found = summaries.of_practitioner(work, who.id)
    wanted = goals.of_practitioner(work.db, work.coach, who.id)
    ranges = ranges_of(found)
    held = overview.held_back(found, wanted)
    wants: list[Need] = needing.from_limiters((h.pose.name, h.limiter) for h in held)
    wants += needing.from_reserves(ranges) + needing.from_short(ranges)
    aimed = dict.fromkeys(x.pose for x in wanted if x.pose in catalogue())
    aims, prepares = needing.from_goals(
        [(g, catalogue().pose(g).name.lower()) for g in aimed], ladders(), drill_by_id()
    )
    styles = chosen_schools(who.schools)
    person = Person(
        level=profile.level,
        minutes=profile.minutes,
        by_day=profile.by_day,
        gentle=profile.gentle or needing.gentle(who.birth_year, work.today().year, ranges),
        breath_s=who.breath_s,
        days=profile.weekdays,
        props=with_stand_ins(who.props | {"mat"}, props()),
        cautions=active_cautions(work, who.id, profile),
        cleared=permission.passive_refused(preparation.screening(work.db, work.coach, who.id))
        is None,
        school=styles["lengthen"],
        needs=needing.merged([*wants, *aims]),
        prepares=prepares,
        rung=needing.on_the_rung(aimed, standings(work, who)),
        # The less practised side first, while one is fresh.
        starts=other_side(who.dominant_side) if who.dominant_side in ("left", "right") else "left",
        goals=tuple(dict.fromkeys(g.pose for g in wanted)),
        tight=needing.tighter(ranges),
        shut=_shut(found, facts_of(log, work.now())),
        styles=styles,
        locked=locked(
            ladders(), gates(), summaries.readings_of(found), facts_of(log, work.now()), catalogue()
        ),
        known=frozenset(d.drill for e in log[:20] for d in e.done),
        longer=tuned.longer,
        eased=frozenset((*tuned.eased, *_hurt_lately(log, work.now()))),
        easy_week=tuned.easy_until is not None and tuned.easy_until >= work.today().isoformat(),
        ready=frozenset(tuned.stepped.values()),
        quiet_day=_quiet_day(who, work),
    )
    known = drill_by_id()
    # Where a harder form is closed again, the easier one comes back.
    outgrown = {
        old for old, new in tuned.stepped.items()
        if new in known and programme.refused(known[new], person) is None
    }  # fmt: skip
    return replace(person, outgrown=frozenset(outgrown))


def _shut(found: Sequence[PoseSummary], facts: Facts) -> dict[str, str]:
    """Gates that are shut, with what they ask for and why they are."""
    readings = summaries.readings_of(found)
    answers = {g: answer(gate, readings, facts, catalogue()) for g, gate in gates().items()}
    return {g: f"{a.gate.words} ({a.because})" for g, a in answers.items() if not a.open}


def _hurt_lately(log: Sequence[LogEntry], today: datetime) -> list[str]:
    """What hurt is left alone for a week, whatever is decided later."""
    return [
        p.drill for e in log if days_since(e.started_at, today) <= PAIN_DAYS for p in e.pains
    ]  # fmt: skip


def _quiet_day(who: Practitioner, work: Work) -> int | None:
    """The weekday of a visit within the coming week."""
    visit = moment_of(who.next_visit_at) if who.next_visit_at else None
    if visit is None or not 0 <= (visit.date() - work.today()).days < 7:
        return None
    return visit.weekday()


def wishes_of(work: Work, pid: int) -> Wishes:
    """What the coach changed by hand."""
    found = stored.wishes(work.db, work.coach, pid)
    return Wishes(
        frozenset((day, name) for day, name, kind in found if kind == "keep"),
        frozenset((None if day < 0 else day, name) for day, name, kind in found if kind == "drop"),
    )


def made_from(person: Person, wishes: Wishes) -> str:
    """A fingerprint of what a plan is made from, rules and data too: the same needs no solving.

    A session done makes drills known and moves the words of a shut gate on; neither is a
    reason to turn the rest of a week round.
    """
    person = replace(
        person,
        known=frozenset(),
        shut=dict.fromkeys(person.shut, ""),
        locked=dict.fromkeys(person.locked, ""),
    )
    about = asdict(person) | {"by_day": sorted(person.by_day.items())}
    text = msgspec.json.encode(
        [about, asdict(wishes), versions.practising()], order="deterministic"
    )
    return hashlib.sha256(text).hexdigest()[:24]


def week_of(work: Work, who: Practitioner) -> PlannedWeek:
    """The current week, planned anew only when something it depends on has changed.

    Raises NoPlan with a sentence where hand-made changes leave no session.
    """
    person, wishes = person_of(work, who), wishes_of(work, who.id)
    stamp = made_from(person, wishes)
    known = stored.plan(work.db, work.coach, who.id, stamp)
    if known is not None:
        return known
    found = as_planned(planner.plan(drills(), person, wishes), person)
    work.db.to_write()
    return stored.save_plan(work.db, work.coach, who.id, stamp, found)


def kept_week(work: Work, who: Practitioner) -> PlannedWeek | None:
    """The current week where it is planned already and nothing it depends on has changed."""
    person, wishes = person_of(work, who), wishes_of(work, who.id)
    return stored.plan(work.db, work.coach, who.id, made_from(person, wishes))


def with_day_anew(work: Work, who: Practitioner, before: PlannedWeek, weekday: int) -> PlannedWeek:
    """The week as it was, with one day planned anew under what was just changed by hand.

    Raises NoPlan where the changes leave no session.
    """
    person, wishes = person_of(work, who), wishes_of(work, who.id)
    found = as_planned(planner.plan(drills(), person, wishes), person)
    anew = {s.weekday: s for s in found.sessions if s.weekday == weekday}
    kept = {s.weekday: s for s in before.sessions if s.weekday != weekday} | anew
    sessions = tuple(kept[day] for day in sorted(kept))
    used = {i.drill for s in sessions for i in s.items}
    done: dict[str, float] = {}
    for i in (i for s in sessions for i in s.items):
        worked = sum(step.seconds for step in i.steps if step.worked)
        done[i.drill] = done.get(i.drill, 0.0) + worked
    found = replace(
        found,
        sessions=sessions,
        directions=direction_seconds(done, drill_by_id()),
        fell_out={k: v for k, v in found.fell_out.items() if k not in used},
    )
    return stored.save_plan(work.db, work.coach, who.id, made_from(person, wishes), found)


def put_back(work: Work, who: Practitioner, wishes: Sequence[tuple[int, str, str]]) -> None:
    """Undo the last change by hand: the wishes as they were, and the plan made from them.

    Where something else has changed since (a pain was logged), that plan is not brought back.
    """
    for day, name, _ in stored.wishes(work.db, work.coach, who.id):
        stored.wish(work.db, work.coach, who.id, day, name, None)
    for day, name, kind in wishes:
        stored.wish(work.db, work.coach, who.id, day, name, kind)
    stamp = made_from(person_of(work, who), wishes_of(work, who.id))
    before = stored.earlier_plan(work.db, work.coach, who.id, stamp)
    if before is not None:
        stored.save_plan(work.db, work.coach, who.id, stamp, before)


@dataclass(frozen=True)
class DayChange:
    """What is different on a day: drills that came, went, or have another dose."""

    new: tuple[str, ...]
    gone: tuple[str, ...]
    dose: tuple[str, ...]

    def __bool__(self) -> bool:
        return bool(self.new or self.gone or self.dose)


def changes(before: PlannedWeek, after: PlannedWeek) -> dict[int, DayChange]:
    """What is different between two weeks on each day of the later one."""
    old = {s.weekday: s for s in before.sessions}
    found = {}
    for s in after.sessions:
        was = {i.drill: i.dose for i in old[s.weekday].items} if s.weekday in old else {}
        now = {i.drill: i.dose for i in s.items}
        found[s.weekday] = DayChange(
            tuple(n for n in now if n not in was),
            tuple(n for n in was if n not in now),
            tuple(n for n in now if n in was and now[n] != was[n]),
        )
    return found


def say_changes(before: PlannedWeek, after: PlannedWeek) -> str:
    """What is different between two weeks, day by day; the days that stay are said too."""
    known = drill_by_id()
    parts, same = [], 0
    for day, one in changes(before, after).items():
        said = [
            f"{words} {', '.join(known[n].name for n in names if n in known)}"
            for words, names in (("out", one.gone), ("in", one.new), ("other dose of", one.dose))
            if names
        ]
        if said:
            parts.append(f"{WEEKDAYS[day]}: {'; '.join(said)}.")
        else:
            same += 1
    if not parts:
        return "Nothing in the week changed."
    rest = f" {'The other day stays' if same == 1 else 'The other days stay'} as planned."
    return " ".join(parts) + (rest if same else "")


def monday(day: date) -> str:
    """The Monday of a day's week, ISO."""
    return (day - timedelta(days=day.weekday())).isoformat()


def as_planned(week: Week, person: Person) -> PlannedWeek:
    """A week as it is stored, with the steps the player walks through."""
    return PlannedWeek(
        sessions=tuple(as_session(s) for s in week.sessions),
        fell_out=dict(week.fell_out),
        directions=dict(week.seconds),
        objective=round(week.objective, 3),
        bound=round(week.bound, 3),
        cautions=tuple(c.words for c in person.cautions),
        cleared=person.cleared,
        easy_week=person.easy_week,
        needs=person.needs,
    )


def as_session(s: Session) -> PlannedSession:
    """A session as it is stored."""
    return PlannedSession(
        weekday=s.weekday,
        seconds=round(s.total_s),
        hard=s.hard,
        items=tuple(
            PlannedItem(i.drill.id, i.dose, i.first, i.reason, i.kept, steps(i)) for i in s.items
        ),
    )


def shorter(session: PlannedSession, person: Person, minutes: float) -> PlannedSession:
    """A planned session cut to the minutes there are today."""
    known = drill_by_id()
    items = tuple(
        Item(known[i.drill], i.dose, i.first, i.reason, i.kept)
        for i in session.items
        if i.drill in known
    )
    return as_session(programme.trimmed(Session(session.weekday, items), person, minutes))


def say_dose(how: Dose, counting: str, breath_s: float) -> str:
    """A dose in words: repetitions, or a hold in seconds or in the person's own breaths."""
    if how.reps:
        words = f"{how.reps} times"
    elif counting == "breaths":
        words = f"{how.breaths(breath_s)} breaths"
    elif how.hold_s >= 120:
        words = f"{how.hold_s / 60:g} min"
    else:
        words = f"{how.hold_s:.0f} s"
    if how.sides == 2:
        words += " a side"
    if how.rounds > 1:
        words += ", in two rounds"
    if how.outs:
        words += f", {how.outs} time{'s' if how.outs > 1 else ''} out in between"
    if how.extra:
        words += f", {how.extra} once more"
    return words


def standings(work: Work, who: Practitioner) -> list[Standing]:
    """Where the practitioner stands on every ladder, goals first."""
    readings = summaries.readings_of(summaries.of_practitioner(work, who.id))
    facts = facts_of(practice_log.entries(work.db, work.coach, who.id), work.now())
    wanted = {g.pose for g in goals.of_practitioner(work.db, work.coach, who.id)}
    found = [stand(x, gates(), readings, facts, catalogue()) for x in ladders()]
    return sorted(found, key=lambda s: s.ladder.goal not in wanted)
