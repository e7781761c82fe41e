"""The run sheet as pages show it: stations, their rows, and what comes next."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from dachi.core.assessing import runsheet
from dachi.core.assessing.runsheet import SheetLine, Slot
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue, limiter_rules
from dachi.store import assessments, goals, markings, practitioners, run_sheets
from dachi.store.assessments import Assessment, Trial
from dachi.studio.visits.allowed import allowed
from dachi.studio.work import Work


@dataclass(frozen=True)
class Row:
    """One line of the sheet with its photographs by trial number; why it is not taken now."""

    line: SheetLine
    cells: dict[int, Trial]
    state: str
    refused: str | None = None

    @property
    def numbers(self) -> range:
        """Trials shown: those wanted, any taken beyond, and one more where a retake is due.

        Of a row that is refused only what is there already.
        """
        if self.refused:
            return range(1, max(self.cells, default=0) + 1)
        last = max([self.line.trials, *self.cells])
        more = self.state == "retake" and len(self.cells) >= last and last < 9
        return range(1, last + 1 + more)


@dataclass(frozen=True)
class Station:
    """A pose of the sheet: its rows, the minutes it takes, and the movement before it."""

    pose: Pose
    rows: tuple[Row, ...]
    minutes: float
    counter: str
    camera_moves: bool

    @property
    def refused(self) -> str | None:
        """Why nothing of it is taken now; None where some row of it may be."""
        said = [r.refused for r in self.rows]
        return said[0] if said and all(said) else None

    @property
    def state(self) -> str:
        """The state that matters most of its rows: those that may be taken, else of all."""
        states = {r.state for r in self.rows if not r.refused} or {r.state for r in self.rows}
        for one in ("retake", "photographed"):
            if one in states:
                return one
        if states == {"valid"}:
            return "valid"
        return "empty" if states == {"empty"} else "marked"


def new_lines(
    work: Work, practitioner_id: int, aims: Collection[str] = ()
) -> tuple[SheetLine, ...]:
    """The sheet for a visit, from aims, goals, history and what the screening allows."""
    pid = practitioner_id
    earlier = run_sheets.first_sides(work.db, work.coach, pid)
    return runsheet.build(
        catalogue(),
        goals=wanted(work, pid) | set(aims),
        measured=markings.measured_poses(work.db, work.coach, pid),
        first=runsheet.first_side(earlier),
        limits=_limits(),
        refused=allowed(work, pid).closed,
    )


def usual_minutes(work: Work, practitioner_id: int) -> float:
    """How long the sheet of a visit would take, minutes."""
    return runsheet.minutes(new_lines(work, practitioner_id), catalogue())


def wanted(work: Work, practitioner_id: int) -> set[str]:
    """Poses somebody has goals in, or without any those they came for."""
    set_goals = {g.pose for g in goals.of_practitioner(work.db, work.coach, practitioner_id)}
    who = practitioners.get(work.db, work.coach, practitioner_id)
    return set_goals or (set(who.comes_for) & set(_limits()) if who is not None else set())


def may_come_for() -> list[Pose]:
    """Poses somebody may come for: those with rules that tell what holds them back."""
    return sorted((catalogue().pose(p) for p in _limits()), key=lambda p: p.name)


def _limits() -> dict[str, set[str]]:
    """For each pose somebody may aim at, the poses that tell what holds it back."""
    found: dict[str, set[str]] = {}
    for rule in limiter_rules():
        found.setdefault(rule.goal, set()).update(n.pose for n in rule.needs)
    return found


@dataclass(frozen=True)
class Aim:
    """A pose somebody may come for: what its sheet would take."""

    pose: Pose
    poses: int
    minutes: float
    chosen: bool


def aims(work: Work, practitioner_id: int) -> list[Aim]:
    """What a person may come for; their goals and what they said at first are chosen already."""
    goal_poses = wanted(work, practitioner_id)
    limits, shut = _limits(), allowed(work, practitioner_id).closed
    found = []
    for pose_id in limits:
        lines = runsheet.build(
            catalogue(), goals={pose_id}, measured={}, first="left", limits=limits, refused=shut
        )
        found.append(
            Aim(
                catalogue().pose(pose_id),
                len({x.pose for x in lines}),
                runsheet.minutes(lines, catalogue()),
                pose_id in goal_poses,
            )
        )
    return sorted(found, key=lambda a: a.pose.name)


def opened_since(work: Work, visit: Assessment) -> tuple[SheetLine, ...]:
    """Passive rows that a clearance recorded after the sheet was made allows now.

    Only where the sheet has none at all: what somebody took off by hand stays off.
    """
    may = allowed(work, visit.practitioner_id)
    lines = run_sheets.lines(work.db, work.coach, visit.id)
    asked = may.screening is not None and bool(may.screening.yes)
    if not asked or any(x.mode == "passive" for x in lines):
        return ()
    poses = [catalogue().pose(x.pose) if x.pose in catalogue() else None for x in lines]
    return tuple(
        SheetLine(x.pose, x.side, "passive", x.trials)
        for x, pose in zip(lines, poses, strict=True)
        if pose is not None and "passive" in pose.modes and not may.closed(pose, "passive", x.side)
    )


def with_rows(lines: Sequence[SheetLine], more: Sequence[SheetLine]) -> tuple[SheetLine, ...]:
    """Rows put into a sheet, each after the row of the same pose and side."""
    found = list(lines)
    for row in more:
        at = max(i for i, x in enumerate(found) if (x.pose, x.side) == (row.pose, row.side))
        found.insert(at + 1, row)
    return tuple(found)


def lines_of(work: Work, visit: Assessment, own: Sequence[Trial]) -> tuple[SheetLine, ...]:
    """The sheet's rows, with one for every shot that was taken beside it."""
    found = [x for x in run_sheets.lines(work.db, work.coach, visit.id) if x.pose in catalogue()]
    known = {(x.pose, x.side, x.mode) for x in found}
    beside: dict[tuple[str, str, str], int] = {}
    for t in own:
        if (t.pose, t.side, t.mode) not in known and t.pose in catalogue():
            key = (t.pose, t.side, t.mode)
            beside[key] = max(beside.get(key, 1), t.number)
    for (pose, side, mode), trials in beside.items():
        at = max((i for i, x in enumerate(found) if x.pose == pose), default=len(found) - 1)
        found.insert(at + 1, SheetLine(pose, side, mode, trials))
    return tuple(found)


def stations(work: Work, visit: Assessment, own: Sequence[Trial]) -> list[Station]:
    """The stations of an assessment in order."""
    lines, may = lines_of(work, visit, own), allowed(work, visit.practitioner_id)
    taken: dict[tuple[str, str, str], dict[int, Trial]] = {}
    for t in own:
        taken.setdefault((t.pose, t.side, t.mode), {})[t.number] = t
    found: list[Station] = []
    done = 0.0
    for pose_id in dict.fromkeys(x.pose for x in lines):
        pose = catalogue().pose(pose_id)
        rows = []
        for line in (x for x in lines if x.pose == pose_id):
            cells = taken.get((line.pose, line.side, line.mode), {})
            states = [(t.status, t.overruled) for t in cells.values()]
            state = runsheet.state(states, line.trials)
            rows.append(Row(line, cells, state, may.refused(pose, line.mode, line.side)))
        before = found[-1].pose if found else None
        so_far = [x for x in lines if x.pose in {s.pose.id for s in found} | {pose_id}]
        total = runsheet.minutes(so_far, catalogue())
        found.append(
            Station(
                pose,
                tuple(rows),
                total - done,
                before.counter if before is not None else "",
                before is None or before.setup != pose.setup or before.view != pose.view,
            )
        )
        done = total
    return found


def companions(pose_id: str) -> list[Pose]:
    """Other views of a pose that a second photograph of a hold may show."""
    return list(catalogue().beside(pose_id))


def free(found: Sequence[Station]) -> list[Slot]:
    """Places without a photograph, in the order they are taken.

    What the sheet asks for comes before one more trial of what must be taken again.
    """
    wanted = {
        Slot(s.pose.id, r.line.side, r.line.mode, n)
        for s in found
        for r in s.rows
        for n in r.numbers
        if n <= r.line.trials
    }
    open_slots = [slot for slot, taken in _places(found) if not taken]
    return sorted(open_slots, key=lambda slot: slot not in wanted)


def next_unmarked(found: Sequence[Station], slot: Slot) -> Trial | None:
    """The photograph to mark after one: the next of the sheet in its order, then from its start."""
    own = [t for s in found for r in s.rows for _, t in sorted(r.cells.items())]
    at = next((i for i, t in enumerate(own) if t.slot == slot), -1)
    return next((t for t in (*own[at + 1 :], *own[: at + 1]) if not t.marked), None)


def off_the_sheet(found: Sequence[Station]) -> list[Slot]:
    """The first place of every pose, side and mode of poses that a sheet does not have."""
    there = {s.pose.id for s in found}
    return [
        Slot(p.id, side, mode, 1)
        for p in catalogue().poses
        if p.id not in there
        for side in runsheet.sides(p, "left")
        for mode in p.modes
    ]


def every(found: Sequence[Station]) -> list[Slot]:
    """Every place of a sheet, taken or free."""
    return [slot for slot, _ in _places(found)]


def _places(found: Sequence[Station]) -> list[tuple[Slot, bool]]:
    return [
        (Slot(s.pose.id, r.line.side, r.line.mode, n), n in r.cells)
        for s in found
        for r in s.rows
        for n in r.numbers
    ]


def after(found: Sequence[Station], slot: Slot | None) -> Slot | None:
    """The next free place after one, else the first free one."""
    open_slots = free(found)
    if slot is None or not open_slots:
        return open_slots[0] if open_slots else None
    order = [place for place, _ in _places(found)]
    at = order.index(slot) if slot in order else -1
    later = set(order[at + 1 :])
    return next((s for s in open_slots if s in later), open_slots[0])


def all_trials(work: Work, visit: Assessment) -> list[Trial]:
    """The assessment's trials."""
    return assessments.trials(work.db, work.coach, visit.id)


def chosen(
    work: Work,
    visit: Assessment,
    now: Sequence[SheetLine],
    taken: Collection[str],
    ticked: Collection[str],
) -> tuple[SheetLine, ...]:
    """The sheet with just the poses that were ticked, and those with photographs."""
    wanted = {p for p in ticked if p in catalogue()} | set(taken)
    kept = tuple(x for x in now if x.pose in wanted)
    first = next((x.side for x in now if x.side != "both"), None)
    earlier = run_sheets.first_sides(work.db, work.coach, visit.practitioner_id)
    may = allowed(work, visit.practitioner_id)
    for pose in runsheet.ordered(
        [catalogue().pose(p) for p in wanted if all(x.pose != p for x in kept)]
    ):
        rows = tuple(
            x
            for x in runsheet.lines_for(pose, first or runsheet.first_side(earlier))
            if not may.closed(pose, x.mode, x.side)
        )
        # The easier comes before the harder; what was put in order by hand stays so.
        harder = (i for i, x in enumerate(kept) if catalogue().pose(x.pose).demand > pose.demand)
        at = next(harder, len(kept))
        kept = (*kept[:at], *rows, *kept[at:])
    return kept
