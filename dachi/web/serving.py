"""Handing out stored pictures: faces hidden, withheld where consent has ended."""

from __future__ import annotations

from pathlib import Path

from flask import abort, send_file
from werkzeug.wrappers import Response

from dachi.photos import faces
from dachi.store.photos import Photo
from dachi.studio import picture_privacy
from dachi.studio.work import Work

MISSING = "The picture's file is missing from the data folder."


def shared(work: Work, photo: Photo, kind: str) -> Response:
    """A picture for anywhere but the bench, as the practitioner's consent says."""
    try:
        path = picture_privacy.outside(work, photo, kind)
    except OSError:
        abort(404, MISSING)
    return withheld() if path is None else send(path)


def send(path: Path) -> Response:
    """A picture that browsers keep and ask about, since consent can end."""
    if not path.exists():
        abort(404, MISSING)
    # Both photographs and their hidden versions are named by what is in them.
    answer = send_file(path, mimetype="image/jpeg", conditional=True, etag=path.stem)
    answer.headers["Cache-Control"] = "private, no-cache"
    return answer


def withheld() -> Response:
    """A plain picture in place of one that may not be picture_privacy."""
    answer = Response(faces.withheld(), mimetype="image/jpeg")
    answer.headers["Cache-Control"] = "no-store"
    return answer
