"""Readiness: gates that a reading or a logged fact opens, and the rungs they guard."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from dachi.core.catalogue import Catalogue, CatalogueError
from dachi.core.limiter import Reading


@dataclass(frozen=True)
class Gate:
    """One condition: a ``reading`` within a bound, a drill logged ``easy``, a ``prop`` low
    enough, or a place ``quiet`` long enough; exactly one of the four is set."""

    id: str
    words: str
    reading: Mapping[str, Any] | None = None
    easy: Mapping[str, Any] | None = None
    prop: Mapping[str, Any] | None = None
    quiet: Mapping[str, Any] | None = None


@dataclass(frozen=True)
class Facts:
    """What the log tells.

    ``easy``: drill to how many times in a row, newest first, it was logged as easy;
    ``prop_cm``: drill to the height of its support last time; ``pain_days``: place to days
    since pain was last logged there. ``sessions`` is how many sessions there are at all.
    """

    easy: Mapping[str, int] = field(default_factory=dict)
    prop_cm: Mapping[str, float] = field(default_factory=dict)
    pain_days: Mapping[str, float] = field(default_factory=dict)
    sessions: int = 0


@dataclass(frozen=True)
class Answer:
    """Whether a gate is open and the sentence why."""

    gate: Gate
    open: bool
    because: str


@dataclass(frozen=True)
class Rung:
    """A step of a ladder."""

    name: str
    drills: tuple[str, ...]
    gates: tuple[str, ...]


@dataclass(frozen=True)
class Ladder:
    """The way to a goal pose."""

    id: str
    name: str
    goal: str
    note: str
    rungs: tuple[Rung, ...]


@dataclass(frozen=True)
class Standing:
    """Where a person is on a ladder.

    ``at`` is the index of the highest rung with every rung up to it open; ``answers`` holds
    the gates of each rung; ``next_step`` says what would open the next one.
    """

    ladder: Ladder
    at: int
    answers: tuple[tuple[Answer, ...], ...]
    next_step: str


def build_gates(entries: Iterable[Mapping[str, Any]], catalogue: Catalogue) -> dict[str, Gate]:
    """Validate gates (parsed TOML) against the catalogue; CatalogueError names the gate."""
    found: dict[str, Gate] = {}
    for e in entries:
        gate = Gate(**e)
        kinds = [k for k in (gate.reading, gate.easy, gate.prop, gate.quiet) if k is not None]
        if len(kinds) != 1:
            raise CatalogueError(f"gate {gate.id!r} needs exactly one condition")
        if gate.reading is not None:
            r = gate.reading
            if r["pose"] not in catalogue or r["family"] not in {
                m.family for m in catalogue.pose(r["pose"]).headlines
            }:
                raise CatalogueError(f"gate {gate.id!r}: there is no such reading")
            if ("at_least" in r) == ("at_most" in r) or r["of"] not in ("both", "any"):
                raise CatalogueError(f"gate {gate.id!r} needs one bound, of both sides or any")
        found[gate.id] = gate
    return found


def build_ladders(
    entries: Iterable[Mapping[str, Any]], gates: Mapping[str, Gate], drills: Collection[str]
) -> tuple[Ladder, ...]:
    """Validate ladders (parsed TOML); CatalogueError names what is unknown."""
    found = []
    for e in entries:
        rungs = tuple(Rung(r["name"], tuple(r["drills"]), tuple(r["gates"])) for r in e["rungs"])
        for rung in rungs:
            wrong = [g for g in rung.gates if g not in gates] + [
                d for d in rung.drills if d not in drills
            ]
            if wrong:
                raise CatalogueError(f"ladder {e['id']!r}: there is no {wrong[0]!r}")
        found.append(Ladder(e["id"], e["name"], e["goal"], e["note"], rungs))
    return tuple(found)


def answer(gate: Gate, readings: Iterable[Reading], facts: Facts, catalogue: Catalogue) -> Answer:
    """Say whether a gate is open, and why; what nobody measured or logged keeps it shut."""
    if gate.reading is not None:
        return _by_reading(gate, gate.reading, list(readings), catalogue)
    if gate.easy is not None:
        have, need = facts.easy.get(gate.easy["drill"], 0), int(gate.easy["times"])
        return Answer(gate, have >= need, f"{have} of {need} so far")
    if gate.prop is not None:
        cm, most = facts.prop_cm.get(gate.prop["drill"]), float(gate.prop["at_most_cm"])
        if cm is None:
            return Answer(gate, False, "no height logged yet")
        return Answer(gate, cm <= most, f"{cm:g} cm last time")
    assert gate.quiet is not None
    place, need_days = gate.quiet["place"], float(gate.quiet["days"])
    since = min((d for p, d in facts.pain_days.items() if place in p), default=None)
    if since is None:
        return Answer(gate, True, f"no {place} pain logged")
    return Answer(gate, since >= need_days, f"{place} pain logged {since:.0f} days ago")


def _by_reading(
    gate: Gate, r: Mapping[str, Any], readings: list[Reading], catalogue: Catalogue
) -> Answer:
    own = [
        x for x in readings
        if (x.pose, x.family, x.mode) == (r["pose"], r["family"], r["mode"])
    ]  # fmt: skip
    name = catalogue.pose(r["pose"]).name
    if not own:
        return Answer(gate, False, f"{name} not measured yet: one photograph would tell")
    bound = float(r.get("at_least", r.get("at_most", 0.0)))
    good = {x.side: (x.value >= bound) if "at_least" in r else (x.value <= bound) for x in own}
    words = ", ".join(
        f"{x.side + ' ' if x.side != 'both' else ''}{x.value:.0f}°"
        for x in sorted(own, key=lambda x: x.side)
    )
    if r["of"] == "both" and set(good) != {"both"}:
        missing = {"left", "right"} - set(good)
        if missing:
            return Answer(gate, False, f"{words}; {missing.pop()} not measured yet")
        return Answer(gate, all(good.values()), words)
    return Answer(gate, any(good.values()), words)


def stand(
    ladder: Ladder,
    gates: Mapping[str, Gate],
    readings: Iterable[Reading],
    facts: Facts,
    catalogue: Catalogue,
) -> Standing:
    """Where a person stands: a gate that shut again sends them back to the rung before it."""
    known = list(readings)
    answers = tuple(
        tuple(answer(gates[g], known, facts, catalogue) for g in rung.gates)
        for rung in ladder.rungs
    )
    at = -1
    for i, row in enumerate(answers):
        if not all(a.open for a in row):
            break
        at = i
    at = max(at, 0)
    if at + 1 >= len(ladder.rungs):
        return Standing(ladder, at, answers, "The last rung is open.")
    shut = [a for a in answers[at + 1] if not a.open]
    step = "; ".join(f"{a.gate.words} ({a.because})" for a in shut)
    return Standing(ladder, at, answers, f"“{ladder.rungs[at + 1].name}” opens with {step}.")
