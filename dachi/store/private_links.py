"""Private links to practitioners' own pages: whoever has one sees it, until it is taken back or
nobody has opened it for half a year.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON

_WORKS = "l.revoked_at IS NULL AND coalesce(l.used_at, l.created_at) > ?"


#: A link that nobody opens ends after so long.
DAYS_UNUSED = 180


@dataclass(frozen=True)
class Link:
    """A link that works: when it was made and last opened (UTC), and when it ends unless opened."""

    nonce: str
    made_at: str
    used_at: str | None

    @property
    def ends_on(self) -> str:
        """The day it ends by itself, ISO."""
        last = datetime.fromisoformat(self.used_at or self.made_at)
        return (last + timedelta(days=DAYS_UNUSED)).date().isoformat()


def make(db: Database, coach_id: int, practitioner_id: int) -> str:
    """Make the private link anew; the one before stops working. Conflict where not theirs."""
    revoke(db, coach_id, practitioner_id)
    nonce = secrets.token_urlsafe(18)
    cursor = db.execute(
        "INSERT INTO private_link (nonce, practitioner_id, created_at)"
        f" SELECT ?, id, ? FROM {PERSON}",
        (nonce, db.now(), practitioner_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")
    return nonce


def revoke(db: Database, coach_id: int, practitioner_id: int) -> None:
    """Take the private link back."""
    db.execute(
        "UPDATE private_link SET revoked_at = ? WHERE revoked_at IS NULL"
        f" AND practitioner_id IN {PERSON}",
        (db.now(), practitioner_id, coach_id),
    )


def live(db: Database, coach_id: int, practitioner_id: int) -> Link | None:
    """Return the link that works, if there is one."""
    row = db.execute(
        f"SELECT l.* FROM private_link l WHERE {_WORKS} AND practitioner_id IN {PERSON}",
        (db.clock.stamp(DAYS_UNUSED), practitioner_id, coach_id),
    ).fetchone()
    return Link(row["nonce"], row["created_at"], row["used_at"]) if row else None


def used(db: Database, nonce: str) -> None:
    """Keep that a link was opened now."""
    db.execute("UPDATE private_link SET used_at = ? WHERE nonce = ?", (db.now(), nonce))


def behind(db: Database, nonce: str) -> tuple[int, int] | None:
    """Return (coach_id, practitioner_id) of a link that works."""
    row = db.execute(
        "SELECT p.coach_id, p.id FROM private_link l"
        " JOIN practitioner p ON p.id = l.practitioner_id"
        f" WHERE {_WORKS} AND l.nonce = ?",
        (db.clock.stamp(DAYS_UNUSED), nonce),
    ).fetchone()
    return (row["coach_id"], row["id"]) if row else None
