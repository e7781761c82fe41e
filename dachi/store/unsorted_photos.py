"""Photographs taken in for an assessment and not yet sorted onto its sheet."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from dachi.store.database import Database

_OWN = (
    "SELECT a.id FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
    " WHERE a.id = ? AND p.coach_id = ?"
)


@dataclass(frozen=True)
class UnsortedPhoto:
    """A photograph in the tray."""

    photo_id: int
    name: str
    taken_at: str | None


def add(db: Database, coach_id: int, assessment_id: int, photo_id: int, name: str) -> None:
    """Keep a photograph until it is sorted onto the sheet."""
    db.execute(
        "INSERT OR IGNORE INTO tray (assessment_id, photo_id, name, created_at)"
        f" SELECT id, ?, ?, ? FROM ({_OWN})",
        (photo_id, name[:200], db.now(), assessment_id, coach_id),
    )


def of_assessment(db: Database, coach_id: int, assessment_id: int) -> list[UnsortedPhoto]:
    """Return what waits in the tray, in the order it came in."""
    rows = db.execute(
        "SELECT t.photo_id, t.name, ph.taken_at FROM tray t JOIN photo ph ON ph.id = t.photo_id"
        f" WHERE t.assessment_id IN ({_OWN}) ORDER BY t.created_at, t.photo_id",
        (assessment_id, coach_id),
    )
    return [UnsortedPhoto(r["photo_id"], r["name"], r["taken_at"]) for r in rows]


def take(db: Database, coach_id: int, assessment_id: int, photo_ids: Iterable[int]) -> None:
    """Take photographs out of the tray."""
    db.executemany(
        f"DELETE FROM tray WHERE photo_id = ? AND assessment_id IN ({_OWN})",
        [(p, assessment_id, coach_id) for p in photo_ids],
    )
