"""Who comes, who is due, what changed, and the one thing to do for each."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from dachi.core.assessing.permission import Screening
from dachi.core.judging.trend import earliest_look
from dachi.core.rules import PAIN_NEWS_DAYS
from dachi.core.words import Place
from dachi.store import preparation
from dachi.store import today as stored
from dachi.store.today import Seen
from dachi.studio.phrases import moment_of, say_day
from dachi.studio.record import asking
from dachi.studio.work import Work

NEWS_DAYS, COMING_DAYS, DUE_SOON_DAYS = 21, 7, 3
MOST_NEWS = 3
#: So much of a message stands on the page, letters.
SHOWN = 90


class Group(StrEnum):
    """What a person is on the page for, the most pressing first."""

    HURT = "It hurt in practice"
    WROTE = "Wrote to you"
    COMING = "Coming"
    MARKING = "Photographs to mark"
    ASKED = "To ask about"
    CHANGED = "What changed"
    DUE = "Due for a look"
    NEW = "Not measured yet"
    BROKEN = "Cannot be read"


class Action(StrEnum):
    """The one thing to do, as the button says it."""

    PLAN = "Look at the plan"
    MARK = "Go on marking"
    PROGRESS = "See progress"
    PREPARE = "Prepare"
    ASSESS = "New assessment"
    RECORD = "See the record"
    READ = "Read and answer"
    REVIEW = "Look and say"


@dataclass(frozen=True)
class TodayEntry:
    """A person with the reasons to be on the page (kind, words) and the one thing to do."""

    who: Seen
    group: Group
    reasons: tuple[tuple[str, str], ...]
    action: Action


@dataclass(frozen=True)
class TodayPage:
    """Everybody, and those with something to do in their groups."""

    people: tuple[Seen, ...]
    groups: tuple[tuple[Group, tuple[TodayEntry, ...]], ...]
    first: tuple[TodayEntry, ...] = ()

    @property
    def counts(self) -> dict[Group, int]:
        """How many are in each group that has anybody."""
        return {g: len(entries) for g, entries in self.groups if entries}


#: So many are shown large: who was hurt, who is here today.
MOST_FIRST = 4


def today_page(work: Work) -> TodayPage:
    """Everybody with something to do, each once, under the most pressing reason.

    Who was hurt and who is here today come first, whatever group they are in.
    """
    today = work.today()
    told = preparation.of_everybody(work.db, work.coach)
    since = (today - timedelta(days=NEWS_DAYS)).isoformat()
    hurt = (today - timedelta(days=PAIN_NEWS_DAYS)).isoformat()
    people = stored.everybody(work.db, work.coach, since, hurt)
    found = [e for who in people if (e := _readable(who, told.get(who.id), today)) is not None]
    groups = tuple((g, _ordered(g, found)) for g in Group)
    first = [e for _, entries in groups for e in entries if _is_first(e, today)]
    first.sort(key=lambda e: (e.group is not Group.HURT, e.who.next_visit_at or ""))
    return TodayPage(tuple(people), groups, tuple(first[:MOST_FIRST]))


def _is_first(entry: TodayEntry, today: date) -> bool:
    """Whether somebody was hurt, is here today or lost range for a reason."""
    day = today.isoformat()
    here = day in ((entry.who.next_visit_at or "")[:10], (entry.who.last_at or "")[:10])
    lost = any(kind == "loss" for kind, _ in entry.reasons)
    return here or lost or entry.group is Group.HURT


def _ordered(group: Group, found: Sequence[TodayEntry]) -> tuple[TodayEntry, ...]:
    own = [e for e in found if e.group is group]
    if group is Group.COMING:
        own.sort(key=lambda e: e.who.next_visit_at or "")
    elif group is Group.CHANGED:
        own.sort(key=lambda e: e.who.last_at or "", reverse=True)
        # Who has lost range comes before who has gained or stands still.
        own.sort(key=lambda e: all(kind != "loss" for kind, _ in e.reasons))
    elif group is Group.DUE:
        own.sort(key=lambda e: earliest_look(e.who.looks) or "")
    return tuple(own)


def _readable(who: Seen, told: Screening | None, today: date) -> TodayEntry | None:
    """The same as ``_entry``; of a record that cannot be read, that."""
    try:
        return _entry(who, told, today)
    except (ValueError, TypeError, KeyError):
        logging.getLogger("dachi").exception("somebody's record cannot be read")
        words = "something in this record cannot be read"
        return TodayEntry(who, Group.BROKEN, (("watch", words),), Action.RECORD)


def _entry(who: Seen, screened: Screening | None, today: date) -> TodayEntry | None:
    """The person's reasons, most pressing first; None where there is nothing to do."""
    found: list[tuple[Group, Action | None, list[tuple[str, str]]]] = []
    if screened is not None and screened.flags:
        words = "a sign that wants a doctor first: no practice is planned"
        found.append((Group.HURT, Action.PREPARE, [("pain", words)]))
    if who.pain:
        words = f"pain in the {Place(who.pain[0]).said} logged on {say_day(who.pain[1])}"
        found.append((Group.HURT, Action.PLAN, [("pain", words)]))
    if who.wrote:
        words = who.wrote if len(who.wrote) <= SHOWN else f"{who.wrote[: SHOWN - 1]}…"
        found.append((Group.WROTE, Action.READ, [("wrote", f"wrote: “{words}”")]))
    if coming := _coming(who, screened, today):
        found.append((Group.COMING, None, coming))
    if who.unmarked:
        plural = "s" if who.unmarked != 1 else ""
        words = f"{who.unmarked} photograph{plural} to mark"
        found.append((Group.MARKING, Action.MARK, [("watch", words)]))
    if who.asked:
        words = "a reading looks like a slip" if who.asked[1] == 1 else "readings look like slips"
        found.append((Group.ASKED, Action.REVIEW, [("watch", f"{words}: was it so?")]))
    if who.news:
        told = [(n.kind.value, n.text) for n in who.news[:MOST_NEWS]]
        found.append((Group.CHANGED, Action.PROGRESS, told))
    due = earliest_look(who.looks)
    if due and due <= (today + timedelta(days=DUE_SOON_DAYS)).isoformat():
        words = f"a new look can show something since {say_day(due)}"
        found.append((Group.DUE, None, [("due", words)]))
    if not who.assessments and not found:
        words = "a first assessment sets what later ones are compared with"
        found.append((Group.NEW, None, [("due", words)]))
    if not found:
        return None
    group, action, _ = found[0]
    if action is None:
        # Nothing is photographed before consent: that is where the day begins.
        action = Action.PREPARE if who.consent_missing else Action.ASSESS
    return TodayEntry(who, group, tuple(r for _, _, rows in found for r in rows), action)


def _coming(who: Seen, told: Screening | None, today: date) -> list[tuple[str, str]]:
    """When the person comes, if within the week, and what is missing for it."""
    at = moment_of(who.next_visit_at) if who.next_visit_at else None
    away = (at.date() - today).days if at is not None else -1
    if at is None or not 0 <= away <= COMING_DAYS:
        return []
    when = {0: "today", 1: "tomorrow"}.get(away, f"on {at:%A}")
    rows = [("coming", f"comes {when} at {at:%H:%M}")]
    if who.consent_missing:
        rows.append(("watch", "consent to photographs is not recorded"))
    if told is not None:
        days = (today - date.fromisoformat(told.answered_on[:10])).days
        why = asking.again(told, days, preparation.answers_of(told, today))
        if why:
            rows.append(("watch", f"ask the screening again: {why[0].lower()}"))
    return rows
