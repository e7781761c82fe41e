"""What was practised: log, adherence, prop heights, soreness and pain; the private link."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.practising import timeline
from dachi.core.practising.programme import NoPlan, direction_target
from dachi.drawing import practice as drawings
from dachi.store import assessments, practice_log, private_links
from dachi.store.practitioners import Practitioner
from dachi.store.weeks import PlannedSession
from dachi.studio.practice import proposals, weeks
from dachi.studio.practice.practice_history import (
    by_week,
    directions,
    heights,
    pain_map,
    sitting,
    soreness,
)
from dachi.studio.practice.practice_log import LogProblem, keep, read_by_hand
from dachi.web.private_links import private_address, qr, trusted_address
from dachi.web.session import coach_id, db, own_practitioner, work

room = Blueprint("practise", __name__)

#: A session logged by hand, before anything is filled in.
EMPTY = {
    "once_key": "", "started_at": "", "minutes": "", "what": "", "felt": "right", "soreness": "",
    "place": "", "kind": "dull", "notes": "",
}  # fmt: skip


@room.get("/p/<int:pid>/practice")
@login_required
def page(pid: int) -> str:
    """The log of a practitioner, drawn and listed."""
    return _page(pid)


def _page(pid: int, form: Mapping[str, str] | None = None, problem: str | None = None) -> str:
    who = own_practitioner(pid)
    log = practice_log.entries(db(), coach_id(), pid)
    today = work().today()
    profile = weeks.profile_of(work(), pid)
    own = private_links.live(db(), coach_id(), pid)
    address = private_address(own.nonce) if own else None
    pains = pain_map(log)
    return render_template(
        "practice.html",
        who=who,
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        log=log[:40],
        count=len(log),
        drills=weeks.drill_by_id(),
        weeks=drawings.weeks(by_week(log, profile.week_sessions, today)),
        wheel=drawings.wheel(directions(log, today), direction_target(profile.week_min)),
        heights=heights(work(), who, log),
        soreness=soreness(log),
        pains=pains,
        pain_drawing=drawings.pain_map({p.place: p.times for p in pains}) if pains else "",
        sitting=sitting(log),
        address=address,
        own=own,
        trusted=trusted_address(address) if address else None,
        code=qr(address) if address else "",
        sessions=_sessions(who),
        weekdays=weeks.WEEKDAYS,
        places=timeline.ALL_PLACES,
        kinds=timeline.KINDS,
        form=EMPTY
        | {
            "once_key": secrets.token_urlsafe(12),
            "started_at": work().now().strftime("%Y-%m-%dT%H:%M"),
        }
        | dict(form or {}),
        problem=problem,
    )


def _sessions(who: Practitioner) -> Sequence[PlannedSession]:
    try:
        return weeks.week_of(work(), who).sessions
    except NoPlan:
        return ()


@room.post("/p/<int:pid>/practice")
@login_required
def by_hand(pid: int) -> Response | tuple[str, int]:
    """Log a session that no player counted."""
    who = own_practitioner(pid)
    form = {k: request.form.get(k, v).strip() for k, v in EMPTY.items()}
    try:
        entry, sore = read_by_hand(form, _sessions(who), work().now())
    except LogProblem as error:
        return _page(pid, request.form.to_dict(), f"Not logged yet: {error}."), 422
    keep(work(), who, entry, sore)
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
    if practice_log.remove(db(), coach_id(), pid, log_id, back=back):
        proposals.refresh(work(), who)
        undo = url_for("practise.restore", pid=pid, log_id=log_id)
        flash("Back in the log." if back else "Removed.", "message" if back else f"undo:{undo}")
    return redirect(url_for("practise.page", pid=pid, _anchor="log-head"))


@room.post("/p/<int:pid>/link")
@login_required
def link(pid: int) -> Response:
    """Make the private link, make it anew, or take it back."""
    own_practitioner(pid)
    if request.form.get("act") == "revoke":
        private_links.revoke(db(), coach_id(), pid)
        flash("The link is taken back: it opens nothing any more.")
    else:
        private_links.make(db(), coach_id(), pid)
    return redirect(url_for("practise.page", pid=pid, _anchor="own"))
