"""Room that is kept free for a full disk: to sign in by, and to erase."""

from __future__ import annotations

import contextlib
import shutil
from pathlib import Path

FILE = "reserve"
SIZE = 16 << 20
#: A disk with less room than this is full; one with more has room for a reserve, bytes.
FULL, ENOUGH = 2 << 20, 256 << 20


def keep(folder: Path) -> None:
    """Put some room by, where there is plenty."""
    path = folder / FILE
    with contextlib.suppress(OSError):
        if not path.exists() and shutil.disk_usage(folder).free > ENOUGH:
            # Written, not only claimed: a file of holes takes no room.
            path.write_bytes(b"\x5a" * SIZE)


def give(folder: Path) -> bool:
    """Let the room go where the disk is full; whether there was any."""
    path = folder / FILE
    try:
        if shutil.disk_usage(folder).free > FULL or not path.exists():
            return False
        path.unlink()
    except OSError:
        return False
    return True
