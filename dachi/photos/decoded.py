"""A photograph's bytes to what is kept of it: checked, upright, without what identifies.

Nothing here touches a disk: it runs in a process of its own (see ``decoder``), as a file from
anywhere may take minutes or gigabytes to read.
"""

from __future__ import annotations

import contextlib
import io
import math
import warnings
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import pillow_heif
from numpy.typing import NDArray
from PIL import ExifTags, Image, ImageCms, ImageOps, UnidentifiedImageError

from dachi.errors import NotDone

pillow_heif.register_heif_opener()

MAX_BYTES = 50 * 1024 * 1024
MAX_PIXELS = 80_000_000
#: No side of a JPEG is longer than 65,500; no camera's is than this.
MIN_SIDE, MAX_SIDE = 320, 30_000
#: A progressive JPEG comes in some ten scans; every further one is gone through whole.
MAX_SCANS = 100
#: MPO: a JPEG with more pictures inside (depth, gain map), as many phones write; the first counts.
FORMATS = ("JPEG", "MPO", "PNG", "WEBP", "HEIF")
PREVIEW_SIDE, THUMB_SIDE = 1600, 360
#: From so many pixels on a picture takes half a gigabyte.
LARGE_PIXELS = 16_000_000


class PhotoError(NotDone):
    """A file that cannot be taken in; the message is for the person."""

    code = "photo"


@dataclass(frozen=True)
class Decoded:
    """A photograph upright as a JPEG, smaller ones of it, and what its camera said."""

    stored: bytes
    preview: bytes
    thumb: bytes
    width: int
    height: int
    focal_35mm: float | None
    taken_at: datetime | None


def is_large(data: bytes) -> bool:
    """Whether a picture takes much memory to read; False where it is none."""
    try:
        width, height = _open(data).size
    except PhotoError:
        return False
    return width * height > LARGE_PIXELS


def decode(data: bytes, *, profile: bool = False) -> Decoded:
    """Check and normalise a photograph. PhotoError with a sentence.

    ``profile`` keeps the colour profile as it came, as earlier versions did.
    """
    image = _open(data)
    focal, taken_at = _facts(image)
    try:
        # In place: a large picture is not held twice.
        ImageOps.exif_transpose(image, in_place=True)
        rgb = _to_rgb(image, profile=profile)
    except MemoryError as error:
        raise PhotoError("The picture takes more memory to read than a photograph does.") from error
    except (OSError, SyntaxError, ValueError) as error:
        raise PhotoError(
            "The picture is damaged or cut short. Send it again, or take it again."
        ) from error
    width, height = rgb.size
    preview, thumb = smaller(rgb)
    return Decoded(_encode(rgb, 92), preview, thumb, width, height, focal, taken_at)


def small(stored: bytes) -> tuple[bytes, bytes]:
    """Preview and thumbnail of a stored picture. PhotoError where it cannot be read."""
    try:
        with Image.open(io.BytesIO(stored)) as full:
            return smaller(full.convert("RGB"))
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, MemoryError) as error:
        raise PhotoError("The picture cannot be read.") from error


def smaller(rgb: Image.Image) -> tuple[bytes, bytes]:
    """Preview and thumbnail of a picture."""
    preview = rgb.copy() if max(rgb.size) <= PREVIEW_SIDE else rgb.reduce(_factor(rgb))
    preview.thumbnail((PREVIEW_SIDE, PREVIEW_SIDE), Image.Resampling.LANCZOS)
    thumb = preview.copy()
    thumb.thumbnail((THUMB_SIDE, THUMB_SIDE), Image.Resampling.LANCZOS)
    return _encode(preview, 88), _encode(thumb, 82)


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
    if image.format in ("JPEG", "MPO") and data.count(b"\xff\xda") > MAX_SCANS:
        raise PhotoError(
            "The picture is put together of more layers than any camera writes. Save it anew as a "
            "plain JPEG and send that."
        )
    width, height = image.size
    if max(width, height) > MAX_SIDE:
        raise PhotoError(
            f"The picture is {width} x {height} pixels: a strip, and no photograph of a person."
        )
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


def _to_rgb(image: Image.Image, *, profile: bool = False) -> Image.Image:
    image.load()
    icc = image.info.get("icc_profile")
    if icc and not profile and image.mode in ("RGB", "CMYK", "L"):
        # Colours as they are meant; the profile itself may hold anything, and stays behind.
        with contextlib.suppress(ImageCms.PyCMSError, OSError, ValueError, TypeError):
            given = ImageCms.ImageCmsProfile(io.BytesIO(icc))
            found = ImageCms.profileToProfile(
                image, given, ImageCms.createProfile("sRGB"), outputMode="RGB"
            )
            if found is not None:
                return found
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
    # A fresh save carries no EXIF, comment, text or profile: place, device and names stay behind.
    image.info = {}
    image.save(out, "JPEG", quality=quality)
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
        named = _number(inner.get(ExifTags.Base.FocalPlaneResolutionUnit)) or 2.0
        unit = {2.0: 25.4, 3.0: 10.0, 4.0: 1.0}.get(named, 25.4)
        if real and density:
            focal = real * 36.0 / (longer / density * unit)
    return focal if focal is not None and 8 <= focal <= 400 else None


def _number(value: Any) -> float | None:
    try:
        number = float(value)
    except (TypeError, ValueError, ZeroDivisionError, OverflowError):
        return None
    return number if 0 < number < math.inf else None


def _time(inner: dict[int, Any]) -> datetime | None:
    text = inner.get(ExifTags.Base.DateTimeOriginal)
    try:
        return datetime.strptime(str(text), "%Y:%m:%d %H:%M:%S")
    except ValueError:
        return None
