"""From trials to a verdict: session values, gain, asymmetry and reserve.

A session value is the mean of an assessment's comparable trials, each weighed by its own
reading's sd; of three or more one that lies far from the others does not count, two that lie far
apart count wide. Its variance is the visit's and its trials' share (``judging.scatter``); a change
between two visits has both, and is real beyond its 95 % interval (the minimal detectable change).
Changes since the start lean on the mean of the first two visits, which may read low while a pose
is new; a change across two hands or set-ups has the variance of their habits as well.
What one visit holds, left and right, active and passive, shares part of the visit's effect and
is compared without it. A change leaves out what repeats with the person (lengths, skin over
bone); a level, judged against a threshold, has everything.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from itertools import pairwise
from statistics import fmean, median

from dachi.core.catalogue.poses import Likeness
from dachi.core.catalogue.scatter_priors import Prior
from dachi.core.judging.scatter import (
    Evidence,
    Scatter,
    Variance,
    between,
    crossed,
    estimate,
)
from dachi.core.judging.thresholds import Reached, against

#: What must be equal for two readings to be compared, in the order trials carry it.
CONDITIONS = ("warmth", "variant", "method", "part of day", "prop", "marks")
_WAYS = (CONDITIONS.index("method"), CONDITIONS.index("marks"))
#: How the camera was told, the surest first.
METHODS = ("mat", "level", "picture")
#: The share of a reading's sd that is new at each shot, where only the whole is known.
NEW_SHARE = 0.8

#: A trial further from its siblings than so many standard errors is a slip until somebody says
#: that it is so; how many trials what is usual is worth when their scatter is told.
SLIP_Z, USUAL_TRIALS, MOST_TRIALS = 3.8, 6.0, 60.0
#: Standard deviation of how differently two hands, ways or set-ups read one range, degrees.
HABIT_SD = 3.5
#: What a pose that is new may read low by at its first and second visit (a standard deviation).
LEARNING_SD = (4.5, 2.25)

NONE: frozenset[str] = frozenset()
NO_VISITS: frozenset[int] = frozenset()


def part_of_day(hour: int) -> str:
    """Bodies are stiffer before noon: readings of the two halves are not compared."""
    return "morning" if hour < 12 else "afternoon or evening"


class Verdict(StrEnum):
    """What a change amounts to, by MDC95."""

    GAIN = "real gain"
    LOSS = "real loss"
    NONE = "no change we could detect"


#: An asymmetry is worth acting on above the larger of these: a share of the larger side, degrees.
ASYMMETRY_SHARE, ASYMMETRY_DEG = 0.10, 8.0
#: Below this control ratio (active over passive) a reserve is wide; above the other it is narrow.
WIDE_CONTROL, NARROW_CONTROL = 0.8, 0.93


@dataclass(frozen=True)
class TrialValue:
    """One trial's headline reading. ``day`` counts days from any fixed date.

    ``sd`` is the reading's absolute standard deviation, ``sd_change`` its part that is new at
    each shot. ``marker`` names who marked it, ``set_up`` how camera and room stood where somebody
    said so. ``conditions`` follow ``CONDITIONS`` (later ones may be left off); only equal ones
    are compared. ``beside`` holds measures the value is compared at (see ``Likeness``).
    """

    trial_id: int
    assessment_id: int
    day: float
    side: str
    mode: str
    value: float
    sd: float
    valid: bool
    conditions: tuple[str, ...]
    beside: Mapping[str, float] = field(default_factory=dict, hash=False)
    sd_change: float | None = None
    marker: str = ""
    set_up: str = ""

    @property
    def hands(self) -> str:
        """Who read it and how: other hands have other habits."""
        way = [self.conditions[i] for i in _WAYS if len(self.conditions) > i]
        return "|".join((self.marker, self.set_up, *way))

    @property
    def new(self) -> float:
        """Variance of the reading that is new at each shot."""
        return (NEW_SHARE * self.sd if self.sd_change is None else self.sd_change) ** 2


@dataclass(frozen=True)
class SessionValue:
    """The mean (or best) of an assessment's valid, comparable trials of one side and mode.

    Its variance is ``visits`` of the visit's + ``share`` of the trial's + ``known`` (what its
    readings are worse by than trials usually scatter) + ``doubt`` (what looks like a slip);
    in changes also ``early``, what a pose that is new reads low. ``lasting`` is the variance that
    repeats with the person, ``slips`` are trials that do not count, ``hands`` who read it and how.
    ``like`` is the value as it would be at the line's newest set-up, where the pose is
    compared at one, ``apart`` the standard error of that for each unit of correlation.
    """

    assessment_id: int
    day: float
    side: str
    mode: str
    value: float
    count: int
    scatter: Scatter
    share: float
    trial_ids: tuple[int, ...]
    other_conditions: bool = False
    known: float = 0.0
    lasting: float = 0.0
    like: float = math.nan
    apart: float = 0.0
    hands: str = ""
    doubt: float = 0.0
    early: float = 0.0
    visits: float = 1.0
    slips: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        if math.isnan(self.like):
            object.__setattr__(self, "like", self.value)

    @property
    def spread(self) -> Variance:
        """Its variance in a change between visits."""
        return self.scatter.variance(self.visits, self.share, self.uneven)

    @property
    def uneven(self) -> float:
        """What of its variance is its own: coarse readings, doubt, a pose that is new."""
        return self.known + self.doubt + self.early

    @property
    def opened(self) -> float:
        """The mean of that variance, never nought: what the session leaves open."""
        mean = self.visits * self.scatter.visit + self.share * self.scatter.trial
        return max(mean + self.uneven, 1e-9)

    @property
    def mdc(self) -> float:
        """Minimal detectable change between two sessions like this one."""
        return self.scatter.variance(2.0, 2.0 * self.share, 2.0 * (self.known + self.doubt)).half

    @property
    def level(self) -> Variance:
        """Its variance against a threshold: with everything."""
        return self.scatter.variance(
            self.visits, self.share, self.known + self.doubt + self.lasting
        )

    @property
    def half(self) -> float:
        """Half the 95 % interval of the value."""
        return self.level.half

    def within_visit(self) -> Variance:
        """Its variance against what else the same visit holds."""
        return self.scatter.variance(1.0 - self.scatter.shared, self.share, self.known + self.doubt)


@dataclass(frozen=True)
class Gain:
    """The change between two session values, with its 95 % interval and verdict.

    ``better`` says whether more range reads ``higher`` or ``lower``; ``p`` how often chance
    alone shows as much, two-sided.
    """

    earlier: SessionValue
    later: SessionValue
    change: float
    mdc: float
    better: str = "higher"
    p: float = 1.0

    @property
    def low(self) -> float:
        """Lower end of the 95 % interval."""
        return self.change - self.mdc

    @property
    def high(self) -> float:
        """Upper end of the 95 % interval."""
        return self.change + self.mdc

    @property
    def improvement(self) -> float:
        """The change counted towards more range."""
        return self.change if self.better == "higher" else -self.change

    @property
    def verdict(self) -> Verdict:
        """Verdict by MDC95."""
        if self.improvement > self.mdc:
            return Verdict.GAIN
        if self.improvement < -self.mdc:
            return Verdict.LOSS
        return Verdict.NONE

    @property
    def real(self) -> bool:
        """Whether the change is larger than chance would explain."""
        return abs(self.change) > self.mdc

    @property
    def mixed(self) -> bool:
        """Whether a session under other conditions has a part in it."""
        return self.earlier.other_conditions or self.later.other_conditions


@dataclass(frozen=True)
class Line:
    """The series of one side and mode: comparable sessions and the trials left out."""

    side: str
    mode: str
    sessions: tuple[SessionValue, ...]
    trials: tuple[TrialValue, ...]
    left_out: tuple[TrialValue, ...]
    better: str = "higher"

    @property
    def baseline(self) -> SessionValue | None:
        """What changes since the start are counted from: the first two visits of one hand, once
        a third can be compared with them, else the first.
        """
        if len(self.sessions) > 2 and self.sessions[0].hands == self.sessions[1].hands:
            return pooled(self.sessions[:2])
        return self.sessions[0] if self.sessions else None

    @property
    def since_first(self) -> Gain | None:
        """Newest against the baseline, None with fewer than two sessions."""
        start = self.baseline
        if start is None or len(self.sessions) < 2:
            return None
        return gain(start, self.sessions[-1], self.better)

    @property
    def since_last(self) -> Gain | None:
        """Newest against the one before."""
        if len(self.sessions) < 2:
            return None
        return gain(self.sessions[-2], self.sessions[-1], self.better)


@dataclass(frozen=True)
class Reserve:
    """Passive beyond active in one session, and active over passive."""

    assessment_id: int
    side: str
    reserve: float
    mdc: float
    control_ratio: float | None

    @property
    def mixed_up(self) -> bool:
        """Whether passive lies under active beyond chance, which no body does."""
        return under_active(self.reserve, self.mdc)


def under_active(reserve: float, mdc: float) -> bool:
    """Whether a reserve (passive range beyond active) is negative beyond what chance makes it."""
    return reserve < -mdc


@dataclass(frozen=True)
class Asymmetry:
    """Left minus right of one session and mode, against its own MDC95.

    ``tighter`` names the side with less range where the difference is real.
    """

    assessment_id: int
    mode: str
    difference: float
    mdc: float
    tighter: str | None
    acting: Reached

    @property
    def worth_acting(self) -> bool:
        """Whether the tighter side surely deserves more of the work."""
        return self.acting is Reached.YES


@dataclass(frozen=True)
class Series:
    """All lines of one pose and measure, under one set of conditions."""

    lines: tuple[Line, ...]
    conditions: tuple[str, ...] | None
    scatters: Mapping[str, Scatter]
    evidence: Mapping[str, Evidence]
    better: str = "higher"
    included: frozenset[str] = frozenset()

    def line(self, side: str, mode: str) -> Line | None:
        """Return one line, None where nothing was measured."""
        return next((s for s in self.lines if s.side == side and s.mode == mode), None)

    @property
    def sides(self) -> tuple[str, ...]:
        """Sides with anything in them, left first."""
        seen = {s.side for s in self.lines}
        return tuple(s for s in ("left", "right", "both") if s in seen)

    @property
    def main_mode(self) -> str:
        """``passive`` where it was measured, else ``active``."""
        found = any(s.mode == "passive" and s.sessions for s in self.lines)
        return "passive" if found else "active"

    @property
    def left_out(self) -> tuple[TrialValue, ...]:
        """Every trial that no line counts."""
        return tuple(t for line in self.lines for t in line.left_out)


def alone(line: Line, trial_id: int) -> SessionValue | None:
    """One trial of a line as if it were all of its visit; None where the line does not count it."""
    trial = next((t for t in line.trials if t.trial_id == trial_id), None)
    whole = next((s for s in line.sessions if trial_id in s.trial_ids), None)
    if trial is None or whole is None:
        return None
    known = max(trial.new - whole.scatter.trial, 0.0) + whole.doubt
    like = trial.value + whole.like - whole.value
    return replace(
        whole, value=trial.value, count=1, share=1.0, trial_ids=(trial_id,), known=known, like=like,
        doubt=0.0, early=0.0,
    )  # fmt: skip


def pooled(sessions: Sequence[SessionValue]) -> SessionValue:
    """Some sessions of one line as one level of it, each weighed by what it leaves open; where it
    is shown it is the first.
    """
    inverse = [1.0 / s.opened for s in sessions]
    weights = [w / sum(inverse) for w in inverse]

    def squared(values: Sequence[float]) -> float:
        return sum(w * w * v for w, v in zip(weights, values, strict=True))

    def mean(values: Sequence[float]) -> float:
        return sum(w * v for w, v in zip(weights, values, strict=True))

    return replace(
        sessions[0],
        value=mean([s.value for s in sessions]),
        like=mean([s.like for s in sessions]),
        apart=mean([s.apart for s in sessions]),
        lasting=mean([s.lasting for s in sessions]),
        count=sum(s.count for s in sessions),
        visits=squared([s.visits for s in sessions]),
        share=squared([s.share for s in sessions]),
        known=squared([s.known for s in sessions]),
        doubt=squared([s.doubt for s in sessions]),
        early=squared([s.early for s in sessions]),
    )


def gain(earlier: SessionValue, later: SessionValue, better: str = "higher") -> Gain:
    """Compare two session values of the same side and mode."""
    unlike = (later.apart - earlier.apart) ** 2
    one, two = earlier, later
    habits = HABIT_SD**2 if one.hands != two.hands else 0.0
    spread = two.scatter.variance(
        one.visits + two.visits, one.share + two.share, one.uneven + two.uneven + unlike + habits
    )
    change = two.like - one.like
    return Gain(one, two, change, spread.half, better, spread.p(change))


def build(
    trials: Sequence[TrialValue],
    *,
    better: str = "higher",
    likeness: Likeness | None = None,
    include: Collection[str] = (),
    prefer: Mapping[str, str] | None = None,
    best: bool = False,
    others: Mapping[str, Sequence[Evidence]] | None = None,
    priors: Mapping[str, Prior] | None = None,
    still: Collection[int] = (),
    hurt: Collection[int] = (),
    kept: Collection[int] = (),
) -> Series:
    """Group trials into lines.

    The conditions most sessions were taken under (the latest, on a tie) are the
    series; trials under others, and invalid ones, are left out and listed. ``include``
    names conditions that may differ after all, ``prefer`` gives conditions the series must
    have. ``likeness`` is what values are compared at. ``best`` takes the best trial
    of a session instead of the mean, which drifts up with more trials. ``others`` is, for
    each mode, what the coach's trials of this pose with other people say of the scatter,
    ``priors`` what is taken of it beforehand. ``still`` are assessments since whose
    predecessor, days ago, nothing was practised; ``hurt`` those on a day of pain, which say
    nothing of how steady days are. ``kept`` are trials that somebody looked at again: they count,
    however far they lie from the others.
    """
    included = frozenset(include)
    chosen, used, left_out = _sorted_out(trials, included, prefer or {})
    usual = _usual(used)
    steady = _steadiness(used, usual, others or {}, priors or {})
    evidence = _evidence(used, usual, frozenset(still), frozenset(hurt), steady, frozenset(kept))
    scatters = {
        mode: estimate(
            [*((others or {}).get(mode, ())), evidence.get(mode, Evidence())],
            (priors or {}).get(mode, Prior()),
        )
        for mode in {m for _, m in (*used, *left_out)}
    }
    lines = []
    for side, mode in sorted({*used, *left_out}):
        visits = used.get((side, mode), {})
        sessions = [
            _session(
                same, scatters[mode], usual, better if best else None, chosen, steady[mode],
                frozenset(kept),
            )
            for same in visits.values()
        ]  # fmt: skip
        sessions.sort(key=lambda s: (s.day, s.assessment_id))
        # Of two visits there is no more than a first sign, which says that the next one tells.
        for n, sd in enumerate(LEARNING_SD if len(sessions) > len(LEARNING_SD) else ()):
            sessions[n] = replace(sessions[n], early=sd * sd)
        if likeness is not None:
            sessions = _made_alike(sessions, visits, likeness)
        counted = tuple(t for same in visits.values() for t in same)
        rest = tuple(left_out.get((side, mode), ()))
        lines.append(Line(side, mode, tuple(sessions), counted, rest, better))
    return Series(tuple(lines), chosen, scatters, evidence, better, included)


Visits = dict[int, list[TrialValue]]


def _sorted_out(
    trials: Sequence[TrialValue], included: frozenset[str], prefer: Mapping[str, str]
) -> tuple[
    tuple[str, ...] | None,
    dict[tuple[str, str], Visits],
    dict[tuple[str, str], list[TrialValue]],
]:
    """The conditions charted, and by side and mode the visits that count and what does not."""
    wanted = {i: prefer[n] for i, n in enumerate(CONDITIONS) if n in prefer}
    chosen = main_conditions(
        [t for t in trials if all(t.conditions[i : i + 1] == (v,) for i, v in wanted.items())]
    )
    used: dict[tuple[str, str], Visits] = {}
    left_out: dict[tuple[str, str], list[TrialValue]] = {}
    for t in trials:
        key = (t.side, t.mode)
        if t.valid and chosen is not None and not differing(t, chosen) - included:
            used.setdefault(key, {}).setdefault(t.assessment_id, []).append(t)
        else:
            left_out.setdefault(key, []).append(t)
    return chosen, used, left_out


def evidence_of(trials: Sequence[TrialValue]) -> dict[str, Evidence]:
    """What one person's trials of a pose say of each mode's scatter."""
    _, used, _ = _sorted_out(trials, NONE, {})
    usual = _usual(used)
    steady = _steadiness(used, usual, {}, {})
    return _evidence(used, usual, NO_VISITS, NO_VISITS, steady, NO_VISITS)


def _usual(used: Mapping[tuple[str, str], Visits]) -> float:
    """The variance readings of these trials usually have."""
    return median([t.sd**2 for v in used.values() for same in v.values() for t in same] or [1.0])


def _coarse(trial: TrialValue, usual: float) -> float:
    """How much wider than usual a trial scatters (a ratio of variances), from its reading's sd.

    Half of the usual scatter is taken to be the reading's, half the body's.
    """
    return 0.5 + 0.5 * trial.sd**2 / usual if usual > 0.0 else 1.0


def _steadiness(
    used: Mapping[tuple[str, str], Visits],
    usual: float,
    others: Mapping[str, Sequence[Evidence]],
    priors: Mapping[str, Prior],
) -> dict[str, float]:
    """How far trials of one visit usually lie apart (a standard deviation), by mode.

    By the median of their pairs' distances, which a slip does not move, with what is usual of
    the coach's other people and beforehand.
    """
    apart: dict[str, list[float]] = {}
    for (_, mode), visits in used.items():
        own = apart.setdefault(mode, [])
        for same in visits.values():
            ordered = sorted(same, key=lambda t: t.value)
            own += [
                (b.value - a.value) ** 2 / (_coarse(a, usual) + _coarse(b, usual))
                # Of three, neighbours lie nearer than any two would: first and last as well.
                for a, b in (*pairwise(ordered), *((ordered[0], ordered[-1]),)[: len(ordered) > 2])
            ]
    found = {}
    for mode, own in apart.items():
        prior = (priors.get(mode) or Prior()).trial ** 2
        known = sum((e for e in others.get(mode, ())), Evidence())
        df = min(known.within_df, MOST_TRIALS)
        theirs = known.within / known.within_df if df else 0.0
        usually = (USUAL_TRIALS * prior + df * theirs) / (USUAL_TRIALS + df)
        # The median of a chi square with one degree of freedom is 0.455. Of few trials even the
        # median is a slip's: nobody scatters more than twice as wide as usual.
        told = min(median(own) / 0.455 if own else usually, 4.0 * usually)
        both = ((USUAL_TRIALS + df) * usually + len(own) * told) / (USUAL_TRIALS + df + len(own))
        found[mode] = math.sqrt(both)
    return found


@dataclass(frozen=True)
class _Mean:
    """What trials of one visit come to: the share of the trial variance it has, those that
    count with their weights, those that do not, and how wide it is where two are far apart.
    """

    value: float
    share: float
    counted: tuple[TrialValue, ...]
    weights: tuple[float, ...]
    slips: tuple[TrialValue, ...] = ()
    doubt: float = 0.0


def slipped(
    same: Sequence[TrialValue], steady: float, usual: float, kept: Collection[int] = ()
) -> tuple[TrialValue, ...]:
    """Of trials of one visit those that lie too far from the others to be the same range.

    Of three or more those beyond ``SLIP_Z`` of the median, of two that far apart both; none that
    somebody looked at again (``kept``). ``steady``: how trials scatter.
    """
    if len(same) < 2 or all(t.trial_id in kept for t in same):
        return ()
    if len(same) == 2:
        a, b = same
        limit = SLIP_Z * steady * math.sqrt(_coarse(a, usual) + _coarse(b, usual))
        return tuple(same) if abs(a.value - b.value) > limit else ()
    middle = median(t.value for t in same)
    out = tuple(
        t
        for t in same
        if abs(t.value - middle) > SLIP_Z * steady * math.sqrt(_coarse(t, usual))
        and t.trial_id not in kept
    )
    # Where most of them are out there is no middle to be out of.
    return out if 2 * len(out) < len(same) else ()


def _mean(same: Sequence[TrialValue], usual: float, steady: float, kept: frozenset[int]) -> _Mean:
    """Weighted mean of trials without what looks like a slip."""
    out = slipped(same, steady, usual, kept)
    two = len(out) == len(same)
    counted = tuple(same) if two else tuple(t for t in same if t not in out)
    coarse = [_coarse(t, usual) for t in counted]
    total = sum(1.0 / c for c in coarse)
    weights = tuple(1.0 / c / total for c in coarse)
    value = sum(w * t.value for w, t in zip(weights, counted, strict=True))
    doubt = ((same[0].value - same[1].value) / 2.0) ** 2 if two and out else 0.0
    return _Mean(value, 1.0 / total, counted, weights, out, doubt)


def _evidence(
    used: Mapping[tuple[str, str], Mapping[int, list[TrialValue]]],
    usual: float,
    still: frozenset[int],
    hurt: frozenset[int],
    steady: Mapping[str, float],
    kept: frozenset[int],
) -> dict[str, Evidence]:
    """What these trials say of each mode's scatter; of days of pain only the trials'."""
    found: dict[str, Evidence] = {}
    means: dict[tuple[str, str], dict[int, tuple[float, float, float]]] = {}
    for (side, mode), visits in used.items():
        total = found.get(mode, Evidence())
        line = means.setdefault((side, mode), {})
        for at, same in visits.items():
            m = _mean(same, usual, steady[mode], kept)
            if m.doubt:
                # One of the two is a slip, nobody knows which: neither says how days scatter.
                continue
            if at not in hurt:
                line[at] = (same[0].day, m.value, m.share)
            squares = sum((t.value - m.value) ** 2 / _coarse(t, usual) for t in m.counted)
            total += Evidence(within=squares, within_df=len(m.counted) - 1.0)
        rows = sorted((*v, at in still) for at, v in line.items())
        total += between(*_columns([r[:3] for r in rows if not r[3]]))
        for before, after in pairwise(rows):
            if after[3]:
                total += between(*_columns([before[:3], after[:3]]), still=True)
        found[mode] = total
    for mode, total in found.items():
        left, right = means.get(("left", mode), {}), means.get(("right", mode), {})
        both = sorted((left[at][0], left[at][1], right[at][1]) for at in left if at in right)
        found[mode] = total + crossed(*_columns(both))
    return found


def _columns(rows: Sequence[tuple[float, float, float]]) -> tuple[list[float], ...]:
    return tuple([row[i] for row in rows] for i in range(3))


def _session(
    same: list[TrialValue],
    scatter: Scatter,
    usual: float,
    best: str | None,
    chosen: tuple[str, ...] | None,
    steady: float,
    kept: frozenset[int],
) -> SessionValue:
    first = same[0]
    m = _mean(same, usual, steady, kept)
    value = m.value
    if best is not None:
        value = (max if best == "higher" else min)(t.value for t in m.counted)
    # A session is never known better than its readings allow.
    known = sum(
        w * w * max(t.new - _coarse(t, usual) * scatter.trial, 0.0)
        for w, t in zip(m.weights, m.counted, strict=True)
    )
    return SessionValue(
        first.assessment_id,
        first.day,
        first.side,
        first.mode,
        value,
        len(same),
        scatter,
        m.share,
        tuple(t.trial_id for t in same),
        any(chosen is not None and differing(t, chosen) for t in same),
        known,
        fmean(max(t.sd**2 - t.new, 0.0) for t in same),
        hands=Counter(t.hands for t in same).most_common(1)[0][0],
        doubt=m.doubt,
        slips=tuple(t.trial_id for t in m.slips),
    )


def _made_alike(
    sessions: Sequence[SessionValue],
    visits: Mapping[int, Sequence[TrialValue]],
    likeness: Likeness,
) -> list[SessionValue]:
    """Values as they would be at the newest session's set-up, with what that costs."""
    at = {
        s.assessment_id: fmean(found)
        for s in sessions
        if (
            found := [
                t.beside[likeness.measure]
                for t in visits[s.assessment_id]
                if likeness.measure in t.beside
            ]
        )
    }
    newest = next((at[s.assessment_id] for s in reversed(sessions) if s.assessment_id in at), None)
    if newest is None:
        return list(sessions)
    alike = []
    for s in sessions:
        # What nobody measured is taken to have been as it is now.
        apart = at.get(s.assessment_id, newest) - newest
        like = s.value - likeness.slope * apart
        alike.append(replace(s, like=like, apart=likeness.sd * apart))
    return alike


def differing(trial: TrialValue, chosen: tuple[str, ...]) -> frozenset[str]:
    """Names of the conditions in which a trial differs from the series."""
    if trial.conditions == chosen:
        return NONE
    return frozenset(
        name
        for name, own, usual in zip(CONDITIONS, trial.conditions, chosen, strict=False)
        if own != usual
    )


def main_conditions(trials: Sequence[TrialValue]) -> tuple[str, ...] | None:
    """The conditions most sessions of valid trials were taken under.

    Of those that are as many and as new the surest method: one visit with both is read by it.
    """
    sessions = {(t.assessment_id, t.conditions): t.day for t in trials if t.valid}
    if not sessions:
        return None
    counts = Counter(conditions for _, conditions in sessions)
    latest = {c: max(d for (_, k), d in sessions.items() if k == c) for c in counts}
    return max(counts, key=lambda c: (counts[c], latest[c], -_method_rank(c), c))


def _method_rank(conditions: tuple[str, ...]) -> int:
    """How far down ``METHODS`` conditions are; last where they name none."""
    at = CONDITIONS.index("method")
    own = conditions[at] if len(conditions) > at else ""
    return METHODS.index(own) if own in METHODS else len(METHODS)


def reserves(series: Series, side: str) -> list[Reserve]:
    """Reserve and control ratio of each session that has both modes, oldest first."""
    active, passive = series.line(side, "active"), series.line(side, "passive")
    if active is None or passive is None:
        return []
    by_id = {s.assessment_id: s for s in active.sessions}
    found = []
    for p in passive.sessions:
        a = by_id.get(p.assessment_id)
        if a is not None:
            mdc = _mdc_between(a, p)
            if series.better == "higher":
                ratio = a.value / p.value if p.value > 0 else None
                found.append(Reserve(p.assessment_id, side, p.value - a.value, mdc, ratio))
            else:
                # Where less is more range a ratio of the two has no meaning.
                found.append(Reserve(p.assessment_id, side, a.value - p.value, mdc, None))
    return found


def _mdc_between(a: SessionValue, b: SessionValue) -> float:
    """What of one visit differs by chance: the shared part of the visit's effect cancels."""
    return (a.within_visit() + b.within_visit()).half


def worth_acting(left: float, right: float, mdc: float) -> Reached:
    """Whether two sides surely differ by more than sides usually may (interval ``mdc``)."""
    limit = max(ASYMMETRY_DEG, ASYMMETRY_SHARE * max(abs(left), abs(right)))
    return against(abs(left - right), mdc, at_least=limit)


def asymmetries(series: Series, mode: str) -> list[Asymmetry]:
    """Left minus right of each session that has both, oldest first."""
    left, right = series.line("left", mode), series.line("right", mode)
    if left is None or right is None:
        return []
    by_id = {s.assessment_id: s for s in right.sessions}
    found = []
    for a in left.sessions:
        b = by_id.get(a.assessment_id)
        if b is None:
            continue
        difference = a.value - b.value
        mdc = _mdc_between(a, b)
        real = abs(difference) > mdc
        less = "left" if (difference < 0) == (series.better == "higher") else "right"
        acting = worth_acting(a.value, b.value, mdc)
        found.append(
            Asymmetry(a.assessment_id, mode, difference, mdc, less if real else None, acting)
        )
    return found
