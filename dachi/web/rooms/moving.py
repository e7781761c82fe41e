"""Taking records out, in, and together."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio.lists import Happened
from dachi.studio.record import acts, moving
from dachi.web.fields import whole
from dachi.web.jobs import finish_erasing
from dachi.web.session import clock, coach_id, data_folder, own_practitioner, work

room = Blueprint("moving", __name__)


def _file(people: list[int], name: str) -> Response:
    """People as a file that is sent while it is written."""
    blocks = moving.stream(data_folder(), clock(), coach_id(), people)
    answer = Response(blocks, mimetype="application/zip")
    answer.headers["Content-Disposition"] = (
        f"attachment; filename={name}-{clock().today().isoformat()}.zip"
    )
    answer.headers["Cache-Control"] = "no-store"
    return answer


@room.get("/p/<int:pid>/record.zip")
@login_required
def person(pid: int) -> Response:
    """One person with their photographs, for another Dachi."""
    own_practitioner(pid)
    answer = _file([pid], "person")
    acts.note_apart(work(), Happened.RECORD_OUT, pid)
    return answer


@room.get("/account/studio.zip")
@login_required
def studio() -> Response:
    """Everybody with their photographs, for another Dachi."""
    answer = _file(moving.everybody(work()), "studio")
    acts.note_apart(work(), Happened.EVERYBODY_OUT)
    return answer


@room.post("/account/import")
@login_required
def take_in() -> Response:
    """Take in people from a file, all or nothing."""
    sent = request.files.get("record")
    back = redirect(url_for("accounts.account"))
    if sent is None or not sent.filename:
        flash("Choose a file first.", "retake")
        return back
    try:
        done = moving.receive(work(), sent.stream, beside=request.form.get("beside") == "1")
    except NotDone as error:
        flash(f"{str(error).rstrip('.')}.", "retake")
        return back
    acts.note(work(), Happened.RECORD_IN, detail=len(done.people))
    new = f"{len(done.people)} {'person was' if len(done.people) == 1 else 'people were'} taken in."
    same = f" Here already, just so: {', '.join(done.same)}." if done.same else ""
    flash(new + same)
    return back


@room.post("/p/<int:pid>/merge")
@login_required
def merge(pid: int) -> Response:
    """Make one record of two of the same person; this one wins where both say something."""
    who = own_practitioner(pid)
    other = whole(request.form.get("other", ""))
    if other is None or not moving.merge(work(), pid, other):
        flash("Choose the other record of this person.", "retake")
    else:
        finish_erasing()
        flash(f"Both records are {who.call_name}’s now.")
    return redirect(url_for("practitioners.record", pid=pid))
