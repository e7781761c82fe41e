"""What is said of a person's record, and what is taken out of it or given away."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from contextlib import closing
from datetime import date, timedelta
from typing import Any

from dachi.core.assessing import permission
from dachi.core.catalogue.drills import DIRECTIONS
from dachi.core.words import Happened
from dachi.store import happenings, practitioners, preparation, private_links
from dachi.store.database import Busy, DiskTrouble, connect
from dachi.store.practitioners import Practitioner
from dachi.studio.acting import acting
from dachi.studio.record.asking import Told
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: How long a consent holds before it is asked for again: words and days (0: until withdrawn).
LASTS = {"": ("until it is withdrawn", 0), "1": ("one year", 365), "2": ("two years", 730)}


def add_person(work: Work, fields: Mapping[str, Any]) -> int:
    """A new person; the id."""
    with acting(work):
        return practitioners.add(work.db, work.coach, **fields)


def change_person(work: Work, pid: int, fields: Mapping[str, Any]) -> None:
    """Change fields of a record; what was read with them is read again. Raises SceneError."""
    with acting(work, pid):
        practitioners.update(work.db, work.coach, pid, **fields)


def plan_visit(work: Work, pid: int, at: str | None) -> None:
    """When a person comes next (local time, ISO), or that nothing is planned."""
    with acting(work, pid):
        practitioners.plan_visit(work.db, work.coach, pid, at)


def withdraw_consent(work: Work, pid: int, on: date) -> None:
    """Photographs may not be taken or shown any more; links to their own page go on."""
    with acting(work, pid):
        preparation.withdraw_consent(work.db, work.coach, pid, on.isoformat())
        happenings.note(work.db, work.coach, Happened.CONSENT_WITHDRAWN, pid)


def give_consent(work: Work, who: Practitioner, on: date, form: Mapping[str, str]) -> None:
    """Record what photographs may be used for, as a form says it. Raises Refused."""
    scope, lasts = form.get("scope", ""), form.get("lasts", "")
    guardian = form.get("guardian", "").strip()[:120]
    if scope not in permission.SCOPES:
        raise Refused("Say what the photographs may be used for.")
    if permission.may_be_minor(who.birth_year, work.today().year) and not guardian:
        raise Refused("They may be under age: name the guardian who consents.")
    if lasts not in LASTS:
        raise Refused("Say how long the consent holds.")
    days = LASTS[lasts][1]
    with acting(work, who.id):
        preparation.give_consent(
            work.db, work.coach, who.id, given_on=on.isoformat(), scope=scope, guardian=guardian,
            faces=form.get("faces") == "1",
            until=(on + timedelta(days=days)).isoformat() if days else None,
        )  # fmt: skip
        words = permission.SCOPES[scope]
        happenings.note(work.db, work.coach, Happened.CONSENT, who.id, words)


def answer_screening(work: Work, pid: int, told: Told) -> None:
    """Record the answers to the screening questions of today."""
    with acting(work, pid):
        preparation.answer_screening(
            work.db, work.coach, pid, answered_on=work.today().isoformat(), yes=told.yes,
            details=told.details, flags=told.flags,
        )  # fmt: skip


def clear(
    work: Work,
    pid: int,
    by: str,
    on: date,
    allowed: Sequence[str] = (),
    questions: Sequence[str] | None = None,
    until: date | None = None,
) -> None:
    """Record that a doctor or physiotherapist cleared conditions (None: all that were told).

    Raises Refused.
    """
    if not by:
        raise Refused("Say who gave clearance.")
    if until is not None and until < on:
        raise Refused("A clearance cannot end before it was given.")
    with acting(work, pid):
        done = preparation.clear(
            work.db, work.coach, pid, by=by, on=on.isoformat(), questions=questions,
            allowed=[d for d in allowed if d in DIRECTIONS],
            until=until.isoformat() if until else "",
        )  # fmt: skip
        if not done:
            raise Refused("Ask the screening questions first.")


def note(work: Work, kind: Happened, pid: int | None = None, detail: object = "") -> None:
    """Keep that something happened."""
    with acting(work):
        happenings.note(work.db, work.coach, kind, pid, detail)


def note_apart(work: Work, kind: Happened, pid: int | None = None) -> None:
    """Keep that something was looked at or given out, on a connection of its own.

    Whoever only reads need not write for it.
    """
    db = connect(work.folder, work.db.clock)
    try:
        note(Work(db, work.folder, work.coach), kind, pid)
    finally:
        db.close()


def note_link(work: Work, kind: Happened, pid: int, nonce: str) -> None:
    """Keep that a private link was used, once in an hour, on a connection of its own.

    Where nothing can be written the page opens all the same.
    """
    since = work.db.clock.stamp(1 / 24)
    if happenings.lately(work.db, work.coach, kind, pid, since):
        return
    with (
        contextlib.suppress(DiskTrouble, Busy),
        closing(connect(work.folder, work.db.clock)) as db,
        db.savepoint(),
    ):
        happenings.note(db, work.coach, kind, pid)
        private_links.used(db, nonce)
