"""Two photographs of one pose, months apart, for the person who is on them."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.core.judging import wording
from dachi.core.judging.series import Verdict
from dachi.data import catalogue
from dachi.store import assessments
from dachi.store.assessments import Trial
from dachi.store.practitioners import Practitioner
from dachi.store.summaries import LineSummary, PoseSummary
from dachi.studio.verdicts import summaries
from dachi.studio.verdicts.histories import day_number
from dachi.studio.work import Work


@dataclass(frozen=True)
class Moment:
    """One of the two: its photograph, its day, what was read then."""

    photo_id: int
    on: str
    value: str


@dataclass(frozen=True)
class ThenAndNow:
    """A pose then and now, by its name and side."""

    name: str
    then: Moment
    now: Moment


def then_and_now(work: Work, who: Practitioner) -> ThenAndNow | None:
    """The pose in which a person has grown most, for certain if any; None where none was twice."""
    lines = [
        (d, line, f.unit)
        for d in summaries.of_practitioner(work, who.id)
        if d.pose in catalogue()
        for f in d.families
        for line in f.lines
        if line.mode == "passive" and line.first is not None and len(line.course) > 1
    ]
    lines.sort(key=lambda row: _grown(row[1]), reverse=True)
    visits = assessments.of_practitioner(work.db, work.coach, who.id)
    shots = [(v, t) for v in visits for t in assessments.trials(work.db, work.coach, v.id)]
    for d, line, unit in lines:
        read = {int(day): value for day, value in line.course}
        own = [
            Moment(t.photo_id, v.taken_at, wording.plain(read[day], unit))
            for v, t in sorted(shots, key=lambda row: row[0].taken_at)
            if _shows(t, d, line) and (day := int(day_number(v.taken_at))) in read
        ]
        if len({m.on for m in own}) < 2:
            continue
        return ThenAndNow(catalogue().pose(d.pose).named(line.side), own[0], own[-1])
    return None


def _grown(line: LineSummary) -> tuple[bool, float]:
    assert line.first is not None
    sure = line.first.verdict is Verdict.GAIN and line.first.confirmed
    return sure, abs(line.first.change) if line.first.verdict is Verdict.GAIN else 0.0


def _shows(trial: Trial, d: PoseSummary, line: LineSummary) -> bool:
    kept = trial.valid and not trial.read_from and trial.number == 1
    return kept and (trial.pose, trial.side, trial.mode) == (d.pose, line.side, line.mode)
