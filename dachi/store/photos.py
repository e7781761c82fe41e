"""Photographs as rows; the pictures themselves lie in the data folder by hash."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dachi.store.database import now


@dataclass(frozen=True)
class Photo:
    """A stored photograph. ``truth`` is the simulated camera's sidecar."""

    id: int
    sha256: str
    width: int
    height: int
    focal_35mm: float | None
    taken_at: str | None
    origin: str
    truth: Mapping[str, Any] | None


def _photo(row: sqlite3.Row) -> Photo:
    return Photo(
        row["id"],
        row["sha256"],
        row["width"],
        row["height"],
        row["focal_35mm"],
        row["taken_at"],
        row["origin"],
        json.loads(row["truth"]) if row["truth"] else None,
    )


def add(
    db: sqlite3.Connection,
    coach_id: int,
    *,
    sha256: str,
    source_sha256: str,
    width: int,
    height: int,
    focal_35mm: float | None,
    taken_at: str | None,
    origin: str,
    truth: Mapping[str, Any] | None = None,
) -> int:
    """Record a stored picture, or return the row it already has."""
    row = db.execute(
        "SELECT id FROM photo WHERE coach_id = ? AND source_sha256 = ?", (coach_id, source_sha256)
    ).fetchone()
    if row:
        return int(row["id"])
    cursor = db.execute(
        "INSERT INTO photo (coach_id, sha256, source_sha256, width, height, focal_35mm,"
        " taken_at, origin, truth, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            coach_id,
            sha256,
            source_sha256,
            width,
            height,
            focal_35mm,
            taken_at,
            origin,
            json.dumps(truth) if truth is not None else None,
            now(),
        ),
    )
    return int(cursor.lastrowid or 0)


def get(db: sqlite3.Connection, coach_id: int, photo_id: int) -> Photo | None:
    """Return one of the coach's photographs."""
    row = db.execute(
        "SELECT * FROM photo WHERE id = ? AND coach_id = ?", (photo_id, coach_id)
    ).fetchone()
    return _photo(row) if row else None


def use_of(db: sqlite3.Connection, coach_id: int, source_sha256: str) -> sqlite3.Row | None:
    """Return the undeleted trial that already shows these very bytes, if any.

    Columns: trial_id, assessment_id, practitioner_id, pose, side, mode, number,
    call_name, assessed_at.
    """
    row: sqlite3.Row | None = db.execute(
        "SELECT t.id AS trial_id, t.assessment_id, a.practitioner_id, t.pose, t.side, t.mode,"
        " t.number, pr.call_name, a.taken_at AS assessed_at"
        " FROM photo ph JOIN trial t ON t.photo_id = ph.id AND t.deleted_at IS NULL"
        " JOIN assessment a ON a.id = t.assessment_id"
        " JOIN practitioner pr ON pr.id = a.practitioner_id"
        " WHERE ph.coach_id = ? AND ph.source_sha256 = ? LIMIT 1",
        (coach_id, source_sha256),
    ).fetchone()
    return row
