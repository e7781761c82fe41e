"""Benchmark poses as data, validated into frozen dataclasses.

The text of a pose lives in ``dachi/data/poses/<id>.toml``; reading files is the
business of ``dachi.data``. Adding a pose means adding one such file.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from dachi.core import formula
from dachi.core.anatomy import MODES, VIEWS
from dachi.core.formula import Formula, FormulaError

PLANES = ("near", "mid", "limb", "frontal", "level")


class CatalogueError(ValueError):
    """Pose data that cannot be used; the message names the pose and the entry."""


@dataclass(frozen=True)
class Mark:
    """One point of a pose: where to put it, and the plane it is known to lie in.

    ``plane``: ``near`` (half the body's width towards the camera), ``mid`` (above
    the mat's long centre line), ``limb`` (near or mid, by which leg is nearer),
    ``frontal`` (the upright plane through the pose's floor mark), ``level`` (a
    level plane ``height_cm`` above the floor). ``parent`` and ``limb`` chain marks
    into limbs that may point out of that plane; ``segment`` names a length that is
    known for this practitioner. ``body`` is the point on the articulated figure.
    """

    id: str
    label: str
    where: str
    body: str
    plane: str
    optional: bool = False
    parent: str | None = None
    limb: str | None = None
    segment: str | None = None
    leg: str | None = None
    height_cm: float = 0.0


@dataclass(frozen=True)
class Fan:
    """How a measure is drawn: from a zero line to a moving line about a vertex.

    ``zero`` is a mark, ``beyond MARK`` (the line from that mark carried on past the
    vertex), ``forward``, ``up`` or ``down``.
    """

    vertex: str
    zero: str
    to: str


@dataclass(frozen=True)
class Measure:
    """A named quantity with its formula. ``unit`` is ``deg`` or ``cm`` or ``ratio``."""

    id: str
    label: str
    unit: str
    formula: Formula
    headline: bool = False
    apparent: bool = False
    more_is: str = "more range"
    outward: str | None = None
    fan: Fan | None = None
    motion: str | None = None
    note: str = ""


@dataclass(frozen=True)
class Check:
    """A compensation: above ``limit`` the shot should be taken again (or watched)."""

    id: str
    label: str
    unit: str
    formula: Formula
    limit: float
    ok: str
    over: str
    severity: str = "retake"
    outward: str | None = None
    when: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Variant:
    """A way of doing the pose; only readings of the same variant are compared."""

    id: str
    label: str
    default: str
    options: Mapping[str, str]
    compared: bool = True


@dataclass(frozen=True)
class FigurePose:
    """Joint angles that put the articulated figure in the pose.

    ``joints`` maps joint names to numbers or expressions in ``v``, the headline
    value in degrees.
    """

    posture: str
    joints: Mapping[str, str | float]
    low: float
    high: float
    raise_cm: float = 0.0


@dataclass(frozen=True)
class Pose:
    """A benchmark pose."""

    id: str
    name: str
    other_names: tuple[str, ...]
    summary: str
    view: str
    plane: str
    sides: str
    modes: Mapping[str, str]
    facing: tuple[str, str]
    facing_what: str
    camera: Mapping[str, Any]
    say: str
    cautions: tuple[str, ...]
    marks: tuple[Mark, ...]
    measures: tuple[Measure, ...]
    checks: tuple[Check, ...]
    variants: tuple[Variant, ...]
    floor_mark: str | None
    floor_height_cm: float
    demand: int
    figure: FigurePose

    @property
    def headline(self) -> Measure:
        """The first measure that stands for the pose in charts."""
        return self.headlines[0]

    @property
    def headlines(self) -> tuple[Measure, ...]:
        """Every measure that is charted."""
        return tuple(m for m in self.measures if m.headline)

    def mark(self, mark_id: str) -> Mark:
        """Return a mark by id; KeyError where there is none."""
        return next(m for m in self.marks if m.id == mark_id)

    @property
    def required(self) -> tuple[str, ...]:
        """Ids of the marks that a marking must have."""
        return tuple(m.id for m in self.marks if not m.optional)

    def default_variant(self) -> dict[str, str]:
        """Return the variant a new trial starts with."""
        return {v.id: v.default for v in self.variants}


@dataclass(frozen=True)
class Catalogue:
    """All poses, in order of demand, with the version stored beside readings."""

    version: str
    poses: tuple[Pose, ...]

    def pose(self, pose_id: str) -> Pose:
        """Return a pose; KeyError where the catalogue has none of that id."""
        for pose in self.poses:
            if pose.id == pose_id:
                return pose
        raise KeyError(pose_id)

    def __contains__(self, pose_id: object) -> bool:
        return any(p.id == pose_id for p in self.poses)


def build_catalogue(version: str, entries: Iterable[Mapping[str, Any]]) -> Catalogue:
    """Validate pose entries (parsed TOML) into a catalogue.

    Raises CatalogueError with the pose and the field that is wrong.
    """
    poses = sorted((build_pose(e) for e in entries), key=lambda p: (p.demand, p.id))
    seen: set[str] = set()
    for pose in poses:
        if pose.id in seen:
            raise CatalogueError(f"two poses are called {pose.id!r}")
        seen.add(pose.id)
    return Catalogue(version, tuple(poses))


def build_pose(entry: Mapping[str, Any]) -> Pose:
    """Validate one pose entry."""
    pose_id = str(entry.get("id", "?"))
    try:
        return _build_pose(entry)
    except (KeyError, TypeError, FormulaError) as error:
        reason = f"the entry {error} is missing" if isinstance(error, KeyError) else str(error)
        raise CatalogueError(f"pose {pose_id!r}: {reason}") from error
    except CatalogueError as error:
        raise CatalogueError(f"pose {pose_id!r}: {error}") from error


def _build_pose(e: Mapping[str, Any]) -> Pose:
    marks = tuple(Mark(**m) for m in e["marks"])
    ids = frozenset(m.id for m in marks)
    _one_of(e["view"], VIEWS, "view")
    plane = _one_of(e.get("plane", "upright"), ("upright", "floor"), "plane")
    for m in marks:
        _one_of(m.plane, PLANES, f"plane of mark {m.id!r}")
        if m.parent is not None and m.parent not in ids:
            raise CatalogueError(f"mark {m.id!r} hangs on {m.parent!r}, which is no mark")
    for mode in e["modes"]:
        _one_of(mode, MODES, "mode")
    measures: list[Measure] = []
    for raw in e["measures"]:
        data = dict(raw)
        known = frozenset(m.id for m in measures)
        data["formula"] = formula.parse(data["formula"], ids, known)
        if fan := data.pop("fan", None):
            data["fan"] = Fan(**fan)
        data.setdefault("unit", "cm" if data["formula"].in_cm else "deg")
        measures.append(Measure(**data))
    if not any(m.headline for m in measures):
        raise CatalogueError("one measure must be the headline")
    names = frozenset(m.id for m in measures)
    checks = []
    for raw in e.get("checks", []):
        data = dict(raw)
        data["formula"] = formula.parse(data["formula"], ids, names)
        data.setdefault("unit", "cm" if data["formula"].in_cm else "deg")
        _one_of(data.get("severity", "retake"), ("watch", "retake"), "severity")
        checks.append(Check(**data))
    variants = tuple(Variant(id=k, **v) for k, v in e.get("variants", {}).items())
    for v in variants:
        _one_of(v.default, tuple(v.options), f"default of variant {v.id!r}")
    return Pose(
        id=e["id"],
        name=e["name"],
        other_names=tuple(e.get("other_names", ())),
        summary=e["summary"],
        view=e["view"],
        plane=plane,
        sides=_one_of(e.get("sides", "each"), ("each", "both"), "sides"),
        modes=dict(e["modes"]),
        facing=(e["facing"][0], e["facing"][1]),
        facing_what=e.get("facing_what", "feet"),
        camera=dict(e["camera"]),
        say=e["say"],
        cautions=tuple(e.get("cautions", ())),
        marks=marks,
        measures=tuple(measures),
        checks=tuple(checks),
        variants=variants,
        floor_mark=e.get("floor_mark"),
        floor_height_cm=float(e.get("floor_height_cm", 0.0)),
        demand=int(e.get("demand", 5)),
        figure=FigurePose(**e["figure"]),
    )


def _one_of(value: str, allowed: tuple[str, ...], what: str) -> str:
    if value not in allowed:
        raise CatalogueError(f"{what} is {value!r}; it must be one of {', '.join(allowed)}")
    return value
