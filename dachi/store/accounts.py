"""Coach accounts."""

from __future__ import annotations

import secrets
import sqlite3
from dataclasses import dataclass

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from dachi.store.database import Conflict, Database
from dachi.store.rows import made

_HASHER = PasswordHasher()
#: Verified against when nobody has that address, so that both answers take as long.
_NOBODY = _HASHER.hash(secrets.token_hex(16))

MIN_PASSWORD = 10


@dataclass(frozen=True, kw_only=True)
class Coach:
    """A signed-in user."""

    id: int
    email: str
    name: str
    sticker_colour: str | None = None
    usual_marked: str = "eye"
    owner: bool = False
    closed_at: str | None = None
    put_away_days: int = 30
    mat_length_cm: float | None = None
    mat_width_cm: float | None = None


def _coach(row: sqlite3.Row) -> Coach:
    return made(Coach, row, owner=bool(row["owner"]))


def any_coach(db: Database) -> bool:
    """Whether an account exists."""
    return db.execute("SELECT 1 FROM coach LIMIT 1").fetchone() is not None


def add(db: Database, email: str, name: str, password: str) -> Coach:
    """Create an account, the first one the owner's; Conflict where the address is taken."""
    try:
        cursor = db.execute(
            "INSERT INTO coach (email, name, password_hash, session_stamp, created_at, owner)"
            " VALUES (?, ?, ?, ?, ?, NOT EXISTS (SELECT 1 FROM coach))",
            (email.strip(), name.strip(), _HASHER.hash(password), secrets.token_hex(8), db.now()),
        )
    except sqlite3.IntegrityError as error:
        raise Conflict("There is already an account with this address.") from error
    found = by_id(db, int(cursor.lastrowid or 0))
    assert found is not None
    return found


def by_id(db: Database, coach_id: int) -> Coach | None:
    """Return a coach by id."""
    row = db.execute("SELECT * FROM coach WHERE id = ?", (coach_id,)).fetchone()
    return _coach(row) if row else None


def keep_usual_marked(db: Database, coach_id: int, marked: str) -> None:
    """Remember how this studio sets its marks."""
    db.execute("UPDATE coach SET usual_marked = ? WHERE id = ?", (marked, coach_id))


def keep_mat(db: Database, coach_id: int, length_cm: float, width_cm: float) -> None:
    """Remember how large the studio's mat is."""
    db.execute(
        "UPDATE coach SET mat_length_cm = ?, mat_width_cm = ? WHERE id = ?",
        (length_cm, width_cm, coach_id),
    )


def keep_put_away_days(db: Database, coach_id: int, days: int) -> None:
    """Remember for how long deleted photographs are kept."""
    db.execute("UPDATE coach SET put_away_days = ? WHERE id = ?", (days, coach_id))


def keep_sticker_colour(db: Database, coach_id: int, colour: str) -> None:
    """Remember the colour of the studio's stickers."""
    db.execute("UPDATE coach SET sticker_colour = ? WHERE id = ?", (colour, coach_id))


def everybody(db: Database) -> list[Coach]:
    """Return every coach, the owner first."""
    return [_coach(r) for r in db.execute("SELECT * FROM coach ORDER BY owner DESC, id")]


def close(db: Database, coach_id: int, *, closed: bool) -> bool:
    """Close a coach's account, or open it again; the owner's stays open."""
    cursor = db.execute(
        "UPDATE coach SET closed_at = ? WHERE id = ? AND owner = 0",
        (db.now() if closed else None, coach_id),
    )
    return cursor.rowcount == 1


def by_email(db: Database, email: str) -> Coach | None:
    """Return the coach of an address."""
    row = db.execute("SELECT * FROM coach WHERE email = ?", (email.strip(),)).fetchone()
    return _coach(row) if row else None


def set_password(db: Database, coach_id: int, password: str) -> None:
    """Replace a password; who ends the sessions begun with the old one is the caller."""
    db.execute(
        "UPDATE coach SET password_hash = ?, session_stamp = ? WHERE id = ?",
        (_HASHER.hash(password), secrets.token_hex(8), coach_id),
    )


def check_password(db: Database, email: str, password: str) -> tuple[Coach | None, bool]:
    """Return the coach if address and password fit and the account is open, and whether the
    password was kept less strongly than it would be now.
    """
    row = db.execute("SELECT * FROM coach WHERE email = ?", (email.strip(),)).fetchone()
    kept = row["password_hash"] if row is not None else _NOBODY
    try:
        _HASHER.verify(kept, password)
    except (VerificationError, InvalidHashError):
        return None, False
    if row is None or row["closed_at"] is not None:
        return None, False
    return _coach(row), _HASHER.check_needs_rehash(kept)
