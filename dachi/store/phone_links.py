"""Links that let a phone photograph for one assessment until they expire."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from dachi.store.database import Conflict, Database
from dachi.store.rows import VISIT


def make(db: Database, coach_id: int, assessment_id: int, expires_at: str) -> str:
    """Start a link for a phone and return its nonce; earlier ones stay as they are.

    Conflict where the assessment is not theirs.
    """
    nonce = secrets.token_urlsafe(9)
    cursor = db.execute(
        "INSERT INTO phone_link (nonce, assessment_id, expires_at, created_at)"
        f" SELECT ?, id, ?, ? FROM {VISIT}",
        (nonce, expires_at, db.now(), assessment_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such assessment.")
    return nonce


def revoke(db: Database, coach_id: int, assessment_id: int) -> None:
    """Revoke every phone link of an assessment."""
    db.execute(
        "UPDATE phone_link SET revoked_at = ? WHERE revoked_at IS NULL"
        f" AND assessment_id IN {VISIT}",
        (db.now(), assessment_id, coach_id),
    )


@dataclass(frozen=True)
class PhoneLink:
    """What a phone's link opens, and until when (local time, ISO)."""

    assessment_id: int
    coach_id: int
    expires_at: str
    revoked_at: str | None


def behind(db: Database, nonce: str) -> PhoneLink | None:
    """Return the link of a nonce; it names no coach, it tells which one."""
    row = db.execute(
        "SELECT l.assessment_id, p.coach_id, l.expires_at, l.revoked_at FROM phone_link l"
        " JOIN assessment a ON a.id = l.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE l.nonce = ?",
        (nonce,),
    ).fetchone()
    return PhoneLink(*row) if row else None


def live(db: Database, coach_id: int, assessment_id: int, at: str) -> str | None:
    """Return the nonce of a phone link that works at a moment, if there is one."""
    row = db.execute(
        "SELECT nonce FROM phone_link WHERE revoked_at IS NULL AND expires_at > ?"
        f" AND assessment_id IN {VISIT} ORDER BY expires_at DESC LIMIT 1",
        (at, assessment_id, coach_id),
    ).fetchone()
    return row["nonce"] if row else None
