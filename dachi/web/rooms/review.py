"""The assessment on one page, made to be turned towards the practitioner; signing off."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.bench.around import Around
from dachi.studio.lists import catalogue
from dachi.studio.phrases import moment_of
from dachi.studio.verdicts import comparing, conclusions, reports
from dachi.studio.visits import acts
from dachi.studio.visits import sheets as visits
from dachi.web.session import own_assessment, own_practitioner, work

room = Blueprint("review", __name__)


@room.get("/a/<int:aid>/review")
@login_required
def page(aid: int) -> str:
    """Today against last and first, left against right, active against passive."""
    visit = own_assessment(aid)
    own = visits.all_trials(work(), visit)
    parts: list[reports.ReviewPart] = []
    around = Around(work(), visit.practitioner_id)
    for pose_id in dict.fromkeys(t.pose for t in own):
        if pose_id in catalogue():
            parts += reports.parts_of(work(), visit, catalogue().pose(pose_id), around)
    who = own_practitioner(visit.practitioner_id)
    return render_template(
        "review.html",
        visit=visit,
        who=who,
        parts=parts,
        conclusion=conclusions.conclude(work(), who, parts) if parts else None,
        unmarked=[t for t in own if not t.marked],
        retake=[t for t in own if t.asks_again],
        events=records.signings(work(), aid),
        state=records.state(work(), aid),
        news=reports.news_of(work(), visit),
        felt=records.say_felt(records.felt_at(work(), aid)),
        size=(comparing.WIDTH, comparing.HEIGHT),
    )


@room.post("/a/<int:aid>/sign-off")
@login_required
def sign_off(aid: int) -> Response:
    """Close the assessment with what was agreed; phones are shut out with it."""
    visit = own_assessment(aid)
    agreed, text = (request.form.get(k, "").strip() for k in ("agreed", "next_visit_at"))
    try:
        at = moment_of(text) if text else None
    except ValueError:
        flash("Give the next visit as a date and a time; nothing was signed off.", "retake")
        return redirect(url_for("review.page", aid=aid))
    if acts.sign_off(work(), visit, agreed, at):
        flash("Signed off. Nothing in this assessment changes until it is reopened.")
    return redirect(url_for("review.page", aid=aid))


@room.post("/a/<int:aid>/reopen")
@login_required
def reopen(aid: int) -> Response:
    """Open a closed assessment again, with a reason that is kept."""
    visit = own_assessment(aid)
    try:
        if acts.reopen(work(), visit, request.form.get("reason", "").strip()):
            flash("Reopened.")
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("review.page", aid=aid))
