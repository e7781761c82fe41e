"""How the record is doing: room on the disk, the last backup, lost pictures, versions."""

from __future__ import annotations

import platform
import shutil
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from dachi import __version__
from dachi.photos.ingest import path_of
from dachi.store import photos
from dachi.store.database import COPIES, FILE, newest_version
from dachi.studio.phrases import say_day
from dachi.studio.record import keeping
from dachi.studio.work import Work

#: Less room than this asks for some, bytes; a backup older than this for another, days.
LITTLE_ROOM, OLD_DAYS = 2_000_000_000, 14


@dataclass(frozen=True)
class Line:
    """One thing looked at; ``status`` is ok or watch."""

    status: str
    words: str


def lines(work: Work) -> list[Line]:
    """What a coach should know of the record's state, most pressing first."""
    found = [_room(work.folder), _backup(work), _pictures(work), _copies(work.folder)]
    return sorted(found, key=lambda x: x.status == "ok")


def _room(folder: Path) -> Line:
    free = shutil.disk_usage(folder).free
    status = "watch" if free < LITTLE_ROOM else "ok"
    return Line(status, f"{free / 1e9:.1f} GB are free on the disk of the record.")


def _backup(work: Work) -> Line:
    last = keeping.last_backup(work.folder)
    command = "Back up, and keep the file on another disk."
    if last is None:
        return Line("watch", f"No backup was ever written. {command}")
    at = datetime.fromisoformat(last["made_at"])
    days = (work.now().astimezone() - at).days
    words = f"The last backup, “{last['name']}”, is of {say_day(last['made_at'])}."
    if days > OLD_DAYS:
        return Line("watch", f"{words} {command}")
    return Line("ok", words)


def _pictures(work: Work) -> Line:
    known = photos.known_hashes(work.db)
    lost = sum(not _there(path_of(work.folder, sha, "photo")) for sha in known)
    if lost:
        return Line(
            "watch",
            f"{lost} of {len(known)} pictures are lost or empty: `python -m dachi check --heal` "
            "puts them back from a backup or from the originals.",
        )
    return Line("ok", f"All {len(known)} pictures are there.")


def _there(path: Path) -> bool:
    try:
        return path.stat().st_size > 0
    except OSError:
        return False


def _copies(folder: Path) -> Line:
    days = sorted((folder / COPIES).glob("day-*.sqlite3"))
    if not days:
        return Line("ok", "The first copy of the database is made within the hour.")
    day = say_day(days[-1].stem.removeprefix("day-"))
    return Line("ok", f"The database was last copied on {day}; {len(days)} copies are kept.")


def versions(work: Work) -> str:
    """What runs here, in a line for whoever helps."""
    size = (work.folder / FILE).stat().st_size / 1e6
    return (
        f"Dachi {__version__}, schema {newest_version()}, database {size:.1f} MB, "
        f"Python {platform.python_version()}."
    )
