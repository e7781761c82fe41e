"""Practice days, visits and the day of the next look, as a calendar."""

from __future__ import annotations

from datetime import date, datetime

from dachi.interchange.calendar import Appointment, Practice, calendar
from dachi.store import digests, practice
from dachi.store.practitioners import Practitioner
from dachi.web import plans
from dachi.web.session import db


def due(coach: int, pid: int) -> str | None:
    """The first day on which a new look can show something, ISO; None where nothing is due."""
    found = digests.of_practitioner(db(), coach, pid)
    return min((d.retest_on for d in found if d.retest_on), default=None)


def calendar_of(coach: int, who: Practitioner) -> bytes:
    """Practice days, the next visit and the day a new look can show something."""
    profile = plans.profile_of(coach, who.id)
    stored = practice.plan(db(), coach, who.id)
    known = plans.drill_by_id()
    by_day = {s["weekday"]: s for s in stored[1]["sessions"]} if stored else {}
    practices = [
        Practice(
            d,
            round(profile.minutes),
            f"Practice, {profile.minutes:.0f} minutes",
            ", ".join(
                known[i["drill"]].name
                for i in by_day.get(d, {}).get("items", [])
                if i["drill"] in known
            ),
        )
        for d in profile.weekdays
    ]
    found = []
    if who.next_visit_at:
        found.append(
            Appointment("visit", datetime.fromisoformat(who.next_visit_at), "Visit to your coach")
        )
    if look := due(coach, who.id):
        found.append(
            Appointment(
                "look", date.fromisoformat(look[:10]), "A new look can show something from today",
                "Ask your coach for an assessment.",
            )
        )  # fmt: skip
    nonce = practice.link(db(), coach, who.id) or "none"
    return calendar(f"Practice of {who.call_name}", nonce[:8], practices, found, date.today())
