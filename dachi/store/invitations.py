"""Links by which the owner lets a coach in: to join, or to choose a new password. Used once."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass

from dachi.store.database import Conflict, Database

#: A link that nobody used ends by itself after so long.
DAYS = 7


@dataclass(frozen=True)
class Invitation:
    """``for_coach`` chooses a new password by it; None: somebody joins. Times in UTC."""

    id: int
    name: str
    for_coach: int | None
    created_at: str
    expires_at: str


def make(db: Database, coach_id: int, name: str, for_coach: int | None = None) -> str:
    """Make a link of the owner's and return its token; Conflict where they own nothing."""
    token = secrets.token_urlsafe(18)
    if for_coach is not None:
        db.execute("DELETE FROM invitation WHERE for_coach = ?", (for_coach,))
    cursor = db.execute(
        "INSERT INTO invitation (token_sha256, coach_id, name, for_coach, created_at, expires_at)"
        " SELECT ?, id, ?, ?, ?, ? FROM coach WHERE id = ? AND owner = 1",
        (_hash(token), name, for_coach, db.now(), db.clock.stamp(-DAYS), coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("Only the owner of this copy lets coaches in.")
    return token


def open_ones(db: Database, coach_id: int) -> list[Invitation]:
    """Links of an owner that still work."""
    rows = db.execute(
        "SELECT i.* FROM invitation i JOIN coach c ON c.id = i.coach_id AND c.owner = 1"
        " WHERE i.coach_id = ? AND i.used_at IS NULL AND i.expires_at > ? ORDER BY i.id",
        (coach_id, db.now()),
    )
    return [_of(r) for r in rows]


def take_back(db: Database, coach_id: int, invitation_id: int) -> bool:
    """Take a link back; it opens nothing any more."""
    cursor = db.execute(
        "DELETE FROM invitation WHERE id = ? AND coach_id = ?", (invitation_id, coach_id)
    )
    return cursor.rowcount == 1


def behind(db: Database, token: str) -> Invitation | None:
    """What a link opens, None once it was used, taken back or left too long."""
    row = db.execute(
        "SELECT * FROM invitation WHERE token_sha256 = ? AND used_at IS NULL AND expires_at > ?",
        (_hash(token), db.now()),
    ).fetchone()
    return _of(row) if row else None


def use(db: Database, token: str) -> bool:
    """Use a link up; False where somebody was quicker."""
    cursor = db.execute(
        "UPDATE invitation SET used_at = ? WHERE token_sha256 = ? AND used_at IS NULL",
        (db.now(), _hash(token)),
    )
    return cursor.rowcount == 1


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


def _of(row: object) -> Invitation:
    names = ("id", "name", "for_coach", "created_at", "expires_at")
    return Invitation(*(row[n] for n in names))  # type: ignore[index]
