"""Photographs marked again without seeing the first marks."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass

from dachi.core.judging.steadiness import Twice
from dachi.store.database import Database
from dachi.store.rows import TRIAL

#: Photographs to mark again are looked for among so many newest visits first.
RECENT = 40


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
        f" SELECT id, ?, ?, ?, ?, ? FROM {TRIAL}",
        (
            by_whom,
            json.dumps(marks, sort_keys=True),
            json.dumps(readings, sort_keys=True),
            json.dumps(first, sort_keys=True),
            db.now(),
            trial_id,
            coach_id,
        ),
    )


def of_coach(db: Database, coach_id: int) -> list[Remarked]:
    """Return every photograph that was marked twice, oldest first."""
    rows = db.execute(
        # From the few that were marked twice to whose they are, not through every trial.
        "SELECT r.*, t.pose, t.mode FROM remark r CROSS JOIN trial t ON t.id = r.trial_id"
        " CROSS JOIN assessment a ON a.id = t.assessment_id"
        " CROSS JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE t.deleted_at IS NULL AND p.coach_id = ? ORDER BY r.id",
        (coach_id,),
    )
    found = []
    for r in rows:
        first, again = json.loads(r["first"]), json.loads(r["readings"])
        twice = {m: Twice(first[m], again[m]) for m in first if m in again}
        found.append(Remarked(r["pose"], r["mode"], r["by_whom"], twice))
    return found


def count(db: Database, coach_id: int) -> int:
    """Return how many second markings a coach's photographs have."""
    row = db.execute(
        "SELECT count(*) AS n FROM remark r CROSS JOIN trial t ON t.id = r.trial_id"
        " CROSS JOIN assessment a ON a.id = t.assessment_id"
        " CROSS JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE t.deleted_at IS NULL AND p.coach_id = ?",
        (coach_id,),
    ).fetchone()
    return int(row["n"])


def unseen(db: Database, coach_id: int) -> int | None:
    """Return a marked photograph of the newest visits, one of those marked again least.

    Of a signed-off assessment or not: nothing of it changes.
    """
    for visits in (RECENT, -1):
        row = db.execute(
            "WITH recent AS (SELECT a.id, a.taken_at, a.practitioner_id FROM assessment a"
            "  JOIN practitioner p ON p.id = a.practitioner_id WHERE p.coach_id = ?"
            "  ORDER BY a.taken_at DESC LIMIT ?),"
            " again AS (SELECT r.trial_id, t.pose FROM remark r CROSS JOIN trial t"
            "  ON t.id = r.trial_id)"
            " SELECT t.id FROM recent a CROSS JOIN trial t ON t.assessment_id = a.id"
            " WHERE t.marked = 1 AND t.deleted_at IS NULL AND t.read_from IS NULL"
            " AND (SELECT c.withdrawn_on FROM consent_now c"
            "  WHERE c.practitioner_id = a.practitioner_id) IS NULL"
            " ORDER BY (SELECT count(*) FROM again x WHERE x.trial_id = t.id),"
            " (SELECT count(*) FROM again x WHERE x.pose = t.pose), a.taken_at DESC, t.id LIMIT 1",
            (coach_id, visits),
        ).fetchone()
        if row:
            return int(row["id"])
    return None
