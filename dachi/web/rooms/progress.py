"""Progress: the overview of a person, the chart of a pose, its numbers and downloads."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response as Redirect

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import series as judging
from dachi.core.judging import wording
from dachi.core.judging.series import Series
from dachi.core.practising import timeline
from dachi.data import catalogue
from dachi.drawing import hip, small_charts
from dachi.drawing import progress as charts
from dachi.drawing.progress import Note
from dachi.store import assessments, felt, goals, practitioners
from dachi.store import summaries as stored
from dachi.store.database import Conflict
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import day_of, moment_of, say_day
from dachi.studio.practice import practice_log
from dachi.studio.record import export
from dachi.studio.verdicts import overview, summaries, tiles
from dachi.studio.verdicts.histories import day_number
from dachi.studio.verdicts.summaries import judged, label_of, others_for
from dachi.web.session import coach_id, data_folder, db, own_practitioner, work

room = Blueprint("progress", __name__)

#: Assessments listed in numbers before the rest is asked for.
ROWS = 26
#: What a coach may choose to include after all.
INCLUDABLE = ("warmth", "part of day", "prop")
CHART_STYLE = Path(__file__).parents[1] / "static" / "chart.css"


@dataclass(frozen=True)
class Asked:
    """The pose, measure and conditions an address asks for, with the series they give."""

    pose: Pose
    measure: Measure
    include: tuple[str, ...]
    variant: str | None
    series: Series


def _asked(pid: int) -> Asked:
    """Read pose, measure and conditions from the address; 404 where there is no such pose."""
    wanted = request.args.get("pose", "")
    if wanted not in catalogue():
        abort(404)
    pose = catalogue().pose(wanted)
    measure = next(
        (m for m in pose.families if m.family == request.args.get("measure")), pose.families[0]
    )
    include = tuple(c for c in INCLUDABLE if c in request.args.getlist("include"))
    variant = request.args.get("variant") or None
    return Asked(pose, measure, include, variant, _series(pid, pose, measure, include, variant))


def _label(asked: Asked) -> str:
    return label_of(work(), asked.pose, asked.measure, asked.series)


#: Series of long histories, kept while nothing they were built from has changed.
_KEPT: OrderedDict[tuple[Any, ...], Series] = OrderedDict()
_MOST_KEPT = 64


def _series(
    pid: int, pose: Pose, measure: Measure, include: tuple[str, ...], variant: str | None
) -> Series:
    known = others_for(work(), pid, pose.id, measure.family)
    told = tuple(sorted((m, tuple(found)) for m, found in known.items()))
    stamp = stored.stamp(db(), coach_id(), pid, pose.id)
    key = (str(data_folder()), pid, pose.id, measure.family, include, variant, stamp, told)
    found = _KEPT.get(key)
    if found is None:
        prefer = {"variant": variant} if variant is not None else None
        found = judged(work(), pid, pose, measure.family, include=include, prefer=prefer)
        _KEPT[key] = found
        while len(_KEPT) > _MOST_KEPT:
            _KEPT.popitem(last=False)
    return found


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
    open_goals = goals.of_practitioner(db(), coach_id(), who.id)
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
        places=timeline.ALL_PLACES,
        notes=goals.notes_of(db(), coach_id(), who.id)[::-1],
        retest=summaries.next_look(found),
        visits=assessments.of_practitioner(db(), coach_id(), who.id),
        today=work().today().isoformat(),
    )


def _drawn(who: Practitioner, asked: Asked, alone: bool = False) -> str:
    """The chart as SVG; ``alone`` with its colours, for a file of its own."""
    visits = assessments.of_practitioner(db(), coach_id(), who.id)
    dates = {v.id: say_day(v.taken_at) for v in visits}
    # One address made once: ten years of rings are over a thousand links.
    bench = url_for("bench.page", tid=0).removesuffix("0")
    target = next(
        (
            g.target
            for g in goals.of_practitioner(db(), coach_id(), who.id)
            if (g.pose, g.family) == (asked.pose.id, asked.measure.family)
        ),
        None,
    )
    notes = [
        Note(day_number(n.on_date), n.kind, f"{say_day(n.on_date)}: {n.text}")
        for n in goals.notes_of(db(), coach_id(), who.id)
    ]
    return charts.draw(
        asked.series,
        f"{asked.pose.name}: {_label(asked)} of {who.call_name}",
        charts.Legend(
            lambda tid: f"{bench}{tid}",
            dates,
            None if alone else lambda tid: f"{bench}{tid}/preview.jpg",
            wording.UNITS[asked.measure.unit],
        ),
        target,
        notes,
        CHART_STYLE.read_text("utf-8") if alone else "",
    )


def _chart(who: Practitioner) -> str:
    asked = _asked(who.id)
    pose, measure, series = asked.pose, asked.measure, asked.series
    known = stored.poses(db(), coach_id(), who.id)
    visits = assessments.of_practitioner(db(), coach_id(), who.id)
    dates = {v.id: say_day(v.taken_at) for v in visits}
    sensed = felt.of_practitioner(db(), coach_id(), who.id)
    everything = request.args.get("all") == "1"
    table = _table(series, dates)
    lines = summaries.lines_of(summaries.of_practitioner(work(), who.id), pose.id, measure.family)
    # Stages are settled on the series as it is usually built, not on a choice of conditions.
    usual = not asked.include and asked.variant is None
    staged = summaries.staged_of(lines) if usual else {}
    return render_template(
        "progress.html",
        who=who,
        pose=pose,
        measure=measure,
        label=_label(asked),
        unit=wording.UNITS[measure.unit],
        poses=[p for p in catalogue().poses if p.id in known or p.id == pose.id],
        series=series,
        chart=_drawn(who, asked) if series.lines else None,
        sentence=wording.headline_sentence(series, measure.unit, staged),
        legend=charts.legend([line.mode for line in series.lines], measure.better),
        lines=[
            (
                line,
                wording.say_gain(
                    line.since_first,
                    "first assessment",
                    measure.unit,
                    *staged.get((line.side, line.mode), (None, "")),
                ),
                wording.say_gain(line.since_last, "last", measure.unit),
                overview.trend_words(line, measure.unit),
            )
            for line in series.lines
        ],
        table=(table[0], table[1] if everything else table[1][:ROWS]),
        more=0 if everything else max(0, len(table[1]) - ROWS),
        dates=dates,
        visits=visits,
        include=asked.include,
        differing=_differing(series),
        variants=_variants(series),
        left_out=[(t, wording.why_left_out(t, series)) for t in series.left_out[-40:]],
        reserve={
            side: wording.say_reserve(found[-1], measure.unit)
            for side in series.sides
            if (found := judging.reserves(series, side))
        },
        asymmetry=wording.say_asymmetry(series, measure.unit),
        retest=overview.retest_words(series),
        felt=next(((at, felt.say(own)) for at, own in sensed), None),
        bench=url_for("bench.page", tid=0).removesuffix("0"),
        half=lambda s: s.half,
    )


def _differing(series: Series) -> list[tuple[str, int]]:
    """Conditions in which valid trials differ from the series, with how many trials."""
    if series.conditions is None:
        return []
    counts: dict[str, int] = {}
    everything = [t for line in series.lines for t in (*line.trials, *line.left_out) if t.valid]
    for t in everything:
        for name in judging.differing(t, series.conditions):
            counts[name] = counts.get(name, 0) + 1
    return [(name, counts[name]) for name in INCLUDABLE if name in counts]


def _variants(series: Series) -> list[str]:
    """Ways of doing the pose that were photographed; only one is charted at a time."""
    everything = [t for line in series.lines for t in (*line.trials, *line.left_out)]
    return sorted({t.conditions[1] for t in everything})


def _table(
    series: judging.Series, dates: dict[int, str]
) -> tuple[list[tuple[str, str]], list[tuple[str, list[judging.SessionValue | None]]]]:
    """Columns (side, mode) and a row of session values for each assessment, newest first."""
    columns = [(line.side, line.mode) for line in series.lines]
    cells = {
        (s.assessment_id, line.side, line.mode): s for line in series.lines for s in line.sessions
    }
    days = {s.assessment_id: s.day for line in series.lines for s in line.sessions}
    order = sorted(days, key=lambda a: (days[a], a), reverse=True)
    return columns, [
        (dates.get(a, ""), [cells.get((a, side, mode)) for side, mode in columns]) for a in order
    ]


# ---------------------------------------------------------------- downloads


@room.get("/p/<int:pid>/chart.svg")
@login_required
def chart_file(pid: int) -> Response:
    """The chart as a drawing of its own."""
    who = own_practitioner(pid)
    asked = _asked(pid)
    answer = Response(_drawn(who, asked, alone=True), mimetype="image/svg+xml")
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
    own_practitioner(pid)
    wanted = request.form.get("pose", "")
    if wanted not in catalogue():
        return _back(pid, "Choose a pose for the goal.")
    pose = catalogue().pose(wanted)
    measure = pose.families[0]
    try:
        target = float(request.form.get("target", "").replace(",", "."))
    except ValueError:
        return _back(pid, "Give the goal as a number.")
    if not -60 <= target <= 240:
        return _back(pid, f"A {measure.family_label} of {target:g} is not believable.")
    said = request.form.get("due_on", "").strip()
    try:
        by = day_of(said) if said else None
        if by is not None and by <= work().today():
            return _back(pid, "The goal's date lies in the past: choose a later one.")
    except ValueError:
        return _back(pid, "Give the goal's date as 27 Nov 2026 or 2026-11-27, or leave it empty.")
    due = by.isoformat() if by is not None else None
    sides = ("both",) if pose.sides == "both" and not measure.side else ("left", "right")
    chosen = request.form.get("side", "")
    mode = request.form.get("mode", "passive")
    if mode not in pose.modes:
        mode = next(iter(pose.modes))
    try:
        for side in sides:
            if chosen in (side, "each", "both", "") or side == "both":
                goals.add(
                    db(), coach_id(), pid, pose=pose.id, family=measure.family, side=side,
                    mode=mode, target=target, due_on=due,
                )  # fmt: skip
    except Conflict as error:
        return _back(pid, str(error))
    return _back(pid)


@room.post("/goals/<int:gid>/close")
@login_required
def close_goal(gid: int) -> Redirect:
    """Put a goal away."""
    return _back(goals.close(db(), coach_id(), gid) or abort(404))


@room.post("/p/<int:pid>/notes")
@login_required
def add_note(pid: int) -> Redirect:
    """Note an injury, a holiday, a change of plan: charts show it."""
    who = own_practitioner(pid)
    kind, text = request.form.get("kind", "note"), request.form.get("text", "").strip()[:300]
    place = request.form.get("place", "")
    try:
        on = day_of(request.form.get("on_date", ""))
    except ValueError:
        return _back(pid, "Give the day of the note, as 27 Nov 2026 or 2026-11-27.")
    if kind not in goals.KINDS or not text:
        return _back(pid, "Say in a few words what happened.")
    goals.annotate(db(), coach_id(), pid, on.isoformat(), kind, text)
    if kind == "injury" and place in timeline.ALL_PLACES:
        practice_log.note_pain(work(), who, place, on)
        flash(f"Noted as pain in the {place} as well: the plan leaves it alone.")
    return _back(pid)


@room.post("/notes/<int:nid>/remove")
@login_required
def remove_note(nid: int) -> Redirect:
    """Take a note out of the charts."""
    return _back(goals.remove_annotation(db(), coach_id(), nid) or abort(404))


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
    practitioners.plan_visit(db(), coach_id(), pid, at)
    return _back(pid)
