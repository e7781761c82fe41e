"""An assessment: opening it, adding photographs, deleting and undoing."""

from __future__ import annotations

import secrets
from datetime import datetime
from typing import Any

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.catalogue import Pose
from dachi.core.figure import Body
from dachi.data import catalogue
from dachi.devices.camera import Shot, photograph
from dachi.photos.ingest import PhotoError, source_digest, take_in
from dachi.store import assessments, markings, photos, positions
from dachi.store.assessments import Assessment, Trial
from dachi.store.database import Conflict
from dachi.web import digests
from dachi.web.rooms import prepare
from dachi.web.session import (
    coach_id,
    data_folder,
    db,
    own_assessment,
    own_practitioner,
    own_trial,
    without_lock,
)
from dachi.web.words import clock, day

room = Blueprint("assessments", __name__)

TRIALS = (1, 2, 3)


@room.route("/p/<int:pid>/assess", methods=["GET", "POST"])
@login_required
def new(pid: int) -> str | Response | tuple[str, int]:
    """Open a new assessment: when, warm or cold, notes."""
    who = own_practitioner(pid)
    values = {
        "taken_at": datetime.now().strftime("%Y-%m-%dT%H:%M"),
        "warmth": "warm",
        "notes": "",
        "once_key": secrets.token_urlsafe(12),
    }
    if request.method == "GET":
        return render_template(
            "assessment_form.html", who=who, visit=None, values=values, problem=None
        )
    values |= {k: request.form.get(k, values[k]) for k in values}
    problem = _problem(values)
    if problem:
        page = render_template(
            "assessment_form.html", who=who, visit=None, values=values, problem=problem
        )
        return page, 422
    aid = assessments.add(
        db(),
        coach_id(),
        pid,
        taken_at=values["taken_at"],
        warmth=values["warmth"],
        notes=values["notes"].strip()[:4000],
        once_key=values["once_key"][:64],
    )
    return redirect(url_for("assessments.sheet", aid=aid))


@room.route("/a/<int:aid>/edit", methods=["GET", "POST"])
@login_required
def edit(aid: int) -> str | Response | tuple[str, int]:
    """Change date, warmth and notes."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    values = {"taken_at": visit.taken_at, "warmth": visit.warmth, "notes": visit.notes}
    problem = None
    if request.method == "POST":
        values |= {k: request.form.get(k, values[k]) for k in values}
        problem = _problem(values)
        if problem is None:
            assessments.update(db(), coach_id(), aid, **values)
            for pose_id in {t.pose for t in assessments.trials(db(), coach_id(), aid)}:
                digests.refresh(db(), coach_id(), visit.practitioner_id, pose_id)
            flash("Saved.")
            return redirect(url_for("assessments.sheet", aid=aid))
    page = render_template(
        "assessment_form.html", who=who, visit=visit, values=values, problem=problem
    )
    return page, 422 if problem else 200


def _problem(values: dict[str, str]) -> str | None:
    try:
        at = datetime.fromisoformat(values["taken_at"])
    except ValueError:
        return "Give the date and time of the assessment."
    if at > datetime.now().replace(hour=23, minute=59) or at.year < 1990:
        return "The date lies in the future or too far back: check it."
    if values["warmth"] not in ("warm", "cold"):
        return "Say whether the person was warm or cold."
    return None


@room.get("/a/<int:aid>")
@login_required
def sheet(aid: int) -> str:
    """The sheet of shots of an assessment."""
    visit = own_assessment(aid)
    return render_template("sheet.html", **_sheet(visit))


def _sheet(visit: Assessment) -> dict[str, Any]:
    own = assessments.trials(db(), coach_id(), visit.id)
    shown = request.values.get("pose") or (own[-1].pose if own else catalogue().poses[0].id)
    pose = _pose(shown)
    return {
        "visit": visit,
        "who": own_practitioner(visit.practitioner_id),
        "poses": catalogue().poses,
        "pose": pose,
        "rows": _rows(pose, own),
        "numbers": TRIALS,
        "counts": {p.id: sum(t.pose == p.id for t in own) for p in catalogue().poses},
        "unmarked": [t for t in own if t.status == "unmarked"],
        "headlines": {t.id: _headline(t) for t in own if t.pose == pose.id},
        "once_key": secrets.token_urlsafe(12),
        "next_shot": _next_shot(pose, own),
    }


def _rows(pose: Pose, own: list[Trial]) -> list[tuple[str, str, dict[int, Trial]]]:
    """Active before passive in each side, as they are photographed."""
    rows = []
    for side in _sides(pose):
        for mode in ("active", "passive"):
            if mode in pose.modes:
                cells = {
                    t.number: t
                    for t in own
                    if t.pose == pose.id and t.side == side and t.mode == mode
                }
                rows.append((side, mode, cells))
    return rows


def _next_shot(pose: Pose, own: list[Trial]) -> tuple[str, str, int]:
    """The first empty place, trial by trial."""
    rows = _rows(pose, own)
    for number in TRIALS:
        for side, mode, cells in rows:
            if number not in cells:
                return side, mode, number
    side, mode, _ = rows[0]
    return side, mode, 1


def _headline(trial: Trial) -> Any:
    found = markings.readings(db(), coach_id(), trial.id)
    return next((r for r in found if r.headline), None)


def _sides(pose: Pose) -> tuple[str, ...]:
    return ("both",) if pose.sides == "both" else ("left", "right")


def _pose(pose_id: str) -> Pose:
    if pose_id not in catalogue():
        abort(404)
    return catalogue().pose(pose_id)


# ---------------------------------------------------------------- photographs


@room.post("/a/<int:aid>/photos")
@login_required
def upload(aid: int) -> str | Response | tuple[str, int]:
    """Take an uploaded photograph in and give it a place on the sheet."""
    visit = own_assessment(aid)
    pose, place = _place(aid)
    if problem := prepare.refused(own_practitioner(visit.practitioner_id), place["mode"]):
        return _refuse(visit, problem)
    files = [f for f in request.files.getlist("photo") if f.filename]
    if not files:
        return _refuse(visit, "Choose a photograph first.")
    try:
        trial_id = 0
        for step, sent in enumerate(files):
            data = sent.read()
            if double := photos.use_of(db(), coach_id(), source_digest(data)):
                if double["assessment_id"] == aid and request.form.get("once_key"):
                    trial = own_trial(double["trial_id"])
                    if _same_place(trial, pose, place):
                        return _placed(trial.id)
                return _refuse(visit, _already(double))
            trial_id = _keep(visit, pose, place, step, data, "upload", None)
    except (PhotoError, Conflict) as error:
        return _refuse(visit, str(error))
    except OSError as error:
        return _refuse(
            visit, f"The photograph could not be written ({error.strerror}). Free some space first."
        )
    return _placed(trial_id)


@room.post("/a/<int:aid>/simulate")
@login_required
def simulate(aid: int) -> str | Response | tuple[str, int]:
    """Photograph a posed figure with the simulated camera."""
    visit = own_assessment(aid)
    pose, place = _place(aid)
    who = own_practitioner(visit.practitioner_id)
    if problem := prepare.passive_refused(who, place["mode"]):
        return _refuse(visit, problem)
    try:
        shot = Shot(
            side=place["side"],
            value=_within("angle", pose.figure.low, pose.figure.high),
            yaw_deg=_within("yaw", -45, 45),
            height_cm=_within("height", 15, 200),
            scatter_deg=_within("scatter", 0, 12),
            stickers=request.form.get("stickers") == "on",
            body=Body(who.height_cm or 170.0),
            outfit=who.id,
            seed=secrets.randbelow(2**31),
        )
        with without_lock():
            data, truth = photograph(pose, shot, datetime.now().replace(microsecond=0))
        trial_id = _keep(visit, pose, place, 0, data, "simulated", truth)
    except (ValueError, Conflict) as error:
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


def _place(aid: int) -> tuple[Pose, dict[str, Any]]:
    pose = _pose(request.form.get("pose", ""))
    side, mode = request.form.get("side", ""), request.form.get("mode", "")
    number = request.form.get("number", "1")
    if side not in _sides(pose) or mode not in pose.modes or number not in "123456789":
        abort(400)
    variant = {
        v.id: request.form.get(f"variant-{v.id}", v.default)
        for v in pose.variants
        if request.form.get(f"variant-{v.id}", v.default) in v.options
    }
    return pose, {"side": side, "mode": mode, "number": int(number), "variant": variant}


def _keep(
    visit: Assessment,
    pose: Pose,
    place: dict[str, Any],
    step: int,
    data: bytes,
    origin: str,
    truth: dict[str, Any] | None,
) -> int:
    once = request.form.get("once_key", "")[:64]
    with without_lock():
        taken = take_in(data, data_folder())
    photo_id = photos.add(
        db(),
        coach_id(),
        sha256=taken.sha256,
        source_sha256=taken.source_sha256,
        width=taken.width,
        height=taken.height,
        focal_35mm=taken.focal_35mm,
        taken_at=taken.taken_at.isoformat() if taken.taken_at else None,
        origin=origin,
        truth=truth,
    )
    return assessments.add_trial(
        db(),
        coach_id(),
        visit.id,
        photo_id,
        pose=pose.id,
        side=place["side"],
        mode=place["mode"],
        variant=place["variant"],
        number=place["number"] + step,
        once_key=f"{once}-{step}" if once else None,
        position_id=positions.for_photo(
            db(), visit.id, pose.view, pose.setup, taken.width, taken.height
        ),
    )


def _same_place(trial: Trial, pose: Pose, place: dict[str, Any]) -> bool:
    return (trial.pose, trial.side, trial.mode, trial.number) == (
        pose.id,
        place["side"],
        place["mode"],
        place["number"],
    )


def _already(double: Any) -> str:
    pose = (
        catalogue().pose(double["pose"]).name if double["pose"] in catalogue() else double["pose"]
    )
    return (
        f"This very photograph is already there: {double['call_name']}, {pose}, "
        f"{double['side']} {double['mode']}, trial {double['number']} on "
        f"{day(double['assessed_at'])}. Nothing was added."
    )


def _refuse(visit: Assessment, sentence: str) -> tuple[str, int]:
    db().execute("ROLLBACK")
    db().execute("BEGIN")
    if request.headers.get("HX-Request"):
        return render_template("parts/notice.html", kind="retake", sentence=sentence), 422
    return render_template("sheet.html", problem=sentence, **_sheet(visit)), 422


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
    if assessments.delete_trial(db(), coach_id(), tid):
        digests.refresh(db(), coach_id(), trial.practitioner_id, trial.pose)
        visit = own_assessment(trial.assessment_id)
        flash(
            f"Deleted: {trial.side} {trial.mode}, trial {trial.number} of {clock(visit.taken_at)}.",
            f"undo:{tid}",
        )
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))


@room.post("/t/<int:tid>/restore")
@login_required
def restore(tid: int) -> Response:
    """Undo a deletion."""
    trial = own_trial(tid)
    try:
        assessments.restore_trial(db(), coach_id(), tid)
        digests.refresh(db(), coach_id(), trial.practitioner_id, trial.pose)
        flash(f"Back again: {trial.side} {trial.mode}, trial {trial.number}.")
    except Conflict as error:
        flash(str(error), "retake")
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))
