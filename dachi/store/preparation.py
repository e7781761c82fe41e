"""Consent and screening of practitioners. Every query says whose; nothing is overwritten."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date

import msgspec

from dachi.core.assessing.permission import Consent, Screening
from dachi.core.catalogue.cautions import Answer
from dachi.store.database import Database
from dachi.store.rows import PERSON, made


def give_consent(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    given_on: str,
    scope: str,
    guardian: str = "",
    faces: bool = False,
    until: str | None = None,
) -> None:
    """Record a consent; the newest one counts, unless one was withdrawn later than it was given."""
    db.execute(
        f"INSERT INTO consent (practitioner_id, given_on, scope, guardian, faces, until,"
        f" created_at) SELECT id, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        (given_on, scope, guardian, int(faces), until, db.now(), practitioner_id, coach_id),
    )


def withdraw_consent(db: Database, coach_id: int, practitioner_id: int, on: str) -> bool:
    """Take every open consent back."""
    cursor = db.execute(
        f"UPDATE consent SET withdrawn_on = ? WHERE withdrawn_on IS NULL"
        f" AND practitioner_id IN {PERSON}",
        (on, practitioner_id, coach_id),
    )
    return cursor.rowcount > 0


def consent(db: Database, coach_id: int, practitioner_id: int) -> Consent | None:
    """Return the consent that stands: the newest, withdrawn where any was after it was given."""
    row = db.execute(
        f"SELECT * FROM consent_now WHERE practitioner_id IN {PERSON}",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    return made(Consent, row, faces=bool(row["faces"]))


def answer_screening(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    answered_on: str,
    yes: Sequence[str],
    details: Mapping[str, Answer] | None = None,
    flags: Sequence[str] = (),
) -> None:
    """Record answers and what was told of each; the clearance of a condition is carried over as
    long as its answer stays the same.
    """
    before = screening(db, coach_id, practitioner_id)
    known = before.told() if before is not None else {}
    told = {q: _carried(known.get(q), (details or {}).get(q)) for q in sorted(yes)}
    db.execute(
        "INSERT INTO screening (practitioner_id, answered_on, yes, details, flags, created_at)"
        f" SELECT id, ?, ?, ?, ?, ? FROM {PERSON}",
        (
            answered_on,
            json.dumps(sorted(yes)),
            msgspec.json.encode(told).decode(),
            json.dumps(sorted(flags)),
            db.now(),
            practitioner_id,
            coach_id,
        ),
    )


def _carried(before: Answer | None, now: Answer | None) -> Answer:
    """An answer with the clearance of the one before, where both are of the same thing."""
    if now is None:
        return before or Answer()
    same = before is not None and replace(
        before, cleared=False, allowed=(), by="", on="", until="", weeks=None, since=""
    ) == replace(now, cleared=False, allowed=(), by="", on="", until="", weeks=None, since="")
    if before is None or not same:
        return now
    return replace(
        now, cleared=before.cleared, allowed=before.allowed, by=before.by, on=before.on,
        until=before.until,
    )  # fmt: skip


def clear(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    by: str,
    on: str,
    questions: Sequence[str] | None = None,
    allowed: Sequence[str] = (),
    until: str = "",
) -> bool:
    """Record clearance of some conditions of the newest answers (None: of all), until its last day
    where one is said, and the directions that were cleared.
    """
    found = screening(db, coach_id, practitioner_id)
    if found is None:
        return False
    told = found.told()
    for q in found.yes if questions is None else questions:
        if q in told:
            told[q] = replace(
                told[q], cleared=True, by=by, on=on, until=until, allowed=tuple(allowed)
            )
    cursor = db.execute(
        "UPDATE screening SET details = ? WHERE id ="
        f" (SELECT max(id) FROM screening WHERE practitioner_id IN {PERSON})",
        (msgspec.json.encode(told).decode(), practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def lower_flags(db: Database, coach_id: int, practitioner_id: int) -> bool:
    """Take the signs that stop every plan back: a clinician has seen them."""
    cursor = db.execute(
        "UPDATE screening SET flags = '[]' WHERE id ="
        f" (SELECT max(id) FROM screening WHERE practitioner_id IN {PERSON})",
        (practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def answers(db: Database, coach_id: int, practitioner_id: int) -> dict[str, Answer]:
    """Return the questions answered yes, each with what was told; cleared or not today."""
    return answers_of(screening(db, coach_id, practitioner_id), db.clock.today())


def answers_of(found: Screening | None, today: date) -> dict[str, Answer]:
    """The same of answers that were read already."""
    if found is None:
        return {}
    weeks = max(0.0, (today - date.fromisoformat(found.answered_on[:10])).days / 7)
    return found.answers(today.isoformat(), weeks)


def screening(db: Database, coach_id: int, practitioner_id: int) -> Screening | None:
    """Return the newest answers."""
    row = db.execute(
        f"SELECT * FROM screening WHERE practitioner_id IN {PERSON} ORDER BY id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    return _read(row) if row is not None else None


def of_everybody(db: Database, coach_id: int) -> dict[int, Screening]:
    """Return the newest answers of each of a coach's people, by id."""
    rows = db.execute(
        "SELECT s.* FROM screening s JOIN practitioner p ON p.id = s.practitioner_id"
        " WHERE p.coach_id = ? AND s.id ="
        " (SELECT max(id) FROM screening WHERE practitioner_id = s.practitioner_id)",
        (coach_id,),
    )
    return {r["practitioner_id"]: _read(r) for r in rows}


def _read(row: sqlite3.Row) -> Screening:
    return made(
        Screening, row, yes=tuple(json.loads(row["yes"])),
        allowed=tuple(json.loads(row["allowed"])), flags=tuple(json.loads(row["flags"])),
        details=msgspec.json.decode(row["details"], type=dict[str, Answer]),
    )  # fmt: skip
