"""The body behind a photograph: its joints' angles, and bones as photographs tell them.

Every reading on a body also solves for thigh and shin. What repeats with the person (where skin
lies from bone) shifts all estimates alike and does not average out; what is new at each shot
does. Shots of unlike poses share less of the first than this takes, so it errs to the wide side.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

#: So many shots are needed before a length is believed.
SHOTS = 4
#: A shot so many standard deviations from the rest is left out.
ASTRAY = 3.0


@dataclass(frozen=True)
class Bone:
    """A bone's length, cm, with its standard deviation; ``repeats`` is the part that repeats."""

    cm: float
    sd: float
    repeats: float


@dataclass(frozen=True)
class BodyAngle:
    """A joint's angle on the reconstructed body, degrees with its standard deviation.

    ``seen``: the photograph narrowed it well below what the pose and people's bodies say by
    themselves; else it is inferred from those.
    """

    name: str
    value: float
    sd: float
    seen: bool

    @property
    def label(self) -> str:
        """Its name in words: ``left hip rotation``."""
        return self.name.replace("_", " ")


@dataclass(frozen=True)
class Learnt:
    """A length learnt from shots: cm, standard deviation and how many shots."""

    cm: float
    sd: float
    shots: int


def learn(shots: Iterable[Mapping[str, Bone]]) -> dict[str, Learnt]:
    """Put single shots' lengths together, bone by bone; bones of too few shots are left out."""
    found = {}
    every = list(shots)
    for name in sorted({n for bones in every for n in bones}):
        own = [bones[name] for bones in every if name in bones]
        middle = sorted(b.cm for b in own)[len(own) // 2]
        near = [b for b in own if abs(b.cm - middle) <= ASTRAY * b.sd]
        if len(near) < SHOTS:
            continue
        weights = [1.0 / max(b.sd**2 - b.repeats**2, 0.01) for b in near]
        total = sum(weights)
        cm = sum(w * b.cm for w, b in zip(weights, near, strict=True)) / total
        lasting = sum(w * b.repeats**2 for w, b in zip(weights, near, strict=True)) / total
        found[name] = Learnt(cm, math.sqrt(1.0 / total + lasting), len(near))
    return found
