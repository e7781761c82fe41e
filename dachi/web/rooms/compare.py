"""Two photographs of the same pose, aligned, with the difference and its verdict."""

from __future__ import annotations

from dataclasses import replace

from flask import Blueprint, abort, render_template, request, url_for
from flask_login import login_required

from dachi.studio import records
from dachi.studio.bench.around import Around
from dachi.studio.lists import catalogue
from dachi.studio.verdicts import comparing, summaries
from dachi.studio.verdicts.summaries import judged
from dachi.web.fields import whole
from dachi.web.session import own_assessment, own_practitioner, work

room = Blueprint("compare", __name__)


@room.get("/p/<int:pid>/compare")
@login_required
def page(pid: int) -> str:
    """Compare two marked photographs; the first and the newest where none are named."""
    who = own_practitioner(pid)
    pose_id = request.args.get("pose", "")
    if pose_id not in catalogue():
        abort(404)
    pose = catalogue().pose(pose_id)
    side, mode = request.args.get("side", ""), request.args.get("mode", "")
    family = pose.families[0].family
    series = judged(work(), pid, pose, family)
    # What was read elsewhere has no photograph to look at.
    blind = records.without_photograph(work(), pid)
    choices = [
        replace(x, sessions=shown)
        for x in series.lines
        if len(shown := tuple(s for s in x.sessions if set(s.trial_ids) - blind)) > 1
    ]
    if not choices:
        return render_template("compare.html", who=who, pose=pose, pair=None, choices=[])
    line = next((x for x in choices if (x.side, x.mode) == (side, mode)), choices[-1])
    a = _wanted("a", next(t for t in line.sessions[0].trial_ids if t not in blind))
    b = _wanted("b", next(t for t in line.sessions[-1].trial_ids if t not in blind))
    around = Around(work(), pid)
    pair = (
        comparing.placed(around, a, pose, line.side, family) or abort(404),
        comparing.placed(around, b, pose, line.side, family) or abort(404),
    )
    known = summaries.lines_of(summaries.of_practitioner(work(), pid), pose.id, family)
    staged = summaries.staged_of(known).get((line.side, line.mode), (None, ""))
    return render_template(
        "compare.html",
        who=who,
        pose=pose,
        pair=pair,
        line=line,
        choices=choices,
        sentences=comparing.say_difference(
            series, line.side, line.mode, a, b, pose.families[0].unit, staged
        ),
        sessions=[(s, own_assessment(s.assessment_id).taken_at) for s in line.sessions],
        size=(comparing.WIDTH, comparing.HEIGHT),
        picture=lambda p: url_for("pictures.picture", photo_id=p.id, kind="preview"),
    )


def _wanted(name: str, usual: int) -> int:
    asked = whole(request.args.get(name, ""))
    return usual if asked is None else asked
