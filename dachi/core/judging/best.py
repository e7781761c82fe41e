"""What is lost from the best that a line has been at.

The best is a level of the line and not the highest of its noisy points: at each visit but the
newest a short straight line through the visits up to it says where it stood, and the best is the
highest of these that is not just lately the newest's own. Picking the highest of several leans
up: the limit is that of as many looks.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from dachi.core.judging.scatter import Variance
from dachi.core.judging.series import HABIT_SD, Line, SessionValue, pooled

#: A level is told by so many visits up to it; paces in it are usually this wide, degrees a week.
LOOK_BACK, PACE_SD = 5, 0.6
#: Fewest visits: two for a best, and one to have lost it at.
FEWEST = 3
#: So many visits at the most are one level of now.
NOW = 3
#: So many levels that are picked from are worth one independent look.
ALIKE = 4.0


@dataclass(frozen=True)
class SinceBest:
    """Now against the best level: ``change`` as read, ``mdc`` its detectable size.

    Now is the newest visit, with the one or two before where all since the best lie under it;
    ``p``: how often chance alone loses as much at those, 1 where it is the newest visit alone;
    ``at`` the visit at which the best was reached.
    """

    best: float
    at: SessionValue
    change: float
    mdc: float
    better: str
    p: float

    @property
    def improvement(self) -> float:
        """The change counted towards more range: a loss is negative."""
        return self.change if self.better == "higher" else -self.change

    @property
    def lost(self) -> bool:
        """Whether more is lost than chance explains."""
        return self.improvement < -self.mdc


def since_best(line: Line) -> SinceBest | None:
    """The newest visit against the best level before it; None with fewer than three visits."""
    sessions = line.sessions
    if len(sessions) < FEWEST:
        return None
    sign = 1.0 if line.better == "higher" else -1.0
    levels = [
        _level(sessions[max(i + 1 - LOOK_BACK, 0) : i + 1]) for i in range(1, len(sessions) - 1)
    ]
    n = max(range(len(levels)), key=lambda i: sign * levels[i].value)
    best = levels[n]
    at = sessions[n + 1]
    looks = 1.0 + (len(levels) - 1) / ALIKE
    since = list(sessions[n + 2 :][-NOW:])
    # Visits that all lie under the best are one level, known better than the newest alone.
    under = len(since) > 1 and all(sign * (s.like - best.value) < 0.0 for s in since)
    now = pooled(since) if under else sessions[-1]
    spread = best.spread(now)
    change = now.like - best.value
    p = min(spread.p(change) * looks, 1.0) if under else 1.0
    return SinceBest(best.value, at, change, spread.within(0.05 / looks), line.better, p)


@dataclass(frozen=True)
class _Level:
    """Where a line stood at a visit, with each visit's weight in that."""

    value: float
    weights: tuple[float, ...]
    used: tuple[SessionValue, ...]

    def spread(self, now: SessionValue) -> Variance:
        """The variance of now against it."""
        both = [(w * w, s) for w, s in zip(self.weights, self.used, strict=True)]
        habits = HABIT_SD**2 if self.used[-1].hands != now.hands else 0.0
        return now.scatter.variance(
            sum(w * s.visits for w, s in both) + now.visits,
            sum(w * s.share for w, s in both) + now.share,
            sum(w * s.uneven for w, s in both) + now.uneven + habits,
        )


def _level(sessions: Sequence[SessionValue]) -> _Level:
    """The end of a weighted straight line through some visits, its pace held near nought.

    The normal equations of a ridge on the slope alone (Hoerl and Kennard 1970), written out.
    """
    weeks = [(s.day - sessions[-1].day) / 7.0 for s in sessions]
    inverse = [1.0 / s.opened for s in sessions]
    s0 = sum(inverse)
    s1 = sum(w * t for w, t in zip(inverse, weeks, strict=True))
    s2 = sum(w * t * t for w, t in zip(inverse, weeks, strict=True)) + 1.0 / PACE_SD**2
    det = s0 * s2 - s1 * s1
    parts = tuple(w * (s2 - s1 * t) / det for w, t in zip(inverse, weeks, strict=True))
    value = sum(p * s.like for p, s in zip(parts, sessions, strict=True))
    return _Level(value, parts, tuple(sessions))
