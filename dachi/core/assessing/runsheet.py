"""The order of an assessment: which shots, in which order, and how long they take."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from dachi.core.body.anatomy import MODES, other_side
from dachi.core.catalogue.poses import Catalogue, Pose

#: Seconds that the parts of an assessment take a practised coach.
TRIAL_S, SIDE_S, POSE_S, CAMERA_S, COUNTER_S, MARK_S = 35, 20, 40, 75, 40, 25
#: From this demand on a pose is deep: the person moves the other way before the next one.
DEEP = 5
MOST_TRIALS = 3

T = TypeVar("T")


@dataclass(frozen=True)
class SheetLine:
    """One row of the sheet: a pose on one side in one mode, and how many trials of it."""

    pose: str
    side: str
    mode: str
    trials: int = 2


@dataclass(frozen=True)
class Slot:
    """A place for one photograph."""

    pose: str
    side: str
    mode: str
    number: int

    @property
    def key(self) -> str:
        """The place as one text, as forms and records have it."""
        return f"{self.pose}|{self.side}|{self.mode}|{self.number}"


def sides(pose: Pose, first: str) -> tuple[str, ...]:
    """The sides of a pose in the order they are photographed."""
    return ("both",) if pose.sides == "both" else (first, other_side(first))


def lines_for(
    pose: Pose, first: str, trials: int = 2, refused: Collection[str] = ()
) -> tuple[SheetLine, ...]:
    """The rows of a pose: both sides, active before passive; ``refused`` modes left out."""
    return tuple(
        SheetLine(pose.id, side, mode, trials)
        for side in sides(pose, first)
        for mode in MODES
        if mode in pose.modes and mode not in refused
    )


def with_beside(lines: Sequence[SheetLine], pose: Pose, beside: Pose) -> tuple[SheetLine, ...]:
    """The sheet with the rows of a second photograph of the same hold, right behind the first's.

    ``beside`` is photographed in the rows (side and mode) that ``pose`` has, where it has them.
    """
    own = [x for x in lines if x.pose == pose.id]
    there = {(x.side, x.mode) for x in lines if x.pose == beside.id}
    rows = [
        SheetLine(beside.id, x.side, x.mode, x.trials)
        for x in own
        if x.mode in beside.modes
        and x.side in sides(beside, "left")
        and (x.side, x.mode) not in there
    ]
    at = max((i for i, x in enumerate(lines) if x.pose == pose.id), default=-1) + 1
    return (*lines[:at], *rows, *lines[at:])


def first_side(before: Sequence[str]) -> str:
    """The side that goes first, given the first sides of earlier visits, newest first.

    It alternates, so that neither side is always the one photographed warmer.
    """
    return other_side(before[0]) if before and before[0] in ("left", "right") else "left"


def build(
    catalogue: Catalogue,
    *,
    goals: Collection[str],
    measured: Mapping[str, int],
    first: str,
    limits: Mapping[str, Collection[str]] | None = None,
    refused: Callable[[Pose, str, str], bool] = lambda _pose, _mode, _side: False,
    trials: int = 2,
) -> tuple[SheetLine, ...]:
    """The sheet for a visit; a pose, mode and side that is ``refused`` is not on it.

    ``goals`` and the poses ``measured`` before (pose id to number of visits) are taken
    again, with the poses that tell what limits a goal (``limits``: goal to pose ids). Without
    either, a first visit takes the least demanding pose for each direction of the hip. Order:
    least to most demanding, within a demand one view after the other.
    """
    wanted = {p for p in (*goals, *measured) if p in catalogue}
    for goal in goals:
        wanted |= {p for p in (limits or {}).get(goal, ()) if p in catalogue}
    if not wanted:
        wanted = first_visit(catalogue)
    poses = ordered([catalogue.pose(p) for p in wanted])
    return tuple(
        line
        for p in poses
        for line in lines_for(p, first, trials)
        if not refused(p, line.mode, line.side)
    )


def first_visit(catalogue: Catalogue) -> set[str]:
    """The least demanding pose with a passive form for each direction a hip moves in."""
    found: dict[str, Pose] = {}
    for pose in sorted(catalogue.poses, key=lambda p: (p.demand, p.id)):
        for m in pose.headlines:
            if m.motion and "passive" in pose.modes:
                found.setdefault(m.motion, pose)
    return {p.id for p in found.values()}


def ordered(poses: Iterable[Pose]) -> tuple[Pose, ...]:
    """Least to most demanding; within a demand, one view after the other."""
    left = sorted(poses, key=lambda p: (p.demand, p.view, p.id))
    found: list[Pose] = []
    while left:
        lowest = left[0].demand
        near = [p for p in left if p.demand == lowest]
        same = [p for p in near if found and p.view == found[-1].view]
        found.append((same or near)[0])
        left.remove(found[-1])
    return tuple(found)


def minutes(lines: Sequence[SheetLine], catalogue: Catalogue) -> float:
    """How long the photographs, their marking and the moving in between will take, min."""
    seconds = 0.0
    before: SheetLine | None = None
    for line in lines:
        pose = catalogue.pose(line.pose)
        seconds += line.trials * (TRIAL_S + MARK_S)
        if before is None or before.pose != line.pose:
            seconds += POSE_S
            if before is None or catalogue.pose(before.pose).setup != pose.setup:
                seconds += CAMERA_S
            if before is not None and catalogue.pose(before.pose).demand >= DEEP:
                seconds += COUNTER_S
        elif before.side != line.side:
            seconds += SIDE_S
        before = line
    return seconds / 60.0


def slots(lines: Iterable[SheetLine]) -> tuple[Slot, ...]:
    """Every place for a photograph, in the order they are taken."""
    return tuple(Slot(x.pose, x.side, x.mode, n) for x in lines for n in range(1, x.trials + 1))


def move(lines: Sequence[SheetLine], pose: str, step: int) -> tuple[SheetLine, ...]:
    """Take a pose's rows earlier (-1) or later (+1) among the poses."""
    order = list(dict.fromkeys(x.pose for x in lines))
    at = order.index(pose)
    to = min(max(at + step, 0), len(order) - 1)
    order.insert(to, order.pop(at))
    return tuple(x for p in order for x in lines if x.pose == p)


def with_trials(
    lines: Sequence[SheetLine], key: tuple[str, str, str], trials: int
) -> tuple[SheetLine, ...]:
    """Take another number of trials in one row; none drops it."""
    changed = [
        replace(x, trials=min(trials, MOST_TRIALS)) if (x.pose, x.side, x.mode) == key else x
        for x in lines
    ]
    return tuple(x for x in changed if x.trials > 0)


def state(statuses: Sequence[tuple[str, bool]], trials: int) -> str:
    """State of a row from its photographs' (status, kept by choice).

    ``empty``, ``photographed`` (something is unmarked), ``retake`` (a check asks for it and
    no valid trial stands in), ``marked`` (fewer valid trials than wanted) or ``valid``.
    """
    if not statuses:
        return "empty"
    if any(s == "unmarked" for s, _ in statuses):
        return "photographed"
    good = sum(s in ("ok", "watch") or kept for s, kept in statuses)
    if good < len(statuses) and good < trials:
        return "retake"
    return "valid" if good >= trials else "marked"


def sort_onto(
    photographs: Sequence[tuple[T, str | None]],
    places: Sequence[Slot],
    seen: Mapping[T, tuple[str, str]] | None = None,
) -> tuple[tuple[T, Slot | None], ...]:
    """Lay photographs onto free places by capture time, then by the order they came in.

    ``photographs``: (key, ISO capture time or None). Ones without a time follow the one they
    came in after. Those whose pose (and side, if not empty) was ``seen`` take its first free
    place, the rest what is left in the sheet's order. What has no place is left with None.
    """
    last = ""
    stamped = []
    for index, (key, taken_at) in enumerate(photographs):
        last = taken_at or last
        stamped.append((last, index, key))
    keys = [key for _, _, key in sorted(stamped, key=lambda s: s[:2])]
    free, laid = [*places], {}
    for key in keys:
        shown = (seen or {}).get(key)
        own = next((s for s in free if shown and _shows(s, *shown)), None)
        if own is not None:
            laid[key] = own
            free.remove(own)
    rest = iter(free)
    # A pose that was seen and has no place is not put where another belongs.
    return tuple(
        (k, laid[k] if k in laid else None if k in (seen or {}) else next(rest, None)) for k in keys
    )


def _shows(slot: Slot, pose: str, side: str) -> bool:
    return slot.pose == pose and (not side or slot.side == side)
