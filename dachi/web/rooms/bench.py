"""The marking bench: marks in, readings out while they move, and saving."""

from __future__ import annotations

import json
import secrets
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.assessing.runsheet import Slot
from dachi.core.body.pinhole import CORNERS
from dachi.core.measuring import calibration
from dachi.core.measuring.scene import SceneError
from dachi.data import catalogue
from dachi.drawing import figure as figures
from dachi.drawing import overlay
from dachi.errors import Told
from dachi.interchange import coco
from dachi.photos import stickers
from dachi.photos.ingest import path_of
from dachi.photos.stickers import Colour, ColourError
from dachi.store import accounts, assessments, markings, photos, positions
from dachi.store.assessments import Trial
from dachi.store.database import Conflict
from dachi.store.markings import Marking
from dachi.studio.bench import corner_cards, drafts, starting_marks
from dachi.studio.bench.markings import (
    Surroundings,
    corners_for,
    marked_pictures,
    may_stand_beside,
    second_opinion,
)
from dachi.studio.bench.markings import read as read_marking
from dachi.studio.bench.opening import (
    Unsure,
    accept,
    followed,
    level_guess,
    opening,
    outlined,
    seen_words,
)
from dachi.studio.verdicts.reports import said_apart
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.web.bench_guard import at_bench, keep_closed, stopped
from dachi.web.bench_marks import shown
from dachi.web.jobs import see_waiting
from dachi.web.session import (
    coach_id,
    current_coach,
    data_folder,
    db,
    own_assessment,
    own_trial,
    read_only,
    work,
)

room = Blueprint("bench", __name__)


@room.get("/t/<int:tid>")
@login_required
def page(tid: int) -> str:
    """The bench for one photograph."""
    at = at_bench(tid)
    if at.trial.read_from is not None:
        return render_template(
            "read_elsewhere.html", who=at.who, trial=at.trial,
            visit=own_assessment(at.trial.assessment_id),
            readings=markings.readings(db(), coach_id(), tid),
        )  # fmt: skip
    awaited = at.photo.joints is None and at.trial.status == "unmarked" and at.photo.truth is None
    if awaited:
        see_waiting(coach_id())
    history = markings.history(db(), coach_id(), tid)
    newest = history[0].number if history else 0
    draft = markings.draft(db(), coach_id(), tid)
    theirs = request.args.get("theirs") == "1" and newest > 0
    marking, states = opening(work(), at, drafted=not theirs)
    started = _seen(draft or {})
    # A draft that a file or the program made was made of what is there now.
    seen = newest if started is None or theirs else min(started, newest)
    first_shown = shown(at, marking, states)
    corners, shots = corners_for(at, marking)
    if by_cards := _by_cards(at, marking):
        corners = dict(at.cards.corners or {}) if at.cards else None
    outline = outlined(at) if corners is None and not by_cards else None
    order = assessments.trials(db(), coach_id(), at.trial.assessment_id)
    ids = [t.id for t in order]
    spot = ids.index(tid) if tid in ids else 0
    return render_template(
        "bench.html",
        at=at,
        visit=own_assessment(at.trial.assessment_id),
        marks=first_shown,
        corners=corners
        or (outline.corners if outline else starting_marks.guess_corners(at.pose, *at.size)),
        outline=outline is not None,
        corner_names=CORNERS,
        mat_on=corners is not None,
        mat_own=marking.corners is not None,
        mat_shots=shots,
        by_cards=by_cards,
        nearby=bool(history or draft or at.photo.joints),
        looked=bool(at.photo.joints) and not history,
        awaited=awaited and not draft and current_app.config["PROPOSE"],
        level=marking.level or level_guess(at),
        level_on=marking.level is not None,
        facing=marking.facing,
        ways=drafts.WAYS,
        marked=marking.marked or at.usual,
        history=history,
        seen=seen,
        newest=newest,
        theirs=theirs and started is not None and started < newest,
        once_key=secrets.token_urlsafe(12),
        guide=figures.guide(at.pose, at.trial.side, tuple(sorted(at.trial.variant.items()))),
        sticker_colour=current_coach().sticker_colour,
        order=order,
        previous=ids[spot - 1] if spot > 0 else None,
        following=ids[spot + 1] if spot + 1 < len(ids) else None,
        overrule_reason=history[0].overrule_reason if history else "",
        stopped=stopped(at.trial),
        places=visits.free(_stations(at.trial)),
        beside=catalogue().beside(at.pose.id),
        may_beside=may_stand_beside(work(), at.trial) if history else {},
        next_shot=_next_shot(at.trial),
        next_key=secrets.token_urlsafe(12),
        **_strip(at, marking, {k for k, s in states.items() if s == "guess"}),
    )


def _by_cards(at: Surroundings, marking: Marking) -> bool:
    """Whether corner cards tell the camera, no corner being marked by hand."""
    return marking.corners is None and at.cards is not None and at.cards.corners is not None


def _seen(form: Mapping[str, str]) -> int | None:
    """The number of the marking a posted form started from, None where it does not say."""
    text = form.get("seen", "")
    return int(text) if text.isdecimal() and len(text) < 9 else None


def _stations(trial: Trial) -> list[visits.Station]:
    visit = own_assessment(trial.assessment_id)
    return visits.stations(work(), visit, visits.all_trials(work(), visit))


def _next_shot(trial: Trial) -> Slot | None:
    """The next place of the sheet without a photograph, after this one's."""
    here = Slot(trial.pose, trial.side, trial.mode, trial.number)
    return visits.after(_stations(trial), here)


room.before_request(keep_closed)


def fan_sides(at: Surroundings) -> dict[str, str]:
    """The side each measure belongs to, which colours its fan."""
    return {m.id: m.side or at.trial.side for m in at.pose.measures}


def _strip(at: Surroundings, marking: Marking, guesses: set[str]) -> dict[str, Any]:
    """What the strip beside the photograph shows of a marking."""
    found = read_marking(at, marking, guesses)
    result = found.result
    return {
        "result": result,
        "proposed": found.proposed,
        "problem": found.problem,
        "guesses": found.guesses,
        "camera_words": calibration.describe(found.camera) if found.camera else None,
        "corners_said": found.corners,
        "cards_said": corner_cards.words(at.cards, lent=at.lent)
        if at.cards and not marking.corners and (at.cards.corners or at.photo.cards)
        else None,
        "cards_moved": positions.begun_by_cards(db(), coach_id(), at.trial.id),
        "cards_fine": at.cards is not None and at.cards.corners is not None and not at.cards.said,
        "fan": overlay.fans(result.fans, result.readings, fan_sides(at), max(at.size))
        if result and not found.proposed
        else "",
        "truth": at.photo.truth,
        "second": second_opinion(work(), at, result),
        "seen_words": seen_words(at, marking),
    }


@room.post("/t/<int:tid>/read")
@login_required
def read(tid: int) -> str | tuple[str, int]:
    """Answer marks with the overlay and the strip; keep a draft once they rest."""
    at = at_bench(tid)
    try:
        marking, guesses = drafts.read_form(request.form, at.pose)
    except SceneError as error:
        return render_template("parts/notice.html", kind="retake", sentence=str(error)), 422
    moved = {}
    if request.form.get("rest") == "1" and not at.trial.deleted and not stopped(at.trial):
        moved = followed(at, marking, guesses)
        marking = replace(marking, marks={**marking.marks, **moved})
        markings.save_draft(db(), coach_id(), tid, drafts.at_places(request.form, moved))
    else:
        read_only()
    strip = _strip(at, marking, guesses)
    return render_template("parts/reading.html", at=at, moved=moved, **strip)


@room.post("/t/<int:tid>/save")
@login_required
def save(tid: int) -> str | Response | tuple[str, int]:
    """Accept the marking, then go on to the next photograph still to mark."""
    at = at_bench(tid)
    mine = request.form.get("mine", "")
    try:
        accept(
            work(),
            at,
            request.form,
            request.form.get("once_key", "")[:64] or None,
            _seen({"seen": mine} if mine else request.form),
        )
    except (SceneError, Conflict) as error:
        flash(f"Not saved: {error}.".replace("..", "."), "retake")
        markings.save_draft(db(), coach_id(), tid, request.form.to_dict())
        sure = 1 if isinstance(error, Unsure) else None
        return redirect(url_for("bench.page", tid=tid, sure=sure))
    for sentence in said_apart(work(), at):
        flash(sentence, "retake")
    order = assessments.trials(db(), coach_id(), at.trial.assessment_id)
    after = [t for t in order if t.id > tid] + [t for t in order if t.id < tid]
    unsure = photos.doubtful(db(), coach_id(), at.trial.assessment_id)
    # What wants a look comes first; of those alike, the one that follows.
    left = [t for t in after if t.status == "unmarked"]
    waiting = max(left, key=lambda t: unsure.get(t.id, 0), default=None)
    kept = own_trial(tid)
    again = kept.status == "retake" and not kept.overruled
    if waiting is not None:
        if again:
            # Its checks are out of sight with it.
            side = "" if kept.side == "both" else f" {kept.side}"
            what = f"{at.pose.name},{side} {kept.mode}, trial {kept.number}"
            flash(f"{what}: kept, but a check asks for another one.", "retake")
        return redirect(url_for("bench.page", tid=waiting.id, kept=tid))
    if _next_shot(at.trial) is not None:
        # The person is waiting: the reading stays in sight and the next shot is offered beside it.
        flash(
            "Kept, but a check asks for another one: choose it beside this photograph."
            if again
            else "Kept. Choose the next photograph beside this one."
        )
        return redirect(url_for("bench.page", tid=tid, kept=tid))
    flash("All photographs of this assessment are marked.")
    return redirect(
        url_for("progress.page", pid=at.who.id, pose=at.trial.pose, kept=tid, _anchor="chart")
    )


@room.post("/t/<int:tid>/theirs")
@login_required
def take_theirs(tid: int) -> Response:
    """Drop one's own unsaved marks for those that somebody saved meanwhile."""
    at_bench(tid)
    markings.drop_draft(db(), coach_id(), tid)
    return redirect(url_for("bench.page", tid=tid, fresh=1))


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
            with db().unlocked():
                colour = stickers.pick_colour(stickers.decode(path.read_bytes()), *picked)
        else:
            colour = Colour.from_text(saved or "")
        found = intake.look_for_stickers(work(), at.pose, at.trial, at.photo, colour)
    except (Told, ValueError, OSError) as error:
        flash(str(error), "retake")
        markings.save_draft(db(), coach_id(), tid, form)
        return redirect(url_for("bench.page", tid=tid))
    if picked:
        accounts.keep_sticker_colour(db(), coach_id(), colour.text())
    markings.save_draft(db(), coach_id(), tid, drafts.with_stickers(form, found))
    flash(drafts.say_stickers(at.pose, found), "retake" if found.missing else "message")
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
    markings.save_draft(db(), coach_id(), tid, drafts.guess_form(found))
    flash(f"{len(found)} marks read from the file. Check each and confirm it with the space bar.")
    return redirect(url_for("bench.page", tid=tid, fresh=1))


@room.get("/a/<int:aid>/marks.coco.json")
@login_required
def assessment_coco(aid: int) -> Response:
    """Every marked photograph of an assessment as COCO keypoints."""
    pictures = [
        coco.Marked(
            photo.id, f"{photo.sha256}.jpg", photo.width, photo.height, trial.pose, trial.side,
            trial.mode, marks,
        )
        for trial, photo, marks in marked_pictures(work(), own_assessment(aid).id)
    ]  # fmt: skip
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
        rows.append((marking, read_marking(at, marking, set()).result))
    return render_template(
        "history.html", at=at, visit=own_assessment(at.trial.assessment_id), rows=rows
    )


@room.get("/t/<int:tid>/looked.json")
@login_required
def looked(tid: int) -> Response:
    """Whether the program has looked at a photograph since the bench was opened."""
    at = at_bench(tid)
    return Response(
        json.dumps({"looked": at.photo.doubtful is not None}), mimetype="application/json"
    )


@room.get("/t/<int:tid>/marks.json")
@login_required
def marks(tid: int) -> Response:
    """The newest marks of a trial as data."""
    at_bench(tid)
    found = markings.history(db(), coach_id(), tid)
    body = {"marks": found[0].marks, "corners": found[0].corners} if found else {}
    return Response(json.dumps(body), mimetype="application/json")
