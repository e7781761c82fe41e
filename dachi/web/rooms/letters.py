"""The simulated mail outbox: what would have been sent, and what is due to be."""

from __future__ import annotations

from flask import Blueprint, abort, flash, redirect, render_template, request, send_file, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.practice import reminders
from dachi.web.private_links import private_address
from dachi.web.session import own_practitioner, work

room = Blueprint("letters", __name__)


@room.get("/outbox")
@login_required
def page() -> str:
    """Reminders that are due, and the messages written so far."""
    return render_template(
        "outbox.html",
        letters=reminders.letters(work()),
        waiting=reminders.waiting(work()),
    )


@room.get("/outbox/<name>")
@login_required
def letter(name: str) -> Response:
    """One message as a standard .eml file."""
    path = reminders.letter_file(work(), name) or abort(404)
    return send_file(path, mimetype="message/rfc822", as_attachment=True, download_name=name)


@room.post("/outbox")
@login_required
def write_all() -> Response:
    """Write every reminder that is due."""
    for one in reminders.waiting(work()):
        _write(one)
    return redirect(url_for("letters.page"))


@room.post("/p/<int:pid>/remind")
@login_required
def remind(pid: int) -> Response:
    """Remind one person: of practice, of the coming visit, or that a look is due."""
    who = own_practitioner(pid)
    if not who.email:
        flash("There is no address in the record yet.", "retake")
    else:
        try:
            one = reminders.reminder(work(), who, request.form.get("kind", ""))
            if reminders.written_lately(work(), one):
                flash(f"“{one.subject}” was already written to {who.call_name} today.")
            else:
                _write(one)
        except NotDone as error:
            flash(error.sentence, "retake")
    return redirect(url_for("practise.page", pid=pid))


def _write(one: reminders.Reminder) -> None:
    try:
        link = records.private_link(work(), one.who.id)
        reminders.write(work(), one, private_address(link.nonce) if link else None)
        flash(f"Written to the outbox for {one.who.call_name}: “{one.subject}”.")
    except (ValueError, OSError) as error:
        flash(f"The message to {one.who.call_name} was not written: {error}.", "retake")
