"""Backing the record up, putting it back, and checking that all of it is there and whole."""

from __future__ import annotations

import json
import os
import shutil
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from typing import IO, Annotated, Any, Literal

import msgspec

from dachi import archives, unfinished
from dachi.clock import Clock
from dachi.errors import Trouble
from dachi.files import digest_of, synced, write_anew
from dachi.photos import ingest
from dachi.photos.ingest import path_of, whole
from dachi.store import copies
from dachi.store.copies import ComesBack
from dachi.store.database import COPIES, FILE

FORMAT, VERSION = "dachi-backup", 1
MANIFEST, LAST = "manifest.json", "last-backup.json"
#: Longer than this no list of a backup's files is, bytes.
MOST_MANIFEST = 1 << 29
#: Daily copies of the database are kept for so many days.
KEEP_DAYS = 14
#: So many of them whatever the clock says; after a jump of so many days it is doubted for so many.
KEEP_LEAST, JUMP_DAYS, DOUBT_DAYS = 5, 35, 3
#: Kinds of a stored picture; the other two can be made again from the first.
KINDS = ("photo", "preview", "thumb")


class KeepingProblem(Trouble):
    """A backup that cannot be made or put back; the message says why, and nothing was changed."""

    code = "keeping"


@dataclass(frozen=True)
class Made:
    """A backup: where it is, how many pictures it holds, and those that were lost or damaged."""

    path: Path
    photos: int
    bytes: int
    bad: tuple[str, ...]


@dataclass(frozen=True)
class Offered:
    """What a backup file holds."""

    made_at: str
    schema: int
    counts: Mapping[str, int]
    files: Mapping[str, tuple[str, int]]


@dataclass
class Checked:
    """What a check found; empty lists are what is wanted. ``healed`` were put right."""

    database: list[str] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)
    damaged: list[str] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)
    healed: list[str] = field(default_factory=list)
    photos: int = 0

    @property
    def whole(self) -> bool:
        """Whether nothing is broken or missing; pictures without a record are no damage."""
        return not (self.database or self.lost or self.damaged)


# ---- backup ---------------------------------------------------------------------------------


def backup(folder: Path, to: Path, clock: Clock) -> Made:
    """Write the whole record into one file while the program may run.

    The database is copied first, as of one moment; every picture it names goes with it, each
    checked against its hash. Raises KeepingProblem, StoreError.
    """
    if not (folder / FILE).exists():
        raise KeepingProblem(f"there is no database in {folder}")
    if to.exists():
        raise KeepingProblem(f"{to} is there already: name another file")
    part = to.with_name(f".part-{os.getpid()}-{to.name}")
    bad: list[str] = []
    files: dict[str, dict[str, Any]] = {}
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        with unfinished.room(folder) as room, unfinished.unfinished(folder, part):
            snapshot = room / FILE
            copies.copy(folder / FILE, snapshot)
            recorded = copies.photo_hashes(snapshot)
            with (
                _private(part) as written,
                zipfile.ZipFile(written, "w", zipfile.ZIP_STORED, allowZip64=True) as out,
            ):

                def put(path: Path, name: str) -> None:
                    out.write(path, name)
                    files[name] = {"sha256": digest_of(path), "bytes": path.stat().st_size}

                put(snapshot, FILE)
                for sha in sorted(recorded):
                    sound = whole(folder, sha)
                    if not sound:
                        bad.append(sha)
                    for kind in KINDS:
                        path = path_of(folder, sha, kind)
                        if path.exists() and (kind != "photo" or sound):
                            put(path, path.relative_to(folder).as_posix())
                for path in sorted((folder / "outbox").glob("*/*.eml")):
                    put(path, path.relative_to(folder).as_posix())
                if (folder / "secret.key").exists():
                    put(folder / "secret.key", "secret.key")
                manifest = {
                    "format": FORMAT, "version": VERSION, "made_at": clock.stamp(),
                    "schema": copies.version(snapshot), "counts": {"photos": len(recorded)},
                    "files": files,
                }  # fmt: skip
                out.writestr(MANIFEST, json.dumps(manifest, indent=1))
            synced(part)
            # Said before it is there: what erasing tells of backups must never be too little.
            _note_backup(folder, to, clock)
            os.replace(part, to)
    except OSError as error:
        raise KeepingProblem(f"the backup cannot be written ({error.strerror})") from error
    return Made(to, len(recorded), to.stat().st_size, tuple(bad))


def _private(path: Path) -> IO[bytes]:
    """A new file that nobody else on this machine can read, whatever becomes of it."""
    return os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600), "w+b")


def _note_backup(folder: Path, to: Path, clock: Clock) -> None:
    home = folder / COPIES
    home.mkdir(mode=0o700, exist_ok=True)
    (home / LAST).write_text(json.dumps({"made_at": clock.stamp(), "name": to.name}), "utf-8")


def last_backup(folder: Path) -> Mapping[str, str] | None:
    """When a backup was last written, and under which name; None where none ever was."""
    try:
        found: Mapping[str, str] = json.loads((folder / COPIES / LAST).read_text("utf-8"))
    except (OSError, ValueError):
        return None
    return found


# ---- restore --------------------------------------------------------------------------------


class _File(msgspec.Struct):
    sha256: Annotated[str, msgspec.Meta(pattern="^[0-9a-f]{64}$")]
    bytes: Annotated[int, msgspec.Meta(ge=0)]


class _Manifest(msgspec.Struct):
    format: Literal["dachi-backup"]
    version: int
    made_at: str
    schema: int
    counts: dict[str, int]
    files: dict[str, _File]


class _Said(msgspec.Struct):
    """As much of a manifest as any version has."""

    format: str = ""
    version: int = 0


def offered(source: Path) -> Offered:
    """Read what a backup file holds; KeepingProblem where it is none, or of a newer kind."""
    try:
        with archives.opened(source) as found:
            text = archives.read(found, MANIFEST, MOST_MANIFEST)
            said = msgspec.json.decode(text, type=_Said)
            if said.format == FORMAT and said.version > VERSION:
                raise KeepingProblem(f"{source} was made by a newer Dachi: update this program")
            about = msgspec.json.decode(text, type=_Manifest)
            names = set(found.namelist())
    except (*archives.BROKEN, msgspec.DecodeError, RecursionError) as error:
        raise KeepingProblem(f"{source} is no backup of Dachi, or is cut short") from error
    for name in about.files:
        if not _expected(name):
            raise KeepingProblem(f"{source} holds {name!r}, which no backup does")
    if FILE not in about.files or not names.issuperset(about.files):
        raise KeepingProblem(f"{source} is no backup of Dachi, or is cut short")
    files = {name: (f.sha256, f.bytes) for name, f in about.files.items()}
    return Offered(about.made_at, about.schema, about.counts, files)


def _expected(name: str) -> bool:
    parts = name.split("/")
    plain = all(p and p not in (".", "..") and "\\" not in p for p in parts)
    home = len(parts) == 3 and parts[0] in ("photos", "outbox")
    return plain and (name in (FILE, "secret.key") or home)


def restore(
    source: Path,
    folder: Path,
    agreed: Callable[[ComesBack], bool] = lambda _: True,
    *,
    end_links: bool = False,
) -> Offered | None:
    """Put a backup into an empty data folder: all of it, checked, or nothing.

    Who was signed in is not any more, and links for phones have ended; private links of people go
    on unless ``end_links``. ``agreed`` is asked with what comes back: where it says no, None is
    returned and nothing was written. Raises KeepingProblem where the folder holds a record already
    or a file is damaged.
    """
    about = offered(source)
    if (folder / FILE).exists() or any((folder / "photos").glob("*/*")):
        raise KeepingProblem(
            f"{folder} holds a record already, and nothing is written over: name an empty folder"
        )
    folder.parent.mkdir(parents=True, exist_ok=True)
    wanted = sum(size for _, size in about.files.values())
    if (free := shutil.disk_usage(folder.parent).free) < wanted:
        raise KeepingProblem(
            f"it unpacks to {wanted / 1e6:.0f} MB, and there is room for {free / 1e6:.0f} MB"
        )
    unfinished.sweep_beside(folder)
    try:
        with unfinished.beside(folder) as room:
            with archives.opened(source) as found:
                for name, (sha, size) in about.files.items():
                    archives.sized(found, name, size)
                    to = room / name
                    to.parent.mkdir(parents=True, exist_ok=True)
                    with found.open(name) as part, _private(to) as out:
                        _copied(part, out, size)
                    if to.stat().st_size != size or digest_of(to) != sha:
                        raise KeepingProblem(f"{name} in {source} is damaged: use another backup")
            copies.version(room / FILE)
            if wrong := copies.troubles(room / FILE):
                raise KeepingProblem(f"the database in {source} is damaged ({wrong[0]})")
            if not agreed(copies.comes_back(room / FILE, end_links=end_links)):
                return None
            copies.end_sessions(room / FILE, links=end_links)
            _settle(room, folder)
    except archives.BROKEN as error:
        raise KeepingProblem(f"{source} cannot be put back ({error})") from error
    return about


def _copied(part: IO[bytes], out: IO[bytes], most: int) -> None:
    """Unpack no more than was said, and a byte to notice that it is more."""
    left = most + 1
    while left > 0 and (block := part.read(min(left, 1 << 20))):
        out.write(block)
        left -= len(block)


def _settle(room: Path, folder: Path) -> None:
    """Make the filled room the data folder: at once where there is none or an empty one."""
    try:
        os.rename(room, folder)
    except OSError:
        # Other things lie in it. The database comes last: without it there is no record.
        for path in sorted(room.iterdir(), key=lambda p: p.name == FILE):
            if not path.name.startswith("."):
                os.replace(path, folder / path.name)
    else:
        unfinished.remove(folder / unfinished.LOCK)


# ---- check ----------------------------------------------------------------------------------


def check(
    folder: Path, heal_from: Path | None = None, progress: Callable[[int, int], None] | None = None
) -> Checked:
    """Look at the database, and at every picture both ways; heal from originals or a backup.

    ``heal_from`` is a backup file, or a folder with the photographs as they were first sent.
    """
    found = Checked(database=copies.troubles(folder / FILE))
    if found.database:
        return found
    recorded = copies.photo_hashes(folder / FILE)
    found.photos = len(recorded)
    for n, sha in enumerate(sorted(recorded)):
        if progress:
            progress(n + 1, len(recorded))
        if not path_of(folder, sha, "photo").exists():
            found.lost.append(sha)
        elif not whole(folder, sha):
            found.damaged.append(sha)
        else:
            ingest.previews_anew(folder, sha)
    found.unknown = sorted(
        {
            p.name
            for p in (folder / "photos").glob("*/*.jpg")
            if p.name.split(".")[0] not in recorded
        }
    )
    if heal_from is not None and (found.lost or found.damaged):
        _heal(folder, heal_from, recorded, found)
    return found


def _heal(folder: Path, source: Path, recorded: Mapping[str, str], found: Checked) -> None:
    wanted = {*found.lost, *found.damaged}
    if source.is_dir():
        by_source = {recorded[s]: s for s in wanted}
        for path in sorted(p for p in source.rglob("*") if p.is_file()):
            sha = by_source.get(digest_of(path))
            if sha is not None and ingest.heal(folder, sha, path.read_bytes()):
                found.healed.append(sha)
    else:
        about = offered(source)
        with zipfile.ZipFile(source) as held:
            for sha in sorted(wanted):
                name = path_of(folder, sha, "photo").relative_to(folder).as_posix()
                if about.files.get(name, ("",))[0] != sha:
                    continue
                if ingest.put_back(folder, sha, held.read(name)):
                    found.healed.append(sha)
    found.lost = [s for s in found.lost if s not in found.healed]
    found.damaged = [s for s in found.damaged if s not in found.healed]


# ---- copies of each day ---------------------------------------------------------------------


def daily_copy(folder: Path, clock: Clock) -> Path | None:
    """Copy the database once a day and let old copies go; None where today has one.

    The newest stay however old the clock says they are: it may be wrong.
    """
    home = folder / COPIES
    today = clock.local().date()
    for path in sorted(home.glob("day-*.sqlite3"))[: -KEEP_LEAST or None]:
        if _too_old(path, today):
            path.unlink(missing_ok=True)
    to = home / f"day-{today.isoformat()}.sqlite3"
    if to.exists():
        return None
    copies.copy(folder / FILE, to)
    return to


def clock_is_trusted(folder: Path, clock: Clock) -> bool:
    """Whether the clock has gone on as clocks do since this was asked last.

    After a jump of weeks (somebody was away, or somebody set it wrong) nothing is let go for good
    for some days: whoever looks at it meanwhile notices.
    """
    note = folder / COPIES / "clock.json"
    now = clock.seconds()
    try:
        last, since = msgspec.json.decode(note.read_bytes(), type=tuple[float, float])
    except (OSError, msgspec.DecodeError):
        last, since = now, 0.0
    if not -86_400 <= now - last <= JUMP_DAYS * 86_400:
        since = now
    write_anew(note, msgspec.json.encode((now, since)))
    return not 0 <= now - since < DOUBT_DAYS * 86_400


def _too_old(path: Path, today: date) -> bool:
    try:
        day = date.fromisoformat(path.stem.removeprefix("day-"))
    except ValueError:
        return False
    return day < today - timedelta(days=KEEP_DAYS)
