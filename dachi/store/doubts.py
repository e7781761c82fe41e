"""What looks like a slip in a person's visits, and what was said of it."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

from dachi.core.judging.doubts import Asked, Doubt, What
from dachi.store.database import Database
from dachi.store.rows import PERSON, VISIT


class Said(StrEnum):
    """What a coach says of it."""

    #: It is as it was read: it counts like any other.
    SO = "so"
    #: Tired, a wrong side, another strap: it stays on record and counts wide.
    OFF = "off"
    #: From that visit on things stood or were marked otherwise.
    SET_UP = "set_up"
    #: A first visit to learn the poses: nothing is counted from it.
    TRYOUT = "tryout"


def replace_all(db: Database, coach_id: int, practitioner_id: int, found: Sequence[Doubt]) -> None:
    """Put what is doubtful of a person in place of what was."""
    db.execute(f"DELETE FROM doubt WHERE practitioner_id IN {PERSON}", (practitioner_id, coach_id))
    db.executemany(
        "INSERT OR REPLACE INTO doubt (practitioner_id, assessment_id, what, pose, side, mode,"
        f" size, day) SELECT id, ?, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        [
            (d.assessment_id, d.what, d.pose, d.side, d.mode, d.size, d.day, practitioner_id,
             coach_id)
            for d in found
        ],
    )  # fmt: skip


def of_practitioner(db: Database, coach_id: int, practitioner_id: int) -> list[Doubt]:
    """Return what is doubtful of a person, the newest visit first."""
    rows = db.execute(
        f"SELECT * FROM doubt WHERE practitioner_id IN {PERSON}"
        " ORDER BY day DESC, what DESC, pose, side, mode",
        (practitioner_id, coach_id),
    )
    return [
        Doubt(
            What(r["what"]), r["assessment_id"], r["day"], r["size"], r["pose"], r["side"],
            r["mode"],
        )
        for r in rows
    ]  # fmt: skip


def say(db: Database, coach_id: int, asked: Asked, answer: Said | None) -> None:
    """Keep what a coach says of it; None takes it back."""
    visit, what, *line = asked
    db.execute(
        f"DELETE FROM doubt_answer WHERE assessment_id IN {VISIT} AND what = ? AND pose = ?"
        " AND side = ? AND mode = ?",
        (visit, coach_id, what, *line),
    )
    if answer is not None:
        db.execute(
            "INSERT INTO doubt_answer (assessment_id, what, pose, side, mode, answer, said_at)"
            f" SELECT id, ?, ?, ?, ?, ?, ? FROM assessment WHERE id IN {VISIT}",
            (what, *line, answer, db.now(), visit, coach_id),
        )


def said(db: Database, coach_id: int, practitioner_id: int) -> dict[Asked, Said]:
    """Return what was said of a person's visits."""
    rows = db.execute(
        "SELECT d.* FROM doubt_answer d JOIN assessment a ON a.id = d.assessment_id"
        f" WHERE a.practitioner_id IN {PERSON} ORDER BY d.id",
        (practitioner_id, coach_id),
    )
    return {
        (r["assessment_id"], What(r["what"]), r["pose"], r["side"], r["mode"]): Said(r["answer"])
        for r in rows
    }
