"""What a studio's own error is made of, and what would shrink it most."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from dachi.core.judging.scatter import Scatter

#: A sticker's share of what a reading by eye is off by: median over poses on the bench's bodies.
STICKER_SHARE = 0.83


class Source(StrEnum):
    """Where error comes from, from the picture to the day."""

    MARKS = "the marks"
    PICTURE = "camera and limb out of plane"
    BODY = "the body from trial to trial"
    DAY = "the day"


@dataclass(frozen=True)
class Part:
    """One source's standard deviation in a session value; ``share`` of the whole variance."""

    source: Source
    sd: float
    share: float


@dataclass(frozen=True)
class Remedy:
    """What could be done, and the change that would show then."""

    words: str
    mdc: float


@dataclass(frozen=True)
class Twice:
    """One photograph marked twice: both readings, in the measure's unit."""

    first: float
    again: float


def marking_sd(found: Sequence[Twice]) -> float | None:
    """Scatter of one marking, from pairs of them: the root mean square difference over root 2."""
    if not found:
        return None
    return math.sqrt(sum((t.again - t.first) ** 2 for t in found) / (2.0 * len(found)))


def parts(scatter: Scatter, trials: float, reading_sd: float, marks_sd: float | None) -> list[Part]:
    """What a session value of so many ``trials`` is off by, from the picture to the day.

    ``reading_sd``: what a reading has of its own at each shot; ``marks_sd``: the marks' part of
    it, None where no photograph was marked twice (it is left in the picture's then).
    """
    whole = scatter.trial
    picture = min(reading_sd**2, whole)
    marks = min(marks_sd**2, whole) if marks_sd is not None else 0.0
    found = {
        Source.MARKS: marks / trials,
        Source.PICTURE: max(picture - marks, 0.0) / trials,
        Source.BODY: max(whole - max(picture, marks), 0.0) / trials,
        Source.DAY: scatter.visit,
    }
    total = sum(found.values()) or 1.0
    return [
        Part(source, math.sqrt(v), v / total)
        for source, v in found.items()
        if source is not Source.MARKS or marks_sd is not None
    ]


def mdc(scatter: Scatter, trials: float, visits: float = 1.0, trial_share: float = 1.0) -> float:
    """The change that shows between two looks of so many visits with so many trials each."""
    each = trial_share / (trials * visits)
    return scatter.variance(2.0 / visits, 2.0 * each).half


def remedies(scatter: Scatter, trials: float, reading_sd: float) -> list[Remedy]:
    """What would let smaller changes show, the most helpful first; what does not help left out."""
    now = mdc(scatter, trials)
    stickers = 1.0
    if scatter.trial > 0.0:
        saved = min(reading_sd**2, scatter.trial) * (1.0 - STICKER_SHARE**2)
        stickers = 1.0 - saved / scatter.trial
    found = [
        Remedy("stickers, put on in the pose", mdc(scatter, trials, trial_share=stickers)),
        Remedy("two visits in one week, as one", mdc(scatter, trials, visits=2.0)),
    ]
    if trials < 3.0:
        found.append(Remedy("three trials each", mdc(scatter, 3.0)))
    return sorted((r for r in found if r.mdc <= 0.97 * now), key=lambda r: r.mdc)
