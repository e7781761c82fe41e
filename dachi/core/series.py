"""From trials to a verdict: session values, SEM, MDC95, gain and reserve.

SEM pools the coach's own repeated trials with a prior of 2.5 degrees worth 4 degrees
of freedom: SEM^2 = (v0 s0^2 + sum (n_i - 1) s_i^2) / (v0 + sum (n_i - 1)).
MDC95 = 1.96 SEM sqrt(1/k1 + 1/k2) for the means of k1 and k2 trials, which is the
usual 1.96 sqrt(2) SEM / sqrt(k) where both have k.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from statistics import fmean

Z95 = 1.959964
PRIOR_SEM_DEG = 2.5
PRIOR_DF = 4

#: What must be equal for two readings to be compared, in the order they are listed.
CONDITIONS = ("warmth", "variant", "method")


@dataclass(frozen=True)
class TrialValue:
    """One trial's headline reading. ``day`` counts days from any fixed date.

    ``conditions`` are (warmth, variant, method); only equal ones are compared.
    """

    trial_id: int
    assessment_id: int
    day: float
    side: str
    mode: str
    value: float
    sd: float
    valid: bool
    conditions: tuple[str, str, str]


@dataclass(frozen=True)
class SessionValue:
    """The mean of an assessment's valid, comparable trials of one side and mode."""

    assessment_id: int
    day: float
    side: str
    mode: str
    value: float
    count: int
    sem: float
    trial_ids: tuple[int, ...]

    @property
    def mdc(self) -> float:
        """MDC95 between two sessions like this one."""
        return Z95 * math.sqrt(2.0) * self.sem / math.sqrt(self.count)


@dataclass(frozen=True)
class Gain:
    """The change between two session values, with its 95 % interval and verdict.

    ``verdict`` is ``real gain``, ``real loss`` or ``no change we could detect``.
    """

    earlier: SessionValue
    later: SessionValue
    change: float
    mdc: float

    @property
    def low(self) -> float:
        """Lower end of the 95 % interval."""
        return self.change - self.mdc

    @property
    def high(self) -> float:
        """Upper end of the 95 % interval."""
        return self.change + self.mdc

    @property
    def verdict(self) -> str:
        """Verdict by MDC95."""
        if self.change > self.mdc:
            return "real gain"
        if self.change < -self.mdc:
            return "real loss"
        return "no change we could detect"

    @property
    def real(self) -> bool:
        """Whether the change is larger than chance would explain."""
        return abs(self.change) > self.mdc


@dataclass(frozen=True)
class Line:
    """The series of one side and mode: comparable sessions and the trials left out."""

    side: str
    mode: str
    sessions: tuple[SessionValue, ...]
    trials: tuple[TrialValue, ...]
    left_out: tuple[TrialValue, ...]

    @property
    def since_first(self) -> Gain | None:
        """Newest against first, None with fewer than two sessions."""
        return gain(self.sessions[0], self.sessions[-1]) if len(self.sessions) > 1 else None

    @property
    def since_last(self) -> Gain | None:
        """Newest against the one before."""
        return gain(self.sessions[-2], self.sessions[-1]) if len(self.sessions) > 1 else None


@dataclass(frozen=True)
class Reserve:
    """Passive minus active of one session, and active over passive."""

    assessment_id: int
    side: str
    reserve: float
    mdc: float
    control_ratio: float | None


@dataclass(frozen=True)
class Series:
    """All lines of one pose and measure, under one set of conditions."""

    lines: tuple[Line, ...]
    conditions: tuple[str, str, str] | None
    sem: float

    def line(self, side: str, mode: str) -> Line | None:
        """Return one line, None where nothing was measured."""
        return next((s for s in self.lines if s.side == side and s.mode == mode), None)

    @property
    def sides(self) -> tuple[str, ...]:
        """Sides with anything in them, left first."""
        seen = {s.side for s in self.lines}
        return tuple(s for s in ("left", "right", "both") if s in seen)


def pooled_sem(
    groups: Iterable[Sequence[float]], prior: float = PRIOR_SEM_DEG, prior_df: float = PRIOR_DF
) -> float:
    """Standard error of measurement from repeated trials, pooled with the prior."""
    total, df = prior_df * prior**2, float(prior_df)
    for values in groups:
        if len(values) > 1:
            mean = fmean(values)
            total += sum((v - mean) ** 2 for v in values)
            df += len(values) - 1
    return math.sqrt(total / df)


def gain(earlier: SessionValue, later: SessionValue) -> Gain:
    """Compare two session values of the same side and mode."""
    sem = math.sqrt((earlier.sem**2 + later.sem**2) / 2.0)
    mdc = Z95 * sem * math.sqrt(1 / earlier.count + 1 / later.count)
    return Gain(earlier, later, later.value - earlier.value, mdc)


def build(trials: Sequence[TrialValue]) -> Series:
    """Group trials into lines.

    The conditions most sessions were taken under (the latest, on a tie) are the
    series; trials under others, and invalid ones, are left out and listed.
    """
    chosen = _main_conditions(trials)
    sem = pooled_sem(_groups(t for t in trials if t.valid and t.conditions == chosen))
    keys = sorted({(t.side, t.mode) for t in trials})
    lines = []
    for side, mode in keys:
        used: list[TrialValue] = []
        left_out: list[TrialValue] = []
        by_visit: dict[int, list[TrialValue]] = {}
        for t in trials:
            if t.side != side or t.mode != mode:
                continue
            if t.valid and t.conditions == chosen:
                used.append(t)
                by_visit.setdefault(t.assessment_id, []).append(t)
            else:
                left_out.append(t)
        sessions = []
        for assessment, same in by_visit.items():
            sessions.append(
                SessionValue(
                    assessment,
                    same[0].day,
                    side,
                    mode,
                    fmean(t.value for t in same),
                    len(same),
                    sem,
                    tuple(t.trial_id for t in same),
                )
            )
        sessions.sort(key=lambda s: (s.day, s.assessment_id))
        lines.append(Line(side, mode, tuple(sessions), tuple(used), tuple(left_out)))
    return Series(tuple(lines), chosen, sem)


def _main_conditions(trials: Sequence[TrialValue]) -> tuple[str, str, str] | None:
    sessions = {(t.assessment_id, t.conditions): t.day for t in trials if t.valid}
    if not sessions:
        return None
    counts = Counter(conditions for _, conditions in sessions)
    latest = {c: max(d for (_, k), d in sessions.items() if k == c) for c in counts}
    return max(counts, key=lambda c: (counts[c], latest[c], c))


def _groups(trials: Iterable[TrialValue]) -> list[list[float]]:
    found: dict[tuple[int, str, str], list[float]] = {}
    for t in trials:
        found.setdefault((t.assessment_id, t.side, t.mode), []).append(t.value)
    return list(found.values())


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
            mdc = Z95 * series.sem * math.sqrt(1 / a.count + 1 / p.count)
            ratio = a.value / p.value if p.value > 0 else None
            found.append(Reserve(p.assessment_id, side, p.value - a.value, mdc, ratio))
    return found


# ---------------------------------------------------------------- in words


def signed(degrees: float) -> str:
    """Whole degrees with a true sign: +9°, −3°, 0°."""
    whole = round(degrees)
    return f"{'+' if whole > 0 else '−' if whole < 0 else ''}{abs(whole)}°"


def span(days: float) -> str:
    """A time span as a coach says it."""
    if days < 1.5:
        return "the same day" if days < 0.5 else "1 day"
    if days < 11:
        return f"{days:.0f} days"
    weeks = round(days / 7)
    return (
        "1 week" if weeks == 1 else f"{weeks} weeks" if weeks < 104 else f"{weeks / 52:.0f} years"
    )


def say_gain(change: Gain | None, since: str) -> str:
    """One sentence about a change since the first or the last assessment."""
    if change is None:
        return "Nothing to compare with yet."
    days = change.later.day - change.earlier.day
    what = f"{signed(change.change)} since the {since} ({span(days)})"
    if change.verdict == "real gain":
        return f"{what}: a real gain, more than the {change.mdc:.0f}° that chance explains."
    if change.verdict == "real loss":
        return f"{what}: a real loss, more than the {change.mdc:.0f}° that chance explains."
    return f"{what}: no change we could detect; it would show from {change.mdc:.0f}°."


def headline_sentence(series: Series) -> str:
    """The sentence above a chart: what changed since the first and since the last."""
    parts = []
    mode = "passive" if any(s.mode == "passive" and s.sessions for s in series.lines) else "active"
    for side in series.sides:
        line = series.line(side, mode)
        if line is None or not line.sessions:
            continue
        name = f"{side.capitalize()} {mode}" if side != "both" else mode.capitalize()
        first, last = line.since_first, line.since_last
        if first is None or last is None:
            parts.append(f"{name} has one assessment so far ({line.sessions[0].value:.0f}°).")
            continue
        days = first.later.day - first.earlier.day
        if first.real:
            text = (
                f"{name} {signed(first.change)} in {span(days)} (detectable from {first.mdc:.0f}°)"
            )
        else:
            text = f"{name}: no change we could detect in {span(days)} ({signed(first.change)})"
        if len(line.sessions) > 2:
            change = "a real change" if last.real else "not yet detectable"
            text += f"; {signed(last.change)} since last time, {change}"
        parts.append(text + ".")
    return " ".join(parts) or "Nothing to chart yet: mark a photograph first."
