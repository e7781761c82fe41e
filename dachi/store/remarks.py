"""Photographs marked again without seeing the first marks."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass

from dachi.core.judging.steadiness import Twice
from dachi.store.database import Database

_OWN_TRIAL = (
    "SELECT t.id FROM trial t JOIN assessment a ON a.id = t.assessment_id"
    " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.coach_id = ?"
)


@dataclass(frozen=True)
class Remarked:
    """A second marking's readings beside the first's, of one pose and mode."""

    pose: str
    mode: str
    by_whom: str
    twice: Mapping[str, Twice]


def add(
    db: Database,
    coach_id: int,
    trial_id: int,
    by_whom: str,
    marks: Mapping[str, tuple[float, float]],
    readings: Mapping[str, float],
    first: Mapping[str, float],
) -> None:
    """Keep a second marking's headline readings beside the ones that count."""
    db.execute(
        "INSERT INTO remark (trial_id, by_whom, marks, readings, first, saved_at)"
        f" SELECT id, ?, ?, ?, ?, ? FROM ({_OWN_TRIAL} AND t.id = ?)",
        (
            by_whom,
            json.dumps(marks, sort_keys=True),
            json.dumps(readings, sort_keys=True),
            json.dumps(first, sort_keys=True),
            db.now(),
            coach_id,
            trial_id,
        ),
    )


def of_coach(db: Database, coach_id: int) -> list[Remarked]:
    """Return every photograph that was marked twice, oldest first."""
    rows = db.execute(
        "SELECT r.*, t.pose, t.mode FROM remark r JOIN trial t ON t.id = r.trial_id"
        f" WHERE t.deleted_at IS NULL AND t.id IN ({_OWN_TRIAL}) ORDER BY r.id",
        (coach_id,),
    )
    found = []
    for r in rows:
        first, again = json.loads(r["first"]), json.loads(r["readings"])
        twice = {m: Twice(first[m], again[m]) for m in first if m in again}
        found.append(Remarked(r["pose"], r["mode"], r["by_whom"], twice))
    return found


def unseen(db: Database, coach_id: int) -> int | None:
    """Return a valid marked photograph, one of those marked again least and longest ago.

    Of a signed-off assessment or not: nothing of it changes.
    """
    row = db.execute(
        "SELECT t.id FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        " JOIN photo ph ON ph.id = t.photo_id"
        f" WHERE t.id IN ({_OWN_TRIAL}) AND t.marked = 1 AND t.deleted_at IS NULL"
        " AND (SELECT c.withdrawn_on FROM consent c WHERE c.practitioner_id = a.practitioner_id"
        "  ORDER BY c.id DESC LIMIT 1) IS NULL"
        " ORDER BY (SELECT count(*) FROM remark r WHERE r.trial_id = t.id),"
        " (SELECT count(*) FROM remark r JOIN trial x ON x.id = r.trial_id"
        "  WHERE x.pose = t.pose), a.taken_at DESC, t.id LIMIT 1",
        (coach_id,),
    ).fetchone()
    return row["id"] if row else None
