"""Writing files so that a crash leaves them whole or not there."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


def write_once(path: Path, data: bytes) -> None:
    """Write to a temporary name, sync, rename. A file already there is left as it is."""
    if path.exists():
        return
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
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
