"""Sessions of coaches: each has a row, and ends with it."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass

from dachi.store.database import Database

#: A session that nobody ended is forgotten after so long; its cookie ends much sooner.
DAYS = 30


@dataclass(frozen=True)
class Session:
    """Where somebody signed in, and when (UTC)."""

    id: int
    made_at: str
    agent: str


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def begin(db: Database, coach_id: int, agent: str) -> str:
    """Begin a session and return its token, which is kept nowhere else."""
    token = secrets.token_urlsafe(24)
    db.execute(
        "DELETE FROM coach_session WHERE coach_id = ? AND made_at < ?",
        (coach_id, db.clock.stamp(DAYS)),
    )
    db.execute(
        "INSERT INTO coach_session (coach_id, token_sha256, made_at, agent) VALUES (?, ?, ?, ?)",
        (coach_id, _digest(token), db.now(), agent[:200]),
    )
    return token


def number_of(db: Database, coach_id: int, token: str) -> int | None:
    """The session a token belongs to; None where it was ended."""
    row = db.execute(
        "SELECT id FROM coach_session WHERE coach_id = ? AND token_sha256 = ?",
        (coach_id, _digest(token)),
    ).fetchone()
    return int(row["id"]) if row else None


def of_coach(db: Database, coach_id: int) -> list[Session]:
    """Sessions that have not been ended, newest first."""
    rows = db.execute(
        "SELECT id, made_at, agent FROM coach_session WHERE coach_id = ? ORDER BY id DESC",
        (coach_id,),
    )
    return [Session(r["id"], r["made_at"], r["agent"]) for r in rows]


def end(db: Database, coach_id: int, session_id: int) -> bool:
    """End one session; False where it is not the coach's."""
    gone = db.execute(
        "DELETE FROM coach_session WHERE id = ? AND coach_id = ?", (session_id, coach_id)
    )
    return gone.rowcount == 1


def end_all(db: Database, coach_id: int, but: int | None = None) -> int:
    """End every session of a coach, but for one; how many ended."""
    gone = db.execute(
        "DELETE FROM coach_session WHERE coach_id = ? AND id IS NOT ?", (coach_id, but)
    )
    return int(gone.rowcount)
