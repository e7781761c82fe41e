"""Reading pose entries (parsed TOML) strictly into poses."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, Literal, TypeVar

import msgspec

from dachi.core.body.anatomy import MODES
from dachi.core.body.posing import FigurePose, is_joint
from dachi.core.body.staging import Stand
from dachi.core.catalogue import formula
from dachi.core.catalogue.formula import FormulaError
from dachi.core.catalogue.poses import (
    Catalogue,
    Check,
    Contact,
    Fan,
    HeldStill,
    Likeness,
    Mark,
    Measure,
    Pose,
    SkinSpot,
    TakenFor,
    Variant,
)
from dachi.core.catalogue.problems import (
    CatalogueError,
    DataEntry,
    all_in,
    one_of,
    read_entry,
    without_twins,
)

Unit = Literal["deg", "cm", "ratio"]
#: A mark, measure or check ``each_side`` stands for two, one of either side.
PAIR = ("left", "right")


class MarkEntry(DataEntry, frozen=True):
    """A mark, what it shares with other poses filled in (see ``Mark``)."""

    id: str
    label: str
    where: str
    body: str
    optional: bool = False
    parent: str | None = None
    segment: str | None = None
    leg: str | None = None
    touches: bool = False
    skin: str | None = None


class SkinEntry(DataEntry, frozen=True):
    """Where a kind of mark lies from its joint (see ``SkinSpot``)."""

    on: Literal[
        "thigh", "knee", "shin", "foot", "pelvis", "middle", "waist", "shoulder", "free", "fold"
    ]
    step: tuple[float, float, float]
    sd: tuple[float, float, float]
    habit: float = 1.0
    sd_told: tuple[float, float, float] | None = None
    not_the: tuple[TakenFor, ...] = ()


class ContactEntry(DataEntry, frozen=True):
    """A joint whose height is settled (see ``Contact``)."""

    at: str
    height_cm: float
    sd_cm: float
    when: dict[str, str] = {}
    maybe: bool = False
    prop: bool = False
    bare_cm: float | None = None
    share: float = 1.0


class HeldEntry(DataEntry, frozen=True):
    """What a pose holds still (see ``HeldStill``)."""

    mean: dict[str, float] = {}
    spread: dict[str, float] = {}
    contacts: tuple[ContactEntry, ...] = ()
    lifted_mean: dict[str, float] = {}
    lifted: dict[str, float] = {}
    per_prop_cm: dict[str, float] = {}
    width: float = 1.0
    change_width: float = 1.0
    bare_width: float = 1.0


class LikenessEntry(DataEntry, frozen=True):
    """What two assessments are compared at (see ``Likeness``)."""

    measure: str
    slope: float
    sd: float


class FanEntry(DataEntry, frozen=True):
    """How a measure is drawn (see ``Fan``)."""

    vertex: str
    zero: str
    to: str
    plane: str | None = None


class MeasureEntry(DataEntry, frozen=True):
    """A measure of one side or none (see ``Measure``)."""

    id: str
    label: str
    formula: str
    unit: Unit | None = None
    headline: bool = False
    apparent: bool = False
    better: Literal["higher", "lower"] = "higher"
    outward: str | None = None
    fan: FanEntry | None = None
    motion: str | None = None
    leg: Literal["own", "other"] = "own"
    note: str = ""
    side: Literal["left", "right"] | None = None
    second: bool = False
    follows: str | None = None
    family: str = ""
    family_label: str = ""
    when: dict[str, str] = {}
    headline_when: dict[str, str] = {}
    headline_unless: str | None = None
    needs: tuple[str, ...] = ()
    plausible: tuple[float, float] | None = None


class CheckEntry(DataEntry, frozen=True):
    """A check of one side or none (see ``Check``): a formula and a limit, or ``by_eye``, which
    is over wherever the variant in ``when`` was chosen.
    """

    id: str
    label: str
    over: str
    formula: str = ""
    limit: float = 0.0
    ok: str = ""
    by_eye: bool = False
    unit: Unit | None = None
    severity: Literal["watch", "retake"] = "retake"
    outward: str | None = None
    when: dict[str, str] = {}
    side: Literal["left", "right"] | None = None
    family: str = ""
    family_label: str = ""


class VariantEntry(DataEntry, frozen=True):
    """A way of doing the pose; the default is one of its options."""

    label: str
    default: str
    options: dict[str, str]
    compared: bool = True


class CameraEntry(DataEntry, frozen=True):
    """How the camera is asked to stand, cm."""

    height_cm: float
    distance_cm: float
    stand: str
    look_at_cm: float = 40.0


class PoseEntry(DataEntry, frozen=True):
    """A pose as its file has it."""

    id: str
    name: str
    summary: str
    view: Literal["side", "front"]
    modes: dict[str, str]
    facing: tuple[str, str]
    camera: CameraEntry
    say: str
    marks: list[dict[str, Any]]
    measures: list[dict[str, Any]]
    figure: FigurePose
    other_names: tuple[str, ...] = ()
    plane: Literal["upright", "floor"] = "upright"
    sides: Literal["each", "both"] = "each"
    facing_what: str = "feet"
    leg: Literal["", "in front", "behind"] = ""
    cautions: tuple[str, ...] = ()
    checks: list[dict[str, Any]] = []
    variants: dict[str, VariantEntry] = {}
    demand: int = 5
    needs_mat: bool = False
    isolates: bool = False
    stiff_below: float | None = None
    companion_of: str | None = None
    beside: dict[str, str] = {}
    likeness: LikenessEntry | None = None
    counter: str = ""
    marking: str = ""
    hold_s: int = 5
    held: HeldEntry = HeldEntry()


T = TypeVar("T")


def build_catalogue(
    version: str,
    entries: Iterable[Mapping[str, Any]],
    landmarks: Mapping[str, Mapping[str, Any]] | None = None,
    skin: Mapping[str, Mapping[str, Any]] | None = None,
) -> Catalogue:
    """Validate pose entries (parsed TOML) into a catalogue.

    ``landmarks`` are descriptions that marks share by naming them in ``from``, ``skin`` where
    each kind of mark lies from its joint. Raises CatalogueError with the pose and the field that
    is wrong.
    """
    known, spots = landmarks or {}, build_skin(skin or {})
    poses = sorted((build_pose(e, known, spots) for e in entries), key=lambda p: (p.demand, p.id))
    without_twins((p.id for p in poses), "pose")
    for pose in poses:
        if pose.companion_of is not None:
            what = f"pose {pose.id!r}: companion_of"
            all_in((pose.companion_of,), [p.id for p in poses], what)
        all_in(pose.beside.values(), [p.id for p in poses], f"pose {pose.id!r}: beside")
    return Catalogue(version, tuple(poses))


def build_skin(entries: Mapping[str, Mapping[str, Any]]) -> dict[str, SkinSpot]:
    """Validate where marks lie from their joints."""
    found = {}
    for name, entry in entries.items():
        e = _part(SkinEntry, entry, f"skin {name!r}")
        found[name] = SkinSpot(e.on, e.step, e.sd, e.habit, e.sd_told, e.not_the)
    return found


def build_pose(
    entry: Mapping[str, Any],
    landmarks: Mapping[str, Mapping[str, Any]] | None = None,
    skin: Mapping[str, SkinSpot] | None = None,
) -> Pose:
    """Validate one pose entry."""
    found = read_entry(PoseEntry, entry, "pose")
    try:
        return _pose(found, landmarks or {}, skin or {})
    except (FormulaError, CatalogueError) as error:
        raise CatalogueError(f"pose {found.id!r}: {error}") from error


def _pose(
    e: PoseEntry, landmarks: Mapping[str, Mapping[str, Any]], skin: Mapping[str, SkinSpot]
) -> Pose:
    marks = _marks(e.marks, landmarks, skin)
    ids = frozenset(m.id for m in marks)
    all_in(e.modes, MODES, "modes")
    measures = _measures(e.measures, ids)
    names = frozenset(m.id for m in measures)
    for name, v in e.variants.items():
        one_of(v.default, tuple(v.options), f"default of variant {name!r}")
    all_in(e.facing, ids, "facing")
    if e.likeness is not None:
        one_of(e.likeness.measure, (*names, "prop_cm"), "likeness")
    _joints_known(e.figure)
    return Pose(
        id=e.id,
        name=e.name,
        other_names=e.other_names,
        summary=e.summary,
        view=e.view,
        plane=e.plane,
        sides=e.sides,
        modes=e.modes,
        facing=e.facing,
        facing_what=e.facing_what,
        leg=e.leg,
        camera=Stand(**msgspec.structs.asdict(e.camera)),
        say=e.say,
        cautions=e.cautions,
        marks=marks,
        measures=measures,
        checks=_checks(e.checks, ids, names),
        variants=tuple(
            Variant(k, v.label, v.default, v.options, v.compared) for k, v in e.variants.items()
        ),
        demand=e.demand,
        needs_mat=e.needs_mat,
        isolates=e.isolates,
        stiff_below=e.stiff_below,
        figure=e.figure,
        companion_of=e.companion_of,
        beside=e.beside,
        likeness=None if e.likeness is None else Likeness(**msgspec.structs.asdict(e.likeness)),
        counter=e.counter,
        marking=e.marking,
        hold_s=e.hold_s,
        held=HeldStill(
            lifted_mean=e.held.lifted_mean,
            lifted=e.held.lifted,
            per_prop_cm=e.held.per_prop_cm,
            width=e.held.width,
            change_width=e.held.change_width,
            bare_width=e.held.bare_width,
            mean=e.held.mean,
            spread=e.held.spread,
            contacts=tuple(
                Contact(c.at, c.height_cm, c.sd_cm, c.when, c.maybe, c.prop, c.bare_cm, c.share)
                for c in e.held.contacts
            ),
        ),
    )


def _joints_known(figure: FigurePose) -> None:
    for name in (
        *figure.joints,
        *figure.scatter,
        *(j for v in figure.variants.values() for j in v),
    ):
        if not is_joint(name):
            raise CatalogueError(f"the figure has no joint {name!r}")


def _part(kind: type[T], data: Mapping[str, Any], what: str) -> T:
    try:
        return msgspec.convert(data, kind)
    except msgspec.ValidationError as error:
        raise CatalogueError(f"{what} {data.get('id', '?')!r}: {error}") from error


def _marks(
    entries: Iterable[Mapping[str, Any]],
    landmarks: Mapping[str, Mapping[str, Any]],
    skin: Mapping[str, SkinSpot],
) -> tuple[Mark, ...]:
    """Fill in shared descriptions, then write out the marks that stand for both sides."""
    full = [_filled(raw, landmarks) for raw in entries]
    paired = {d.get("id") for d in full if d.get("each_side")}
    marks = []
    for data in full:
        for own in _two_marks(data, paired) if _flag(data, "each_side") else [data]:
            entry = _part(MarkEntry, own, "mark")
            marks.append(_mark(entry, skin))
    without_twins((m.id for m in marks), "mark")
    ids = {m.id for m in marks}
    for m in marks:
        if m.parent is not None and m.parent not in ids:
            raise CatalogueError(f"mark {m.id!r} hangs on {m.parent!r}, which is no mark")
    return tuple(marks)


def _mark(entry: MarkEntry, skin: Mapping[str, SkinSpot]) -> Mark:
    fields = msgspec.structs.asdict(entry)
    owner, _, part = entry.body.partition(".")
    name = entry.skin or (part or owner).replace(".", "_")
    if entry.skin and name not in skin:
        raise CatalogueError(f"mark {entry.id!r}: no skin entry is called {name!r}")
    fields["skin"] = skin.get(name, SkinSpot("free", (0.0, 0.0, 0.0), (1.0, 1.0, 1.0)))
    return Mark(**fields)


def _filled(raw: Mapping[str, Any], landmarks: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
    data = dict(raw)
    shared = data.pop("from", None)
    if shared is not None and shared not in landmarks:
        raise CatalogueError(f"no landmark is called {shared!r}")
    data = dict(landmarks.get(shared, {})) | data
    data.setdefault("id", shared)
    return data


def _flag(data: dict[str, Any], name: str) -> bool:
    """Take a yes or no out of an entry; absent is no."""
    value = data.pop(name, False)
    if not isinstance(value, bool):
        raise CatalogueError(f"{name} of {data.get('id', '?')!r} must be true or false")
    return value


def _two_marks(data: Mapping[str, Any], paired: set[Any]) -> Iterator[dict[str, Any]]:
    for side in PAIR:
        own = dict(data)
        own["id"] = f"{side}_{data.get('id')}"
        own["label"] = f"{side} {data.get('label')}"
        own["body"] = str(data.get("body")).replace("each.", f"{side}.")
        if own.get("parent") in paired:
            own["parent"] = f"{side}_{own['parent']}"
        yield own


def _measures(entries: Iterable[Mapping[str, Any]], marks: frozenset[str]) -> tuple[Measure, ...]:
    measures: list[Measure] = []
    for data in _for_each_side(entries):
        e = _part(MeasureEntry, data, "measure")
        known = frozenset(m.id for m in measures)
        parsed = formula.parse(e.formula, marks, known)
        given = msgspec.structs.asdict(e) | {
            "formula": parsed,
            "unit": e.unit or ("cm" if parsed.in_cm else "deg"),
            "fan": Fan(e.fan.vertex, e.fan.zero, e.fan.to, e.fan.plane) if e.fan else None,
            "family": e.family or e.id,
            "family_label": e.family_label or e.label,
        }
        measures.append(Measure(**given))
    without_twins((m.id for m in measures), "measure")
    for m in measures:
        all_in(m.needs, marks, f"needs of measure {m.id!r}")
        if m.headline_unless is not None:
            all_in((m.headline_unless,), [x.id for x in measures], f"measure {m.id!r}")
    if not any(m.headline for m in measures):
        raise CatalogueError("one measure must be the headline")
    return tuple(measures)


def _checks(
    entries: Iterable[Mapping[str, Any]], marks: frozenset[str], measures: frozenset[str]
) -> tuple[Check, ...]:
    checks = []
    for data in _for_each_side(entries):
        e = _part(CheckEntry, data, "check")
        if e.by_eye and not e.when:
            raise CatalogueError(f"check {e.id!r}: what an eye sees needs the variant that says so")
        # What only an eye sees holds where its variant was said: one, over a limit of nothing.
        parsed = formula.parse("1" if e.by_eye else e.formula, marks, measures)
        unit = "ratio" if e.by_eye else e.unit or ("cm" if parsed.in_cm else "deg")
        checks.append(
            Check(e.id, e.label, unit, parsed, e.limit, e.ok, e.over, e.severity, e.outward, e.when)
        )
    without_twins((c.id for c in checks), "check")
    return tuple(checks)


def _for_each_side(entries: Iterable[Mapping[str, Any]]) -> Iterator[dict[str, Any]]:
    """Write out entries that stand for both sides, ``SIDE`` replaced in their texts."""
    for raw in entries:
        data = dict(raw)
        if not _flag(data, "each_side"):
            yield data
            continue
        for side in PAIR:
            own = {k: _with_side(v, side) for k, v in data.items()}
            own["id"], own["label"] = f"{side}_{data.get('id')}", f"{side} {data.get('label')}"
            own["family"], own["family_label"] = data.get("id"), data.get("label")
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
