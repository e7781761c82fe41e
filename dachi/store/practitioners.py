"""Practitioners. Every query says whose."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from dachi.store.database import now


@dataclass(frozen=True)
class Practitioner:
    """A person measured; lengths in cm, None where nobody measured them."""

    id: int
    call_name: str
    birth_year: int | None
    height_cm: float | None
    thigh_cm: float | None
    shin_cm: float | None
    half_width_cm: float
    notes: str
    next_visit_at: str | None = None

    @property
    def segments_cm(self) -> dict[str, float]:
        """Known segment lengths, for judging how far a limb points out of the plane."""
        known = {"thigh": self.thigh_cm, "shin": self.shin_cm}
        return {k: v for k, v in known.items() if v is not None}


@dataclass(frozen=True)
class Listed:
    """A practitioner with the dates that a list shows."""

    practitioner: Practitioner
    assessments: int
    last_at: str | None
    unmarked: int


def _practitioner(row: sqlite3.Row) -> Practitioner:
    return Practitioner(
        row["id"],
        row["call_name"],
        row["birth_year"],
        row["height_cm"],
        row["thigh_cm"],
        row["shin_cm"],
        row["half_width_cm"],
        row["notes"],
        row["next_visit_at"],
    )


def plan_visit(db: sqlite3.Connection, coach_id: int, practitioner_id: int, at: str | None) -> bool:
    """Say when the practitioner comes next (local time, ISO), or that nothing is planned."""
    cursor = db.execute(
        "UPDATE practitioner SET next_visit_at = ? WHERE id = ? AND coach_id = ?",
        (at, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def add(
    db: sqlite3.Connection,
    coach_id: int,
    call_name: str,
    *,
    birth_year: int | None = None,
    height_cm: float | None = None,
    thigh_cm: float | None = None,
    shin_cm: float | None = None,
    half_width_cm: float = 16.0,
    notes: str = "",
) -> int:
    """Add a practitioner and return the id."""
    cursor = db.execute(
        "INSERT INTO practitioner (coach_id, call_name, birth_year, height_cm, thigh_cm,"
        " shin_cm, half_width_cm, notes, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            coach_id,
            call_name,
            birth_year,
            height_cm,
            thigh_cm,
            shin_cm,
            half_width_cm,
            notes,
            now(),
        ),
    )
    return int(cursor.lastrowid or 0)


def update(
    db: sqlite3.Connection,
    coach_id: int,
    practitioner_id: int,
    *,
    call_name: str,
    birth_year: int | None,
    height_cm: float | None,
    thigh_cm: float | None,
    shin_cm: float | None,
    half_width_cm: float,
    notes: str,
) -> bool:
    """Change a practitioner's record; False where the coach has no such practitioner."""
    cursor = db.execute(
        "UPDATE practitioner SET call_name = ?, birth_year = ?, height_cm = ?, thigh_cm = ?,"
        " shin_cm = ?, half_width_cm = ?, notes = ? WHERE id = ? AND coach_id = ?",
        (
            call_name,
            birth_year,
            height_cm,
            thigh_cm,
            shin_cm,
            half_width_cm,
            notes,
            practitioner_id,
            coach_id,
        ),
    )
    return cursor.rowcount == 1


def get(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> Practitioner | None:
    """Return one of the coach's practitioners."""
    row = db.execute(
        "SELECT * FROM practitioner WHERE id = ? AND coach_id = ?", (practitioner_id, coach_id)
    ).fetchone()
    return _practitioner(row) if row else None


def listing(db: sqlite3.Connection, coach_id: int) -> list[Listed]:
    """Return the coach's practitioners with what is unfinished, last seen first."""
    rows = db.execute(
        "SELECT p.*,"
        " (SELECT count(*) FROM assessment a WHERE a.practitioner_id = p.id) AS assessments,"
        " (SELECT max(a.taken_at) FROM assessment a WHERE a.practitioner_id = p.id) AS last_at,"
        " (SELECT count(*) FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        "  WHERE a.practitioner_id = p.id AND t.deleted_at IS NULL AND t.marked = 0) AS unmarked"
        " FROM practitioner p WHERE p.coach_id = ? ORDER BY last_at DESC NULLS LAST, p.call_name",
        (coach_id,),
    )
    return [Listed(_practitioner(r), r["assessments"], r["last_at"], r["unmarked"]) for r in rows]
