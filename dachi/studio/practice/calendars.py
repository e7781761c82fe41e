"""Practice days, visits and the day of the next look, as a calendar."""

from __future__ import annotations

from datetime import UTC, date

from dachi.core.practising.programme import NoPlan
from dachi.interchange.calendar import Appointment, Practice, calendar
from dachi.store import private_links
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import moment_of
from dachi.studio.practice import weeks
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work


def due(work: Work, pid: int) -> str | None:
    """The first day on which a new look can show something, ISO; None where nothing is due."""
    return summaries.next_look(summaries.of_practitioner(work, pid))


def calendar_of(work: Work, who: Practitioner) -> bytes:
    """Practice days, the next visit and the day a new look can show something."""
    own, known = Practising(work, who), drill_by_id()
    profile = own.profile
    try:
        by_day = {s.weekday: s.items for s in weeks.week_of(own).sessions}
    except NoPlan:
        by_day = {}
    practices = [
        Practice(
            d,
            round(minutes := profile.by_day.get(d, profile.minutes)),
            f"Practice, {minutes:.0f} minutes{', morning and evening' if profile.twice else ''}",
            ", ".join(known[i.drill].name for i in by_day.get(d, ()) if i.drill in known),
        )
        for d in profile.weekdays
    ]
    found = []
    if who.next_visit_at:
        found.append(Appointment("visit", moment_of(who.next_visit_at), "Visit to your coach"))
    if look := due(work, who.id):
        found.append(
            Appointment(
                "look", date.fromisoformat(look[:10]), "A new look can show something from today",
                "Ask your coach for an assessment.",
            )
        )  # fmt: skip
    link = private_links.live(work.db, work.coach, who.id)
    nonce = link.nonce if link else "none"
    stamp = work.db.clock.read().astimezone(UTC)
    name = f"Practice of {who.call_name}"
    return calendar(name, nonce[:8], practices, found, work.today(), stamp)
