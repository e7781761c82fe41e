"""Gates that a reading or a logged fact opens, and the ladders whose rungs they guard."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any, Literal

from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.problems import (
    CatalogueError,
    DataEntry,
    all_in,
    read_entry,
    without_twins,
)


class ReadingGate(DataEntry, frozen=True):
    """A reading within one bound, on both sides or on any."""

    pose: str
    family: str
    mode: Literal["active", "passive"]
    of: Literal["both", "any"]
    at_least: float | None = None
    at_most: float | None = None


class EasyGate(DataEntry, frozen=True):
    """A drill logged as easy so many times in a row at its full dose, done for so many days."""

    drill: str
    times: int
    days: float = 0.0


class PropGate(DataEntry, frozen=True):
    """The support of a drill no higher than this."""

    drill: str
    at_most_cm: float


class QuietGate(DataEntry, frozen=True):
    """No pain logged at a place for so many days."""

    place: str
    days: float


class Gate(DataEntry, frozen=True):
    """One condition; exactly one of the four is set."""

    id: str
    words: str
    reading: ReadingGate | None = None
    easy: EasyGate | None = None
    prop: PropGate | None = None
    quiet: QuietGate | None = None


class Rung(DataEntry, frozen=True):
    """A step of a ladder."""

    name: str
    drills: tuple[str, ...]
    gates: tuple[str, ...]


class Ladder(DataEntry, frozen=True):
    """The way to a goal pose; ``prepares`` are its usual preparations in their order.

    ``open`` drills wait for no rung; their support goes down from rung ``lower_from`` on.
    """

    id: str
    name: str
    goal: str
    note: str
    rungs: tuple[Rung, ...]
    prepares: tuple[str, ...] = ()
    open: tuple[str, ...] = ()
    lower_from: int = 0


def build_gates(entries: Iterable[Mapping[str, Any]], catalogue: Catalogue) -> dict[str, Gate]:
    """Validate gates (parsed TOML) against the catalogue; CatalogueError names the gate."""
    found = [read_entry(Gate, e, "gate") for e in entries]
    without_twins((g.id for g in found), "gate")
    for gate in found:
        kinds = [k for k in (gate.reading, gate.easy, gate.prop, gate.quiet) if k is not None]
        if len(kinds) != 1:
            raise CatalogueError(f"gate {gate.id!r} needs exactly one condition")
        if gate.reading is not None:
            r = gate.reading
            if r.pose not in catalogue or r.family not in {
                m.family for m in catalogue.pose(r.pose).headlines
            }:
                raise CatalogueError(f"gate {gate.id!r}: there is no such reading")
            if (r.at_least is None) == (r.at_most is None):
                raise CatalogueError(f"gate {gate.id!r} needs one bound")
    return {g.id: g for g in found}


def check_gates(gates: Iterable[Gate], drills: Collection[str]) -> None:
    """Raise CatalogueError where a gate asks for a drill that is not there.

    Drills name gates and gates name drills: this half is looked at once both are read.
    """
    for gate in gates:
        asked = [x.drill for x in (gate.easy, gate.prop) if x is not None]
        all_in(asked, drills, f"gate {gate.id!r}")


def build_ladders(
    entries: Iterable[Mapping[str, Any]],
    catalogue: Catalogue,
    gates: Collection[str],
    drills: Collection[str],
) -> tuple[Ladder, ...]:
    """Validate ladders (parsed TOML); CatalogueError names what is unknown."""
    found = tuple(read_entry(Ladder, e, "ladder") for e in entries)
    without_twins((x.id for x in found), "ladder")
    for x in found:
        what = f"ladder {x.id!r}"
        all_in((x.goal,), [p.id for p in catalogue.poses], what)
        all_in((*x.prepares, *x.open), drills, what)
        for rung in x.rungs:
            all_in(rung.gates, gates, what)
            all_in(rung.drills, drills, what)
    return found
