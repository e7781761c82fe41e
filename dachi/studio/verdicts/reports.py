"""An assessment against the ones before: what its review says, measure by measure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import wording
from dachi.core.judging.series import (
    Gain,
    Series,
    SessionValue,
    TrialValue,
    asymmetries,
    gain,
    reserves,
)
from dachi.core.judging.stages import Stage, stage_of
from dachi.store.assessments import Assessment
from dachi.store.summaries import LineSummary, News, NewsKind
from dachi.studio.bench.around import Around, Surroundings
from dachi.studio.verdicts.comparing import PlacedPhoto, typical
from dachi.studio.verdicts.summaries import judged, label_of, lines_of, of_practitioner
from dachi.studio.work import Work


@dataclass(frozen=True)
class TodayAgainst:
    """One side and mode today, against the last time and the first."""

    side: str
    mode: str
    today: SessionValue
    last: Gain | None
    first: Gain | None
    #: The stage of the change since the first visit (of the one since the last where there are
    #: but two), and why.
    stage: Stage | None = None
    why: str = ""

    @property
    def whole(self) -> Gain | None:
        """The change since the first visit."""
        return self.first or self.last

    @property
    def detectable(self) -> float:
        """The change that could have been told from chance today."""
        found = self.last or self.first
        return found.mdc if found is not None else self.today.mdc


@dataclass(frozen=True)
class ReviewPart:
    """One measure of a pose in this assessment."""

    pose: Pose
    measure: Measure
    label: str
    rows: tuple[TodayAgainst, ...]
    left_out: int
    reserve: tuple[str, ...]
    asymmetry: str
    pairs: tuple[tuple[TodayAgainst, tuple[PlacedPhoto, ...]], ...]
    apart: tuple[str, ...]


def parts_of(
    work: Work, visit: Assessment, pose: Pose, around: Around | None = None
) -> list[ReviewPart]:
    """What an assessment says of a pose, measure by measure; ``around`` the person's photographs,
    where somebody has them at hand.
    """
    pid = visit.practitioner_id
    around = around or Around(work, pid)
    summaries = of_practitioner(work, pid)
    found = []
    for measure in pose.families:
        series = judged(work, pid, pose, measure.family)
        now = _now(visit, series, lines_of(summaries, pose.id, measure.family))
        out = sum(t.assessment_id == visit.id for line in series.lines for t in line.left_out)
        if not now and not out:
            continue
        found.append(
            ReviewPart(
                pose,
                measure,
                pose.labelled(label_of(work, pose, measure, series)),
                now,
                out,
                tuple(
                    f"{side.capitalize() + ': ' if side != 'both' else ''}"
                    f"{wording.say_reserve(r, measure.unit)}"
                    for side in series.sides
                    for r in reserves(series, side)
                    if r.assessment_id == visit.id
                ),
                next(
                    (
                        wording.describe_asymmetry(a, measure.unit)
                        for a in asymmetries(series, series.main_mode)
                        if a.assessment_id == visit.id
                    ),
                    "",
                ),
                tuple(
                    (n, _pictures(around, n, pose, measure.family))
                    for n in now
                    if n.mode == series.main_mode and measure.fan is not None
                ),
                trials_apart(series, visit.id, measure.unit),
            )
        )
    return found


def news_of(work: Work, visit: Assessment) -> list[News]:
    """What a visit brought that had not been there before, losses first."""
    found = [
        n
        for d in of_practitioner(work, visit.practitioner_id)
        for n in d.news
        if n.at == visit.taken_at[:10]
    ]
    return sorted(found, key=lambda n: n.kind is not NewsKind.LOSS)


def trials_apart(
    series: Series, assessment_id: int, unit: str, *, with_trial: int | None = None
) -> tuple[str, ...]:
    """Sentences about trials of one visit that cannot both be right (one of them named)."""
    said = []
    for line in series.lines:
        own = [t for t in line.trials if t.assessment_id == assessment_id]
        slips = {t for s in line.sessions for t in s.slips}
        pair = _ends(own) if slips & {t.trial_id for t in own} else None
        if pair is not None and with_trial in (None, *(t.trial_id for t in pair)):
            where = line.mode if line.side == "both" else f"{line.side} {line.mode}"
            said.append(wording.say_disagreeing(*pair, where, unit))
    return tuple(said)


def _ends(trials: Sequence[TrialValue]) -> tuple[TrialValue, TrialValue]:
    ordered = sorted(trials, key=lambda t: t.value)
    return ordered[0], ordered[-1]


def said_apart(work: Work, at: Surroundings) -> list[str]:
    """What the other trials of its session make doubtful about a photograph just marked."""
    aid, tid = at.trial.assessment_id, at.trial.id
    return [
        sentence
        for measure in at.pose.families
        for sentence in trials_apart(
            judged(work, at.who.id, at.pose, measure.family), aid, measure.unit, with_trial=tid
        )
    ]


def _now(
    visit: Assessment, series: Series, known: Mapping[tuple[str, str], LineSummary]
) -> tuple[TodayAgainst, ...]:
    """Each line at a visit; stages beyond a first sign are those of a line's newest visit."""
    found = []
    for line in series.lines:
        at = next((i for i, s in enumerate(line.sessions) if s.assessment_id == visit.id), None)
        if at is None:
            continue
        today = line.sessions[at]
        before = line.sessions[:at]
        last = gain(before[-1], today, series.better) if before else None
        upto = replace(line, sessions=line.sessions[: at + 1])
        first = upto.since_first if len(before) > 1 else None
        whole = first or last
        stage, why = stage_of(whole is not None and whole.real, False), ""
        own = known.get((line.side, line.mode))
        if own is not None and own.visit == visit.id and own.first is not None:
            stage, why = own.first.stage, own.first.why
        found.append(TodayAgainst(line.side, line.mode, today, last, first, stage, why))
    order = {"left": 0, "right": 1, "both": 2}
    return tuple(sorted(found, key=lambda n: (order[n.side], n.mode)))


def _pictures(
    around: Around, now: TodayAgainst, pose: Pose, family: str
) -> tuple[PlacedPhoto, ...]:
    """The photographs of the first time (or the last) and of today, aligned."""
    earlier = now.first or now.last
    sessions = [*([earlier.earlier] if earlier else []), now.today]
    found = [typical(around, s, pose, now.side, family) for s in sessions]
    return tuple(p for p in found if p is not None)
