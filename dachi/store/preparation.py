"""Consent and screening of practitioners. Every query says whose; nothing is overwritten."""

from __future__ import annotations

import json
from collections.abc import Sequence

from dachi.core.assessing.permission import Consent, Screening
from dachi.core.catalogue.cautions import Answer
from dachi.store.database import Database
from dachi.store.rows import PERSON, made


def give_consent(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    given_on: str,
    scope: str,
    guardian: str = "",
    faces: bool = False,
    until: str | None = None,
) -> None:
    """Record a consent; the newest one counts, unless one was withdrawn later than it was given."""
    db.execute(
        f"INSERT INTO consent (practitioner_id, given_on, scope, guardian, faces, until,"
        f" created_at) SELECT id, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        (given_on, scope, guardian, int(faces), until, db.now(), practitioner_id, coach_id),
    )


def withdraw_consent(db: Database, coach_id: int, practitioner_id: int, on: str) -> bool:
    """Take every open consent back."""
    cursor = db.execute(
        f"UPDATE consent SET withdrawn_on = ? WHERE withdrawn_on IS NULL"
        f" AND practitioner_id IN {PERSON}",
        (on, practitioner_id, coach_id),
    )
    return cursor.rowcount > 0


def consent(db: Database, coach_id: int, practitioner_id: int) -> Consent | None:
    """Return the consent that stands: the newest, withdrawn where any was after it was given."""
    row = db.execute(
        f"SELECT * FROM consent_now WHERE practitioner_id IN {PERSON}",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    return made(Consent, row, faces=bool(row["faces"]))


def answer_screening(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    answered_on: str,
    yes: Sequence[str],
) -> None:
    """Record answers; clearance given for the very same answers is carried over."""
    before = screening(db, coach_id, practitioner_id)
    kept = before if before is not None and set(before.yes) == set(yes) else None
    db.execute(
        f"INSERT INTO screening (practitioner_id, answered_on, yes, cleared_by, cleared_on,"
        f" allowed, created_at) SELECT id, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        (
            answered_on,
            json.dumps(sorted(yes)),
            kept.cleared_by if kept else "",
            kept.cleared_on if kept else None,
            json.dumps(kept.allowed if kept else []),
            db.now(),
            practitioner_id,
            coach_id,
        ),
    )


def clear(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    by: str,
    on: str,
    allowed: Sequence[str] = (),
) -> bool:
    """Record clearance for the newest answers, and the directions that were cleared."""
    cursor = db.execute(
        "UPDATE screening SET cleared_by = ?, cleared_on = ?, allowed = ? WHERE id ="
        f" (SELECT max(id) FROM screening WHERE practitioner_id IN {PERSON})",
        (by, on, json.dumps(list(allowed)), practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def answers(db: Database, coach_id: int, practitioner_id: int) -> dict[str, Answer]:
    """Return the questions answered yes, each with whether and for what it was cleared."""
    return answers_of(screening(db, coach_id, practitioner_id))


def answers_of(found: Screening | None) -> dict[str, Answer]:
    """The same of answers that were read already."""
    if found is None:
        return {}
    cleared = found.cleared_on is not None
    return {q: Answer(cleared, found.allowed if cleared else ()) for q in found.yes}


def screening(db: Database, coach_id: int, practitioner_id: int) -> Screening | None:
    """Return the newest answers."""
    row = db.execute(
        f"SELECT * FROM screening WHERE practitioner_id IN {PERSON} ORDER BY id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    return made(
        Screening, row, yes=tuple(json.loads(row["yes"])), allowed=tuple(json.loads(row["allowed"]))
    )
