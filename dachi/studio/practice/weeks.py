"""A person's planned week, kept while nothing it depends on changes, and in words for pages."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date, timedelta
from functools import lru_cache

import msgspec

from dachi.core.catalogue.drills import Drill
from dachi.core.practising import allowed, planner, programme, worth
from dachi.core.practising.dose import Dose
from dachi.core.practising.programme import Item, Person, Session, Week, Wishes
from dachi.core.practising.timeline import direction_seconds, steps
from dachi.data import drills, props
from dachi.drawing.practice import wheel
from dachi.store import weeks as stored
from dachi.store.weeks import PlannedItem, PlannedSession, PlannedWeek
from dachi.studio import versions
from dachi.studio.alike import Alike
from dachi.studio.practice.person import Practising, drill_by_id

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


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


def week_of(own: Practising) -> PlannedWeek:
    """The current week, planned anew only where something it depends on has changed.

    Nothing is kept here (see ``keep_week``): the same person gives the same week.
    Raises NoPlan with a sentence where hand-made changes leave no session.
    """
    stamp = made_from(own.person, own.wished)
    known = stored.plan(own.work.db, own.work.coach, own.who.id, stamp)
    return known or replace(_planned(Alike((own.person, own.wished))), made_at=own.work.db.now())


@lru_cache(64)
def _planned(asked: Alike[tuple[Person, Wishes]]) -> PlannedWeek:
    """A week for a person: pages ask for it several times before it is kept."""
    person, wishes = asked.thing
    return as_planned(planner.plan(drills(), person, wishes), person)


def keep_week(own: Practising) -> PlannedWeek:
    """Keep the current week: it is looked up from now on, and later weeks are compared with it."""
    stamp = made_from(own.person, own.wished)
    asked = (own.work.db, own.work.coach, own.who.id)
    return stored.plan(*asked, stamp) or stored.save_plan(*asked, stamp, week_of(own))


def with_day_anew(own: Practising, before: PlannedWeek, weekday: int) -> PlannedWeek:
    """The week as it was, with one day planned anew under what was just changed by hand; kept.

    Raises NoPlan where the changes leave no session.
    """
    found = _planned(Alike((own.person, own.wished)))
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
    stamp = made_from(own.person, own.wished)
    return stored.save_plan(own.work.db, own.work.coach, own.who.id, stamp, found)


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
        # What only comes back is told with its next step.
        cautions=tuple(f"{c.said}: {c.words}" for c in person.cautions if not c.half),
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
    return as_session(worth.trimmed(Session(session.weekday, items), person, minutes))


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


def wheel_of(own: Practising, week: PlannedWeek) -> str:
    """A drawing of the minutes in each direction, against what a week should have."""
    return wheel(week.directions, worth.direction_target(own.profile.week_min))


def practised_wheel(own: Practising, seconds: Mapping[str, float]) -> str:
    """The same drawing of what was practised a week, seconds in each direction."""
    return wheel(seconds, worth.direction_target(own.profile.week_min))


def thin(own: Practising, week: PlannedWeek, lengths: Sequence[str]) -> dict[int, str]:
    """Sessions that hold much less than their minutes, each with the sentence that says so and the
    shorter length (of ``lengths``) that would do.
    """
    found = {}
    for s in week.sessions:
        asked, held = own.person.minutes_on(s.weekday), s.seconds / 60
        if held >= programme.FULL * asked:
            continue
        enough = min((int(n) for n in lengths if int(n) >= held), default=round(asked))
        instead = f" A day of {enough} minutes would do." if enough < asked else ""
        found[s.weekday] = (
            f"{held:.0f} of {asked:.0f} minutes: nothing else that serves may be done.{instead}"
        )
    return found


def lacking(own: Practising) -> dict[str, tuple[str, ...]]:
    """For every drill the props that its person does not own."""
    return {d.id: allowed.missing(d, own.person.props) for d in drills()}


def in_place_of(
    own: Practising, drill: Drill | None, wanted: str
) -> list[tuple[Drill, str | None]]:
    """Drills that hold every word ``wanted``, those of the same part of a session as ``drill``
    first, each with why it may not be planned for this person; None where it may.
    """
    words = wanted.casefold().split()
    found = [
        (d, allowed.refused(d, own.person))
        for d in drills()
        if (drill is None or d.id != drill.id) and all(w in d.searched for w in words)
    ]
    phase = drill.phase if drill is not None else ""
    return sorted(found, key=lambda f: (f[1] is not None, f[0].phase != phase))


def fallen_out(own: Practising, week: PlannedWeek) -> list[tuple[str, list[str]]]:
    """Drills that are not in the plan, by the reason; what would do for a missing prop."""
    known, instead = drill_by_id(), {p.id: p.instead for p in props()}
    found: dict[str, list[str]] = {}
    for name, why in week.fell_out.items():
        short = allowed.waits_for(known[name], own.person) if name in known else ()
        if short:
            why += f"; {', '.join(instead[p] for p in short)} would do"
        found.setdefault(why, []).append(name)
    return sorted(found.items(), key=lambda f: -len(f[1]))
