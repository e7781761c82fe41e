"""A backup by a button: one file beside the data folder, and when the last one was."""

from __future__ import annotations

from collections.abc import Callable

from flask import Blueprint, abort, current_app, render_template, url_for
from flask_login import login_required

from dachi.studio.record import keeping
from dachi.web.jobs import Jobs
from dachi.web.session import clock, coach_id, current_coach, data_folder

room = Blueprint("backups", __name__)

#: Beside the data folder: inside it, erasing would not reach it and the next backup would hold it.
FOLDER, NAME = "backups", "dachi-backup-"


@room.post("/account/backup")
@login_required
def make() -> str:
    """Begin to write a backup; the answer asks again until it is there."""
    if not current_coach().owner:
        abort(403, "The owner of this copy backs it up.")
    folder, at = data_folder().resolve(), clock()
    to = folder.parent / FOLDER / f"{NAME}{at.local():%Y-%m-%d-%H%M%S}.zip"

    def run(progress: Callable[[int], None]) -> bytes:
        made = keeping.backup(folder, to, at)
        progress(1)
        return f"{made.path}\n{made.photos}\n{made.bytes}\n{len(made.bad)}".encode()

    jobs: Jobs = current_app.extensions["jobs"]
    return _state(jobs.start(coach_id(), to.stem, 1, run))


@room.get("/account/backup/<key>")
@login_required
def state(key: str) -> str:
    """How far a backup is, and where it lies."""
    return _state(key)


def _state(key: str) -> str:
    jobs: Jobs = current_app.extensions["jobs"]
    job = jobs.of(coach_id(), key)
    if job is None or not job.name.startswith(NAME):
        abort(404, "This backup is no longer shown here.")
    path, photos, size, bad = (job.result or b"\n0\n0\n0").decode().split("\n")
    return render_template(
        "parts/backup_state.html", job=job, again=url_for("backups.state", key=key), path=path,
        photos=int(photos), size=int(size), bad=int(bad),
    )  # fmt: skip
