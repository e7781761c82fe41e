"""What was answered of pain, what a coach opened or shut by hand, what somebody prepares for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import msgspec

from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON

QuietAnswer = Literal["quiet", "not_yet", "seen"]
What = Literal["open_drill", "open_gate", "shut_gate"]


@dataclass(frozen=True, kw_only=True)
class PainAnswer:
    """What was answered of a place: quiet, not yet, or seen by a clinician (``by_whom``)."""

    place: str
    side: str
    answer: QuietAnswer
    by_whom: str
    said_at: str


@dataclass(frozen=True, kw_only=True)
class Overruled:
    """A drill or gate that a coach opened, or a gate that one shut, with the reason."""

    id: int
    what: What
    name: str
    reason: str
    said_at: str


@dataclass(frozen=True)
class ComingEvent:
    """A show, grading or competition on a day, ISO."""

    on_date: str
    what: str


def say_quiet(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    place: str,
    side: str,
    answer: QuietAnswer,
    by_whom: str = "",
) -> None:
    """Keep what was answered of a place. Conflict where the person is not the coach's."""
    cursor = db.execute(
        "INSERT INTO pain_answer (practitioner_id, place, side, answer, by_whom, said_at)"
        f" SELECT id, ?, ?, ?, ?, ? FROM {PERSON}",
        (place, side, answer, by_whom, db.now(), practitioner_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")


def overrule(
    db: Database, coach_id: int, practitioner_id: int, what: What, name: str, reason: str
) -> None:
    """Keep what a coach opens or shuts by hand; what stood for the same thing ends."""
    lift(db, coach_id, practitioner_id, name)
    cursor = db.execute(
        "INSERT INTO overrule (practitioner_id, what, name, reason, said_at)"
        f" SELECT id, ?, ?, ?, ? FROM {PERSON}",
        (what, name, reason, db.now(), practitioner_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")


def lift(db: Database, coach_id: int, practitioner_id: int, name: str) -> bool:
    """End what was opened or shut by hand."""
    cursor = db.execute(
        "UPDATE overrule SET ended_at = ? WHERE ended_at IS NULL AND name = ?"
        f" AND practitioner_id IN {PERSON}",
        (db.now(), name, practitioner_id, coach_id),
    )
    return cursor.rowcount > 0


def prepare_for(
    db: Database, coach_id: int, practitioner_id: int, event: ComingEvent | None
) -> None:
    """Keep what somebody prepares for; None: nothing any more."""
    db.execute(
        f"DELETE FROM coming_event WHERE practitioner_id IN {PERSON}", (practitioner_id, coach_id)
    )
    if event is not None:
        db.execute(
            "INSERT INTO coming_event (practitioner_id, on_date, what)"
            f" SELECT id, ?, ? FROM {PERSON}",
            (event.on_date, event.what, practitioner_id, coach_id),
        )


@dataclass(frozen=True)
class Known:
    """All of it of one person: answers and overrulings the newest first, what lies ahead or lay."""

    answers: tuple[PainAnswer, ...] = ()
    overruled: tuple[Overruled, ...] = ()
    event: ComingEvent | None = None

    def __bool__(self) -> bool:
        return bool(self.answers or self.overruled or self.event)


def known(db: Database, coach_id: int, practitioner_id: int) -> Known:
    """Return everything that was answered of pain, overruled and not ended, and prepared for."""
    row = db.execute(
        "SELECT (SELECT json_group_array(json_object('place', place, 'side', side, 'answer',"
        " answer, 'by_whom', by_whom, 'said_at', said_at)) FROM (SELECT * FROM pain_answer"
        " WHERE practitioner_id = p.id ORDER BY id DESC LIMIT 200)) AS answers,"
        " (SELECT json_group_array(json_object('id', id, 'what', what, 'name', name, 'reason',"
        " reason, 'said_at', said_at)) FROM (SELECT * FROM overrule WHERE practitioner_id = p.id"
        " AND ended_at IS NULL ORDER BY id DESC)) AS overruled,"
        " (SELECT json_object('on_date', on_date, 'what', what) FROM coming_event"
        " WHERE practitioner_id = p.id) AS event"
        " FROM practitioner p WHERE p.id = ? AND p.coach_id = ?",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None:
        return Known()
    return Known(
        msgspec.json.decode(row["answers"], type=tuple[PainAnswer, ...]),
        msgspec.json.decode(row["overruled"], type=tuple[Overruled, ...]),
        msgspec.json.decode(row["event"], type=ComingEvent) if row["event"] else None,
    )
