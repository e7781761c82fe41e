"""Deriving what lists show of a pose: current values, verdicts, news and the next look."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from dachi.core import series as judging
from dachi.core import trend as trends
from dachi.core import verdicts
from dachi.core.catalogue import Measure, Pose
from dachi.core.limiter import Reading
from dachi.core.series import Gain, Line, Repeats, Series
from dachi.data import catalogue
from dachi.store import digests, markings, practitioners
from dachi.store.markings import Charted
from dachi.web.series import family_of, series_of

#: Degrees a week below which practice is not taking anybody anywhere soon.
USEFUL_RATE = 0.75


def repeats_for(
    db: sqlite3.Connection, coach_id: int, practitioner_id: int, pose: str, family: str
) -> dict[str, Repeats]:
    """What the coach's trials with other people say of the error, by mode."""
    found = digests.others_repeats(db, coach_id, practitioner_id, pose, family)
    return {mode: Repeats(squares, df) for mode, (squares, df) in found.items()}


def judged(
    db: sqlite3.Connection,
    coach_id: int,
    practitioner_id: int,
    pose: Pose,
    family: str,
    *,
    rows: Sequence[Charted] | None = None,
    include: Collection[str] = (),
    prefer: Mapping[str, str] | None = None,
) -> Series:
    """The series of a measure of a practitioner, as it is judged everywhere.

    With what the coach's other people say of the error, and the mean or the best of a
    session's trials, as the practitioner's school has it.
    """
    if rows is None:
        rows = markings.charted(db, coach_id, practitioner_id, pose.id, tuple(pose.alike))
    who = practitioners.get(db, coach_id, practitioner_id)
    best = who is not None and who.schools.get("trials") == "best"
    known = repeats_for(db, coach_id, practitioner_id, pose.id, family)
    return series_of(rows, pose, family, include, known, prefer, best=best)


def label_of(
    db: sqlite3.Connection, coach_id: int, pose: Pose, measure: Measure, series: Series
) -> str:
    """What a family is called for the newest trial shown: a variant may have its own headline."""
    own = family_of(pose, measure.family)
    trials = [t for line in series.lines for t in line.trials]
    if len({m.family_label for m in own}) > 1 and trials:
        newest = max(trials, key=lambda t: (t.day, t.trial_id))
        read = {r.id for r in markings.readings(db, coach_id, newest.trial_id) if r.headline}
        return next((m.family_label for m in own if m.id in read), measure.family_label)
    return measure.family_label


def refresh(db: sqlite3.Connection, coach_id: int, practitioner_id: int, pose_id: str) -> None:
    """Derive the digest of a pose again after one of its markings or trials changed."""
    if pose_id not in catalogue():
        return
    pose = catalogue().pose(pose_id)
    rows = markings.charted(db, coach_id, practitioner_id, pose_id, tuple(pose.alike))
    if not rows:
        digests.drop(db, practitioner_id, pose_id)
        return
    taken = {r.assessment_id: r.taken_at for r in rows}
    families, news = [], []
    repeats: dict[tuple[str, str], tuple[float, float]] = {}
    retests: list[float] = []
    for measure in pose.families:
        series = judged(db, coach_id, practitioner_id, pose, measure.family, rows=rows)
        if not series.lines:
            continue
        own = _own_repeats(series)
        repeats |= {(measure.family, mode): (r.squares, r.df) for mode, r in own.items()}
        label = label_of(db, coach_id, pose, measure, series)
        families.append(_family(measure, label, series, taken))
        news += _news(pose, measure, series, taken)
        for line in series.lines:
            found = trends.retest(line)
            if found is not None:
                retests.append(found.day)
    retest_on = _date(min(retests)) if retests else None
    newest = max(taken.values())
    digests.save(
        db,
        practitioner_id,
        pose_id,
        {"families": families},
        news,
        newest[:10] if news else None,
        retest_on,
        repeats,
    )


def _date(day: float) -> str:
    return (datetime.fromtimestamp(0) + timedelta(days=day)).date().isoformat()


def _own_repeats(series: Series) -> dict[str, Repeats]:
    found: dict[str, Repeats] = {}
    for line in series.lines:
        by_visit: dict[int, list[float]] = {}
        for t in line.trials:
            by_visit.setdefault(t.assessment_id, []).append(t.value)
        total = found.get(line.mode, Repeats()) + judging.repeats_of(by_visit.values())
        found[line.mode] = total
    return found


def _family(measure: Measure, label: str, series: Series, taken: dict[int, str]) -> dict[str, Any]:
    unit = measure.unit
    return {
        "family": measure.family,
        "label": label,
        "unit": unit,
        "better": measure.better,
        "motion": measure.motion,
        "sentence": verdicts.headline_sentence(series, unit),
        "asymmetry": verdicts.say_asymmetry(series, unit),
        "reserve": {
            side: verdicts.say_reserve(found[-1], unit)
            for side in series.sides
            if (found := judging.reserves(series, side))
        },
        "lines": [_line(line, taken, unit) for line in series.lines if line.sessions],
    }


def _line(line: Line, taken: dict[int, str], unit: str) -> dict[str, Any]:
    last = line.sessions[-1]
    before = line.sessions[-2] if len(line.sessions) > 1 else None
    slope = trends.trend(line)
    flat = trends.plateau(line)
    return {
        "side": line.side,
        "mode": line.mode,
        "value": last.value,
        "before": before.value if before else None,
        "half": judging.t95(last.df) * last.sem / last.count**0.5,
        "count": last.count,
        "sessions": len(line.sessions),
        "taken_at": taken.get(last.assessment_id),
        "trial": last.trial_ids[0],
        "first_trial": line.sessions[0].trial_ids[0],
        "first": _change(line.since_first),
        "last": _change(line.since_last) if len(line.sessions) > 2 else None,
        "slope": [slope.slope, slope.low, slope.high] if slope else None,
        "plateau": [flat.sessions, flat.days] if flat else None,
        "mdc": last.mdc,
    }


def _change(gain: Gain | None) -> dict[str, Any] | None:
    if gain is None:
        return None
    return {
        "change": gain.change,
        "mdc": gain.mdc,
        "verdict": gain.verdict,
        "days": gain.later.day - gain.earlier.day,
    }


def _news(
    pose: Pose, measure: Measure, series: Series, taken: dict[int, str]
) -> list[dict[str, Any]]:
    """What the newest assessment brought that had not been there before."""
    newest = max(taken, key=lambda a: taken[a])
    found = []
    for line in series.lines:
        if not line.sessions or line.sessions[-1].assessment_id != newest:
            continue
        name = f"{line.side} {line.mode}" if line.side != "both" else line.mode
        last, first = line.since_last, line.since_first
        earlier = (
            judging.gain(line.sessions[0], line.sessions[-2], line.better)
            if len(line.sessions) > 2
            else None
        )
        say = None
        if last is not None and last.verdict == "real loss":
            moved = verdicts.signed(last.change, measure.unit)
            say = ("loss", f"{moved} since last time, a real loss")
        elif last is not None and last.verdict == "real gain":
            moved = verdicts.signed(last.change, measure.unit)
            say = ("gain", f"{moved} since last time, a real gain")
        elif (
            first is not None
            and first.verdict == "real gain"
            and (earlier is None or earlier.verdict != "real gain")
        ):
            moved = verdicts.signed(first.change, measure.unit)
            say = ("gain", f"{moved} since the first assessment, real for the first time")
        elif line.mode == series.main_mode and (days := _new_plateau(line)) is not None:
            say = ("plateau", f"no change for {verdicts.span(days)}")
        if say is not None:
            found.append(
                {
                    "kind": say[0],
                    "text": f"{pose.name}, {name}: {say[1]}",
                    "pose": pose.id,
                    "family": measure.family,
                    "at": taken[newest][:10],
                }
            )
    return found


def _new_plateau(line: Line) -> float | None:
    """Days of a plateau worth a word: certain enough to rule a useful rate out, and new."""
    flat = trends.plateau(line)
    slope = trends.trend(line)
    if flat is None or slope is None:
        return None
    fastest = slope.high if line.better == "higher" else -slope.low
    before = replace(line, sessions=line.sessions[:-1])
    if fastest > USEFUL_RATE or trends.plateau(before) is not None:
        return None
    return flat.days


def refresh_all(db: sqlite3.Connection, coach_id: int, practitioner_ids: Iterable[int]) -> None:
    """Derive every digest of some practitioners, twice: errors are pooled over people."""
    people = list(practitioner_ids)
    for _ in range(2):
        for pid in people:
            for pose_id in markings.measured_poses(db, coach_id, pid):
                refresh(db, coach_id, pid, pose_id)


def readings_of(found: Iterable[digests.Digest]) -> list[Reading]:
    """The newest session values of a practitioner, as the limiter looks at them."""
    return [
        Reading(
            d.pose, f["family"], f["label"], line["side"], line["mode"], line["value"], f["unit"]
        )
        for d in found
        for f in d.body["families"]
        for line in f["lines"]
    ]
