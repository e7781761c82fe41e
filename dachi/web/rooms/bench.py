"""The marking bench: marks in, readings out while they move, and saving."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import current_user, login_required
from werkzeug.wrappers import Response

from dachi.core import camera as cameras
from dachi.core import verdicts
from dachi.core.camera import CORNERS
from dachi.core.catalogue import Pose
from dachi.core.measure import measure
from dachi.core.runsheet import Slot
from dachi.core.scene import Point, Result, SceneError
from dachi.data import catalogue
from dachi.drawing import figure as figures
from dachi.drawing import overlay
from dachi.interchange import coco
from dachi.photos import stickers
from dachi.photos.ingest import path_of
from dachi.photos.stickers import Colour, ColourError
from dachi.store import accounts, assessments, days, markings, photos, positions, preparation
from dachi.store.assessments import Trial
from dachi.store.database import Conflict
from dachi.store.markings import Marking
from dachi.store.photos import Photo
from dachi.store.positions import Position
from dachi.store.practitioners import Practitioner
from dachi.web import digests, scenes, sheets, taking
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
from dachi.web.words import day

room = Blueprint("bench", __name__)


@dataclass(frozen=True)
class Place:
    """Everything around one trial that the bench needs."""

    trial: Trial
    photo: Photo
    who: Practitioner
    pose: Pose
    position: Position


def at_bench(tid: int) -> Place:
    """Everything around one of the coach's trials."""
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
    at = at_bench(tid)
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
        stopped=stopped(at.trial),
        places=_places(at.trial),
        **_read(at, marking, {k for k, s in states.items() if s == "guess"}),
    )


def _places(trial: Trial) -> list[Slot]:
    """Free places of the sheet that a photograph may belong to instead."""
    visit = own_assessment(trial.assessment_id)
    return sheets.free(sheets.stations(coach_id(), visit, sheets.all_trials(coach_id(), visit)))


def stopped(trial: Trial) -> str | None:
    """Why nothing can be changed on this photograph, None where it can."""
    closed = taking.closed(own_assessment(trial.assessment_id))
    consent = preparation.consent(db(), coach_id(), trial.practitioner_id)
    if consent is not None and consent.withdrawn_on is not None:
        return (
            f"Consent to photographs was withdrawn on {day(consent.withdrawn_on)}: the picture is "
            "not shown any more. What was read from it stays."
        )
    return closed


def keep_closed() -> Response | None:
    """A signed-off assessment and a photograph without consent are left as they are."""
    tid = (request.view_args or {}).get("tid")
    if request.method != "POST" or tid is None or not current_user.is_authenticated:
        return None
    sentence = stopped(own_trial(tid))
    if sentence is None or request.endpoint == "bench.read":
        return None
    flash(f"Not saved: {sentence}", "retake")
    return redirect(url_for("bench.page", tid=tid))


room.before_request(keep_closed)


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
        "second": second_opinion(at, result),
    }


@dataclass(frozen=True)
class Second:
    """Another instrument's angle beside the photograph's, degrees, in words."""

    device: str
    angle: float
    words: str


def second_opinion(at: Place, result: Result | None) -> Second | None:
    """Compare what another instrument showed with the photograph's headline."""
    found = days.opinion(db(), at.trial.id)
    if found is None:
        return None
    headline = next((r for r in result.readings if r.headline), None) if result else None
    words = f"{found.device}: {found.angle:.0f}°"
    if headline is not None and headline.unit == "deg":
        apart = found.angle - headline.value
        room_for = 1.96 * (found.sd**2 + headline.sd**2) ** 0.5
        verdict = "as far as the two can differ" if abs(apart) <= room_for else "more than chance"
        words += f", {verdicts.signed(apart)} against the photograph ({verdict})"
    return Second(found.device, found.angle, f"{words}.")


@room.post("/t/<int:tid>/read")
@login_required
def read(tid: int) -> str | tuple[str, int]:
    """Answer marks with the overlay and the strip; keep a draft once they rest."""
    at = at_bench(tid)
    try:
        marking, guesses = scenes.read_form(request.form, at.pose)
    except SceneError as error:
        return render_template("parts/notice.html", kind="retake", sentence=str(error)), 422
    if request.form.get("rest") == "1" and not at.trial.deleted and not stopped(at.trial):
        markings.save_draft(db(), coach_id(), tid, request.form.to_dict())
    else:
        read_only()
    return render_template("parts/reading.html", at=at, **_read(at, marking, guesses))


@room.post("/t/<int:tid>/save")
@login_required
def save(tid: int) -> str | Response | tuple[str, int]:
    """Accept the marking, then go on to the next photograph still to mark."""
    at = at_bench(tid)
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
            seen=int(seen) if seen.isdecimal() else None,
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


@room.post("/t/<int:tid>/stickers")
@login_required
def find_stickers(tid: int) -> Response:
    """Look for stickers and propose them as marks, kept as a draft until accepted.

    ``pick-x`` and ``pick-y`` say where on the picture the sticker's colour is to be taken.
    """
    at = at_bench(tid)
    form = request.form.to_dict()
    spot = [form.pop(f"pick-{axis}", "") for axis in "xy"]
    saved = current_coach().sticker_colour
    try:
        picked = (float(spot[0]), float(spot[1])) if all(spot) else None
        if picked is None and saved is None:
            raise ColourError("Pick the sticker's colour on the photograph first.")
        if picked:
            path = path_of(data_folder(), at.photo.sha256, "photo")
            with without_lock():
                colour = stickers.pick_colour(stickers.decode(path.read_bytes()), *picked)
        else:
            colour = Colour.from_text(saved or "")
        found = taking.look_for_stickers(at.pose, at.trial, at.photo, colour)
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
    at = at_bench(tid)
    sent = request.files.get("coco")
    try:
        if sent is None or not sent.filename:
            raise coco.CocoError("Choose a COCO keypoint file first.")
        text = sent.stream.read(coco.MOST_BYTES + 1)
        found = coco.marks_for(text, at.pose, at.photo.width, at.photo.height)
    except coco.CocoError as error:
        flash(str(error), "retake")
        return redirect(url_for("bench.page", tid=tid))
    markings.save_draft(db(), coach_id(), tid, scenes.guess_form(found))
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
    at = at_bench(tid)
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
    at_bench(tid)
    found = markings.history(db(), coach_id(), tid)
    body = {"marks": found[0].marks, "corners": found[0].corners} if found else {}
    return Response(json.dumps(body), mimetype="application/json")
