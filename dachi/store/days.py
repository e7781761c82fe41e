"""The day of an assessment: the person's state, the run sheet, signing off, the phone."""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from dachi.core.runsheet import Line
from dachi.store.database import Conflict, now

_OWN = (
    "SELECT a.id FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
    " WHERE a.id = ? AND p.coach_id = ?"
)


@dataclass(frozen=True)
class State:
    """How the person is: ``pain`` by place 0 to 10, hours slept, warm-up in minutes."""

    pain: Mapping[str, int] = field(default_factory=dict)
    sleep_h: float | None = None
    hard_training: str = ""
    warm_up_min: float | None = None
    saved_at: str = ""


@dataclass(frozen=True)
class Event:
    """A signing off or a reopening, UTC."""

    kind: str
    reason: str
    at: str


def claim(db: sqlite3.Connection, coach_id: int, assessment_id: int, seen: int) -> None:
    """Take the next revision; Conflict where another device has saved since ``seen``."""
    cursor = db.execute(
        f"UPDATE assessment SET revision = revision + 1 WHERE revision = ? AND id IN ({_OWN})",
        (seen, assessment_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict(
            "Another device has changed this assessment since this page was opened. Its change is "
            "shown now; make yours again if it is still wanted"
        )


def state(db: sqlite3.Connection, coach_id: int, assessment_id: int) -> State | None:
    """Return how the person was, None where nobody has said."""
    row = db.execute(
        f"SELECT * FROM assessment_state WHERE assessment_id IN ({_OWN})",
        (assessment_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    return State(
        json.loads(row["pain"]),
        row["sleep_h"],
        row["hard_training"],
        row["warm_up_min"],
        row["saved_at"],
    )


def last_state(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> State | None:
    """Return the newest state of any of a practitioner's assessments."""
    row = db.execute(
        "SELECT s.assessment_id FROM assessment_state s JOIN assessment a ON a.id = s.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.id = ? AND p.coach_id = ?"
        " ORDER BY a.taken_at DESC, a.id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    return state(db, coach_id, row["assessment_id"]) if row else None


def save_state(db: sqlite3.Connection, coach_id: int, assessment_id: int, found: State) -> None:
    """Keep how the person is today."""
    db.execute(
        "INSERT INTO assessment_state (assessment_id, pain, sleep_h, hard_training, warm_up_min,"
        f" saved_at) SELECT id, ?, ?, ?, ?, ? FROM ({_OWN}) WHERE true"
        " ON CONFLICT (assessment_id) DO UPDATE SET pain = excluded.pain,"
        " sleep_h = excluded.sleep_h, hard_training = excluded.hard_training,"
        " warm_up_min = excluded.warm_up_min, saved_at = excluded.saved_at",
        (
            json.dumps(dict(found.pain), sort_keys=True),
            found.sleep_h,
            found.hard_training,
            found.warm_up_min,
            now(),
            assessment_id,
            coach_id,
        ),
    )


def lines(db: sqlite3.Connection, coach_id: int, assessment_id: int) -> tuple[Line, ...]:
    """Return the rows of the run sheet in order."""
    rows = db.execute(
        f"SELECT * FROM sheet_line WHERE assessment_id IN ({_OWN}) ORDER BY place",
        (assessment_id, coach_id),
    )
    return tuple(Line(r["pose"], r["side"], r["mode"], r["trials"]) for r in rows)


def save_lines(
    db: sqlite3.Connection, coach_id: int, assessment_id: int, found: Sequence[Line]
) -> None:
    """Replace the run sheet."""
    if db.execute(_OWN, (assessment_id, coach_id)).fetchone() is None:
        raise Conflict("There is no such assessment.")
    db.execute("DELETE FROM sheet_line WHERE assessment_id = ?", (assessment_id,))
    db.executemany(
        "INSERT INTO sheet_line (assessment_id, place, pose, side, mode, trials)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        [(assessment_id, i, x.pose, x.side, x.mode, x.trials) for i, x in enumerate(found)],
    )


def first_sides(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> list[str]:
    """Return the side that went first at each visit, newest first.

    Visits without a sheet tell it by their first photograph.
    """
    rows = db.execute(
        "SELECT coalesce((SELECT l.side FROM sheet_line l WHERE l.assessment_id = a.id"
        "  AND l.side <> 'both' ORDER BY l.place LIMIT 1),"
        " (SELECT t.side FROM trial t WHERE t.assessment_id = a.id AND t.side <> 'both'"
        "  AND t.deleted_at IS NULL ORDER BY t.id LIMIT 1)) AS side"
        " FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE p.id = ? AND p.coach_id = ? ORDER BY a.taken_at DESC, a.id DESC",
        (practitioner_id, coach_id),
    )
    return [r["side"] for r in rows if r["side"]]


def sign_off(db: sqlite3.Connection, coach_id: int, assessment_id: int) -> bool:
    """Close an assessment; False where it is closed already."""
    return _event(db, coach_id, assessment_id, "signed off", "", now(), "IS NULL")


def reopen(db: sqlite3.Connection, coach_id: int, assessment_id: int, reason: str) -> bool:
    """Open a closed assessment again; the reason is kept."""
    return _event(db, coach_id, assessment_id, "reopened", reason, None, "IS NOT NULL")


def _event(
    db: sqlite3.Connection,
    coach_id: int,
    assessment_id: int,
    kind: str,
    reason: str,
    signed: str | None,
    only: str,
) -> bool:
    cursor = db.execute(
        f"UPDATE assessment SET signed_off_at = ? WHERE signed_off_at {only} AND id IN ({_OWN})",
        (signed, assessment_id, coach_id),
    )
    if cursor.rowcount != 1:
        return False
    db.execute(
        "INSERT INTO assessment_event (assessment_id, kind, reason, at) VALUES (?, ?, ?, ?)",
        (assessment_id, kind, reason, now()),
    )
    return True


def events(db: sqlite3.Connection, coach_id: int, assessment_id: int) -> list[Event]:
    """Return signings and reopenings, oldest first."""
    rows = db.execute(
        f"SELECT * FROM assessment_event WHERE assessment_id IN ({_OWN}) ORDER BY id",
        (assessment_id, coach_id),
    )
    return [Event(r["kind"], r["reason"], r["at"]) for r in rows]


def open_phone(db: sqlite3.Connection, coach_id: int, assessment_id: int, expires_at: str) -> str:
    """Start a link for a phone and return its nonce; earlier ones stay as they are."""
    nonce = secrets.token_urlsafe(9)
    db.execute(
        "INSERT INTO phone_link (nonce, assessment_id, expires_at, created_at)"
        f" SELECT ?, id, ?, ? FROM ({_OWN})",
        (nonce, expires_at, now(), assessment_id, coach_id),
    )
    return nonce


def close_phones(db: sqlite3.Connection, coach_id: int, assessment_id: int) -> None:
    """Revoke every phone link of an assessment."""
    db.execute(
        "UPDATE phone_link SET revoked_at = ? WHERE revoked_at IS NULL"
        f" AND assessment_id IN ({_OWN})",
        (now(), assessment_id, coach_id),
    )


def phone(db: sqlite3.Connection, nonce: str) -> sqlite3.Row | None:
    """Return the link's assessment_id, coach_id, expires_at and revoked_at."""
    row: sqlite3.Row | None = db.execute(
        "SELECT l.assessment_id, l.expires_at, l.revoked_at, p.coach_id FROM phone_link l"
        " JOIN assessment a ON a.id = l.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE l.nonce = ?",
        (nonce,),
    ).fetchone()
    return row


def live_phone(db: sqlite3.Connection, coach_id: int, assessment_id: int, at: str) -> str | None:
    """Return the nonce of a phone link that works at a moment, if there is one."""
    row = db.execute(
        "SELECT nonce FROM phone_link WHERE revoked_at IS NULL AND expires_at > ?"
        f" AND assessment_id IN ({_OWN}) ORDER BY expires_at DESC LIMIT 1",
        (at, assessment_id, coach_id),
    ).fetchone()
    return row["nonce"] if row else None


@dataclass(frozen=True)
class Waiting:
    """A photograph in the tray."""

    photo_id: int
    name: str
    taken_at: str | None


def lay_in_tray(db: sqlite3.Connection, assessment_id: int, photo_id: int, name: str) -> None:
    """Keep a photograph until it is sorted onto the sheet."""
    db.execute(
        "INSERT OR IGNORE INTO tray (assessment_id, photo_id, name, created_at)"
        " VALUES (?, ?, ?, ?)",
        (assessment_id, photo_id, name[:200], now()),
    )


def tray(db: sqlite3.Connection, coach_id: int, assessment_id: int) -> list[Waiting]:
    """Return what waits in the tray, in the order it came in."""
    rows = db.execute(
        "SELECT t.photo_id, t.name, ph.taken_at FROM tray t JOIN photo ph ON ph.id = t.photo_id"
        f" WHERE t.assessment_id IN ({_OWN}) ORDER BY t.created_at, t.photo_id",
        (assessment_id, coach_id),
    )
    return [Waiting(r["photo_id"], r["name"], r["taken_at"]) for r in rows]


def take_from_tray(
    db: sqlite3.Connection, coach_id: int, assessment_id: int, photo_ids: Iterable[int]
) -> None:
    """Take photographs out of the tray."""
    db.executemany(
        f"DELETE FROM tray WHERE photo_id = ? AND assessment_id IN ({_OWN})",
        [(p, assessment_id, coach_id) for p in photo_ids],
    )


@dataclass(frozen=True)
class Opinion:
    """An angle from another instrument, degrees, with its standard deviation."""

    device: str
    angle: float
    sd: float


def give_opinion(db: sqlite3.Connection, trial_id: int, found: Opinion) -> None:
    """Keep another instrument's angle beside a trial's; a later one replaces it."""
    db.execute(
        "INSERT INTO second_opinion (trial_id, device, angle, sd, saved_at) VALUES (?, ?, ?, ?, ?)"
        " ON CONFLICT (trial_id) DO UPDATE SET device = excluded.device, angle = excluded.angle,"
        " sd = excluded.sd, saved_at = excluded.saved_at",
        (trial_id, found.device, found.angle, found.sd, now()),
    )


def opinion(db: sqlite3.Connection, trial_id: int) -> Opinion | None:
    """Return another instrument's angle for a trial."""
    row = db.execute("SELECT * FROM second_opinion WHERE trial_id = ?", (trial_id,)).fetchone()
    return Opinion(row["device"], row["angle"], row["sd"]) if row else None
