"""Handing out stored pictures to their coach only."""

from __future__ import annotations

from flask import Blueprint, abort, send_file
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.photos.ingest import path_of
from dachi.store import photos
from dachi.web.session import coach_id, data_folder, db, own_trial

room = Blueprint("pictures", __name__)


@room.get("/photo/<int:photo_id>/<any(photo, preview, thumb):kind>.jpg")
@login_required
def picture(photo_id: int, kind: str) -> Response:
    """Send a photograph, its preview or its thumbnail."""
    photo = photos.get(db(), coach_id(), photo_id) or abort(404)
    path = path_of(data_folder(), photo.sha256, kind)
    if not path.exists():
        abort(404, "The picture's file is missing from the data folder.")
    answer = send_file(path, mimetype="image/jpeg", conditional=True, etag=photo.sha256 + kind)
    answer.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@room.get("/t/<int:tid>/preview.jpg")
@login_required
def of_trial(tid: int) -> Response:
    """The preview of a trial's photograph."""
    return picture(own_trial(tid).photo_id, "preview")
