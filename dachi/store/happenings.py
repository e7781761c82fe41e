"""What happened that a coach may want to know: sign-ins, links used, data given out, erasures."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.store.database import Database

#: More than these are not kept of a coach.
MOST = 2000


@dataclass(frozen=True)
class Happening:
    """``at`` in UTC; ``about`` is the call name of the person it concerns, where it does."""

    at: str
    what: str
    about: str | None


def note(db: Database, coach_id: int, what: str, practitioner_id: int | None = None) -> None:
    """Keep that something happened."""
    db.execute(
        "INSERT INTO happening (coach_id, practitioner_id, at, what) SELECT id, ?, ?, ? FROM coach"
        " WHERE id = ? AND (? IS NULL OR EXISTS"
        "  (SELECT 1 FROM practitioner p WHERE p.id = ? AND p.coach_id = coach.id))",
        (practitioner_id, db.now(), what, coach_id, practitioner_id, practitioner_id),
    )
    db.execute(
        "DELETE FROM happening WHERE coach_id = ? AND id NOT IN"
        " (SELECT id FROM happening WHERE coach_id = ? ORDER BY id DESC LIMIT ?)",
        (coach_id, coach_id, MOST),
    )


def lately(db: Database, coach_id: int, what: str, practitioner_id: int, since: str) -> bool:
    """Whether the same was noted since a moment (UTC): a page opened again is no news."""
    row = db.execute(
        "SELECT 1 FROM happening WHERE coach_id = ? AND what = ? AND practitioner_id = ?"
        " AND at > ?",
        (coach_id, what, practitioner_id, since),
    ).fetchone()
    return row is not None


def of_coach(db: Database, coach_id: int, most: int = 100) -> list[Happening]:
    """The newest things that happened."""
    rows = db.execute(
        "SELECT h.at, h.what, p.call_name FROM happening h LEFT JOIN practitioner p"
        " ON p.id = h.practitioner_id WHERE h.coach_id = ? ORDER BY h.id DESC LIMIT ?",
        (coach_id, most),
    )
    return [Happening(r["at"], r["what"], r["call_name"]) for r in rows]
