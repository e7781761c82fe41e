"""What a log says: weeks, directions, supports beside range, places that hurt, sitting times."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, timedelta
from typing import Any

from dachi.core.practice import SITTING_S, direction_seconds, sitting_rung
from dachi.core.progression import SORE
from dachi.drawing import practice as drawings
from dachi.store import markings
from dachi.store.practice import Entry
from dachi.store.practitioners import Practitioner
from dachi.web import plans
from dachi.web.session import db
from dachi.web.words import day

WEEKS = 12


def beginning(text: str) -> datetime:
    """When a session began; ValueError says what is wrong with it."""
    try:
        at = datetime.fromisoformat(text[:19])
    except ValueError as error:
        raise ValueError("give the day and time it began") from error
    if not datetime(2020, 1, 1) <= at <= datetime.now().replace(hour=23, minute=59):
        raise ValueError("its date lies in the future or too far back")
    return at


def by_week(log: Sequence[Entry], planned: int) -> list[tuple[str, float, int, int]]:
    """Minutes and sessions of the last weeks, oldest first, from the first that has any."""
    today = date.today()
    monday = today - timedelta(days=today.weekday())
    rows = []
    for w in range(WEEKS - 1, -1, -1):
        start = monday - timedelta(days=7 * w)
        end = start + timedelta(days=7)
        own = [e for e in log if start.isoformat() <= e.started_at[:10] < end.isoformat()]
        rows.append(
            (f"{start.day} {start:%b}", sum(e.seconds for e in own) / 60, len(own), planned)
        )
    first = next((i for i, r in enumerate(rows) if r[2]), len(rows) - 1)
    return rows[min(first, len(rows) - 4) :]


def directions(log: Sequence[Entry]) -> dict[str, float]:
    """Seconds a week in each direction over the last four weeks."""
    since = (date.today() - timedelta(days=28)).isoformat()
    known = plans.drill_by_id()
    total: dict[str, float] = {}
    for e in log:
        if e.started_at[:10] >= since:
            done = {str(d["drill"]): float(d.get("seconds", 0)) for d in e.done}
            for k, v in direction_seconds(done, known).items():
                total[k] = total.get(k, 0.0) + v / 4
    return total


def heights(
    coach: int, who: Practitioner, log: Sequence[Entry], width: float = drawings.WIDE
) -> list[tuple[str, str]]:
    """A chart for every drill whose support was logged at least twice."""
    known = plans.drill_by_id()
    found: dict[str, list[tuple[float, float]]] = {}
    for e in reversed(log):
        at = datetime.fromisoformat(e.started_at[:19]).timestamp() / 86400
        for d in e.done:
            if d.get("prop_cm") is not None:
                found.setdefault(str(d["drill"]), []).append((at, float(d["prop_cm"])))
    charts = []
    for name, props in found.items():
        drill = known.get(name)
        if drill is None or len(props) < 2:
            continue
        pose = drill.goal or drill.figure.pose
        ranges = _passive(coach, who.id, pose) if pose else []
        ranges = [r for r in ranges if r[0] >= props[0][0] - 60]
        days = [d for d, _ in (*props, *ranges)]
        dates = tuple(
            day(datetime.fromtimestamp(x * 86400).isoformat()) for x in (min(days), max(days))
        )
        charts.append(
            (drill.name, drawings.heights(drill.name, props, ranges, (dates[0], dates[1]), width))
        )
    return charts


def soreness(log: Sequence[Entry]) -> str:
    """The chart of soreness the day after; nothing where it was said less than twice."""
    points = [
        (datetime.fromisoformat(e.started_at[:19]).timestamp() / 86400, e.soreness)
        for e in reversed(log)
        if e.soreness is not None
    ]
    return drawings.soreness(points, SORE) if len(points) > 1 else ""


def _passive(coach: int, pid: int, pose: str) -> list[tuple[float, float]]:
    """Mean passive headline of each assessment of a pose: (day, degrees)."""
    found: dict[float, list[float]] = {}
    for row in markings.charted(db(), coach, pid, pose, ()):
        if row.mode == "passive" and row.status != "retake":
            at = datetime.fromisoformat(row.taken_at).timestamp() / 86400
            found.setdefault(at, []).append(row.value)
    return [(d, sum(v) / len(v)) for d, v in sorted(found.items())]


def pain_map(log: Sequence[Entry]) -> list[dict[str, Any]]:
    """Places where it hurt: how often, when last, at what."""
    known = plans.drill_by_id()
    found: dict[str, dict[str, Any]] = {}
    for e in log:
        for drill, place, kind in e.pains:
            row = found.setdefault(
                place, {"place": place, "times": 0, "last": e.started_at, "at": []}
            )
            row["times"] += 1
            name = known[drill].name if drill in known else "no one drill"
            if name not in row["at"]:
                row["at"].append(f"{name} ({kind})")
    return sorted(found.values(), key=lambda r: -r["times"])


def sitting(log: Sequence[Entry]) -> dict[str, Any] | None:
    """The longest crossed sit, and the next time on its ladder."""
    known = plans.drill_by_id()
    best = max(
        (
            float(d.get("hold_s") or d.get("seconds", 0))
            for e in log
            for d in e.done
            if d["drill"] in known and known[str(d["drill"])].sitting
        ),
        default=None,
    )
    if best is None:
        return None
    at = sitting_rung(best)
    return {"best": best, "times": SITTING_S, "at": at}
