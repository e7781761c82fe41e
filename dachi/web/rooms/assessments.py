"""An assessment: opening it with today's state, its sheet, adding and deleting photographs."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.assessing import runsheet
from dachi.core.assessing.runsheet import SheetLine
from dachi.core.practising import timeline
from dachi.data import catalogue
from dachi.store import assessments, day_states, felt, run_sheets, signing
from dachi.store.assessments import Assessment
from dachi.store.database import Conflict
from dachi.store.day_states import DayState
from dachi.studio.phrases import moment_of
from dachi.studio.verdicts import summaries
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.web.session import clock, coach_id, db, own_assessment, own_practitioner, work
from dachi.web.sheet_page import pose_of, sheet_view

room = Blueprint("assessments", __name__)

#: Where pain is asked about.
PLACES = (
    "low back", "groin", "left hip", "right hip", "back of the left thigh",
    "back of the right thigh", "left knee", "right knee", "somewhere else",
)  # fmt: skip
#: Changes of the sheet that name one pose.
ONE_POSE = ("up", "down", "drop", "trials", "beside")
TRAINING = ("", "today", "yesterday", "two days ago")


@room.route("/p/<int:pid>/assess", methods=["GET", "POST"])
@login_required
def new(pid: int) -> str | Response | tuple[str, int]:
    """Open a new assessment: when, how the person is today; the sheet is built with it."""
    who = own_practitioner(pid)
    before = day_states.newest(db(), coach_id(), pid)
    values: dict[str, Any] = {
        "taken_at": clock().local().strftime("%Y-%m-%dT%H:%M"),
        "warmth": "warm",
        "notes": "",
        "once_key": secrets.token_urlsafe(12),
        "sleep_h": "",
        "hard_training": "",
        "warm_up_min": f"{before.warm_up_min:g}" if before and before.warm_up_min else "8",
    }
    problem = None
    if request.method == "POST":
        values |= {k: request.form.get(k, v) for k, v in values.items()}
        problem = _problem(values)
        if problem is None:
            state = _state(values)
            aid = assessments.add(
                db(),
                coach_id(),
                pid,
                taken_at=moment_of(values["taken_at"]).isoformat(timespec="minutes"),
                warmth=values["warmth"],
                notes=values["notes"].strip()[:4000],
                once_key=values["once_key"][:64],
            )
            if day_states.of_assessment(db(), coach_id(), aid) is None:
                assessments.set_still(db(), coach_id(), aid, _still(pid, values["taken_at"], aid))
                day_states.save(db(), coach_id(), aid, state)
                aims = [a for a in request.form.getlist("aim") if a in catalogue()]
                run_sheets.save(db(), coach_id(), aid, visits.new_lines(work(), pid, aims))
            return redirect(url_for("assessments.sheet", aid=aid))
    page = render_template(
        "assessment_form.html",
        who=who,
        visit=None,
        values=values,
        problem=problem,
        pain=_pain() if request.method == "POST" else {},
        before=before,
        places=PLACES,
        knee_parts=timeline.KNEE_PARTS,
        training=TRAINING,
        aims=visits.aims(work(), pid),
        usual_minutes=runsheet.minutes(visits.new_lines(work(), pid), catalogue()),
        lately=_lately(pid, values["taken_at"]),
    )
    return page, 422 if problem else 200


@room.route("/a/<int:aid>/edit", methods=["GET", "POST"])
@login_required
def edit(aid: int) -> str | Response | tuple[str, int]:
    """Change date, warmth, notes and today's state; a device that saved earlier is heard."""
    visit = own_assessment(aid)
    who = own_practitioner(visit.practitioner_id)
    kept = day_states.of_assessment(db(), coach_id(), aid) or DayState()
    values: dict[str, Any] = {
        "taken_at": visit.taken_at,
        "warmth": visit.warmth,
        "notes": visit.notes,
        "sleep_h": "" if kept.sleep_h is None else f"{kept.sleep_h:g}",
        "hard_training": kept.hard_training,
        "warm_up_min": "" if kept.warm_up_min is None else f"{kept.warm_up_min:g}",
    }
    pain: Mapping[str, int] = kept.pain
    problem = None
    if request.method == "POST":
        stored, pain = values, _pain()
        values = {k: request.form.get(k, v) for k, v in values.items()}
        problem = intake.closed(visit) or _problem(values)
        if problem is None:
            try:
                signing.claim(db(), coach_id(), aid, _seen(visit))
            except Conflict as error:
                changed = [k for k in stored if stored[k] != values[k]]
                problem = (
                    f"Not saved yet. {error}: what is stored now is "
                    + ", ".join(f"{_WORDS[k]} “{stored[k]}”" for k in changed)
                    + ". What you entered is below; save again to put it in its place."
                    if changed
                    else f"{error}."
                )
        if problem is None:
            assessments.update(
                db(), coach_id(), aid,
                taken_at=moment_of(values["taken_at"]).isoformat(timespec="minutes"),
                warmth=values["warmth"],
                notes=values["notes"].strip()[:4000],
            )  # fmt: skip
            assessments.set_still(db(), coach_id(), aid, _still(who.id, values["taken_at"], aid))
            day_states.save(db(), coach_id(), aid, _state(values))
            for pose_id in {t.pose for t in assessments.trials(db(), coach_id(), aid)}:
                summaries.refresh(work(), visit.practitioner_id, pose_id)
            flash("Saved.")
            return redirect(url_for("assessments.sheet", aid=aid))
    page = render_template(
        "assessment_form.html", who=who, visit=visit, values=values, problem=problem, pain=pain,
        before=None, places=PLACES, knee_parts=timeline.KNEE_PARTS, training=TRAINING,
        lately=_lately(who.id, visit.taken_at, aid),
    )  # fmt: skip
    return page, 422 if problem else 200


def _lately(pid: int, taken_at: str, but: int | None = None) -> Assessment | None:
    """The visit within the week before, whose repetition would tell the day's scatter."""
    try:
        at = moment_of(taken_at)
    except ValueError:
        return None
    for v in assessments.of_practitioner(db(), coach_id(), pid):
        gap = at - moment_of(v.taken_at)
        if v.id != but and timedelta(hours=12) <= gap <= timedelta(days=7):
            return v
    return None


def _still(pid: int, taken_at: str, aid: int) -> bool:
    """Whether nothing was practised since a visit of the same week."""
    return request.form.get("still") == "1" and _lately(pid, taken_at, aid) is not None


@room.post("/a/<int:aid>/felt")
@login_required
def feel(aid: int) -> Response:
    """Keep what was felt, one tap; the same tap again takes it back."""
    visit = own_assessment(aid)
    kind, answer = request.form.get("kind", ""), request.form.get("answer", "")
    if (closed := intake.closed(visit)) is not None:
        flash(closed, "retake")
    elif felt.known(kind, answer):
        was = felt.of_visit(db(), coach_id(), aid).get(kind)
        felt.at_visit(db(), coach_id(), aid, kind, "" if was == answer else answer)
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
    text = request.form.get("revision", "")
    return int(text) if text.isdecimal() else visit.revision


def _pain() -> dict[str, int]:
    found = {}
    for i, place in enumerate(PLACES):
        text = request.form.get(f"pain-{i}", "0")
        if text.isdecimal() and 1 <= int(text) <= 10:
            part = request.form.get(f"part-{i}", "")
            known = "knee" in place and part in timeline.KNEE_PARTS
            found[f"{place}, {part}" if known else place] = int(text)
    return found


def _state(values: Mapping[str, str]) -> DayState:
    return DayState(
        _pain(),
        _amount(values["sleep_h"], 0, 24),
        values["hard_training"] if values["hard_training"] in TRAINING else "",
        # Who arrives cold has not warmed up, whatever the field still says.
        _amount(values["warm_up_min"], 0, 180) if values["warmth"] == "warm" else None,
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
def lines(aid: int) -> Response | tuple[str, int]:
    """Change the sheet: which poses, a pose earlier, later or dropped, trials of a row."""
    visit = own_assessment(aid)
    act = request.form.get("act", "")
    pose = pose_of(request.form.get("pose", "")) if act in ONE_POSE else None
    own = visits.all_trials(work(), visit)
    now = visits.lines_of(work(), visit, own)
    try:
        if problem := intake.closed(visit):
            raise Conflict(problem)
        signing.claim(db(), coach_id(), aid, _seen(visit))
        if act == "choose":
            now = _chosen(visit, now, {t.pose for t in own})
        elif act == "open":
            now = visits.with_rows(now, visits.opened_since(work(), visit))
        elif pose is None:
            abort(400)
        elif act in ("up", "down"):
            now = runsheet.move(now, pose.id, -1 if act == "up" else 1)
        elif act == "drop":
            if any(t.pose == pose.id for t in own):
                raise Conflict("This pose has photographs: delete those first, then drop it.")
            now = tuple(x for x in now if x.pose != pose.id)
        elif act == "beside":
            for other in catalogue().beside(pose.id):
                now = runsheet.with_beside(now, pose, other)
        elif act == "trials":
            key = (pose.id, request.form.get("side", ""), request.form.get("mode", ""))
            wanted = request.form.get("trials", "")
            if wanted.isdecimal():
                now = runsheet.with_trials(now, key, int(wanted))
        run_sheets.save(db(), coach_id(), aid, now)
    except Conflict as error:
        db().again(keep=False)
        flash(f"{error}.".replace("..", "."), "retake")
    shown = pose.id if pose and any(x.pose == pose.id for x in now) else None
    return redirect(url_for("assessments.sheet", aid=aid, pose=shown))


def _chosen(
    visit: Assessment, now: tuple[SheetLine, ...], taken: set[str]
) -> tuple[SheetLine, ...]:
    """The sheet with just the poses that were ticked, and those with photographs."""
    wanted = {p for p in request.form.getlist("poses") if p in catalogue()} | taken
    kept = tuple(x for x in now if x.pose in wanted)
    first = next((x.side for x in now if x.side != "both"), None)
    earlier = run_sheets.first_sides(db(), coach_id(), visit.practitioner_id)
    for pose in runsheet.ordered(
        [catalogue().pose(p) for p in wanted if all(x.pose != p for x in kept)]
    ):
        rows = runsheet.lines_for(
            pose,
            first or runsheet.first_side(earlier),
            refused=visits.shut_modes(work(), visit.practitioner_id),
        )
        # The easier comes before the harder; what was put in order by hand stays so.
        harder = (i for i, x in enumerate(kept) if catalogue().pose(x.pose).demand > pose.demand)
        at = next(harder, len(kept))
        kept = (*kept[:at], *rows, *kept[at:])
    return kept
