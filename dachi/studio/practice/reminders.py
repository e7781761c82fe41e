"""Reminders: who should get which one now, what it says, writing it into the outbox."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from email.utils import parsedate_to_datetime
from pathlib import Path

from dachi.errors import NotDone
from dachi.simulation import outbox
from dachi.simulation.outbox import Letter
from dachi.store import practice_log, practitioners, private_links
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import moment_of, say_day
from dachi.studio.practice.calendars import calendar_of, due
from dachi.studio.work import Work

#: A visit is said this many days ahead; practice that rests this long is asked after.
VISIT_DAYS, RESTING_DAYS = 2, 7
#: The same kind is not written to the same person again within this many days.
AGAIN_DAYS = 14
#: More letters than a studio of five hundred writes in that time.
MOST_LETTERS = 2000


@dataclass(frozen=True)
class Reminder:
    """A message for one person."""

    who: Practitioner
    kind: str
    subject: str
    text: str


def box_of(folder: Path, coach: int) -> Path:
    """A coach's own outbox in a data folder."""
    return folder / "outbox" / str(coach)


def box(work: Work) -> Path:
    """The coach's own outbox."""
    return box_of(work.folder, work.coach)


def letters(work: Work) -> list[Letter]:
    """The newest letters that were written."""
    return outbox.letters(box(work))


def letter_file(work: Work, name: str) -> Path | None:
    """Where a letter lies, None where there is none of that name."""
    return outbox.path_of(box(work), name)


class NoReminder(NotDone):
    """There is nothing to remind of; the message says what is missing."""

    code = "no-reminder"


def reminder(work: Work, who: Practitioner, kind: str) -> Reminder:
    """What a reminder says: ``visit``, ``look`` or ``practice``.

    Raises NoReminder where no visit lies ahead, or no look is due.
    """
    look = due(work, who.id)
    if kind == "visit":
        if not who.next_visit_at or moment_of(who.next_visit_at) <= work.now():
            raise NoReminder(f"No visit of {who.call_name} lies ahead: plan one first.")
        when = f"{say_day(who.next_visit_at)} at {who.next_visit_at[11:16]}"
        return Reminder(
            who, kind, f"See you on {say_day(who.next_visit_at)}",
            f"we meet on {when}. Come as you are; we warm up together first.",
        )  # fmt: skip
    if kind == "look":
        if not look:
            raise NoReminder(f"No look at {who.call_name} is due: nothing was measured yet.")
        return Reminder(
            who, kind, "Time for another look",
            f"from {say_day(look)} on a new look can show what the weeks have changed. Say when it "
            "suits you.",
        )  # fmt: skip
    return Reminder(
        who, "practice", "Your practice this week",
        "your sessions for this week are ready. Short ones that happen are worth more than long "
        "ones that do not.",
    )  # fmt: skip


def waiting(work: Work) -> list[Reminder]:
    """Reminders that are due and were not written lately, one for a person.

    A coming visit first, then a look that can show something, then practice that rests.
    People without an address in their record are left out.
    """
    now = work.now()
    told = _told(outbox.letters(box(work), MOST_LETTERS), now)
    found = []
    for who in (p.practitioner for p in practitioners.listing(work.db, work.coach)):
        if not who.email:
            continue
        try:
            kind = _most_pressing(work, who, now)
            one = reminder(work, who, kind) if kind else None
        except (ValueError, TypeError, KeyError):
            # Their own pages say what is wrong with a record; the others' letters do not wait.
            continue
        if one is not None and (who.uid, one.kind) not in told:
            found.append(one)
    return found


def _most_pressing(work: Work, who: Practitioner, now: datetime) -> str | None:
    visit = moment_of(who.next_visit_at) if who.next_visit_at else None
    coming = visit is not None and visit > now
    if visit is not None and coming and visit <= now + timedelta(days=VISIT_DAYS):
        return "visit"
    look = due(work, who.id)
    if look and date.fromisoformat(look[:10]) <= now.date() and not coming:
        return "look"
    last = practice_log.entries(work.db, work.coach, who.id, 1)
    rested = not last or _since(last[0].started_at, now) > timedelta(days=RESTING_DAYS)
    return "practice" if private_links.live(work.db, work.coach, who.id) and rested else None


def _since(moment: str, now: datetime) -> timedelta:
    return now - datetime.fromisoformat(moment[:19])


def _told(letters: Iterable[Letter], now: datetime) -> set[tuple[str, str]]:
    oldest = now.astimezone() - timedelta(days=AGAIN_DAYS)
    return {(m.about, m.kind) for m in letters if parsedate_to_datetime(m.date) >= oldest}


def written_lately(work: Work, one: Reminder) -> bool:
    """Whether this very message went to this person within the last day."""
    since = work.now().astimezone() - timedelta(days=1)
    return any(
        (m.about, m.kind) == (one.who.uid, one.kind) and parsedate_to_datetime(m.date) > since
        for m in outbox.letters(box(work), MOST_LETTERS)
    )


def write(work: Work, one: Reminder, address: str | None) -> None:
    """Write a reminder with the person's calendar and, where it has one, its page's address.

    Raises ValueError and OSError.
    """
    page = f"\n\nYour page: {address}" if address else ""
    outbox.send(
        box(work), one.who.email, one.subject,
        f"Hello {one.who.call_name},\n\n{one.text}{page}\n",
        [("practice.ics", calendar_of(work, one.who))], at=work.now(), about=one.who.uid,
        kind=one.kind,
    )  # fmt: skip
