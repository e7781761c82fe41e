"""Photographs of an assessment: uploaded or simulated, put away and brought back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.datastructures import FileStorage
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio.phrases import say_moment
from dachi.studio.records import Assessment
from dachi.studio.visits import acts, intake, simulated
from dachi.studio.visits.intake import Incoming, Place, Refused
from dachi.web.jobs import see_waiting
from dachi.web.session import (
    coach_id,
    own_assessment,
    own_practitioner,
    own_trial,
    work,
)
from dachi.web.sheet_page import sheet_view

room = Blueprint("uploads", __name__)


@room.post("/a/<int:aid>/photos")
@login_required
def upload(aid: int) -> str | Response | tuple[str, int]:
    """Take an uploaded photograph in and give it a place on the sheet."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    files = [f for f in request.files.getlist("photo") if f.filename]
    trial_id, step = 0, 0
    problem: str | None = None
    try:
        place = intake.place_of(request.form, who)
        if not files:
            raise Refused("Choose a photograph first.")
        once = request.form.get("once_key", "")[:64]
        for step, sent in enumerate(files):
            # Each one is kept by itself: what comes after it takes nothing back.
            with intake.turn(work()):
                trial_id = intake.send(
                    work(), visit, who, _later(place, step), Incoming(sent.read()),
                    f"{once}-{step}" if once else None,
                )  # fmt: skip
    except NotDone as error:
        problem = _which(str(error), files, step)
    except OSError as error:
        problem = _which(intake.unwritten(error), files, step)
    if trial_id:
        see_waiting(coach_id())
    return _placed(trial_id) if problem is None else _refuse(visit, problem, kept=bool(trial_id))


def _which(problem: str, files: Sequence[FileStorage], step: int) -> str:
    """A problem with one of several photographs, and what became of the ones before it."""
    if len(files) < 2:
        return problem
    before = f"{step} of {len(files)} photographs are in. " if step else "None is in yet. "
    return f"{before}{files[step].filename}: {problem}"


def _later(place: Place, step: int) -> Place:
    return replace(place, number=place.number + step)


@room.post("/a/<int:aid>/simulate")
@login_required
def simulate(aid: int) -> str | Response | tuple[str, int]:
    """Photograph a posed figure with the simulated camera."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    once = request.form.get("once_key", "")[:64] or None
    try:
        trial_id = simulated.photograph_figure(work(), visit, who, request.form, once)
    except NotDone as error:
        return _refuse(visit, str(error))
    return _placed(trial_id)


def _refuse(visit: Assessment, sentence: str, *, kept: bool = False) -> Response | tuple[str, int]:
    """Say what is wrong; where something was kept all the same, with an answer that keeps it."""
    if request.headers.get("HX-Request"):
        code = 200 if kept else 422
        return render_template("parts/notice.html", kind="retake", sentence=sentence), code
    if kept:
        flash(sentence, "retake")
        return redirect(url_for("assessments.sheet", aid=visit.id))
    return render_template("sheet.html", **sheet_view(visit, problem=sentence)), 422


def _placed(trial_id: int) -> Response:
    where = url_for("bench.page", tid=trial_id)
    if request.headers.get("HX-Request"):
        answer = Response(status=204)
        answer.headers["HX-Redirect"] = where
        return answer
    return redirect(where)


@room.post("/t/<int:tid>/delete")
@login_required
def delete(tid: int) -> Response:
    """Put a trial away, with an undo beside the message."""
    trial = own_trial(tid)
    taken = say_moment(own_assessment(trial.assessment_id).taken_at)
    try:
        if acts.delete_shot(work(), trial):
            flash(
                f"Deleted: {trial.side} {trial.mode}, trial {trial.number} of {taken}.",
                f"undo:{url_for('uploads.restore', tid=tid)}",
            )
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))


@room.post("/t/<int:tid>/restore")
@login_required
def restore(tid: int) -> Response:
    """Undo a deletion."""
    trial = own_trial(tid)
    try:
        acts.restore_shot(work(), trial)
        flash(f"Back again: {trial.side} {trial.mode}, trial {trial.number}.")
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))
