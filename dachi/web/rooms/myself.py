"""The short way for somebody who measures themselves: one page, then the first shot."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio.record import asking, letting_in, myself
from dachi.studio.visits import sheets as visits
from dachi.web.session import current_coach, work

room = Blueprint("myself", __name__)


@room.route("/myself", methods=["GET", "POST"])
@login_required
def begin() -> str | Response | tuple[str, int]:
    """Birth year, a few questions, pictures, the mat: then the sheet opens."""
    problem = None
    if request.method == "POST":
        form = request.form
        try:
            if form.get("length_cm", "").strip() or form.get("width_cm", "").strip():
                letting_in.keep_mat(work(), form.get("length_cm", ""), form.get("width_cm", ""))
            told = asking.read(form.to_dict(), form.getlist)
            aid = myself.begin(
                work(), current_coach().name, form.to_dict(), told, form.getlist("aim")
            )
            return redirect(url_for("assessments.sheet", aid=aid))
        except NotDone as error:
            problem = error.sentence
    page = render_template(
        "myself.html",
        me=current_coach(),
        problem=problem,
        form=request.form,
        aimed=request.form.getlist("aim"),
        asked=asking.asked(None, None, work().today().year),
        sides=asking.SIDE_WORDS,
        stages=asking.STAGE_WORDS,
        aims=visits.may_come_for(),
    )
    return page, 422 if problem else 200
