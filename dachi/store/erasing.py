"""Removing people, visits and photographs for good: every row that refers to them goes too.

Tables are found by their foreign keys, so that a table added later is not forgotten.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from dachi.store.database import Database


@dataclass(frozen=True)
class Gone:
    """What was removed: names of files that no record holds any more, and rows by table."""

    pictures: tuple[str, ...]
    rows: dict[str, int]


def practitioner(db: Database, coach_id: int, practitioner_id: int) -> Gone | None:
    """Remove a person and everything of theirs; None where they are not the coach's."""
    return _remove(
        db, "practitioner", "SELECT id FROM practitioner WHERE id = ? AND coach_id = ?",
        (practitioner_id, coach_id),
    )  # fmt: skip


def assessment(db: Database, coach_id: int, assessment_id: int) -> Gone | None:
    """Remove a visit with its photographs and readings; None where it is not the coach's."""
    return _remove(
        db, "assessment",
        "SELECT a.id FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE a.id = ? AND p.coach_id = ?",
        (assessment_id, coach_id),
    )  # fmt: skip


def trial(db: Database, coach_id: int, trial_id: int) -> Gone | None:
    """Remove a shot, its photograph and its readings; None where it is not the coach's."""
    return _remove(
        db, "trial",
        "SELECT t.id FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id WHERE t.id = ? AND p.coach_id = ?",
        (trial_id, coach_id),
    )  # fmt: skip


def photographs(db: Database, coach_id: int, practitioner_id: int) -> Gone | None:
    """Remove every photograph of a person with what was read from it; the person stays."""
    own = "SELECT id FROM practitioner WHERE id = ? AND coach_id = ?"
    values = (practitioner_id, coach_id)
    if db.execute(own, values).fetchone() is None:
        return None
    visits = f"SELECT id FROM assessment WHERE practitioner_id IN ({own})"
    waiting = db.execute(f"SELECT photo_id FROM tray WHERE assessment_id IN ({visits})", values)
    shown = {r["photo_id"] for r in waiting.fetchall()}
    db.execute(f"DELETE FROM tray WHERE assessment_id IN ({visits})", values)
    chosen = f"SELECT id FROM trial WHERE assessment_id IN ({visits})"
    return _remove(db, "trial", chosen, values, shown)


def put_away(db: Database, coach_id: int, before: str) -> Gone | None:
    """Remove a coach's trials that were put away before a moment (ISO), photographs left out of
    a visit before it, and those that no visit has known since.
    """
    lost = db.execute(
        "SELECT id FROM photo WHERE coach_id = ? AND created_at < ?"
        " AND id NOT IN (SELECT photo_id FROM trial)"
        " AND id NOT IN (SELECT photo_id FROM tray WHERE left_out_at IS NULL OR left_out_at >= ?)",
        (coach_id, before, before),
    )
    shown = {r["id"] for r in lost.fetchall()}
    out = "left_out_at < ? AND photo_id IN (SELECT id FROM photo WHERE coach_id = ?)"
    shown |= {
        r["photo_id"]
        for r in db.execute(f"SELECT photo_id FROM tray WHERE {out}", (before, coach_id)).fetchall()
    }
    db.execute(f"DELETE FROM tray WHERE {out}", (before, coach_id))
    return _remove(
        db, "trial",
        "SELECT t.id FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE p.coach_id = ? AND t.deleted_at IS NOT NULL AND t.deleted_at < ?",
        (coach_id, before), shown or None,
    )  # fmt: skip


def _remove(
    db: Database,
    table: str,
    chosen: str,
    values: tuple[object, ...],
    also_shown: set[int] | None = None,
) -> Gone | None:
    """Delete the chosen rows; ``also_shown`` are photographs that may be nobody's any more."""
    ids = [r["id"] for r in db.execute(chosen, values)]
    if not ids and also_shown is None:
        return None
    # What is deleted is overwritten, not only unlinked.
    db.execute("PRAGMA secure_delete = ON")
    referring = _references(db)
    rows: dict[str, int] = {}
    shown = set(also_shown or ())
    _drop(db, table, ids, referring, rows, shown)
    return Gone(_orphans(db, shown, referring, rows), rows)


def _references(db: Database) -> dict[str, list[tuple[str, str]]]:
    """Table to the (table, column) that go with it; what only names it is let go by itself."""
    names = [
        r["name"]
        for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        if not r["name"].startswith("sqlite_")
    ]
    found: dict[str, list[tuple[str, str]]] = {n: [] for n in names}
    for name in names:
        for r in db.execute(f"PRAGMA foreign_key_list({name})").fetchall():
            if r["on_delete"] != "SET NULL":
                found[r["table"]].append((name, r["from"]))
    return found


def _drop(
    db: Database,
    table: str,
    ids: Iterable[int],
    referring: dict[str, list[tuple[str, str]]],
    rows: dict[str, int],
    shown: set[int],
) -> None:
    """Delete rows by id, what refers to them first; ``shown`` gathers their photographs."""
    for one in ids:
        for child, column in referring[table]:
            if referring[child]:
                own = db.execute(f"SELECT id FROM {child} WHERE {column} = ?", (one,)).fetchall()
                _drop(db, child, [r["id"] for r in own], referring, rows, shown)
            elif child in ("tray",):
                held = db.execute(f"SELECT photo_id FROM {child} WHERE {column} = ?", (one,))
                shown |= {r["photo_id"] for r in held}
            gone = db.execute(f"DELETE FROM {child} WHERE {column} = ?", (one,)).rowcount
            rows[child] = rows.get(child, 0) + gone
        if table == "trial":
            shown |= {
                r["photo_id"] for r in db.execute("SELECT photo_id FROM trial WHERE id = ?", (one,))
            }
        gone = db.execute(f"DELETE FROM {table} WHERE id = ?", (one,)).rowcount
        rows[table] = rows.get(table, 0) + gone


def _orphans(
    db: Database,
    shown: Iterable[int],
    referring: dict[str, list[tuple[str, str]]],
    rows: dict[str, int],
) -> tuple[str, ...]:
    """Remove photographs that no trial or tray shows any more; hashes nobody records then."""
    names = set()
    for photo in sorted(shown):
        used = db.execute(
            "SELECT 1 FROM trial WHERE photo_id = :p UNION SELECT 1 FROM tray WHERE photo_id = :p",
            {"p": photo},
        ).fetchone()
        row = db.execute("SELECT sha256 FROM photo WHERE id = ?", (photo,)).fetchone()
        if used or row is None:
            continue
        _drop(db, "photo", [photo], referring, rows, set())
        names.add(row["sha256"])
    return tuple(
        sorted(
            n
            for n in names
            if db.execute("SELECT 1 FROM photo WHERE sha256 = ?", (n,)).fetchone() is None
        )
    )


def compact(db: Database) -> bool:
    """Write the database anew so that nothing removed is left in its file or its log.

    Overwriting what is deleted is not enough: pages that were balanced keep copies of cells. False
    where somebody is reading an older state still, and the log could not be emptied.
    """
    db.execute("VACUUM")
    busy, _, _ = db.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()
    return not busy
