"""Taking a photograph in: checked and made upright in a process of its own, then kept by hash."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from PIL import Image

from dachi.files import digest_of, write_anew
from dachi.photos import decoder
from dachi.photos.decoded import (
    MAX_BYTES,
    MAX_PIXELS,
    MIN_SIDE,
    PREVIEW_SIDE,
    THUMB_SIDE,
    PhotoError,
)

__all__ = [
    "MAX_BYTES", "MAX_PIXELS", "MIN_SIDE", "PREVIEW_SIDE", "THUMB_SIDE", "PhotoError", "Taken",
    "TooMany", "heal", "path_of", "previews_anew", "put_back", "source_digest", "take_in", "turn",
    "whole",
]  # fmt: skip

#: So many photographs are taken in at once; so many more wait, s, and others are sent away.
AT_ONCE, WAITING, PATIENCE_S = 2, 12, 60.0
_TURNS, _QUEUE = threading.BoundedSemaphore(AT_ONCE), threading.BoundedSemaphore(AT_ONCE + WAITING)


class TooMany(PhotoError):
    """So many photographs are being taken in that this one was not looked at: send it again."""

    code = "too-many"

    def __init__(self) -> None:
        super().__init__("Many photographs are being taken in just now. Send it again in a moment.")


@contextmanager
def turn(patience_s: float = PATIENCE_S) -> Iterator[None]:
    """One's turn to take a photograph in: before it, nothing of it is in memory.

    Raises TooMany where too many wait already.
    """
    if not _QUEUE.acquire(blocking=False):
        raise TooMany
    try:
        if not _TURNS.acquire(timeout=patience_s):
            raise TooMany
        try:
            yield
        finally:
            _TURNS.release()
    finally:
        _QUEUE.release()


@dataclass(frozen=True)
class Taken:
    """A photograph that has been checked and stored.

    ``sha256`` names the stored upright JPEG, ``source_sha256`` the bytes as sent.
    """

    sha256: str
    source_sha256: str
    width: int
    height: int
    focal_35mm: float | None
    taken_at: datetime | None


def source_digest(data: bytes) -> str:
    """SHA-256 of a file as it was sent."""
    return hashlib.sha256(data).hexdigest()


def take_in(data: bytes, folder: Path) -> Taken:
    """Check, normalise and store a photograph with its preview and thumbnail.

    Raises PhotoError with a sentence; nothing is left behind then.
    """
    found = decoder.decode(data)
    digest = hashlib.sha256(found.stored).hexdigest()
    if not whole(folder, digest):
        # What was swapped or cut short heals when the original is sent again.
        _write_small(folder, digest, found.preview, found.thumb)
        write_anew(path_of(folder, digest, "photo"), found.stored)
    return Taken(
        digest, source_digest(data), found.width, found.height, found.focal_35mm, found.taken_at
    )


def whole(folder: Path, sha256: str) -> bool:
    """Whether a stored picture is there and is what its name says."""
    try:
        return digest_of(path_of(folder, sha256, "photo")) == sha256
    except OSError:
        return False


def _write_small(folder: Path, digest: str, preview: bytes, thumb: bytes) -> None:
    write_anew(path_of(folder, digest, "thumb"), thumb)
    write_anew(path_of(folder, digest, "preview"), preview)


def previews_anew(folder: Path, sha256: str) -> bool:
    """Make a whole picture's preview and thumbnail again where they are lost or unreadable."""
    for kind in ("preview", "thumb"):
        try:
            with Image.open(path_of(folder, sha256, kind)) as small:
                small.load()
        except (OSError, SyntaxError, ValueError):
            stored = path_of(folder, sha256, "photo").read_bytes()
            _write_small(folder, sha256, *decoder.small(stored))
            return True
    return False


def put_back(folder: Path, sha256: str, stored: bytes) -> bool:
    """Put a stored picture back where it belongs; False where these are not its bytes, or are no
    picture.
    """
    if hashlib.sha256(stored).hexdigest() != sha256:
        return False
    try:
        preview, thumb = decoder.small(stored)
    except PhotoError:
        return False
    _write_small(folder, sha256, preview, thumb)
    write_anew(path_of(folder, sha256, "photo"), stored)
    return True


def heal(folder: Path, sha256: str, original: bytes) -> bool:
    """Make a stored picture again from the photograph as it was sent; False where it differs."""
    for profile in (False, True):
        # What was stored earlier kept its colour profile.
        try:
            stored = decoder.decode(original, profile=profile).stored
        except PhotoError:
            return False
        if put_back(folder, sha256, stored):
            return True
    return False


def path_of(folder: Path, sha256: str, kind: str) -> Path:
    """Where a stored picture lies; ``kind`` is photo, preview or thumb."""
    suffix = {"photo": "", "preview": ".preview", "thumb": ".thumb"}[kind]
    return folder / "photos" / sha256[:2] / f"{sha256}{suffix}.jpg"
