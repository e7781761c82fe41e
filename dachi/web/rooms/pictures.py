"""The coach's own pictures."""

from __future__ import annotations

from flask import Blueprint, abort
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.studio import records
from dachi.studio.record import picture_privacy
from dachi.web.serving import send, shared, withheld
from dachi.web.session import own_trial, work

room = Blueprint("pictures", __name__)


@room.get("/photo/<int:photo_id>/<any(photo, preview, thumb):kind>.jpg")
@login_required
def picture(photo_id: int, kind: str) -> Response:
    """Send a photograph, its preview or its thumbnail as it may leave the bench."""
    photo = records.photo(work(), photo_id) or abort(404)
    return shared(work(), photo, kind)


@room.get("/t/<int:tid>/bench.jpg")
@login_required
def original(tid: int) -> Response:
    """The photograph as it was taken: for marking, and for nothing else."""
    trial = own_trial(tid)
    photo = records.photo(work(), trial.photo_id) or abort(404)
    if picture_privacy.withdrawn(work(), trial.practitioner_id):
        return withheld()
    return send(picture_privacy.whole_picture(work(), photo))


@room.get("/t/<int:tid>/preview.jpg")
@login_required
def of_trial(tid: int) -> Response:
    """The preview of a trial's photograph."""
    photo = records.photo(work(), own_trial(tid).photo_id) or abort(404)
    return shared(work(), photo, "preview")
