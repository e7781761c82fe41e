"""Goals and what happened beside the measuring. Every query says whose."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON, belongs, made

KINDS = ("injury", "holiday", "plan", "note")


@dataclass(frozen=True)
class Goal:
    """A value of one measure to reach, on one side, by a date (ISO, or None)."""

    id: int
    practitioner_id: int
    pose: str
    family: str
    side: str
    mode: str
    target: float
    due_on: str | None


@dataclass(frozen=True)
class Annotation:
    """Something that happened on a day; ``kind`` is one of ``KINDS``."""

    id: int
    on_date: str
    kind: str
    text: str


def add(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    pose: str,
    family: str,
    side: str,
    mode: str,
    target: float,
    due_on: str | None,
    took_over: str | None = None,
) -> int:
    """Set a goal; an open one for the same measure, side and mode is closed.

    ``took_over`` is a family whose goals the measure has taken over.
    """
    if not belongs(db, PERSON, practitioner_id, coach_id):
        raise Conflict("There is no such practitioner.")
    db.execute(
        "UPDATE goal SET closed_at = ? WHERE practitioner_id = ? AND pose = ?"
        " AND family IN (?, ?) AND side = ? AND mode = ? AND closed_at IS NULL",
        (db.now(), practitioner_id, pose, family, took_over or family, side, mode),
    )
    cursor = db.execute(
        "INSERT INTO goal (practitioner_id, pose, family, side, mode, target, due_on, created_at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (practitioner_id, pose, family, side, mode, target, due_on, db.now()),
    )
    return int(cursor.lastrowid or 0)


def of_practitioner(db: Database, coach_id: int, practitioner_id: int) -> list[Goal]:
    """Return open goals, oldest first."""
    rows = db.execute(
        "SELECT g.* FROM goal g JOIN practitioner p ON p.id = g.practitioner_id"
        " WHERE p.coach_id = ? AND p.id = ? AND g.closed_at IS NULL ORDER BY g.id",
        (coach_id, practitioner_id),
    )
    return [made(Goal, r) for r in rows]


def close(db: Database, coach_id: int, goal_id: int) -> int | None:
    """Close a goal; return its practitioner, None where there is no such open goal."""
    row = db.execute(
        "SELECT g.practitioner_id FROM goal g JOIN practitioner p ON p.id = g.practitioner_id"
        " WHERE p.coach_id = ? AND g.id = ? AND g.closed_at IS NULL",
        (coach_id, goal_id),
    ).fetchone()
    if row is None:
        return None
    db.execute("UPDATE goal SET closed_at = ? WHERE id = ?", (db.now(), goal_id))
    return int(row["practitioner_id"])


def annotate(
    db: Database, coach_id: int, practitioner_id: int, on_date: str, kind: str, text: str
) -> int:
    """Note something that happened on a day."""
    if not belongs(db, PERSON, practitioner_id, coach_id):
        raise Conflict("There is no such practitioner.")
    cursor = db.execute(
        "INSERT INTO annotation (practitioner_id, on_date, kind, text, created_at)"
        " VALUES (?, ?, ?, ?, ?)",
        (practitioner_id, on_date, kind, text, db.now()),
    )
    return int(cursor.lastrowid or 0)


def notes_of(db: Database, coach_id: int, practitioner_id: int) -> list[Annotation]:
    """Return what was noted, oldest first."""
    rows = db.execute(
        "SELECT n.* FROM annotation n JOIN practitioner p ON p.id = n.practitioner_id"
        " WHERE p.coach_id = ? AND p.id = ? ORDER BY n.on_date, n.id",
        (coach_id, practitioner_id),
    )
    return [made(Annotation, r) for r in rows]


def remove_annotation(db: Database, coach_id: int, annotation_id: int) -> int | None:
    """Remove a note; return its practitioner, None where there is none."""
    row = db.execute(
        "SELECT n.practitioner_id FROM annotation n JOIN practitioner p"
        " ON p.id = n.practitioner_id WHERE p.coach_id = ? AND n.id = ?",
        (coach_id, annotation_id),
    ).fetchone()
    if row is None:
        return None
    db.execute("DELETE FROM annotation WHERE id = ?", (annotation_id,))
    return int(row["practitioner_id"])
