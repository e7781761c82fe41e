"""Slope, plateau, forecast and the next useful look, from a line of session values.

Slopes are Theil and Sen's median of pairwise slopes (Sen 1968, scipy.stats.theilslopes), so that
one odd session does not turn them. Their interval comes from the standard error of
measurement, which trials tell far better than the scatter of four or five sessions does:
the least-squares sd SEM sqrt(sum d^2 / n) / sum d^2 with d = t - mean t, widened by the
estimator's efficiency on a handful of sessions, with Student's t on the degrees of freedom
behind the SEM.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.stats import theilslopes

from dachi.core.judging.series import Line, SessionValue, gain, t95

Array = NDArray[np.float64]

FEWEST = 4
#: A trend looks back this far, or over this many sessions if that reaches further.
WINDOW_DAYS, WINDOW_SESSIONS = 182.0, 6
PLATEAU_SESSIONS, PLATEAU_DAYS = 4, 42.0
RETEST_WEEKS = (2.0, 6.0)
USUAL_RETEST_WEEKS = 4.0
#: Efficiency of Theil and Sen's slope against least squares for normal errors: 3/pi for many
#: evenly spread sessions, less for a few irregular ones (0.87 for five to eight, by simulation).
EFFICIENCY = 0.87


@dataclass(frozen=True)
class Trend:
    """Change in degrees a week (as read, not counted towards more range), 95 % interval."""

    slope: float
    sd: float
    low: float
    high: float
    sessions: int
    days: float
    better: str

    @property
    def improvement(self) -> float:
        """Degrees a week towards more range."""
        return self.slope if self.better == "higher" else -self.slope

    @property
    def clear(self) -> bool:
        """Whether the interval leaves zero out."""
        return self.low > 0 or self.high < 0


@dataclass(frozen=True)
class Plateau:
    """Nothing has moved that could be told: over how many sessions and days."""

    sessions: int
    days: float


@dataclass(frozen=True)
class Forecast:
    """When a target may be reached.

    ``state``: ``reached``; ``window`` (80 % between ``earliest`` and ``latest``, days on the
    line's own scale); ``open`` (from ``earliest``, the end lies beyond what can be said);
    ``not at this rate``; ``too early`` (fewer than four sessions).
    """

    state: str
    earliest: float | None = None
    latest: float | None = None


@dataclass(frozen=True)
class Retest:
    """The next look: ``day`` on the line's scale, weeks after the last one, and why."""

    day: float
    weeks: float
    reason: str


def window(line: Line) -> tuple[SessionValue, ...]:
    """The sessions a trend is drawn from: the last half year, or the last six if longer."""
    sessions = line.sessions
    if not sessions:
        return ()
    since = sessions[-1].day - WINDOW_DAYS
    recent = [s for s in sessions if s.day >= since]
    return tuple(recent if len(recent) >= WINDOW_SESSIONS else sessions[-WINDOW_SESSIONS:])


def slope_of(sessions: Sequence[SessionValue], better: str = "higher") -> Trend | None:
    """Robust slope over sessions; None with fewer than three different days."""
    weeks = np.array([s.day / 7.0 for s in sessions])
    values = np.array([s.value for s in sessions])
    counts = np.array([s.count for s in sessions], dtype=float)
    if len(set(np.round(weeks, 2))) < 3:
        return None
    slope = float(theilslopes(values, weeks)[0])
    apart = (weeks - weeks.mean()) ** 2
    sem = float(np.sqrt(np.mean([s.sem**2 for s in sessions])))
    sd = sem * math.sqrt(float(apart @ (1 / counts)) / EFFICIENCY) / float(apart.sum())
    half = t95(sessions[-1].df) * sd
    return Trend(
        slope,
        sd,
        slope - half,
        slope + half,
        len(sessions),
        float(sessions[-1].day - sessions[0].day),
        better,
    )


def trend(line: Line) -> Trend | None:
    """The line's slope over its recent sessions; None with fewer than four."""
    sessions = window(line)
    return slope_of(sessions, line.better) if len(sessions) >= FEWEST else None


def plateau(line: Line) -> Plateau | None:
    """Whether nothing moved over the last four sessions or six weeks, whichever is more."""
    sessions = line.sessions
    if len(sessions) < PLATEAU_SESSIONS:
        return None
    since = sessions[-1].day - PLATEAU_DAYS
    recent = [s for s in sessions if s.day >= since]
    if len(recent) < PLATEAU_SESSIONS:
        recent = list(sessions[-PLATEAU_SESSIONS:])
    found = slope_of(recent, line.better)
    if found is None or found.clear:
        return None
    first, last = recent[0], recent[-1]
    if abs(last.value - first.value) >= gain(first, last).mdc:
        return None
    return Plateau(len(recent), last.day - first.day)


# ---------------------------------------------------------------- forecast

#: Weeks in which progress slows to a third, with how likely each is held beforehand;
#: the first is a straight line.
SLOWING_WEEKS = (math.inf, 60.0, 36.0, 22.0, 14.0, 9.0, 6.0)
SLOWING_PRIOR = (0.46, 0.08, 0.10, 0.11, 0.11, 0.08, 0.06)
#: Spread of early gains between people, degrees a week.
RATE_SD = 1.3
DRAWS = 600


def forecast(line: Line, target: float) -> Forecast:
    """When the line may reach a target: a window of dates, or why there is none.

    Progress is taken as a straight line or one that slows down; each way of slowing is a
    linear regression on the sessions with the SEM as its error, weighed by how well it
    explains them. Crossing times of draws from all of them give the window (10 % to 90 %).
    Nothing is said beyond twice the observed span.
    """
    sessions = window(line)
    if not sessions:
        return Forecast("too early")
    sign = 1.0 if line.better == "higher" else -1.0
    last = sessions[-1]
    if sign * (last.value - target) >= 0:
        return Forecast("reached")
    if len(sessions) < FEWEST:
        return Forecast("too early")
    weeks = np.array([(s.day - sessions[0].day) / 7.0 for s in sessions])
    span = float(weeks[-1])
    if span < 1.0:
        return Forecast("too early")
    values = sign * np.array([s.value for s in sessions])
    errors = np.array([s.sem / math.sqrt(s.count) for s in sessions])
    # An uncertain SEM makes outliers likelier than a normal law has them.
    df = sessions[-1].df
    errors = errors * (1.0 if math.isinf(df) else math.sqrt(df / max(df - 2.0, 1.0)))
    times = _crossings(weeks, values, errors, sign * target)
    times = np.where(times < weeks[-1], weeks[-1], times)
    horizon = span + 2.0 * span
    early, late = np.quantile(times, [0.1, 0.9], method="nearest")
    if not early <= horizon or float(np.mean(times <= horizon)) < 0.35:
        return Forecast("not at this rate")
    start = sessions[0].day
    if late > horizon:
        return Forecast("open", start + 7.0 * float(early))
    return Forecast("window", start + 7.0 * float(early), start + 7.0 * float(late))


def _crossings(weeks: Array, values: Array, errors: Array, target: float) -> Array:
    """Weeks at which draws of the fitted curves reach the target, inf where they never do."""
    rng = np.random.default_rng(20261124)
    fits = []
    for slowing, prior in zip(SLOWING_WEEKS, SLOWING_PRIOR, strict=True):
        shape = weeks if math.isinf(slowing) else slowing * (1 - np.exp(-weeks / slowing))
        fits.append((slowing, math.log(prior), *_regress(shape, values, errors)))
    logs = np.array([f[1] + f[4] for f in fits])
    odds = np.exp(logs - logs.max())
    counts = rng.multinomial(DRAWS, odds / odds.sum())
    found = []
    for (slowing, _, mean, covariance, _), count in zip(fits, counts, strict=True):
        if not count:
            continue
        draws = rng.multivariate_normal(mean, covariance, size=count)
        need = (target - draws[:, 0]) / np.where(draws[:, 1] > 1e-9, draws[:, 1], np.nan)
        with np.errstate(invalid="ignore", divide="ignore"):
            when = need if math.isinf(slowing) else -slowing * np.log1p(-need / slowing)
        found.append(np.where(np.isfinite(when), when, np.inf))
    return np.concatenate(found)


def _regress(shape: Array, values: Array, errors: Array) -> tuple[Array, Array, float]:
    """Bayesian straight line on ``shape``: mean (2,), covariance (2, 2), log evidence."""
    design = np.stack([np.ones_like(shape), shape], axis=1)
    first = values[0]
    prior = np.array([30.0**2, RATE_SD**2])
    middle = np.array([first, 0.4])
    weighted = design / errors[:, None] ** 2
    precision = weighted.T @ design + np.diag(1 / prior)
    covariance = np.linalg.inv(precision)
    mean = covariance @ (weighted.T @ values + middle / prior)
    residual = (values - design @ mean) / errors
    pull = (mean - middle) ** 2 / prior
    evidence = -0.5 * float(residual @ residual + pull.sum())
    evidence -= 0.5 * float(np.linalg.slogdet(precision)[1] + np.log(prior).sum())
    return np.asarray(mean, dtype=float), np.asarray(covariance, dtype=float), evidence


# ---------------------------------------------------------------- the next look


def retest(line: Line) -> Retest | None:
    """When a new assessment can first show something, two to six weeks after the last."""
    if not line.sessions:
        return None
    last = line.sessions[-1]
    found = trend(line)
    shortest, longest = RETEST_WEEKS
    if found is None:
        weeks = USUAL_RETEST_WEEKS
        reason = f"{weeks:.0f} weeks is a usual interval; there is no trend to go by yet"
    else:
        rate = abs(found.slope)
        need = last.mdc / rate if rate > 1e-6 else math.inf
        weeks = min(max(need, shortest), longest)
        if need > longest:
            reason = (
                f"at {rate:.1f}° a week a change would show from {last.mdc:.0f}°, later than the "
                f"{longest:.0f} weeks after which a look is due anyway"
            )
        elif need < shortest:
            reason = (
                f"at {rate:.1f}° a week a change shows early; {shortest:.0f} weeks is the least"
            )
        else:
            reason = (
                f"at {rate:.1f}° a week the {last.mdc:.0f}° that can be detected take about "
                f"{weeks:.0f} weeks"
            )
    return Retest(last.day + 7.0 * weeks, weeks, reason)
