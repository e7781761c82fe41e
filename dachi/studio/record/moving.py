"""One person, or the whole studio, as a file that another Dachi takes in."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import IO, Any

from dachi.core.practising.progression import Why
from dachi.core.words import SAID, Happened
from dachi.errors import NotDone
from dachi.interchange import json_lines
from dachi.photos import ingest
from dachi.photos.ingest import path_of, whole
from dachi.store import happenings, moving, photos, practitioners
from dachi.store.database import newest_version
from dachi.store.moving import Loaded
from dachi.studio.acting import acting
from dachi.studio.record.erasing import letters_gone
from dachi.studio.renew import renew
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

FORMAT, VERSION = "dachi-record", 1
RECORD, MANIFEST = "record.json", "manifest.json"
#: More than this no record takes, bytes.
MOST_RECORD, MOST_PICTURE = 1 << 30, 1 << 27


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

    Photographs of whoever has taken their consent back do not leave: their record goes without.
    """
    record = record_of(work, people)
    withheld = photos.withheld(work.db, work.coach)
    text = json.dumps(record, indent=1, ensure_ascii=False, sort_keys=True).encode("utf-8")
    files = {RECORD: hashlib.sha256(text).hexdigest()}
    lost = 0
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as into:
        into.writestr(RECORD, text, zipfile.ZIP_DEFLATED)
        for sha in sorted({p["sha256"] for p in record["tables"].get("photo", ())}):
            if sha in withheld:
                continue
            if not whole(work.folder, sha):
                lost += 1
                continue
            into.write(path_of(work.folder, sha, "photo"), f"photos/{sha}.jpg")
            files[f"photos/{sha}.jpg"] = sha
        manifest = {
            "format": FORMAT, "version": VERSION, "made_at": work.db.now(), "files": files,
        }  # fmt: skip
        into.writestr(MANIFEST, json.dumps(manifest, indent=1))
    return lost


def receive(work: Work, source: IO[bytes] | Path, *, beside: bool = False) -> Loaded:
    """Take a moved record in, all of it or nothing. Raises MovingProblem and Conflict.

    Who is here already, just so, is left as they are; ``beside`` takes everybody in anew.
    """
    try:
        with zipfile.ZipFile(source) as found:
            record = _checked(found)
            tables = brought_up(record["tables"])
            named = {f"photos/{p['sha256']}.jpg" for p in tables.get("photo", ())}
            there = {n for n in found.namelist() if n in named}
            for name in sorted(there):
                sha = name.removeprefix("photos/").removesuffix(".jpg")
                if whole(work.folder, sha):
                    continue
                if found.getinfo(name).file_size > MOST_PICTURE:
                    raise MovingProblem(f"{name} is larger than any photograph")
                if not ingest.put_back(work.folder, sha, found.read(name)):
                    raise MovingProblem(f"{name} is damaged: nothing was taken in")
            with acting(work):
                done = moving.load(work.db, work.coach, tables, beside=beside)
                _settled(work, done.people)
    except (zipfile.BadZipFile, KeyError, OSError, EOFError) as error:
        raise MovingProblem(
            "This is no record that was moved from Dachi, or it is cut short"
        ) from error
    return done


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
        pain = json.loads(row.get("pain") or "{}")
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


def _checked(found: zipfile.ZipFile) -> dict[str, Any]:
    """The record of a file, its form and its hash checked before anything is written."""
    if found.getinfo(RECORD).file_size > MOST_RECORD:
        raise MovingProblem("The record in this file is larger than any")
    text = found.read(RECORD)
    try:
        manifest = json.loads(found.read(MANIFEST))
        record = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise MovingProblem("The record in this file cannot be read") from error
    if not isinstance(manifest, dict) or not isinstance(record, dict):
        raise MovingProblem("This is no record that was moved from Dachi")
    if record.get("format") == FORMAT and (
        record.get("version", 0) > VERSION or record.get("schema", 0) > newest_version()
    ):
        raise MovingProblem("This record was written by a newer Dachi: update this program")
    if wrong := json_lines.complaint("record", record):
        raise MovingProblem(f"The record in this file is not right: {wrong}")
    if manifest.get("files", {}).get(RECORD) != hashlib.sha256(text).hexdigest():
        raise MovingProblem("The record in this file is damaged: its hash is another")
    return record


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
