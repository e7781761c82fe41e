"""What was practised: log, adherence, prop heights, soreness and pain; the private link."""

from __future__ import annotations

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

from dachi.core.programme import direction_target
from dachi.drawing import practice as drawings
from dachi.store import assessments, practice
from dachi.web import plans
from dachi.web.door import private_address, qr
from dachi.web.practised import by_week, directions, heights, pain_map, sitting, soreness
from dachi.web.session import coach_id, db, own_practitioner

room = Blueprint("practise", __name__)


@room.get("/p/<int:pid>/practice")
@login_required
def page(pid: int) -> str:
    """The log of a practitioner, drawn and listed."""
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
    )


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
