"""An assessment: opening it with today's state, its sheet, adding and deleting photographs."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.lists import AT_A_VISIT, KNEE_PARTS, Place, with_part
from dachi.studio.phrases import moment_of
from dachi.studio.records import Assessment, Conflict, DayState
from dachi.studio.visits import acts, intake
from dachi.studio.visits import sheets as visits
from dachi.web.fields import whole
from dachi.web.session import clock, own_assessment, own_practitioner, work
from dachi.web.sheet_page import pose_of, sheet_view

room = Blueprint("assessments", __name__)

#: Changes of the sheet that name one pose.
ONE_POSE = ("up", "down", "drop", "trials", "beside")
TRAINING = ("", "today", "yesterday", "two days ago")


@room.route("/p/<int:pid>/assess", methods=["GET", "POST"])
@login_required
def new(pid: int) -> str | Response | tuple[str, int]:
    """Open a new assessment: when, how the person is today; the sheet is built with it."""
    who = own_practitioner(pid)
    before = records.last_state(work(), pid)
    values: dict[str, Any] = {
        "taken_at": clock().local().strftime("%Y-%m-%dT%H:%M"),
        "warmth": "warm",
        "notes": "",
        "once_key": secrets.token_urlsafe(12),
        "sleep_h": "",
        "hard_training": "",
        "warm_up_min": f"{before.warm_up_min:g}" if before and before.warm_up_min else "",
    }
    problem = None
    if request.method == "POST":
        values |= {k: request.form.get(k, v) for k, v in values.items()}
        problem = _problem(values)
        if problem is None:
            aid = acts.open_visit(
                work(), pid, moment_of(values["taken_at"]), values["warmth"],
                values["notes"].strip()[:4000], _state(values),
                still=request.form.get("still") == "1", aims=request.form.getlist("aim"),
                once_key=values["once_key"][:64],
            )  # fmt: skip
            return redirect(url_for("assessments.sheet", aid=aid))
    page = render_template(
        "assessment_form.html",
        who=who,
        visit=None,
        values=values,
        problem=problem,
        pain=_pain() if request.method == "POST" else {},
        before=before,
        places=AT_A_VISIT,
        knee_parts=KNEE_PARTS,
        training=TRAINING,
        aims=visits.aims(work(), pid),
        usual_minutes=visits.usual_minutes(work(), pid),
        lately=acts.lately(work(), pid, values["taken_at"]),
    )
    return page, 422 if problem else 200


@room.route("/a/<int:aid>/edit", methods=["GET", "POST"])
@login_required
def edit(aid: int) -> str | Response | tuple[str, int]:
    """Change date, warmth, notes and today's state; a device that saved earlier is heard."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    kept = records.state(work(), aid) or DayState()
    values: dict[str, Any] = {
        "taken_at": visit.taken_at,
        "warmth": visit.warmth,
        "notes": visit.notes,
        "sleep_h": "" if kept.sleep_h is None else f"{kept.sleep_h:g}",
        "hard_training": kept.hard_training,
        "warm_up_min": "" if kept.warm_up_min is None else f"{kept.warm_up_min:g}",
    }
    pain: Mapping[Place, int] = kept.pain
    problem = None
    if request.method == "POST":
        stored, pain = values, _pain()
        values = {k: request.form.get(k, v) for k, v in values.items()}
        problem = intake.closed(visit) or _problem(values)
        if problem is None:
            try:
                acts.change_visit(
                    work(), visit, moment_of(values["taken_at"]), values["warmth"],
                    values["notes"].strip()[:4000], _state(values),
                    still=request.form.get("still") == "1", revision=_seen(visit),
                )  # fmt: skip
            except Conflict as error:
                changed = [k for k in stored if stored[k] != values[k]]
                problem = (
                    f"Not saved yet. {error}: what is stored now is "
                    + ", ".join(f"{_WORDS[k]} “{stored[k]}”" for k in changed)
                    + ". What you entered is below; save again to put it in its place."
                    if changed
                    else f"{error}."
                )
            except NotDone as error:
                problem = f"Not saved. {error.sentence}"
            else:
                flash("Saved.")
                return redirect(url_for("assessments.sheet", aid=aid))
    page = render_template(
        "assessment_form.html", who=who, visit=visit, values=values, problem=problem, pain=pain,
        before=None, places=AT_A_VISIT, knee_parts=KNEE_PARTS, training=TRAINING,
        lately=acts.lately(work(), who.id, visit.taken_at, aid),
    )  # fmt: skip
    return page, 422 if problem else 200


@room.post("/a/<int:aid>/felt")
@login_required
def feel(aid: int) -> Response:
    """Keep what was felt, one tap; the same tap again takes it back."""
    visit = own_assessment(aid)
    kind, answer = request.form.get("kind", ""), request.form.get("answer", "")
    try:
        acts.feel(work(), visit, kind, answer)
    except NotDone as error:
        flash(error.sentence, "retake")
    shown = request.form.get("pose") or None
    return redirect(url_for("assessments.sheet", aid=aid, pose=shown, _anchor="felt"))


_WORDS = {
    "taken_at": "date and time",
    "warmth": "state",
    "notes": "notes",
    "sleep_h": "hours slept",
    "hard_training": "hard training",
    "warm_up_min": "warm-up",
}


def _seen(visit: Assessment) -> int:
    """The revision a form was made from; forms without one take the present."""
    seen = whole(request.form.get("revision", ""))
    return visit.revision if seen is None else seen


def _pain() -> dict[Place, int]:
    """Where it hurts, as the form says it: a level of each place, and which part of a knee."""
    found = {}
    for place in AT_A_VISIT:
        level = whole(request.form.get(f"pain-{place}", "0"))
        if level is not None and 1 <= level <= 10:
            found[with_part(place, request.form.get(f"part-{place}", ""))] = level
    return found


def _state(values: Mapping[str, str]) -> DayState:
    return DayState(
        pain=_pain(),
        sleep_h=_amount(values["sleep_h"], 0, 24),
        hard_training=values["hard_training"] if values["hard_training"] in TRAINING else "",
        # Who arrives cold has not warmed up, whatever the field still says.
        warm_up_min=_amount(values["warm_up_min"], 0, 180) if values["warmth"] == "warm" else None,
    )


def _amount(text: str, low: float, high: float) -> float | None:
    """A number from a field; ValueError where it is none or lies outside."""
    text = text.strip().replace(",", ".")
    if not text:
        return None
    value = float(text)
    if not low <= value <= high:
        raise ValueError(text)
    return value


def _problem(values: dict[str, Any]) -> str | None:
    try:
        at = moment_of(values["taken_at"])
    except ValueError:
        return "Give the date and time of the assessment: 27 Nov 2026, 18:15."
    if at > clock().local().replace(hour=23, minute=59) or at.year < 1990:
        return "The date lies in the future or too far back: check it."
    if values["warmth"] not in ("warm", "cold"):
        return "Say whether the person was warm or cold."
    for name, label, high in (("sleep_h", "hours slept", 24), ("warm_up_min", "warm-up", 180)):
        try:
            _amount(values[name], 0, high)
        except ValueError:
            return f"Give the {label} as a number from 0 to {high}, or leave it empty."
    return None


# ---------------------------------------------------------------- the sheet


@room.get("/a/<int:aid>")
@login_required
def sheet(aid: int) -> str:
    """The run sheet of an assessment: what to photograph next, and how to set it up."""
    return render_template("sheet.html", **sheet_view(own_assessment(aid)))


@room.get("/a/<int:aid>/run")
@login_required
def run(aid: int) -> str:
    """The list of stations alone, for a page that keeps itself up to date."""
    return render_template("parts/runlist.html", **sheet_view(own_assessment(aid)))


@room.post("/a/<int:aid>/lines")
@login_required
def lines(aid: int) -> Response:
    """Change the sheet: which poses, a pose earlier, later or dropped, trials of a row."""
    visit = own_assessment(aid)
    act = request.form.get("act", "")
    pose = pose_of(request.form.get("pose", "")) if act in ONE_POSE else None
    now = visits.lines_of(work(), visit, visits.all_trials(work(), visit))
    try:
        now = acts.change_lines(
            work(), visit, _seen(visit), act, pose.id if pose else None,
            poses=request.form.getlist("poses"), side=request.form.get("side", ""),
            mode=request.form.get("mode", ""), trials=request.form.get("trials", ""),
        )  # fmt: skip
    except NotDone as error:
        flash(error.sentence, "retake")
    shown = pose.id if pose and any(x.pose == pose.id for x in now) else None
    return redirect(url_for("assessments.sheet", aid=aid, pose=shown))
