"""Signing an assessment off, opening it again, and two devices on one."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON, VISIT


@dataclass(frozen=True)
class Signing:
    """A signing off or a reopening, UTC."""

    kind: str
    reason: str
    at: str


def claim(db: Database, coach_id: int, assessment_id: int, seen: int) -> None:
    """Take the next revision; Conflict where another device has saved since ``seen``."""
    cursor = db.execute(
        f"UPDATE assessment SET revision = revision + 1 WHERE revision = ? AND id IN {VISIT}",
        (seen, assessment_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict(
            "Another device has changed this assessment since this page was opened. Its change is "
            "shown now; make yours again if it is still wanted"
        )


def sign_off(db: Database, coach_id: int, assessment_id: int, agreed: str = "") -> bool:
    """Close an assessment with what was agreed; False where it is closed already."""
    return _event(db, coach_id, assessment_id, "signed off", agreed, db.now(), "IS NULL")


def reopen(db: Database, coach_id: int, assessment_id: int, reason: str) -> bool:
    """Open a closed assessment again; the reason is kept."""
    return _event(db, coach_id, assessment_id, "reopened", reason, None, "IS NOT NULL")


def _event(
    db: Database,
    coach_id: int,
    assessment_id: int,
    kind: str,
    reason: str,
    signed: str | None,
    only: str,
) -> bool:
    cursor = db.execute(
        f"UPDATE assessment SET signed_off_at = ? WHERE signed_off_at {only} AND id IN {VISIT}",
        (signed, assessment_id, coach_id),
    )
    if cursor.rowcount != 1:
        return False
    db.execute(
        "INSERT INTO assessment_event (assessment_id, kind, reason, at) VALUES (?, ?, ?, ?)",
        (assessment_id, kind, reason, db.now()),
    )
    return True


def history(db: Database, coach_id: int, assessment_id: int) -> list[Signing]:
    """Return signings and reopenings, oldest first."""
    rows = db.execute(
        f"SELECT * FROM assessment_event WHERE assessment_id IN {VISIT} ORDER BY id",
        (assessment_id, coach_id),
    )
    return [Signing(r["kind"], r["reason"], r["at"]) for r in rows]


def agreed_last(db: Database, coach_id: int, practitioner_id: int) -> str:
    """Return what was agreed when a visit of a person was signed off last; empty where nothing."""
    row = db.execute(
        "SELECT e.reason FROM assessment_event e JOIN assessment a ON a.id = e.assessment_id"
        f" WHERE a.practitioner_id IN {PERSON} AND e.kind = 'signed off' AND e.reason <> ''"
        " ORDER BY a.taken_at DESC, e.id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    return str(row["reason"]) if row else ""
