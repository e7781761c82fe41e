"""Practice of practitioners: profile, wishes, plans, log, proposals, the private link."""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from dachi.core.progression import Proposal
from dachi.store.database import now

_OWN = "SELECT id FROM practitioner WHERE id = ? AND coach_id = ?"


@dataclass(frozen=True)
class Profile:
    """How somebody practises. ``tuned`` is what accepted proposals changed."""

    level: int = 1
    minutes: float = 20.0
    weekdays: tuple[int, ...] = (0, 2, 4, 6)
    cautions: tuple[str, ...] = ()
    tuned: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Entry:
    """A logged session. ``done`` rows: drill, seconds, felt, prop_cm, layers."""

    id: int
    started_at: str
    seconds: float
    felt: str
    finished: bool
    done: tuple[Mapping[str, Any], ...]
    notes: str
    soreness: int | None
    pains: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True)
class Offered:
    """A stored proposal."""

    id: int
    kind: str
    subject: str
    text: str
    reason: str
    change: Mapping[str, Any]
    made_at: str
    decided_at: str | None
    accepted: bool | None


def profile(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> Profile | None:
    """Return how somebody practises, None where nobody has said."""
    row = db.execute(
        f"SELECT * FROM practice_profile WHERE practitioner_id IN ({_OWN})",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    return Profile(
        row["level"],
        row["minutes"],
        tuple(json.loads(row["weekdays"])),
        tuple(json.loads(row["cautions"])),
        json.loads(row["tuned"]),
    )


def save_profile(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, found: Profile
) -> None:
    """Keep how somebody practises."""
    db.execute(
        "INSERT INTO practice_profile (practitioner_id, level, minutes, weekdays, cautions, tuned,"
        f" saved_at) SELECT id, ?, ?, ?, ?, ?, ? FROM ({_OWN}) WHERE true"
        " ON CONFLICT (practitioner_id) DO UPDATE SET level = excluded.level,"
        " minutes = excluded.minutes, weekdays = excluded.weekdays, cautions = excluded.cautions,"
        " tuned = excluded.tuned, saved_at = excluded.saved_at",
        (
            found.level,
            found.minutes,
            json.dumps(sorted(found.weekdays)),
            json.dumps(sorted(found.cautions)),
            json.dumps(dict(found.tuned), sort_keys=True),
            now(),
            practitioner_id,
            coach_id,
        ),
    )


def wishes(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int
) -> list[tuple[int, str, str]]:
    """Return (weekday, drill, kind) changed by hand."""
    rows = db.execute(
        f"SELECT * FROM practice_wish WHERE practitioner_id IN ({_OWN}) ORDER BY weekday, drill",
        (practitioner_id, coach_id),
    )
    return [(r["weekday"], r["drill"], r["kind"]) for r in rows]


def wish(
    db: sqlite3.Connection,
    coach_id: int,
    practitioner_id: int,
    weekday: int,
    drill: str,
    kind: str | None,
) -> None:
    """Keep or drop a drill on a day by hand; None takes the wish back."""
    db.execute(
        "DELETE FROM practice_wish WHERE weekday = ? AND drill = ?"
        f" AND practitioner_id IN ({_OWN})",
        (weekday, drill, practitioner_id, coach_id),
    )
    if kind is not None:
        db.execute(
            "INSERT INTO practice_wish (practitioner_id, weekday, drill, kind)"
            f" SELECT id, ?, ?, ? FROM ({_OWN})",
            (weekday, drill, kind, practitioner_id, coach_id),
        )


def plan(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int
) -> tuple[str, dict[str, Any], str] | None:
    """Return the newest plan: digest of its input, body, and when it was made."""
    row = db.execute(
        f"SELECT * FROM week_plan WHERE practitioner_id IN ({_OWN}) ORDER BY id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    return (row["digest"], json.loads(row["body"]), row["made_at"]) if row else None


def save_plan(
    db: sqlite3.Connection,
    coach_id: int,
    practitioner_id: int,
    digest: str,
    body: Mapping[str, Any],
) -> None:
    """Keep a plan; earlier ones stay as history."""
    db.execute(
        "INSERT INTO week_plan (practitioner_id, digest, body, made_at)"
        f" SELECT id, ?, ?, ? FROM ({_OWN})",
        (digest, json.dumps(body, ensure_ascii=False), now(), practitioner_id, coach_id),
    )


def add_log(
    db: sqlite3.Connection,
    coach_id: int,
    practitioner_id: int,
    *,
    once_key: str,
    started_at: str,
    seconds: float,
    felt: str,
    finished: bool,
    done: Sequence[Mapping[str, Any]],
    notes: str = "",
    pains: Sequence[tuple[str, str, str]] = (),
) -> int:
    """Log a session; sent twice it is there once. ``pains``: drill, place, kind."""
    row = db.execute(
        f"SELECT id FROM practice_log WHERE once_key = ? AND practitioner_id IN ({_OWN})",
        (once_key, practitioner_id, coach_id),
    ).fetchone()
    if row:
        return int(row["id"])
    cursor = db.execute(
        "INSERT INTO practice_log (practitioner_id, once_key, started_at, seconds, felt, finished,"
        f" done, notes, created_at) SELECT id, ?, ?, ?, ?, ?, ?, ?, ? FROM ({_OWN})",
        (
            once_key,
            started_at,
            seconds,
            felt,
            int(finished),
            json.dumps([dict(d) for d in done]),
            notes,
            now(),
            practitioner_id,
            coach_id,
        ),
    )
    log_id = int(cursor.lastrowid or 0)
    db.executemany(
        "INSERT INTO practice_pain (log_id, drill, place, kind) VALUES (?, ?, ?, ?)",
        [(log_id, *p) for p in pains],
    )
    return log_id


def log(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, most: int = 400
) -> list[Entry]:
    """Return logged sessions, newest first."""
    rows = db.execute(
        f"SELECT * FROM practice_log WHERE removed_at IS NULL AND practitioner_id IN ({_OWN})"
        " ORDER BY started_at DESC, id DESC LIMIT ?",
        (practitioner_id, coach_id, most),
    ).fetchall()
    pains: dict[int, list[tuple[str, str, str]]] = {}
    for p in db.execute(
        "SELECT p.* FROM practice_pain p JOIN practice_log l ON l.id = p.log_id"
        f" WHERE l.practitioner_id IN ({_OWN}) ORDER BY p.rowid",
        (practitioner_id, coach_id),
    ):
        pains.setdefault(p["log_id"], []).append((p["drill"], p["place"], p["kind"]))
    return [
        Entry(
            r["id"],
            r["started_at"],
            r["seconds"],
            r["felt"],
            bool(r["finished"]),
            tuple(json.loads(r["done"])),
            r["notes"],
            r["soreness"],
            tuple(pains.get(r["id"], ())),
        )
        for r in rows
    ]


def remove_log(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, log_id: int, *, back: bool = False
) -> bool:
    """Put a session away that was logged by mistake, or bring it ``back``."""
    cursor = db.execute(
        f"UPDATE practice_log SET removed_at = ? WHERE id = ? AND practitioner_id IN ({_OWN})",
        (None if back else now(), log_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def set_soreness(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, log_id: int, soreness: int
) -> bool:
    """Say how sore the day after a session was, 0 to 10."""
    cursor = db.execute(
        f"UPDATE practice_log SET soreness = ? WHERE id = ? AND practitioner_id IN ({_OWN})",
        (soreness, log_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def offer(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, found: Sequence[Proposal]
) -> None:
    """Put new proposals beside the open ones; what was decided lately is not asked again.

    Open ones that no longer hold are taken away.
    """
    keys = {(p.kind, p.subject, p.text) for p in found}
    rows = db.execute(
        f"SELECT * FROM proposal WHERE practitioner_id IN ({_OWN}) AND (decided_at IS NULL"
        " OR decided_at > datetime('now', '-14 days'))",
        (practitioner_id, coach_id),
    ).fetchall()
    known = {(r["kind"], r["subject"], r["text"]) for r in rows}
    db.executemany(
        "DELETE FROM proposal WHERE id = ?",
        [
            (r["id"],)
            for r in rows
            if r["decided_at"] is None and (r["kind"], r["subject"], r["text"]) not in keys
        ],
    )
    db.executemany(
        "INSERT INTO proposal (practitioner_id, kind, subject, text, reason, change, made_at)"
        f" SELECT id, ?, ?, ?, ?, ?, ? FROM ({_OWN})",
        [
            (
                p.kind, p.subject, p.text, p.reason, json.dumps(dict(p.change)), now(),
                practitioner_id, coach_id,
            )
            for p in found
            if (p.kind, p.subject, p.text) not in known
        ],
    )  # fmt: skip


def proposals(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> list[Offered]:
    """Return proposals, open ones first, then the newest decided."""
    rows = db.execute(
        f"SELECT * FROM proposal WHERE practitioner_id IN ({_OWN})"
        " ORDER BY decided_at IS NOT NULL, CASE WHEN decided_at IS NULL THEN instr("
        " 'refer back ease easy_week advance hold', kind) ELSE 0 END,"
        " coalesce(decided_at, made_at) DESC, id DESC LIMIT 60",
        (practitioner_id, coach_id),
    )
    return [
        Offered(
            r["id"],
            r["kind"],
            r["subject"],
            r["text"],
            r["reason"],
            json.loads(r["change"]),
            r["made_at"],
            r["decided_at"],
            None if r["accepted"] is None else bool(r["accepted"]),
        )
        for r in rows
    ]


def decide(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, proposal_id: int, accepted: bool
) -> bool:
    """Accept or decline an open proposal."""
    cursor = db.execute(
        "UPDATE proposal SET decided_at = ?, accepted = ? WHERE id = ? AND decided_at IS NULL"
        f" AND practitioner_id IN ({_OWN})",
        (now(), int(accepted), proposal_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def make_link(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> str:
    """Make the private link anew; the one before stops working."""
    revoke_link(db, coach_id, practitioner_id)
    nonce = secrets.token_urlsafe(18)
    db.execute(
        "INSERT INTO private_link (nonce, practitioner_id, created_at)"
        f" SELECT ?, id, ? FROM ({_OWN})",
        (nonce, now(), practitioner_id, coach_id),
    )
    return nonce


def revoke_link(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> None:
    """Take the private link back."""
    db.execute(
        "UPDATE private_link SET revoked_at = ? WHERE revoked_at IS NULL"
        f" AND practitioner_id IN ({_OWN})",
        (now(), practitioner_id, coach_id),
    )


def link(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> str | None:
    """Return the nonce of the link that works, if there is one."""
    row = db.execute(
        f"SELECT nonce FROM private_link WHERE revoked_at IS NULL AND practitioner_id IN ({_OWN})",
        (practitioner_id, coach_id),
    ).fetchone()
    return row["nonce"] if row else None


def behind_link(db: sqlite3.Connection, nonce: str) -> tuple[int, int] | None:
    """Return (coach_id, practitioner_id) of a link that works."""
    row = db.execute(
        "SELECT p.coach_id, p.id FROM private_link l"
        " JOIN practitioner p ON p.id = l.practitioner_id"
        " WHERE l.nonce = ? AND l.revoked_at IS NULL",
        (nonce,),
    ).fetchone()
    return (row["coach_id"], row["id"]) if row else None
