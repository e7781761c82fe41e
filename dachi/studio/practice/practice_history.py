"""What a log says: weeks, directions, supports beside range, places that hurt, sitting times."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

from dachi.core.practising.progression import SORE
from dachi.core.practising.timeline import SITTING_S, direction_seconds, sitting_rung
from dachi.core.words import Place, Status
from dachi.drawing import practice as drawings
from dachi.store import markings, practice_log
from dachi.store.practice_log import LogEntry
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import say_day
from dachi.studio.practice.person import drill_by_id
from dachi.studio.work import Work

WEEKS = 12
#: Directions are averaged over this many weeks.
LOOK_BACK_WEEKS = 4


def _day(e: LogEntry) -> float:
    """When a session began, in days."""
    return datetime.fromisoformat(e.started_at[:19]).timestamp() / 86400


def by_week(
    log: Sequence[LogEntry], planned: int, today: date
) -> list[tuple[str, float, int, int]]:
    """Minutes and sessions of the last weeks, oldest first, from the first that has any."""
    monday = today - timedelta(days=today.weekday())
    rows = []
    for w in range(WEEKS - 1, -1, -1):
        start = monday - timedelta(days=7 * w)
        end = start + timedelta(days=7)
        own = [
            e for e in log if e.counts and start.isoformat() <= e.started_at[:10] < end.isoformat()
        ]
        rows.append(
            (f"{start.day} {start:%b}", sum(e.seconds for e in own) / 60, len(own), planned)
        )
    # Nothing was asked of anybody before they began.
    first = next((i for i, r in enumerate(rows) if r[2]), len(rows) - 1)
    return rows[first:]


def directions(log: Sequence[LogEntry], today: date) -> dict[str, float]:
    """Seconds a week in each direction over the last four weeks."""
    since = (today - timedelta(weeks=LOOK_BACK_WEEKS)).isoformat()
    known = drill_by_id()
    total: dict[str, float] = {}
    for e in log:
        if e.started_at[:10] >= since:
            done: dict[str, float] = {}
            for d in e.done:
                done[d.drill] = done.get(d.drill, 0.0) + d.seconds
            for k, v in direction_seconds(done, known).items():
                total[k] = total.get(k, 0.0) + v / LOOK_BACK_WEEKS
    return total


def heights(
    work: Work, who: Practitioner, log: Sequence[LogEntry], width: float = drawings.WIDE
) -> list[tuple[str, str]]:
    """A chart for every drill whose support was logged at least twice."""
    known = drill_by_id()
    found: dict[str, list[tuple[float, float]]] = {}
    for e in reversed(log):
        for d in e.done:
            if d.prop_cm is not None:
                found.setdefault(d.drill, []).append((_day(e), d.prop_cm))
    charts = []
    for name, props in found.items():
        drill = known.get(name)
        if drill is None or len(props) < 2:
            continue
        pose = drill.goal or drill.figure.pose
        ranges = _passive(work, who.id, pose) if pose else []
        ranges = [r for r in ranges if r[0] >= props[0][0] - 60]
        days = [d for d, _ in (*props, *ranges)]
        dates = tuple(
            say_day(datetime.fromtimestamp(x * 86400).isoformat()) for x in (min(days), max(days))
        )
        charts.append(
            (drill.name, drawings.heights(drill.name, props, ranges, (dates[0], dates[1]), width))
        )
    return charts


def soreness(log: Sequence[LogEntry]) -> str:
    """The chart of soreness the day after; nothing where it was said less than twice."""
    points = [(_day(e), e.soreness) for e in reversed(log) if e.soreness is not None]
    return drawings.soreness(points, SORE) if len(points) > 1 else ""


def _passive(work: Work, pid: int, pose: str) -> list[tuple[float, float]]:
    """Mean passive headline of each assessment of a pose: (day, degrees)."""
    found: dict[float, list[float]] = {}
    for row in markings.charted(work.db, work.coach, pid, pose, ()):
        if row.mode == "passive" and Status(row.status).counts(overruled=row.overruled):
            at = datetime.fromisoformat(row.taken_at).timestamp() / 86400
            found.setdefault(at, []).append(row.value)
    return [(d, sum(v) / len(v)) for d, v in sorted(found.items())]


@dataclass(frozen=True)
class PainPlace:
    """A place where it hurt: how often, when last, and at what."""

    place: Place
    times: int
    last: str
    at: tuple[str, ...]


def pain_map(log: Sequence[LogEntry]) -> list[PainPlace]:
    """Places where it hurt, the most frequent first."""
    known = drill_by_id()
    found: dict[Place, PainPlace] = {}
    for e in log:
        for p in e.pains:
            row = found.get(p.place, PainPlace(p.place, 0, e.started_at, ()))
            name = known[p.drill].name if p.drill in known else "no one drill"
            at = (
                row.at
                if any(x.startswith(f"{name} (") for x in row.at)
                else (*row.at, f"{name} ({p.kind})")
            )
            found[p.place] = replace(row, times=row.times + 1, at=at)
    return sorted(found.values(), key=lambda r: -r.times)


def pain_course(
    log: Sequence[LogEntry], today: date
) -> tuple[dict[str, list[tuple[float, float]]], tuple[str, str]]:
    """How strong pain was by leg over the last weeks, (share of the time, 0 to 10), and the days
    it runs between; 4 where nobody said how strong.
    """
    start = today - timedelta(weeks=WEEKS)
    found: dict[str, list[tuple[float, float]]] = {"left": [], "right": [], "": []}
    for e in log:
        day = date.fromisoformat(e.started_at[:10])
        if day >= start:
            at = (day - start).days / (7 * WEEKS)
            for p in e.pains:
                found[p.place.side].append((at, float(4 if p.level is None else p.level)))
    return found, (say_day(start.isoformat()), say_day(today.isoformat()))


def pain_chart(work: Work, pid: int) -> str:
    """How strong pain was on either leg over the last weeks; nothing where nothing hurt."""
    log = practice_log.entries(work.db, work.coach, pid)
    found, days = pain_course(log, work.today())
    return drawings.pains(found, days) if any(found.values()) else ""


@dataclass(frozen=True)
class Sitting:
    """The longest crossed sit, s, and its rung on the ladder of times."""

    best: float
    times: tuple[int, ...]
    at: int


def sitting(log: Sequence[LogEntry]) -> Sitting | None:
    """The longest crossed sit; None where nobody sat crossed."""
    known = drill_by_id()
    best = max(
        (
            d.hold_s or d.seconds
            for e in log
            for d in e.done
            if d.drill in known and known[d.drill].sitting
        ),
        default=None,
    )
    return None if best is None else Sitting(best, SITTING_S, sitting_rung(best))
