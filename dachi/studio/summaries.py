"""Deriving what lists show of a pose: current values, verdicts, news and the next look."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import series as judging
from dachi.core.judging import trend as trends
from dachi.core.judging import wording
from dachi.core.judging.limiters import SessionReading
from dachi.core.judging.series import Gain, Line, Repeats, Series, Verdict
from dachi.data import catalogue
from dachi.store import markings, practitioners
from dachi.store import summaries as stored
from dachi.store.markings import Charted
from dachi.store.summaries import (
    Change,
    FamilySummary,
    LineSummary,
    News,
    NewsKind,
    PoseSummary,
)
from dachi.studio import versions
from dachi.studio.histories import date_of, family_of, series_of
from dachi.studio.work import Work

#: Degrees a week below which practice is not taking anybody anywhere soon.
USEFUL_RATE = 0.75


def repeats_for(work: Work, practitioner_id: int, pose: str, family: str) -> dict[str, Repeats]:
    """What the coach's trials with other people say of the error, by mode."""
    found = stored.others_repeats(work.db, work.coach, practitioner_id, pose, family)
    return {mode: Repeats(squares, df) for mode, (squares, df) in found.items()}


def judged(
    work: Work,
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
        rows = markings.charted(work.db, work.coach, practitioner_id, pose.id, tuple(pose.alike))
    who = practitioners.get(work.db, work.coach, practitioner_id)
    best = who is not None and who.schools.get("trials") == "best"
    known = repeats_for(work, practitioner_id, pose.id, family)
    return series_of(rows, pose, family, include, known, prefer, best=best)


def label_of(work: Work, pose: Pose, measure: Measure, series: Series) -> str:
    """What a family is called for the newest trial shown: a variant may have its own headline."""
    own = family_of(pose, measure.family)
    trials = [t for line in series.lines for t in line.trials]
    if len({m.family_label for m in own}) > 1 and trials:
        newest = max(trials, key=lambda t: (t.day, t.trial_id))
        read = {r.id for r in markings.readings(work.db, work.coach, newest.trial_id) if r.headline}
        return next((m.family_label for m in own if m.id in read), measure.family_label)
    return measure.family_label


def refresh(work: Work, practitioner_id: int, pose_id: str) -> None:
    """Derive the summary of a pose again after one of its markings or trials changed."""
    if pose_id not in catalogue():
        return
    pose = catalogue().pose(pose_id)
    rows = markings.charted(work.db, work.coach, practitioner_id, pose_id, tuple(pose.alike))
    if not rows:
        stored.drop(work.db, work.coach, practitioner_id, pose_id)
        return
    taken = {r.assessment_id: r.taken_at for r in rows}
    families: list[FamilySummary] = []
    news: list[News] = []
    repeats: dict[tuple[str, str], tuple[float, float]] = {}
    retests: list[float] = []
    for measure in pose.families:
        series = judged(work, practitioner_id, pose, measure.family, rows=rows)
        if not series.lines:
            continue
        own = _own_repeats(series)
        repeats |= {(measure.family, mode): (r.squares, r.df) for mode, r in own.items()}
        label = label_of(work, pose, measure, series)
        families.append(_family(measure, label, series, taken))
        news += _news(pose, measure, series, taken)
        retests += [r.day for r in trends.next_looks(series)]
    retest_on = date_of(min(retests)).isoformat() if retests else None
    stored.save(
        work.db,
        work.coach,
        PoseSummary(practitioner_id, pose_id, tuple(families), tuple(news), retest_on),
        versions.judging(),
        repeats,
    )


def of_practitioner(work: Work, practitioner_id: int) -> list[PoseSummary]:
    """The summaries of a practitioner; stale ones are derived again in this very transaction."""
    freshen(work, practitioner_id)
    return stored.of_practitioner(work.db, work.coach, practitioner_id)


def freshen(work: Work, practitioner_id: int | None = None) -> int:
    """Derive every stale summary of the coach (or of one person) again; how many there were.

    Errors are pooled over people: what several of them have stale is gone over twice.
    """
    first = stored.stale(work.db, work.coach, versions.judging(), practitioner_id)
    if not first:
        return 0
    work.db.to_write()
    wanted = stored.stale(work.db, work.coach, versions.judging(), practitioner_id)
    for _ in range(2 if len({person for person, _ in wanted}) > 1 else 1):
        for person, pose_id in wanted:
            if pose_id in catalogue():
                refresh(work, person, pose_id)
            else:
                stored.drop(work.db, work.coach, person, pose_id)
    return len(wanted)


def next_look(found: Sequence[PoseSummary]) -> str | None:
    """The first day on which another look can show something, ISO."""
    return trends.earliest_look(
        (
            max(((x.taken_at or "")[:10] for f in d.families for x in f.lines), default=""),
            d.retest_on,
        )
        for d in found
    )


def _own_repeats(series: Series) -> dict[str, Repeats]:
    found: dict[str, Repeats] = {}
    for line in series.lines:
        by_visit: dict[int, list[float]] = {}
        for t in line.trials:
            by_visit.setdefault(t.assessment_id, []).append(t.value)
        total = found.get(line.mode, Repeats()) + judging.repeats_of(by_visit.values())
        found[line.mode] = total
    return found


def _family(measure: Measure, label: str, series: Series, taken: dict[int, str]) -> FamilySummary:
    unit = measure.unit
    return FamilySummary(
        family=measure.family,
        label=label,
        unit=unit,
        better=measure.better,
        motion=measure.motion,
        sentence=wording.headline_sentence(series, unit),
        asymmetry=wording.say_asymmetry(series, unit),
        reserve={
            side: wording.say_reserve(found[-1], unit)
            for side in series.sides
            if (found := judging.reserves(series, side))
        },
        lines=tuple(_line(line, taken) for line in series.lines if line.sessions),
    )


def _line(line: Line, taken: dict[int, str]) -> LineSummary:
    last = line.sessions[-1]
    before = line.sessions[-2] if len(line.sessions) > 1 else None
    slope = trends.trend(line)
    flat = trends.plateau(line)
    return LineSummary(
        side=line.side,
        mode=line.mode,
        value=last.value,
        before=before.value if before else None,
        half=last.half,
        count=last.count,
        sessions=len(line.sessions),
        taken_at=taken.get(last.assessment_id),
        trial=last.trial_ids[0],
        first_trial=line.sessions[0].trial_ids[0],
        first=_change(line.since_first),
        last=_change(line.since_last) if len(line.sessions) > 2 else None,
        slope=(slope.slope, slope.low, slope.high) if slope else None,
        plateau=(flat.sessions, flat.days) if flat else None,
        mdc=last.mdc,
    )


def _change(gain: Gain | None) -> Change | None:
    if gain is None:
        return None
    return Change(gain.change, gain.mdc, gain.verdict, gain.later.day - gain.earlier.day)


def _news(pose: Pose, measure: Measure, series: Series, taken: dict[int, str]) -> list[News]:
    """What the newest assessment brought that had not been there before."""
    newest = max(taken, key=lambda a: taken[a])
    found = []
    for line in series.lines:
        if not line.sessions or line.sessions[-1].assessment_id != newest:
            continue
        told = _told(line, measure.unit, plateaus=line.mode == series.main_mode)
        if told is not None:
            name = f"{line.side} {line.mode}" if line.side != "both" else line.mode
            text = f"{pose.name}, {name}: {told[1]}"
            found.append(News(told[0], text, pose.id, measure.family, taken[newest][:10]))
    return found


def _told(line: Line, unit: str, *, plateaus: bool) -> tuple[NewsKind, str] | None:
    """The one thing worth saying of a line's newest session."""
    last, first = line.since_last, line.since_first
    if last is not None and last.real:
        moved = wording.signed(last.change, unit)
        kind = NewsKind.GAIN if last.verdict is Verdict.GAIN else NewsKind.LOSS
        return kind, f"{moved} since last time, a {last.verdict}"
    earlier = (
        judging.gain(line.sessions[0], line.sessions[-2], line.better)
        if len(line.sessions) > 2
        else None
    )
    if (
        first is not None
        and first.verdict is Verdict.GAIN
        and (earlier is None or earlier.verdict is not Verdict.GAIN)
    ):
        moved = wording.signed(first.change, unit)
        return NewsKind.GAIN, f"{moved} since the first assessment, real for the first time"
    if plateaus and (days := _new_plateau(line)) is not None:
        return NewsKind.PLATEAU, f"no change for {wording.span(days)}"
    return None


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


def refresh_all(work: Work, practitioner_ids: Iterable[int]) -> None:
    """Derive every summary of some practitioners, twice: errors are pooled over people."""
    people = list(practitioner_ids)
    for _ in range(2):
        for pid in people:
            for pose_id in markings.measured_poses(work.db, work.coach, pid):
                refresh(work, pid, pose_id)


def readings_of(found: Iterable[PoseSummary]) -> list[SessionReading]:
    """The newest session values of a practitioner, as the limiter looks at them."""
    return [
        SessionReading(d.pose, f.family, f.label, line.side, line.mode, line.value, f.unit)
        for d in found
        for f in d.families
        for line in f.lines
    ]
