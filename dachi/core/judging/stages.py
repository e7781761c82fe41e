"""First signs and confirmed changes, over all lines that a visit looked at.

A change since the start (the mean of the first two visits) that is beyond its detectable size is a
first sign, where an unchanged person brings one in at most one visit of five. It is confirmed when
the last two visits together show it and each leans that way, or when the trend over at least four
visits has its direction: no single day decides, the first least of all. Both ways in share the
level; and as a dozen lines are looked at each time, the lines of one visit are tested together
by Simes's step-up (Benjamini and Hochberg 1995): of a person whom nothing has happened to,
anything at all is called confirmed in at most one visit of twenty, while several lines that move
together confirm each other.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol, TypeVar

from dachi.core.judging.series import Line, Verdict, gain, pooled
from dachi.core.judging.trend import slope_of, trend, window

#: How often a visit of an unchanged person may bring a confirmed change.
LEVEL = 0.05
#: How often a visit of an unchanged person may bring a first sign of anything.
SIGN_LEVEL = 0.2
#: How often a visit of an unchanged person may bring a confirmed loss from a best.
LOST_LEVEL = 0.004
#: Two ways lead to a confirmed change: each has this share of the level. They mostly agree, and
#: what looks like a slip counts wide before, so that chance takes less than its half of each.
EACH = 0.85
#: A trend leans its way by one standard error at least without its last visit or its first, and
#: so does each of two visits that are one level.
LEANS = 0.32

Key = TypeVar("Key", bound=Hashable)


class Change(Protocol):
    """A change with how often chance alone shows as much, and whether it is beyond its size."""

    @property
    def p(self) -> float: ...

    @property
    def real(self) -> bool: ...


class Loss(Protocol):
    """A loss from a best: how often chance alone makes one, and whether it is beyond its size."""

    @property
    def p(self) -> float: ...

    @property
    def lost(self) -> bool: ...


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
    """What speaks for the change since the first visit; None with fewer than four."""
    start = line.baseline
    if start is None or len(line.sessions) < 4:
        return None
    now = gain(start, line.sessions[-1], line.better)
    before = gain(start, line.sessions[-2], line.better)
    one_way = now.change * before.change > 0.0
    # Two visits that say the same are one level, known better than either.
    level = gain(start, pooled(line.sessions[-2:]), line.better)
    leans = max(now.p, before.p) <= LEANS
    twice = level.p if one_way and leans else 1.0
    found = trend(line)
    along = found is not None and found.slope * now.change > 0.0 and _leant(line, now.change)
    p = min(twice, found.p if found is not None and along else 1.0) / EACH
    clear = found is not None and along and found.clear
    seen = one_way and leans and level.real
    return Standing(min(p, 1.0), seen, found.sessions if found is not None and clear else None)


def _leant(line: Line, change: float) -> bool:
    """Whether the trend leans the way of a change without its last visit, and without its first:
    one visit is no trend.
    """
    for rest in (window(line)[:-1], window(line)[1:]):
        found = slope_of(rest, line.better)
        if found is None or found.slope * change <= 0.0 or found.p > LEANS:
            return False
    return True


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


def lost_lines(
    lines: Iterable[tuple[Key, Hashable, Loss | None]], level: float = LOST_LEVEL
) -> set[Key]:
    """Which lines have surely lost from their best: (line, its newest visit, against its best)."""
    visits: dict[Hashable, dict[Key, float]] = {}
    for key, visit, found in lines:
        if found is not None:
            visits.setdefault(visit, {})[key] = found.p if found.lost else 1.0
    return set().union(*(confirmed(ps, level) for ps in visits.values()))


def first_signs(
    lines: Iterable[tuple[Key, Hashable, Change | None]], level: float = SIGN_LEVEL
) -> set[Key]:
    """Which lines show a first sign: (line, its newest visit, its change since the start)."""
    visits: dict[Hashable, dict[Key, float]] = {}
    real: set[Key] = set()
    for key, visit, found in lines:
        if found is not None:
            visits.setdefault(visit, {})[key] = found.p
            if found.real:
                real.add(key)
    return real & set().union(*(confirmed(ps, level) for ps in visits.values()))


def stage_of(sign: bool, sure: bool) -> Stage | None:
    """The stage of a change since the start; ``sign``: it is a first one (``first_signs``, or of
    a line that is looked at alone a change beyond its size), ``sure``: its line is confirmed.

    A trend over many visits may confirm what first and last alone could not tell.
    """
    if sure:
        return Stage.CONFIRMED
    return Stage.FIRST_SIGN if sign else None


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
