"""What the overview of a practitioner is made of, from digests, goals and rules."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any

from dachi.core import trend as trends
from dachi.core import verdicts
from dachi.core.catalogue import Measure, Pose
from dachi.core.limiter import Limiter, limiters
from dachi.core.series import Line, Series
from dachi.core.trend import Forecast
from dachi.data import catalogue, limiter_rules
from dachi.drawing.hip import Range
from dachi.store.digests import Digest
from dachi.store.goals import Goal
from dachi.web.digests import readings_of
from dachi.web.words import day

EPOCH = datetime.fromtimestamp(0)


def date_of(day_number: float) -> date:
    """The date of a day on the series' scale."""
    return (EPOCH + timedelta(days=day_number)).date()


def day_number(iso: str) -> float:
    """A date (ISO) on the series' scale, at noon."""
    return (datetime.fromisoformat(iso[:10]) + timedelta(hours=12) - EPOCH).total_seconds() / 86400


def hip_ranges(found: Iterable[Digest]) -> dict[str, dict[str, Range]]:
    """For each side, the range in every direction that a measured pose stands for.

    Where two poses measure a direction the one that isolates it better comes first, which is
    the order of demand the catalogue has them in.
    """
    by_pose = {d.pose: d for d in found}
    sides: dict[str, dict[str, Range]] = {"left": {}, "right": {}}
    for pose in catalogue().poses:
        digest = by_pose.get(pose.id)
        if digest is None:
            continue
        for f in digest.body["families"]:
            motion = f.get("motion")
            if not motion or f["unit"] != "deg" or f["better"] != "higher":
                continue
            for side, ranges in sides.items():
                own = [x for x in f["lines"] if x["side"] in (side, "both")]
                if not own or motion in ranges:
                    continue
                # A measure of both legs together opens half of it to either side.
                share = 0.5 if own[0]["side"] == "both" and motion == "abduction" else 1.0
                value = {x["mode"]: share * x["value"] for x in own}
                before = next((x["before"] for x in own if x["mode"] == "passive"), None)
                ranges[motion] = Range(
                    value.get("active"),
                    value.get("passive"),
                    share * before if before is not None else None,
                    pose.name,
                )
    return sides


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
        side = "" if self.side == "both" else f", {self.side}"
        certainty = "Likely" if self.limiter.sure else "Perhaps"
        return f"{self.pose.name}{side}: {certainty.lower()} {self.limiter.rule.tissue}"

    @property
    def readings(self) -> str:
        """The readings behind it."""
        return "; ".join(
            f"{catalogue().pose(r.pose).name.lower()} {r.mode}"
            f"{'' if r.side == 'both' else ' ' + r.side} {verdicts.plain(r.value, r.unit)}"
            for r in self.limiter.readings
        )


def held_back(found: list[Digest], goals: Iterable[Goal]) -> list[Held]:
    """Likely limiters of the goal poses; of every measured pose where no goal is set."""
    wanted = [(g.pose, g.side) for g in goals]
    if not wanted:
        wanted = [
            (d.pose, line["side"]) for d in found for f in d.body["families"] for line in f["lines"]
        ]
    readings = readings_of(found)
    found_by: dict[tuple[str, str], Held] = {}
    for pose_id, side in dict.fromkeys(wanted):
        if pose_id not in catalogue():
            continue
        for one in limiters(pose_id, side, readings, limiter_rules(), catalogue())[:1]:
            key = (pose_id, one.rule.id)
            if key in found_by:
                # The same on either side is said once, with the readings of both.
                before = found_by[key].limiter
                told = tuple(dict.fromkeys((*before.readings, *one.readings)))
                one, side = replace(one, readings=told, sure=one.sure and before.sure), "both"
            settle = catalogue().pose(one.rule.settle_pose)
            found_by[key] = Held(catalogue().pose(pose_id), side, one, settle)
    return sorted(found_by.values(), key=lambda h: not h.limiter.sure)


def say_forecast(goal: Goal, line: Line | None, measure: Measure) -> tuple[str, str]:
    """Status (``ok``, ``watch`` or ``unmarked``) and sentence: is the goal within reach in time?"""
    if line is None or not line.sessions:
        return "unmarked", "Not measured yet."
    last = line.sessions[-1]
    now = f"now {verdicts.plain(last.value, measure.unit)}"
    found: Forecast = trends.forecast(line, goal.target)
    if found.state == "reached":
        return "ok", f"Reached ({now})."
    if found.state == "too early":
        return "unmarked", f"{now.capitalize()}; four assessments tell how fast it goes."
    if found.state == "not at this rate":
        return "watch", f"{now.capitalize()}; not at this rate."
    assert found.earliest is not None
    early = day(date_of(found.earliest).isoformat())
    if found.latest is None:
        text = f"not before {early}, and the end cannot be told yet"
    else:
        text = f"between {early} and {day(date_of(found.latest).isoformat())} (four times in five)"
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
        return f"Nothing has moved that could be told for {verdicts.span(flat.days)}."
    found = trends.trend(line)
    if found is None:
        return ""
    mark = verdicts.UNITS[unit]
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
    found = [r for line in series.lines if (r := trends.retest(line)) is not None]
    if not found:
        return ""
    first = min(found, key=lambda r: r.day)
    return f"Next look from {day(date_of(first.day).isoformat())}: {first.reason}."


def changes(found: Iterable[Digest]) -> list[dict[str, Any]]:
    """News of every pose, newest first."""
    return sorted((n for d in found for n in d.news), key=lambda n: str(n["at"]), reverse=True)
