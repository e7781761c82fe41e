"""What was practised: log, adherence, prop heights, soreness and pain; the private link."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from typing import Any

from flask import (
    Blueprint,
    flash,
    redirect,
    render_template,
    request,
    url_for,
)
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core import practice as practising
from dachi.core.programme import NoPlan, direction_target
from dachi.drawing import practice as drawings
from dachi.store import assessments, practice
from dachi.store.practitioners import Practitioner
from dachi.web import plans, proposals
from dachi.web.door import private_address, qr
from dachi.web.practised import beginning, by_week, directions, heights, pain_map, sitting, soreness
from dachi.web.session import coach_id, db, own_practitioner

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
    log = practice.log(db(), coach_id(), pid)
    profile = plans.profile_of(coach_id(), pid)
    nonce = practice.link(db(), coach_id(), pid)
    address = private_address(nonce) if nonce else None
    pains = pain_map(log)
    return render_template(
        "practice.html",
        who=who,
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        log=log[:40],
        count=len(log),
        drills=plans.drill_by_id(),
        weeks=drawings.weeks(by_week(log, len(profile.weekdays))),
        wheel=drawings.wheel(
            directions(log), direction_target(profile.minutes, len(profile.weekdays))
        ),
        heights=heights(coach_id(), who, log),
        soreness=soreness(log),
        pains=pains,
        pain_drawing=drawings.pain_map({p["place"]: p["times"] for p in pains}) if pains else "",
        sitting=sitting(log),
        address=address,
        code=qr(address) if address else "",
        sessions=_sessions(who),
        weekdays=plans.WEEKDAYS,
        places=practising.PLACES,
        kinds=practising.KINDS,
        form=EMPTY | {"once_key": secrets.token_urlsafe(12)} | dict(form or {}),
        problem=problem,
    )


def _sessions(who: Practitioner) -> list[dict[str, Any]]:
    try:
        return list(plans.week_of(coach_id(), who)["sessions"])
    except NoPlan:
        return []


@room.post("/p/<int:pid>/practice")
@login_required
def by_hand(pid: int) -> Response | tuple[str, int]:
    """Log a session that no player counted."""
    who = own_practitioner(pid)
    form = {k: request.form.get(k, v).strip() for k, v in EMPTY.items()}
    try:
        found = _entry(form, _sessions(who))
    except ValueError as error:
        return _page(pid, request.form.to_dict(), f"Not logged yet: {error}."), 422
    log_id = practice.add_log(db(), coach_id(), pid, **found)
    if form["soreness"]:
        practice.set_soreness(db(), coach_id(), pid, log_id, int(form["soreness"]))
    proposals.refresh(coach_id(), who)
    flash("Logged.")
    return redirect(url_for("practise.page", pid=pid))


def _entry(form: Mapping[str, str], sessions: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Check a session from the form; ValueError says what is wrong."""
    at = beginning(form["started_at"])
    try:
        minutes = float(form["minutes"].replace(",", "."))
    except ValueError:
        minutes = 0.0
    if not 0 < minutes <= 600:
        raise ValueError("give its length in minutes, up to 600")
    if form["soreness"] and not (form["soreness"].isdecimal() and int(form["soreness"]) <= 10):
        raise ValueError("soreness is a whole number from 0 to 10")
    if form["felt"] not in practising.FELT:
        raise ValueError("say how it felt")
    planned = next((s for s in sessions if str(s["weekday"]) == form["what"]), None)
    done = []
    if planned is not None:
        share = min(1.0, 60 * minutes / planned["seconds"])
        for i in planned["items"]:
            seconds = sum(s["seconds"] for s in i["steps"] if s["kind"] != "enter")
            done.append({"drill": i["drill"], "seconds": round(share * seconds, 1)})
    hurt = form["place"] in practising.PLACES and form["kind"] in practising.KINDS
    return {
        "once_key": form["once_key"][:64] or secrets.token_urlsafe(12),
        "started_at": at.isoformat(timespec="seconds"),
        "seconds": 60 * minutes,
        "felt": form["felt"],
        "finished": True,
        "done": done,
        "notes": form["notes"][:1000],
        # Nobody says at which drill: the place alone counts.
        "pains": [("", form["place"], form["kind"])] if hurt else [],
    }


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
    if practice.remove_log(db(), coach_id(), pid, log_id, back=back):
        proposals.refresh(coach_id(), who)
        undo = url_for("practise.restore", pid=pid, log_id=log_id)
        flash("Back in the log." if back else "Removed.", "message" if back else f"undo:{undo}")
    return redirect(url_for("practise.page", pid=pid, _anchor="log-head"))


@room.post("/p/<int:pid>/link")
@login_required
def link(pid: int) -> Response:
    """Make the private link, make it anew, or take it back."""
    own_practitioner(pid)
    if request.form.get("act") == "revoke":
        practice.revoke_link(db(), coach_id(), pid)
        flash("The link is taken back: it opens nothing any more.")
    else:
        practice.make_link(db(), coach_id(), pid)
    return redirect(url_for("practise.page", pid=pid, _anchor="own"))
