"""After a crash: pictures on disk that no record knows."""

from __future__ import annotations

import fcntl
import os
import time
from collections.abc import Collection
from pathlib import Path

KEEP_DAYS = 30


class InUse(RuntimeError):
    """Another program serves this data folder; the message says so."""


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


def sweep(folder: Path, known: Collection[str]) -> int:
    """Clear away what an interrupted upload left; return how many files were moved.

    Half-written files go. Whole pictures without a record, which nobody was told are
    kept, are moved to ``strays`` and go after a month: an older database put back by
    hand may still want them. Call only while holding the folder.
    """
    moved = 0
    photos, strays = folder / "photos", folder / "strays"
    for path in photos.glob("*/*"):
        if path.name.startswith(".part-"):
            path.unlink(missing_ok=True)
        elif path.name.split(".")[0] not in known:
            strays.mkdir(exist_ok=True)
            os.replace(path, strays / path.name)
            os.utime(strays / path.name)
            moved += 1
    for path in (folder / "cache").glob("faces/*/.part-*"):
        path.unlink(missing_ok=True)
    oldest = time.time() - KEEP_DAYS * 86400
    for path in strays.glob("*"):
        if path.stat().st_mtime < oldest:
            path.unlink(missing_ok=True)
    return moved
