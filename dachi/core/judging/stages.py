"""First signs and confirmed changes, over all lines that a visit looked at.

A change beyond its detectable size once is a first sign. It is confirmed when the visit before
showed it too, or when the trend over at least four visits has its direction. Both ways in share
the level; and as a dozen lines are looked at each time, the lines of one visit are tested together
by Simes's step-up (Benjamini and Hochberg 1995): of a person whom nothing has happened to,
anything at all is called confirmed in at most one visit of twenty, while several lines that move
together confirm each other.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import TypeVar

from dachi.core.judging.series import Line, Verdict, gain
from dachi.core.judging.trend import slope_of, trend, window

#: How often a visit of an unchanged person may bring a confirmed change.
LEVEL = 0.05
#: Two ways lead to a confirmed change: each has this share of the level. Seen twice is rare by
#: chance (its two looks have the first visit in common), so that little is left for it.
EACH = 0.75
#: A trend that a last visit goes on leant that way before by one standard error at least.
LEANS = 0.32

Key = TypeVar("Key", bound=Hashable)


class Stage(StrEnum):
    """How sure a change is that is larger than chance explains once."""

    FIRST_SIGN = "first sign"
    CONFIRMED = "confirmed"


@dataclass(frozen=True)
class Standing:
    """What speaks for the change of a line since its first visit.

    ``p``: how often chance alone would confirm it; ``twice``: the visit before showed it too;
    ``visits``: over how many visits the trend has its direction, None where it has not.
    """

    p: float
    twice: bool
    visits: int | None

    @property
    def why(self) -> str:
        """The reason as a coach says it."""
        if self.twice:
            return "seen at the last two visits"
        return "" if self.visits is None else f"clear in the trend over {self.visits} visits"


def standing(line: Line) -> Standing | None:
    """What speaks for the change since the first visit; None with fewer than three."""
    if len(line.sessions) < 3:
        return None
    now = gain(line.sessions[0], line.sessions[-1], line.better)
    before = gain(line.sessions[0], line.sessions[-2], line.better)
    one_way = now.change * before.change > 0.0
    twice = max(now.p, before.p) if one_way else 1.0
    found = trend(line)
    along = found is not None and found.slope * now.change > 0.0 and _leant(line, now.change)
    p = min(twice, found.p if found is not None and along else 1.0) / EACH
    clear = found is not None and along and found.clear
    seen = one_way and before.real and now.real
    return Standing(min(p, 1.0), seen, found.sessions if found is not None and clear else None)


def _leant(line: Line, change: float) -> bool:
    """Whether the trend leant the way of a change before its last visit: one visit is no trend."""
    rest = slope_of(window(line)[:-1], line.better)
    return rest is not None and rest.slope * change > 0.0 and rest.p <= LEANS


def confirmed(ps: Mapping[Key, float], level: float = LEVEL) -> set[Key]:
    """Which of the lines of one visit are confirmed: Simes's step-up over their ``p``."""
    ordered = sorted(ps, key=lambda k: ps[k])
    last = 0
    for i, key in enumerate(ordered, start=1):
        if ps[key] <= level * i / len(ordered):
            last = i
    return set(ordered[:last])


def confirmed_lines(
    lines: Iterable[tuple[Key, Hashable, Standing | None]], level: float = LEVEL
) -> set[Key]:
    """Which lines are confirmed, of (line, the visit that last measured it, its standing).

    Lines that the same visit measured were looked at together; a line with too few visits to
    be confirmed is none that chance could have confirmed.
    """
    visits: dict[Hashable, dict[Key, float]] = {}
    for key, visit, found in lines:
        if found is not None:
            visits.setdefault(visit, {})[key] = found.p
    return set().union(*(confirmed(ps, level) for ps in visits.values()))


def stage_of(real: bool, sure: bool) -> Stage | None:
    """The stage of a change since the first visit; ``sure``: its line is confirmed.

    A trend over many visits may confirm what first and last alone could not tell.
    """
    if sure:
        return Stage.CONFIRMED
    return Stage.FIRST_SIGN if real else None


def verdict_of(improvement: float, stage: Stage | None) -> Verdict:
    """What a change amounts to, its stage known."""
    if stage is None:
        return Verdict.NONE
    return Verdict.GAIN if improvement > 0 else Verdict.LOSS


def stage_since_last(real: bool, with_the_whole: bool, found: Standing | None) -> Stage | None:
    """The stage of a change since the visit before: a first sign, as one look is.

    It is confirmed where it goes on ``with_the_whole`` change since the first visit, which is
    confirmed, and the trend has that direction.
    """
    if not real:
        return None
    along = found is not None and found.visits is not None
    return Stage.CONFIRMED if with_the_whole and along else Stage.FIRST_SIGN
