"""Opening the database and bringing it up to date."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from dachi.clock import Clock
from dachi.errors import Told

MIGRATIONS = Path(__file__).parent / "migrations"


class StoreError(Told):
    """The data folder cannot be used; the message says what to do."""


class Conflict(Told):
    """Something changed in between or exists already; the message says what."""


class DiskFull(Told):
    """The database could not grow; whoever is told can make room."""

    def __init__(self) -> None:
        super().__init__(
            "The disk is full: nothing was saved, and nothing that was there is lost. Free some "
            "space, then do it again."
        )


class Database(sqlite3.Connection):
    """A connection that carries the clock by which stored things are dated.

    ``writing`` says whether the transaction that is open holds the write lock.
    """

    clock: Clock
    writing = False

    def execute(self, *args: Any) -> sqlite3.Cursor:
        """Run a statement; DiskFull where there is no room for what it writes."""
        try:
            return super().execute(*args)
        except sqlite3.OperationalError as error:
            if "full" in str(error):
                raise DiskFull from error
            raise

    def now(self) -> str:
        """UTC time as stored: ISO 8601 to the millisecond."""
        return self.clock.stamp()

    def begin(self, *, write: bool) -> None:
        """Open a transaction; a ``write`` one waits for others to finish theirs."""
        self.execute("BEGIN IMMEDIATE" if write else "BEGIN")
        self.writing = write

    def end(self, *, keep: bool) -> None:
        """Commit or roll back what is open, if anything is."""
        if self.in_transaction:
            self.execute("COMMIT" if keep else "ROLLBACK")
        self.writing = False

    def again(self, *, keep: bool) -> None:
        """End the open transaction and open another of its kind."""
        write = self.writing
        self.end(keep=keep)
        self.begin(write=write)

    def to_write(self) -> None:
        """Take the write lock for something derived; a transaction that has it goes on.

        What was read so far may have changed since: what is written must not depend on it.
        """
        if not self.writing:
            self.end(keep=True)
            self.begin(write=True)

    @contextmanager
    def unlocked(self) -> Iterator[None]:
        """Let others write while slow work is done that needs no database."""
        write = self.writing
        self.end(keep=True)
        try:
            yield
        finally:
            self.begin(write=write)


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


def connect(folder: Path, clock: Clock) -> Database:
    """Open a connection in autocommit mode, with foreign keys on."""
    try:
        db = sqlite3.connect(
            folder / "dachi.sqlite3", isolation_level=None, timeout=10, factory=Database
        )
        db.clock = clock
        db.row_factory = sqlite3.Row
        db.execute("PRAGMA foreign_keys = ON")
        db.execute("PRAGMA synchronous = FULL")
    except sqlite3.DatabaseError as error:
        raise StoreError(f"The database in {folder} cannot be opened: {error}.") from error
    return db


@contextmanager
def transaction(db: Database) -> Iterator[Database]:
    """One write transaction: everything inside happens, or nothing does."""
    db.begin(write=True)
    try:
        yield db
    except BaseException:
        db.end(keep=False)
        raise
    db.end(keep=True)


def migrate(db: Database, scripts: Path = MIGRATIONS) -> int:
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
