"""A few words between a practitioner and their coach."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON, made

Writer = Literal["coach", "practitioner"]
#: A message is a few words, not a letter.
MOST = 600


@dataclass(frozen=True)
class Message:
    """What was written, by whom and when (UTC), and when the other has read it."""

    id: int
    by_whom: Writer
    text: str
    sent_at: str
    read_at: str | None


def send(db: Database, coach_id: int, practitioner_id: int, by_whom: Writer, text: str) -> None:
    """Keep a message. Conflict where not theirs."""
    cursor = db.execute(
        "INSERT INTO message (practitioner_id, by_whom, text, sent_at)"
        f" SELECT id, ?, ?, ? FROM {PERSON}",
        (by_whom, text[:MOST], db.now(), practitioner_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")


def of_practitioner(
    db: Database, coach_id: int, practitioner_id: int, most: int = 20
) -> list[Message]:
    """Return the newest messages, the newest first."""
    rows = db.execute(
        "SELECT id, by_whom, text, sent_at, read_at FROM message"
        f" WHERE practitioner_id IN {PERSON} ORDER BY id DESC LIMIT ?",
        (practitioner_id, coach_id, most),
    )
    return [made(Message, r) for r in rows]


def read(db: Database, coach_id: int, practitioner_id: int, by_whom: Writer) -> int:
    """Keep that the other side has read what ``by_whom`` wrote. How many were new."""
    return db.execute(
        "UPDATE message SET read_at = ? WHERE read_at IS NULL AND by_whom = ?"
        f" AND practitioner_id IN {PERSON}",
        (db.now(), by_whom, practitioner_id, coach_id),
    ).rowcount
