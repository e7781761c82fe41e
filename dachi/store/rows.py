"""Rows as things: read by column name; and whose a row is, written once.

``PERSON``, ``VISIT``, ``TRIAL``, ``MARKING`` and ``PHOTO`` are the ids of one that is the coach's:
``id IN {VISIT}`` with (id, coach), nothing where it is somebody else's.
"""

from __future__ import annotations

import sqlite3
from dataclasses import fields
from datetime import datetime
from typing import Any, TypeVar

import msgspec

from dachi.store.database import Database

T = TypeVar("T")

PERSON = "(SELECT id FROM practitioner WHERE id = ? AND coach_id = ?)"
VISIT = (
    "(SELECT a.id FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
    " WHERE a.id = ? AND p.coach_id = ?)"
)
TRIAL = (
    "(SELECT t.id FROM trial t JOIN assessment a ON a.id = t.assessment_id"
    " JOIN practitioner p ON p.id = a.practitioner_id WHERE t.id = ? AND p.coach_id = ?)"
)
MARKING = (
    "(SELECT m.id FROM marking m JOIN trial t ON t.id = m.trial_id"
    " JOIN assessment a ON a.id = t.assessment_id"
    " JOIN practitioner p ON p.id = a.practitioner_id WHERE m.id = ? AND p.coach_id = ?)"
)
PHOTO = "(SELECT id FROM photo WHERE id = ? AND coach_id = ?)"
#: A trial's newest marking, by the name its trial has in the statement.
NEWEST = "(SELECT max(number) FROM marking WHERE trial_id = {}.id)"


_NAMES: dict[Any, tuple[str, ...]] = {}


def _names(kind: Any) -> tuple[str, ...]:
    if kind not in _NAMES:
        _NAMES[kind] = tuple(f.name for f in fields(kind))
    return _NAMES[kind]


def made(kind: type[T], row: sqlite3.Row, /, **read: Any) -> T:
    """A dataclass from a row's columns of the same names; ``read`` are those read otherwise.

    IndexError where the row has no such column.
    """
    return kind(**{n: read[n] if n in read else row[n] for n in _names(kind)})


def read_json(text: str | None, kind: type[T], usual: T) -> T:
    """What a text holds as JSON; the usual where it is not of that kind.

    Of records that may have come from elsewhere: nobody else's page is to fail on one of them.
    """
    try:
        return msgspec.json.decode(text or "", type=kind)
    except (msgspec.DecodeError, UnicodeError, RecursionError):
        return usual


def read_moment(text: str | None) -> str | None:
    """A stored day or moment; None where it is none."""
    try:
        datetime.fromisoformat(text or "")
    except ValueError:
        return None
    return text


def belongs(db: Database, whose: str, row_id: int, coach_id: int) -> bool:
    """Whether a row is the coach's; ``whose`` is one of the ids above."""
    return (
        db.execute(f"SELECT 1 WHERE ? IN {whose}", (row_id, row_id, coach_id)).fetchone()
        is not None
    )


def values(count: int) -> str:
    """So many places for values: ``(?, ?, ?)``."""
    return f"({', '.join('?' * count)})"
