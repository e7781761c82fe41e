"""May somebody do a drill, on which side, and how much of it: the one rule of every door."""

from __future__ import annotations

from collections.abc import Collection

from dachi.core.catalogue.cautions import SIDES
from dachi.core.catalogue.demands import DIRECTION_DEMANDS, Level
from dachi.core.catalogue.drills import Drill
from dachi.core.practising.programme import Person

#: Why a line that lost range on a leg that hurts is left alone.
LOST = "{} lost range on the {} while that leg hurts: no end of it before somebody has asked"


def barred(drill: Drill, person: Person) -> str | None:
    """Why a drill would not be safe, possible or fitting at any level; None where it would."""
    if unsafe := _unsafe(drill, person):
        return unsafe
    if lacking := missing(drill, person.props):
        return f"needs a {' and a '.join(lacking)}"
    question, _, option = drill.style.partition("=")
    if question and person.styles.get(question, option) != option:
        return "belongs to the other way of training it"
    if drill.id in person.eased:
        return "hurt lately, or was sent back to its easier form"
    return None


def missing(drill: Drill, props: Collection[str]) -> tuple[str, ...]:
    """What a drill requires and a person does not own."""
    return tuple(p for p in drill.requires if p not in props)


def closed_sides(drill: Drill, person: Person) -> dict[str, str]:
    """The sides on which a person may not do a drill, each with the sentence why.

    The one rule of every door. What a coach opened by hand stays open against a pain that comes
    back or an ache, not against what a clinician has to clear.
    """
    found: dict[str, str] = {}
    for caution in person.cautions:
        if (
            caution.source == "pain"
            and drill.id in person.opened
            and caution.id not in person.referred
        ):
            continue
        for side in sorted(caution.closes(drill)):
            found.setdefault(side, f"{caution.said}: {caution.words}")
    for motion, hip in sorted(person.lost):
        for side in _ends_on(drill, motion, hip):
            found.setdefault(side, LOST.format(motion.replace("_", " "), hip))
    return found


def not_to_open(drill: Drill, person: Person) -> bool:
    """Whether a drill is closed by what no coach may overrule: what a clinician has to clear, an
    age, a sign that stops all, a place that was referred.
    """
    for caution in person.cautions:
        if caution.no_session:
            return True
        if caution.closes(drill) and (caution.source != "pain" or caution.id in person.referred):
            return True
    return False


def _ends_on(drill: Drill, motion: str, hip: str) -> frozenset[str]:
    """The sides on which a drill brings one hip to the end of a direction."""
    names = DIRECTION_DEMANDS.get(motion, ())

    def ends(side: str) -> bool:
        leg = hip if drill.sides == "each" else ""
        return any(drill.demands.asked(n, leg, side) >= Level.END for n in names)

    shut = frozenset(side for side in SIDES if ends(side))
    return shut if drill.sides == "each" else frozenset(SIDES if shut else ())


def only_side(drill: Drill, person: Person) -> str | None:
    """The one side on which a drill is done because the other is closed; None where both are."""
    shut = closed_sides(drill, person) if drill.sides == "each" else {}
    return next((s for s in SIDES if s not in shut), None) if len(shut) == 1 else None


def guarded(drill: Drill, person: Person, lost: Collection[tuple[str, str]]) -> bool:
    """Whether a drill works a side that hurts, comes back or lost range (direction, hip): it grows
    no further then.
    """
    sore = bool(closed_sides(drill, person)) or coming_back(drill, person)
    return sore or any(motion in drill.directions for motion, _ in lost)


def coming_back(drill: Drill, person: Person) -> bool:
    """Whether a drill is done at half the dose: what it loads comes back from a pain."""
    free = set(SIDES) - set(closed_sides(drill, person))
    return drill.id in person.halved or any(free & c.halves(drill) for c in person.cautions)


def _unsafe(drill: Drill, person: Person) -> str | None:
    shut = closed_sides(drill, person)
    if len(shut) == len(SIDES):
        return shut["left"]
    if shut and drill.phase == "goal" and drill.split:
        # Whoever slips in a split is on both legs at once: it waits until both may.
        return next(iter(shut.values()))
    if drill.passive_end and not person.cleared:
        return "passive end-range work waits for clearance by a doctor or physiotherapist"
    return None


def waits_for(drill: Drill, person: Person) -> tuple[str, ...]:
    """The props that would open a drill; nothing where it is closed for more than them."""
    return () if _unsafe(drill, person) else missing(drill, person.props)


def refused(drill: Drill, person: Person) -> str | None:
    """Why a drill is not planned for a person at all, None where it may be."""
    if why := barred(drill, person):
        return why
    for gate in drill.gate:
        if gate in person.shut:
            return f"its gate is shut: {person.shut[gate]}"
    if drill.id in person.locked:
        return f"its rung is not reached: {person.locked[drill.id]}"
    if drill.level > person.level and drill.id not in person.ready:
        return f"is for level {drill.level}"
    if drill.id in person.outgrown:
        return "became easy: its harder form does its work"
    return None
