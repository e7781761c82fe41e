"""Erasing that is not finished: what is still to go although its rows are gone."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass

from dachi.store.database import Database
from dachi.store.rows import made


@dataclass(frozen=True, kw_only=True)
class Erasure:
    """One thing that was erased: names of its picture files and of letters; ``uid`` of a person
    who is gone altogether.
    """

    id: int
    coach_id: int
    asked_at: str
    uid: str
    pictures: tuple[str, ...]
    letters: tuple[str, ...]


def begin(
    db: Database,
    coach_id: int,
    *,
    uid: str = "",
    pictures: Iterable[str] = (),
    letters: Iterable[str] = (),
) -> int:
    """Write down what is to go, in the transaction in which its rows go."""
    cursor = db.execute(
        "INSERT INTO erasure (coach_id, asked_at, uid, pictures, letters) VALUES (?, ?, ?, ?, ?)",
        (coach_id, db.now(), uid, json.dumps(sorted(pictures)), json.dumps(sorted(letters))),
    )
    return int(cursor.lastrowid or 0)


def all_open(db: Database) -> list[Erasure]:
    """Everything that is not finished, whoever's it is, oldest first."""
    rows = db.execute("SELECT * FROM erasure ORDER BY id")
    return [
        made(
            Erasure, r, pictures=tuple(json.loads(r["pictures"])),
            letters=tuple(json.loads(r["letters"])),
        )
        for r in rows
    ]  # fmt: skip


def waiting(db: Database, coach_id: int) -> int:
    """How many of a coach's erasures are not finished."""
    row = db.execute("SELECT count(*) AS n FROM erasure WHERE coach_id = ?", (coach_id,))
    return int(row.fetchone()["n"])


def cleared(db: Database, ids: Iterable[int]) -> None:
    """The files are gone: their names need not be known any more."""
    db.executemany(
        "UPDATE erasure SET uid = '', pictures = '[]', letters = '[]' WHERE id = ?",
        [(one,) for one in ids],
    )


def done(db: Database, ids: Iterable[int]) -> None:
    """All of it is finished."""
    db.executemany("DELETE FROM erasure WHERE id = ?", [(one,) for one in ids])
