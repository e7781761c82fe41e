"""Benchmark poses.

The text of a pose lives in ``dachi/data/poses/<id>.toml``; ``pose_entries`` reads it into
these types. Adding a pose means adding one such file.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from dachi.core.body.posing import FigurePose
from dachi.core.body.staging import Stand
from dachi.core.catalogue.formula import Formula


@dataclass(frozen=True)
class TakenFor:
    """A place that a mark is confused with: in words, and how far it lies off, cm, as ``step``."""

    words: str
    by: tuple[float, float, float]


@dataclass(frozen=True)
class SkinSpot:
    """Where a mark lies from the centre of its joint: front, outwards, up of segment ``on``, cm.

    ``on``: ``thigh`` (from the hip), ``knee``, ``shin`` (from the ankle), ``foot``, ``pelvis``
    (from a hip), ``fold`` (the same, standing for the hip's centre), ``middle`` (from between the
    hips), ``waist``, ``shoulder``, or ``free``: no part of the skeleton. ``sd`` is the spread
    between people (``sd_told`` where thigh and shin are known), ``habit`` (cm, each way) that of
    where one coach or another always puts it, ``not_the`` what it is taken for.
    """

    on: str
    step: tuple[float, float, float]
    sd: tuple[float, float, float]
    habit: float = 1.0
    sd_told: tuple[float, float, float] | None = None
    not_the: tuple[TakenFor, ...] = ()


@dataclass(frozen=True)
class Contact:
    """A joint whose height above the floor the pose settles: ``at`` such as ``side.ankle``, cm.

    ``maybe`` ones need not hold: the picture decides. ``prop`` ones rise with what is put
    under, where its height is known (over ``bare_cm``), by ``share`` of it: a heel on a prop
    lies lower against its ankle the more the leg slopes up.
    """

    at: str
    height_cm: float
    sd_cm: float
    when: Mapping[str, str] = field(default_factory=dict)
    maybe: bool = False
    prop: bool = False
    bare_cm: float | None = None
    share: float = 1.0

    def on_prop(self, prop_cm: float) -> float:
        """Height over a prop of a known height, cm; ``bare_cm`` is the height without one."""
        return self.share * prop_cm + (self.height_cm if self.bare_cm is None else self.bare_cm)


@dataclass(frozen=True)
class HeldStill:
    """What a pose holds still beyond its figure: joint angles (degrees) and contacts.

    ``lifted`` are the spreads (and means) where what may rest on the floor does not;
    ``per_prop_cm`` is how means move with a prop's height, told or usual. ``width``
    and ``change_width`` scale the headline's interval, and that of its change, to what errors on
    bodies deserved (fitted apart from the bodies that are reported on), ``bare_width`` both where
    no mat says where the camera stood.
    """

    mean: Mapping[str, float] = field(default_factory=dict)
    spread: Mapping[str, float] = field(default_factory=dict)
    contacts: tuple[Contact, ...] = ()
    lifted_mean: Mapping[str, float] = field(default_factory=dict)
    lifted: Mapping[str, float] = field(default_factory=dict)
    per_prop_cm: Mapping[str, float] = field(default_factory=dict)
    width: float = 1.0
    change_width: float = 1.0
    bare_width: float = 1.0


@dataclass(frozen=True)
class Mark:
    """One point of a pose: where to put it, and where on a body it lies.

    ``body`` is the point on the articulated figure, ``skin`` where it lies from its joint. ``leg``
    says which leg (``front`` or ``back``) it is of, where either may be nearer to the camera.
    A mark that ``touches`` others may lie on the same spot. The line from ``parent`` to it is the
    limb whose length is ``segment``.
    """

    id: str
    label: str
    where: str
    body: str
    optional: bool = False
    parent: str | None = None
    segment: str | None = None
    leg: str | None = None
    touches: bool = False
    skin: SkinSpot = SkinSpot("free", (0.0, 0.0, 0.0), (1.0, 1.0, 1.0))


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
    they are charted together. ``leg`` is the hip that ``motion`` is of: the one a side names, or
    the other. ``plausible`` bounds what hips do. ``when`` names the
    variants the measure is taken in, ``headline_when`` those in which it is the headline;
    it is none where ``headline_unless`` is measured. ``needs`` are marks without which it
    would only be guessed. ``second`` was a headline before and keeps a chart of its own, which
    nothing is judged by; ``follows`` names the one whose goals a headline has taken over.
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
    leg: str = "own"
    note: str = ""
    side: str | None = None
    family: str = ""
    family_label: str = ""
    when: Mapping[str, str] = field(default_factory=dict)
    headline_when: Mapping[str, str] = field(default_factory=dict)
    headline_unless: str | None = None
    needs: tuple[str, ...] = ()
    second: bool = False
    follows: str | None = None
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
class Likeness:
    """How a pose's headline goes with something else of its set-up, for comparing like with like.

    ``measure`` names one of the pose's measures, or ``prop_cm``, the height of its support. The
    headline changes by ``slope`` (known to ``sd``) for each unit of it.
    """

    measure: str
    slope: float
    sd: float


@dataclass(frozen=True, eq=False)
class Pose:
    """A benchmark pose.

    ``likeness`` is what two assessments are compared at. ``beside`` names, by view, the pose
    whose marks a second photograph of the hold carries. ``companion_of`` is the pose this is
    another view of. ``counter`` is the movement that follows a deep pose, ``marking`` how its
    marks are best set, as measured, ``hold_s`` how long an attempt is held,
    ``leg`` where the leg is that a side names, of poses with one leg in front.
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
    camera: Stand
    say: str
    cautions: tuple[str, ...]
    marks: tuple[Mark, ...]
    measures: tuple[Measure, ...]
    checks: tuple[Check, ...]
    variants: tuple[Variant, ...]
    demand: int
    figure: FigurePose
    companion_of: str | None = None
    beside: Mapping[str, str] = field(default_factory=dict)
    likeness: Likeness | None = None
    leg: str = ""
    counter: str = ""
    marking: str = ""
    hold_s: int = 5
    held: HeldStill = HeldStill()
    #: Whether a picture without mat or cards says nothing of it.
    needs_mat: bool = False
    #: Whether a rotation in it is the hip's alone; below which passive range a body is stiff.
    isolates: bool = False
    stiff_below: float | None = None

    def said_side(self, side: str) -> str:
        """A side as the leg it means: ``left leg behind``; nothing for both."""
        if side == "both":
            return ""
        return f"{side} leg {self.leg}" if self.leg else side

    def named(self, side: str, mode: str = "") -> str:
        """The pose by the leg and mode that are meant: ``Low lunge, left leg behind, passive``."""
        said = self.said_side(side)
        if mode:
            said = f"{said}{', ' if self.leg else ' '}{mode}" if said else mode
        return f"{self.name}, {said}" if said else self.name

    def whose(self, side: str) -> str:
        """The pose within a sentence: ``low lunge, left leg behind,`` or ``left leg raise``."""
        if side == "both":
            return self.name.lower()
        if self.leg:
            return f"{self.name.lower()}, {self.said_side(side)},"
        return f"{side} {self.name.lower()}"

    def labelled(self, label: str) -> str:
        """A measure's label for charts, which say left and right alone."""
        return f"{label}, sides by the leg {self.leg}" if self.leg else label

    @property
    def headline(self) -> Measure:
        """The first measure that stands for the pose in charts."""
        return self.headlines[0]

    @property
    def headlines(self) -> tuple[Measure, ...]:
        """Every measure that is charted."""
        return tuple(m for m in self.measures if m.headline)

    @property
    def charted(self) -> tuple[Measure, ...]:
        """One measure for each chart there is: of headlines, and of what was one before."""
        return (*self.families, *(m for m in self.measures if m.second))

    def now(self, family: str) -> Measure:
        """The measure whose chart a goal or a gate of a family looks at today."""
        heads, own = self.families, self.followed(family)
        return next((m for m in heads if m.family == own), heads[0])

    def followed(self, family: str) -> str:
        """The family that has taken a family's goals over; itself where none has."""
        return next((m.family for m in self.families if m.follows == family), family)

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
        return f"{self.camera.height_cm:g} cm high, {self.camera.distance_cm:g} cm away"

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

    def seen_from(self, pose_id: str, view: str | None, together: bool = False) -> Pose:
        """Return a pose as photographed from a view, which may be its companion shot.

        ``together`` with a photograph of its own, another pose's marks may do (``beside``).

        KeyError where the catalogue has no such pose or it is not measured from there.
        """
        pose = self.pose(pose_id)
        if view is None or view == pose.view:
            return pose
        if together and view in pose.beside:
            return self.pose(pose.beside[view])
        for other in self.poses:
            if other.companion_of == pose_id and other.view == view:
                return other
        raise KeyError(view)

    def beside(self, pose_id: str) -> tuple[Pose, ...]:
        """Poses whose photograph of the same hold, from elsewhere, may stand beside a pose's."""
        named = [self.pose(p) for p in self.pose(pose_id).beside.values()]
        return (*named, *(p for p in self.poses if p.companion_of == pose_id and p not in named))


def agrees(when: Mapping[str, str], variant: Mapping[str, str]) -> bool:
    """Whether a variant has every option that ``when`` asks for."""
    return all(variant.get(k) == v for k, v in when.items())
