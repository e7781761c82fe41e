"""Private links to practitioners' own pages: whoever has one sees it, until it is taken back."""

from __future__ import annotations

import secrets

from dachi.store.database import Conflict, Database

_OWN = "SELECT id FROM practitioner WHERE id = ? AND coach_id = ?"


def make(db: Database, coach_id: int, practitioner_id: int) -> str:
    """Make the private link anew; the one before stops working. Conflict where not theirs."""
    revoke(db, coach_id, practitioner_id)
    nonce = secrets.token_urlsafe(18)
    cursor = db.execute(
        "INSERT INTO private_link (nonce, practitioner_id, created_at)"
        f" SELECT ?, id, ? FROM ({_OWN})",
        (nonce, db.now(), practitioner_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")
    return nonce


def revoke(db: Database, coach_id: int, practitioner_id: int) -> None:
    """Take the private link back."""
    db.execute(
        "UPDATE private_link SET revoked_at = ? WHERE revoked_at IS NULL"
        f" AND practitioner_id IN ({_OWN})",
        (db.now(), practitioner_id, coach_id),
    )


def live(db: Database, coach_id: int, practitioner_id: int) -> str | None:
    """Return the nonce of the link that works, if there is one."""
    row = db.execute(
        f"SELECT nonce FROM private_link WHERE revoked_at IS NULL AND practitioner_id IN ({_OWN})",
        (practitioner_id, coach_id),
    ).fetchone()
    return row["nonce"] if row else None


def behind(db: Database, nonce: str) -> tuple[int, int] | None:
    """Return (coach_id, practitioner_id) of a link that works."""
    row = db.execute(
        "SELECT p.coach_id, p.id FROM private_link l"
        " JOIN practitioner p ON p.id = l.practitioner_id"
        " WHERE l.nonce = ? AND l.revoked_at IS NULL",
        (nonce,),
    ).fetchone()
    return (row["coach_id"], row["id"]) if row else None
