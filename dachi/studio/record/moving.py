"""One person, or the whole studio, as a file that another Dachi takes in."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import queue
import threading
import zipfile
from collections.abc import Generator, Mapping, Sequence
from contextlib import closing
from pathlib import Path
from typing import IO, Any

import msgspec

from dachi import archives, unfinished
from dachi.clock import Clock
from dachi.core.practising.progression import Why
from dachi.core.words import SAID, Happened
from dachi.errors import NotDone, Told
from dachi.photos import ingest
from dachi.photos.ingest import path_of, whole
from dachi.store import happenings, moved_rows, moving, photos, practitioners
from dachi.store.database import Conflict, connect, newest_version
from dachi.store.moved_rows import Record
from dachi.store.moving import Loaded
from dachi.studio.acting import acting
from dachi.studio.record import keeping
from dachi.studio.record.erasing import letters_gone
from dachi.studio.renew import renew
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

FORMAT, VERSION = "dachi-record", 1
#: The version of a file with a record for each of several people.
MANY = 2
RECORD, MANIFEST = "record.json", "manifest.json"
#: More than this no record, picture or list of them takes, bytes; nor does a file hold more people.
MOST_RECORD, MOST_PICTURE, MOST_MANIFEST, MOST_PEOPLE = 1 << 28, 1 << 27, 1 << 26, 20_000


class MovingProblem(NotDone):
    """A record that cannot be moved; the message says why, and nothing was changed."""

    code = "moving"


def everybody(work: Work) -> list[int]:
    """Ids of all of a coach's people."""
    return [x.practitioner.id for x in practitioners.listing(work.db, work.coach)]


def record_of(work: Work, people: Sequence[int]) -> dict[str, Any]:
    """Some people's record as data; the same wherever it lies."""
    return {
        "format": FORMAT, "version": VERSION, "schema": newest_version(),
        "tables": moving.dump(work.db, work.coach, people) or {"practitioner": []},
    }  # fmt: skip


def send(work: Work, people: Sequence[int], out: IO[bytes]) -> int:
    """Write people with their photographs as a ZIP; how many pictures were lost already.

    One record a person, so that little of it is in memory at a time. Photographs of whoever has
    taken their consent back do not leave: their record goes without.
    """
    withheld = photos.withheld(work.db, work.coach)
    alone = len(people) == 1
    records: dict[str, str] = {}
    pictures: set[str] = set()
    lost = 0
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as into:
        for n, person in enumerate(people, 1):
            record = record_of(work, [person])
            # The same record gives the same text, wherever it lies.
            text = msgspec.json.format(msgspec.json.encode(record, order="sorted"), indent=1)
            name = RECORD if alone else f"people/{n:05d}.json"
            into.writestr(name, text, zipfile.ZIP_DEFLATED)
            records[name] = hashlib.sha256(text).hexdigest()
            for sha in sorted({p["sha256"] for p in record["tables"].get("photo", ())} - pictures):
                pictures.add(sha)
                if sha in withheld:
                    continue
                if not whole(work.folder, sha):
                    lost += 1
                    continue
                into.write(path_of(work.folder, sha, "photo"), f"photos/{sha}.jpg")
        if not people:
            text = json.dumps(record_of(work, [])).encode("utf-8")
            into.writestr(RECORD, text)
            records[RECORD] = hashlib.sha256(text).hexdigest()
        manifest = {
            "format": FORMAT, "version": VERSION if alone or not people else MANY,
            "made_at": work.db.now(), "files": records,
        }  # fmt: skip
        into.writestr(MANIFEST, json.dumps(manifest, indent=1), zipfile.ZIP_DEFLATED)
    return lost


class _Passing(io.RawIOBase):
    """What is written to it waits to be passed on."""

    def __init__(self) -> None:
        self.blocks: queue.Queue[bytes | BaseException | None] = queue.Queue(maxsize=64)
        self.left = False

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        if self.left:
            raise BrokenPipeError
        block = bytes(data)
        self.blocks.put(block)
        return len(block)


def stream(
    folder: Path, clock: Clock, coach: int, people: Sequence[int]
) -> Generator[bytes, None, None]:
    """The same, block by block as it is written, on a connection of its own that only reads."""
    passing = _Passing()

    def write() -> None:
        end: BaseException | None = None
        try:
            with closing(connect(folder, clock)) as db:
                db.guard()
                db.begin(write=False)
                send(Work(db, folder, coach), people, passing)  # type: ignore[arg-type]
        except BrokenPipeError:
            # Whoever asked has gone.
            pass
        except BaseException as error:
            end = error
        passing.blocks.put(end)

    thread = threading.Thread(target=write, daemon=True)
    thread.start()
    try:
        while (block := passing.blocks.get()) is not None:
            if isinstance(block, BaseException):
                # A file that ends without its list of contents is noticed by whoever reads it.
                raise block
            yield block
    finally:
        passing.left = True
        while thread.is_alive():
            with contextlib.suppress(queue.Empty):
                passing.blocks.get(timeout=0.05)


# ---- in --------------------------------------------------------------------------------------


class _Manifest(msgspec.Struct):
    """What a file says of itself; earlier ones list pictures among their files."""

    files: dict[str, str] = {}
    version: int = 1


def receive(work: Work, source: IO[bytes] | Path, *, beside: bool = False) -> Loaded:
    """Take a moved record in, all of it or nothing. Raises MovingProblem and Conflict.

    Who is here already, just so, is left as they are; ``beside`` takes everybody in anew. Nobody
    waits while it is read and checked: others are held up only while rows are written.
    """
    with work.db.unlocked():
        return _received(work, source, beside=beside)


def _received(work: Work, source: IO[bytes] | Path, *, beside: bool) -> Loaded:
    try:
        with archives.opened(source) as found:
            names = _records(found)
            shown = set[str]()
            for name in names:
                # Checked before anything is written, and read again then: one person at a time.
                shown |= {p["sha256"] for p in _checked(found, name).get("photo", ())}
            there = {f"photos/{sha}.jpg" for sha in shown} & set(found.namelist())
            new = {
                sha: name
                for name in sorted(there)
                if not whole(work.folder, sha := name.removeprefix("photos/").removesuffix(".jpg"))
            }
            paths = [path_of(work.folder, sha, kind) for sha in new for kind in keeping.KINDS]
            with unfinished.arriving(work.folder, paths, lambda: photos.known_hashes(work.db)):
                for sha, name in new.items():
                    data = archives.read(found, name, MOST_PICTURE)
                    if not ingest.put_back(work.folder, sha, data):
                        raise MovingProblem(f"{name} is damaged: nothing was taken in")
                return _loaded(work, found, names, beside=beside)
    except archives.TooMuch as error:
        raise MovingProblem(f"This file is not taken in: {error}") from error
    except Told:
        raise
    except archives.BROKEN as error:
        raise MovingProblem(
            "This is no record that was moved from Dachi, or it is cut short"
        ) from error


def _loaded(work: Work, found: zipfile.ZipFile, names: Sequence[str], *, beside: bool) -> Loaded:
    done = Loaded()
    with acting(work):
        for name in names:
            one = moving.load(work.db, work.coach, _checked(found, name), beside=beside)
            done.people += one.people
            done.same += one.same
        _settled(work, done.people)
    return done


def _records(found: zipfile.ZipFile) -> list[str]:
    """Names of the records in a file, each as its manifest says it is; MovingProblem otherwise."""
    try:
        text = archives.read(found, MANIFEST, MOST_MANIFEST)
        manifest = msgspec.json.decode(text, type=_Manifest)
    except (msgspec.DecodeError, RecursionError) as error:
        raise MovingProblem("The record in this file cannot be read") from error
    if manifest.version > MANY:
        raise MovingProblem("This record was written by a newer Dachi: update this program")
    names = [n for n in manifest.files if n == RECORD or n.startswith("people/")]
    if len(names) > MOST_PEOPLE:
        raise MovingProblem(f"This file holds more than {MOST_PEOPLE} people")
    if not names:
        raise MovingProblem("The record in this file is damaged: its hash is another")
    for name in names:
        with found.open(archives.sized(found, name, MOST_RECORD)) as part:
            if hashlib.file_digest(part, "sha256").hexdigest() != manifest.files[name]:  # type: ignore[arg-type]
                raise MovingProblem("The record in this file is damaged: its hash is another")
    return sorted(names)


def _checked(found: zipfile.ZipFile, name: str) -> dict[str, Any]:
    """A record's tables, every row of a kind that pages can read. Raises MovingProblem."""
    text = archives.read(found, name, MOST_RECORD)
    try:
        _refuse_newer(text)
        record = msgspec.json.decode(text, type=Record)
    except (msgspec.DecodeError, UnicodeError, RecursionError) as error:
        said = str(error).replace("$.", "").replace("`", "")
        raise MovingProblem(f"{name} is not right: {said}") from error
    tables = brought_up(msgspec.to_builtins(record.tables))
    try:
        moved_rows.checked(tables)
    except Conflict as error:
        raise MovingProblem(f"{name} is not right: {error}") from error
    return tables


class _Version(msgspec.Struct):
    format: str = ""
    version: int = 0
    schema: int = 0


def _refuse_newer(text: bytes) -> None:
    about = msgspec.json.decode(text, type=_Version)
    newer = about.version > VERSION or about.schema > newest_version()
    if about.format == FORMAT and newer:
        raise MovingProblem("This record was written by a newer Dachi: update this program")


def brought_up(tables: Mapping[str, Any]) -> dict[str, Any]:
    """Rows of an earlier schema as they are now: what was text by its words is a kind."""
    found = {name: [dict(row) for row in rows] for name, rows in tables.items()}
    slot = ("pose", "side", "mode", "number")
    places = {
        (t.get("assessment_id"), "|".join(str(t.get(k)) for k in slot)): t.get("id")
        for t in found.get("trial", ())
        if not t.get("deleted_at")
    }
    for row in found.get("trial", ()):
        if isinstance(row.get("held_with"), str):
            row["held_with"] = places.get((row.get("assessment_id"), row["held_with"]))
    for row in found.get("reading", ()):
        row.pop("made_from", None)
    said = {words: place.value for place, words in SAID.items()}
    for row in found.get("practice_pain", ()):
        row["place"] = said.get(str(row.get("place")), row.get("place"))
    for row in found.get("assessment_state", ()):
        # What is no such text is told as that where rows are checked.
        with contextlib.suppress(msgspec.DecodeError):
            pain = msgspec.json.decode(row.get("pain") or "{}", type=dict[str, Any])
            row["pain"] = json.dumps({said.get(k, k): v for k, v in pain.items()}, sort_keys=True)
    found["proposal"] = [_proposal(row) for row in found.get("proposal", ())]
    return found


def _proposal(row: dict[str, Any]) -> dict[str, Any]:
    if "text" not in row:
        return row
    told = {k: row.pop(k, "") for k in ("text", "reason")}
    return row | {"why": Why.EARLIER.value, "about": json.dumps(told, sort_keys=True)}


def _settled(work: Work, people: Sequence[int]) -> None:
    """People who came are judged, and everybody beside them anew."""
    for person in people:
        renew(work, person, strict=False)
    if people:
        summaries.stale_from_now(work)
        summaries.anew(work, people)


def merge(work: Work, keep: int, other: int) -> bool:
    """Make one person of two on request; False where either is not the coach's.

    Letters of the one that goes are not the other's: they go with it.
    """
    gone = practitioners.get(work.db, work.coach, other)
    with acting(work, keep):
        if not moving.merge(work.db, work.coach, keep, other):
            return False
        if gone is not None:
            letters_gone(work, gone)
        happenings.note(work.db, work.coach, Happened.MERGED, keep)
        summaries.stale_from_now(work)
    return True
