"""What was practised: log, adherence, prop heights, soreness and pain; the private link."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.drawing import body
from dachi.drawing import practice as drawings
from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.lists import EVERY_PLACE, PAIN_KINDS
from dachi.studio.practice import acts, weeks
from dachi.studio.practice.minding import after_words
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.practice.practice_history import (
    by_week,
    directions,
    heights,
    pain_course,
    pain_map,
    sitting,
    soreness,
)
from dachi.studio.practice.practice_log import LogProblem, read_by_hand
from dachi.studio.records import NoPlan, PlannedSession
from dachi.web.private_links import private_address, qr, trusted_address
from dachi.web.session import own_practitioner, work

room = Blueprint("practise", __name__)

#: A session logged by hand, before anything is filled in.
EMPTY = {
    "once_key": "", "started_at": "", "minutes": "", "what": "", "felt": "", "soreness": "",
    "place": "", "kind": "dull", "notes": "", "level": "", "after": "", "spreads": "",
}  # fmt: skip


@room.get("/p/<int:pid>/practice")
@login_required
def page(pid: int) -> str:
    """The log of a practitioner, drawn and listed."""
    return _page(pid)


def _page(pid: int, form: Mapping[str, str] | None = None, problem: str | None = None) -> str:
    who = own_practitioner(pid)
    practising = Practising(work(), who)
    log = practising.log
    today = work().today()
    profile = practising.profile
    own = records.private_link(work(), pid)
    address = private_address(own.nonce) if own else None
    pains = pain_map(log)
    words = records.words_with(work(), pid)
    return render_template(
        "practice.html",
        who=who,
        visits=records.visits_of(work(), pid),
        words=words,
        log=log[:40],
        count=len(log),
        drills=drill_by_id(),
        weeks=drawings.weeks(by_week(log, profile.week_sessions, today)),
        wheel=weeks.practised_wheel(practising, directions(log, today)),
        heights=heights(work(), who, log),
        soreness=soreness(log),
        pains=pains,
        pain_drawing=body.hurt({p.place: p.times for p in pains}) if pains else "",
        pain_course=drawings.pains(*pain_course(log, today)) if pains else "",
        since=after_words(),
        sitting=sitting(log),
        address=address,
        own=own,
        trusted=trusted_address(address) if address else None,
        code=qr(address) if address else "",
        sessions=_sessions(practising),
        weekdays=weeks.WEEKDAYS,
        places=EVERY_PLACE,
        kinds=PAIN_KINDS,
        form=EMPTY
        | {
            "once_key": secrets.token_urlsafe(12),
            "started_at": work().now().strftime("%Y-%m-%dT%H:%M"),
        }
        | dict(form or {}),
        problem=problem,
    )


def _sessions(own: Practising) -> Sequence[PlannedSession]:
    try:
        return weeks.week_of(own).sessions
    except NoPlan:
        return ()


@room.post("/p/<int:pid>/practice")
@login_required
def by_hand(pid: int) -> Response | tuple[str, int]:
    """Log a session that no player counted."""
    who = own_practitioner(pid)
    form = {k: request.form.get(k, v).strip() for k, v in EMPTY.items()}
    try:
        entry, sore = read_by_hand(form, _sessions(Practising(work(), who)), work().now())
    except LogProblem as error:
        return _page(pid, request.form.to_dict(), f"Not logged yet: {error}."), 422
    acts.log_session(work(), who, entry, sore)
    flash("Logged.")
    return redirect(url_for("practise.page", pid=pid))


@room.post("/p/<int:pid>/practice/<int:log_id>/remove")
@login_required
def remove(pid: int, log_id: int) -> Response:
    """Put a session away that was logged by mistake."""
    return _removed(pid, log_id, back=False)


@room.post("/p/<int:pid>/practice/<int:log_id>/restore")
@login_required
def restore(pid: int, log_id: int) -> Response:
    """Bring a removed session back."""
    return _removed(pid, log_id, back=True)


def _removed(pid: int, log_id: int, *, back: bool) -> Response:
    who = own_practitioner(pid)
    if acts.remove_session(work(), who, log_id, back=back):
        undo = url_for("practise.restore", pid=pid, log_id=log_id)
        flash("Back in the log." if back else "Removed.", "message" if back else f"undo:{undo}")
    return redirect(url_for("practise.page", pid=pid, _anchor="log-head"))


@room.post("/p/<int:pid>/link")
@login_required
def link(pid: int) -> Response:
    """Make the private link, make it anew, or take it back."""
    who = own_practitioner(pid)
    if request.form.get("act") == "revoke":
        acts.close_link(work(), who)
        flash("The link is taken back: it opens nothing any more.")
    else:
        acts.open_link(work(), who)
    return redirect(url_for("practise.page", pid=pid, _anchor="own"))


@room.post("/p/<int:pid>/words")
@login_required
def write(pid: int) -> Response:
    """Write a few words to the practitioner, or only say that theirs are read."""
    who = own_practitioner(pid)
    try:
        if request.form.get("read") != "1":
            acts.write(work(), who, "coach", request.form.get("text", ""))
            flash(f"It stands on {who.call_name}’s page.")
        acts.have_been_read(work(), who)
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("practise.page", pid=pid, _anchor="words"))
