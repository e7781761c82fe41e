"""Taking a photograph in: check it, turn it upright, drop what identifies, keep it."""

from __future__ import annotations

import hashlib
import io
import threading
import warnings
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pillow_heif
from numpy.typing import NDArray
from PIL import ExifTags, Image, ImageOps, UnidentifiedImageError

from dachi.errors import NotDone
from dachi.files import digest_of, write_anew

pillow_heif.register_heif_opener()

MAX_BYTES = 50 * 1024 * 1024
MAX_PIXELS = 80_000_000
MIN_SIDE = 320
#: MPO: a JPEG with more pictures inside (depth, gain map), as many phones write; the first counts.
FORMATS = ("JPEG", "MPO", "PNG", "WEBP", "HEIF")
PREVIEW_SIDE, THUMB_SIDE = 1600, 360


#: So many are decoded at once, as a large one takes half a gigabyte; others wait so long, s.
_DECODING, PATIENCE_S = threading.BoundedSemaphore(2), 30.0


class PhotoError(NotDone):
    """A file that cannot be taken in; the message is for the person."""

    code = "photo"


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
    if not _DECODING.acquire(timeout=PATIENCE_S):
        raise PhotoError(
            "Other photographs are being taken in just now. Send it again in a moment."
        )
    try:
        return _take_in(data, folder)
    finally:
        _DECODING.release()


def _take_in(data: bytes, folder: Path) -> Taken:
    image = _open(data)
    focal, taken_at = _facts(image)
    try:
        upright = ImageOps.exif_transpose(image)
        rgb = _to_rgb(upright)
    except (OSError, SyntaxError, ValueError) as error:
        raise PhotoError(
            "The picture is damaged or cut short. Send it again, or take it again."
        ) from error
    width, height = rgb.size
    stored = _encode(rgb, 92)
    digest = hashlib.sha256(stored).hexdigest()
    home = path_of(folder, digest, "photo")
    if not whole(folder, digest):
        # What was swapped or cut short heals when the original is sent again.
        _write_previews(folder, digest, rgb)
        write_anew(home, stored)
    return Taken(digest, source_digest(data), width, height, focal, taken_at)


def whole(folder: Path, sha256: str) -> bool:
    """Whether a stored picture is there and is what its name says."""
    try:
        return digest_of(path_of(folder, sha256, "photo")) == sha256
    except OSError:
        return False


def _write_previews(folder: Path, digest: str, rgb: Image.Image) -> None:
    preview = rgb.copy() if max(rgb.size) <= PREVIEW_SIDE else rgb.reduce(_factor(rgb))
    preview.thumbnail((PREVIEW_SIDE, PREVIEW_SIDE), Image.Resampling.LANCZOS)
    thumb = preview.copy()
    thumb.thumbnail((THUMB_SIDE, THUMB_SIDE), Image.Resampling.LANCZOS)
    write_anew(path_of(folder, digest, "thumb"), _encode(thumb, 82))
    write_anew(path_of(folder, digest, "preview"), _encode(preview, 88))


def previews_anew(folder: Path, sha256: str) -> bool:
    """Make a whole picture's preview and thumbnail again where they are lost or unreadable."""
    for kind in ("preview", "thumb"):
        try:
            with Image.open(path_of(folder, sha256, kind)) as small:
                small.load()
        except (OSError, SyntaxError, ValueError):
            with Image.open(path_of(folder, sha256, "photo")) as full:
                _write_previews(folder, sha256, full.convert("RGB"))
            return True
    return False


def put_back(folder: Path, sha256: str, stored: bytes) -> bool:
    """Put a stored picture back where it belongs; False where these are not its bytes."""
    if hashlib.sha256(stored).hexdigest() != sha256:
        return False
    with Image.open(io.BytesIO(stored)) as full:
        _write_previews(folder, sha256, full.convert("RGB"))
    write_anew(path_of(folder, sha256, "photo"), stored)
    return True


def heal(folder: Path, sha256: str, original: bytes) -> bool:
    """Make a stored picture again from the photograph as it was sent; False where it differs."""
    try:
        rgb = _to_rgb(ImageOps.exif_transpose(_open(original)))
    except (PhotoError, OSError, SyntaxError, ValueError):
        return False
    return put_back(folder, sha256, _encode(rgb, 92))


def path_of(folder: Path, sha256: str, kind: str) -> Path:
    """Where a stored picture lies; ``kind`` is photo, preview or thumb."""
    suffix = {"photo": "", "preview": ".preview", "thumb": ".thumb"}[kind]
    return folder / "photos" / sha256[:2] / f"{sha256}{suffix}.jpg"


def _open(data: bytes) -> Image.Image:
    if not data:
        raise PhotoError("The file is empty. The phone may not have finished saving it: try again.")
    if len(data) > MAX_BYTES:
        raise PhotoError(
            f"The file is {len(data) / 1e6:.0f} MB; photographs up to {MAX_BYTES // 1048576} MB "
            "are taken. Send a JPEG or a smaller size."
        )
    try:
        with warnings.catch_warnings():
            # The size is judged below, in words of our own.
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            image = Image.open(io.BytesIO(data))
    except Image.DecompressionBombError as error:
        raise PhotoError("The picture has too many pixels to be a photograph.") from error
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as error:
        raise PhotoError(
            "This is not a picture that can be read. JPEG, PNG, WebP and HEIC are."
        ) from error
    if image.format not in FORMATS:
        raise PhotoError(f"{image.format} pictures are not taken. JPEG, PNG, WebP and HEIC are.")
    width, height = image.size
    if width * height > MAX_PIXELS:
        raise PhotoError(
            f"The picture is {width} x {height} pixels, more than any camera here needs. "
            f"Up to {MAX_PIXELS // 1_000_000} million pixels are taken."
        )
    if min(width, height) < MIN_SIDE:
        raise PhotoError(
            f"The picture is only {width} x {height} pixels, too small to mark a joint on."
        )
    return image


def _to_rgb(image: Image.Image) -> Image.Image:
    image.load()
    if image.mode.startswith("I;16"):
        # Sixteen bits of grey: the upper eight are the picture.
        return _grey(np.asarray(image) >> 8)
    if image.mode == "I":
        return _grey((np.asarray(image) // 256).clip(0, 255))
    if image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info:
        flat = Image.new("RGB", image.size, (255, 255, 255))
        rgba = image.convert("RGBA")
        flat.paste(rgba, mask=rgba.getchannel("A"))
        return flat
    return image if image.mode == "RGB" else image.convert("RGB")


def _grey(levels: NDArray[Any]) -> Image.Image:
    return Image.fromarray(levels.astype(np.uint8)).convert("RGB")


def _factor(image: Image.Image) -> int:
    return max(1, max(image.size) // PREVIEW_SIDE)


def _encode(image: Image.Image, quality: int) -> bytes:
    out = io.BytesIO()
    # A fresh save carries no EXIF, comment or text: place, device and names stay behind.
    icc = image.info.get("icc_profile")
    image.info = {}
    image.save(out, "JPEG", quality=quality, icc_profile=icc)
    return out.getvalue()


def _facts(image: Image.Image) -> tuple[float | None, datetime | None]:
    """Focal length (35 mm equivalent) and capture time from EXIF, where it tells them."""
    try:
        exif = image.getexif()
        inner: dict[int, Any] = dict(exif.get_ifd(ExifTags.IFD.Exif))
    except (OSError, ValueError, SyntaxError, KeyError, TypeError):
        return None, None
    return _focal(inner, max(image.size)), _time(inner)


def _focal(inner: dict[int, Any], longer: int) -> float | None:
    focal = _number(inner.get(ExifTags.Base.FocalLengthIn35mmFilm))
    if focal is None:
        real = _number(inner.get(ExifTags.Base.FocalLength))
        density = _number(inner.get(ExifTags.Base.FocalPlaneXResolution))
        unit = {2: 25.4, 3: 10.0, 4: 1.0}.get(
            int(inner.get(ExifTags.Base.FocalPlaneResolutionUnit, 2) or 2), 25.4
        )
        if real and density:
            focal = real * 36.0 / (longer / density * unit)
    return focal if focal is not None and 8 <= focal <= 400 else None


def _number(value: Any) -> float | None:
    try:
        number = float(value)
    except (TypeError, ValueError, ZeroDivisionError):
        return None
    return number if number > 0 else None


def _time(inner: dict[int, Any]) -> datetime | None:
    text = inner.get(ExifTags.Base.DateTimeOriginal)
    try:
        return datetime.strptime(str(text), "%Y:%m:%d %H:%M:%S")
    except ValueError:
        return None
