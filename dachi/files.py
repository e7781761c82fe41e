"""Writing files so that a crash leaves them whole or not there."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path


def write_once(path: Path, data: bytes) -> None:
    """Write to a temporary name, sync, rename. A file already there is left as it is."""
    if not path.exists():
        write_anew(path, data)


def write_anew(path: Path, data: bytes) -> None:
    """Write to a temporary name, sync, rename over whatever is there."""
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=".part-")
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        os.replace(name, path)
    except OSError:
        Path(name).unlink(missing_ok=True)
        raise
    synced(path.parent)


def synced(path: Path) -> None:
    """Have the disk keep what was written to a file, or the names in a folder."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def digest_of(path: Path) -> str:
    """SHA-256 of a file's bytes."""
    with path.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()
