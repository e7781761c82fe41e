"""Opening the database and bringing it up to date."""

from __future__ import annotations

import errno
import os
import re
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from dachi.clock import Clock
from dachi.errors import NotDone, Told, Trouble

MIGRATIONS = Path(__file__).parent / "migrations"
FILE = "dachi.sqlite3"
#: So long somebody waits for others to finish writing, s.
WAIT_S = 10.0
#: Copies of the database within the data folder.
COPIES = "copies"


class StoreError(Trouble):
    """The data folder cannot be used; the message says what to do."""

    code = "store"


class Conflict(NotDone):
    """Something changed in between or exists already; the message says what."""

    code = "conflict"


class Busy(Trouble):
    """Somebody else is writing for so long that this could not; nothing was changed."""

    code = "busy"

    def __init__(self) -> None:
        super().__init__(
            "Dachi is busy with something long (an import, erasing, bringing verdicts up to date): "
            "nothing was changed. Do it again in a moment"
        )


class DiskTrouble(Trouble):
    """Nothing could be written; the message says why, and that nothing was lost."""

    code = "disk"


class DiskFull(DiskTrouble):
    """The disk has no room; whoever is told can make some."""

    code = "disk-full"

    def __init__(self) -> None:
        super().__init__(
            "The disk is full: nothing was saved, and nothing that was there is lost. Free some "
            "space, then do it again."
        )


class Damaged(StoreError):
    """The database file itself is broken."""

    code = "damaged"

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


def told_of(error: sqlite3.Error) -> Told | None:
    """What an error of the database means to a person, by its code; None where it is a fault.

    The lowest byte of SQLite's extended codes is the kind (https://sqlite.org/rescode.html).
    """
    kind = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if kind in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return Busy()
    if kind in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
        return Damaged()
    meant = {
        sqlite3.SQLITE_FULL: errno.ENOSPC,
        sqlite3.SQLITE_READONLY: errno.EROFS,
        sqlite3.SQLITE_IOERR: errno.EIO,
    }.get(kind)
    return disk_trouble(OSError(meant, "")) if meant is not None else None


_WRITES = re.compile(
    r"\s*(?:(?:INSERT|REPLACE)(?: OR \w+)? INTO|UPDATE(?: OR \w+)?|DELETE FROM) (\w+)"
)


class Database(sqlite3.Connection):
    """A connection that carries the clock by which stored things are dated.

    ``writing`` says whether the transaction that is open holds the write lock. A ``guarded``
    connection changes nothing outside a savepoint: rooms have commands for that. ``acting``,
    ``concerned`` and ``touched`` are for who builds commands of savepoints.
    """

    clock: Clock
    writing = False
    guarded = False
    _closed = False
    acting = False
    depth = 0

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self.concerned: dict[Any, Any] = {}
        #: Tables that were written to, until somebody empties it.
        self.touched: set[str] = set()

    def execute(self, *args: Any) -> sqlite3.Cursor:
        """Run a statement; Told where what is in the way can be said (see ``told_of``)."""
        if found := _WRITES.match(args[0]):
            self.touched.add(found[1])
        try:
            return super().execute(*args)
        except sqlite3.Error as error:
            self._translate(error, args)
            raise

    def executemany(self, *args: Any) -> sqlite3.Cursor:
        """Run a statement for each of several rows; Told as in ``execute``."""
        if found := _WRITES.match(args[0]):
            self.touched.add(found[1])
        try:
            return super().executemany(*args)
        except sqlite3.Error as error:
            self._translate(error, args)
            raise

    def _translate(self, error: sqlite3.Error, args: Sequence[Any]) -> None:
        told = told_of(error)
        kind = getattr(error, "sqlite_errorcode", 0) & 0xFF
        if self._closed and kind == sqlite3.SQLITE_READONLY:
            raise RuntimeError(f"written outside a command: {args[0]}") from error
        if told is not None:
            raise told from error

    def now(self) -> str:
        """UTC time as stored: ISO 8601 to the millisecond."""
        return self.clock.stamp()

    def begin(self, *, write: bool) -> None:
        """Open a transaction; a ``write`` one waits for others to finish theirs."""
        if write:
            # The lock itself is taken as if something were written.
            self._close(False)
        self.execute("BEGIN IMMEDIATE" if write else "BEGIN")
        self.writing = write
        self._close(not self.depth)

    def end(self, *, keep: bool) -> None:
        """Commit or roll back what is open, if anything is."""
        if self.in_transaction:
            self.execute("COMMIT" if keep else "ROLLBACK")
        self.writing = False

    def guard(self) -> None:
        """From now on only what happens within a savepoint changes anything."""
        self.guarded = True
        self._close(True)

    def _close(self, closed: bool) -> None:
        """Let nothing be written from now on, or open what is guarded again."""
        if self.guarded and closed != self._closed:
            self.execute(f"PRAGMA query_only = {'ON' if closed else 'OFF'}")
            self._closed = closed

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Everything inside happens, or nothing does; they nest.

        Without a transaction around it, it is one; one that only reads becomes one that writes:
        what was read so far may have changed since.
        """
        alone = not self.in_transaction
        if alone:
            self.begin(write=True)
        elif not self.writing:
            self.end(keep=True)
            self.begin(write=True)
        self.depth += 1
        self._close(False)
        name = f"act_{self.depth}"
        done = False
        try:
            self.execute(f"SAVEPOINT {name}")
            yield
            self.execute(f"RELEASE {name}")
            done = True
        finally:
            # A full disk may have ended the whole transaction by itself.
            if not done and self.in_transaction:
                self.execute(f"ROLLBACK TO {name}")
                self.execute(f"RELEASE {name}")
            self.depth -= 1
            self._close(not self.depth)
            if alone:
                self.end(keep=done)

    @contextmanager
    def unlocked(self) -> Iterator[None]:
        """Let others write while slow work is done that needs no database."""
        if self.depth:
            raise RuntimeError("slow work within a command")
        within, write = self.in_transaction, self.writing
        self.end(keep=True)
        try:
            yield
        finally:
            if within:
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
        for path in (*folder.glob(f"{FILE}*"), *folder.glob("dachi.log*"), folder / COPIES):
            # The folder itself may be open to others: it was there before.
            if path.exists():
                path.chmod(0o700 if path.is_dir() else 0o600)
    except OSError as error:
        raise StoreError(
            f"The data folder {folder} cannot be written to ({error.strerror}). Choose another "
            "with DACHI_DATA=/some/folder."
        ) from error
    return folder


def connect(folder: Path, clock: Clock) -> Database:
    """Open a connection in autocommit mode, with foreign keys on."""
    try:
        db = sqlite3.connect(folder / FILE, isolation_level=None, timeout=WAIT_S, factory=Database)
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
    with db.savepoint():
        yield db


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
            # A table that is made anew is dropped for a moment: what refers to it is checked after.
            db.execute("PRAGMA foreign_keys = OFF")
            db.executescript(f"BEGIN IMMEDIATE;\n{statements}\nPRAGMA user_version = {number};")
            lost = db.execute("PRAGMA foreign_key_check").fetchall()
            if lost:
                raise sqlite3.IntegrityError(f"{len(lost)} rows refer to nothing")
            db.execute("COMMIT")
        except sqlite3.Error as error:
            if db.in_transaction:
                db.execute("ROLLBACK")
            raise StoreError(f"The database could not be brought up to date: {error}.") from error
        finally:
            db.execute("PRAGMA foreign_keys = ON")
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
