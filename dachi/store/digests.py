"""What lists show of a practitioner's poses, kept beside the markings it was derived from."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dachi.store.database import now


@dataclass(frozen=True)
class Digest:
    """One pose of a practitioner: ``body`` for the overview, ``news`` for Today."""

    practitioner_id: int
    pose: str
    body: Mapping[str, Any]
    news: tuple[Mapping[str, Any], ...]
    retest_on: str | None


@dataclass(frozen=True)
class Seen:
    """A practitioner as Today shows one."""

    id: int
    call_name: str
    next_visit_at: str | None
    assessments: int
    last_at: str | None
    first_unmarked: int | None
    unmarked: int
    retest_on: str | None
    news: tuple[Mapping[str, Any], ...]
    pain: tuple[str, str] | None = None
    consent_missing: bool = False


def save(
    db: sqlite3.Connection,
    practitioner_id: int,
    pose: str,
    body: Mapping[str, Any],
    news: list[dict[str, Any]],
    news_on: str | None,
    retest_on: str | None,
    repeats: Mapping[tuple[str, str], tuple[float, float]],
) -> None:
    """Replace the digest of a pose; ``repeats`` maps (family, mode) to squares and df."""
    db.execute(
        "INSERT INTO pose_digest (practitioner_id, pose, body, news, news_on, retest_on,"
        " updated_at) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (practitioner_id, pose)"
        " DO UPDATE SET body = excluded.body, news = excluded.news, news_on = excluded.news_on,"
        " retest_on = excluded.retest_on, updated_at = excluded.updated_at",
        (
            practitioner_id,
            pose,
            json.dumps(body, ensure_ascii=False),
            json.dumps(news, ensure_ascii=False),
            news_on,
            retest_on,
            now(),
        ),
    )
    db.execute(
        "DELETE FROM repeatability WHERE practitioner_id = ? AND pose = ?", (practitioner_id, pose)
    )
    db.executemany(
        "INSERT INTO repeatability (practitioner_id, pose, family, mode, squares, df)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        [(practitioner_id, pose, f, m, s, df) for (f, m), (s, df) in repeats.items() if df],
    )


def drop(db: sqlite3.Connection, practitioner_id: int, pose: str) -> None:
    """Remove the digest of a pose that has no markings left."""
    for table in ("pose_digest", "repeatability"):
        db.execute(
            f"DELETE FROM {table} WHERE practitioner_id = ? AND pose = ?", (practitioner_id, pose)
        )


def of_practitioner(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> list[Digest]:
    """Return the digests of a practitioner's poses."""
    rows = db.execute(
        "SELECT d.* FROM pose_digest d JOIN practitioner p ON p.id = d.practitioner_id"
        " WHERE p.coach_id = ? AND p.id = ?",
        (coach_id, practitioner_id),
    )
    return [
        Digest(
            r["practitioner_id"],
            r["pose"],
            json.loads(r["body"]),
            tuple(json.loads(r["news"])),
            r["retest_on"],
        )
        for r in rows
    ]


def stamp(db: sqlite3.Connection, practitioner_id: int, pose: str) -> str | None:
    """When the digest of a pose was last derived: it changes with every marking and trial."""
    row = db.execute(
        "SELECT updated_at FROM pose_digest WHERE practitioner_id = ? AND pose = ?",
        (practitioner_id, pose),
    ).fetchone()
    return row["updated_at"] if row else None


def poses(db: sqlite3.Connection, coach_id: int, practitioner_id: int) -> set[str]:
    """Return the poses a practitioner has readings of."""
    rows = db.execute(
        "SELECT d.pose FROM pose_digest d JOIN practitioner p ON p.id = d.practitioner_id"
        " WHERE p.coach_id = ? AND p.id = ?",
        (coach_id, practitioner_id),
    )
    return {r["pose"] for r in rows}


def others_repeats(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, pose: str, family: str
) -> dict[str, tuple[float, float]]:
    """Squares and df of repeated trials with the coach's other people, for each mode."""
    rows = db.execute(
        "SELECT r.mode, sum(r.squares) AS squares, sum(r.df) AS df FROM repeatability r"
        " JOIN practitioner p ON p.id = r.practitioner_id WHERE p.coach_id = ?"
        " AND r.practitioner_id <> ? AND r.pose = ? AND r.family = ? GROUP BY r.mode",
        (coach_id, practitioner_id, pose, family),
    )
    return {r["mode"]: (r["squares"], r["df"]) for r in rows}


def today(db: sqlite3.Connection, coach_id: int, news_since: str, pain_since: str) -> list[Seen]:
    """Return everybody with what Today asks: visits, pain, what is unmarked, due and new."""
    unmarked: dict[int, tuple[int, int]] = {
        r["practitioner_id"]: (r["first"], r["count"])
        for r in db.execute(
            "SELECT a.practitioner_id, min(t.id) AS first, count(*) AS count FROM trial t"
            " JOIN assessment a ON a.id = t.assessment_id"
            " JOIN practitioner p ON p.id = a.practitioner_id"
            " WHERE p.coach_id = ? AND t.deleted_at IS NULL AND t.marked = 0"
            " GROUP BY a.practitioner_id",
            (coach_id,),
        )
    }
    news: dict[int, list[Mapping[str, Any]]] = {}
    for r in db.execute(
        "SELECT d.practitioner_id, d.news FROM pose_digest d JOIN practitioner p"
        " ON p.id = d.practitioner_id WHERE p.coach_id = ? AND d.news_on >= ?",
        (coach_id, news_since),
    ):
        news.setdefault(r["practitioner_id"], []).extend(json.loads(r["news"]))
    due = {
        r["practitioner_id"]: r["due"]
        for r in db.execute(
            "SELECT d.practitioner_id, min(d.retest_on) AS due FROM pose_digest d"
            " JOIN practitioner p ON p.id = d.practitioner_id WHERE p.coach_id = ?"
            " GROUP BY d.practitioner_id",
            (coach_id,),
        )
    }
    pain: dict[int, tuple[str, str]] = {}
    for r in db.execute(
        "SELECT l.practitioner_id, x.place, l.started_at FROM practice_pain x"
        " JOIN practice_log l ON l.id = x.log_id JOIN practitioner p ON p.id = l.practitioner_id"
        " WHERE p.coach_id = ? AND l.started_at >= ? AND l.removed_at IS NULL"
        " ORDER BY l.started_at",
        (coach_id, pain_since),
    ):
        pain[r["practitioner_id"]] = (r["place"], r["started_at"])
    agreed = {
        r["practitioner_id"]
        for r in db.execute(
            "SELECT c.practitioner_id FROM consent c JOIN practitioner p"
            " ON p.id = c.practitioner_id WHERE p.coach_id = ? AND c.withdrawn_on IS NULL",
            (coach_id,),
        )
    }
    rows = db.execute(
        "SELECT p.id, p.call_name, p.next_visit_at, count(a.id) AS assessments,"
        " max(a.taken_at) AS last_at FROM practitioner p"
        " LEFT JOIN assessment a ON a.practitioner_id = p.id"
        " WHERE p.coach_id = ? GROUP BY p.id ORDER BY p.call_name COLLATE NOCASE",
        (coach_id,),
    )
    return [
        Seen(
            r["id"],
            r["call_name"],
            r["next_visit_at"],
            r["assessments"],
            r["last_at"],
            unmarked.get(r["id"], (None, 0))[0],
            unmarked.get(r["id"], (None, 0))[1],
            due.get(r["id"]),
            tuple(news.get(r["id"], ())),
            pain.get(r["id"]),
            r["id"] not in agreed,
        )
        for r in rows
    ]
