"""Marks as the bench first shows them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from dachi.studio.bench import starting_marks
from dachi.studio.bench.around import Surroundings
from dachi.studio.records import Marking


@dataclass(frozen=True)
class ShownMark:
    """A mark as the bench first shows it."""

    id: str
    label: str
    where: str
    not_the: tuple[str, ...]
    x: float
    y: float
    state: str
    sd: float | None
    key: int


def shown(at: Surroundings, marking: Marking, states: Mapping[str, str]) -> list[ShownMark]:
    """Every mark of the pose where the bench shows it first."""
    guess = starting_marks.guess_marks(at.pose, at.trial.side, *at.size)
    found = []
    for key, m in enumerate(at.pose.marks, start=1):
        x, y = marking.marks.get(m.id, guess[m.id])
        state = states.get(m.id, "absent")
        if m.id in marking.mark_sds and state != "guess":
            state = "seen" if m.id in marking.seen else "sticker"
        found.append(
            ShownMark(
                m.id,
                m.label,
                m.where,
                tuple(n.words for n in m.skin.not_the),
                x,
                y,
                state,
                marking.mark_sds.get(m.id),
                key,
            )
        )
    return found
