"""ZIP files that anybody may have made: what they may unpack to is bounded before it is read."""

from __future__ import annotations

import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

#: The list of what is in a file may be so long, bytes: some four hundred thousand pictures.
MOST_DIRECTORY = 48 << 20
#: Beyond the first so many bytes nothing unpacks to more than so many times its size: text of ours
#: packs ten to thirty times.
FREE, MOST_RATIO = 8 << 20, 100
_END, _END64 = b"PK\x05\x06", b"PK\x06\x06"


class TooMuch(ValueError):
    """A file unpacks to more than anything of its kind would; the message says which."""


#: What reading a broken or hostile file may meet.
BROKEN = (
    zipfile.BadZipFile, TooMuch, KeyError, EOFError, NotImplementedError, RuntimeError, zlib.error,
    struct.error, UnicodeError, OSError, OverflowError,
)  # fmt: skip


@contextmanager
def opened(source: IO[bytes] | Path) -> Iterator[zipfile.ZipFile]:
    """Open a ZIP file. Raises any of ``BROKEN``."""
    if isinstance(source, Path):
        with source.open("rb") as stream, opened(stream) as found:
            yield found
        return
    if (size := _directory(source)) > MOST_DIRECTORY:
        raise TooMuch(f"it lists more files than are taken ({size} bytes of names)")
    source.seek(0)
    with zipfile.ZipFile(source) as found:
        yield found


def _directory(source: IO[bytes]) -> int:
    """How long the list of files is, bytes, as the end of the file says."""
    source.seek(0, 2)
    whole = source.tell()
    source.seek(max(0, whole - 65_557 - 100))
    tail = source.read()
    at, at64 = tail.rfind(_END), tail.rfind(_END64)
    if at < 0:
        raise zipfile.BadZipFile("no end")
    size: int = struct.unpack_from("<L", tail, at + 12)[0]
    if size == 0xFFFFFFFF and at64 >= 0:
        size = struct.unpack_from("<Q", tail, at64 + 40)[0]
    return size


def sized(found: zipfile.ZipFile, name: str, most: int) -> zipfile.ZipInfo:
    """What is known of a file within; TooMuch where it is more than ``most`` bytes, or a bomb."""
    info = found.getinfo(name)
    if info.file_size > most:
        raise TooMuch(f"{name} is larger than any such file")
    if info.file_size > FREE and info.file_size > MOST_RATIO * max(info.compress_size, 1):
        raise TooMuch(f"{name} unpacks to a hundred times its size")
    return info


def read(found: zipfile.ZipFile, name: str, most: int) -> bytes:
    """A file within, no larger than ``most`` bytes. Raises any of ``BROKEN``."""
    with found.open(sized(found, name, most)) as part:
        data = part.read(most + 1)
    if len(data) > most:
        raise TooMuch(f"{name} is larger than any such file")
    return data
