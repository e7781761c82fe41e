"""Camera positions: where the stand was, with the mat corners of every shot from there."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property

from dachi.core.measuring.plausible import mean_corners
from dachi.store.database import Conflict, Database
from dachi.store.rows import NEWEST, TRIAL, VISIT, made

Point = tuple[float, float]


@dataclass(frozen=True)
class Position:
    """One place the camera stood. ``shots`` maps trial id to that shot's own corners, px."""

    id: int
    view: str
    setup: str
    mat_length_cm: float
    mat_width_cm: float
    shots: Mapping[int, Mapping[str, Point]]

    @cached_property
    def _newest(self) -> list[int]:
        return sorted(self.shots, reverse=True)

    def others_of(self, trial_id: int) -> list[int]:
        """The other shots from here with corners marked on them, the newest first."""
        return [t for t in self._newest if t != trial_id]

    def others(self, trial_id: int) -> list[Mapping[str, Point]]:
        """Corners marked on the other shots from here, the newest shot's first."""
        return [self.shots[t] for t in self.others_of(trial_id)]

    def pooled(
        self,
        trial_id: int,
        own: Mapping[str, Point] | None,
        alike: Callable[[Mapping[str, Point], Mapping[str, Point]], bool] = lambda a, b: True,
    ) -> tuple[dict[str, Point] | None, int]:
        """Mean corners of the shots that agree, and how many they are.

        Those count that are ``alike`` this trial's own, or without any the newest shot's.
        """
        sets = [own, *self.others(trial_id)] if own else self.others(trial_id)
        if not sets:
            return None, 0
        sets = [sets[0], *(s for s in sets[1:] if alike(sets[0], s))]
        return mean_corners(sets), len(sets)


USUAL_MAT_CM = (183.0, 61.0)


def for_photo(
    db: Database,
    coach_id: int,
    assessment_id: int,
    view: str,
    setup: str,
    size: tuple[int, int],
) -> int:
    """Return the assessment's newest position for a view and set-up, or start one.

    ``size`` is the picture's, px. A picture of another size than the ones from there cannot
    share their corners, so it starts a position of its own.
    """
    row = db.execute(
        "SELECT id, mat_length_cm, mat_width_cm,"
        " EXISTS (SELECT 1 FROM trial t JOIN photo ph ON ph.id = t.photo_id"
        "  WHERE t.position_id = cp.id AND (ph.width <> ? OR ph.height <> ?)) AS other_size"
        f" FROM camera_position cp WHERE assessment_id IN {VISIT} AND view = ? AND setup = ?"
        " ORDER BY id DESC LIMIT 1",
        (*size, assessment_id, coach_id, view, setup),
    ).fetchone()
    if row is None:
        return start(db, coach_id, assessment_id, view, _mat_of(db, coach_id, assessment_id), setup)
    if row["other_size"]:
        return start(
            db, coach_id, assessment_id, view, (row["mat_length_cm"], row["mat_width_cm"]), setup
        )
    return int(row["id"])


def _mat_of(db: Database, coach_id: int, assessment_id: int) -> tuple[float, float]:
    """Size of the mat used last in the assessment, else the one the coach said, else their last."""
    row = db.execute(
        "SELECT length_cm AS mat_length_cm, width_cm AS mat_width_cm FROM ("
        "SELECT cp.mat_length_cm AS length_cm, cp.mat_width_cm AS width_cm,"
        " CASE WHEN cp.assessment_id = ? THEN 0 ELSE 2 END AS far, cp.id AS at"
        " FROM camera_position cp JOIN assessment a ON a.id = cp.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.coach_id = ?"
        " UNION ALL SELECT mat_length_cm, mat_width_cm, 1, 0 FROM coach"
        " WHERE id = ? AND mat_length_cm IS NOT NULL) ORDER BY far, at DESC LIMIT 1",
        (assessment_id, coach_id, coach_id),
    ).fetchone()
    return (row["mat_length_cm"], row["mat_width_cm"]) if row else USUAL_MAT_CM


def start(
    db: Database,
    coach_id: int,
    assessment_id: int,
    view: str,
    mat_cm: tuple[float, float] = USUAL_MAT_CM,
    setup: str = "",
) -> int:
    """Begin a new camera position: the stand was put up or moved. Conflict where not theirs."""
    cursor = db.execute(
        "INSERT INTO camera_position (assessment_id, view, mat_length_cm, mat_width_cm, setup,"
        f" created_at) SELECT id, ?, ?, ?, ?, ? FROM {VISIT}",
        (view, *mat_cm, setup, db.now(), assessment_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such assessment.")
    return int(cursor.lastrowid or 0)


def of_assessment(db: Database, coach_id: int, assessment_id: int) -> dict[int, Position]:
    """Return an assessment's positions by id, each with the corners of the newest marking of each
    shot taken there.
    """
    shots: dict[int, dict[int, dict[str, Point]]] = {}
    for r in db.execute(
        "SELECT t.position_id, t.id, m.corners FROM trial t JOIN marking m ON m.trial_id = t.id"
        f" AND m.number = {NEWEST.format('t')} WHERE t.assessment_id IN {VISIT}"
        " AND t.deleted_at IS NULL AND m.corners IS NOT NULL",
        (assessment_id, coach_id),
    ):
        corners = {k: (float(x), float(y)) for k, (x, y) in json.loads(r["corners"]).items()}
        shots.setdefault(r["position_id"], {})[r["id"]] = corners
    rows = db.execute(
        f"SELECT * FROM camera_position WHERE assessment_id IN {VISIT} ORDER BY id",
        (assessment_id, coach_id),
    )
    return {r["id"]: made(Position, r, shots=shots.get(r["id"], {})) for r in rows}


def begun_by_cards(db: Database, coach_id: int, trial_id: int) -> bool:
    """Whether a shot is the first from its place, after others with cards from another place of
    the same view and set-up: the camera was moved before it.
    """
    row = db.execute(
        "SELECT 1 FROM trial t JOIN camera_position cp ON cp.id = t.position_id"
        " JOIN photo ph ON ph.id = t.photo_id WHERE t.id = ? AND ph.coach_id = ?"
        " AND length(ph.cards) > 2 AND NOT EXISTS (SELECT 1 FROM trial o WHERE"
        "  o.position_id = t.position_id AND o.id < t.id AND o.deleted_at IS NULL)"
        " AND EXISTS (SELECT 1 FROM camera_position c2 JOIN trial o ON o.position_id = c2.id"
        "  JOIN photo p2 ON p2.id = o.photo_id WHERE c2.assessment_id = cp.assessment_id"
        "  AND c2.view = cp.view AND c2.setup = cp.setup AND c2.id < cp.id AND o.id < t.id"
        "  AND length(p2.cards) > 2)",
        (trial_id, coach_id),
    ).fetchone()
    return row is not None


def set_mat(
    db: Database, coach_id: int, position_id: int, length_cm: float, width_cm: float
) -> bool:
    """Change the size of the mat at a position."""
    cursor = db.execute(
        "UPDATE camera_position SET mat_length_cm = ?, mat_width_cm = ? WHERE id = ?"
        " AND assessment_id IN (SELECT a.id FROM assessment a JOIN practitioner p"
        " ON p.id = a.practitioner_id WHERE p.coach_id = ?)",
        (length_cm, width_cm, position_id, coach_id),
    )
    return cursor.rowcount == 1


def move_trial(db: Database, coach_id: int, trial_id: int, position_id: int) -> bool:
    """Say that a trial was photographed from another position."""
    cursor = db.execute(
        f"UPDATE trial SET position_id = ? WHERE id IN {TRIAL}",
        (position_id, trial_id, coach_id),
    )
    return cursor.rowcount == 1
