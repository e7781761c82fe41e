"""Whether a value has passed a threshold, judged by its interval and not by the point."""

from __future__ import annotations

import math
from enum import StrEnum


class Reached(StrEnum):
    """What can be said of a value and a bound."""

    YES = "reached"
    NO = "not reached"
    #: The bound lies within the interval.
    UNKNOWN = "not known well enough"


def against(
    value: float, half: float, *, at_least: float = -math.inf, at_most: float = math.inf
) -> Reached:
    """Judge ``value`` with half its 95 % interval against bounds, either of which may be open."""
    if value - half >= at_least and value + half <= at_most:
        return Reached.YES
    if value + half < at_least or value - half > at_most:
        return Reached.NO
    return Reached.UNKNOWN


def together(found: list[Reached], every: bool) -> Reached:
    """Several at once: all of them (``every``) or any one."""
    if every:
        if Reached.NO in found:
            return Reached.NO
        return Reached.UNKNOWN if Reached.UNKNOWN in found or not found else Reached.YES
    if Reached.YES in found:
        return Reached.YES
    return Reached.UNKNOWN if Reached.UNKNOWN in found else Reached.NO
