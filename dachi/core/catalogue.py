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

PLANES = ("near", "mid", "limb", "frontal", "level", "reach")
#: What an entry may say of a side; a mark, measure or check ``each_side`` stands for two.
PAIR = ("left", "right")


class CatalogueError(ValueError):
    """Pose data that cannot be used; the message names the pose and the entry."""


@dataclass(frozen=True)
class Mark:
    """One point of a pose: where to put it, and the plane it is known to lie in.

    ``plane``: ``near`` (half the body's width towards the camera), ``mid`` (above
    the mat's long centre line), ``limb`` (near or mid, by which leg is nearer),
    ``frontal`` (the upright plane through the pose's floor mark), ``level`` (a
    level plane ``height_cm`` above the floor), ``reach`` (at its segment's known length
    from its parent, towards the camera). Upright planes are shifted ``forward_cm``
    towards the camera. ``depth_sd_cm`` is how far the point itself may lie off its plane.
    A mark that ``touches`` others may lie on the same spot.
    ``parent`` and ``limb`` chain marks into limbs that may point out of that plane;
    ``segment`` names a length that is known for this practitioner. ``body`` is the point
    on the articulated figure.
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
    forward_cm: float = 0.0
    depth_sd_cm: float | None = None
    touches: bool = False


@dataclass(frozen=True)
class Fan:
    """How a measure is drawn: from a zero line to a moving line about a vertex.

    ``zero`` is a mark, ``beyond MARK`` (the line from that mark carried on past the
    vertex), ``forward``, ``up``, ``down`` or ``level`` (the level direction nearest to the
    moving line). ``plane`` is the pose's unless the measure is taken in another.
    """

    vertex: str
    zero: str
    to: str
    plane: str | None = None


@dataclass(frozen=True)
class Measure:
    """A named quantity with its formula. ``unit`` is ``deg``, ``cm`` or ``ratio``.

    ``better`` says whether more range reads ``higher`` or ``lower``. Measures of a pose
    done with both sides at once carry their ``side`` and share a ``family``, under which
    they are charted together. ``plausible`` bounds what hips do. ``when`` names the
    variants the measure is taken in, ``headline_when`` those in which it is the headline.
    """

    id: str
    label: str
    unit: str
    formula: Formula
    headline: bool = False
    apparent: bool = False
    better: str = "higher"
    outward: str | None = None
    fan: Fan | None = None
    motion: str | None = None
    note: str = ""
    side: str | None = None
    family: str = ""
    family_label: str = ""
    when: Mapping[str, str] = field(default_factory=dict)
    headline_when: Mapping[str, str] = field(default_factory=dict)
    plausible: tuple[float, float] | None = None

    def heads(self, variant: Mapping[str, str]) -> bool:
        """Whether it is a headline of a (whole) variant."""
        return self.headline and agrees(self.when, variant) and agrees(self.headline_when, variant)


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

    ``joints`` maps joint names to numbers or expressions in ``v``, roughly the headline
    value in degrees, for the right side; the left is its mirror image. ``variants``
    replaces joints where a variant is chosen, keyed ``variant=option``. ``scatter`` names
    the joints that tip limbs out of the pose's plane. ``near`` is the side towards the
    camera in a side view, ``side`` or ``other``. ``props`` are round supports: two points
    of the body, a radius and how far below them, cm.
    """

    posture: str
    joints: Mapping[str, str | float]
    low: float
    high: float
    raise_cm: float = 0.0
    scatter: tuple[str, ...] = ()
    near: str = "side"
    anchor: str = "pelvis"
    centre: str = "legs"
    variants: Mapping[str, Mapping[str, str | float]] = field(default_factory=dict)
    props: tuple[Mapping[str, Any], ...] = ()


@dataclass(frozen=True, eq=False)
class Pose:
    """A benchmark pose.

    ``alike`` names measures that must agree within a share before two assessments are
    compared. ``companion_of`` is the pose this is another view of. ``counter`` is the movement
    that follows a deep pose, ``hold_s`` how long an attempt is held.
    """

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
    companion_of: str | None = None
    alike: Mapping[str, float] = field(default_factory=dict)
    counter: str = ""
    hold_s: int = 5

    @property
    def headline(self) -> Measure:
        """The first measure that stands for the pose in charts."""
        return self.headlines[0]

    @property
    def headlines(self) -> tuple[Measure, ...]:
        """Every measure that is charted."""
        return tuple(m for m in self.measures if m.headline)

    @property
    def families(self) -> tuple[Measure, ...]:
        """One measure for each chart: the first of every family of headlines."""
        found: dict[str, Measure] = {}
        for m in self.headlines:
            found.setdefault(m.family, m)
        return tuple(found.values())

    def headline_for(self, variant: Mapping[str, str]) -> Measure:
        """The first headline taken in a variant."""
        chosen = self.chosen(variant)
        return next((m for m in self.headlines if m.heads(chosen)), self.headline)

    def measure(self, measure_id: str) -> Measure:
        """Return a measure by id; KeyError where there is none."""
        for m in self.measures:
            if m.id == measure_id:
                return m
        raise KeyError(measure_id)

    def mark(self, mark_id: str) -> Mark:
        """Return a mark by id; KeyError where there is none."""
        return next(m for m in self.marks if m.id == mark_id)

    @property
    def setup(self) -> str:
        """How the camera is asked to stand; poses that share it can share a position."""
        return f"{self.camera['height_cm']:g} cm high, {self.camera['distance_cm']:g} cm away"

    @property
    def required(self) -> tuple[str, ...]:
        """Ids of the marks that a marking must have."""
        return tuple(m.id for m in self.marks if not m.optional)

    def default_variant(self) -> dict[str, str]:
        """Return the variant a new trial starts with."""
        return {v.id: v.default for v in self.variants}

    def chosen(self, variant: Mapping[str, str]) -> dict[str, str]:
        """A variant made whole: what it leaves open was done in the usual way."""
        return self.default_variant() | dict(variant)


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

    def seen_from(self, pose_id: str, view: str | None) -> Pose:
        """Return a pose as photographed from a view, which may be its companion shot.

        KeyError where the catalogue has no such pose or it is not measured from there.
        """
        pose = self.pose(pose_id)
        if view is None or view == pose.view:
            return pose
        for other in self.poses:
            if other.companion_of == pose_id and other.view == view:
                return other
        raise KeyError(view)


def agrees(when: Mapping[str, str], variant: Mapping[str, str]) -> bool:
    """Whether a variant has every option that ``when`` asks for."""
    return all(variant.get(k) == v for k, v in when.items())


def build_catalogue(
    version: str,
    entries: Iterable[Mapping[str, Any]],
    landmarks: Mapping[str, Mapping[str, Any]] | None = None,
) -> Catalogue:
    """Validate pose entries (parsed TOML) into a catalogue.

    ``landmarks`` are descriptions that marks share by naming them in ``from``. Raises
    CatalogueError with the pose and the field that is wrong.
    """
    known = landmarks or {}
    poses = sorted((build_pose(e, known) for e in entries), key=lambda p: (p.demand, p.id))
    seen: set[str] = set()
    for pose in poses:
        if pose.id in seen:
            raise CatalogueError(f"two poses are called {pose.id!r}")
        seen.add(pose.id)
    return Catalogue(version, tuple(poses))


def build_pose(
    entry: Mapping[str, Any], landmarks: Mapping[str, Mapping[str, Any]] | None = None
) -> Pose:
    """Validate one pose entry."""
    pose_id = str(entry.get("id", "?"))
    try:
        return _build_pose(entry, landmarks or {})
    except (KeyError, TypeError, FormulaError) as error:
        reason = f"the entry {error} is missing" if isinstance(error, KeyError) else str(error)
        raise CatalogueError(f"pose {pose_id!r}: {reason}") from error
    except CatalogueError as error:
        raise CatalogueError(f"pose {pose_id!r}: {error}") from error


def _build_pose(e: Mapping[str, Any], landmarks: Mapping[str, Mapping[str, Any]]) -> Pose:
    _one_of(e["view"], VIEWS, "view")
    plane = _one_of(e.get("plane", "upright"), ("upright", "floor"), "plane")
    sides = _one_of(e.get("sides", "each"), ("each", "both"), "sides")
    marks = _marks(e["marks"], landmarks)
    ids = frozenset(m.id for m in marks)
    for mode in e["modes"]:
        _one_of(mode, MODES, "mode")
    measures = _measures(e["measures"], ids)
    names = frozenset(m.id for m in measures)
    checks = []
    for data in _for_each_side(e.get("checks", [])):
        data.pop("side", None)
        data.pop("family", None)
        data.pop("family_label", None)
        data["formula"] = formula.parse(data["formula"], ids, names)
        data.setdefault("unit", "cm" if data["formula"].in_cm else "deg")
        _one_of(data.get("severity", "retake"), ("watch", "retake"), "severity")
        checks.append(Check(**data))
    variants = tuple(Variant(id=k, **v) for k, v in e.get("variants", {}).items())
    for v in variants:
        _one_of(v.default, tuple(v.options), f"default of variant {v.id!r}")
    floor_mark = e.get("floor_mark")
    for name in (*e["facing"], *([floor_mark] if floor_mark else [])):
        if name not in ids:
            raise CatalogueError(f"there is no mark called {name!r}")
    for name in e.get("alike", {}):
        if name not in names:
            raise CatalogueError(f"there is no measure called {name!r} to be alike in")
    figure = dict(e["figure"])
    figure["scatter"] = tuple(figure.get("scatter", ()))
    figure["props"] = tuple(figure.get("props", ()))
    return Pose(
        id=e["id"],
        name=e["name"],
        other_names=tuple(e.get("other_names", ())),
        summary=e["summary"],
        view=e["view"],
        plane=plane,
        sides=sides,
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
        floor_mark=floor_mark,
        floor_height_cm=float(e.get("floor_height_cm", 0.0)),
        demand=int(e.get("demand", 5)),
        figure=FigurePose(**figure),
        companion_of=e.get("companion_of"),
        alike={k: float(v) for k, v in e.get("alike", {}).items()},
        counter=e.get("counter", ""),
        hold_s=int(e.get("hold_s", 5)),
    )


def _marks(
    entries: Iterable[Mapping[str, Any]], landmarks: Mapping[str, Mapping[str, Any]]
) -> tuple[Mark, ...]:
    """Fill in shared descriptions, then write out the marks that stand for both sides."""
    full = []
    for raw in entries:
        data = dict(raw)
        shared = data.pop("from", None)
        if shared is not None and shared not in landmarks:
            raise CatalogueError(f"no landmark is called {shared!r}")
        data = dict(landmarks.get(shared, {})) | data
        data.setdefault("id", shared)
        full.append(data)
    paired = {d["id"] for d in full if d.get("each_side")}
    marks = []
    for data in full:
        if not data.pop("each_side", False):
            marks.append(Mark(**data))
            continue
        for side in PAIR:
            own = dict(data)
            own["id"] = f"{side}_{data['id']}"
            own["label"] = f"{side} {data['label']}"
            own["body"] = data["body"].replace("each.", f"{side}.")
            if own.get("parent") in paired:
                own["parent"] = f"{side}_{own['parent']}"
            if own.get("limb"):
                own["limb"] = f"{side} {own['limb']}"
            marks.append(Mark(**own))
    ids = {m.id for m in marks}
    if len(ids) != len(marks):
        raise CatalogueError("two marks have the same id")
    for m in marks:
        _one_of(m.plane, PLANES, f"plane of mark {m.id!r}")
        if m.parent is not None and m.parent not in ids:
            raise CatalogueError(f"mark {m.id!r} hangs on {m.parent!r}, which is no mark")
        if m.plane == "reach" and (m.parent is None or m.segment is None):
            raise CatalogueError(f"mark {m.id!r} needs a parent and a segment to reach from")
    return tuple(marks)


def _measures(entries: Iterable[Mapping[str, Any]], marks: frozenset[str]) -> list[Measure]:
    measures: list[Measure] = []
    for data in _for_each_side(entries):
        known = frozenset(m.id for m in measures)
        data["formula"] = formula.parse(data["formula"], marks, known)
        if fan := data.pop("fan", None):
            data["fan"] = Fan(**fan)
        data.setdefault("unit", "cm" if data["formula"].in_cm else "deg")
        if "plausible" in data:
            data["plausible"] = (float(data["plausible"][0]), float(data["plausible"][1]))
        data["family"] = data.get("family") or data["id"]
        data["family_label"] = data.get("family_label") or data["label"]
        _one_of(data.get("better", "higher"), ("higher", "lower"), "better")
        measures.append(Measure(**data))
    if not any(m.headline for m in measures):
        raise CatalogueError("one measure must be the headline")
    return measures


def _for_each_side(entries: Iterable[Mapping[str, Any]]) -> Iterable[dict[str, Any]]:
    """Write out entries that stand for both sides, ``SIDE`` replaced in their texts."""
    for raw in entries:
        data = dict(raw)
        if not data.pop("each_side", False):
            yield data
            continue
        for side in PAIR:
            own = {k: _with_side(v, side) for k, v in data.items()}
            own["id"], own["label"] = f"{side}_{data['id']}", f"{side} {data['label']}"
            own["family"], own["family_label"] = data["id"], data["label"]
            own["side"] = side
            own.setdefault("outward", side)
            yield own


def _with_side(value: Any, side: str) -> Any:
    if isinstance(value, str):
        other = PAIR[side == "left"]
        return value.replace("SIDE", side).replace("OPPOSITE", other)
    if isinstance(value, Mapping):
        return {k: _with_side(v, side) for k, v in value.items()}
    return value


def _one_of(value: str, allowed: tuple[str, ...], what: str) -> str:
    if value not in allowed:
        raise CatalogueError(f"{what} is {value!r}; it must be one of {', '.join(allowed)}")
    return value
