"""The report on paper: what it holds is chosen, it is made in the background, then fetched."""

from __future__ import annotations

import io
from collections.abc import Callable

from flask import Blueprint, abort, current_app, render_template, request, send_file, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.drawing import paper
from dachi.studio.lists import FONTS, Happened
from dachi.studio.record import acts, picture_privacy
from dachi.studio.verdicts import report as reports
from dachi.studio.verdicts.report import FOR, Wanted
from dachi.web.jobs import Jobs
from dachi.web.session import (
    clock,
    coach_id,
    current_coach,
    data_folder,
    own_assessment,
    own_practitioner,
    work,
)

room = Blueprint("report", __name__)


@room.get("/a/<int:aid>/report")
@login_required
def page(aid: int) -> str:
    """Choose what the report holds."""
    visit = own_assessment(aid)
    offered = reports.offered(work(), visit)
    told = [key for key, _, news in offered if news] or [key for key, _, _ in offered[:4]]
    return render_template(
        "report.html",
        visit=visit,
        who=own_practitioner(visit.practitioner_id),
        offered=offered,
        chosen=told,
        readers=FOR,
        sizes=paper.SIZES,
        may_show=picture_privacy.to_themselves(work(), visit.practitioner_id),
    )


@room.post("/a/<int:aid>/report")
@login_required
def make(aid: int) -> str | tuple[str, int]:
    """Begin to make the report; the answer asks again until it is there."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    asked = Wanted(
        frozenset(request.form.getlist("measure")),
        request.form.get("reader", ""),
        request.form.get("pictures", ""),
    )
    wanted = reports.only_known(work(), visit, asked)
    size = request.form.get("size", "a4")
    if not wanted.measures:
        sentence = "Choose at least one measure."
        return render_template("parts/notice.html", kind="retake", sentence=sentence), 422
    coach, name, folder, at = coach_id(), current_coach().name, data_folder(), clock()

    def run(progress: Callable[[int], None]) -> bytes:
        found = reports.gather_apart(folder, at, coach, who, visit, wanted, name)
        progress(1)
        return paper.draw(
            found, FONTS, size if size in paper.SIZES else "a4", lambda n: progress(n + 1)
        )

    jobs: Jobs = current_app.extensions["jobs"]
    label = f"{who.call_name}-{visit.taken_at[:10]}"
    key = jobs.start(coach, label, len(wanted.measures) + 1, run, about=who.uid)
    acts.note(work(), Happened.REPORT, who.id, FOR[wanted.reader])
    return _state(key)


@room.get("/report/<key>/state")
@login_required
def state(key: str) -> str | tuple[str, int]:
    """How far a report is."""
    return _state(key)


def _state(key: str) -> str:
    jobs: Jobs = current_app.extensions["jobs"]
    job = jobs.of(coach_id(), key) or abort(404, "This report is no longer here: make it again.")
    return render_template(
        "parts/report_state.html", job=job, key=key, file=url_for("report.fetch", key=key)
    )


@room.get("/report/<key>.pdf")
@login_required
def fetch(key: str) -> Response:
    """The report itself."""
    jobs: Jobs = current_app.extensions["jobs"]
    job = jobs.of(coach_id(), key)
    if job is None or job.result is None:
        abort(404, "This report is no longer here: make it again.")
    return send_file(
        io.BytesIO(job.result), mimetype="application/pdf", download_name=f"{job.name}.pdf",
        as_attachment=request.args.get("save") == "1",
    )  # fmt: skip
