"""Deriving what lists show of a pose: current values, verdicts, news and the next look."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import series as judging
from dachi.core.judging import stages, wording
from dachi.core.judging import trend as trends
from dachi.core.judging.best import since_best
from dachi.core.judging.limiters import SessionReading
from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import Gain, Line, Series, Verdict
from dachi.core.judging.stages import Stage
from dachi.core.rules import PAIN_DAYS
from dachi.data import catalogue
from dachi.store import assessments, day_states, markings, practice_log, practitioners
from dachi.store import summaries as stored
from dachi.store.markings import Charted
from dachi.store.summaries import (
    Change,
    FamilySummary,
    LineSummary,
    Lost,
    News,
    NewsKind,
    PoseSummary,
)
from dachi.studio import versions
from dachi.studio.phrases import say_day
from dachi.studio.verdicts import questions
from dachi.studio.verdicts.histories import date_of, family_of, series_of
from dachi.studio.verdicts.questions import Doubted
from dachi.studio.work import Work

Staged = tuple[Stage | None, str]

#: Visits a small chart shows.
SHOWN_VISITS = 24


def others_for(
    work: Work, practitioner_id: int, pose: str, family: str
) -> dict[str, list[Evidence]]:
    """What the coach's trials with other people say of the scatter, by mode."""
    return stored.others_evidence(work.db, work.coach, practitioner_id, pose, family)


#: Series of long histories, kept while nothing they were built from has changed.
_KEPT: OrderedDict[tuple[Any, ...], Series] = OrderedDict()
_MOST_KEPT = 96


def judged(
    work: Work,
    practitioner_id: int,
    pose: Pose,
    family: str,
    *,
    include: Collection[str] = (),
    prefer: Mapping[str, str] | None = None,
) -> Series:
    """The series of a measure of a practitioner, as it is judged everywhere.

    With what the coach's other people say of the scatter, and the mean or the best of a
    session's trials, as the practitioner's school has it.
    """
    known = others_for(work, practitioner_id, pose.id, family)
    stamp = stored.stamps(work.db, work.coach, practitioner_id).get(pose.id)
    key = (
        str(work.folder), practitioner_id, pose.id, family, tuple(sorted(include)),
        tuple(sorted((prefer or {}).items())), stamp,
        tuple(sorted((m, tuple(found)) for m, found in known.items())),
    )  # fmt: skip
    found = _KEPT.get(key) if stamp else None
    if found is None:
        person = practitioners.get(work.db, work.coach, practitioner_id)
        best = person is not None and person.schools.get("trials") == "best"
        still = assessments.still(work.db, work.coach, practitioner_id)
        hurt = day_states.hurting(work.db, work.coach, practitioner_id)
        rows = charted(work, practitioner_id, pose)
        found = series_of(
            rows, pose, family, include, known, prefer, best=best, still=still, hurt=hurt,
            doubted=questions.of(work, practitioner_id),
        )  # fmt: skip
        if stamp:
            _KEPT[key] = found
            while len(_KEPT) > _MOST_KEPT:
                _KEPT.popitem(last=False)
    return found


def charted(work: Work, practitioner_id: int, pose: Pose) -> list[Charted]:
    """The stored readings of a pose that its series are built from, and of what was one before."""
    second = [m.id for m in pose.measures if m.second]
    return markings.charted(work.db, work.coach, practitioner_id, pose.id, second)


def label_of(work: Work, pose: Pose, measure: Measure, series: Series) -> str:
    """What a family is called for the newest trial shown: a variant may have its own headline."""
    own = family_of(pose, measure.family)
    trials = [t for line in series.lines for t in line.trials]
    if len({m.family_label for m in own}) > 1 and trials:
        newest = max(trials, key=lambda t: (t.day, t.trial_id))
        read = {r.id for r in markings.readings(work.db, work.coach, newest.trial_id) if r.headline}
        return next((m.family_label for m in own if m.id in read), measure.family_label)
    return measure.family_label


def renew(work: Work, practitioner_id: int, anew: Collection[str] = ()) -> None:
    """Summaries whose rules or input are not what they were made from, and of poses ``anew``.

    Their input is every reading they chart, how trials of a session count for the person, where it
    hurt and since when nothing was practised. What the coach's other people say of the scatter is
    taken as it is then, and looked at again when these are, or when all are (``freshen_all``).
    """
    person = _Person.of(work, practitioner_id)
    known = stored.stamps(work.db, work.coach, practitioner_id)
    poses = sorted({*person.rows, *known})
    changed = any(known.get(p) != person.made_from(p) or p in anew for p in poses)
    if changed:
        # One visit says something of another: what is doubtful is told over all lines first.
        person = _looked_at(work, person)
    for pose_id in poses:
        stamp = person.made_from(pose_id)
        if known.get(pose_id) == stamp and pose_id not in anew:
            continue
        if pose_id in catalogue() and pose_id in person.rows:
            _derive(work, person, catalogue().pose(pose_id), stamp)
        else:
            stored.drop(work.db, work.coach, practitioner_id, pose_id)
    if changed:
        settle(work, practitioner_id)


@dataclass(frozen=True)
class _Person:
    """What summaries of a person are made of, beside what others say of the scatter."""

    id: int
    rows: Mapping[str, list[Charted]]
    best: bool
    still: frozenset[int]
    hurt: frozenset[int]
    #: Where it hurt at the newest visit or shortly before.
    hurting: str | None
    doubted: Doubted

    @classmethod
    def of(cls, work: Work, practitioner_id: int) -> _Person:
        asked = (work.db, work.coach, practitioner_id)
        rows: dict[str, list[Charted]] = {}
        for row in markings.charted(*asked):
            rows.setdefault(row.pose, []).append(row)
        who = practitioners.get(*asked)
        newest = max((r for own in rows.values() for r in own), default=None, key=_taken)
        return cls(
            practitioner_id, rows, who is not None and who.schools.get("trials") == "best",
            frozenset(assessments.still(*asked)), frozenset(day_states.hurting(*asked)),
            _hurting(work, practitioner_id, newest) if newest else None,
            questions.of(work, practitioner_id),
        )  # fmt: skip

    def made_from(self, pose_id: str) -> str:
        own = self.rows.get(pose_id, [])
        visits = {r.assessment_id for r in own}
        text = repr((own, self.best, sorted(self.still & visits), sorted(self.hurt & visits),
                     self.hurting, self.doubted.of_pose(pose_id)))  # fmt: skip
        return f"{versions.judging()}:{hashlib.sha256(text.encode()).hexdigest()[:16]}"


#: Visits that are looked over for slips: the first ones and the newest.
FIRST_VISITS, NEWEST_VISITS = 2, 10


def _looked_at(work: Work, person: _Person) -> _Person:
    """A person with what is doubtful of their visits told again, and kept."""
    visits = sorted({_taken(r) for own in person.rows.values() for r in own})
    near = {v for _, v in (*visits[:FIRST_VISITS], *visits[-NEWEST_VISITS:])}
    series = {}
    for pose_id, rows in person.rows.items():
        if pose_id not in catalogue() or catalogue().pose(pose_id).families[0].unit != "deg":
            continue
        pose = catalogue().pose(pose_id)
        family = pose.families[0].family
        known = others_for(work, person.id, pose_id, family)
        series[pose_id] = series_of(
            [r for r in rows if r.assessment_id in near], pose, family, (), known, None,
            best=person.best, still=person.still, hurt=person.hurt,
            doubted=replace(person.doubted, doubts=()),
        )  # fmt: skip
    found = questions.looked(person.doubted, series)
    # A day on which it hurt is explained: its loss is said at once, and not asked about.
    hurt = person.hurt | ({visits[-1][1]} if visits and person.hurting else set())
    kept = [d for d in found.doubts if d.assessment_id not in hurt]
    questions.keep(work, person.id, kept)
    return replace(person, doubted=questions.of(work, person.id))


def _taken(row: Charted) -> tuple[str, int]:
    return row.taken_at, row.assessment_id


def _derive(work: Work, person: _Person, pose: Pose, stamp: str) -> None:
    """Everything of a summary but stages and news, which take all of a person's lines."""
    rows = person.rows[pose.id]
    taken = {r.assessment_id: r.taken_at for r in rows}
    families: list[FamilySummary] = []
    evidence: dict[tuple[str, str], Evidence] = {}
    retests: list[float] = []
    for measure in pose.families:
        known = others_for(work, person.id, pose.id, measure.family)
        series = series_of(
            rows, pose, measure.family, (), known, None,
            best=person.best, still=person.still, hurt=person.hurt, doubted=person.doubted,
        )  # fmt: skip
        if not series.lines:
            continue
        evidence |= {(measure.family, mode): e for mode, e in series.evidence.items()}
        label = label_of(work, pose, measure, series)
        families.append(_family(measure, label, series, taken))
        retests += [r.day for r in trends.next_looks(series)]
    retest_on = date_of(min(retests)).isoformat() if retests else None
    found = PoseSummary(person.id, pose.id, tuple(families), (), retest_on)
    stored.save(work.db, work.coach, found, stamp, evidence)


Key = tuple[str, str, str, str]


def _key(d: PoseSummary, f: FamilySummary, x: LineSummary) -> Key:
    return d.pose, f.family, x.side, x.mode


def settle(work: Work, practitioner_id: int) -> None:
    """Say of every line of a person whether it is confirmed, and what that is news of."""
    found = stored.of_practitioner(work.db, work.coach, practitioner_id)
    lines = {_key(d, f, x): x for d in found for f in d.families for x in f.lines}
    sure = stages.confirmed_lines((k, x.visit, x.standing) for k, x in lines.items())
    signs = stages.first_signs((k, x.visit, x.first) for k, x in lines.items())
    gone = stages.lost_lines((k, x.visit, x.lost) for k, x in lines.items())
    gone_before = stages.lost_lines((k, x.visit_before, x.lost_before) for k, x in lines.items())
    before = stages.confirmed_lines((k, x.visit_before, x.stood) for k, x in lines.items())
    newest = max((x.taken_at or "" for x in lines.values()), default="")
    latest = next((x for x in lines.values() if x.taken_at == newest), None)
    hurting = _hurting(work, practitioner_id, latest) if latest is not None else None
    for d in found:
        families = tuple(
            replace(
                f,
                lines=tuple(
                    _staged(x, *(_key(d, f, x) in known for known in (sure, signs, gone)))
                    for x in f.lines
                ),
            )
            for f in d.families
        )
        told = []
        for own, x in ((f, x) for f in families for x in f.lines if x.taken_at == newest):
            key = _key(d, own, x)
            if (news := _told(x, own.unit, key in before, key in gone_before, hurting)) is not None:
                kind, words, pained = news
                text = f"{named(d.pose, x)}: {words}"
                line = (x.side, x.mode)
                told.append(News(kind, text, d.pose, own.family, newest[:10], *line, pained))
        stored.settle(work.db, work.coach, practitioner_id, d.pose, families, told)


def _staged(x: LineSummary, sure: bool, sign: bool, gone: bool) -> LineSummary:
    """A line with the stages of its changes."""
    if x.lost is not None:
        x = replace(x, lost=replace(x.lost, confirmed=gone))
    way = 1.0 if x.better == "higher" else -1.0
    first, last = x.first, x.last
    if first is not None:
        stage = stages.stage_of(sign, sure)
        why = x.standing.why if sure and x.standing is not None else ""
        verdict = stages.verdict_of(way * first.change, stage)
        first = replace(first, stage=stage, verdict=verdict, why=why)
    if last is not None:
        onward = sure and first is not None and first.change * last.change > 0.0
        last = replace(last, stage=stages.stage_since_last(last.real, onward, x.standing))
    return replace(x, first=first, last=last)


def named(pose_id: str, x: LineSummary) -> str:
    """A pose's line by its pose, side and mode."""
    if pose_id in catalogue():
        return catalogue().pose(pose_id).named(x.side, x.mode)
    return f"{pose_id}, {x.side} {x.mode}" if x.side != "both" else f"{pose_id}, {x.mode}"


def _hurting(work: Work, practitioner_id: int, newest: Charted | LineSummary) -> str | None:
    """Where it hurt at a person's newest visit, or in practice shortly before; None: nowhere."""
    visit = newest.visit if isinstance(newest, LineSummary) else newest.assessment_id
    at = newest.taken_at or ""
    state = day_states.of_assessment(work.db, work.coach, visit)
    places = [p.said for p, level in (state.pain if state else {}).items() if level]
    since = (datetime.fromisoformat(at) - timedelta(days=PAIN_DAYS)).isoformat()
    return next(iter((*places, *practice_log.hurt_between(
        work.db, work.coach, practitioner_id, since, at))), None)  # fmt: skip


def _told(
    x: LineSummary, unit: str, known: bool, gone: bool, hurting: str | None
) -> tuple[NewsKind, str, bool] | None:
    """The one thing worth saying of a line's newest session, and whether it hurt as well."""
    first, last = x.first, x.last or x.first
    if hurting and last is not None and last.verdict is Verdict.LOSS:
        size = f"{wording.signed(last.change, unit)} ± {wording.plain(last.mdc, unit)}"
        return NewsKind.LOSS, f"{size} with pain in the {hurting}: ask before anything else", True
    if first is not None and first.confirmed and not known:
        size = f"{wording.signed(first.change, unit)} ± {wording.plain(first.mdc, unit)}"
        kind = NewsKind.GAIN if first.verdict is Verdict.GAIN else NewsKind.LOSS
        over = wording.span(first.days)
        why = f", {first.why}" if first.why else ""
        return kind, f"{size} over {over}{why}: a confirmed {kind}", False
    if x.lost is not None and x.lost.confirmed and not gone:
        size = f"{wording.signed(x.lost.change, unit)} ± {wording.plain(x.lost.mdc, unit)}"
        best = f"{wording.plain(x.lost.best, unit)} on {say_day(date_of(x.lost.day).isoformat())}"
        return NewsKind.LOSS, f"{size} from the best ({best}): a confirmed loss", False
    if x.flat is not None:
        return NewsKind.PLATEAU, f"no change for {wording.span(x.flat)}", False
    return None


def of_practitioner(work: Work, practitioner_id: int) -> list[PoseSummary]:
    """The summaries of a practitioner, as the last command left them."""
    return stored.of_practitioner(work.db, work.coach, practitioner_id)


#: So many stale summaries are derived again before others may write between.
FEW = 24


def stale(work: Work) -> int:
    """How many summaries of the coach's people are to be derived again."""
    return stored.count_stale(work.db, work.coach, versions.judging())


def stale_of(work: Work, practitioner_id: int) -> list[str]:
    """Poses of a person whose summaries are to be derived again."""
    return stored.stale_of(work.db, work.coach, practitioner_id, versions.judging())


def freshen(work: Work, practitioner_id: int) -> None:
    """Derive what is stale of one person's summaries again, before the others' turn comes."""
    with work.db.savepoint():
        renew(work, practitioner_id, set(stale_of(work, practitioner_id)))


def freshen_all(work: Work) -> int:
    """Derive every stale summary of the coach again, a few at a time, others writing between.

    Its connection has no transaction open. Stopped, it goes on with what is left. How many.
    """
    gone_over: list[tuple[int, str]] = []
    while wanted := stored.stale(work.db, work.coach, versions.judging())[:FEW]:
        if wanted == gone_over[-len(wanted) :]:
            # What stays stale however often it is derived is left.
            break
        _derive_again(work, wanted)
        gone_over += wanted
    # Errors are pooled over people: now that all of them are there, once more.
    if len({person for person, _ in gone_over}) > 1:
        for n in range(0, len(gone_over), FEW):
            _derive_again(work, gone_over[n : n + FEW])
    return len(gone_over)


def _derive_again(work: Work, wanted: Sequence[tuple[int, str]]) -> None:
    """Derive summaries, given as (person, pose), in one go."""
    with work.db.savepoint():
        for person in sorted({person for person, _ in wanted}):
            renew(work, person, {pose for who, pose in wanted if who == person})


def next_look(found: Sequence[PoseSummary]) -> str | None:
    """The first day on which another look can show something, ISO."""
    return trends.earliest_look((d.looked_on, d.retest_on) for d in found)


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
        lost=_lost(line),
        lost_before=_lost(replace(line, sessions=line.sessions[:-1])),
    )


def _lost(line: Line) -> Lost | None:
    found = since_best(line)
    if found is None:
        return None
    return Lost(found.best, found.at.day, found.change, found.mdc, found.p, found.lost)


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
    return Change(gain.change, gain.mdc, gain.verdict, days, gain.real, p=gain.p)


def _new_plateau(line: Line) -> float | None:
    """Days of a plateau worth a word: a new one."""
    flat = trends.plateau(line)
    before = replace(line, sessions=line.sessions[:-1])
    return None if flat is None or trends.plateau(before) is not None else flat.days


def stale_from_now(work: Work) -> None:
    """Have every summary of the coach's people derived again: whom they are judged beside changed.

    Errors are pooled over a coach's people.
    """
    stored.mark_stale(work.db, work.coach, [p.id for p in catalogue().poses])


def anew(work: Work, people: Collection[int]) -> None:
    """Derive every summary of some people, twice: what they say of the scatter is pooled."""
    poses = {p.id for p in catalogue().poses}
    for _ in range(2):
        for person in people:
            renew(work, person, poses)


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
            line.mdc,
        )
        for d in found
        for f in d.families
        for line in f.lines
    ]
