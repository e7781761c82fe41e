"""Making a face unrecognisable in what leaves the bench."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path

from PIL import Image, ImageDraw

from dachi.core.measuring.figure_match import Region
from dachi.files import write_once
from dachi.photos.ingest import path_of

#: Squares across the hidden region; fewer squares hide more.
SQUARES = 5
#: Squares along the longer side of a picture in which nobody has found the head yet.
WHOLE_SQUARES = 32


def hidden(folder: Path, sha256: str, kind: str, region: Region | None) -> Path:
    """Return the picture with the region pixelated, made once and kept in a cache.

    ``region`` is in px of the stored photograph; None pixelates everything, since nobody
    can say yet where the head is. Raises OSError where the picture's file is missing.
    """
    key = hashlib.sha256(f"{sha256} {kind} {region}".encode()).hexdigest()[:24]
    path = folder / "cache" / "faces" / sha256[:2] / f"{sha256}-{key}.jpg"
    if not path.exists():
        with Image.open(path_of(folder, sha256, "photo")) as stored:
            full = stored.size
        with Image.open(path_of(folder, sha256, kind)) as shown:
            share = max(shown.size) / max(full)
            picture = pixelated(shown.convert("RGB"), region, share)
            picture.info = {}
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=88)
        write_once(path, out.getvalue())
    return path


def pixelated(picture: Image.Image, region: Region | None, share: float = 1.0) -> Image.Image:
    """Pixelate a round region (px times ``share``), or the whole picture.

    Each square holds the mean of what it covers, so what was there cannot be told.
    """
    if region is None:
        square = max(1, max(picture.size) // WHOLE_SQUARES)
        return _squares(picture, square)
    x, y, r = region.x * share, region.y * share, region.radius * share
    box = (
        max(0, int(x - r)),
        max(0, int(y - r)),
        min(picture.width, int(x + r) + 1),
        min(picture.height, int(y + r) + 1),
    )
    found = picture.copy()
    if box[0] >= box[2] or box[1] >= box[3]:
        # The head is said to be outside the picture: nobody knows then where it is.
        return _squares(picture, max(1, max(picture.size) // WHOLE_SQUARES))
    mask = Image.new("L", (box[2] - box[0], box[3] - box[1]), 0)
    ImageDraw.Draw(mask).ellipse(
        (x - r - box[0], y - r - box[1], x + r - box[0], y + r - box[1]), 255
    )
    part = _squares(picture.crop(box), max(1, int(2 * r / SQUARES)))
    found.paste(part, box[:2], mask)
    return found


def _squares(picture: Image.Image, square: int) -> Image.Image:
    small = picture.resize(
        (max(1, -(-picture.width // square)), max(1, -(-picture.height // square))),
        Image.Resampling.BOX,
    )
    return small.resize(picture.size, Image.Resampling.NEAREST)


def withheld() -> bytes:
    """A plain picture that stands for one that may not be shown any more."""
    picture = Image.new("RGB", (640, 480), (108, 102, 94))
    ImageDraw.Draw(picture).line((120, 360, 520, 120), (150, 144, 134), 6)
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=80)
    return out.getvalue()
