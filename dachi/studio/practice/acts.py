"""What is said of somebody's practice: each a command, after which the week is as it then is."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime

from dachi.core.practising.programme import NoPlan
from dachi.core.practising.progression import Adjustment, lengthened
from dachi.core.words import PainKind, Place
from dachi.data import cautions
from dachi.store import felt, messages, practitioners, private_links
from dachi.store import practice_log as stored_log
from dachi.store import proposals as stored_proposals
from dachi.store import weeks as stored
from dachi.store.database import Busy, DiskTrouble, connect
from dachi.store.messages import Writer
from dachi.store.practice_log import NewLogEntry, Pain
from dachi.store.practitioners import Practitioner
from dachi.store.weeks import PlannedWeek, Profile, Tuned
from dachi.studio.acting import acting
from dachi.studio.practice import proposals, weeks
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: Minutes a session may have.
LENGTHS = ("5", "10", "15", "20", "30", "45", "60")
Wish = tuple[int, str, str]


@contextlib.contextmanager
def practising(work: Work, who: Practitioner) -> Iterator[None]:
    """A command about practice: the week that follows from it is kept with it."""
    with acting(work, who.id):
        yield
        with contextlib.suppress(NoPlan):
            weeks.keep_week(Practising(work, who))


# ---- the log ----------------------------------------------------------------------------


def log_session(
    work: Work,
    who: Practitioner,
    entry: NewLogEntry,
    soreness: int | None = None,
    *,
    adding: bool = False,
) -> int:
    """Log a session, or add to one; what follows from it is put before the coach."""
    with practising(work, who):
        with contextlib.suppress(NoPlan):
            # What was practised was this week: what the log makes known does not turn it round.
            weeks.keep_week(Practising(work, who))
        log_id = stored_log.add(work.db, work.coach, who.id, entry, adding=adding)
        for kind, answer in entry.senses.items():
            felt.at_session(work.db, work.coach, log_id, kind, answer)
        if soreness is not None:
            stored_log.set_soreness(work.db, work.coach, who.id, log_id, soreness)
    return log_id


def say_soreness(work: Work, who: Practitioner, log_id: int, level: int) -> None:
    """How sore the day after a session was, 0 to 10."""
    with practising(work, who):
        stored_log.set_soreness(work.db, work.coach, who.id, log_id, level)


def remove_session(work: Work, who: Practitioner, log_id: int, *, back: bool = False) -> bool:
    """Put a session away that was logged by mistake, or bring it ``back``."""
    with practising(work, who):
        return stored_log.remove(work.db, work.coach, who.id, log_id, back=back)


def write(work: Work, who: Practitioner, by_whom: Writer, text: str) -> None:
    """A few words to the other side. Raises Refused where nothing is said."""
    if not text.strip():
        raise Refused("Write a few words first.")
    with acting(work):
        messages.send(work.db, work.coach, who.id, by_whom, text.strip())


def have_been_read(work: Work, who: Practitioner) -> None:
    """What the practitioner wrote is read."""
    with acting(work):
        messages.read(work.db, work.coach, who.id, "practitioner")


def have_read(work: Work, who: Practitioner, by_whom: Writer) -> None:
    """The other side has read what was written, on a connection of its own: whoever only reads
    need not write for it, and where nothing can be written the page opens all the same.
    """
    found = messages.of_practitioner(work.db, work.coach, who.id)
    if any(m.read_at is None and m.by_whom == by_whom for m in found):
        with (
            contextlib.suppress(DiskTrouble, Busy),
            contextlib.closing(connect(work.folder, work.db.clock)) as db,
            db.savepoint(),
        ):
            messages.read(db, work.coach, who.id, by_whom)


def note_pain(work: Work, who: Practitioner, place: Place, on: date) -> None:
    """Log that a place hurts, outside any session, so that planning hears of it."""
    at = datetime(on.year, on.month, on.day, 12)
    if on == work.today():
        # Not later than now: what lies ahead is not yet heard.
        at = min(at, work.now())
    entry = NewLogEntry(
        once_key=secrets.token_urlsafe(12),
        started_at=at.isoformat(timespec="seconds"),
        seconds=0.0,
        felt=None,
        finished=False,
        done=(),
        pains=(Pain("", place, PainKind.KNEE if place.is_knee else PainKind.DULL),),
    )
    log_session(work, who, entry)


# ---- how somebody practises --------------------------------------------------------------


@dataclass(frozen=True, kw_only=True)
class Habit:
    """How somebody practises, as a form says it: texts of numbers, weekdays, minutes by day."""

    level: str
    minutes: str
    weekdays: Collection[str]
    by_day: Mapping[int, str]
    cautions: Collection[str] = ()
    untune: bool = False
    twice: bool = False
    gentle: bool = False


def say_habit(work: Work, who: Practitioner, said: Habit) -> None:
    """Keep how somebody practises. Raises Refused with a sentence."""
    days = tuple(sorted(int(d) for d in set("0123456") & set(said.weekdays)))
    if said.level not in ("1", "2", "3") or said.minutes not in LENGTHS:
        raise Refused("Choose a level and the minutes of a session.")
    if not days:
        raise Refused("Choose at least one day to practise on.")
    if any(m not in ("", *LENGTHS) for m in said.by_day.values()):
        raise Refused("Choose the minutes of each day from the list.")
    with practising(work, who):
        known = Practising(work, who).profile
        found = Profile(
            level=int(said.level),
            minutes=float(said.minutes),
            weekdays=days,
            cautions=tuple(c.id for c in cautions() if c.id in said.cautions),
            tuned=Tuned() if said.untune else known.tuned,
            by_day={
                d: float(m)
                for d, m in said.by_day.items()
                if d in days and m not in ("", said.minutes)
            },
            twice=said.twice,
            gentle=said.gentle,
        )
        stored.save_profile(work.db, work.coach, who.id, found)


# ---- the week by hand --------------------------------------------------------------------


@dataclass(frozen=True)
class Before:
    """How the week and what was wished of it were before a change by hand: it can be undone."""

    week: PlannedWeek
    wishes: list[Wish]
    longer: Mapping[str, float]


def change_week(
    work: Work, who: Practitioner, act: str, drill: str, day: int, other: str = ""
) -> tuple[Before | None, PlannedWeek]:
    """Keep, drop, free, swap or lengthen one drill on a day (-1: every day).

    What is changed on a day changes that day; the whole week only where that is asked. The state
    before (None where there was no week) and the week after. Raises NoPlan where no session would
    be left, and KeyError where there is no such change or drill.
    """
    with acting(work, who.id):
        own = Practising(work, who)
        try:
            before = Before(weeks.week_of(own), own.wishes, dict(own.profile.tuned.longer))
        except NoPlan:
            before = None
        _wish(work, own, act, drill, day, other)
        after = Practising(work, who)
        if day >= 0 and before is not None:
            return before, weeks.with_day_anew(after, before.week, day)
        return before, weeks.keep_week(after)


def _wish(work: Work, own: Practising, act: str, drill: str, day: int, other: str) -> None:
    """Record what the coach wants changed; KeyError where it is no change there is."""
    asked, known = (work.db, work.coach, own.who.id), drill_by_id()
    if act in ("keep", "drop", "free"):
        stored.wish(*asked, day, known[drill].id, None if act == "free" else act)
        if act == "free":
            stored.wish(*asked, -1, drill, None)
    elif act == "swap":
        stored.wish(*asked, day, known[drill].id, "drop")
        stored.wish(*asked, day, known[other].id, "keep")
    elif act == "longer":
        factor = own.profile.tuned.longer.get(drill, 1.0)
        more = lengthened(known[drill], own.profile.level, factor)
        change = Adjustment(longer={drill: more})
        tuned = proposals.tuned_by(own.profile, change, work.today())
        stored.save_profile(*asked, tuned)
    else:
        raise KeyError(act)


def note_drill(work: Work, who: Practitioner, drill: str, text: str) -> None:
    """Keep what a coach says to one person of a drill; nothing takes it away. KeyError where there
    is no such drill.
    """
    known = drill_by_id()[drill]
    with acting(work, who.id):
        stored.note_drill(work.db, work.coach, who.id, known.id, " ".join(text.split())[:300])


def undo_change(
    work: Work, who: Practitioner, wishes: Sequence[Wish], longer: Mapping[str, float]
) -> None:
    """Take the last change by hand back: wishes and doses as they were, and the plan of then.

    Where something else has changed since (a pain was logged), that plan is not brought back.
    """
    with practising(work, who):
        asked = (work.db, work.coach, who.id)
        profile = Practising(work, who).profile
        if dict(profile.tuned.longer) != dict(longer):
            tuned = replace(profile.tuned, longer=longer)
            stored.save_profile(*asked, replace(profile, tuned=tuned))
        for day, name, _ in stored.wishes(*asked):
            stored.wish(*asked, day, name, None)
        for day, name, kind in wishes:
            stored.wish(*asked, day, name, kind)
        own = Practising(work, who)
        stamp = weeks.made_from(own.person, own.wished)
        before = stored.earlier_plan(*asked, stamp)
        if before is not None:
            stored.save_plan(*asked, stamp, before)


def decide(work: Work, who: Practitioner, proposal_id: int, *, yes: bool) -> str | None:
    """Accept a proposal, and do what it says, or leave things as they are.

    Its text where it was done. Raises KeyError where there is no such proposal.
    """
    known = {p.offered.id: p for p in proposals.of_practitioner(work, who.id)}
    found = known[proposal_id]
    with practising(work, who):
        asked = (work.db, work.coach, who.id)
        if not stored_proposals.decide(*asked, proposal_id, yes) or not yes:
            return None
        profile = Practising(work, who).profile
        tuned = proposals.tuned_by(profile, found.offered.change, work.today())
        stored.save_profile(*asked, tuned)
    return found.text


# ---- links -------------------------------------------------------------------------------


def open_link(work: Work, who: Practitioner) -> None:
    """Make somebody's private link, the one before ended; the week it shows is kept."""
    with practising(work, who):
        private_links.make(work.db, work.coach, who.id)


def close_link(work: Work, who: Practitioner) -> None:
    """Take somebody's private link back."""
    with acting(work):
        private_links.revoke(work.db, work.coach, who.id)


def renew_weeks(work: Work, pause: Callable[[float], None] = lambda _: None) -> int:
    """Keep the week of everybody who practises and whose days have moved on; how many.

    Nothing they were measured by has changed: only what is planned and proposed is looked at.
    ``pause`` is told how long each took, s.
    """
    count = 0
    for who in (x.practitioner for x in practitioners.listing(work.db, work.coach)):
        began = work.db.clock.ticks()
        own = Practising(work, who)
        if not own.log and stored.profile(work.db, work.coach, who.id) is None:
            continue
        with contextlib.suppress(NoPlan):
            # Planned before anybody waits for it to be kept.
            weeks.week_of(own)
        with acting(work):
            with contextlib.suppress(NoPlan):
                weeks.keep_week(Practising(work, who))
            proposals.renew(work, who)
        count += 1
        pause(work.db.clock.ticks() - began)
    return count
