"""Photographs of an assessment: uploaded or simulated, put away and brought back."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import replace

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.datastructures import FileStorage
from werkzeug.wrappers import Response

from dachi.core.body.figure import Body
from dachi.errors import Told
from dachi.simulation.camera import Shot, photograph
from dachi.store import assessments
from dachi.store.assessments import Assessment
from dachi.store.database import Conflict
from dachi.studio.phrases import say_moment
from dachi.studio.verdicts import summaries
from dachi.studio.visits import intake
from dachi.studio.visits.intake import Incoming, Place, Refused
from dachi.web.jobs import see_waiting
from dachi.web.session import (
    clock,
    coach_id,
    db,
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
    step = 0
    try:
        place = intake.place_of(request.form, who)
        if not files:
            raise Refused("Choose a photograph first.")
        once = request.form.get("once_key", "")[:64]
        trial_id = 0
        for step, sent in enumerate(files):
            trial_id = intake.send(
                work(), visit, who, _later(place, step), Incoming(sent.read()),
                f"{once}-{step}" if once else None,
            )  # fmt: skip
            # Each one is kept by itself: what comes after it takes nothing back.
            db().again(keep=True)
        see_waiting(coach_id())
    except Told as error:
        return _refuse(visit, _which(str(error), files, step))
    except OSError as error:
        return _refuse(visit, _which(intake.unwritten(error), files, step))
    return _placed(trial_id)


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
    try:
        place = intake.place_of(request.form, who)
        if problem := intake.refusal(work(), visit, who, place.mode, figure=True):
            raise Refused(problem)
        figure = place.pose.figure
        shot = Shot(
            side=place.side,
            value=_within("angle", figure.low, figure.high),
            yaw_deg=_within("yaw", -45, 45),
            height_cm=_within("height", 15, 200),
            scatter_deg=_within("scatter", 0, 12),
            stickers=request.form.get("stickers") == "on",
            body=Body(who.height_cm or 170.0),
            outfit=who.id,
            seed=secrets.randbelow(2**31),
        )
        with db().unlocked():
            data, truth = photograph(place.pose, shot, clock().local().replace(microsecond=0))
        once = request.form.get("once_key", "")[:64] or None
        trial_id = intake.send(
            work(), visit, who, place, Incoming(data, truth), f"{once}-0" if once else None
        )
    except (ValueError, Told) as error:
        return _refuse(visit, str(error))
    return _placed(trial_id)


def _within(name: str, low: float, high: float) -> float:
    try:
        value = float(request.form.get(name, ""))
    except ValueError as error:
        raise ValueError(f"The simulated camera needs a number for {name}.") from error
    if not low <= value <= high:
        raise ValueError(f"The simulated camera takes {name} from {low:g} to {high:g}.")
    return value


def _refuse(visit: Assessment, sentence: str) -> tuple[str, int]:
    db().again(keep=False)
    if request.headers.get("HX-Request"):
        return render_template("parts/notice.html", kind="retake", sentence=sentence), 422
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
    visit = own_assessment(trial.assessment_id)
    if problem := intake.closed(visit):
        flash(problem, "retake")
    elif assessments.delete_trial(db(), coach_id(), tid):
        summaries.refresh(work(), trial.practitioner_id, trial.pose)
        flash(
            f"Deleted: {trial.side} {trial.mode}, trial {trial.number} of "
            f"{say_moment(visit.taken_at)}.",
            f"undo:{url_for('uploads.restore', tid=tid)}",
        )
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))


@room.post("/t/<int:tid>/restore")
@login_required
def restore(tid: int) -> Response:
    """Undo a deletion."""
    trial = own_trial(tid)
    try:
        if problem := intake.closed(own_assessment(trial.assessment_id)):
            raise Conflict(problem)
        assessments.restore_trial(db(), coach_id(), tid)
        summaries.refresh(work(), trial.practitioner_id, trial.pose)
        flash(f"Back again: {trial.side} {trial.mode}, trial {trial.number}.")
    except Conflict as error:
        flash(str(error), "retake")
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))
