"""The run sheet of an assessment: its rows, and which side went first."""

from __future__ import annotations

from collections.abc import Sequence

from dachi.core.assessing.runsheet import SheetLine
from dachi.store.database import Conflict, Database
from dachi.store.rows import VISIT, belongs


def lines(db: Database, coach_id: int, assessment_id: int) -> tuple[SheetLine, ...]:
    """Return the rows of the run sheet in order."""
    rows = db.execute(
        f"SELECT * FROM sheet_line WHERE assessment_id IN {VISIT} ORDER BY place",
        (assessment_id, coach_id),
    )
    return tuple(SheetLine(r["pose"], r["side"], r["mode"], r["trials"]) for r in rows)


def save(db: Database, coach_id: int, assessment_id: int, found: Sequence[SheetLine]) -> None:
    """Replace the run sheet."""
    if not belongs(db, VISIT, assessment_id, coach_id):
        raise Conflict("There is no such assessment.")
    db.execute("DELETE FROM sheet_line WHERE assessment_id = ?", (assessment_id,))
    db.executemany(
        "INSERT INTO sheet_line (assessment_id, place, pose, side, mode, trials)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        [(assessment_id, i, x.pose, x.side, x.mode, x.trials) for i, x in enumerate(found)],
    )


def first_sides(db: Database, coach_id: int, practitioner_id: int) -> list[str]:
    """Return the side that went first at each visit, newest first.

    Visits without a sheet tell it by their first photograph.
    """
    rows = db.execute(
        "SELECT coalesce((SELECT l.side FROM sheet_line l WHERE l.assessment_id = a.id"
        "  AND l.side <> 'both' ORDER BY l.place LIMIT 1),"
        " (SELECT t.side FROM trial t WHERE t.assessment_id = a.id AND t.side <> 'both'"
        "  AND t.deleted_at IS NULL ORDER BY t.id LIMIT 1)) AS side"
        " FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE p.id = ? AND p.coach_id = ? ORDER BY a.taken_at DESC, a.id DESC",
        (practitioner_id, coach_id),
    )
    return [r["side"] for r in rows if r["side"]]
