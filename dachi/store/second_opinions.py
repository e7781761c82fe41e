"""Angles from another instrument beside a photograph's."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.store.database import Database
from dachi.store.rows import TRIAL, made


@dataclass(frozen=True)
class Opinion:
    """An angle from another instrument, degrees, with its standard deviation."""

    device: str
    angle: float
    sd: float


def give(db: Database, coach_id: int, trial_id: int, found: Opinion) -> None:
    """Keep another instrument's angle beside a trial's; a later one replaces it."""
    db.execute(
        "INSERT INTO second_opinion (trial_id, device, angle, sd, saved_at)"
        f" SELECT id, ?, ?, ?, ? FROM {TRIAL} WHERE true"
        " ON CONFLICT (trial_id) DO UPDATE SET device = excluded.device, angle = excluded.angle,"
        " sd = excluded.sd, saved_at = excluded.saved_at",
        (found.device, found.angle, found.sd, db.now(), trial_id, coach_id),
    )


def beside_photographs(db: Database, coach_id: int) -> list[tuple[str, float]]:
    """Return pose and difference, instrument against photograph, of every trial with both."""
    rows = db.execute(
        "SELECT t.pose, o.angle - r.value AS apart FROM second_opinion o"
        " CROSS JOIN trial t ON t.id = o.trial_id AND t.deleted_at IS NULL"
        " CROSS JOIN assessment a ON a.id = t.assessment_id"
        " CROSS JOIN practitioner p ON p.id = a.practitioner_id"
        " JOIN marking m ON m.trial_id = t.id AND m.number ="
        " (SELECT max(number) FROM marking x WHERE x.trial_id = t.id)"
        " JOIN reading r ON r.rowid = (SELECT min(y.rowid) FROM reading y"
        "  WHERE y.marking_id = m.id AND y.headline = 1 AND y.unit = 'deg')"
        " WHERE p.coach_id = ? ORDER BY t.id",
        (coach_id,),
    )
    return [(r["pose"], r["apart"]) for r in rows]


def of_trial(db: Database, coach_id: int, trial_id: int) -> Opinion | None:
    """Return another instrument's angle for a trial."""
    row = db.execute(
        f"SELECT * FROM second_opinion WHERE trial_id IN {TRIAL}", (trial_id, coach_id)
    ).fetchone()
    return made(Opinion, row) if row else None
