"""The marking bench: marks in, readings out while they move, and saving."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core import camera as cameras
from dachi.core.camera import CORNERS
from dachi.core.catalogue import Pose
from dachi.core.measure import measure
from dachi.core.scene import Point, Result, SceneError
from dachi.data import catalogue
from dachi.drawing import figure as figures
from dachi.drawing import overlay
from dachi.interchange import coco
from dachi.photos import stickers
from dachi.photos.ingest import path_of
from dachi.photos.stickers import Colour, ColourError
from dachi.store import accounts, assessments, markings, photos, positions
from dachi.store.assessments import Trial
from dachi.store.database import Conflict
from dachi.store.markings import Marking
from dachi.store.photos import Photo
from dachi.store.positions import Position
from dachi.store.practitioners import Practitioner
from dachi.web import digests, scenes
from dachi.web.session import (
    coach_id,
    current_coach,
    data_folder,
    db,
    own_assessment,
    own_practitioner,
    own_trial,
    read_only,
    without_lock,
)

room = Blueprint("bench", __name__)


@dataclass(frozen=True)
class Place:
    """Everything around one trial that the bench needs."""

    trial: Trial
    photo: Photo
    who: Practitioner
    pose: Pose
    position: Position


def _at(tid: int) -> Place:
    trial = own_trial(tid)
    photo = photos.get(db(), coach_id(), trial.photo_id)
    position = positions.get(db(), coach_id(), trial.position_id or 0)
    assert photo is not None and position is not None
    who = own_practitioner(trial.practitioner_id)
    return Place(trial, photo, who, catalogue().pose(trial.pose), position)


@dataclass(frozen=True)
class Shown:
    """A mark as the bench first shows it."""

    id: str
    label: str
    where: str
    x: float
    y: float
    state: str
    sd: float | None
    key: int


@room.get("/t/<int:tid>")
@login_required
def page(tid: int) -> str:
    """The bench for one photograph."""
    at = _at(tid)
    history = markings.history(db(), coach_id(), tid)
    marking, states = _start(at, history)
    shown = _shown(at, marking, states)
    corners, shots = at.position.pooled(tid, marking.corners)
    order = assessments.trials(db(), coach_id(), at.trial.assessment_id)
    ids = [t.id for t in order]
    spot = ids.index(tid) if tid in ids else 0
    return render_template(
        "bench.html",
        at=at,
        visit=own_assessment(at.trial.assessment_id),
        marks=shown,
        corners=corners or scenes.guess_corners(at.pose, at.photo.width, at.photo.height),
        corner_names=CORNERS,
        mat_on=corners is not None,
        mat_own=marking.corners is not None,
        mat_shots=shots,
        level=marking.level or _level_guess(at.photo),
        level_on=marking.level is not None,
        facing=marking.facing,
        history=history,
        seen=history[0].number if history else 0,
        once_key=secrets.token_urlsafe(12),
        guide=figures.guide(at.pose, at.trial.side, tuple(sorted(at.trial.variant.items()))),
        sticker_colour=current_coach().sticker_colour,
        order=order,
        previous=ids[spot - 1] if spot > 0 else None,
        following=ids[spot + 1] if spot + 1 < len(ids) else None,
        overrule_reason=history[0].overrule_reason if history else "",
        **_read(at, marking, {k for k, s in states.items() if s == "guess"}),
    )


def fan_sides(at: Place) -> dict[str, str]:
    """The side each measure belongs to, which colours its fan."""
    return {m.id: m.side or at.trial.side for m in at.pose.measures}


def _start(at: Place, history: list[Marking]) -> tuple[Marking, dict[str, str]]:
    """What the bench opens with: the draft, the last marking, a like shot, or a guess."""
    draft = markings.draft(db(), coach_id(), at.trial.id)
    if draft:
        try:
            marking, guesses = scenes.read_form(draft, at.pose)
            return marking, {k: "guess" if k in guesses else "placed" for k in marking.marks}
        except SceneError:
            pass
    if history:
        return history[0], dict.fromkeys(history[0].marks, "placed")
    like = markings.last_marks(
        db(), coach_id(), at.who.id, at.trial.pose, at.trial.side, at.trial.position_id
    )
    size = (at.photo.width, at.photo.height)
    marks = scenes.guess_marks(at.pose, at.trial.side, *size)
    facing = None
    if like is not None:
        marks |= scenes.scaled(like[0].marks, like[1:], size)
        facing = like[0].facing
    required = {k: v for k, v in marks.items() if k in at.pose.required}
    return Marking(required, facing=facing), dict.fromkeys(required, "guess")


def _shown(at: Place, marking: Marking, states: dict[str, str]) -> list[Shown]:
    guess = scenes.guess_marks(at.pose, at.trial.side, at.photo.width, at.photo.height)
    found = []
    for key, m in enumerate(at.pose.marks, start=1):
        x, y = marking.marks.get(m.id, guess[m.id])
        state = states.get(m.id, "absent")
        if m.id in marking.mark_sds:
            state = "sticker"
        found.append(Shown(m.id, m.label, m.where, x, y, state, marking.mark_sds.get(m.id), key))
    return found


def _level_guess(photo: Photo) -> tuple[Point, Point]:
    y = round(photo.height * 0.88, 1)
    return (round(photo.width * 0.15, 1), y), (round(photo.width * 0.85, 1), y)


def _read(at: Place, marking: Marking, guesses: set[str]) -> dict[str, Any]:
    """Measure for the strip: the result, or the sentence why there is none."""
    result: Result | None = None
    problem = None
    try:
        result = measure(
            scenes.scene_of(at.who, at.photo, at.trial, at.position, marking),
            catalogue(),
            drawn=True,
        )
    except SceneError as error:
        problem = str(error)
    longer = max(at.photo.width, at.photo.height)
    return {
        "result": result,
        "problem": problem[0].upper() + problem[1:] + "." if problem else None,
        "guesses": [m.label for m in at.pose.marks if m.id in guesses],
        "camera_words": cameras.describe(result.camera) if result and result.camera else None,
        "fan": overlay.fans(result.fans, result.readings, fan_sides(at), longer) if result else "",
        "truth": at.photo.truth,
    }


@room.post("/t/<int:tid>/read")
@login_required
def read(tid: int) -> str | tuple[str, int]:
    """Answer marks with the overlay and the strip; keep a draft once they rest."""
    at = _at(tid)
    try:
        marking, guesses = scenes.read_form(request.form, at.pose)
    except SceneError as error:
        return render_template("parts/notice.html", kind="retake", sentence=str(error)), 422
    if request.form.get("rest") == "1" and not at.trial.deleted:
        markings.save_draft(db(), coach_id(), tid, request.form.to_dict())
    else:
        read_only()
    return render_template("parts/reading.html", at=at, **_read(at, marking, guesses))


@room.post("/t/<int:tid>/save")
@login_required
def save(tid: int) -> str | Response | tuple[str, int]:
    """Accept the marking, then go on to the next photograph still to mark."""
    at = _at(tid)
    try:
        marking, guesses = scenes.read_form(request.form, at.pose)
        left = [m.label for m in at.pose.marks if m.id in guesses]
        if left:
            raise SceneError(
                f"still at the starting guess: {', '.join(left)}. Move each onto its joint, or "
                "confirm it with the space bar"
            )
        scene = scenes.scene_of(at.who, at.photo, at.trial, at.position, marking)
        result = measure(scene, catalogue())
        seen = request.form.get("seen", "")
        markings.save(
            db(),
            coach_id(),
            tid,
            marking,
            result,
            catalogue().version,
            once_key=request.form.get("once_key", "")[:64] or None,
            seen=int(seen) if seen.isdigit() else None,
        )
        digests.refresh(db(), coach_id(), at.who.id, at.trial.pose)
    except (SceneError, Conflict) as error:
        flash(f"Not saved: {error}.".replace("..", "."), "retake")
        markings.save_draft(db(), coach_id(), tid, request.form.to_dict())
        return redirect(url_for("bench.page", tid=tid))
    order = assessments.trials(db(), coach_id(), at.trial.assessment_id)
    after = [t for t in order if t.id > tid] + [t for t in order if t.id < tid]
    waiting = next((t for t in after if t.status == "unmarked"), None)
    if waiting is not None:
        return redirect(url_for("bench.page", tid=waiting.id, kept=tid))
    flash("All photographs of this assessment are marked.")
    return redirect(
        url_for("progress.page", pid=at.who.id, pose=at.trial.pose, kept=tid, _anchor="chart")
    )


@room.post("/t/<int:tid>/camera-moved")
@login_required
def camera_moved(tid: int) -> Response:
    """From this photograph on the camera stands elsewhere: its corners start afresh."""
    at = _at(tid)
    new = positions.start(
        db(),
        at.trial.assessment_id,
        at.position.view,
        (at.position.mat_length_cm, at.position.mat_width_cm),
        at.position.setup,
    )
    for trial in assessments.trials(db(), coach_id(), at.trial.assessment_id):
        if trial.id >= tid and trial.position_id == at.position.id:
            positions.move_trial(db(), coach_id(), trial.id, new)
    _measure_from(at, at.position.id, new)
    flash("The camera was moved: mark the mat's corners again on this photograph.")
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/camera-same")
@login_required
def camera_same(tid: int) -> Response:
    """The camera had not moved since the photograph before: share its corners."""
    at = _at(tid)
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
            _measure_from(at, at.position.id, position.id)
            flash("This photograph now shares the mat corners of the one before.")
            return redirect(url_for("bench.page", tid=tid))
    flash("There is no earlier photograph of this view and size to share corners with.", "retake")
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/details")
@login_required
def details(tid: int) -> Response:
    """Say how the pose was done; only trials done alike are compared."""
    at = _at(tid)
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
    _measure_again(tid)
    digests.refresh(db(), coach_id(), at.who.id, at.trial.pose)
    return redirect(url_for("bench.page", tid=tid))


def _measure_again(tid: int) -> None:
    """Readings and checks of the newest marking, under what the trial says now."""
    at = _at(tid)
    for marking in markings.history(db(), coach_id(), tid)[:1]:
        try:
            scene = scenes.scene_of(at.who, at.photo, at.trial, at.position, marking)
            result = measure(scene, catalogue())
        except SceneError as error:
            flash(f"The readings stay as they were: {error}.", "retake")
            return
        markings.replace_readings(db(), marking.id, result, catalogue().version)


def _measure_from(at: Place, *position_ids: int) -> None:
    """Readings follow what calibrates them: every marked shot from these camera positions."""
    poses = set()
    for trial in assessments.trials(db(), coach_id(), at.trial.assessment_id):
        if trial.position_id in position_ids and trial.status != "unmarked":
            _measure_again(trial.id)
            poses.add(trial.pose)
    for pose_id in poses:
        digests.refresh(db(), coach_id(), at.who.id, pose_id)


@room.post("/t/<int:tid>/mat")
@login_required
def mat_size(tid: int) -> Response:
    """Say how large the mat is at this camera position."""
    at = _at(tid)
    try:
        length = float(request.form.get("length_cm", "").replace(",", "."))
        width = float(request.form.get("width_cm", "").replace(",", "."))
    except ValueError:
        length = width = 0.0
    if not (60 <= width <= length <= 400):
        flash("A mat is 60 to 400 cm long and at least 60 cm wide; length first.", "retake")
    else:
        positions.set_mat(db(), coach_id(), at.position.id, length, width)
        _measure_from(at, at.position.id)
    return redirect(url_for("bench.page", tid=tid))


@room.post("/t/<int:tid>/stickers")
@login_required
def find_stickers(tid: int) -> Response:
    """Look for stickers and propose them as marks, kept as a draft until accepted.

    ``pick-x`` and ``pick-y`` say where on the picture the sticker's colour is to be taken.
    """
    at = _at(tid)
    form = request.form.to_dict()
    spot = [form.pop(f"pick-{axis}", "") for axis in "xy"]
    saved = current_coach().sticker_colour
    try:
        picked = (float(spot[0]), float(spot[1])) if all(spot) else None
        if picked is None and saved is None:
            raise ColourError("Pick the sticker's colour on the photograph first.")
        path = path_of(data_folder(), at.photo.sha256, "photo")
        with without_lock():
            image = stickers.decode(path.read_bytes())
            colour = (
                stickers.pick_colour(image, *picked) if picked else Colour.from_text(saved or "")
            )
            found = stickers.assign(
                stickers.find_dots(image, colour), scenes.layouts(at.pose, at.trial, at.photo),
                at.pose.required,
            )  # fmt: skip
    except (ColourError, ValueError, OSError) as error:
        flash(str(error), "retake")
        markings.save_draft(db(), coach_id(), tid, form)
        return redirect(url_for("bench.page", tid=tid))
    if picked:
        accounts.keep_sticker_colour(db(), coach_id(), colour.text())
    markings.save_draft(db(), coach_id(), tid, scenes.with_stickers(form, found))
    flash(scenes.say_stickers(at.pose, found), "retake" if found.missing else "message")
    return redirect(url_for("bench.page", tid=tid, fresh=1))


@room.post("/t/<int:tid>/coco")
@login_required
def read_coco(tid: int) -> Response:
    """Take marks from a COCO keypoint file as a starting guess; nothing counts until confirmed."""
    at = _at(tid)
    sent = request.files.get("coco")
    try:
        if sent is None or not sent.filename:
            raise coco.CocoError("Choose a COCO keypoint file first.")
        text = sent.stream.read(coco.MOST_BYTES + 1)
        found = coco.marks_for(text, at.pose, at.photo.width, at.photo.height)
    except coco.CocoError as error:
        flash(str(error), "retake")
        return redirect(url_for("bench.page", tid=tid))
    body = {
        f"mark-{k}-{axis}": f"{v:.2f}"
        for k, p in found.items()
        for axis, v in zip("xy", p, strict=True)
    }
    body |= {f"mark-{k}-state": "guess" for k in found}
    markings.save_draft(db(), coach_id(), tid, body)
    flash(f"{len(found)} marks read from the file. Check each and confirm it with the space bar.")
    return redirect(url_for("bench.page", tid=tid, fresh=1))


@room.get("/a/<int:aid>/marks.coco.json")
@login_required
def assessment_coco(aid: int) -> Response:
    """Every marked photograph of an assessment as COCO keypoints."""
    visit = own_assessment(aid)
    pictures = []
    for trial in assessments.trials(db(), coach_id(), visit.id):
        newest = markings.history(db(), coach_id(), trial.id)[:1]
        photo = photos.get(db(), coach_id(), trial.photo_id)
        if newest and photo is not None and trial.pose in catalogue():
            pictures.append(
                coco.Marked(
                    photo.id, f"{photo.sha256}.jpg", photo.width, photo.height, trial.pose,
                    trial.side, trial.mode, newest[0].marks,
                )
            )  # fmt: skip
    body = json.dumps(coco.export(pictures, catalogue()))
    answer = Response(body, mimetype="application/json")
    answer.headers["Content-Disposition"] = f'attachment; filename="marks-{aid}.coco.json"'
    return answer


@room.get("/t/<int:tid>/history")
@login_required
def history(tid: int) -> str:
    """Earlier markings of a photograph, newest first, with what each one read."""
    at = _at(tid)
    rows = []
    for marking in markings.history(db(), coach_id(), tid):
        rows.append((marking, _read(at, marking, set())["result"]))
    return render_template(
        "history.html", at=at, visit=own_assessment(at.trial.assessment_id), rows=rows
    )


@room.get("/t/<int:tid>/marks.json")
@login_required
def marks(tid: int) -> Response:
    """The newest marks of a trial as data."""
    _at(tid)
    found = markings.history(db(), coach_id(), tid)
    body = {"marks": found[0].marks, "corners": found[0].corners} if found else {}
    return Response(json.dumps(body), mimetype="application/json")
