"""The keys that sign sessions and private links: the newest signs, older ones are still read."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from flask import current_app

from dachi.store.database import StoreError

FILE = "secret.key"
#: A shorter secret can be guessed, bytes; more keys than these are not kept.
LEAST, MOST = 32, 4


def read(folder: Path) -> list[bytes]:
    """The keys of a data folder, oldest first; one is made where there is none.

    A line of hexadecimal digits each; a file of an earlier Dachi is one key as it is. StoreError
    where one could be guessed.
    """
    path = folder / FILE
    if not path.exists():
        _write(path, [secrets.token_bytes(LEAST)])
    text = path.read_bytes()
    try:
        found = [bytes.fromhex(line) for line in text.decode("ascii").split()]
    except (UnicodeDecodeError, ValueError):
        found = [text]
    if not found or any(len(k) < LEAST for k in found):
        raise StoreError(
            f"{path} is damaged: it should hold keys of {LEAST} bytes or more. Put it back from a "
            "backup, or remove it: everybody then signs in again and gets new private links."
        )
    return found


def rotate(folder: Path, *, only: bool = False) -> int:
    """Have a new key sign from the next start on; older ones are read still, or not (``only``).

    How many keys there are then.
    """
    known = [] if only else read(folder)
    found = [*known[-MOST + 1 :], secrets.token_bytes(LEAST)]
    _write(folder / FILE, found)
    return len(found)


def _write(path: Path, found: list[bytes]) -> None:
    # Whole or not there: a start cut short must not leave an empty key.
    part = path.with_name(f".part-secret-{os.getpid()}")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w", encoding="ascii") as out:
        out.write("".join(f"{k.hex()}\n" for k in found))
        out.flush()
        os.fsync(out.fileno())
    os.replace(part, path)


def signing() -> list[bytes]:
    """Every key of the application, oldest first, as signers want them."""
    found: list[bytes] = current_app.config["KEYS"]
    return found
