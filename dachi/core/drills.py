"""Drills as data, validated into frozen dataclasses; and what a caution forbids of them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from dachi.core.catalogue import Catalogue, CatalogueError

#: The order of a session.
PHASES = ("settle", "mobilise", "flow", "strength", "hold", "goal", "counter", "rest")
#: Phases that no session goes without, however short.
ALWAYS = ("settle", "mobilise", "counter", "rest")
DIRECTIONS = (
    "flexion", "extension", "abduction", "adduction", "external_rotation", "internal_rotation",
)  # fmt: skip
TISSUES = (
    "hamstrings", "hip_flexors", "adductors", "abductors", "outer_hip", "inward_rotators", "glutes",
    "quadriceps", "calves", "low_back", "trunk",
)  # fmt: skip
LOADS = (
    "knee", "kneeling", "back_round", "back_bend", "hip_pinch", "nerve", "groin", "twist", "wrist",
    "balance", "belly",
)  # fmt: skip
POSITIONS = ("lying", "side-lying", "seated", "kneeling", "all-fours", "standing")
KINDS = ("dynamic", "active", "contract-relax", "passive")
LEVELS = (1, 2, 3)


@dataclass(frozen=True)
class Drawing:
    """How the articulated figure shows a drill: one key position, or two for a movement.

    A benchmark ``pose`` at a headline ``value``, or joints on a posture. ``view``: side,
    front, or top (seen from above). ``lying`` turns an upright posture on its side.
    """

    posture: str = "upright"
    view: str = "side"
    joints: Mapping[str, float] = field(default_factory=dict)
    to: Mapping[str, float] | None = None
    pose: str | None = None
    value: float = 0.0
    to_pose: str | None = None
    to_value: float = 0.0
    lying: bool = False


@dataclass(frozen=True, eq=False)
class Drill:
    """One thing to practise.

    ``reps`` or ``seconds`` give the dose for levels 1 to 3, for each side where ``sides``
    is ``each``; ``rep_s`` is how long one repetition takes. ``loads`` says what it loads at
    the end of its range, ``gate`` what must be open first, ``counters`` which directions it
    undoes, ``prop_height`` that its support is logged in cm and layers, ``style`` the answer
    (``question=option``) to a question schools differ on.
    """

    id: str
    name: str
    phase: str
    position: str
    sides: str
    mode: str
    directions: tuple[str, ...]
    cue: str
    feel: str
    not_feel: str
    cheats: tuple[str, ...]
    figure: Drawing
    lengthens: tuple[str, ...] = ()
    strengthens: tuple[str, ...] = ()
    reps: tuple[int, ...] = ()
    seconds: tuple[int, ...] = ()
    rep_s: float = 5.0
    both_ways: bool = False
    level: int = 1
    requires: tuple[str, ...] = ()
    optional: tuple[str, ...] = ()
    loads: tuple[str, ...] = ()
    gate: tuple[str, ...] = ()
    schools: tuple[str, ...] = ()
    easier: str | None = None
    harder: str | None = None
    counters: tuple[str, ...] = ()
    goal: str | None = None
    prop_height: bool = False
    sitting: bool = False
    style: str = ""

    @property
    def passive_end(self) -> bool:
        """Whether somebody or something else brings it to the end of range."""
        return self.mode == "passive" and self.phase in ("hold", "goal")

    @property
    def strong(self) -> bool:
        """Whether what it strengthens needs a day of recovery."""
        return self.phase == "strength"


@dataclass(frozen=True)
class Caution:
    """What a caution forbids. ``pain`` names places, ``screening`` the question bringing it."""

    id: str
    name: str
    words: str
    forbids: tuple[str, ...] = ()
    no_passive_end: bool = False
    screening: str | None = None
    pain: tuple[str, ...] = ()

    def forbidden(self, drill: Drill) -> bool:
        """Whether a drill may not be done under this caution."""
        return bool(set(self.forbids) & set(drill.loads)) or (
            self.no_passive_end and drill.passive_end
        )


def build_cautions(entries: Iterable[Mapping[str, Any]]) -> tuple[Caution, ...]:
    """Read cautions from parsed TOML; CatalogueError names what is unknown."""
    found = []
    for e in entries:
        given = dict(e)
        for name in ("forbids", "pain"):
            given[name] = tuple(given.get(name, ()))
        _all_in(given["forbids"], LOADS, f"caution {e['id']!r}")
        found.append(Caution(**given))
    return tuple(found)


def brought_by(
    cautions: Iterable[Caution], yes: Collection[str], pains: Collection[str]
) -> tuple[Caution, ...]:
    """The cautions that screening answers and painful places bring."""
    return tuple(c for c in cautions if c.screening in set(yes) or any(p in c.pain for p in pains))


def build_drills(
    entries: Iterable[Mapping[str, Any]],
    bases: Mapping[str, Mapping[str, Any]],
    catalogue: Catalogue,
    props: Collection[str],
    gates: Collection[str],
) -> tuple[Drill, ...]:
    """Validate drills (parsed TOML); CatalogueError names the drill and what is wrong."""
    found: dict[str, Drill] = {}
    for e in entries:
        try:
            drill = _drill(e, bases, catalogue)
            _check(drill, catalogue, props, gates)
        except (KeyError, TypeError) as error:
            raise CatalogueError(f"drill {e.get('id', '?')!r}: {error}") from error
        if drill.id in found:
            raise CatalogueError(f"drill {drill.id!r} is there twice")
        found[drill.id] = drill
    for drill in found.values():
        for other in (drill.easier, drill.harder):
            if other is not None and other not in found:
                raise CatalogueError(f"drill {drill.id!r}: there is no drill {other!r}")
    return tuple(found.values())


def _drill(
    e: Mapping[str, Any], bases: Mapping[str, Mapping[str, Any]], catalogue: Catalogue
) -> Drill:
    given = dict(e)
    for name in (
        "directions", "lengthens", "strengthens", "reps", "seconds", "requires", "optional",
        "loads", "gate", "schools", "counters", "cheats",
    ):  # fmt: skip
        given[name] = tuple(given.get(name, ()))
    drawn = dict(given.pop("figure"))
    base = bases[drawn.pop("base")] if "base" in drawn else {}
    joints = dict(base.get("joints", {})) | dict(drawn.pop("joints", {}))
    to = drawn.pop("to", None)
    if "pose" in drawn:
        drawn.setdefault("view", catalogue.pose(drawn["pose"]).view)
    return Drill(
        **given,
        figure=Drawing(
            posture=base.get("posture", "upright"),
            joints=joints,
            to=joints | dict(to) if to is not None else None,
            **drawn,
        ),
    )


def _check(
    drill: Drill, catalogue: Catalogue, props: Collection[str], gates: Collection[str]
) -> None:
    what = f"drill {drill.id!r}"
    _all_in((drill.phase,), PHASES, what)
    _all_in((drill.position,), POSITIONS, what)
    _all_in((drill.sides,), ("each", "both"), what)
    _all_in((drill.mode,), KINDS, what)
    _all_in((*drill.directions, *drill.counters), DIRECTIONS, what)
    _all_in((*drill.lengthens, *drill.strengthens), TISSUES, what)
    _all_in(drill.loads, LOADS, what)
    _all_in((*drill.requires, *drill.optional), props, what)
    _all_in(drill.gate, gates, what)
    _all_in((drill.figure.view,), ("side", "front", "top"), what)
    if bool(drill.reps) == bool(drill.seconds) or len(drill.reps or drill.seconds) != len(LEVELS):
        raise CatalogueError(f"{what} needs repetitions or seconds for three levels")
    if drill.goal is not None and drill.goal not in catalogue:
        raise CatalogueError(f"{what}: there is no pose {drill.goal!r}")


def _all_in(values: Iterable[str], known: Collection[str], what: str) -> None:
    for value in values:
        if value not in known:
            raise CatalogueError(f"{what}: {value!r} is not one of {', '.join(known)}")
