"""Deriving what lists show of a pose: current values, verdicts, news and the next look."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import series as judging
from dachi.core.judging import stages, wording
from dachi.core.judging import trend as trends
from dachi.core.judging.limiters import SessionReading
from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import Gain, Line, Series, Verdict
from dachi.core.judging.stages import Stage
from dachi.data import catalogue
from dachi.store import assessments, day_states, markings, practice_log, practitioners
from dachi.store import summaries as stored
from dachi.store.database import transaction
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
from dachi.studio.verdicts.histories import date_of, family_of, series_of
from dachi.studio.work import Work

Staged = tuple[Stage | None, str]

#: Visits a small chart shows.
SHOWN_VISITS = 24
#: Degrees a week below which practice is not taking anybody anywhere soon.
USEFUL_RATE = 0.75
#: Pain this shortly before a visit belongs to what the visit shows, days.
PAIN_DAYS = 14


def others_for(
    work: Work, practitioner_id: int, pose: str, family: str
) -> dict[str, list[Evidence]]:
    """What the coach's trials with other people say of the scatter, by mode."""
    return stored.others_evidence(work.db, work.coach, practitioner_id, pose, family)


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

    With what the coach's other people say of the scatter, and the mean or the best of a
    session's trials, as the practitioner's school has it.
    """
    if rows is None:
        rows = charted(work, practitioner_id, pose)
    who = practitioners.get(work.db, work.coach, practitioner_id)
    best = who is not None and who.schools.get("trials") == "best"
    known = others_for(work, practitioner_id, pose.id, family)
    still = assessments.still(work.db, work.coach, practitioner_id)
    hurt = day_states.hurting(work.db, work.coach, practitioner_id)
    return series_of(rows, pose, family, include, known, prefer, best=best, still=still, hurt=hurt)


def charted(work: Work, practitioner_id: int, pose: Pose) -> list[Charted]:
    """The stored readings of a pose that its series are built from."""
    return markings.charted(work.db, work.coach, practitioner_id, pose.id)


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
    _derive(work, practitioner_id, pose_id)
    settle(work, practitioner_id)


def _derive(work: Work, practitioner_id: int, pose_id: str) -> None:
    """Everything of a summary but stages and news, which take all of a person's lines."""
    if pose_id not in catalogue():
        return
    pose = catalogue().pose(pose_id)
    rows = charted(work, practitioner_id, pose)
    if not rows:
        stored.drop(work.db, work.coach, practitioner_id, pose_id)
        return
    taken = {r.assessment_id: r.taken_at for r in rows}
    families: list[FamilySummary] = []
    evidence: dict[tuple[str, str], Evidence] = {}
    retests: list[float] = []
    for measure in pose.families:
        series = judged(work, practitioner_id, pose, measure.family, rows=rows)
        if not series.lines:
            continue
        evidence |= {(measure.family, mode): e for mode, e in series.evidence.items()}
        label = label_of(work, pose, measure, series)
        families.append(_family(measure, label, series, taken))
        retests += [r.day for r in trends.next_looks(series)]
    retest_on = date_of(min(retests)).isoformat() if retests else None
    stored.save(
        work.db,
        work.coach,
        PoseSummary(practitioner_id, pose_id, tuple(families), (), retest_on),
        versions.judging(),
        evidence,
    )


Key = tuple[str, str, str, str]


def settle(work: Work, practitioner_id: int) -> None:
    """Say of every line of a person whether it is confirmed, and what that is news of."""
    found = stored.of_practitioner(work.db, work.coach, practitioner_id)
    lines = {
        (d.pose, f.family, x.side, x.mode): x for d in found for f in d.families for x in f.lines
    }
    sure = stages.confirmed_lines((k, x.visit, x.standing) for k, x in lines.items())
    before = stages.confirmed_lines((k, x.visit_before, x.stood) for k, x in lines.items())
    newest = max((x.taken_at or "" for x in lines.values()), default="")
    hurting = _hurting(work, practitioner_id, lines.values(), newest)
    for d in found:
        families = tuple(
            replace(
                f,
                lines=tuple(
                    _staged(x, (d.pose, f.family, x.side, x.mode) in sure) for x in f.lines
                ),
            )
            for f in d.families
        )
        told = []
        for own, x in ((f, x) for f in families for x in f.lines if x.taken_at == newest):
            known = (d.pose, own.family, x.side, x.mode) in before
            if (news := _told(x, own.unit, known, hurting)) is not None:
                text = f"{named(d.pose, x)}: {news[1]}"
                told.append(News(news[0], text, d.pose, own.family, newest[:10]))
        stored.settle(work.db, work.coach, practitioner_id, d.pose, families, told)


def _staged(x: LineSummary, sure: bool) -> LineSummary:
    """A line with the stages of its changes."""
    sign = 1.0 if x.better == "higher" else -1.0
    first, last = x.first, x.last
    if first is not None:
        stage = stages.stage_of(first.real, sure)
        why = x.standing.why if sure and x.standing is not None else ""
        verdict = stages.verdict_of(sign * first.change, stage)
        first = replace(first, stage=stage, verdict=verdict, why=why)
    if last is not None:
        onward = sure and first is not None and first.change * last.change > 0.0
        last = replace(last, stage=stages.stage_since_last(last.real, onward, x.standing))
    return replace(x, first=first, last=last)


def named(pose_id: str, x: LineSummary) -> str:
    """A pose's line by its pose, side and mode."""
    name = catalogue().pose(pose_id).name if pose_id in catalogue() else pose_id
    return f"{name}, {x.side} {x.mode}" if x.side != "both" else f"{name}, {x.mode}"


def _hurting(
    work: Work, practitioner_id: int, lines: Iterable[LineSummary], newest: str
) -> str | None:
    """Where it hurt at the newest visit, or in practice shortly before; None where nowhere."""
    visit = next((x.visit for x in lines if x.taken_at == newest), None)
    if visit is None:
        return None
    state = day_states.of_assessment(work.db, work.coach, visit)
    places = [p for p, level in (state.pain if state else {}).items() if level]
    since = (datetime.fromisoformat(newest) - timedelta(days=PAIN_DAYS)).isoformat()
    for entry in practice_log.entries(work.db, work.coach, practitioner_id):
        if since <= entry.started_at <= newest:
            places += [p.place for p in entry.pains]
    return places[0] if places else None


def _told(
    x: LineSummary, unit: str, known: bool, hurting: str | None
) -> tuple[NewsKind, str] | None:
    """The one thing worth saying of a line's newest session."""
    first, last = x.first, x.last or x.first
    if hurting and last is not None and last.verdict is Verdict.LOSS:
        size = f"{wording.signed(last.change, unit)} ± {wording.plain(last.mdc, unit)}"
        return NewsKind.LOSS, f"{size} with pain in the {hurting}: ask before anything else"
    if first is not None and first.confirmed and not known:
        size = f"{wording.signed(first.change, unit)} ± {wording.plain(first.mdc, unit)}"
        kind = NewsKind.GAIN if first.verdict is Verdict.GAIN else NewsKind.LOSS
        over = wording.span(first.days)
        why = f", {first.why}" if first.why else ""
        return kind, f"{size} over {over}{why}: a confirmed {kind}"
    if x.flat is not None:
        return NewsKind.PLATEAU, f"no change for {wording.span(x.flat)}"
    return None


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
    _derive_again(work, wanted, 2 if len({person for person, _ in wanted}) > 1 else 1)
    return len(wanted)


def _derive_again(work: Work, wanted: Sequence[tuple[int, str]], times: int = 1) -> None:
    """Derive summaries, given as (person, pose), and settle whose they are."""
    for _ in range(times):
        for person, pose_id in wanted:
            if pose_id in catalogue():
                _derive(work, person, pose_id)
            else:
                stored.drop(work.db, work.coach, person, pose_id)
    for person in sorted({person for person, _ in wanted}):
        settle(work, person)


#: So many stale summaries are derived again while a page waits; more of them in the background.
FEW = 24


def freshen_few(work: Work) -> int:
    """Derive the coach's stale summaries again where they are few; else how many there are."""
    left = len(stored.stale(work.db, work.coach, versions.judging(), None))
    if left > FEW:
        return left
    freshen(work)
    return 0


def freshen_all(work: Work) -> None:
    """Derive every stale summary of the coach again, a few at a time, others writing between.

    Its connection has no transaction open. Stopped, it goes on with what is left.
    """
    gone_over: list[tuple[int, str]] = []
    while wanted := stored.stale(work.db, work.coach, versions.judging(), None)[:FEW]:
        if wanted == gone_over[-len(wanted) :]:
            # What stays stale however often it is derived is left.
            break
        _freshened(work, wanted)
        gone_over += wanted
    # Errors are pooled over people: now that all of them are there, once more.
    for n in range(0, len(gone_over), FEW):
        _freshened(work, gone_over[n : n + FEW])


def _freshened(work: Work, wanted: Sequence[tuple[int, str]]) -> None:
    with transaction(work.db):
        _derive_again(work, wanted)


def next_look(found: Sequence[PoseSummary]) -> str | None:
    """The first day on which another look can show something, ISO."""
    return trends.earliest_look(
        (
            max(((x.taken_at or "")[:10] for f in d.families for x in f.lines), default=""),
            d.retest_on,
        )
        for d in found
    )


def _family(measure: Measure, label: str, series: Series, taken: dict[int, str]) -> FamilySummary:
    unit = measure.unit
    return FamilySummary(
        family=measure.family,
        label=label,
        unit=unit,
        better=measure.better,
        motion=measure.motion,
        leg=measure.leg,
        sentence=wording.headline_sentence(series, unit),
        asymmetry=wording.say_asymmetry(series, unit),
        reserve={
            side: wording.say_reserve(found[-1], unit)
            for side in series.sides
            if (found := judging.reserves(series, side))
        },
        lines=tuple(
            _line(line, taken, flat=line.mode == series.main_mode)
            for line in series.lines
            if line.sessions
        ),
    )


def _line(line: Line, taken: dict[int, str], *, flat: bool) -> LineSummary:
    last = line.sessions[-1]
    before = line.sessions[-2] if len(line.sessions) > 1 else None
    slope = trends.trend(line)
    still = trends.plateau(line)
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
        plateau=(still.sessions, still.days) if still else None,
        mdc=last.mdc,
        within=(last.within_visit() + last.within_visit()).half,
        visit=last.assessment_id,
        visit_before=before.assessment_id if before else None,
        standing=stages.standing(line),
        stood=stages.standing(replace(line, sessions=line.sessions[:-1])),
        flat=_new_plateau(line) if flat else None,
        better=line.better,
        course=_course(line),
    )


def _course(line: Line) -> tuple[tuple[float, float], ...]:
    """What a small chart shows of a line: the first visit and the newest."""
    kept = list(line.sessions)
    if len(kept) > SHOWN_VISITS:
        kept = [kept[0], *kept[-SHOWN_VISITS + 1 :]]
    return tuple((s.day, round(s.value, 2)) for s in kept)


def _change(gain: Gain | None) -> Change | None:
    if gain is None:
        return None
    days = gain.later.day - gain.earlier.day
    return Change(gain.change, gain.mdc, gain.verdict, days, gain.real)


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
                _derive(work, pid, pose_id)
    for pid in people:
        settle(work, pid)


def lines_of(
    found: Iterable[PoseSummary], pose_id: str, family: str
) -> dict[tuple[str, str], LineSummary]:
    """A family's lines by side and mode, with their stages."""
    return {
        (x.side, x.mode): x
        for d in found
        if d.pose == pose_id
        for f in d.families
        if f.family == family
        for x in f.lines
    }


def staged_of(found: Mapping[tuple[str, str], LineSummary]) -> dict[tuple[str, str], Staged]:
    """Of each side and mode the stage of the change since the first visit, and why."""
    return {k: (x.first.stage, x.first.why) for k, x in found.items() if x.first is not None}


def readings_of(found: Iterable[PoseSummary]) -> list[SessionReading]:
    """The newest session values of a practitioner, as the limiter looks at them."""
    return [
        SessionReading(
            d.pose,
            f.family,
            f.label,
            line.side,
            line.mode,
            line.value,
            f.unit,
            line.half,
            line.within,
        )
        for d in found
        for f in d.families
        for line in f.lines
    ]
