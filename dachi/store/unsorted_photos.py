"""Photographs taken in for an assessment and not yet sorted onto its sheet."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from dachi.store.database import Database
from dachi.store.rows import VISIT


@dataclass(frozen=True)
class UnsortedPhoto:
    """A photograph in the tray."""

    photo_id: int
    name: str
    taken_at: str | None
    #: Joints (px) that were seen; empty where nobody was, None where it was not looked at.
    joints: Mapping[str, tuple[float, float]] | None = None
    width: int = 0
    height: int = 0


def add(db: Database, coach_id: int, assessment_id: int, photo_id: int, name: str) -> None:
    """Keep a photograph until it is sorted onto the sheet; one that was left out is in again."""
    db.execute(
        "INSERT INTO tray (assessment_id, photo_id, name, created_at)"
        f" SELECT id, ?, ?, ? FROM {VISIT} WHERE true"
        " ON CONFLICT DO UPDATE SET left_out_at = NULL",
        (photo_id, name[:200], db.now(), assessment_id, coach_id),
    )


def of_assessment(db: Database, coach_id: int, assessment_id: int) -> list[UnsortedPhoto]:
    """Return what waits in the tray, in the order it came in."""
    rows = db.execute(
        "SELECT t.photo_id, t.name, t.joints, ph.taken_at, ph.width, ph.height"
        " FROM tray t JOIN photo ph ON ph.id = t.photo_id"
        f" WHERE t.left_out_at IS NULL AND t.assessment_id IN {VISIT}"
        " ORDER BY t.created_at, t.photo_id",
        (assessment_id, coach_id),
    )
    return [
        UnsortedPhoto(
            r["photo_id"],
            r["name"],
            r["taken_at"],
            json.loads(r["joints"]) if r["joints"] else None,
            r["width"],
            r["height"],
        )
        for r in rows
    ]


def unseen(db: Database, coach_id: int) -> list[tuple[int, int, str]]:
    """Return (assessment, photograph, SHA-256) of tray photographs not looked at, oldest first."""
    rows = db.execute(
        "SELECT t.assessment_id, t.photo_id, ph.sha256 FROM tray t"
        " JOIN photo ph ON ph.id = t.photo_id WHERE ph.coach_id = ? AND t.joints IS NULL"
        " AND t.left_out_at IS NULL"
        " ORDER BY t.created_at, t.photo_id",
        (coach_id,),
    )
    return [(r["assessment_id"], r["photo_id"], r["sha256"]) for r in rows]


def set_joints(
    db: Database,
    coach_id: int,
    assessment_id: int,
    photo_id: int,
    joints: Mapping[str, tuple[float, float]],
) -> None:
    """Keep the joints that were seen in a photograph of the tray; none where nobody was."""
    told = json.dumps(dict(joints))
    db.execute(
        f"UPDATE tray SET joints = ? WHERE photo_id = ? AND assessment_id IN {VISIT}",
        (told, photo_id, assessment_id, coach_id),
    )
    db.execute(
        "UPDATE photo SET glimpsed = ? WHERE id = ? AND coach_id = ?", (told, photo_id, coach_id)
    )


def take(db: Database, coach_id: int, assessment_id: int, photo_ids: Iterable[int]) -> None:
    """Take photographs out of the tray."""
    db.executemany(
        f"DELETE FROM tray WHERE photo_id = ? AND assessment_id IN {VISIT}",
        [(p, assessment_id, coach_id) for p in photo_ids],
    )


def leave_out(db: Database, coach_id: int, assessment_id: int) -> int:
    """Put what is left in the tray out of sight; it stays the visit's. How many photographs."""
    return db.execute(
        f"UPDATE tray SET left_out_at = ? WHERE left_out_at IS NULL AND assessment_id IN {VISIT}",
        (db.now(), assessment_id, coach_id),
    ).rowcount


def bring_back(db: Database, coach_id: int, assessment_id: int) -> int:
    """Put what was left out last back into the tray. How many photographs."""
    last = f"SELECT max(left_out_at) FROM tray WHERE assessment_id IN {VISIT}"
    own = (assessment_id, coach_id)
    return db.execute(
        f"UPDATE tray SET left_out_at = NULL WHERE assessment_id IN {VISIT}"
        f" AND left_out_at = ({last})",
        (*own, *own),
    ).rowcount
