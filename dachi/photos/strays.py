"""After a crash: pictures on disk that no record knows, and records whose picture was put away."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from dachi.errors import Trouble

KEEP_DAYS = 30
#: A crash leaves a picture or two; more unknown files than this share of all of them means that
#: the database is not the one they belong to.
MOST_UNKNOWN = 0.5
#: Where files are written under another name first.
PARTS = ("", "photos/*/", "cache/faces/*/", "copies/", "outbox/*/", "tls/")


class InUse(Trouble):
    """Another program serves this data folder; the message says so."""

    code = "in-use"


@dataclass(frozen=True)
class Swept:
    """Files moved to ``strays``, brought back from there, and what kept the sweep from working."""

    moved: int = 0
    brought_back: int = 0
    left_alone: str = ""


def hold(folder: Path) -> int:
    """Take the folder for this process as long as it lives; return the lock's handle.

    Raises InUse where another process has it.
    """
    handle = os.open(folder / "serving.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        os.close(handle)
        raise InUse(
            f"The data folder {folder} is already open in another Dachi. Close that one first, or "
            "choose another folder with DACHI_DATA=."
        ) from error
    return handle


def sweep(folder: Path, known: Collection[str], *, now: float) -> Swept:
    """Clear away what an interrupted upload left. Call only while holding the folder.

    Half-written files go. Strays that a record names come back first. Whole pictures
    without a record, which nobody was told are kept, are moved to ``strays`` and go after a
    month. Where no picture is recorded, or most of those on disk are unknown, the database
    is more likely the wrong one than the pictures: then nothing is moved and nothing ends.
    ``now`` is the time in seconds since 1970.
    """
    photos, strays = folder / "photos", folder / "strays"
    for place in PARTS:
        for path in folder.glob(f"{place}.part-*"):
            path.unlink(missing_ok=True)
    back = 0
    for path in strays.glob("*"):
        digest = path.name.split(".")[0]
        if digest in known:
            home = photos / digest[:2] / path.name
            home.parent.mkdir(parents=True, exist_ok=True)
            if home.exists():
                path.unlink()
            else:
                os.replace(path, home)
                back += 1
    files = list(photos.glob("*/*"))
    unknown = [p for p in files if p.name.split(".")[0] not in known]
    if unknown and (not known or len(unknown) > MOST_UNKNOWN * len(files)):
        return Swept(
            0,
            back,
            f"{len(unknown)} of {len(files)} picture files in {photos} are not known to this "
            "database: nothing was moved. If another database belongs to this folder, put it back.",
        )
    if not known:
        return Swept(0, back)
    for path in unknown:
        strays.mkdir(exist_ok=True)
        os.replace(path, strays / path.name)
        os.utime(strays / path.name, (now, now))
    for path in strays.glob("*"):
        if path.stat().st_mtime < now - KEEP_DAYS * 86400:
            path.unlink(missing_ok=True)
    return Swept(len(unknown), back)
