"""When a line may reach a target: a window of dates, or why there is none."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from dachi.core.judging.series import Line
from dachi.core.judging.trend import FEWEST, plateau, window

Array = NDArray[np.float64]


class ForecastState(StrEnum):
    """What can be said of a target."""

    REACHED = "reached"
    #: There by its value, but its interval still holds less.
    NEAR = "perhaps reached"
    WINDOW = "window"
    #: From ``earliest`` on; the end lies beyond what can be said.
    OPEN = "open"
    NOT_AT_THIS_RATE = "not at this rate"
    #: Fewer than four sessions, or all within a week.
    TOO_EARLY = "too early"


@dataclass(frozen=True)
class Forecast:
    """When a target may be reached.

    ``earliest`` and ``latest`` are days on the line's own scale; 80 % lie between them. Where it
    will not be reached, ``level`` is where the course would level off, if it slows down.
    """

    state: ForecastState
    earliest: float | None = None
    latest: float | None = None
    level: float | None = None


#: Share of draws that must reach the target within what can be said.
LEAST_SHARE = 0.35
#: Weeks in which progress slows to a third, with how likely each is held beforehand;
#: the first is a straight line.
SLOWING_WEEKS = (math.inf, 60.0, 36.0, 22.0, 14.0, 9.0, 6.0)
SLOWING_PRIOR = (0.36, 0.08, 0.12, 0.14, 0.14, 0.10, 0.06)
#: Spread of early gains between people, degrees a week.
RATE_SD = 1.3
DRAWS = 600
#: A window is given where it is at most so wide for the time that is left to its middle.
WIDEST = 1.3


def forecast(line: Line, target: float) -> Forecast:
    """When the line may reach a target: a window of dates, or why there is none.

    Progress is taken as a straight line or one that slows down; each way of slowing is a
    linear regression on the sessions with their scatter as its error, weighed by how well it
    explains them. Crossing times of draws from all of them give the window (10 % to 90 %).
    Nothing is said beyond twice the observed span.
    """
    sessions = window(line)
    if not sessions:
        return Forecast(ForecastState.TOO_EARLY)
    sign = 1.0 if line.better == "higher" else -1.0
    last = sessions[-1]
    if sign * (last.value - target) >= 0:
        sure = sign * (last.value - target) >= last.half
        return Forecast(ForecastState.REACHED if sure else ForecastState.NEAR)
    if len(sessions) < FEWEST:
        return Forecast(ForecastState.TOO_EARLY)
    # Standing still and a date exclude each other.
    if plateau(line) is not None:
        return Forecast(ForecastState.NOT_AT_THIS_RATE)
    weeks = np.array([(s.day - sessions[0].day) / 7.0 for s in sessions])
    span = float(weeks[-1])
    if span < 1.0:
        return Forecast(ForecastState.TOO_EARLY)
    values = sign * np.array([s.like for s in sessions])
    # The mean of the variance: an uncertain one makes outliers likelier than a normal law does.
    # What a new pose reads low at first is left out: as a bend of the course it is in the curves.
    errors = np.sqrt([s.opened - s.early + s.apart**2 for s in sessions])
    times, ends = _crossings(weeks, values, errors, sign * target)
    times = np.where(times < weeks[-1], weeks[-1], times)
    horizon = span + 2.0 * span
    early, late = np.quantile(times, [0.1, 0.9], method="nearest")
    if not early <= horizon or float(np.mean(times <= horizon)) < LEAST_SHARE:
        end = float(np.median(ends))
        slows = math.isfinite(end) and sign * last.like < end < sign * target
        return Forecast(ForecastState.NOT_AT_THIS_RATE, level=sign * end if slows else None)
    start = sessions[0].day
    # Who slows down comes late: the shortest window that holds as much is not the middle one.
    ordered = np.sort(times)
    held = int(0.8 * len(ordered))
    with np.errstate(invalid="ignore"):
        widths = ordered[held:] - ordered[: len(ordered) - held]
    at = int(np.nanargmin(np.where(np.isfinite(widths), widths, np.inf)))
    first, last_of = ordered[at], ordered[at + held]
    # A window much wider than the time that is left tells nobody when to come back.
    left = 0.5 * (first + last_of) - span
    if not last_of <= horizon or last_of - first > WIDEST * left:
        return Forecast(ForecastState.OPEN, start + 7.0 * float(early))
    early, late = first, last_of
    return Forecast(ForecastState.WINDOW, start + 7.0 * float(early), start + 7.0 * float(late))


def _crossings(weeks: Array, values: Array, errors: Array, target: float) -> tuple[Array, Array]:
    """Weeks at which draws of the fitted curves reach the target, inf where they never do, and
    where each draw ends, inf where it rises for ever.
    """
    rng = np.random.default_rng(20261124)
    fits = []
    for slowing, prior in zip(SLOWING_WEEKS, SLOWING_PRIOR, strict=True):
        shape = weeks if math.isinf(slowing) else slowing * (1 - np.exp(-weeks / slowing))
        fits.append((slowing, math.log(prior), *_regress(shape, values, errors)))
    logs = np.array([f[1] + f[4] for f in fits])
    odds = np.exp(logs - logs.max())
    counts = rng.multinomial(DRAWS, odds / odds.sum())
    found, ends = [], []
    for (slowing, _, mean, covariance, _), count in zip(fits, counts, strict=True):
        if not count:
            continue
        draws = rng.multivariate_normal(mean, covariance, size=count)
        need = (target - draws[:, 0]) / np.where(draws[:, 1] > 1e-9, draws[:, 1], np.nan)
        with np.errstate(invalid="ignore", divide="ignore"):
            when = need if math.isinf(slowing) else -slowing * np.log1p(-need / slowing)
        found.append(np.where(np.isfinite(when), when, np.inf))
        if math.isinf(slowing):
            ends.append(np.where(draws[:, 1] > 0.0, np.inf, values[-1]))
        else:
            ends.append(draws[:, 0] + np.maximum(draws[:, 1], 0.0) * slowing)
    return np.concatenate(found), np.concatenate(ends)


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
