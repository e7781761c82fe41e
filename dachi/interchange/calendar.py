"""Practice days, visits and retests as iCalendar (RFC 5545)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

import icalendar

_DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")


@dataclass(frozen=True)
class Practice:
    """A weekly practice day: ``weekday`` 0 is Monday, ``minutes`` long, with what it holds."""

    weekday: int
    minutes: int
    summary: str
    text: str


@dataclass(frozen=True)
class Appointment:
    """A single day or moment (local time): a visit or the day a new look can show something."""

    key: str
    at: datetime | date
    summary: str
    text: str = ""


def calendar(
    name: str,
    key: str,
    practice: Sequence[Practice],
    appointments: Sequence[Appointment],
    start: date,
    stamp: datetime,
) -> bytes:
    """Return an iCalendar file written at ``stamp`` (aware).

    ``key`` makes the events' identities stable across feeds.

    Practice days are weekly all-day events from the first such weekday on or after
    ``start``, so that nobody is told an hour; visits keep their hour as local time.
    """
    found = icalendar.Calendar()
    found.add("prodid", "-//Dachi//Practice//EN")
    found.add("version", "2.0")
    found.add("x-wr-calname", name)
    for p in practice:
        first = start + timedelta(days=(p.weekday - start.weekday()) % 7)
        event = _event(f"practice-{p.weekday}", key, p.summary, p.text, stamp)
        event.add("dtstart", first)
        event.add("dtend", first + timedelta(days=1))
        event.add("rrule", {"freq": "weekly", "byday": _DAYS[p.weekday]})
        event.add("transp", "TRANSPARENT")
        found.add_component(event)
    for a in appointments:
        event = _event(a.key, key, a.summary, a.text, stamp)
        event.add("dtstart", a.at)
        if isinstance(a.at, datetime):
            event.add("dtend", a.at + timedelta(hours=1))
        else:
            event.add("dtend", a.at + timedelta(days=1))
            event.add("transp", "TRANSPARENT")
        found.add_component(event)
    return bytes(found.to_ical())


def _event(uid: str, key: str, summary: str, text: str, stamp: datetime) -> icalendar.Event:
    event = icalendar.Event()
    event.add("uid", f"{uid}-{key}@dachi.invalid")
    event.add("dtstamp", stamp)
    event.add("summary", summary)
    if text:
        event.add("description", text)
    return event
