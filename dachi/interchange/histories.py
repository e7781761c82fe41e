"""The history file: trials of a practitioner in, what is judged of them out.

The functions are those the pages judge by; the scatter that a coach's other people tell comes
with the line.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta
from functools import lru_cache
from typing import Any

import msgspec

from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.scatter_priors import ScatterPriors
from dachi.core.judging import doubts, stages, wording
from dachi.core.judging import trend as trends
from dachi.core.judging.best import SinceBest, since_best
from dachi.core.judging.doubts import Asked, Doubt, What
from dachi.core.judging.forecast import forecast
from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import (
    Gain,
    Line,
    Series,
    SessionValue,
    TrialValue,
    asymmetries,
    build,
    evidence_of,
    part_of_day,
    reserves,
)
from dachi.errors import NotDone
from dachi.interchange import json_lines

#: A practitioner of ten years takes some 300 kB; what the studio tells comes on top.
MOST_BYTES = 64 << 20
#: Trials of one side, pose and mode further apart than this are of two visits.
SAME_VISIT = timedelta(hours=3)

EPOCH = datetime(1970, 1, 1)


class HistoryError(NotDone):
    """A history that cannot be judged; the sentence says why."""

    code = "history"


def judge_line(line: bytes, catalogue: Catalogue, priors: ScatterPriors) -> dict[str, Any]:
    """Judge one line of a history file; whatever it holds, the answer is a result or an error."""
    if len(line) > MOST_BYTES:
        return {"id": None, "error": f"the line is longer than {MOST_BYTES >> 20} MB"}
    known = None
    try:
        # What the studio tells is left as text until it turns out to be new.
        parts = msgspec.json.decode(line, type=dict[str, msgspec.Raw])
        studio = bytes(parts.pop("studio", b"[]"))
        data = {name: msgspec.json.decode(raw) for name, raw in parts.items()}
        known = json_lines.id_of(data)
        return judge(data, catalogue, priors, studio) | {"id": known}
    except HistoryError as error:
        return {"id": known, "error": str(error)}
    except msgspec.ValidationError:
        return {"id": None, "error": "a history is a JSON object"}
    except (msgspec.DecodeError, RecursionError) as error:
        return {"id": None, "error": f"the line is not JSON ({error})"}
    except (ArithmeticError, ValueError) as error:
        return {"id": known, "error": f"the numbers cannot be judged ({error})"}


def judge(
    data: Any, catalogue: Catalogue, priors: ScatterPriors, studio: bytes = b"[]"
) -> dict[str, Any]:
    """Judge a parsed history, its ``studio`` apart as JSON text.

    HistoryError with a sentence where it is none.
    """
    wrong = json_lines.complaint("history", data)
    if wrong is not None:
        raise HistoryError(wrong)
    own = _by_pose(data["trials"], catalogue)
    told = _studio(studio, tuple(sorted(own)), catalogue)
    found: dict[str, Series] = {}
    for pose, trials in own.items():
        modes = {t.mode for t in trials}
        found[pose] = build(
            trials,
            better=catalogue.pose(pose).headline.better,
            others={mode: told.get((pose, mode), ()) for mode in modes},
            priors={mode: priors.of(pose, mode) for mode in modes},
        )
    looked = doubts.lines_of(found)
    asked = [*doubts.look(looked), *doubts.trials_asked(looked)]
    found = doubts.applied(found, asked)
    targets = _targets(data.get("targets") or [], catalogue)
    lines = [(pose, x) for pose, series in found.items() for x in series.lines if x.sessions]
    standings = {(pose, x.side, x.mode): stages.standing(x) for pose, x in lines}
    sure = stages.confirmed_lines(
        (
            (pose, x.side, x.mode),
            x.sessions[-1].assessment_id,
            standings[pose, x.side, x.mode],
        )
        for pose, x in lines
    )
    newest = {(pose, x.side, x.mode): x.sessions[-1].assessment_id for pose, x in lines}
    signs = stages.first_signs(
        ((pose, x.side, x.mode), newest[pose, x.side, x.mode], x.since_first) for pose, x in lines
    )
    best = {(pose, x.side, x.mode): since_best(x) for pose, x in lines}
    gone = stages.lost_lines((k, newest[k], b) for k, b in best.items())
    odd = {d.asked for d in asked}
    return {
        "id": None,
        "scatter": _scatter(found),
        "lines": [
            _line(pose, x, standings[key], (key in sure, key in signs), targets, odd)
            | {"since_best": _since_best(best[key], key in gone)}
            for pose, x in lines
            for key in [(pose, x.side, x.mode)]
        ],
        "asked": [_asked(d, catalogue) for d in asked],
        "asymmetry": [a for pose, series in found.items() for a in _asymmetry(pose, series)],
        "reserve": [r for pose, series in found.items() for r in _reserve(pose, series)],
    }


# ---- in ---------------------------------------------------------------------------------


def _by_pose(
    rows: Sequence[Mapping[str, Any]], catalogue: Catalogue
) -> dict[str, list[TrialValue]]:
    """Trials of one person by pose, sorted into visits."""
    timed = sorted(
        ((_when(f"trials.{i}", row["taken_at"]), i, row) for i, row in enumerate(rows)),
        key=lambda r: r[:2],
    )
    found: dict[str, list[TrialValue]] = {}
    visit, before = 0, None
    for at, i, row in timed:
        pose = row["pose"]
        if pose not in catalogue:
            raise HistoryError(f"trials.{i}: there is no pose {pose!r}")
        if before is not None and at - before > SAME_VISIT:
            visit += 1
        before = at
        conditions = row.get("conditions") or {}
        prop = conditions.get("prop_cm")
        found.setdefault(pose, []).append(
            TrialValue(
                i,
                visit,
                (at - EPOCH).total_seconds() / 86400.0,
                row["side"],
                row["mode"],
                float(row["value"]),
                float(row.get("sd") or 0.0),
                row.get("valid") is not False,
                (
                    str(conditions.get("warmth") or ""),
                    _words(conditions.get("variant")),
                    str(conditions.get("method") or ""),
                    part_of_day(at.hour),
                    f"{float(prop or 0.0):g} cm",
                ),
                sd_change=row.get("sd_change"),
                marker=row.get("marker") or "",
                set_up=f"{row.get('set_up') or ''}|{row.get('marked') or ''}",
            )
        )
    return found


def _words(variant: Any) -> str:
    if isinstance(variant, Mapping):
        return json.dumps(variant, sort_keys=True)
    return str(variant or "")


def _when(where: str, text: str) -> datetime:
    try:
        at = datetime.fromisoformat(text)
    except ValueError as error:
        raise HistoryError(f"{where}.taken_at: {text!r} is no date and time") from error
    # Histories are compared by the clock on the wall.
    return at.replace(tzinfo=None)


@lru_cache(maxsize=8)
def _studio(
    text: bytes, poses: tuple[str, ...], catalogue: Catalogue
) -> Mapping[tuple[str, str], Sequence[Evidence]]:
    """What the coach's other people say of the scatter, by pose and mode.

    Lines of one coach bring the same people: what was worked out for one is kept for the next.
    """
    people = msgspec.json.decode(text) or []
    wrong = json_lines.complaint("history", {"trials": [], "studio": people})
    if wrong is not None:
        raise HistoryError(wrong)
    found: dict[tuple[str, str], list[Evidence]] = {}
    for person in people:
        wanted = [t for t in person if t["pose"] in poses]
        for pose, trials in _by_pose(wanted, catalogue).items():
            for mode, evidence in evidence_of(trials).items():
                found.setdefault((pose, mode), []).append(evidence)
    return found


def _targets(
    rows: Iterable[Mapping[str, Any]], catalogue: Catalogue
) -> dict[tuple[str, str, str], float]:
    found = {}
    for i, row in enumerate(rows):
        if row["pose"] not in catalogue:
            raise HistoryError(f"targets.{i}: there is no pose {row['pose']!r}")
        found[row["pose"], row["side"], row["mode"]] = float(row["value"])
    return found


# ---- out --------------------------------------------------------------------------------


def _round(value: float) -> float:
    return round(value, 3) + 0.0


def _iso(day: float) -> str:
    return (EPOCH + timedelta(seconds=round(day * 86400.0))).isoformat(timespec="minutes")


def _date(day: float | None) -> str | None:
    return None if day is None else date.fromordinal(EPOCH.toordinal() + int(day // 1)).isoformat()


def _scatter(found: Mapping[str, Series]) -> dict[str, Any]:
    """Scatter by pose, that of the main mode; each mode's own beside it."""
    said = {}
    for pose, series in found.items():
        modes = {
            mode: {"trial_sd": _round(s.trial_sd), "visit_sd": _round(s.visit_sd)}
            for mode, s in sorted(series.scatters.items())
        }
        said[pose] = {**modes[series.main_mode], "modes": modes}
    return said


def _line(
    pose: str,
    line: Line,
    standing: stages.Standing | None,
    settled: tuple[bool, bool],
    targets: Mapping[tuple[str, str, str], float],
    odd: Collection[Asked],
) -> dict[str, Any]:
    """A line as it is judged; ``settled``: whether it is confirmed, whether it is a first sign."""
    sure, sign = settled
    slope = trends.trend(line)
    first, last = line.since_first, line.since_last
    target = targets.get((pose, line.side, line.mode))
    found = None if target is None else forecast(line, target)
    stage = stages.stage_of(sign, sure)
    start = line.baseline
    onward = bool(sure and first and last and first.change * last.change > 0.0)
    newer = stages.stage_since_last(last is not None and last.real, onward, standing)
    return {
        "pose": pose,
        "side": line.side,
        "mode": line.mode,
        "better": line.better,
        "sessions": [
            _session(s) | {"questioned": _questioned(s, (pose, line.side, line.mode), odd)}
            for s in line.sessions
        ],
        "baseline": None
        if start is None
        else {"value": _round(start.value), "visits": 2 if start.visits < 1.0 else 1},
        "since_first": _gain(first, stage, standing),
        "since_last": _gain(last, newer, None),
        "trend": None
        if slope is None
        else {
            "per_week": _round(slope.slope),
            "low": _round(slope.low),
            "high": _round(slope.high),
        },
        "plateau": trends.plateau(line) is not None,
        "forecast": None
        if found is None
        else {
            "state": str(found.state),
            "earliest": _date(found.earliest),
            "latest": _date(found.latest),
        },
    }


def _questioned(s: SessionValue, line: doubts.Key, odd: Collection[Asked]) -> bool:
    """Whether the session, a trial of it or its whole visit looks like a slip."""
    at = s.assessment_id
    return (at, What.VISIT, "", "", "") in odd or any(
        (at, what, *line) in odd for what in (What.SLIP, What.TRIAL)
    )


def _since_best(found: SinceBest | None, sure: bool) -> dict[str, Any] | None:
    """Now against the best level, a verdict only where something is lost."""
    if found is None:
        return None
    stage = stages.stage_of(found.lost, sure)
    return {
        "change": _round(found.change),
        "low": _round(found.change - found.mdc),
        "high": _round(found.change + found.mdc),
        "verdict": str(stages.verdict_of(found.improvement, stage)),
        "stage": None if stage is None else str(stage),
    }


def _asked(d: Doubt, catalogue: Catalogue) -> dict[str, Any]:
    """Something asked about a visit; a set-up that changed unsaid is a jump."""
    what = "jump" if d.what is What.JUMP else "slip"
    name = catalogue.pose(d.pose).named if d.pose else None
    return {"what": what, "on": _iso(d.day), "words": wording.say_doubt(d, name)}


def _session(s: SessionValue) -> dict[str, Any]:
    return {
        "taken_at": _iso(s.day),
        "value": _round(s.value),
        "sd": _round((s.spread.mean + s.spread.known) ** 0.5),
        "trials": s.count,
    }


def _gain(
    change: Gain | None, stage: stages.Stage | None, standing: stages.Standing | None
) -> dict[str, Any] | None:
    if change is None:
        return None
    found: dict[str, Any] = {
        "change": _round(change.change),
        "low": _round(change.low),
        "high": _round(change.high),
        "verdict": str(stages.verdict_of(change.improvement, stage)),
        "stage": None if stage is None else str(stage),
    }
    if stage is stages.Stage.CONFIRMED and standing is not None and standing.why:
        found["why"] = standing.why
    return found


def _asymmetry(pose: str, series: Series) -> list[dict[str, Any]]:
    found = []
    for mode in ("active", "passive"):
        for a in asymmetries(series, mode)[-1:]:
            found.append(
                {
                    "pose": pose,
                    "mode": mode,
                    "difference": _round(a.difference),
                    "low": _round(a.difference - a.mdc),
                    "high": _round(a.difference + a.mdc),
                    "tighter": a.tighter,
                }
            )
    return found


def _reserve(pose: str, series: Series) -> list[dict[str, Any]]:
    found = []
    for side in series.sides:
        for r in reserves(series, side)[-1:]:
            found.append(
                {
                    "pose": pose,
                    "side": side,
                    "value": _round(r.reserve),
                    "low": _round(r.reserve - r.mdc),
                    "high": _round(r.reserve + r.mdc),
                }
            )
    return found
