"""Copies of the database while it is in use, and whether one is whole."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from dachi.files import synced
from dachi.store.database import FILE, MIGRATIONS, StoreError, newest_version

__all__ = [
    "FILE", "MIGRATIONS", "ComesBack", "comes_back", "copy", "end_sessions", "photo_hashes",
    "troubles", "version",
]  # fmt: skip


@dataclass(frozen=True)
class ComesBack:
    """What an older state of a record brings back: people and coaches by name, whose private links
    work again, whose consent stands, and how many who were signed in are not any more.
    """

    people: tuple[str, ...]
    coaches: tuple[str, ...]
    links: tuple[str, ...]
    consents: tuple[str, ...]
    sessions: int


def copy(source: Path, to: Path) -> None:
    """Copy a database as it is at this moment, while others write; whole or not there.

    Raises StoreError where it cannot be read or written.
    """
    part = to.with_name(f".part-{os.getpid()}-{to.name}")
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        with closing(sqlite3.connect(source)) as own, closing(sqlite3.connect(part)) as other:
            own.backup(other)
            other.execute("PRAGMA journal_mode = DELETE")
        part.chmod(0o600)
        synced(part)
        os.replace(part, to)
    except (sqlite3.Error, OSError) as error:
        part.unlink(missing_ok=True)
        raise StoreError(f"The database could not be copied to {to}: {error}.") from error


def version(path: Path) -> int:
    """The schema a database file has; StoreError where it is none, or from a newer Dachi."""
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as db:
            (found,) = db.execute("PRAGMA user_version").fetchone()
            db.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.Error as error:
        raise StoreError(f"{path} is no database that can be read ({error}).") from error
    if found > newest_version():
        raise StoreError(
            f"{path} was written by a newer Dachi (schema {found}, this one knows "
            f"{newest_version()}): update this program."
        )
    return int(found)


def troubles(path: Path) -> list[str]:
    """What is wrong within a database file, as sentences; none where it is whole."""
    try:
        with closing(sqlite3.connect(path)) as db:
            found = [r[0] for r in db.execute("PRAGMA integrity_check(20)") if r[0] != "ok"]
            lost = db.execute("PRAGMA foreign_key_check").fetchall()
    except sqlite3.DatabaseError as error:
        return [f"the database cannot be read: {error}"]
    found += [f"a row of {r[0]} points to a {r[2]} that is not there" for r in lost[:20]]
    return found


def photo_hashes(path: Path) -> dict[str, str]:
    """The pictures a database file records: SHA-256 of the stored one to that of the source."""
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as db:
            return dict(db.execute("SELECT sha256, source_sha256 FROM photo"))
    except sqlite3.Error as error:
        raise StoreError(f"The pictures recorded in {path} cannot be read ({error}).") from error


def comes_back(path: Path, *, end_links: bool = False) -> ComesBack:
    """Look what a database file brings back. StoreError where it cannot be read."""

    def names(statement: str) -> tuple[str, ...]:
        try:
            return tuple(str(r[0]) for r in db.execute(statement).fetchall())
        except sqlite3.OperationalError:
            # Of before there was any such thing.
            return ()

    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as db:
            return ComesBack(
                names("SELECT call_name FROM practitioner ORDER BY call_name COLLATE NOCASE"),
                names("SELECT email FROM coach ORDER BY id"),
                () if end_links else names(
                    "SELECT DISTINCT p.call_name FROM private_link l JOIN practitioner p"
                    " ON p.id = l.practitioner_id WHERE l.revoked_at IS NULL ORDER BY 1"
                ),
                names(
                    "SELECT DISTINCT p.call_name FROM consent c JOIN practitioner p"
                    " ON p.id = c.practitioner_id WHERE c.withdrawn_on IS NULL ORDER BY 1"
                ),
                len(names("SELECT id FROM coach_session")),
            )  # fmt: skip
    except sqlite3.Error as error:
        raise StoreError(f"{path} cannot be read ({error}).") from error


def end_sessions(path: Path, *, links: bool) -> None:
    """Nobody is signed in to a database file any more, and links for phones have ended; with
    ``links`` private ones too. StoreError where it cannot be written.
    """
    try:
        with closing(sqlite3.connect(path)) as db, db:
            known = {r[0] for r in db.execute("SELECT name FROM sqlite_master")}
            for table in ("coach_session", "phone_link", *(("private_link",) if links else ())):
                if table in known:
                    db.execute(f"DELETE FROM {table}")
    except sqlite3.Error as error:
        raise StoreError(f"{path} cannot be written ({error}).") from error
