"""What drills and poses ask of the body: a closed vocabulary, every item answered by each."""

from __future__ import annotations

import csv
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from enum import IntEnum

from dachi.core.catalogue.problems import CatalogueError

#: Asked of each leg. ``flex`` is the hip's with the knee bent or straight; ``pinch`` flexion with
#: adduction or inward rotation, ``ext_er`` extension with outward rotation; ``knee_twist`` the shin
#: turned against the thigh, ``kneel`` weight on the kneecap, ``knee_back`` a straight knee pushed;
#: ``ham_origin`` a strong pull at the sit bone; ``lever`` a long leg held up; ``knee_valgus`` the
#: inner knee pulled open; ``con_`` a tissue worked hard (``add`` adductors, ``flex`` hip flexors,
#: ``ham`` hamstrings, ``outer`` outer hip); ``press_`` weight or wrap on the side of the hip and on
#: the sit bone. A straight knee folded under the trunk's weight is ``flex_straight`` loaded.
LEGS = (
    "flex_bent", "flex_straight", "ext", "abd", "add", "er", "ir", "pinch", "ext_er", "knee_end",
    "knee_twist", "kneel", "knee_back", "ham_end", "ham_origin", "groin", "nerve", "ankle_pointed",
    "ankle_pulled", "lever",
    "knee_valgus", "con_add", "con_flex", "con_ham", "con_outer", "press_side", "press_sit",
)  # fmt: skip
#: Asked of the trunk and the whole. ``fall``: end on one leg, loaded on a block or eyes down.
BODY = (
    "spine_round", "spine_arch", "spine_twist", "pelvis_asym", "on_back", "on_front", "belly",
    "balance", "head_low", "wrists", "strain", "fall", "breath_held", "ballistic",
)  # fmt: skip
NAMES = (*LEGS, *BODY)
#: What brings a part of the body to the end of its range.
ENDS = (
    "flex_bent", "flex_straight", "ext", "abd", "add", "er", "ir", "knee_end", "ham_end", "groin",
    "spine_arch", "spine_twist",
)  # fmt: skip
#: The demands of a direction of the hip.
DIRECTION_DEMANDS = {
    "flexion": ("flex_bent", "flex_straight", "ham_end"), "extension": ("ext",),
    "abduction": ("abd", "groin"), "adduction": ("add",), "external_rotation": ("er",),
    "internal_rotation": ("ir",),
}  # fmt: skip


class Level(IntEnum):
    """How much of a demand there is."""

    NONE = 0
    SOME = 1
    END = 2
    LOADED = 3


_SIGNS = {"-": Level.NONE, "s": Level.SOME, "e": Level.END, "l": Level.LOADED}


@dataclass(frozen=True)
class Demands:
    """Demands of the leg a side names (``own``), of the other leg and of the body."""

    own: Mapping[str, Level]
    other: Mapping[str, Level]
    body: Mapping[str, Level]

    def most(self, name: str) -> Level:
        """The larger of both legs' demand, or the body's."""
        if name in self.body:
            return self.body[name]
        return max(self.own[name], self.other[name])

    def unaided(self) -> Demands:
        """The same reached by one's own strength: every end of range a step less far."""

        def less(found: Mapping[str, Level]) -> dict[str, Level]:
            return {
                n: Level(v - 1)
                if (v >= Level.END and n in (*ENDS, "ham_origin")) or (v and n == "nerve")
                else v
                for n, v in found.items()
            }

        return Demands(less(self.own), less(self.other), less(self.body))

    def asked(self, name: str, leg: str = "", side: str = "") -> Level:
        """How much of a demand falls on a ``leg``, done on a ``side``; the most where neither is
        said, and of the body whoever asks.
        """
        if not leg or not side or name in self.body:
            return self.most(name)
        return (self.own if leg == side else self.other)[name]

    def beyond(self, blocks: Mapping[str, Level], leg: str = "", side: str = "") -> tuple[str, ...]:
        """Which demands reach a level that is blocked, of a leg where one is named."""
        return tuple(n for n, level in blocks.items() if self.asked(n, leg, side) >= level)


#: What asks nothing of anybody.
NOTHING = Demands(
    dict.fromkeys(LEGS, Level.NONE),
    dict.fromkeys(LEGS, Level.NONE),
    dict.fromkeys(BODY, Level.NONE),
)


def read_demands(
    text: str, drills: Collection[str], poses: Collection[str]
) -> tuple[dict[str, Demands], dict[str, Demands]]:
    """Read the table of demands, of drills and of poses.

    A row for each drill and each ``pose ID``, a column for each demand; a cell has a sign for each
    leg (the one the side names first) or one for the body: ``-`` none, ``s`` some, ``e`` end of
    range, ``l`` loaded at the end. CatalogueError names the row and column that is wrong: a
    missing answer is an error.
    """
    rows = list(csv.reader(text.splitlines()))
    if not rows or tuple(rows[0]) != ("what", *NAMES):
        raise CatalogueError("demands: the columns are not the vocabulary")
    found: dict[str, Demands] = {}
    for row in rows[1:]:
        name = row[0]
        if len(row) != len(NAMES) + 1:
            raise CatalogueError(f"demands of {name!r}: {len(NAMES)} answers are asked for")
        if name in found:
            raise CatalogueError(f"demands of {name!r} are given twice")
        found[name] = _row(name, dict(zip(NAMES, row[1:], strict=True)))
    wanted = {*drills, *(f"pose {p}" for p in poses)}
    if lacking := sorted(wanted - set(found)):
        raise CatalogueError(f"demands of {', '.join(lacking)} are missing")
    if spare := sorted(set(found) - wanted):
        raise CatalogueError(f"demands: there is no {', '.join(spare)}")
    return (
        {d: found[d] for d in drills},
        {p: found[f"pose {p}"] for p in poses},
    )


def _row(name: str, cells: Mapping[str, str]) -> Demands:
    for column, cell in cells.items():
        if len(cell) != (2 if column in LEGS else 1) or not set(cell) <= set(_SIGNS):
            raise CatalogueError(f"demands of {name!r}: {column} is {cell!r}")
    return Demands(
        {c: _SIGNS[cells[c][0]] for c in LEGS},
        {c: _SIGNS[cells[c][1]] for c in LEGS},
        {c: _SIGNS[cells[c]] for c in BODY},
    )
