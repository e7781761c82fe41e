"""What happened that a coach may want to know: sign-ins, links used, data given out, erasures."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.core.words import HAPPENED, Happened
from dachi.store.database import Database
from dachi.store.rows import made

#: More than these are not kept of a coach.
MOST = 2000


@dataclass(frozen=True, kw_only=True)
class Happening:
    """``at`` in UTC; ``about`` is the call name of the person it concerns, where it does."""

    at: str
    kind: Happened
    detail: str
    about: str | None

    @property
    def what(self) -> str:
        """What happened, in words."""
        return HAPPENED[self.kind].format(self.detail)


def note(
    db: Database,
    coach_id: int,
    kind: Happened,
    practitioner_id: int | None = None,
    detail: object = "",
) -> None:
    """Keep that something happened; ``detail`` is the one thing that its words have a place for."""
    cursor = db.execute(
        "INSERT INTO happening (coach_id, practitioner_id, at, kind, detail)"
        " SELECT id, ?, ?, ?, ? FROM coach WHERE id = ? AND (? IS NULL OR EXISTS"
        "  (SELECT 1 FROM practitioner p WHERE p.id = ? AND p.coach_id = coach.id))",
        (practitioner_id, db.now(), kind, str(detail), coach_id, practitioner_id, practitioner_id),
    )
    if cursor.rowcount == 1:
        db.execute(
            "DELETE FROM happening WHERE coach_id = ? AND id <= (SELECT id FROM happening"
            " WHERE coach_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?)",
            (coach_id, coach_id, MOST),
        )


def lately(db: Database, coach_id: int, kind: Happened, practitioner_id: int, since: str) -> bool:
    """Whether the same was noted since a moment (UTC): a page opened again is no news."""
    row = db.execute(
        "SELECT 1 FROM happening WHERE coach_id = ? AND kind = ? AND practitioner_id = ?"
        " AND at > ?",
        (coach_id, kind, practitioner_id, since),
    ).fetchone()
    return row is not None


def of_coach(db: Database, coach_id: int, most: int = 100) -> list[Happening]:
    """The newest things that happened."""
    rows = db.execute(
        "SELECT h.*, p.call_name AS about FROM happening h LEFT JOIN practitioner p"
        " ON p.id = h.practitioner_id WHERE h.coach_id = ? ORDER BY h.id DESC LIMIT ?",
        (coach_id, most),
    )
    return [made(Happening, r, kind=Happened(r["kind"])) for r in rows]
