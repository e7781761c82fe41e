"""Practice that was done: sessions, how they felt, where it hurt."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

import msgspec

from dachi.core.words import PainKind, Place
from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON, made

#: A session of the week has at least this much work, s.
COUNTS_FROM_S = 60.0


class Felt(StrEnum):
    """How a session or a drill felt."""

    EASY = "easy"
    RIGHT = "right"
    HARD = "hard"


@dataclass(frozen=True)
class DrillDone:
    """A drill as it was done: seconds in all, of one hold and on each side; its support."""

    drill: str
    seconds: float = 0.0
    felt: Felt | None = None
    prop_cm: float | None = None
    layers: float | None = None
    hold_s: float | None = None
    left: float | None = None
    right: float | None = None


@dataclass(frozen=True)
class Pain:
    """Where it hurt and how; ``drill`` is empty where nobody said at which.

    ``level`` 0 to 10, ``spreads`` down or around, ``after`` what it did since
    (``returning.After``), empty where nobody said.
    """

    drill: str
    place: Place
    kind: PainKind
    level: int | None = None
    spreads: bool = False
    after: str = ""


@dataclass(frozen=True, kw_only=True)
class NewLogEntry:
    """A session to be logged; ``started_at`` is local time, ISO to the second. ``felt`` is None
    where nobody said.
    """

    once_key: str
    started_at: str
    seconds: float
    felt: Felt | None
    finished: bool
    done: tuple[DrillDone, ...]
    notes: str = ""
    pains: tuple[Pain, ...] = ()
    senses: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class LogEntry:
    """A logged session."""

    id: int
    started_at: str
    seconds: float
    felt: Felt | None
    finished: bool
    done: tuple[DrillDone, ...]
    notes: str
    soreness: int | None
    pains: tuple[Pain, ...]

    @property
    def counts(self) -> bool:
        """Whether it is one of the week's sessions: a minute of work at least."""
        return self.seconds >= COUNTS_FROM_S


def add(
    db: Database, coach_id: int, practitioner_id: int, new: NewLogEntry, *, adding: bool = False
) -> int:
    """Log a session and return its id. Conflict where not theirs.

    Sent twice it is there once; ``adding``, the later sending adds to it, unless it tells of less.
    """
    row = db.execute(
        "SELECT id, seconds, finished FROM practice_log WHERE once_key = ?"
        f" AND practitioner_id IN {PERSON}",
        (new.once_key, practitioner_id, coach_id),
    ).fetchone()
    if row:
        if adding and (new.finished, new.seconds) >= (bool(row["finished"]), row["seconds"]):
            db.execute(
                "UPDATE practice_log SET seconds = ?, felt = ?, finished = ?, done = ?, notes = ?"
                " WHERE id = ?",
                (new.seconds, new.felt, int(new.finished), _done(new.done), new.notes, row["id"]),
            )
            _set_pains(db, row["id"], new.pains)
        return int(row["id"])
    cursor = db.execute(
        "INSERT INTO practice_log (practitioner_id, once_key, started_at, seconds, felt, finished,"
        f" done, notes, created_at) SELECT id, ?, ?, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        (
            new.once_key, new.started_at, new.seconds, new.felt, int(new.finished),
            _done(new.done), new.notes, db.now(), practitioner_id, coach_id,
        ),
    )  # fmt: skip
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")
    log_id = int(cursor.lastrowid or 0)
    _set_pains(db, log_id, new.pains)
    return log_id


def _set_pains(db: Database, log_id: int, pains: Sequence[Pain]) -> None:
    db.execute("DELETE FROM practice_pain WHERE log_id = ?", (log_id,))
    db.executemany(
        "INSERT INTO practice_pain (log_id, drill, place, kind, level, spreads, after)"
        " VALUES (?, ?, ?, ?, ?, ?, ?)",
        [
            (log_id, p.drill, p.place, p.kind, p.level, int(p.spreads), p.after)
            for p in dict.fromkeys(pains)
        ],
    )


def _done(rows: Sequence[DrillDone]) -> str:
    """Rows as JSON, what nobody said left out."""
    plain = [{k: v for k, v in msgspec.to_builtins(row).items() if v is not None} for row in rows]
    return msgspec.json.encode(plain).decode()


def entries(db: Database, coach_id: int, practitioner_id: int, most: int = 400) -> list[LogEntry]:
    """Return logged sessions, newest first."""
    rows = db.execute(
        f"SELECT * FROM practice_log WHERE removed_at IS NULL AND practitioner_id IN {PERSON}"
        " ORDER BY started_at DESC, id DESC LIMIT ?",
        (practitioner_id, coach_id, most),
    ).fetchall()
    pains: dict[int, list[Pain]] = {}
    for p in db.execute(
        "SELECT p.* FROM practice_pain p JOIN practice_log l ON l.id = p.log_id"
        f" WHERE l.practitioner_id IN {PERSON} ORDER BY p.rowid",
        (practitioner_id, coach_id),
    ):
        pains.setdefault(p["log_id"], []).append(
            Pain(
                p["drill"],
                Place(p["place"]),
                PainKind(p["kind"]),
                p["level"],
                bool(p["spreads"]),
                p["after"],
            )
        )
    return [
        made(
            LogEntry,
            r,
            felt=Felt(r["felt"]) if r["felt"] else None,
            finished=bool(r["finished"]),
            done=msgspec.json.decode(r["done"], type=tuple[DrillDone, ...]),
            pains=tuple(pains.get(r["id"], ())),
        )
        for r in rows
    ]


def hurt_between(
    db: Database, coach_id: int, practitioner_id: int, since: str, until: str
) -> list[str]:
    """Where it hurt in sessions between two moments, in words, the newest session's first."""
    rows = db.execute(
        "SELECT x.place FROM practice_pain x JOIN practice_log l ON l.id = x.log_id"
        f" WHERE l.practitioner_id IN {PERSON} AND l.removed_at IS NULL"
        " AND l.started_at BETWEEN ? AND ? ORDER BY l.started_at DESC, l.id DESC, x.rowid",
        (practitioner_id, coach_id, since, until),
    )
    return [Place(r["place"]).said for r in rows]


def tell_more(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    log_id: int,
    place: Place,
    *,
    level: int | None,
    spreads: bool,
    after: str,
) -> bool:
    """Say more of a pain that was tapped in a session: how strong, whether it spreads, what it did
    since.
    """
    cursor = db.execute(
        "UPDATE practice_pain SET level = ?, spreads = ?, after = ? WHERE place = ? AND log_id IN"
        f" (SELECT id FROM practice_log WHERE id = ? AND practitioner_id IN {PERSON})",
        (level, int(spreads), after, place, log_id, practitioner_id, coach_id),
    )
    return cursor.rowcount > 0


def remove(
    db: Database, coach_id: int, practitioner_id: int, log_id: int, *, back: bool = False
) -> bool:
    """Put a session away that was logged by mistake, or bring it ``back``."""
    cursor = db.execute(
        f"UPDATE practice_log SET removed_at = ? WHERE id = ? AND practitioner_id IN {PERSON}",
        (None if back else db.now(), log_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def set_soreness(
    db: Database, coach_id: int, practitioner_id: int, log_id: int, soreness: int
) -> bool:
    """Say how sore the day after a session was, 0 to 10."""
    cursor = db.execute(
        f"UPDATE practice_log SET soreness = ? WHERE id = ? AND practitioner_id IN {PERSON}",
        (soreness, log_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1
