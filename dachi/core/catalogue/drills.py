"""Drills as data, read strictly into types."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any, Literal, get_args

import msgspec

from dachi.core.body.anatomy import other_side
from dachi.core.body.posing import Posture, is_joint
from dachi.core.catalogue.demands import DIRECTION_DEMANDS, NOTHING, Demands, Level
from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.problems import (
    CatalogueError,
    DataEntry,
    all_in,
    read_entry,
    without_twins,
)

Phase = Literal["settle", "mobilise", "flow", "strength", "hold", "goal", "counter", "rest"]
Direction = Literal[
    "flexion", "extension", "abduction", "adduction", "external_rotation", "internal_rotation"
]
Tissue = Literal[
    "hamstrings", "hip_flexors", "adductors", "abductors", "outer_hip", "inward_rotators",
    "glutes", "quadriceps", "calves", "shins", "low_back", "trunk",
]  # fmt: skip
Position = Literal["lying", "side-lying", "seated", "kneeling", "all-fours", "standing"]
Mode = Literal["dynamic", "active", "contract-relax", "passive"]

#: The order of a session.
PHASES: tuple[Phase, ...] = get_args(Phase)
#: Phases that no session goes without, however short.
ALWAYS = ("settle", "mobilise", "counter", "rest")
DIRECTIONS: tuple[Direction, ...] = get_args(Direction)
TISSUES: tuple[Tissue, ...] = get_args(Tissue)
POSITIONS: tuple[Position, ...] = get_args(Position)
LEVELS = (1, 2, 3)


class Drawing(DataEntry, frozen=True):
    """How the articulated figure shows a drill: one key position, or two for a movement.

    A benchmark ``pose`` at a headline ``value``, or joints on a posture. ``view``: side,
    front, or top (seen from above). ``lying`` turns an upright posture on its side.
    """

    posture: Posture = "upright"
    view: Literal["side", "front", "top"] = "side"
    joints: dict[str, float] = {}
    to: dict[str, float] | None = None
    pose: str | None = None
    value: float = 0.0
    to_pose: str | None = None
    to_value: float = 0.0
    lying: bool = False


class Drill(DataEntry, frozen=True, eq=False):
    """One thing to practise.

    ``reps`` or ``seconds`` give the dose for levels 1 to 3, for each side where ``sides``
    is ``each``; ``rep_s`` is how long one repetition takes, unless it takes ``breaths`` of the
    person's own. ``most_s``: a sit or squat that grows to minutes, with come-outs. ``demands``
    says what it asks of either leg and the body (its own table), ``gate`` what must be open
    first, ``counters`` which directions it undoes, ``prop_height`` that its support is logged in
    cm and layers, ``legs`` what each leg does where a drill is done on a side (``{side}`` and
    ``{other}``; a split says itself), ``style`` the answer (``question=option``) to a question
    schools differ on.
    """

    id: str
    name: str
    phase: Phase
    position: Position
    sides: Literal["each", "both"]
    mode: Mode
    directions: tuple[Direction, ...]
    cue: str
    feel: str
    not_feel: str
    cheats: tuple[str, ...]
    figure: Drawing
    lengthens: tuple[Tissue, ...] = ()
    strengthens: tuple[Tissue, ...] = ()
    reps: tuple[int, ...] = ()
    seconds: tuple[int, ...] = ()
    rep_s: float = 5.0
    breaths: int = 0
    most_s: int = 0
    both_ways: bool = False
    level: Literal[1, 2, 3] = 1
    requires: tuple[str, ...] = ()
    optional: tuple[str, ...] = ()
    gate: tuple[str, ...] = ()
    schools: tuple[Literal["engaged", "yielding", "mixed"], ...] = ()
    easier: str | None = None
    harder: str | None = None
    counters: tuple[Direction, ...] = ()
    goal: str | None = None
    prop_height: bool = False
    sitting: bool = False
    style: str = ""
    legs: str = ""
    demands: Demands = NOTHING

    @property
    def passive_end(self) -> bool:
        """Whether it is held at the end of range by more than its own strength.

        A goal pose held for long is, whatever its mode is called.
        """
        return self.phase == "goal" or (self.mode == "passive" and self.phase == "hold")

    def leg_of(self, direction: str) -> Literal["own", "other"]:
        """Which leg a direction is trained on: the one a side names, or the other."""
        names = DIRECTION_DEMANDS[direction]
        own, other = (
            max(found[n] for n in names) for found in (self.demands.own, self.demands.other)
        )
        return "other" if other > own else "own"

    @property
    def split(self) -> bool:
        """Whether one leg goes forward and the other back."""
        d = self.demands
        forward = max(d.own["flex_bent"], d.own["flex_straight"]) > Level.NONE
        return self.sides == "each" and d.other["ext"] > Level.NONE and forward

    def said_side(self, side: str) -> str:
        """A side as the legs it means: what either does at the entry."""
        if self.legs and side in ("left", "right"):
            return self.legs.format(side=side, other=other_side(side))
        return self.short_side(side)

    def short_side(self, side: str) -> str:
        """A side in a table: in a split the legs all the same, for it is the one in front."""
        if self.split and self.position != "lying":
            return f"{side} leg in front, {other_side(side)} leg behind"
        return f"{side} side"

    @property
    def searched(self) -> str:
        """What a search looks through: name, words, directions and tissues, in small letters."""
        said = (self.name, self.cue, self.feel, *self.directions, *self.lengthens)
        return " ".join([*said, *self.strengthens]).replace("_", " ").casefold()

    @property
    def strong(self) -> bool:
        """Whether what it strengthens needs a day of recovery."""
        return self.phase == "strength"


class Base(DataEntry, frozen=True):
    """A posture that drills start from."""

    posture: Posture = "upright"
    joints: dict[str, float] = {}


def build_drills(
    entries: Iterable[Mapping[str, Any]],
    bases: Mapping[str, Mapping[str, Any]],
    catalogue: Catalogue,
    props: Collection[str],
    gates: Collection[str],
    demands: Mapping[str, Demands] | None = None,
) -> tuple[Drill, ...]:
    """Validate drills (parsed TOML); CatalogueError names the drill and what is wrong.

    ``demands`` of each are read from a table of their own.
    """
    known = {name: read_entry(Base, b, f"base {name}") for name, b in bases.items()}
    found = []
    for e in entries:
        if "demands" in e:
            raise CatalogueError(f"drill {e.get('id', '?')!r}: demands have a table of their own")
        drill = read_entry(Drill, _drawn(e, known, catalogue), "drill")
        if demands is not None:
            drill = msgspec.structs.replace(drill, demands=demands[drill.id])
        _check(drill, catalogue, props, gates)
        found.append(drill)
    without_twins((d.id for d in found), "drill")
    names = {d.id for d in found}
    for drill in found:
        for other in (drill.easier, drill.harder):
            if other is not None and other not in names:
                raise CatalogueError(f"drill {drill.id!r}: there is no drill {other!r}")
    return tuple(found)


def _drawn(e: Mapping[str, Any], bases: Mapping[str, Base], catalogue: Catalogue) -> dict[str, Any]:
    """The entry with its figure written out: the base's joints, and the pose's own view."""
    figure = e.get("figure")
    if not isinstance(figure, Mapping):
        return dict(e)
    drawn = dict(figure)
    name = drawn.pop("base", None)
    if name is not None and name not in bases:
        raise CatalogueError(f"drill {e.get('id', '?')!r}: there is no base {name!r}")
    base = bases[name] if name is not None else Base()
    joints = base.joints | dict(drawn.pop("joints", {}))
    to = drawn.pop("to", None)
    if drawn.get("pose") in catalogue:
        drawn.setdefault("view", catalogue.pose(drawn["pose"]).view)
    drawn |= {"posture": base.posture, "joints": joints}
    if to is not None:
        drawn["to"] = joints | dict(to)
    return dict(e) | {"figure": drawn}


def _check(
    drill: Drill, catalogue: Catalogue, props: Collection[str], gates: Collection[str]
) -> None:
    what = f"drill {drill.id!r}"
    all_in((*drill.requires, *drill.optional), props, what)
    all_in(drill.gate, gates, what)
    if bool(drill.reps) == bool(drill.seconds) or len(drill.reps or drill.seconds) != len(LEVELS):
        raise CatalogueError(f"{what} needs repetitions or seconds for three levels")
    if drill.sides == "each" and not (drill.legs or drill.split):
        raise CatalogueError(f"{what} is done on a side and does not say which leg does what")
    if drill.legs and "{side}" not in drill.legs:
        raise CatalogueError(f"{what}: its legs name no side")
    poses = [p.id for p in catalogue.poses]
    drawn = (drill.goal, drill.figure.pose, drill.figure.to_pose)
    all_in((p for p in drawn if p is not None), poses, what)
    for joint in (*drill.figure.joints, *(drill.figure.to or {})):
        if not is_joint(joint):
            raise CatalogueError(f"{what}: the figure has no joint {joint!r}")
