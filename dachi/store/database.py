"""Opening the database and bringing it up to date."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

MIGRATIONS = Path(__file__).parent / "migrations"


class StoreError(RuntimeError):
    """The data folder cannot be used; the message says what to do."""


class Conflict(RuntimeError):
    """Something changed in between or exists already; the message says what."""


def now() -> str:
    """UTC time as stored: ISO 8601 to the millisecond."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def open_folder(folder: Path) -> Path:
    """Make the data folder, check that it can be written to, and return it as absolute.

    Everything below is handed the absolute folder: what serves a file may resolve a
    relative one against somewhere else.
    """
    folder = folder.expanduser().absolute()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        probe = folder / f".probe-{os.getpid()}"
        probe.write_bytes(b"")
        probe.unlink()
    except OSError as error:
        raise StoreError(
            f"The data folder {folder} cannot be written to ({error.strerror}). Choose another "
            "with DACHI_DATA=/some/folder."
        ) from error
    return folder


def connect(folder: Path) -> sqlite3.Connection:
    """Open a connection in autocommit mode, with foreign keys on."""
    try:
        db = sqlite3.connect(folder / "dachi.sqlite3", isolation_level=None, timeout=10)
        db.row_factory = sqlite3.Row
        db.execute("PRAGMA foreign_keys = ON")
        db.execute("PRAGMA synchronous = FULL")
    except sqlite3.DatabaseError as error:
        raise StoreError(f"The database in {folder} cannot be opened: {error}.") from error
    return db


@contextmanager
def transaction(db: sqlite3.Connection) -> Iterator[sqlite3.Connection]:
    """One write transaction: everything inside happens, or nothing does."""
    db.execute("BEGIN IMMEDIATE")
    try:
        yield db
    except BaseException:
        db.execute("ROLLBACK")
        raise
    db.execute("COMMIT")


def migrate(db: sqlite3.Connection, scripts: Path = MIGRATIONS) -> int:
    """Apply pending ``NNN-name.sql`` scripts, each in one transaction; return the version."""
    db.execute("PRAGMA journal_mode = WAL")
    (version,) = db.execute("PRAGMA user_version").fetchone()
    for path in sorted(scripts.glob("*.sql")):
        number = int(path.name.split("-")[0])
        if number <= version:
            continue
        statements = path.read_text("utf-8")
        try:
            db.executescript(
                f"BEGIN IMMEDIATE;\n{statements}\nPRAGMA user_version = {number};\nCOMMIT;"
            )
        except sqlite3.Error as error:
            if db.in_transaction:
                db.execute("ROLLBACK")
            raise StoreError(f"The database could not be brought up to date: {error}.") from error
        version = number
    return int(version)
