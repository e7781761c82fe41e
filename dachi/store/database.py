"""Opening the database and bringing it up to date."""

from __future__ import annotations

import errno
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from dachi.clock import Clock
from dachi.errors import Told

MIGRATIONS = Path(__file__).parent / "migrations"
FILE = "dachi.sqlite3"
#: Copies of the database within the data folder.
COPIES = "copies"


class StoreError(Told):
    """The data folder cannot be used; the message says what to do."""


class Conflict(Told):
    """Something changed in between or exists already; the message says what."""


class DiskTrouble(Told):
    """Nothing could be written; the message says why, and that nothing was lost."""


class DiskFull(DiskTrouble):
    """The disk has no room; whoever is told can make some."""

    def __init__(self) -> None:
        super().__init__(
            "The disk is full: nothing was saved, and nothing that was there is lost. Free some "
            "space, then do it again."
        )


class Damaged(StoreError):
    """The database file itself is broken."""

    def __init__(self) -> None:
        super().__init__(
            "The database is damaged and was not touched. Stop Dachi, run `python -m dachi check`, "
            "and put the newest whole copy back: `copies/` in the data folder has one of each day"
        )


def disk_trouble(error: OSError) -> DiskTrouble | None:
    """What a failed write means, where it is the disk that is in the way."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return DiskFull()
    if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
        return DiskTrouble(
            "The data folder cannot be written to: nothing was saved. Make it writable, then do "
            "it again"
        )
    if error.errno == errno.EIO:
        return DiskTrouble("The disk reports an error: nothing was saved. Back up and replace it")
    return None


class Database(sqlite3.Connection):
    """A connection that carries the clock by which stored things are dated.

    ``writing`` says whether the transaction that is open holds the write lock.
    """

    clock: Clock
    writing = False

    def execute(self, *args: Any) -> sqlite3.Cursor:
        """Run a statement; DiskTrouble where it cannot be written, Damaged where it is broken."""
        try:
            return super().execute(*args)
        except sqlite3.OperationalError as error:
            if "full" in str(error):
                raise DiskFull from error
            if "readonly" in str(error):
                found = disk_trouble(OSError(errno.EROFS, ""))
                assert found is not None
                raise found from error
            if "disk I/O" in str(error):
                raise DiskTrouble(
                    "The disk reports an error: nothing was saved. Back up and replace it"
                ) from error
            raise
        except sqlite3.DatabaseError as error:
            if "malformed" in str(error) or "not a database" in str(error):
                raise Damaged from error
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
        if not folder.exists():
            # Photographs of people: nobody else on this machine looks in.
            folder.mkdir(parents=True, mode=0o700)
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
        db = sqlite3.connect(folder / FILE, isolation_level=None, timeout=10, factory=Database)
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


def newest_version(scripts: Path = MIGRATIONS) -> int:
    """The schema this program knows."""
    return max(int(p.name.split("-")[0]) for p in scripts.glob("*.sql"))


def migrate(db: Database, scripts: Path = MIGRATIONS) -> int:
    """Apply pending ``NNN-name.sql`` scripts, each in one transaction; return the version.

    What is there is copied to ``copies`` first. StoreError where the database is broken, or
    was written by a newer program.
    """
    try:
        db.execute("PRAGMA journal_mode = WAL")
        (version,) = db.execute("PRAGMA user_version").fetchone()
        (_, _, name) = db.execute("PRAGMA database_list").fetchone()
    except sqlite3.DatabaseError as error:
        raise StoreError(f"The database cannot be read: {error}.") from error
    newest = newest_version(scripts)
    if version > newest:
        raise StoreError(
            f"This data was written by a newer Dachi (schema {version}, this one knows {newest}). "
            "Nothing was touched: update the program."
        )
    if 0 < version < newest and name:
        _keep_before(db, Path(name), version)
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


def _keep_before(db: Database, path: Path, version: int) -> None:
    """A copy of the database as it was, beside it; StoreError where there is no room for one."""
    stamp = db.now()[:19].replace(":", "")
    to = path.parent / COPIES / f"before-{version + 1:03d}-{stamp}.sqlite3"
    try:
        to.parent.mkdir(mode=0o700, exist_ok=True)
        with closing(sqlite3.connect(to)) as other:
            db.backup(other)
        to.chmod(0o600)
    except (OSError, sqlite3.Error) as error:
        to.unlink(missing_ok=True)
        raise StoreError(
            f"The database must be brought up to date, but could not be copied first ({error})."
        ) from error
