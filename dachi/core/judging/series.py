"""From trials to a verdict: session values, SEM, MDC95, gain, asymmetry and reserve.

SEM pools the coach's own repeated trials of a pose and mode with a prior of 2.5 degrees
worth 4 degrees of freedom: SEM^2 = (v0 s0^2 + sum (n_i - 1) s_i^2) / (v0 + sum (n_i - 1)).
MDC95 = 1.96 SEM sqrt(1/k1 + 1/k2) for the means of k1 and k2 trials, which is the
usual 1.96 sqrt(2) SEM / sqrt(k) where both have k. While few trials have told the SEM, 1.96
gives way to Student's t on its degrees of freedom, so that a coach's first weeks do not
call chance a gain.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache
from statistics import fmean, median

from scipy.stats import t as student

Z95 = 1.959964
PRIOR_SEM_DEG = 2.5
PRIOR_DF = 4

#: What must be equal for two readings to be compared, in the order trials carry it.
CONDITIONS = ("warmth", "variant", "method", "part of day", "prop")

NONE: frozenset[str] = frozenset()


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

    ``conditions`` follow ``CONDITIONS`` (later ones may be left off); only equal ones are
    compared. ``alike`` holds the measures that must agree within a share to be compared.
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
    alike: Mapping[str, float] = field(default_factory=dict, hash=False)


@dataclass(frozen=True)
class SessionValue:
    """The mean (or best) of an assessment's valid, comparable trials of one side and mode."""

    assessment_id: int
    day: float
    side: str
    mode: str
    value: float
    count: int
    sem: float
    trial_ids: tuple[int, ...]
    other_conditions: bool = False
    df: float = math.inf

    @property
    def mdc(self) -> float:
        """MDC95 between two sessions like this one."""
        return math.sqrt(2.0) * self.half

    @property
    def half(self) -> float:
        """Half the 95 % interval of the value."""
        return t95(self.df) * self.sem / math.sqrt(self.count)


@dataclass(frozen=True)
class Gain:
    """The change between two session values, with its 95 % interval and verdict.

    ``better`` says whether more range reads ``higher`` or ``lower``.
    """

    earlier: SessionValue
    later: SessionValue
    change: float
    mdc: float
    better: str = "higher"

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
    def since_first(self) -> Gain | None:
        """Newest against first, None with fewer than two sessions."""
        return self._gain(0)

    @property
    def since_last(self) -> Gain | None:
        """Newest against the one before."""
        return self._gain(-2)

    def _gain(self, index: int) -> Gain | None:
        if len(self.sessions) < 2:
            return None
        return gain(self.sessions[index], self.sessions[-1], self.better)


@dataclass(frozen=True)
class Reserve:
    """Passive beyond active in one session, and active over passive."""

    assessment_id: int
    side: str
    reserve: float
    mdc: float
    control_ratio: float | None


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
    worth_acting: bool


@dataclass(frozen=True)
class Series:
    """All lines of one pose and measure, under one set of conditions."""

    lines: tuple[Line, ...]
    conditions: tuple[str, ...] | None
    sems: Mapping[str, float]
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


@dataclass(frozen=True)
class Repeats:
    """What repeated trials say of the error: summed squares (deg^2) and degrees of freedom."""

    squares: float = 0.0
    df: float = 0.0

    def __add__(self, other: Repeats) -> Repeats:
        return Repeats(self.squares + other.squares, self.df + other.df)


def repeats_of(groups: Iterable[Sequence[float]]) -> Repeats:
    """Pool the scatter of repeated trials about their own means."""
    squares, df = 0.0, 0.0
    for values in groups:
        if len(values) > 1:
            mean = fmean(values)
            squares += sum((v - mean) ** 2 for v in values)
            df += len(values) - 1
    return Repeats(squares, df)


def pooled_sem(found: Repeats, prior: float = PRIOR_SEM_DEG, prior_df: float = PRIOR_DF) -> float:
    """Standard error of measurement from repeated trials, pooled with the prior."""
    return math.sqrt((prior_df * prior**2 + found.squares) / (prior_df + found.df))


@lru_cache(maxsize=1024)
def t95(df: float) -> float:
    """Two-sided 95 % point of Student's t; 1.96 where the SEM is as good as known."""
    return Z95 if math.isinf(df) else float(student.ppf(0.975, df))


def gain(earlier: SessionValue, later: SessionValue, better: str = "higher") -> Gain:
    """Compare two session values of the same side and mode."""
    sem = math.sqrt((earlier.sem**2 + later.sem**2) / 2.0)
    factor = t95(min(earlier.df, later.df))
    mdc = factor * sem * math.sqrt(1 / earlier.count + 1 / later.count)
    return Gain(earlier, later, later.value - earlier.value, mdc, better)


def build(
    trials: Sequence[TrialValue],
    *,
    better: str = "higher",
    alike: Mapping[str, float] | None = None,
    include: Collection[str] = (),
    prefer: Mapping[str, str] | None = None,
    best: bool = False,
    repeats: Mapping[str, Repeats] | None = None,
) -> Series:
    """Group trials into lines.

    The conditions most sessions were taken under (the latest, on a tie) are the
    series; trials under others, and invalid ones, are left out and listed. ``include``
    names conditions that may differ after all, ``prefer`` gives conditions the series must
    have. ``alike`` gives, for each measure a trial
    carries, the share by which it may differ from the usual. ``best`` takes the best trial
    of a session instead of the mean, which drifts up with more trials. ``repeats`` is, for
    each mode, what the coach's trials of this pose with other people say of the error.
    """
    included = frozenset(include)
    wanted = {i: prefer[n] for i, n in enumerate(CONDITIONS) if n in (prefer or {}) and prefer}
    chosen = main_conditions(
        [t for t in trials if all(t.conditions[i : i + 1] == (v,) for i, v in wanted.items())]
    )
    usual = _usual(trials, chosen, included)

    def comparable(t: TrialValue) -> bool:
        if not t.valid or chosen is None or differing(t, chosen) - included:
            return False
        if not alike:
            return True
        return all(
            name not in t.alike
            or name not in usual
            or abs(t.alike[name] - usual[name]) <= share * abs(usual[name])
            for name, share in alike.items()
        )

    used: dict[tuple[str, str], dict[int, list[TrialValue]]] = {}
    left_out: dict[tuple[str, str], list[TrialValue]] = {}
    for t in trials:
        key = (t.side, t.mode)
        if comparable(t):
            used.setdefault(key, {}).setdefault(t.assessment_id, []).append(t)
        else:
            left_out.setdefault(key, []).append(t)
    pooled = _scatter(used, {m for _, m in (*used, *left_out)}, repeats or {})
    sems = {m: pooled_sem(found) for m, found in pooled.items()}
    lines = []
    for side, mode in sorted({*used, *left_out}):
        visits = used.get((side, mode), {})
        df = PRIOR_DF + pooled[mode].df
        sessions = [
            _session(same, sems[mode], df, better if best else None, chosen)
            for same in visits.values()
        ]
        sessions.sort(key=lambda s: (s.day, s.assessment_id))
        counted = tuple(t for same in visits.values() for t in same)
        rest = tuple(left_out.get((side, mode), ()))
        lines.append(Line(side, mode, tuple(sessions), counted, rest, better))
    return Series(tuple(lines), chosen, sems, better, included)


def _scatter(
    used: Mapping[tuple[str, str], Mapping[int, list[TrialValue]]],
    modes: Collection[str],
    repeats: Mapping[str, Repeats],
) -> dict[str, Repeats]:
    """What these trials and those with other people say of each mode's error."""
    return {
        mode: repeats_of(
            [t.value for t in same]
            for (_, m), visits in used.items()
            if m == mode
            for same in visits.values()
        )
        + repeats.get(mode, Repeats())
        for mode in modes
    }


def _session(
    same: list[TrialValue],
    sem: float,
    df: float,
    best: str | None,
    chosen: tuple[str, ...] | None,
) -> SessionValue:
    first = same[0]
    values = [t.value for t in same]
    value = fmean(values) if best is None else max(values) if best == "higher" else min(values)
    other = any(chosen is not None and differing(t, chosen) for t in same)
    # A session is never known better than its readings allow.
    sem = max(sem, math.sqrt(fmean(t.sd**2 for t in same)))
    return SessionValue(
        first.assessment_id,
        first.day,
        first.side,
        first.mode,
        value,
        len(same),
        sem,
        tuple(t.trial_id for t in same),
        other,
        df,
    )


def disagreeing(
    trials: Sequence[TrialValue], sem: float = PRIOR_SEM_DEG
) -> tuple[TrialValue, TrialValue] | None:
    """The two valid trials of one session, side and mode that lie too far apart to be one range.

    Too far is beyond the 95 % interval of their difference: both readings' spread and the
    scatter between repeated trials.
    """
    valid = sorted((t for t in trials if t.valid), key=lambda t: t.value)
    if len(valid) < 2:
        return None
    low, high = valid[0], valid[-1]
    limit = Z95 * math.sqrt(low.sd**2 + high.sd**2 + 2.0 * sem**2)
    return (low, high) if high.value - low.value > limit else None


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
    """The conditions most sessions of valid trials were taken under."""
    sessions = {(t.assessment_id, t.conditions): t.day for t in trials if t.valid}
    if not sessions:
        return None
    counts = Counter(conditions for _, conditions in sessions)
    latest = {c: max(d for (_, k), d in sessions.items() if k == c) for c in counts}
    return max(counts, key=lambda c: (counts[c], latest[c], c))


def _usual(
    trials: Sequence[TrialValue], chosen: tuple[str, ...] | None, included: frozenset[str]
) -> dict[str, float]:
    found: dict[str, list[float]] = {}
    for t in trials:
        if t.alike and t.valid and chosen is not None and not differing(t, chosen) - included:
            for name, value in t.alike.items():
                found.setdefault(name, []).append(value)
    return {name: median(values) for name, values in found.items()}


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
    return t95(min(a.df, b.df)) * math.sqrt(a.sem**2 / a.count + b.sem**2 / b.count)


def worth_acting(left: float, right: float, mdc: float) -> bool:
    """Whether two sides differ by more than chance and by more than sides usually may."""
    limit = max(ASYMMETRY_DEG, ASYMMETRY_SHARE * max(abs(left), abs(right)))
    return abs(left - right) > max(mdc, limit)


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
