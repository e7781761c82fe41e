"""What was practised: log, adherence, prop heights, soreness and pain; the private link."""

from __future__ import annotations

from flask import (
    Blueprint,
    abort,
    flash,
    redirect,
    render_template,
    request,
    send_file,
    url_for,
)
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.programme import direction_target
from dachi.devices import outbox
from dachi.drawing import practice as drawings
from dachi.store import assessments, practice
from dachi.store.practitioners import Practitioner
from dachi.web import plans
from dachi.web.calendars import calendar_of, due
from dachi.web.door import private_address, qr
from dachi.web.practised import by_week, directions, heights, pain_map, sitting
from dachi.web.session import coach_id, data_folder, db, own_practitioner
from dachi.web.words import day

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


@room.post("/p/<int:pid>/remind")
@login_required
def remind(pid: int) -> Response:
    """Write a reminder into the outbox: practice, the coming visit, or a due look."""
    who = own_practitioner(pid)
    if not who.email:
        flash("There is no address in the record yet.", "retake")
        return redirect(url_for("practise.page", pid=pid))
    nonce = practice.link(db(), coach_id(), pid)
    page = f"\n\nYour page: {private_address(nonce)}" if nonce else ""
    subject, text = _reminder(who, request.form.get("kind", ""), due(coach_id(), pid))
    try:
        outbox.send(
            data_folder(), who.email, subject, f"Hello {who.call_name},\n\n{text}{page}\n",
            [("practice.ics", calendar_of(coach_id(), who))],
        )  # fmt: skip
        flash(f"Written to the outbox: “{subject}”.")
    except (ValueError, OSError) as error:
        flash(f"The message was not written: {error}.", "retake")
    return redirect(url_for("practise.page", pid=pid))


def _reminder(who: Practitioner, kind: str, look: str | None) -> tuple[str, str]:
    """Subject and words of a reminder."""
    if kind == "visit" and who.next_visit_at:
        when = f"{day(who.next_visit_at)} at {who.next_visit_at[11:16]}"
        return (
            f"See you on {day(who.next_visit_at)}",
            f"we meet on {when}. Come as you are; we warm up together first.",
        )
    if kind == "look" and look:
        return (
            "Time for another look",
            f"from {day(look)} on a new look can show what the weeks have changed. Say when it "
            "suits you.",
        )
    return (
        "Your practice this week",
        "your sessions for this week are ready. Short ones that happen are worth more than long "
        "ones that do not.",
    )


@room.get("/outbox")
@login_required
def letters() -> str:
    """The simulated mail outbox: what would have been sent."""
    return render_template("outbox.html", letters=outbox.letters(data_folder()))


@room.get("/outbox/<name>")
@login_required
def letter(name: str) -> Response:
    """One message as a standard .eml file."""
    path = outbox.path_of(data_folder(), name) or abort(404)
    return send_file(path, mimetype="message/rfc822", as_attachment=True, download_name=name)
