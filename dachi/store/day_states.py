"""How a person is on the day of an assessment."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field

from dachi.core.words import Place
from dachi.store.database import Database
from dachi.store.rows import VISIT, made


@dataclass(frozen=True, kw_only=True)
class DayState:
    """How the person is: ``pain`` by place 0 to 10, hours slept, warm-up in minutes."""

    pain: Mapping[Place, int] = field(default_factory=dict)
    sleep_h: float | None = None
    hard_training: str = ""
    warm_up_min: float | None = None
    saved_at: str = ""


def of_assessment(db: Database, coach_id: int, assessment_id: int) -> DayState | None:
    """Return how the person was, None where nobody has said."""
    row = db.execute(
        f"SELECT * FROM assessment_state WHERE assessment_id IN {VISIT}",
        (assessment_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    pain = {Place(k): level for k, level in json.loads(row["pain"]).items()}
    return made(DayState, row, pain=pain)


def hurting(db: Database, coach_id: int, practitioner_id: int) -> set[int]:
    """Return a practitioner's assessments on days on which something hurt."""
    rows = db.execute(
        "SELECT s.assessment_id FROM assessment_state s JOIN assessment a ON a.id = s.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.id = ? AND p.coach_id = ?"
        " AND s.pain <> '{}'",
        (practitioner_id, coach_id),
    )
    return {r["assessment_id"] for r in rows}


def newest(db: Database, coach_id: int, practitioner_id: int) -> DayState | None:
    """Return the newest state of any of a practitioner's assessments."""
    row = db.execute(
        "SELECT s.assessment_id FROM assessment_state s JOIN assessment a ON a.id = s.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.id = ? AND p.coach_id = ?"
        " ORDER BY a.taken_at DESC, a.id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    return of_assessment(db, coach_id, row["assessment_id"]) if row else None


def of_person(db: Database, coach_id: int, practitioner_id: int, most: int = 40) -> list[DayState]:
    """Return how a practitioner was at their visits, the newest first."""
    rows = db.execute(
        "SELECT s.* FROM assessment_state s JOIN assessment a ON a.id = s.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.id = ? AND p.coach_id = ?"
        " ORDER BY a.taken_at DESC, a.id DESC LIMIT ?",
        (practitioner_id, coach_id, most),
    ).fetchall()
    return [
        made(DayState, r, pain={Place(k): level for k, level in json.loads(r["pain"]).items()})
        for r in rows
    ]


def save(db: Database, coach_id: int, assessment_id: int, found: DayState) -> None:
    """Keep how the person is today."""
    db.execute(
        "INSERT INTO assessment_state (assessment_id, pain, sleep_h, hard_training, warm_up_min,"
        f" saved_at) SELECT id, ?, ?, ?, ?, ? FROM {VISIT} WHERE true"
        " ON CONFLICT (assessment_id) DO UPDATE SET pain = excluded.pain,"
        " sleep_h = excluded.sleep_h, hard_training = excluded.hard_training,"
        " warm_up_min = excluded.warm_up_min, saved_at = excluded.saved_at",
        (
            json.dumps(dict(found.pain), sort_keys=True),
            found.sleep_h,
            found.hard_training,
            found.warm_up_min,
            db.now(),
            assessment_id,
            coach_id,
        ),
    )
