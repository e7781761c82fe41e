"""Marks of one picture miss together: where the rest lie once some are known.

A network that takes a thigh too far forward has hip and knee both there. How the misses of a pose's
marks go with each other is learnt on pictures of bodies (``python -m bench.bodies.network``); what
is known of some moves the others to where they are then likeliest (a Gaussian, given a part).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

#: How far a mark that somebody set may lie from its place, cm; a miss further than so many standard
#: deviations is no habit of the network's and counts as that far.
HAND_CM, MOST_SDS = 1.0, 3.0


@dataclass(frozen=True)
class Together:
    """How misses of a pose's marks go together: (2n, 2n), cm squared, ahead and down of each."""

    marks: tuple[str, ...]
    covariance: Array

    def given(self, known: Mapping[str, tuple[float, float]]) -> dict[str, tuple[float, float]]:
        """How far (ahead, down), cm, every other mark then lies from where it was seen."""
        at = {m: i for i, m in enumerate(self.marks)}
        some = [m for m in known if m in at]
        if not some:
            return {}
        index = [k for m in some for k in (2 * at[m], 2 * at[m] + 1)]
        own = self.covariance[np.ix_(index, index)]
        most = MOST_SDS * np.sqrt(np.diag(own))
        missed = np.clip(np.array([c for m in some for c in known[m]]), -most, most)
        told = self.covariance[:, index] @ np.linalg.solve(
            own + HAND_CM**2 * np.eye(len(index)), missed
        )
        return {
            m: (float(told[2 * i]), float(told[2 * i + 1])) for m, i in at.items() if m not in known
        }


def read_together(text: str) -> dict[str, Together]:
    """By pose, from lines of ``pose,mark,other,aa,ad,da,dd`` under a heading: the covariance of
    one mark's ahead and down with another's, each pair once.
    """
    blocks: dict[str, dict[tuple[str, str], Array]] = {}
    for line in text.split("\n")[1:]:
        if line.strip():
            pose, mark, other, *numbers = line.split(",")
            block = np.array(list(map(float, numbers))).reshape(2, 2)
            blocks.setdefault(pose, {})[mark, other] = block
            blocks[pose][other, mark] = block.T
    found = {}
    for pose, pairs in blocks.items():
        marks = tuple(dict.fromkeys(m for m, _ in pairs))
        rows = [np.hstack([pairs[a, b] for b in marks]) for a in marks]
        found[pose] = Together(marks, np.vstack(rows))
    return found


def write_together(tables: Mapping[str, Together]) -> str:
    """The text that ``read_together`` reads."""
    lines = ["pose,mark,other,aa,ad,da,dd"]
    for pose, one in tables.items():
        for i, mark in enumerate(one.marks):
            for j in range(i, len(one.marks)):
                block = one.covariance[2 * i : 2 * i + 2, 2 * j : 2 * j + 2]
                lines.append(
                    ",".join([pose, mark, one.marks[j], *(f"{x:.3f}" for x in block.flat)])
                )
    return "\n".join([*lines, ""])
