"""Slope, plateau and the next useful look, from a line of session values.

A slope is the weighted least-squares one over session values, each weighed by what visit and
trials leave open; its interval comes from the scatter that the coach's people tell
(``judging.scatter``), far better known than from the residuals of four or five sessions.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dachi.core.judging.series import HABIT_SD, Line, Series, SessionValue, gain

Array = NDArray[np.float64]

FEWEST = 4
#: A trend looks back this far, or over this many sessions if that reaches further.
WINDOW_DAYS, WINDOW_SESSIONS = 182.0, 6
PLATEAU_SESSIONS, PLATEAU_DAYS = 4, 42.0
RETEST_WEEKS = (2.0, 6.0)
USUAL_RETEST_WEEKS = 4.0


@dataclass(frozen=True)
class Trend:
    """Change in degrees a week (as read, not counted towards more range), 95 % interval.

    ``p``: how often chance alone shows as steep a slope, two-sided.
    """

    slope: float
    sd: float
    low: float
    high: float
    sessions: int
    days: float
    better: str
    p: float = 1.0

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
    """Slope over sessions; None with fewer than three different days."""
    weeks = np.array([s.day / 7.0 for s in sessions])
    if len(set(np.round(weeks, 2))) < 3:
        return None
    own = np.array([s.opened for s in sessions])
    # Readings of one hand share its habit: generalised least squares (Aitken 1935).
    names = [s.hands for s in sessions]
    hands = np.array([[float(n == name) for n in names] for name in dict.fromkeys(names)])
    if len(hands) > 1:
        habits = HABIT_SD**2 / 2.0
        inverse = np.linalg.inv(np.diag(own) + habits * hands.T @ hands)
        apart = weeks - float(inverse.sum(axis=0) @ weeks) / float(inverse.sum())
        parts = inverse @ apart / float(apart @ inverse @ apart)
    else:
        habits = 0.0
        apart = weeks - float(weeks @ (1.0 / own)) / float((1.0 / own).sum())
        parts = apart / own / float(apart @ (apart / own))
    slope = float(parts @ np.array([s.like for s in sessions]))
    shares = np.array([s.share for s in sessions])
    unlike = float(parts @ np.array([s.apart for s in sessions])) ** 2
    known = float(parts**2 @ np.array([s.uneven for s in sessions])) + unlike
    known += habits * float(((hands @ parts) ** 2).sum())
    visits = float(parts**2 @ np.array([s.visits for s in sessions]))
    spread = sessions[-1].scatter.variance(visits, float(parts**2 @ shares), known)
    days = float(sessions[-1].day - sessions[0].day)
    half = spread.half
    return Trend(
        slope, spread.sd, slope - half, slope + half, len(sessions), days, better, spread.p(slope)
    )


def trend(line: Line) -> Trend | None:
    """The line's slope over its recent sessions; None with fewer than four."""
    sessions = window(line)
    return slope_of(sessions, line.better) if len(sessions) >= FEWEST else None


#: Degrees a week below which practice takes nobody anywhere soon.
USEFUL_RATE = 0.75


def plateau(line: Line, pace: float = USEFUL_RATE) -> Plateau | None:
    """Whether a line surely stands still: over the last four sessions or six weeks, or as many more
    as it takes to tell, nothing moved that could be told, and ``pace`` (a week) is ruled out.
    """
    sessions = window(line)
    if len(sessions) < PLATEAU_SESSIONS:
        return None
    since = sessions[-1].day - PLATEAU_DAYS
    least = max(sum(s.day >= since for s in sessions), PLATEAU_SESSIONS)
    for count in range(least, len(sessions) + 1):
        recent = sessions[-count:]
        found = slope_of(recent, line.better)
        first, last = recent[0], recent[-1]
        # What rose and fell back stood still no more than what only rose.
        if found is None or found.clear or any(gain(s, last).real for s in recent[:-1]):
            return None
        if max(found.high, -found.low) < pace:
            return Plateau(count, last.day - first.day)
    return None


def earliest_look(poses: Iterable[tuple[str, str | None]]) -> str | None:
    """The first day on which another look can show something, counted from the last look.

    ``poses``: for each pose the ISO day it was last looked at and the ISO day a new look can
    show something, if any. Poses that the last look left out do not make another one overdue.
    """
    known = list(poses)
    newest = max((last for last, _ in known), default="")
    return min((due for last, due in known if due and last == newest), default=None)


def next_looks(series: Series) -> list[Retest]:
    """The next look by each line that the last look measured."""
    newest = max((line.sessions[-1].day for line in series.lines if line.sessions), default=0.0)
    lines = [x for x in series.lines if x.sessions and x.sessions[-1].day == newest]
    return [r for line in lines if (r := retest(line)) is not None]


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
