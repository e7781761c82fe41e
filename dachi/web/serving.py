"""Handing out stored pictures: faces hidden, withheld where consent has ended."""

from __future__ import annotations

import functools
from pathlib import Path

from flask import abort, send_file
from werkzeug.wrappers import Response

from dachi.files import digest_of
from dachi.photos import faces
from dachi.store.database import disk_trouble
from dachi.studio.record import picture_privacy
from dachi.studio.records import Photo
from dachi.studio.work import Work

MISSING = "The picture's file is missing from the data folder."
DAMAGED = (
    "The picture's file is damaged and is not shown. Send the original again, or run `dachi check`."
)


def shared(work: Work, photo: Photo, kind: str) -> Response:
    """A picture for anywhere but the bench, as the practitioner's consent says."""
    try:
        path = picture_privacy.outside(work, photo, kind)
    except FileNotFoundError:
        abort(404, MISSING)
    except OSError as error:
        if (trouble := disk_trouble(error)) is not None:
            raise trouble from error
        # A picture that cannot be read is none that can be shown.
        abort(404, DAMAGED)
    return withheld() if path is None else send(path)


def send(path: Path) -> Response:
    """A picture that browsers keep and ask about, since consent can end.

    One that is not what its name says is not shown.
    """
    if not path.exists():
        abort(404, MISSING)
    stat = path.stat()
    if not _sound(path, stat.st_mtime_ns, stat.st_size):
        abort(404, DAMAGED)
    # Both photographs and their hidden versions are named by what is in them.
    answer = send_file(path, mimetype="image/jpeg", conditional=True, etag=path.stem)
    answer.headers["Cache-Control"] = "private, no-cache"
    return answer


@functools.lru_cache(8192)
def _sound(path: Path, _changed: int, size: int) -> bool:
    """Whether a stored picture holds what its name says; smaller ones only that they are any."""
    if "." in path.stem or "-" in path.stem or len(path.stem) != 64:
        return size > 0
    return digest_of(path) == path.stem


def withheld() -> Response:
    """A plain picture in place of one that may not be shown."""
    answer = Response(faces.withheld(), mimetype="image/jpeg")
    answer.headers["Cache-Control"] = "no-store"
    return answer
