"""From what the store knows of a practitioner to a planned week, and back to pages."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import asdict, replace
from datetime import datetime
from typing import Any

from dachi.core import needs as needing
from dachi.core import planner, programme, readiness
from dachi.core.dose import Dose
from dachi.core.drills import Caution, Drill, brought_by
from dachi.core.ladder import Facts, Standing, answer, stand
from dachi.core.needs import Range
from dachi.core.practice import steps
from dachi.core.programme import Item, Need, Person, Session, Week, Wishes
from dachi.data import (
    catalogue,
    cautions,
    chosen_schools,
    drills,
    gates,
    ladders,
)
from dachi.store import days, digests, goals, practice, preparation
from dachi.store.practice import Entry, Profile
from dachi.store.practitioners import Practitioner
from dachi.web import overview
from dachi.web.digests import readings_of
from dachi.web.session import about_to_write, db

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
PAIN_DAYS = 7


def drill_by_id() -> dict[str, Drill]:
    """The catalogue's drills by id."""
    return {d.id: d for d in drills()}


def profile_of(coach: int, pid: int) -> Profile:
    """How somebody practises, the usual where nobody has said."""
    return practice.profile(db(), coach, pid) or Profile()


def days_since(moment: str, today: datetime) -> float:
    """Days from a stored moment (local, or UTC with an offset) to now."""
    at = datetime.fromisoformat(moment)
    if at.tzinfo is not None:
        at = at.astimezone().replace(tzinfo=None)
    return (today - at).total_seconds() / 86400


def facts_of(log: list[Entry], today: datetime) -> Facts:
    """What the log tells the gates."""
    easy: dict[str, int] = {}
    broken: set[str] = set()
    prop: dict[str, float] = {}
    pains: dict[str, float] = {}
    for entry in log:
        for d in entry.done:
            name = str(d["drill"])
            if name not in broken:
                if d.get("felt") == "easy":
                    easy[name] = easy.get(name, 0) + 1
                else:
                    broken.add(name)
            if d.get("prop_cm") is not None:
                prop.setdefault(name, float(d["prop_cm"]))
        for _, place, _ in entry.pains:
            pains.setdefault(place, days_since(entry.started_at, today))
    return Facts(easy, prop, pains, len(log))


def active_cautions(coach: int, pid: int, profile: Profile, today: datetime) -> tuple[Caution, ...]:
    """Cautions from screening, from pain said or logged lately, and those set by hand."""
    screening = preparation.screening(db(), coach, pid)
    pains = {
        place
        for entry in practice.log(db(), coach, pid, 60)
        if days_since(entry.started_at, today) <= PAIN_DAYS
        for _, place, _ in entry.pains
    }
    state = days.last_state(db(), coach, pid)
    if state is not None and days_since(state.saved_at, today) <= PAIN_DAYS:
        pains |= {p for p, level in state.pain.items() if level >= readiness.PAIN_STOPS}
    found = brought_by(cautions(), screening.yes if screening else (), pains)
    ids = {c.id for c in found} | set(profile.cautions)
    return tuple(c for c in cautions() if c.id in ids)


def ranges_of(found: list[digests.Digest]) -> list[Range]:
    """The newest ranges by pose, direction and side."""
    ranges = []
    for d in found:
        for f in d.body["families"]:
            if not f.get("motion") or f["unit"] != "deg":
                continue
            by_side: dict[str, dict[str, Any]] = {}
            for line in f["lines"]:
                by_side.setdefault(line["side"], {})[line["mode"]] = line
            for side, modes in by_side.items():
                active, passive = modes.get("active"), modes.get("passive")
                ranges.append(
                    Range(
                        d.pose,
                        f["motion"],
                        side,
                        active["value"] if active else None,
                        passive["value"] if passive else None,
                        max(x["mdc"] for x in modes.values()),
                        f["better"] == "higher",
                    )
                )
    return ranges


def person_of(coach: int, who: Practitioner, today: datetime) -> Person:
    """Everything the planner looks at, from the store."""
    profile = profile_of(coach, who.id)
    log = practice.log(db(), coach, who.id)
    found = digests.of_practitioner(db(), coach, who.id)
    wanted = goals.of_practitioner(db(), coach, who.id)
    held = overview.held_back(found, wanted)
    ranges = ranges_of(found)
    wants: list[Need] = needing.from_limiters((h.pose.name, h.limiter) for h in held)
    wants += needing.from_reserves(ranges)
    styles = chosen_schools(who.schools)
    facts = facts_of(log, today)
    readings = readings_of(found)
    answers = {g: answer(gate, readings, facts, catalogue()) for g, gate in gates().items()}
    tuned = profile.tuned
    visit = datetime.fromisoformat(who.next_visit_at) if who.next_visit_at else None
    soon = visit is not None and 0 <= (visit.date() - today.date()).days < 7
    until = tuned.get("easy_until")
    stepped: dict[str, str] = dict(tuned.get("stepped", {}))
    person = Person(
        level=profile.level,
        minutes=profile.minutes,
        days=profile.weekdays,
        props=frozenset(who.props | {"mat"}),
        cautions=active_cautions(coach, who.id, profile, today),
        cleared=readiness.passive_refused(preparation.screening(db(), coach, who.id)) is None,
        school=styles["lengthen"],
        needs=needing.merged(wants),
        goals=tuple(dict.fromkeys(g.pose for g in wanted)),
        tight=needing.tighter(ranges),
        shut={g: f"{a.gate.words} ({a.because})" for g, a in answers.items() if not a.open},
        styles=styles,
        known=frozenset(str(d["drill"]) for e in log[:20] for d in e.done),
        longer={k: float(v) for k, v in tuned.get("longer", {}).items()},
        # What hurt is left alone for a week, whatever is decided later.
        eased=frozenset(
            [
                *tuned.get("eased", []),
                *(
                    drill
                    for e in log
                    if days_since(e.started_at, today) <= PAIN_DAYS
                    for drill, _, _ in e.pains
                ),
            ]
        ),
        easy_week=until is not None and until >= today.date().isoformat(),
        ready=frozenset(stepped.values()),
        quiet_day=visit.weekday() if visit is not None and soon else None,
    )
    known = drill_by_id()
    # Where a harder form is closed again, the easier one comes back.
    outgrown = {
        old for old, new in stepped.items()
        if new in known and programme.refused(known[new], person) is None
    }  # fmt: skip
    return replace(person, outgrown=frozenset(outgrown))


def wishes_of(coach: int, pid: int) -> Wishes:
    """What the coach changed by hand."""
    found = practice.wishes(db(), coach, pid)
    return Wishes(
        frozenset((day, name) for day, name, kind in found if kind == "keep"),
        frozenset((None if day < 0 else day, name) for day, name, kind in found if kind == "drop"),
    )


def digest_of(person: Person, wishes: Wishes) -> str:
    """A digest of what a plan is made from: the same again needs no solving.

    A session done makes drills known and moves the words of a shut gate on; neither is a
    reason to turn the rest of a week round.
    """
    person = replace(person, known=frozenset(), shut=dict.fromkeys(person.shut, ""))

    def plain(x: Any) -> Any:
        if isinstance(x, frozenset | set):
            return sorted((plain(v) for v in x), key=str)
        if isinstance(x, Mapping):
            return {str(k): plain(v) for k, v in sorted(x.items())}
        if isinstance(x, tuple | list):
            return [plain(v) for v in x]
        return x

    known = [d.id for d in drills()]
    text = json.dumps([plain(asdict(person)), plain(asdict(wishes)), known], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def week_of(coach: int, who: Practitioner, today: datetime | None = None) -> dict[str, Any]:
    """The current week, planned anew only when something it depends on has changed.

    Raises NoPlan with a sentence where hand-made changes leave no session.
    """
    today = today or datetime.now()
    person, wishes = person_of(coach, who, today), wishes_of(coach, who.id)
    digest = digest_of(person, wishes)
    stored = practice.plan(db(), coach, who.id)
    if stored is not None and stored[0] == digest:
        return stored[1] | {"made_at": stored[2]}
    body = as_data(planner.plan(drills(), person, wishes), person)
    about_to_write()
    practice.save_plan(db(), coach, who.id, digest, body)
    return body | {"made_at": datetime.now().isoformat(timespec="seconds")}


def as_data(week: Week, person: Person) -> dict[str, Any]:
    """A planned week as plain data, with the steps the player walks through."""
    return {
        "sessions": [session_data(s) for s in week.sessions],
        "fell_out": dict(week.fell_out),
        "directions": dict(week.seconds),
        "objective": round(week.objective, 3),
        "bound": round(week.bound, 3),
        "cautions": [c.words for c in person.cautions],
        "cleared": person.cleared,
        "easy_week": person.easy_week,
        "needs": [asdict(n) for n in person.needs],
    }


def shorter(session: Mapping[str, Any], person: Person, minutes: float) -> dict[str, Any]:
    """A planned session cut to the minutes there are today, as plain data."""
    known = drill_by_id()
    items = tuple(
        Item(known[i["drill"]], Dose(**i["dose"]), i["first"], i["reason"], i["kept"])
        for i in session["items"]
        if i["drill"] in known
    )
    cut = programme.trimmed(Session(session["weekday"], items), person, minutes)
    return session_data(cut)


def session_data(s: Session) -> dict[str, Any]:
    """A session as plain data, with the steps the player walks through."""
    return {
        "weekday": s.weekday,
        "seconds": round(s.total_s),
        "hard": s.hard,
        "items": [
            {
                "drill": i.drill.id,
                "dose": asdict(i.dose),
                "first": i.first,
                "reason": i.reason,
                "kept": i.kept,
                "steps": [asdict(x) for x in steps(i)],
            }
            for i in s.items
        ],
    }


def say_dose(dose: Mapping[str, Any], counting: str, breath_s: float) -> str:
    """A dose in words: repetitions, or a hold in seconds or in the person's own breaths."""
    how = Dose(**dose)
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
    if how.extra:
        words += f", {how.extra} once more"
    return words


def standings(coach: int, who: Practitioner, today: datetime | None = None) -> list[Standing]:
    """Where the practitioner stands on every ladder, goals first."""
    today = today or datetime.now()
    readings = readings_of(digests.of_practitioner(db(), coach, who.id))
    facts = facts_of(practice.log(db(), coach, who.id), today)
    wanted = {g.pose for g in goals.of_practitioner(db(), coach, who.id)}
    found = [stand(x, gates(), readings, facts, catalogue()) for x in ladders()]
    return sorted(found, key=lambda s: s.ladder.goal not in wanted)
