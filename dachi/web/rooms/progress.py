"""Progress across weeks: the chart, what changed, the same numbers as a table."""

from __future__ import annotations

from flask import Blueprint, abort, render_template, request, url_for
from flask_login import login_required

from dachi.core import series as judging
from dachi.core import verdicts
from dachi.data import catalogue
from dachi.drawing import progress as charts
from dachi.store import assessments, markings
from dachi.web.series import series_of
from dachi.web.session import coach_id, db, own_practitioner
from dachi.web.words import day

room = Blueprint("progress", __name__)

#: Assessments listed in numbers before the rest is asked for.
ROWS = 26


@room.get("/p/<int:pid>")
@login_required
def page(pid: int) -> str:
    """Chart of one pose across all assessments."""
    who = own_practitioner(pid)
    wanted = request.args.get("pose")
    if wanted is not None and wanted not in catalogue():
        abort(404)
    known = markings.measured_poses(db(), coach_id(), pid)
    measured = [p for p in catalogue().poses if p.id in known]
    pose = catalogue().pose(wanted) if wanted else (measured or catalogue().poses)[0]
    family = next(
        (m for m in pose.families if m.family == request.args.get("measure")), pose.families[0]
    )
    include = [c for c in request.args.getlist("include") if c in judging.CONDITIONS]
    rows = markings.charted(db(), coach_id(), pid, pose.id, tuple(pose.alike))
    series = series_of(rows, pose, family.family, include)
    visits = assessments.of_practitioner(db(), coach_id(), pid)
    dates = {v.id: day(v.taken_at) for v in visits}
    # One address made once: ten years of rings are over a thousand links.
    bench = url_for("bench.page", tid=0).removesuffix("0")
    everything = request.args.get("all") == "1"
    table = _table(series, dates)
    chart = charts.draw(
        series,
        f"{pose.name}: {family.family_label} of {who.call_name}",
        lambda tid: f"{bench}{tid}",
        dates,
    )
    return render_template(
        "progress.html",
        who=who,
        pose=pose,
        measure=family,
        poses=measured,
        series=series,
        chart=chart if series.lines else None,
        sentence=verdicts.headline_sentence(series, family.unit),
        legend=charts.legend([line.mode for line in series.lines]),
        lines=[
            (
                line,
                verdicts.say_gain(line.since_first, "first assessment", family.unit),
                verdicts.say_gain(line.since_last, "last", family.unit),
            )
            for line in series.lines
        ],
        table=(table[0], table[1] if everything else table[1][:ROWS]),
        more=0 if everything else max(0, len(table[1]) - ROWS),
        dates=dates,
        visits=visits,
        reserve={side: judging.reserves(series, side)[-1:] for side in series.sides},
    )


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
