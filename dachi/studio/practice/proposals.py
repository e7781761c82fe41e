"""What the log and the readings say should change, put before the coach; doing what is accepted."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

from dachi.core.catalogue.drills import LEVELS
from dachi.core.judging.series import Verdict
from dachi.core.practising import allowed, worth
from dachi.core.practising.progression import (
    LEFT_DAYS,
    Adjustment,
    Course,
    Done,
    Logged,
    Proposal,
    ProposalKind,
    propose,
)
from dachi.core.practising.proposal_words import say
from dachi.data import drills
from dachi.store import proposals as stored
from dachi.store.practice_log import LogEntry
from dachi.store.practitioners import Practitioner
from dachi.store.proposals import Offered
from dachi.store.summaries import LineSummary
from dachi.store.weeks import Profile
from dachi.studio.practice.cautions import days_since
from dachi.studio.practice.person import Practising, drill_by_id
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
            e.started_at[:10],
        )
        for e in log
    ]


def renew(work: Work, who: Practitioner) -> None:
    """Look at the log and the readings again and put what follows before the coach."""
    own = Practising(work, who)
    today, log, profile = work.now(), own.log, own.profile
    found: tuple[Proposal, ...] = ()
    if log:
        gains = {
            d.pose: any(_gained(line) for f in d.families for line in f.lines)
            for d in own.summaries
        }
        fortnights = min(2.0, days_since(log[-1].started_at, today) / 7)
        anyone = replace(own.person, level=max(LEVELS))
        course = Course(
            planned_two_weeks=round(fortnights * profile.week_sessions),
            minutes=profile.minutes,
            gains=gains,
            longer=own.person.longer,
            easy_week=own.person.easy_week,
            firm=who.schools.get("support") == "firm",
            level=profile.level,
            safe=[d.id for d in drills() if allowed.barred(d, own.person) is None],
            guarded=[d.id for d in drills() if allowed.guarded(d, own.person, own.known.lost)],
            needed={
                d.id: max((n.weight for n in own.person.needs if worth.served(d, n)), default=0)
                for d in drills()
            },
            waits=own.waits_to_lower,
            easy_left=_easy_left(work, who.id),
            open_to=[d.id for d in drills() if allowed.refused(d, anyone) is None],
        )
        found = propose(logged(log, today), drill_by_id(), course)
    stored.offer(work.db, work.coach, who.id, found)


def _easy_left(work: Work, pid: int) -> bool:
    """Whether an easy week was proposed a while ago and neither taken nor turned down."""
    return any(
        o.kind is ProposalKind.EASY_WEEK
        and o.decided_at is None
        and days_since(o.made_at, work.now()) >= LEFT_DAYS
        for o in stored.of_practitioner(work.db, work.coach, pid)
    )


def _gained(line: LineSummary) -> bool:
    change = line.last or line.first
    if line.mode != "passive" or change is None or line.first is None:
        return False
    # Practice is changed by what is confirmed, not by a first sign.
    return line.first.confirmed and change.verdict is Verdict.GAIN


@dataclass(frozen=True)
class Said:
    """A proposal with its words."""

    offered: Offered
    text: str
    reason: str


def of_practitioner(work: Work, pid: int) -> list[Said]:
    """Proposals in words, open ones first; those about drills that are gone are left out."""
    found = []
    for o in stored.of_practitioner(work.db, work.coach, pid):
        with contextlib.suppress(KeyError):
            found.append(Said(o, *say(o.why, o.subject, o.about, drill_by_id())))
    return found


def tuned_by(profile: Profile, change: Adjustment, today: date) -> Profile:
    """How somebody practises once a proposal was accepted."""
    tuned = profile.tuned
    ends = (today + timedelta(days=EASY_DAYS)).isoformat()
    tuned = replace(
        tuned,
        longer={**tuned.longer, **change.longer},
        prop_cm={**tuned.prop_cm, **change.prop_cm},
        stepped={**tuned.stepped, **change.stepped},
        eased=tuple(sorted({*tuned.eased, *change.eased})),
        easy_until=ends if change.easy_week else tuned.easy_until,
    )
    minutes = profile.minutes if change.minutes is None else change.minutes
    return replace(profile, minutes=minutes, tuned=tuned)
