"""The studio's own error, pose by pose: what its people's trials and second markings tell."""

from __future__ import annotations

from collections import OrderedDict, defaultdict
from dataclasses import dataclass, replace
from statistics import fmean, median, stdev

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import steadiness, wording
from dachi.core.judging.scatter import Scatter, estimate
from dachi.core.judging.steadiness import Part, Remedy, Source, Twice
from dachi.core.measuring.scene import SceneError
from dachi.data import catalogue, scatter_priors
from dachi.store import markings, remarks, second_opinions
from dachi.store import steadiness as stored
from dachi.store import summaries as digests
from dachi.studio.acting import acting
from dachi.studio.bench import drafts
from dachi.studio.bench.around import Surroundings
from dachi.studio.bench.reading import read
from dachi.studio.work import Work


@dataclass(frozen=True)
class Steady:
    """The error of one pose, measure and mode in this studio."""

    pose: Pose
    measure: Measure
    mode: str
    scatter: Scatter
    people: int
    trials: float
    mdc: float
    parts: tuple[Part, ...]
    remedies: tuple[Remedy, ...]
    days_told: bool

    @property
    def largest(self) -> Source:
        """Where most of the error comes from."""
        return max(self.parts, key=lambda p: p.share).source


@dataclass(frozen=True)
class Marked:
    """How far a photograph read apart when it was marked again."""

    label: str
    unit: str
    first: float
    again: float

    @property
    def words(self) -> str:
        """Both values, in words."""
        first, again = wording.plain(self.first, self.unit), wording.plain(self.again, self.unit)
        return f"{self.label}: {first} the first time, {again} now"


_KEPT: OrderedDict[tuple[str, int], tuple[object, list[Steady]]] = OrderedDict()
_MOST_KEPT = 16


def steady(work: Work) -> list[Steady]:
    """Every pose and mode that was measured, the ones with most evidence first.

    Worked out again where any summary or second marking has changed.
    """
    key = (str(work.folder), work.coach)
    state = (digests.state(work.db, work.coach), remarks.count(work.db, work.coach))
    kept = _KEPT.get(key)
    if kept is None or kept[0] != state:
        _KEPT[key] = kept = (state, _steady(work))
        while len(_KEPT) > _MOST_KEPT:
            _KEPT.popitem(last=False)
    return kept[1]


def _steady(work: Work) -> list[Steady]:
    twice: dict[tuple[str, str], list[Twice]] = defaultdict(list)
    for r in remarks.of_coach(work.db, work.coach):
        for measure_id, pair in r.twice.items():
            twice[r.pose, measure_id].append(pair)
    usual = stored.usual(work.db, work.coach)
    found = []
    for (pose_id, family, mode), readings in usual.items():
        if pose_id not in catalogue():
            continue
        pose = catalogue().pose(pose_id)
        own = [m for m in pose.headlines if m.family == family]
        if not own or own[0].unit != "deg":
            continue
        evidence = digests.others_evidence(work.db, work.coach, None, pose_id, family).get(mode, [])
        scatter = estimate(evidence, scatter_priors().of(pose_id, mode))
        pairs = [p for m in own for p in twice.get((pose_id, m.id), ())]
        reading_sd = median(readings.sds)
        trials = max(fmean(readings.counts), 1.0)
        found.append(
            Steady(
                pose,
                own[0],
                mode,
                scatter,
                readings.people,
                trials,
                steadiness.mdc(scatter, trials),
                tuple(steadiness.parts(scatter, trials, reading_sd, steadiness.marking_sd(pairs))),
                tuple(steadiness.remedies(scatter, trials, reading_sd)),
                sum(e.between_df for e in evidence) >= DAYS_TOLD,
            )
        )
    return sorted(found, key=lambda s: (-s.people, s.pose.demand, s.pose.id, s.mode))


#: Degrees of freedom from which the day's scatter is the studio's own rather than assumed.
DAYS_TOLD = 8.0


@dataclass(frozen=True)
class Against:
    """Photographs against another instrument, degrees: how many, mean difference and spread."""

    count: int
    mean: float
    sd: float


def against_instruments(work: Work) -> Against | None:
    """How far photographs and other instruments read apart; None with fewer than three."""
    found = [apart for _, apart in second_opinions.beside_photographs(work.db, work.coach)]
    return Against(len(found), fmean(found), stdev(found)) if len(found) > 2 else None


def mark_again(work: Work, at: Surroundings, form: dict[str, str]) -> list[Marked]:
    """Read a photograph's second marks and keep the readings beside the first ones.

    The marking that counts stays as it is. Raises SceneError with a sentence.
    """
    first = markings.history(work.db, work.coach, at.trial.id)
    if not first:
        raise SceneError("this photograph was not marked yet: mark it first")
    marking, guesses = drafts.read_form(form, at.pose)
    left = [m.label for m in at.pose.marks if m.id in guesses]
    if left:
        raise SceneError(f"still at the starting guess: {', '.join(left)}")
    # The camera is the first marking's: what is told apart is the marks.
    again = replace(first[0], marks=marking.marks, mark_sds=marking.mark_sds)
    known = {r.id: r for r in markings.readings(work.db, work.coach, at.trial.id) if r.headline}
    result = read(at, again, set())
    if result.result is None:
        raise SceneError((result.problem or "these marks cannot be read").rstrip("."))
    found = [r for r in result.result.readings if r.id in known]
    with acting(work):
        remarks.add(
            work.db, work.coach, at.trial.id, "again", marking.marks,
            {r.id: r.value for r in found}, {r.id: known[r.id].value for r in found},
        )  # fmt: skip
    return [Marked(r.label, r.unit, known[r.id].value, r.value) for r in found]
