"""The marking bench: marks in, readings out while they move, and saving."""

from __future__ import annotations

import json
import secrets
from dataclasses import replace
from typing import Any

from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.drawing import figure as figures
from dachi.drawing import overlay
from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.bench import acts, corner_cards, drafts
from dachi.studio.bench.around import Surroundings
from dachi.studio.bench.corners import lent_words
from dachi.studio.bench.opening import Unsure, level_guess, opening, seen_words, shown_corners
from dachi.studio.bench.reading import coco_of, describe_camera, second_opinion
from dachi.studio.bench.reading import read as read_marking
from dachi.studio.phrases import shot_name
from dachi.studio.record import wrong_person
from dachi.studio.records import Conflict, Marking, SceneError, Slot, Trial
from dachi.studio.verdicts.reports import said_apart
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.recognised import elsewhere
from dachi.web.bench_guard import at_bench, keep_closed, stopped
from dachi.web.bench_marks import shown
from dachi.web.fields import whole
from dachi.web.jobs import see_waiting
from dachi.web.session import (
    coach_id,
    current_coach,
    own_assessment,
    own_trial,
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
            readings=records.readings(work(), tid),
        )  # fmt: skip
    awaited = at.photo.joints is None and not at.trial.marked and at.photo.truth is None
    if awaited:
        see_waiting(coach_id())
    history = records.markings_of(work(), tid)
    newest = history[0].number if history else 0
    draft = records.draft(work(), tid)
    theirs = request.args.get("theirs") == "1" and newest > 0
    marking, states = opening(work(), at, drafted=not theirs)
    started = whole((draft or {}).get("seen", ""))
    # A draft that a file or the program made was made of what is there now.
    seen = newest if started is None or theirs else min(started, newest)
    corners = shown_corners(at, marking, {} if theirs else draft or {})
    order = records.trials(work(), at.trial.assessment_id)
    ids = [t.id for t in order]
    kept = whole(request.args.get("kept", ""))
    saved = records.markings_of(work(), kept) if kept is not None else []
    spot = ids.index(tid) if tid in ids else 0
    return render_template(
        "bench.html",
        at=at,
        visit=own_assessment(at.trial.assessment_id),
        marks=shown(at, marking, states),
        corners=corners,
        by_cards=at.by_cards and marking.corners is None,
        nearby=bool(history or draft or at.photo.joints),
        looked=bool(at.photo.joints) and not history,
        awaited=awaited and not draft and current_app.config["PROPOSE"],
        level=marking.level or level_guess(at),
        level_on=marking.level is not None,
        facing=marking.facing,
        ways=drafts.WAYS,
        marked=marking.marked or at.usual,
        history=history,
        kept=kept,
        kept_seen=saved[0].number if saved else 0,
        seen=seen,
        newest=newest,
        theirs=theirs and started is not None and started < newest,
        once_key=secrets.token_urlsafe(12),
        guide=figures.guide(at.pose, at.trial.side, tuple(sorted(at.trial.variant.items()))),
        closeups=figures.closeups(at.pose, at.trial.side, tuple(sorted(at.trial.variant.items()))),
        sticker_colour=current_coach().sticker_colour,
        order=order,
        previous=ids[spot - 1] if spot > 0 else None,
        following=ids[spot + 1] if spot + 1 < len(ids) else None,
        overrule_reason=history[0].overrule_reason if history else "",
        stopped=stopped(at.trial),
        places=visits.free(_stations(at.trial)),
        looks_like=elsewhere(work(), at),
        others=wrong_person.offered(work(), at.who.id),
        other_places=visits.off_the_sheet(_stations(at.trial)),
        beside=visits.companions(at.pose.id),
        may_beside=acts.may_stand_beside(work(), at.trial) if history else [],
        next_shot=_next_shot(at.trial),
        next_key=secrets.token_urlsafe(12),
        **_strip(at, marking, {k for k, s in states.items() if s == "guess"}),
    )


def _stations(trial: Trial) -> list[visits.Station]:
    visit = own_assessment(trial.assessment_id)
    return visits.stations(work(), visit, visits.all_trials(work(), visit))


def _next_shot(trial: Trial) -> Slot | None:
    """The next place of the sheet without a photograph, after this one's."""
    return visits.after(_stations(trial), trial.slot)


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
        "camera_words": describe_camera(found),
        "corners_said": found.corners,
        "lent_said": lent_words(at, marking),
        "cards_said": corner_cards.words(at.cards) if at.cards and not marking.corners else None,
        "cards_moved": records.begun_by_cards(work(), at.trial.id),
        "cards_fine": at.by_cards and at.cards is not None and not at.cards.said,
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
        moved = acts.rest(work(), at, request.form, marking, guesses)
        marking = replace(marking, marks={**marking.marks, **moved})
    strip = _strip(at, marking, guesses)
    return render_template("parts/reading.html", at=at, moved=moved, **strip)


@room.post("/t/<int:tid>/save")
@login_required
def save(tid: int) -> str | Response | tuple[str, int]:
    """Accept the marking, then go on to the next photograph still to mark."""
    at = at_bench(tid)
    mine = request.form.get("mine", "") or request.form.get("seen", "")
    once = request.form.get("once_key", "")[:64] or None
    try:
        acts.accept(work(), at, request.form, once, whole(mine))
    except (SceneError, Conflict) as error:
        flash(f"Not saved: {error}.".replace("..", "."), "retake")
        acts.keep_draft(work(), tid, request.form.to_dict())
        sure = 1 if isinstance(error, Unsure) else None
        return redirect(url_for("bench.page", tid=tid, sure=sure))
    for sentence in said_apart(work(), at):
        flash(sentence, "retake")
    waiting = visits.next_unmarked(_stations(at.trial), at.trial.slot)
    kept = own_trial(tid)
    if waiting is not None:
        if kept.asks_again:
            # Its checks are out of sight with it.
            flash(f"{shot_name(kept)}: kept, but a check asks for another one.", "retake")
        return redirect(url_for("bench.page", tid=waiting.id, kept=tid))
    if _next_shot(at.trial) is not None:
        # The person is waiting: the reading stays in sight and the next shot is offered beside it.
        flash(
            "Kept, but a check asks for another one: choose it beside this photograph."
            if kept.asks_again
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
    acts.drop_draft(work(), tid)
    return redirect(url_for("bench.page", tid=tid, fresh=1))


@room.post("/t/<int:tid>/stickers")
@login_required
def find_stickers(tid: int) -> Response:
    """Look for stickers and propose them as marks, kept as a draft until accepted.

    ``pick-x`` and ``pick-y`` say where on the picture the sticker's colour is to be taken.
    """
    at = at_bench(tid)
    form = request.form.to_dict()
    spot = (form.pop("pick-x", ""), form.pop("pick-y", ""))
    try:
        found = acts.find_stickers(work(), at, form, spot)
    except (NotDone, OSError) as error:
        said = error.sentence if isinstance(error, NotDone) else "The photograph cannot be read."
        flash(said, "retake")
        acts.keep_draft(work(), tid, form)
        return redirect(url_for("bench.page", tid=tid))
    flash(drafts.say_stickers(at.pose, found), "retake" if found.missing else "message")
    return redirect(url_for("bench.page", tid=tid, fresh=1))


@room.post("/t/<int:tid>/coco")
@login_required
def read_coco(tid: int) -> Response:
    """Take marks from a COCO keypoint file as a starting guess; nothing counts until confirmed."""
    at = at_bench(tid)
    sent = request.files.get("coco")
    if sent is None or not sent.filename:
        flash("Choose a COCO keypoint file first.", "retake")
        return redirect(url_for("bench.page", tid=tid))
    try:
        count = acts.take_coco(work(), at, sent.stream)
    except NotDone as error:
        flash(error.sentence, "retake")
        return redirect(url_for("bench.page", tid=tid))
    flash(f"{count} marks read from the file. Check each and confirm it with the space bar.")
    return redirect(url_for("bench.page", tid=tid, fresh=1))


@room.get("/a/<int:aid>/marks.coco.json")
@login_required
def assessment_coco(aid: int) -> Response:
    """Every marked photograph of an assessment as COCO keypoints."""
    body = json.dumps(coco_of(work(), own_assessment(aid).id))
    answer = Response(body, mimetype="application/json")
    answer.headers["Content-Disposition"] = f'attachment; filename="marks-{aid}.coco.json"'
    return answer


@room.get("/t/<int:tid>/history")
@login_required
def history(tid: int) -> str:
    """Earlier markings of a photograph, newest first, with what each one read."""
    at = at_bench(tid)
    rows = []
    for marking in records.markings_of(work(), tid):
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
    found = records.markings_of(work(), tid)
    body = {"marks": found[0].marks, "corners": found[0].corners} if found else {}
    return Response(json.dumps(body), mimetype="application/json")
