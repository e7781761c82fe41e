"""A folder of photographs: taken in first, then sorted onto the sheet by time and order."""

from __future__ import annotations

import json

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.assessing import runsheet
from dachi.photos.ingest import PhotoError, source_digest
from dachi.store import photos, unsorted_photos
from dachi.store.database import Conflict
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.intake import Incoming, Refused
from dachi.studio.visits.recognised import recognised, sheet_places
from dachi.web.jobs import see_waiting
from dachi.web.session import coach_id, db, own_assessment, own_practitioner, work

room = Blueprint("unsorted", __name__)


@room.post("/a/<int:aid>/tray")
@login_required
def add(aid: int) -> tuple[Response, int]:
    """Take photographs in, one or more at a time; they wait in the tray. Answers as data."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    kept, problems = 0, []
    files = [f for f in request.files.getlist("photo") if f.filename]
    if problem := intake.refusal(work(), visit, who, "active"):
        return _json({"problem": problem}, 409)
    for sent in files:
        name = (sent.filename or "photograph").replace("\\", "/").rsplit("/", 1)[-1]
        data = sent.read()
        try:
            if double := photos.use_of(db(), coach_id(), source_digest(data)):
                raise Refused(intake.already(double))
            photo_id = intake.store(work(), Incoming(data))
            unsorted_photos.add(db(), coach_id(), visit.id, photo_id, name)
            kept += 1
            db().again(keep=True)
        except (Refused, PhotoError) as error:
            problems.append(f"{name}: {error}")
        except OSError as error:
            return _json({"problem": f"{name}: {intake.unwritten(error)}"}, 507)
    if kept:
        see_waiting(coach_id())
    return _json({"kept": kept, "problems": problems}, 200)


def _json(body: dict[str, object], code: int) -> tuple[Response, int]:
    return Response(json.dumps(body), mimetype="application/json"), code


@room.get("/a/<int:aid>/tray")
@login_required
def page(aid: int) -> str:
    """The tray in the order the photographs were taken, with a place proposed for each."""
    visit = own_assessment(aid)
    waiting = unsorted_photos.of_assessment(db(), coach_id(), aid)
    out = {int(x) for x in request.args.getlist("out") if x.isdecimal()}
    stations = visits.stations(work(), visit, visits.all_trials(work(), visit))
    free = visits.free(stations)
    places = sheet_places(visits.every(stations))
    seen = {w.photo_id: found for w in waiting if (found := recognised(w, places)) is not None}
    laid = runsheet.sort_onto(
        [(w.photo_id, w.taken_at) for w in waiting if w.photo_id not in out],
        free,
        {i: (x.pose, x.side) for i, x in seen.items()},
    )
    unlooked = sum(w.joints is None for w in waiting)
    if unlooked:
        see_waiting(coach_id())
    place = dict(laid)
    by_id = {w.photo_id: w for w in waiting}
    rows = [(by_id[i], place[i]) for i, _ in laid]
    rows += [(w, None) for w in waiting if w.photo_id in out]
    return render_template(
        "unsorted.html",
        visit=visit,
        who=own_practitioner(visit.practitioner_id),
        rows=rows,
        out=out,
        free=free,
        seen=seen,
        unlooked=unlooked,
        over=sum(1 for w, s in rows if s is None and w.photo_id not in out),
    )


@room.post("/a/<int:aid>/tray/place")
@login_required
def place(aid: int) -> Response:
    """Put photographs of the tray in the places chosen; those without one stay."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    put, problems = [], []
    for waiting in unsorted_photos.of_assessment(db(), coach_id(), aid):
        chosen = request.form.get(f"place-{waiting.photo_id}", "")
        if not chosen:
            continue
        form = dict(zip(("pose", "side", "mode", "number"), chosen.split("|"), strict=False))
        try:
            where = intake.place_of(form, who)
            if problem := intake.refusal(work(), visit, who, where.mode):
                raise Refused(problem)
            intake.put(work(), visit, where, waiting.photo_id)
            put.append(waiting.photo_id)
        except (Refused, Conflict) as error:
            problems.append(f"{waiting.name}: {error}")
    unsorted_photos.take(db(), coach_id(), aid, put)
    if put:
        see_waiting(coach_id())
    if problems:
        more = f" And {len(problems) - 3} more like this." if len(problems) > 3 else ""
        flash(" ".join(problems[:3]) + more, "retake")
    left = len(unsorted_photos.of_assessment(db(), coach_id(), aid))
    flash(
        f"{len(put)} photograph{'s' if len(put) != 1 else ''} put on the sheet"
        + (f"; {left} still in the tray." if left else ".")
    )
    return redirect(url_for("unsorted.page" if left and problems else "assessments.sheet", aid=aid))


@room.post("/a/<int:aid>/tray/empty")
@login_required
def empty(aid: int) -> Response:
    """Leave the rest of the tray out of this assessment."""
    own_assessment(aid)
    rest = unsorted_photos.of_assessment(db(), coach_id(), aid)
    unsorted_photos.take(db(), coach_id(), aid, [w.photo_id for w in rest])
    flash(f"{len(rest)} photographs left out of this assessment.")
    return redirect(url_for("assessments.sheet", aid=aid))
