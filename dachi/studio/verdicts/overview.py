"""What the overview of a practitioner is made of, from digests, goals and rules."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import trend as trends
from dachi.core.judging import wording
from dachi.core.judging.forecast import Forecast, ForecastState, forecast
from dachi.core.judging.limiters import Limiter
from dachi.core.judging.series import Line, Series, Verdict
from dachi.core.practising import person as persons
from dachi.data import catalogue, rules
from dachi.drawing.hip import DrawnRange
from dachi.store.goals import Goal
from dachi.store.practitioners import Practitioner
from dachi.store.summaries import Change, LineSummary, News, NewsKind, PoseSummary
from dachi.studio.phrases import say_day
from dachi.studio.verdicts.histories import date_of, day_number
from dachi.studio.verdicts.summaries import judged, named, readings_of
from dachi.studio.work import Work


def hip_ranges(found: Iterable[PoseSummary]) -> dict[str, dict[str, DrawnRange]]:
    """For each side, the range in every direction that a measured pose stands for.

    Where two poses measure a direction the one that isolates it better comes first, which is
    the order of demand the catalogue has them in. Apparent ranges, which have the back in them, are
    not the hip's and are left out.
    """
    by_pose = {d.pose: d for d in found}
    sides: dict[str, dict[str, DrawnRange]] = {"left": {}, "right": {}}
    for pose in catalogue().poses:
        summary = by_pose.get(pose.id)
        apparent = {m.family for m in pose.measures if m.apparent}
        for f in summary.families if summary is not None else ():
            if not f.motion or f.unit != "deg" or f.better != "higher" or f.family in apparent:
                continue
            for side, ranges in sides.items():
                own = [x for x in f.lines if f.hip_of(x.side) in (side, "both")]
                if own and f.motion not in ranges:
                    ranges[f.motion] = _range(own, f.motion, pose.name)
    return sides


def _range(own: Sequence[LineSummary], motion: str, pose_name: str) -> DrawnRange:
    """The range that the lines of one side say of a direction."""
    # A measure of both legs together opens half of it to either side.
    share = 0.5 if own[0].side == "both" and motion == "abduction" else 1.0
    value = {x.mode: share * x.value for x in own}
    before = next((x.before for x in own if x.mode == "passive"), None)
    return DrawnRange(
        value.get("active"),
        value.get("passive"),
        share * before if before is not None else None,
        pose_name,
    )


@dataclass(frozen=True)
class Held:
    """A goal pose with what likely holds it back, ready to be said."""

    pose: Pose
    side: str
    limiter: Limiter
    settle: Pose

    @property
    def sentence(self) -> str:
        """The likely limiter in a sentence."""
        certainty = "Likely" if self.limiter.sure else "Perhaps"
        return f"{self.pose.named(self.side)}: {certainty.lower()} {self.limiter.rule.tissue}"

    @property
    def readings(self) -> str:
        """The readings behind it."""
        return "; ".join(
            f"{catalogue().pose(r.pose).name.lower()} {r.mode}"
            f"{'' if r.side == 'both' else ' ' + r.side} {wording.plain(r.value, r.unit)}"
            for r in self.limiter.readings
        )


def held_back(found: Sequence[PoseSummary], goals: Iterable[Goal]) -> list[Held]:
    """Likely limiters of the goal poses; of every measured pose where no goal is set."""
    found_by: dict[tuple[str, str], Held] = {}
    wanted = [(g.pose, g.side) for g in goals]
    for pose_id, side, one in persons.held_back(wanted, readings_of(found), rules()):
        key = (pose_id, one.rule.id)
        if key in found_by:
            # The same on either side is said once, with the readings of both.
            before = found_by[key].limiter
            told = tuple(dict.fromkeys((*before.readings, *one.readings)))
            one, side = replace(one, readings=told, sure=one.sure and before.sure), "both"
        settle = catalogue().pose(one.rule.settle.pose)
        found_by[key] = Held(catalogue().pose(pose_id), side, one, settle)
    return sorted(found_by.values(), key=lambda h: not h.limiter.sure)


def say_forecast(goal: Goal, line: Line | None, measure: Measure) -> tuple[str, str]:
    """Status (``ok``, ``watch`` or ``unmarked``) and sentence: is the goal within reach in time?"""
    if line is None or not line.sessions:
        return "unmarked", "Not measured yet."
    last = line.sessions[-1]
    now = f"now {wording.plain(last.value, measure.unit)}"
    found: Forecast = forecast(line, goal.target)
    if found.state is ForecastState.REACHED:
        return "ok", f"Reached ({now} ± {wording.plain(last.half, measure.unit)})."
    if found.state is ForecastState.NEAR:
        give = wording.plain(last.half, measure.unit)
        return "watch", f"There by its value ({now} ± {give}), but one more look has to tell."
    flat = trends.plateau(line)
    if flat is not None:
        # Standing still and a date exclude each other: one statement for both.
        still = wording.span(flat.days)
        return "watch", (
            f"{now.capitalize()}; nothing has moved that could be told for {still}: no date can be "
            "given, change something first."
        )
    if found.state is ForecastState.TOO_EARLY:
        return "unmarked", f"{now.capitalize()}; four assessments tell how fast it goes."
    if found.state is ForecastState.NOT_AT_THIS_RATE:
        if found.level is None:
            return "watch", f"{now.capitalize()}; too slow to reach it: change something."
        level = wording.plain(found.level, measure.unit)
        return "watch", (
            f"{now.capitalize()}; it slows down and would level off near {level}: change something."
        )
    assert found.earliest is not None
    early = say_day(date_of(found.earliest).isoformat())
    if found.latest is None:
        text = f"not before {early}, and the end cannot be told yet"
    else:
        text = (
            f"between {early} and {say_day(date_of(found.latest).isoformat())} (four times in five)"
        )
    status = "ok"
    if goal.due_on:
        due = day_number(goal.due_on)
        if due < found.earliest:
            return "watch", f"{now.capitalize()}; {text}: later than the date set."
        if found.latest is None or due < found.latest:
            status, text = "watch", f"{text}: the date set may be too early"
        else:
            text += ": in time"
    return status, f"{now.capitalize()}; {text}."


def trend_words(line: Line, unit: str) -> str:
    """Slope or plateau of a line, empty where there is neither."""
    flat = trends.plateau(line)
    if flat is not None:
        return f"Nothing has moved that could be told for {wording.span(flat.days)}."
    found = trends.trend(line)
    if found is None:
        return ""
    mark = wording.UNITS[unit]
    if not found.clear:
        return (
            f"About {found.slope:+.1f}{mark} a week, between {found.low:+.1f} and "
            f"{found.high:+.1f}: the direction is not certain."
        ).replace("-", "−")
    return (
        f"{found.slope:+.1f}{mark} a week (95 %: {found.low:+.1f} to {found.high:+.1f})."
    ).replace("-", "−")


def retest_words(series: Series) -> str:
    """When the next look can first show something, from the line that needs least time."""
    found = trends.next_looks(series)
    if not found:
        return ""
    first = min(found, key=lambda r: r.day)
    return f"Next look from {say_day(date_of(first.day).isoformat())}: {first.reason}."


def changes(found: Sequence[PoseSummary]) -> list[News]:
    """What has changed: losses with pain or since the last visit, then since the first visit what
    is confirmed and first signs, then news.
    """
    told = [n for d in found for n in d.news if n.pained]
    pained = {n.line for n in told}
    for d in found:
        for f, x in ((own, line) for own in d.families for line in own.lines):
            back = x.last
            line = (d.pose, f.family, x.side, x.mode)
            if back is None or back.stage is None or line in pained:
                continue
            if back.verdict is Verdict.LOSS:
                size = f"{wording.signed(back.change, f.unit)} ± {wording.plain(back.mdc, f.unit)}"
                text = f"{named(d.pose, x)}: {size} since the last visit, {_staged(back)}"
                day = (x.taken_at or "")[:10]
                told.append(News(NewsKind.LOSS, text, d.pose, f.family, day, x.side, x.mode))
    lines = [
        (d, f, x, x.first)
        for d in found
        for f in d.families
        for x in f.lines
        if x.first is not None and x.first.stage is not None
    ]
    lines.sort(key=lambda r: (not r[3].confirmed, -abs(r[3].change) / max(r[3].mdc, 1e-6)))
    for d, f, x, change in lines:
        size = f"{wording.signed(change.change, f.unit)} ± {wording.plain(change.mdc, f.unit)}"
        gained = change.verdict is Verdict.GAIN
        kind = NewsKind.GAIN if gained else NewsKind.LOSS
        said = f"{size} over {wording.span(change.days)}, {_staged(change)}"
        text = f"{named(d.pose, x)}: {said}"
        day = (x.taken_at or "")[:10]
        told.append(News(kind, text, d.pose, f.family, day, x.side, x.mode))
    seen = {n.line for n in told}
    plain = [n for d in found for n in d.news if n.line not in seen]
    return [*told, *sorted(plain, key=lambda n: n.at, reverse=True)]


def _staged(change: Change) -> str:
    if not change.confirmed:
        return "a first sign"
    return f"{change.why}: confirmed" if change.why else "confirmed"


def goal_state(work: Work, who: Practitioner, goal: Goal) -> tuple[str, str, str]:
    """Words for the goal's measure, its state and whether it is within reach."""
    pose = catalogue().pose(goal.pose)
    measure = pose.now(goal.family)
    series = judged(work, who.id, pose, measure.family)
    line = series.line(goal.side, goal.mode)
    target = wording.plain(goal.target, measure.unit)
    name = f"{pose.named(goal.side, goal.mode)}: {measure.family_label} {target}"
    if goal.family != measure.family:
        old = next((m.family_label for m in pose.charted if m.family == goal.family), goal.family)
        name += f", carried over from “{old}”"
    return name, *say_forecast(goal, line, measure)
