"""What the log and the readings say should change, put before the coach; doing what is accepted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from dachi.core.catalogue.drills import LEVELS
from dachi.core.judging.series import Verdict
from dachi.core.practising import programme
from dachi.core.practising.progression import Adjustment, Course, Done, Logged, Proposal, propose
from dachi.data import drills
from dachi.store import practice_log, weeks
from dachi.store import proposals as stored
from dachi.store.practice_log import LogEntry
from dachi.store.practitioners import Practitioner
from dachi.store.summaries import LineSummary
from dachi.studio.practice.cautions import days_since
from dachi.studio.practice.weeks import drill_by_id, person_of, profile_of
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: How long an easy week lasts, days.
EASY_DAYS = 7


def logged(log: Sequence[LogEntry], today: datetime) -> list[Logged]:
    """The log as the proposals look at it."""
    known = drill_by_id()
    return [
        Logged(
            days_since(e.started_at, today),
            e.felt,
            tuple(Done(d.drill, d.felt or e.felt, d.prop_cm, d.layers) for d in e.done),
            e.soreness,
            tuple((p.drill, p.place, p.kind) for p in e.pains),
            any(d.drill in known and known[d.drill].strong for d in e.done),
            e.seconds / 60,
            e.counts,
        )
        for e in log
    ]


def refresh(work: Work, who: Practitioner) -> None:
    """Look at the log and the readings again and put what follows before the coach."""
    today = work.now()
    profile = profile_of(work, who.id)
    log = practice_log.entries(work.db, work.coach, who.id)
    found: tuple[Proposal, ...] = ()
    if log:
        gains = {
            d.pose: any(_gained(line) for f in d.families for line in f.lines)
            for d in summaries.of_practitioner(work, who.id)
        }
        fortnights = min(2.0, days_since(log[-1].started_at, today) / 7)
        person = person_of(work, who)
        anyone = replace(person, level=max(LEVELS))
        course = Course(
            planned_two_weeks=round(fortnights * profile.week_sessions),
            minutes=profile.minutes,
            gains=gains,
            longer=person.longer,
            easy_week=person.easy_week,
            firm=who.schools.get("support") == "firm",
            level=profile.level,
            open_to=[d.id for d in drills() if programme.refused(d, anyone) is None],
        )
        found = propose(logged(log, today), drill_by_id(), course)
    work.db.to_write()
    stored.offer(work.db, work.coach, who.id, found)


def _gained(line: LineSummary) -> bool:
    change = line.last or line.first
    if line.mode != "passive" or change is None or line.first is None:
        return False
    # Practice is changed by what is confirmed, not by a first sign.
    return line.first.confirmed and change.verdict is Verdict.GAIN


def accept(work: Work, pid: int, change: Adjustment) -> None:
    """Do what an accepted proposal says."""
    profile = profile_of(work, pid)
    tuned = profile.tuned
    ends = (work.today() + timedelta(days=EASY_DAYS)).isoformat()
    tuned = replace(
        tuned,
        longer={**tuned.longer, **change.longer},
        prop_cm={**tuned.prop_cm, **change.prop_cm},
        stepped={**tuned.stepped, **change.stepped},
        eased=tuple(sorted({*tuned.eased, *change.eased})),
        easy_until=ends if change.easy_week else tuned.easy_until,
    )
    minutes = profile.minutes if change.minutes is None else change.minutes
    weeks.save_profile(work.db, work.coach, pid, replace(profile, minutes=minutes, tuned=tuned))
