"""A person's measures as small charts, and their goals as distances."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from dachi.core.catalogue.poses import Pose
from dachi.core.judging import wording
from dachi.data import catalogue
from dachi.drawing import small_charts
from dachi.drawing.small_charts import Course
from dachi.store.goals import Goal
from dachi.store.summaries import FamilySummary, LineSummary, PoseSummary
from dachi.studio.verdicts.histories import family_now

#: An interval of more than this, degrees or cm, that exceeds its value gets a word.
WIDE_FROM = 5.0


@dataclass(frozen=True)
class SideTile:
    """One side of a measure in words: today, the other mode, what became of it."""

    side: str
    mode: str
    value: str
    give: str
    other: str
    change: str
    stage: str
    tone: str


@dataclass(frozen=True)
class Tile:
    """One measure of a pose: its chart and, for each side, its numbers in words."""

    pose: Pose
    family: str
    label: str
    drawing: str
    sides: tuple[SideTile, ...]
    lower: bool
    wide: bool


def tiles(found: Sequence[PoseSummary], goals: Sequence[Goal]) -> list[Tile]:
    """Every measure that was charted: the goals' poses first, then by what moved most."""
    wanted = {g.pose for g in goals}
    made = [
        (d.pose in wanted, _moved(f), _tile(d, f, goals))
        for d in found
        if d.pose in catalogue()
        for f in d.families
        if f.lines
    ]
    made.sort(key=lambda row: (not row[0], -row[1]))
    return [tile for _, _, tile in made]


def _moved(family: FamilySummary) -> float:
    return max((abs(x.first.change) / max(x.first.mdc, 1e-6) for x in family.lines if x.first),
               default=0.0)  # fmt: skip


def _tile(d: PoseSummary, f: FamilySummary, goals: Sequence[Goal]) -> Tile:
    pose = catalogue().pose(d.pose)
    targets = {
        x.side: g.target
        for g in goals
        for x in f.lines
        if (g.pose, family_now(g)) == (d.pose, f.family) and g.side == x.side
    }
    courses = [Course(x.side, x.mode, x.course) for x in f.lines if x.course]
    drawing = small_charts.draw(courses, _said(pose, f), targets) if courses else ""
    sides = tuple(
        _side(f, [x for x in f.lines if x.side == side])
        for side in dict.fromkeys(x.side for x in f.lines)
    )
    wide = any(x.half > max(abs(x.value), WIDE_FROM) for x in f.lines)
    return Tile(pose, f.family, f.label, drawing, sides, f.better == "lower", wide)


def _side(f: FamilySummary, lines: Sequence[LineSummary]) -> SideTile:
    main = next((x for x in lines if x.mode == "passive"), lines[0])
    rest = [x for x in lines if x is not main]
    change, stage, tone = _became(main, f.unit)
    return SideTile(
        main.side, main.mode, wording.plain(main.value, f.unit),
        wording.plain(main.half, f.unit),
        ", ".join(f"{x.mode} {wording.plain(x.value, f.unit)}" for x in rest),
        change, stage, tone,
    )  # fmt: skip


def _became(x: LineSummary, unit: str) -> tuple[str, str, str]:
    """The change since the first time, what it amounts to, and its tone."""
    if x.first is None:
        return "", "first time", "none"
    change = wording.signed(x.first.change, unit)
    if x.first.stage is None:
        return change, "could be chance", "none"
    tone = "gain" if x.first.verdict.value.endswith("gain") else "loss"
    return change, "confirmed" if x.first.confirmed else "a first sign", tone


def _said(pose: Pose, f: FamilySummary) -> str:
    """What a tile's chart shows, for those who do not see it."""
    parts = []
    for x in f.lines:
        side = "" if x.side == "both" else f"{x.side} "
        start = x.course[0][1] if x.course else x.value
        course = f"from {wording.plain(start, f.unit)} to {wording.plain(x.value, f.unit)}"
        visits = f"in {x.sessions} visits" if x.sessions > 1 else "once"
        parts.append(f"{side}{x.mode} {course} {visits}")
    return f"{pose.name}, {f.label}: {'; '.join(parts)}."


@dataclass(frozen=True)
class Distance:
    """A goal with its way: drawn, and in words."""

    goal: Goal
    name: str
    state: str
    words: str
    drawing: str
    now: str


def distances(
    found: Sequence[PoseSummary], states: Sequence[tuple[Goal, str, str, str]]
) -> list[Distance]:
    """Goals as distances; those of poses not measured yet have no drawing."""
    made = []
    for goal, name, state, words in states:
        family, line = next(
            (
                (f, x)
                for d in found
                for f in d.families
                for x in f.lines
                if (d.pose, f.family, x.side, x.mode)
                == (goal.pose, family_now(goal), goal.side, goal.mode)
            ),
            (None, None),
        )
        drawing = now = ""
        if family is not None and line is not None and line.course:
            now = wording.plain(line.value, family.unit)
            drawing = small_charts.distance(
                line.course[0][1], line.value, line.half, goal.target, f"{name}. {words}", line.side
            )
        made.append(Distance(goal, name, state, words, drawing, now))
    return made
