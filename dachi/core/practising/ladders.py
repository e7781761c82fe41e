"""Where somebody stands on the ladders: which gates are open, and why."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from dachi.core.catalogue.gates import EasyGate, Gate, Ladder, ReadingGate
from dachi.core.catalogue.poses import Catalogue
from dachi.core.judging.limiters import SessionReading
from dachi.core.judging.thresholds import Reached, against, together
from dachi.core.words import Place


@dataclass(frozen=True)
class Facts:
    """What the log tells.

    ``easy``: drill to how many times in a row, newest first, it was logged as easy;
    ``prop_cm``: drill to the height of its support last time; ``pain_days``: place to days
    since pain was last logged there. ``sessions`` is how many sessions there are at all.
    ``since``: drill to the days since it was first logged; ``short``: drills that were easy at less
    than their dose. ``opened`` and ``shut``: gates that a coach opened or shut by hand, with the
    reason; ``proven``: those a measured higher rung proves, and by what.
    """

    easy: Mapping[str, int] = field(default_factory=dict)
    prop_cm: Mapping[str, float] = field(default_factory=dict)
    pain_days: Mapping[Place, float] = field(default_factory=dict)
    sessions: int = 0
    since: Mapping[str, float] = field(default_factory=dict)
    short: frozenset[str] = frozenset()
    opened: Mapping[str, str] = field(default_factory=dict)
    shut: Mapping[str, str] = field(default_factory=dict)
    proven: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Answer:
    """Whether a gate is open and the sentence why.

    ``unknown``: its reading is too near the bound to say, so it stays shut until one more tells.
    """

    gate: Gate
    open: bool
    because: str
    unknown: bool = False


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


def answer(
    gate: Gate, readings: Iterable[SessionReading], facts: Facts, catalogue: Catalogue
) -> Answer:
    """Say whether a gate is open, and why; what nobody measured or logged keeps it shut."""
    if gate.id in facts.shut:
        return Answer(gate, False, f"shut by the coach: {facts.shut[gate.id]}")
    if gate.id in facts.opened:
        return Answer(gate, True, f"opened by the coach: {facts.opened[gate.id]}")
    if gate.id in facts.proven:
        return Answer(gate, True, facts.proven[gate.id])
    if gate.reading is not None:
        return _by_reading(gate, gate.reading, list(readings), catalogue)
    if gate.easy is not None:
        return _by_taps(gate, gate.easy, facts)
    if gate.prop is not None:
        cm, most = facts.prop_cm.get(gate.prop.drill), gate.prop.at_most_cm
        if cm is None:
            return Answer(gate, False, "no height logged yet")
        return Answer(gate, cm <= most, f"{cm:g} cm last time")
    assert gate.quiet is not None
    place, need_days = gate.quiet.place, gate.quiet.days
    since = min((d for p, d in facts.pain_days.items() if p.region == place), default=None)
    if since is None:
        return Answer(gate, True, f"no {place} pain logged")
    return Answer(gate, since >= need_days, f"{place} pain logged {since:.0f} days ago")


def _by_taps(gate: Gate, easy: EasyGate, facts: Facts) -> Answer:
    have, need = facts.easy.get(easy.drill, 0), easy.times
    days = facts.since.get(easy.drill, 0.0)
    if have < need:
        return Answer(gate, False, f"{have} of {need} so far")
    if easy.drill in facts.short:
        return Answer(gate, False, f"{have} of {need}, at less than its dose")
    if days < easy.days:
        return Answer(gate, False, f"{have} of {need}, for {days:.0f} of {easy.days:.0f} days")
    return Answer(gate, True, f"{have} of {need} so far")


def proven(
    ladders: Iterable[Ladder],
    gates: Mapping[str, Gate],
    readings: Iterable[SessionReading],
    facts: Facts,
    catalogue: Catalogue,
) -> dict[str, str]:
    """Gates of lower rungs that a measured higher one proves, and by what.

    A reading of the goal pose itself at a rung stands for length and comfort on all below; not for
    control (what is reached by one's own strength), a quiet knee or the height of a support.
    """
    told = list(readings)
    found: dict[str, str] = {}
    for ladder in ladders:
        first = {g: i for i, rung in reversed(list(enumerate(ladder.rungs))) for g in rung.gates}
        for gate_id, at in sorted(first.items(), key=lambda pair: -pair[1]):
            by = _of_goal(gates[gate_id], ladder, told, facts, catalogue)
            if by is None:
                continue
            for g in sorted(x for x, below in first.items() if below < at):
                gate = gates[g]
                length = gate.reading is not None and gate.reading.mode == "passive"
                if length or gate.easy is not None:
                    found.setdefault(g, f"proved by {by.gate.words} ({by.because})")
            break
    return found


def _of_goal(
    gate: Gate, ladder: Ladder, readings: list[SessionReading], facts: Facts, catalogue: Catalogue
) -> Answer | None:
    """The answer of a gate that is a passive reading of the goal pose and is open."""
    r = gate.reading
    if r is None or r.pose != ladder.goal or r.mode != "passive":
        return None
    found = answer(gate, readings, facts, catalogue)
    return found if found.open and gate.id not in facts.opened else None


def _by_reading(
    gate: Gate, r: ReadingGate, readings: list[SessionReading], catalogue: Catalogue
) -> Answer:
    own = [
        x for x in readings
        if (x.pose, x.family, x.mode) == (r.pose, r.family, r.mode)
    ]  # fmt: skip
    name = catalogue.pose(r.pose).name
    if not own:
        return Answer(gate, False, f"{name} not measured yet: one photograph would tell")
    least = -math.inf if r.at_least is None else r.at_least
    most = math.inf if r.at_most is None else r.at_most
    ordered = sorted(own, key=lambda x: x.side)
    found = [against(x.value, x.half, at_least=least, at_most=most) for x in ordered]
    words = ", ".join(_said(x) for x in ordered)
    if r.of == "both" and {x.side for x in own} != {"both"}:
        missing = {"left", "right"} - {x.side for x in own}
        if missing:
            return Answer(gate, False, f"{words}; {missing.pop()} not measured yet")
    verdict = together(found, r.of == "both")
    if verdict is Reached.UNKNOWN:
        words += ": too near to say, one more shot would tell"
    return Answer(gate, verdict is Reached.YES, words, verdict is Reached.UNKNOWN)


def _said(x: SessionReading) -> str:
    side = "" if x.side == "both" else f"{x.side} "
    give = f" ± {x.half:.0f}°" if x.half else ""
    return f"{side}{x.value:.0f}°{give}"


def locked(
    ladders: Iterable[Ladder],
    gates: Mapping[str, Gate],
    readings: Iterable[SessionReading],
    facts: Facts,
    catalogue: Catalogue,
) -> dict[str, str]:
    """Drills of rungs that nobody who stands where this person does has reached, and why.

    What stands on several ladders opens with the first of them that reaches it.
    """
    known = list(readings)
    open_now: set[str] = set()
    waiting: dict[str, str] = {}
    for ladder in ladders:
        open_now |= set(ladder.open)
        found = stand(ladder, gates, known, facts, catalogue)
        for i, rung in enumerate(ladder.rungs):
            for drill in rung.drills:
                if i <= found.at:
                    open_now.add(drill)
                else:
                    waiting.setdefault(drill, f"{ladder.name}, “{rung.name}”: {found.next_step}")
    return {d: why for d, why in waiting.items() if d not in open_now}


def stand(
    ladder: Ladder,
    gates: Mapping[str, Gate],
    readings: Iterable[SessionReading],
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
