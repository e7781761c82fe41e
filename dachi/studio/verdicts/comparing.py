"""Marked photographs of one pose, placed over each other, and what their difference means."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import wording
from dachi.core.judging.series import Series, SessionValue, alone, gain
from dachi.core.judging.stages import stage_of
from dachi.core.measuring.angle_fans import drawn_fan
from dachi.core.measuring.scene import FanDrawing, Point
from dachi.drawing import overlay
from dachi.store import assessments, markings
from dachi.store.assessments import Trial
from dachi.store.photos import Photo
from dachi.studio.bench.around import Around
from dachi.studio.verdicts.summaries import Staged

#: The shared picture: its size, and how long the aligned segment is in it.
WIDTH, HEIGHT, SEGMENT = 1000.0, 760.0, 180.0


@dataclass(frozen=True)
class PlacedPhoto:
    """One photograph placed in the shared picture, with the fan of its measure."""

    trial: Trial
    photo: Photo
    taken_at: str
    transform: str
    fan: str
    reading: str
    value: float | None
    #: Shift (x, y) and scale that ``transform`` says, and what ``fan`` draws.
    place: tuple[float, float, float]
    fans: tuple[FanDrawing, ...] = ()


def placed(around: Around, trial_id: int, pose: Pose, side: str, family: str) -> PlacedPhoto | None:
    """A person's marked photograph in the shared picture; None where it is not one of this pose."""
    work = around.work
    trial = assessments.trial(work.db, work.coach, trial_id)
    if trial is None or trial.pose != pose.id or trial.read_from is not None:
        return None
    visit = around.visits.get(trial.assessment_id)
    newest = markings.history(work.db, work.coach, trial_id)[:1]
    if not newest or visit is None:
        return None
    photo = around.shots(trial.assessment_id).photos[trial.photo_id]
    own = [m for m in pose.headlines if m.family == family and m.side in (None, side)]
    ids = {m.id for m in own}
    readings = markings.readings(work.db, work.coach, trial_id)
    laid = [f for f in markings.fans(work.db, work.coach, trial_id) if f.measure in ids]
    sides = {m.id: m.side or trial.side for m in pose.measures}
    fan = overlay.fans(laid, readings, sides, max(photo.width, photo.height))
    headline = next((r for r in readings if r.headline and r.id in ids), None)
    reading, value = ("", None) if headline is None else (overlay.degrees(headline), headline.value)
    place = align(*anchors(pose, own, newest[0].marks))
    transform = f"translate({place[0]:.1f} {place[1]:.1f}) scale({place[2]:.4f})"
    drawn = tuple(f for f in map(drawn_fan, laid) if f is not None)
    return PlacedPhoto(trial, photo, visit.taken_at, transform, fan, reading, value, place, drawn)


def typical(
    around: Around, session: SessionValue, pose: Pose, side: str, family: str
) -> PlacedPhoto | None:
    """The photograph whose reading is nearest to what its session counts as."""
    work = around.work
    ids = {m.id for m in pose.headlines if m.family == family and m.side in (None, side)}

    def away(trial_id: int) -> float:
        own = markings.readings(work.db, work.coach, trial_id)
        return min((abs(r.value - session.value) for r in own if r.id in ids), default=math.inf)

    near = sorted(session.trial_ids, key=away)
    found = (placed(around, t, pose, side, family) for t in near)
    return next((p for p in found if p is not None), None)


def say_difference(
    series: Series, side: str, mode: str, a: int, b: int, unit: str, staged: Staged
) -> tuple[str, ...]:
    """What two photographs (trial ids) show, and apart from it what their visits do.

    ``staged``: the stage of the line's change from its first visit to its last, and why.
    """
    line = series.line(side, mode)
    assert line is not None
    one = next((s for s in line.sessions if a in s.trial_ids), None)
    two = next((s for s in line.sessions if b in s.trial_ids), None)
    if one is None or two is None:
        return ("One of these photographs does not count in the series, so there is no verdict.",)
    if one is two:
        return ("Both photographs are of the same assessment.",)
    if one.day > two.day:
        one, two, a, b = two, one, b, a
    first, second = alone(line, a), alone(line, b)
    assert first is not None and second is not None
    whole = one is line.sessions[0] and two is line.sessions[-1]
    # From the first visit to the last it is the change that every page shows.
    change = (line.since_first if whole else None) or gain(one, two, series.better)
    stage, why = staged if whole else (stage_of(change.real, False), "")
    since = wording.say_start(line) if whole else "earlier visit"
    visits = wording.say_gain(change, since, unit, (stage, why))
    return (
        wording.say_two_shots(gain(first, second, series.better), unit),
        f"Their visits, all trials together: {visits}",
    )


def anchors(
    pose: Pose, measures: Sequence[Measure], marks: Mapping[str, Point]
) -> tuple[Point, Point]:
    """The two marks photographs are aligned on: the headline's joint and the end of its bone."""
    for m in measures:
        if m.fan is not None and m.fan.vertex in marks and m.fan.to in marks:
            # A line over two bones is aligned on the first.
            between = pose.mark(m.fan.to).parent
            end = between if between in marks and between != m.fan.vertex else m.fan.to
            return marks[m.fan.vertex], marks[end or m.fan.to]
    first, second = list(marks.values())[:2]
    return first, second


def align(vertex: Point, end: Point) -> tuple[float, float, float]:
    """Shift (x, y) and scale that bring the joint to the middle and the limb to one length.

    The pictures are not turned: what is level in one stays level in the other.
    """
    scale = SEGMENT / max(math.dist(vertex, end), 1.0)
    x, y = WIDTH / 2 - scale * vertex[0], 0.66 * HEIGHT - scale * vertex[1]
    return x, y, scale
