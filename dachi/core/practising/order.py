"""In which order a session goes: phases, engaged and yielding work, preparations, the goal."""

from __future__ import annotations

from collections.abc import Sequence

from dachi.core.catalogue.drills import PHASES, POSITIONS, Drill


def engaged(drill: Drill) -> bool:
    """Whether a drill is done by one's own strength, not yielded to."""
    return drill.phase == "strength" or drill.mode in ("active", "contract-relax")


def arranged(
    drills: Sequence[Drill], school: str = "mixed", prepares: Sequence[str] = ()
) -> list[Drill]:
    """The drills of a session in order.

    Phases first, and within them what asks least, near positions together; preparations of
    a goal in the order of ``prepares``. Between the flow and the goal the school decides:

    - ``mixed``: engaged work first, then yielding holds from the least demanding on, each
      with engaged work of the same tissue directly before it;
    - ``engaged``: holds with their engaged work before them, and what is left of the engaged
      work last: the range just won is owned;
    - ``yielding``: engaged work first and done with, then the holds one after another,
      undisturbed; what engages the tissue of the first hold leads over to it.

    Where the goal is a split, the lunge is the last hold before it.
    """
    found = _in_place(sorted(drills, key=_demand), prepares)
    by_phase = {p: [d for d in found if d.phase == p] for p in PHASES}
    work = _work([*by_phase["strength"], *by_phase["hold"]], school, by_phase["goal"])
    order = []
    for phase in PHASES:
        if phase == "strength":
            order += work
        elif phase != "hold":
            order += by_phase[phase]
    return order


def _demand(drill: Drill) -> tuple[int, int, int, str]:
    return PHASES.index(drill.phase), drill.level, POSITIONS.index(drill.position), drill.id


def _in_place(drills: Sequence[Drill], prepares: Sequence[str]) -> list[Drill]:
    """Preparations change places among themselves, within their phase, into their usual order."""
    found = list(drills)
    for phase in PHASES:
        places = [i for i, d in enumerate(found) if d.phase == phase and d.id in prepares]
        own = sorted((found[i] for i in places), key=lambda d: prepares.index(d.id))
        for i, d in zip(places, own, strict=True):
            found[i] = d
    return found


def _work(drills: Sequence[Drill], school: str, goal: Sequence[Drill]) -> list[Drill]:
    lunges = [d for d in drills if any(g.split for g in goal) and _lunge(d)]
    active = [d for d in drills if engaged(d) and d not in lunges]
    holds = [d for d in drills if not engaged(d) and d not in lunges]
    before: dict[str, list[Drill]] = {h.id: [] for h in holds}
    lone: list[Drill] = []
    for d in active:
        partner = next((h for h in holds if _tissues(d) & set(h.lengthens)), None)
        (before[partner.id] if partner else lone).append(d)
    if school == "yielding":
        rest = [d for h in holds[1:] for d in before[h.id]]
        return [*lone, *rest, *(before[holds[0].id] if holds else []), *holds, *lunges]
    pairs = [d for h in holds for d in (*before[h.id], h)]
    return [*(([*pairs, *lone]) if school == "engaged" else [*lone, *pairs]), *lunges]


def _lunge(drill: Drill) -> bool:
    upright = drill.position not in ("lying", "side-lying")
    return drill.phase == "hold" and upright and drill.split and "hip_flexors" in drill.lengthens


def _tissues(drill: Drill) -> set[str]:
    return {*drill.lengthens, *drill.strengthens}
