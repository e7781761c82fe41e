"""Drills made up for tests: plain ones, with only what a test is about."""

from typing import Any

from dachi.core.catalogue.drills import Drawing, Drill


def drill(name: str, phase: str = "hold", **more: Any) -> Drill:
    """A drill of a phase: 30, 40, 60 s on either side unless told otherwise."""
    given: dict[str, Any] = {
        "position": "lying", "sides": "each", "mode": "passive", "directions": ("flexion",),
        "cue": "c", "feel": "f", "not_feel": "n", "cheats": (), "figure": Drawing(),
    }  # fmt: skip
    if "reps" not in more:
        given["seconds"] = (30, 40, 60)
    return Drill(id=name, name=name.capitalize(), phase=phase, **(given | more))
