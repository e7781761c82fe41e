"""What the log and the readings say should change, put before the coach; doing what is accepted."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import date, datetime
from typing import Any

from dachi.core import programme
from dachi.core.drills import LEVELS
from dachi.core.progression import Done, Logged, Proposal, propose
from dachi.data import drills
from dachi.store import digests, practice
from dachi.store.practice import Entry, Profile
from dachi.store.practitioners import Practitioner
from dachi.web.plans import days_since, drill_by_id, person_of, profile_of
from dachi.web.session import about_to_write, db


def logged(log: list[Entry], today: datetime) -> list[Logged]:
    """The log as the proposals look at it."""
    known = drill_by_id()
    return [
        Logged(
            days_since(e.started_at, today),
            e.felt,
            tuple(
                Done(
                    str(d["drill"]), str(d.get("felt") or e.felt), d.get("prop_cm"), d.get("layers")
                )
                for d in e.done
            ),
            e.soreness,
            e.pains,
            any(d["drill"] in known and known[str(d["drill"])].strong for d in e.done),
            e.seconds / 60,
        )
        for e in log
    ]


def refresh(coach: int, who: Practitioner, today: datetime | None = None) -> None:
    """Look at the log and the readings again and put what follows before the coach."""
    today = today or datetime.now()
    profile = profile_of(coach, who.id)
    log = practice.log(db(), coach, who.id)
    gains = {
        d.pose: any(
            line["mode"] == "passive"
            and (line["last"] or line["first"] or {}).get("verdict") == "real gain"
            for f in d.body["families"]
            for line in f["lines"]
        )
        for d in digests.of_practitioner(db(), coach, who.id)
    }
    found: tuple[Proposal, ...] = ()
    if log:
        weeks = min(2.0, days_since(log[-1].started_at, today) / 7)
        person = person_of(coach, who, today)
        anyone = replace(person, level=max(LEVELS))
        found = propose(
            logged(log, today),
            drill_by_id(),
            planned_two_weeks=round(weeks * len(profile.weekdays)),
            minutes=profile.minutes,
            gains=gains,
            longer=person.longer,
            easy_week=person.easy_week,
            firm=who.schools.get("support") == "firm",
            open_to=[d.id for d in drills() if programme.refused(d, anyone) is None],
        )
    about_to_write()
    practice.offer(db(), coach, who.id, found)


def accept(coach: int, pid: int, change: Mapping[str, Any], today: date) -> None:
    """Do what an accepted proposal says."""
    profile = profile_of(coach, pid)
    tuned = dict(profile.tuned)
    for key in ("longer", "prop_cm", "stepped"):
        if key in change:
            tuned[key] = dict(tuned.get(key, {})) | dict(change[key])
    if "eased" in change:
        tuned["eased"] = sorted({*tuned.get("eased", []), *change["eased"]})
    if change.get("easy_week"):
        tuned["easy_until"] = date.fromordinal(today.toordinal() + 7).isoformat()
    minutes = float(change.get("minutes", profile.minutes))
    practice.save_profile(
        db(), coach, pid,
        Profile(profile.level, minutes, profile.weekdays, profile.cautions, tuned),
    )  # fmt: skip
