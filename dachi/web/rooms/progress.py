"""Progress: the overview of a person, the chart of a pose, its numbers and downloads."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, abort, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response as Redirect

from dachi.drawing import hip, small_charts
from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.lists import EVERY_PLACE, as_place, catalogue
from dachi.studio.phrases import day_of, moment_of
from dachi.studio.practice.practice_history import pain_chart
from dachi.studio.record import acts as record_acts
from dachi.studio.record import export
from dachi.studio.records import Practitioner
from dachi.studio.verdicts import acts, charting, overview, summaries, tiles
from dachi.studio.verdicts.charting import INCLUDABLE, Asked
from dachi.web.session import own_practitioner, work

room = Blueprint("progress", __name__)

#: Assessments listed in numbers before the rest is asked for.
ROWS = 26
CHART_STYLE = Path(__file__).parents[1] / "static" / "chart.css"


def _asked(pid: int) -> Asked:
    """Read pose, measure and conditions from the address; 404 where there is no such pose."""
    wanted = request.args.get("pose", "")
    if wanted not in catalogue():
        abort(404)
    include = tuple(c for c in INCLUDABLE if c in request.args.getlist("include"))
    return charting.asked(
        work(), pid, catalogue().pose(wanted), request.args.get("measure", ""), include,
        request.args.get("variant") or None,
    )  # fmt: skip


@room.get("/p/<int:pid>")
@login_required
def page(pid: int) -> str:
    """The chart of the pose that is asked for, else the overview."""
    who = own_practitioner(pid)
    return _chart(who) if request.args.get("pose") else _overview(who)


def _overview(who: Practitioner) -> str:
    found = summaries.of_practitioner(work(), who.id)
    order = {p.id: i for i, p in enumerate(catalogue().poses)}
    found.sort(key=lambda d: order.get(d.pose, 99))
    open_goals = records.goals_of(work(), who.id)
    ranges = overview.hip_ranges(found)
    states = [
        (g, *overview.goal_state(work(), who, g)) for g in open_goals if g.pose in catalogue()
    ]
    held = overview.held_back(found, open_goals)[:5]
    return render_template(
        "overview.html",
        who=who,
        summaries=found,
        circles={side: hip.draw(side, ranges[side]) for side in ("left", "right")},
        changes=overview.changes(found)[:12],
        held=held,
        tiles=tiles.tiles(found, open_goals),
        patterns=small_charts.patterns(),
        goals=tiles.distances(found, states),
        goal_poses=catalogue().poses,
        places=EVERY_PLACE,
        notes=records.notes_of(work(), who.id)[::-1],
        retest=summaries.next_look(found),
        visits=records.visits_of(work(), who.id),
        today=work().today().isoformat(),
    )


def _drawn(who: Practitioner, asked: Asked, style: str = "") -> str:
    # One address made once: ten years of rings are over a thousand links.
    bench = url_for("bench.page", tid=0).removesuffix("0")

    def address(tid: int, preview: bool) -> str:
        return f"{bench}{tid}/preview.jpg" if preview else f"{bench}{tid}"

    return charting.drawn(work(), who, asked, address, style)


def _chart(who: Practitioner) -> str:
    asked = _asked(who.id)
    found = charting.numbers(work(), who, asked)
    known, pose = records.measured(work(), who.id), asked.pose
    sensed = records.felt_by(work(), who.id)
    everything = request.args.get("all") == "1"
    columns, rows = found.pop("table")
    return render_template(
        "progress.html",
        who=who,
        pose=pose,
        measure=asked.measure,
        label=asked.label,
        poses=[p for p in catalogue().poses if p.id in known or p.id == pose.id],
        series=asked.series,
        chart=_drawn(who, asked) if asked.series.lines else None,
        table=(columns, rows if everything else rows[:ROWS]),
        more=0 if everything else max(0, len(rows) - ROWS),
        include=asked.include,
        felt=next(((at, records.say_felt(own)) for at, own in sensed), None),
        pain=pain_chart(work(), who.id),
        bench=url_for("bench.page", tid=0).removesuffix("0"),
        half=lambda s: s.half,
        **found,
    )


# ---------------------------------------------------------------- downloads


@room.get("/p/<int:pid>/chart.svg")
@login_required
def chart_file(pid: int) -> Response:
    """The chart as a drawing of its own."""
    who = own_practitioner(pid)
    asked = _asked(pid)
    answer = Response(_drawn(who, asked, CHART_STYLE.read_text("utf-8")), mimetype="image/svg+xml")
    name = f"{asked.pose.id}-{asked.measure.family}.svg"
    answer.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


@room.get("/p/<int:pid>/readings.csv")
@login_required
def readings_file(pid: int) -> Response:
    """Every charted reading of a person (of one pose), as CSV."""
    who = own_practitioner(pid)
    pose_id = request.args.get("pose")
    if pose_id is not None and pose_id not in catalogue():
        abort(404)
    text = export.readings_csv(work(), who, pose_id)
    answer = Response(text, content_type="text/csv; charset=utf-8")
    answer.headers["Content-Disposition"] = f'attachment; filename="readings-{pid}.csv"'
    return answer


# ---------------------------------------------------------------- goals, notes, next visit


def _back(pid: int, problem: str | None = None) -> Redirect:
    if problem:
        flash(problem, "retake")
    return redirect(url_for("progress.page", pid=pid))


@room.post("/p/<int:pid>/goals")
@login_required
def set_goal(pid: int) -> Redirect:
    """Set a goal: a value of a pose's main measure on a side, by a date if one is given."""
    who = own_practitioner(pid)
    wanted = request.form.get("pose", "")
    if wanted not in catalogue():
        return _back(pid, "Choose a pose for the goal.")
    said = request.form.get("due_on", "").strip()
    try:
        target = float(request.form.get("target", "").replace(",", "."))
    except ValueError:
        return _back(pid, "Give the goal as a number.")
    try:
        by = day_of(said) if said else None
    except ValueError:
        return _back(pid, "Give the goal's date as 27 Nov 2026 or 2026-11-27, or leave it empty.")
    side, mode = request.form.get("side", ""), request.form.get("mode", "passive")
    try:
        acts.set_goal(work(), who, catalogue().pose(wanted), side, mode, target, by)
    except NotDone as error:
        return _back(pid, error.sentence)
    return _back(pid)


@room.post("/goals/<int:gid>/close")
@login_required
def close_goal(gid: int) -> Redirect:
    """Put a goal away."""
    return _back(acts.close_goal(work(), gid) or abort(404))


@room.post("/p/<int:pid>/notes")
@login_required
def add_note(pid: int) -> Redirect:
    """Note an injury, a holiday, a change of plan: charts show it."""
    who = own_practitioner(pid)
    kind, text = request.form.get("kind", "note"), request.form.get("text", "").strip()
    place = as_place(request.form.get("place", ""))
    try:
        on = day_of(request.form.get("on_date", ""))
    except ValueError:
        return _back(pid, "Give the day of the note, as 27 Nov 2026 or 2026-11-27.")
    try:
        if acts.add_note(work(), who, on, kind, text, place) and place is not None:
            flash(f"Noted as pain in the {place.said} as well: the plan leaves it alone.")
    except NotDone as error:
        return _back(pid, error.sentence)
    return _back(pid)


@room.post("/notes/<int:nid>/remove")
@login_required
def remove_note(nid: int) -> Redirect:
    """Take a note out of the charts."""
    return _back(acts.remove_note(work(), nid) or abort(404))


@room.post("/p/<int:pid>/visit")
@login_required
def plan_visit(pid: int) -> Redirect:
    """Say when the person comes next; an empty time takes the plan away."""
    own_practitioner(pid)
    text = request.form.get("next_visit_at", "").strip()
    try:
        at = moment_of(text).isoformat(timespec="minutes") if text else None
    except ValueError:
        return _back(pid, "Give the next visit as a date and a time: 27 Nov 2026, 18:15.")
    record_acts.plan_visit(work(), pid, at)
    return _back(pid)
