"""A folder of photographs: taken in first, then sorted onto the sheet by time and order."""

from __future__ import annotations

import json

from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.record import wrong_person
from dachi.studio.visits import acts, intake
from dachi.studio.visits.recognised import laid_out
from dachi.web.fields import whole
from dachi.web.jobs import see_waiting
from dachi.web.session import coach_id, own_assessment, own_practitioner, work

room = Blueprint("unsorted", __name__)


@room.post("/a/<int:aid>/tray")
@login_required
def add(aid: int) -> tuple[Response, int]:
    """Take photographs in, one or more at a time; they wait in the tray. Answers as data."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    kept, problems, full = 0, [], False
    files = [f for f in request.files.getlist("photo") if f.filename]
    if problem := intake.refusal(work(), visit, who, "active"):
        return _json({"problem": problem}, 409)
    for sent in files:
        name = (sent.filename or "photograph").replace("\\", "/").rsplit("/", 1)[-1]
        try:
            # Each one is kept by itself: what comes after it takes nothing back.
            with intake.turn(work()):
                acts.into_tray(work(), visit, sent.read(), name)
            kept += 1
        except NotDone as error:
            problems.append(f"{name}: {error}")
        except OSError as error:
            problems.append(f"{name}: {intake.unwritten(error)}")
            full = True
            break
    if kept:
        see_waiting(coach_id())
    if full and not kept:
        return _json({"problem": problems[-1]}, 507)
    return _json({"kept": kept, "problems": problems}, 200)


def _json(body: dict[str, object], code: int) -> tuple[Response, int]:
    return Response(json.dumps(body), mimetype="application/json"), code


@room.get("/a/<int:aid>/tray")
@login_required
def page(aid: int) -> str:
    """The tray in the order the photographs were taken, with a place proposed for each.

    Nothing is proposed before everything was looked at, unless the coach sorts by hand.
    """
    visit = own_assessment(aid)
    out = {n for x in request.args.getlist("out") if (n := whole(x)) is not None}
    looking = current_app.config["PROPOSE"]
    found = laid_out(work(), visit, out, looking=looking)
    if found.unlooked:
        see_waiting(coach_id())
    return render_template(
        "unsorted.html",
        visit=visit,
        who=own_practitioner(visit.practitioner_id),
        rows=found.rows,
        out=out,
        others=wrong_person.offered(work(), visit.practitioner_id),
        free=found.free,
        seen=found.seen,
        unlooked=found.unlooked if looking else 0,
        wait=looking and found.unlooked and request.args.get("by") != "hand",
        over=sum(1 for w, s in found.rows if s is None and w.photo_id not in out),
    )


@room.post("/a/<int:aid>/tray/place")
@login_required
def place(aid: int) -> Response:
    """Put photographs of the tray in the places chosen; those without one stay."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    put, problems = [], []
    for waiting in records.tray(work(), aid):
        chosen = request.form.get(f"place-{waiting.photo_id}", "")
        if not chosen:
            continue
        try:
            acts.place_from_tray(work(), visit, who, waiting.photo_id, chosen)
            put.append(waiting.photo_id)
        except NotDone as error:
            problems.append(f"{waiting.name}: {error}")
    if put:
        see_waiting(coach_id())
    if problems:
        more = f" And {len(problems) - 3} more like this." if len(problems) > 3 else ""
        flash(" ".join(problems[:3]) + more, "retake")
    left = len(records.tray(work(), aid))
    flash(f"{said(len(put))} put on the sheet" + (f"; {left} still in the tray." if left else "."))
    return redirect(url_for("unsorted.page" if left and problems else "assessments.sheet", aid=aid))


@room.post("/a/<int:aid>/tray/empty")
@login_required
def empty(aid: int) -> Response:
    """Leave the rest of the tray out of this assessment."""
    count = acts.empty_tray(work(), own_assessment(aid))
    flash(
        f"{said(count)} left out of this assessment.", f"undo:{url_for('unsorted.refill', aid=aid)}"
    )
    return redirect(url_for("assessments.sheet", aid=aid))


@room.post("/a/<int:aid>/tray/refill")
@login_required
def refill(aid: int) -> Response:
    """Undo leaving the tray out."""
    try:
        count = acts.refill_tray(work(), own_assessment(aid))
        flash(f"{said(count)} back in the tray.")
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("unsorted.page", aid=aid))


@room.post("/a/<int:aid>/tray/person")
@login_required
def other_person(aid: int) -> Response:
    """What waits here is of somebody else: it goes into their tray."""
    to = whole(request.form.get("whose", "")) or 0
    try:
        count = wrong_person.move_tray(work(), own_assessment(aid), to)
        see_waiting(coach_id())
        flash(f"{said(count)} moved here.")
    except NotDone as error:
        flash(error.sentence, "retake")
        return redirect(url_for("unsorted.page", aid=aid))
    return redirect(url_for("unsorted.page", aid=to))


def said(count: int) -> str:
    """So many photographs."""
    return f"{count} photograph{'s' if count != 1 else ''}"
