"""Where a reading's scatter comes from: the trial and the visit, estimated over a coach's people.

A value is the course of its line + an effect of the visit + an effect of the trial. The trial's
scatter is told by repeated trials of one visit. The visit's is told by what session means leave
about a smooth course of their own line: polynomials are projected out, whose degrees of freedom
are paid for, so that a course is not taken for scatter (the contrasts of restricted maximum
likelihood: Patterson and Thompson 1971). Of visits within a week with nothing practised between
only the mean is projected out. Both scatters then have a posterior under a half-t prior
(Gelman 2006), worked out on a grid; its moments are kept, from which any variance
a visit^2 + b trial^2 + c has a mean and a spread, and a change its Student interval.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri, stdtr, stdtrit

from dachi.core.catalogue.scatter_priors import Prior

Array = NDArray[np.float64]

Z95 = 1.959964
#: Grid points of each scatter, once coarse and once about what the coarse one found.
POINTS = 28
#: Scatters the grid reaches, in the measure's unit.
LEAST, MOST = 0.15, 12.0
USUAL = Prior()
#: Of so many people one that scatters more than so many times as usual is cut there.
FEW_PEOPLE, MOST_TIMES = 5, 4.0


@dataclass(frozen=True)
class Evidence:
    """What one person's visits say of the scatter; evidence of several people is a list.

    ``within``: summed squares of trials about their visit's mean, with its degrees of freedom.
    ``between``: summed squares of session means about their lines' courses, with degrees of
    freedom and the mean share of the trial's variance in a session mean.
    ``cross``: summed products of what both sides leave in the same visits, with their number.
    """

    within: float = 0.0
    within_df: float = 0.0
    between: float = 0.0
    between_df: float = 0.0
    share: float = 0.0
    cross: float = 0.0
    cross_df: float = 0.0

    def __add__(self, other: Evidence) -> Evidence:
        df = self.between_df + other.between_df
        share = self.between_df * self.share + other.between_df * other.share
        return Evidence(
            self.within + other.within, self.within_df + other.within_df,
            self.between + other.between, df, share / df if df else 0.0,
            self.cross + other.cross, self.cross_df + other.cross_df,
        )  # fmt: skip


@dataclass(frozen=True)
class Scatter:
    """Posterior moments of the variances of visit and trial.

    ``visit`` and ``trial`` are means of variances; ``spread`` their covariance as
    (visit visit, visit trial, trial trial); ``shared`` the part of the visit's variance, 0 to
    1, that the other side and mode of the same visit share.
    """

    visit: float
    trial: float
    spread: tuple[float, float, float]
    shared: float = 0.5

    @property
    def trial_sd(self) -> float:
        """Scatter between repeated trials of one visit."""
        return math.sqrt(self.trial)

    @property
    def visit_sd(self) -> float:
        """Scatter between visits, that of the trials left out."""
        return math.sqrt(self.visit)

    def variance(self, visit: float, trial: float, known: float = 0.0) -> Variance:
        """The variance ``visit`` visits + ``trial`` trials + ``known``, with its own spread."""
        mean = visit * self.visit + trial * self.trial
        vv, vt, tt = self.spread
        spread = visit * visit * vv + 2.0 * visit * trial * vt + trial * trial * tt
        return Variance(mean, spread, known)


@dataclass(frozen=True)
class Variance:
    """A variance known to a spread, and a part that is known."""

    mean: float
    spread: float
    known: float = 0.0

    def __add__(self, other: Variance) -> Variance:
        return Variance(
            self.mean + other.mean, self.spread + other.spread, self.known + other.known
        )

    @property
    def df(self) -> float:
        """Degrees of freedom of the Student law with these moments of an inverse chi square."""
        total = self.mean + self.known
        if self.spread <= 1e-9 * total * total:
            return math.inf
        return 4.0 + 2.0 * total * total / self.spread

    @property
    def sd(self) -> float:
        """Scale of that Student law."""
        df = self.df
        total = self.mean + self.known
        return math.sqrt(total if math.isinf(df) else total * (df - 2.0) / df)

    @property
    def half(self) -> float:
        """Half the 95 % interval."""
        return t95(round(self.df, 1)) * self.sd

    def within(self, p: float) -> float:
        """What chance alone goes beyond, either way, in a share ``p`` of looks."""
        df = self.df
        z = float(ndtri(1.0 - p / 2.0)) if math.isinf(df) else float(stdtrit(df, 1.0 - p / 2.0))
        return z * self.sd

    def p(self, change: float) -> float:
        """How often chance alone shows a change as large, two-sided."""
        scale = self.sd
        if scale <= 0.0:
            return float(change == 0.0)
        df, z = self.df, abs(change) / scale
        return math.erfc(z / math.sqrt(2.0)) if math.isinf(df) else 2.0 * float(stdtr(df, -z))


@lru_cache(maxsize=4096)
def t95(df: float) -> float:
    """Two-sided 95 % point of Student's t; 1.96 where the scatter is as good as known."""
    return Z95 if math.isinf(df) else float(stdtrit(df, 0.975))


# ---- what visits leave about a course -------------------------------------------------


def degree(visits: int) -> int:
    """Degree of the course projected out of a line of so many visits."""
    return 1 if visits < 5 else 2 if visits < 9 else 3


@lru_cache(maxsize=4096)
def contrasts(days: tuple[float, ...], still: bool = False) -> Array:
    """Orthonormal rows (n - 1 - degree, n) that see nothing of a smooth course.

    ``still``: nothing was practised between the visits, so the course is its mean.
    """
    n = len(days)
    p = 0 if still else degree(n)
    if n <= p + 1:
        return np.zeros((0, n))
    at = np.array(days) - days[0]
    if at[-1] <= 0.0:
        return np.zeros((0, n))
    x = 2.0 * at / at[-1] - 1.0
    full, _ = np.linalg.qr(np.vander(x, p + 1, increasing=True), mode="complete")
    return np.asarray(full[:, p + 1 :].T)


def between(
    days: Sequence[float], values: Sequence[float], shares: Sequence[float], *, still: bool = False
) -> Evidence:
    """What session means of one line leave about its course; ``shares`` of the trial variance."""
    rows = contrasts(tuple(days), still)
    if not len(rows):
        return Evidence()
    left = rows @ np.array(values)
    share = float(np.mean((rows * rows) @ np.array(shares)))
    return Evidence(between=float(left @ left), between_df=float(len(rows)), share=share)


def crossed(days: Sequence[float], one: Sequence[float], two: Sequence[float]) -> Evidence:
    """What two lines leave together over the visits that measured both."""
    rows = contrasts(tuple(days))
    if not len(rows):
        return Evidence()
    product = float((rows @ np.array(one)) @ (rows @ np.array(two)))
    return Evidence(cross=product, cross_df=float(len(rows)))


# ---- the posterior --------------------------------------------------------------------


def estimate(found: Iterable[Evidence], prior: Prior = USUAL) -> Scatter:
    """The scatters of a pose and mode from everybody's evidence and the prior."""
    ordered = sorted(found, key=lambda e: (e.within, e.between, e.within_df, e.between_df, e.cross))
    return _estimated(tuple(ordered), prior)


@lru_cache(maxsize=256)
def _estimated(found: tuple[Evidence, ...], prior: Prior) -> Scatter:
    """The same evidence is asked about for every person of a coach, in another order."""
    known = _paired(_merged(_tamed(found)), prior)
    trials = np.geomspace(LEAST, MOST, POINTS)
    visits = np.concatenate(([0.0], np.geomspace(LEAST, MOST, POINTS - 1)))
    weights = _weights(trials, visits, known, prior)
    for _ in range(2):
        trials = _closer(trials, weights.sum(axis=1))
        visits = _closer(visits, weights.sum(axis=0))
        weights = _weights(trials, visits, known, prior)
    v, t = visits**2, trials**2
    over_v, over_t = weights.sum(axis=0), weights.sum(axis=1)
    mean_v, mean_t = float(over_v @ v), float(over_t @ t)
    vv = float(over_v @ (v - mean_v) ** 2)
    tt = float(over_t @ (t - mean_t) ** 2)
    vt = float((t - mean_t) @ weights @ (v - mean_v))
    return Scatter(mean_v, mean_t, (vv, vt, tt), _shared(known, prior, mean_v))


def _tamed(found: Sequence[Evidence]) -> Sequence[Evidence]:
    """Nobody's squares a day count for more than ``MOST_TIMES`` what is usual among several people.

    One person's accident is not how steady everybody's days are.
    """
    told = [e for e in found if e.between_df > 0.0]
    if len(told) < FEW_PEOPLE:
        return found
    usual = float(np.median([e.between / e.between_df for e in told]))
    most = MOST_TIMES * usual
    return [
        replace(e, between=most * e.between_df) if e.between > most * e.between_df else e
        for e in found
    ]


def _merged(found: Iterable[Evidence]) -> list[Evidence]:
    """Evidence whose session means have about the same share of the trials, added up."""
    merged: dict[float, Evidence] = {}
    for e in found:
        key = round(e.share, 2)
        merged[key] = merged.get(key, Evidence()) + e
    return list(merged.values())


def _paired(found: list[Evidence], prior: Prior) -> list[Evidence]:
    """Evidence of both sides counted for what it is worth.

    Two sides of one visit share part of its effect: at a correlation r their squares are worth
    1 / (1 + r^2) of as many independent ones.
    """
    both = sum((e for e in found if e.cross_df), Evidence())
    if not both.between_df:
        return found
    usual = both.between / both.between_df
    told = both.cross / usual if usual > 0.0 else 0.0
    r = (prior.shared_df * prior.shared + told) / (prior.shared_df + both.cross_df)
    worth = 1.0 / (1.0 + min(max(r, 0.0), 1.0) ** 2)
    return [
        replace(e, between=worth * e.between, between_df=worth * e.between_df) if e.cross_df else e
        for e in found
    ]


def _weights(trials: Array, visits: Array, known: Sequence[Evidence], prior: Prior) -> Array:
    """Posterior weights (trials, visits) of grid points, each with the width it stands for."""
    t, v = trials[:, None] ** 2, visits[None, :] ** 2
    power = -0.5 * (prior.df + 1.0)
    log = power * np.log1p(t / (prior.df * prior.trial**2))
    log = log + power * np.log1p(v / (prior.df * prior.visit**2))
    squares, df = sum(e.within for e in known), sum(e.within_df for e in known)
    log = log - 0.5 * (df * np.log(t) + squares / t)
    for e in known:
        if e.between_df:
            total = v + e.share * t
            log = log - 0.5 * (e.between_df * np.log(total) + e.between / total)
    log = log + np.log(_widths(trials))[:, None] + np.log(_widths(visits))[None, :]
    weights = np.exp(log - log.max())
    return np.asarray(weights / weights.sum())


def _widths(points: Array) -> Array:
    edges = np.concatenate((points[:1], (points[1:] + points[:-1]) / 2.0, points[-1:]))
    return np.diff(edges)


def _closer(points: Array, weights: Array) -> Array:
    """A grid over where nearly all of the weight lies."""
    beyond = np.cumsum(weights)
    first = max(int(np.searchsorted(beyond, 2e-4)) - 1, 0)
    last = min(int(np.searchsorted(beyond, 1.0 - 2e-4)) + 1, len(points) - 1)
    return np.linspace(points[first], points[last], POINTS)


def _shared(known: Sequence[Evidence], prior: Prior, visit: float) -> float:
    """The share of the visit's variance that two sides of one visit have in common."""
    if visit <= 0.0:
        return prior.shared
    products, number = sum(e.cross for e in known), sum(e.cross_df for e in known)
    together = prior.shared_df * prior.shared * visit + products
    return min(max(together / ((prior.shared_df + number) * visit), 0.0), 0.9)
