"""Two photographs of the same pose, aligned, with the difference and its verdict."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from flask import Blueprint, abort, render_template, request, url_for
from flask_login import login_required

from dachi.core import verdicts
from dachi.core.catalogue import Measure, Pose
from dachi.core.measure import measure
from dachi.core.scene import Point, Result, SceneError
from dachi.core.series import Series, gain
from dachi.data import catalogue
from dachi.drawing import overlay
from dachi.store import markings, photos, positions
from dachi.store.assessments import Trial
from dachi.store.photos import Photo
from dachi.web import scenes
from dachi.web.digests import judged
from dachi.web.session import coach_id, db, own_assessment, own_practitioner, own_trial

room = Blueprint("compare", __name__)

#: The shared picture: its size, and how long the aligned segment is in it.
WIDTH, HEIGHT, SEGMENT = 1000.0, 760.0, 180.0


@dataclass(frozen=True)
class Shown:
    """One photograph placed in the shared picture."""

    trial: Trial
    photo: Photo
    taken_at: str
    transform: str
    fan: str
    reading: str
    value: float | None


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
    series = judged(db(), coach_id(), pid, pose, family)
    choices = [x for x in series.lines if len(x.sessions) > 1]
    if not choices:
        return render_template("compare.html", who=who, pose=pose, pair=None, choices=[])
    line = next((x for x in choices if (x.side, x.mode) == (side, mode)), choices[-1])
    a = _wanted("a", line.sessions[0].trial_ids[0])
    b = _wanted("b", line.sessions[-1].trial_ids[0])
    pair = (shown(a, pose, line.side, family), shown(b, pose, line.side, family))
    return render_template(
        "compare.html",
        who=who,
        pose=pose,
        pair=pair,
        line=line,
        choices=choices,
        sentence=_sentence(series, line.side, line.mode, a, b),
        sessions=[(s, own_assessment(s.assessment_id).taken_at) for s in line.sessions],
        size=(WIDTH, HEIGHT),
        picture=lambda p: url_for("pictures.picture", photo_id=p.id, kind="preview"),
    )


def _wanted(name: str, usual: int) -> int:
    text = request.args.get(name, "")
    return int(text) if text.isdecimal() else usual


def _sentence(series: Series, side: str, mode: str, a: int, b: int) -> str:
    """The change between the sessions two photographs belong to."""
    line = series.line(side, mode)
    assert line is not None
    one = next((s for s in line.sessions if a in s.trial_ids), None)
    two = next((s for s in line.sessions if b in s.trial_ids), None)
    if one is None or two is None:
        return "One of these photographs does not count in the series, so there is no verdict."
    if one is two:
        return "Both photographs are of the same assessment."
    if one.day > two.day:
        one, two = two, one
    return verdicts.say_gain(gain(one, two, series.better), "earlier one")


def shown(tid: int, pose: Pose, side: str, family: str) -> Shown:
    """A marked photograph placed in the shared picture, with the fan of a family of measures."""
    trial = own_trial(tid)
    photo = photos.get(db(), coach_id(), trial.photo_id) or abort(404)
    if trial.pose != pose.id:
        abort(404)
    newest = markings.history(db(), coach_id(), tid)[:1] or abort(404)
    who = own_practitioner(trial.practitioner_id)
    position = positions.get(db(), coach_id(), trial.position_id or 0) or abort(404)
    result: Result | None = None
    try:
        scene = scenes.scene_of(who, photo, trial, position, newest[0])
        result = measure(scene, catalogue(), drawn=True)
    except SceneError:
        pass
    own = [m for m in pose.headlines if m.family == family and m.side in (None, side)]
    vertex, end = anchors(own, newest[0].marks)
    fan, reading, value = "", "", None
    if result is not None:
        longer = max(photo.width, photo.height)
        sides = {m.id: m.side or trial.side for m in pose.measures}
        drawn = [f for f in result.fans if f.measure in {m.id for m in own}]
        fan = overlay.fans(drawn, result.readings, sides, longer)
        headline = next(
            (r for r in result.readings if r.headline and r.id in {m.id for m in own}), None
        )
        if headline is not None:
            reading, value = overlay.degrees(headline), headline.value
    return Shown(
        trial,
        photo,
        own_assessment(trial.assessment_id).taken_at,
        align(vertex, end),
        fan,
        reading,
        value,
    )


def anchors(measures: Sequence[Measure], marks: Mapping[str, Point]) -> tuple[Point, Point]:
    """The two marks photographs are aligned on: the headline's joint and the end of its limb."""
    for m in measures:
        if m.fan is not None and m.fan.vertex in marks and m.fan.to in marks:
            return marks[m.fan.vertex], marks[m.fan.to]
    first, second = list(marks.values())[:2]
    return first, second


def align(vertex: Point, end: Point) -> str:
    """SVG transform that brings the joint to the middle and the limb to one length.

    The pictures are not turned: what is level in one stays level in the other.
    """
    scale = SEGMENT / max(math.dist(vertex, end), 1.0)
    x, y = WIDTH / 2 - scale * vertex[0], 0.66 * HEIGHT - scale * vertex[1]
    return f"translate({x:.1f} {y:.1f}) scale({scale:.4f})"
