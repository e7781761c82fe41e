"""The assessment on one page, made to be turned towards the practitioner; signing off."""

from __future__ import annotations

from collections.abc import Mapping

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.bench.around import Around
from dachi.studio.lists import catalogue
from dachi.studio.phrases import moment_of
from dachi.studio.records import Assessment
from dachi.studio.verdicts import acts as judging
from dachi.studio.verdicts import comparing, conclusions, questions, reports
from dachi.studio.visits import acts
from dachi.studio.visits import sheets as visits
from dachi.web.private_links import until_address
from dachi.web.session import own_assessment, own_practitioner, work

room = Blueprint("review", __name__)


@room.get("/a/<int:aid>/review")
@login_required
def page(aid: int) -> str:
    """Today against last and first, left against right, active against passive."""
    return _page(own_assessment(aid))


def _page(visit: Assessment, typed: Mapping[str, str] | None = None) -> str:
    """The review; what was ``typed`` into a form that could not be read is still there."""
    own = visits.all_trials(work(), visit)
    parts: list[reports.ReviewPart] = []
    around = Around(work(), visit.practitioner_id)
    for pose_id in dict.fromkeys(t.pose for t in own):
        if pose_id in catalogue():
            parts += reports.parts_of(work(), visit, catalogue().pose(pose_id), around)
    who = own_practitioner(visit.practitioner_id)
    link = records.private_link(work(), who.id)
    return render_template(
        "review.html",
        visit=visit,
        who=who,
        parts=parts,
        conclusion=conclusions.conclude(work(), who, visit, parts) if parts else None,
        unmarked=[t for t in own if not t.marked],
        retake=[t for t in own if t.asks_again],
        events=(events := records.signings(work(), visit.id)),
        agreed=next((e.reason for e in reversed(events) if e.kind == "signed off"), ""),
        typed=typed or {},
        state=records.state(work(), visit.id),
        news=reports.news_of(work(), visit),
        questions=questions.at_visit(work(), visit),
        felt=records.say_felt(records.felt_at(work(), visit.id)),
        until=until_address(link.nonce) if link else None,
        size=(comparing.WIDTH, comparing.HEIGHT),
    )


@room.post("/a/<int:aid>/answer")
@login_required
def answer(aid: int) -> Response:
    """Keep what a coach says of a visit that looks like a slip."""
    visit = own_assessment(aid)
    try:
        judging.say(work(), visit, request.form.get("asked", ""), request.form.get("answer", ""))
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("review.page", aid=aid, _anchor="questions"))


@room.post("/a/<int:aid>/sign-off")
@login_required
def sign_off(aid: int) -> Response | tuple[str, int]:
    """Close the assessment with what was agreed; phones are shut out with it."""
    visit = own_assessment(aid)
    agreed, text = (request.form.get(k, "").strip() for k in ("agreed", "next_visit_at"))
    try:
        at = moment_of(text) if text else None
    except ValueError:
        sentence = "Give the next visit as a date and a time: 27 Nov 2026, 18:15."
        return _page(visit, {"agreed": agreed, "next": text, "problem": sentence}), 422
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
