"""What is said of a photograph beside its marks: camera, mat, how it was done, where it belongs."""

from __future__ import annotations

from collections.abc import Mapping

from flask import Blueprint, flash, redirect, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.measuring.figure_match import Region
from dachi.core.measuring.scene import Point, Reading, SceneError
from dachi.drawing.overlay import degrees
from dachi.simulation import inclinometer
from dachi.store import assessments, markings, photos, positions, second_opinions
from dachi.store.database import Conflict
from dachi.studio.bench import drafts
from dachi.studio.bench.markings import (
    Surroundings,
    hold_with,
    may_stand_beside,
    measure_again,
    measure_from,
)
from dachi.studio.verdicts import summaries
from dachi.studio.visits import intake
from dachi.web.bench_guard import at_bench, keep_closed
from dachi.web.session import coach_id, db, own_assessment, own_trial, work

room = Blueprint("shots", __name__)
room.before_request(keep_closed)


@room.post("/t/<int:tid>/camera-moved")
@login_required
def camera_moved(tid: int) -> Response:
    """From this photograph on the camera stands elsewhere: its corners start afresh."""
    at = at_bench(tid)
    body = request.form.to_dict()
    if body.get("mat") == "on":
        # Corners belong to the picture: they stay, and count from this place on.
        markings.save_draft(db(), coach_id(), tid, body)
    new = positions.start(
        db(),
        coach_id(),
        at.trial.assessment_id,
        at.position.view,
        (at.position.mat_length_cm, at.position.mat_width_cm),
        at.position.setup,
    )
    for trial in assessments.trials(db(), coach_id(), at.trial.assessment_id):
        if trial.id >= tid and trial.position_id == at.position.id:
            positions.move_trial(db(), coach_id(), trial.id, new)
    _renew(at, at.position.id, new)
    flash(
        "The camera was moved: from here on this photograph's own corners count."
        if body.get("mat") == "on"
        else "The camera was moved: mark the mat's corners again on this photograph."
    )
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/camera-same")
@login_required
def camera_same(tid: int) -> Response:
    """The camera had not moved since the photograph before: share its corners."""
    at = at_bench(tid)
    earlier = [
        t
        for t in assessments.trials(db(), coach_id(), at.trial.assessment_id)
        if t.id < tid and t.position_id not in (None, at.position.id)
    ]
    for trial in reversed(earlier):
        photo = photos.get(db(), coach_id(), trial.photo_id)
        position = positions.get(db(), coach_id(), trial.position_id or 0)
        if photo is None or position is None or position.view != at.position.view:
            continue
        if (photo.width, photo.height) == (at.photo.width, at.photo.height):
            positions.move_trial(db(), coach_id(), tid, position.id)
            _renew(at, at.position.id, position.id)
            flash("This photograph now shares the mat corners of the one before.")
            return redirect(url_for("bench.page", tid=tid))
    flash("There is no earlier photograph of this view and size to share corners with.", "retake")
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/held-with")
@login_required
def held_with(tid: int) -> Response:
    """Read the photograph together with another one of the same hold, or by itself again."""
    at = at_bench(tid)
    wanted = request.form.get("held-with", "")
    fitting = may_stand_beside(work(), at.trial)
    if wanted and wanted not in fitting:
        flash("Choose a marked photograph of the same hold from the other direction.", "retake")
        return redirect(url_for("bench.page", tid=tid))
    before = _headline(tid)
    if sentence := hold_with(work(), at.trial, fitting.get(wanted)):
        flash(sentence, "retake")
    elif before and (after := _headline(tid)):
        what = "Read together" if wanted else "Read by itself"
        flash(f"{what}: {degrees(after)}, before {degrees(before)}.")
    return redirect(url_for("bench.page", tid=tid))


def _headline(tid: int) -> Reading | None:
    return next((r for r in markings.readings(db(), coach_id(), tid) if r.headline), None)


@room.post("/t/<int:tid>/details")
@login_required
def details(tid: int) -> Response:
    """Say how the pose was done; only trials done alike are compared."""
    at = at_bench(tid)
    text = request.form.get("prop_cm", "").strip().replace(",", ".")
    try:
        prop = float(text) if text else None
    except ValueError:
        prop = -1.0
    if prop is not None and not 0 <= prop <= 150:
        flash("Give the support's height in centimetres, 0 to 150, or leave it empty.", "retake")
        return redirect(url_for("bench.page", tid=tid))
    variant = dict(at.trial.variant)
    for v in at.pose.variants:
        chosen = request.form.get(f"variant-{v.id}", "")
        if chosen in v.options:
            variant[v.id] = chosen
    assessments.set_details(db(), coach_id(), tid, variant, prop)
    _again(tid)
    summaries.refresh(work(), at.who.id, at.trial.pose)
    return redirect(url_for("bench.page", tid=tid))


def _renew(at: Surroundings, *position_ids: int) -> None:
    """Measure again what was calibrated from some camera positions; say what could not be."""
    for sentence in measure_from(work(), at, *position_ids):
        flash(sentence, "retake")


def _again(tid: int) -> None:
    if sentence := measure_again(work(), own_trial(tid)):
        flash(sentence, "retake")


@room.post("/t/<int:tid>/mat")
@login_required
def mat_size(tid: int) -> Response:
    """Say how large the mat is at this camera position."""
    at = at_bench(tid)
    try:
        length = float(request.form.get("length_cm", "").replace(",", "."))
        width = float(request.form.get("width_cm", "").replace(",", "."))
    except ValueError:
        length = width = 0.0
    if not (60 <= width <= length <= 400):
        flash("A mat is 60 to 400 cm long and at least 60 cm wide; length first.", "retake")
    else:
        positions.set_mat(db(), coach_id(), at.position.id, length, width)
        _renew(at, at.position.id)
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/second")
@login_required
def second(tid: int) -> Response:
    """Keep another instrument's angle; the simulated one reads the figure's true angle."""
    at = at_bench(tid)
    device, sd = "Inclinometer", inclinometer.SD_DEG
    try:
        if request.form.get("simulate") and at.photo.truth:
            values = at.photo.truth["true_values"]
            true = values[at.pose.headline_for(at.trial.variant).id]
            angle, device = inclinometer.reading(float(true), tid), "Simulated inclinometer"
        else:
            angle = float(request.form.get("second", "").replace(",", "."))
        if not -180 <= angle <= 360:
            raise ValueError
    except (ValueError, KeyError):
        flash("Give the other instrument's angle in degrees.", "retake")
        return redirect(url_for("bench.page", tid=tid))
    second_opinions.give(db(), coach_id(), tid, second_opinions.Opinion(device, angle, sd))
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/head")
@login_required
def hide_head(tid: int) -> Response:
    """Say where the head is: a spot, and the rim a tenth of the picture around it."""
    at = at_bench(tid)
    try:
        x, y = float(request.form["pick-x"]), float(request.form["pick-y"])
    except (KeyError, ValueError):
        flash("Point at the head on the photograph.", "retake")
        return redirect(url_for("bench.page", tid=tid))
    radius = 0.075 * max(at.photo.width, at.photo.height)
    photos.set_head(db(), coach_id(), at.photo.id, Region(x, y, radius))
    flash("The head is hidden there in everything that leaves the bench.")
    return redirect(url_for("bench.page", tid=tid))


def _own_corners(at: Surroundings) -> Mapping[str, Point] | None:
    """The mat's corners as marked on this very picture, saved or just posted."""
    history = markings.history(db(), coach_id(), at.trial.id)
    if history and history[0].corners:
        return history[0].corners
    try:
        return drafts.read_form(request.form, at.pose)[0].corners
    except SceneError:
        return None


@room.post("/t/<int:tid>/move")
@login_required
def move(tid: int) -> Response:
    """The photograph shows another shot: put it there; marks of the same joints go along."""
    at = at_bench(tid)
    parts = dict(
        zip(
            ("pose", "side", "mode", "number"),
            request.form.get("move-to", "").split("|"),
            strict=False,
        )
    )
    try:
        place = intake.place_of(parts, at.who)
        visit = own_assessment(at.trial.assessment_id)
        if place.mode != at.trial.mode or place.pose.id != at.trial.pose:
            # What may not be taken may not be filed as taken either.
            drawn = at.photo.truth is not None
            if why := intake.refusal(work(), visit, at.who, place.mode, place.pose, figure=drawn):
                raise intake.Refused(why)
        corners = _own_corners(at)
        variant = at.trial.variant if place.pose.id == at.trial.pose else place.variant
        position_id = at.position.id
        if place.pose.view != at.position.view:
            # The same picture, the mat named by its other edge: a place of its own.
            mat_cm = (at.position.mat_length_cm, at.position.mat_width_cm)
            position_id = positions.start(
                db(), coach_id(), at.trial.assessment_id, place.pose.view, mat_cm, place.pose.setup
            )
        assessments.move_trial(db(), coach_id(), tid, place.slot, variant, position_id)
    except (intake.Refused, Conflict) as error:
        flash(str(error), "retake")
        return redirect(url_for("bench.page", tid=tid))
    _again(tid)
    for pose_id in {at.trial.pose, place.pose.id}:
        summaries.refresh(work(), at.who.id, pose_id)
    marked = bool(markings.history(db(), coach_id(), tid))
    if corners and not marked:
        markings.save_draft(
            db(), coach_id(), tid, drafts.corner_form(place.pose, place.side, corners, at.size)
        )
    flash(
        f"Moved to {place.pose.name}, {place.side} {place.mode}, trial {place.number}"
        + (", its marks with it." if marked else ": mark it.")
    )
    return redirect(url_for("bench.page", tid=tid))
