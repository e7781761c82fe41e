"""What a reading is computed from, and what comes out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from dachi.core.body.pinhole import Camera
from dachi.core.measuring.bones import BodyAngle, Bone
from dachi.core.measuring.calibration import Mat
from dachi.errors import NotDone

Point = tuple[float, float]

#: A careful click at 1600 px across the longer side.
DEFAULT_MARK_SD_PX = 3.0
#: Ways a mark may be set: what it says of the joint beneath differs.
MARKED = ("eye", "palpated", "sticker", "joint")


@dataclass(frozen=True)
class Image:
    """Size of the upright picture in pixels, focal length as 35 mm equivalent."""

    width: int
    height: int
    focal_35mm: float | None = None


@dataclass(frozen=True)
class PhotoView:
    """One of several photographs of a hold: what of a scene is its own."""

    view: str
    image: Image
    marks: Mapping[str, Point]
    mat: Mat | None = None
    level: tuple[Point, Point] | None = None
    facing: str | None = None
    mark_sds: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Scene:
    """Marks on a picture with the pose and whatever calibrates the picture.

    ``marks`` are pixels in the upright picture. ``mark_sds`` overrides
    ``mark_sd_px`` for single marks, such as detected stickers. ``marked`` says how marks were
    set (``MARKED``), ``marked_by_mark`` how single ones were, ``sticker_put`` whether stickers
    were put on ``standing`` or ``in_pose``. ``prop_cm`` is the height of what is put under the
    seat or the limb, where it is known. ``views`` are photographs of one hold from several
    sides; each has its own of what a scene has, and the scene's own are not used.
    """

    pose: str
    side: str
    mode: str
    image: Image
    marks: Mapping[str, Point]
    id: str = ""
    view: str | None = None
    variant: Mapping[str, str] = field(default_factory=dict)
    mat: Mat | None = None
    level: tuple[Point, Point] | None = None
    facing: str | None = None
    mark_sd_px: float | None = None
    mark_sds: Mapping[str, float] = field(default_factory=dict)
    segments_cm: Mapping[str, float] = field(default_factory=dict)
    prop_cm: float | None = None
    marked: str = "joint"
    sticker_put: str = "in_pose"
    marked_by_mark: Mapping[str, str] = field(default_factory=dict)
    views: tuple[PhotoView, ...] = ()

    def seen_in(self, v: PhotoView) -> Scene:
        """The scene of one of its photographs."""
        return replace(
            self, views=(), view=v.view, image=v.image, marks=v.marks, mat=v.mat, level=v.level,
            facing=v.facing, mark_sds=v.mark_sds,
        )  # fmt: skip

    @property
    def ways(self) -> set[str]:
        """Every way in which marks of this scene were set."""
        return {self.marked, *self.marked_by_mark.values()}

    def marked_as(self, mark: str) -> str:
        """How a mark was set: one of ``MARKED``."""
        return self.marked_by_mark.get(mark, self.marked)

    def skin_way(self, mark: str) -> str:
        """``sliding`` for stickers put on while standing, else how the mark was set."""
        how = self.marked_as(mark)
        return "sliding" if how == "sticker" and self.sticker_put == "standing" else how

    def sd_of(self, mark: str) -> float:
        """Standard deviation of a mark in px, scaled from 3 px at 1600 px."""
        if mark in self.mark_sds:
            return self.mark_sds[mark]
        if self.mark_sd_px is not None:
            return self.mark_sd_px
        return DEFAULT_MARK_SD_PX * max(self.image.width, self.image.height) / 1600.0


@dataclass(frozen=True)
class Reading:
    """The value of a measure with its standard deviation and 95 % interval.

    ``sd_change`` is its share in the change between two shots of one person.
    """

    id: str
    label: str
    unit: str
    value: float
    sd: float
    low: float
    high: float
    headline: bool = False
    apparent: bool = False
    sd_change: float | None = None


@dataclass(frozen=True)
class CheckResult:
    """A compensation seen or not; ``status`` is ``ok``, ``watch`` or ``retake``."""

    id: str
    label: str
    value: float
    sd: float
    unit: str
    limit: float
    status: str
    message: str


@dataclass(frozen=True)
class LaidFan:
    """A measure as a fan in its plane, small enough to be kept with its reading.

    ``to_px`` (9,): the plane's (x, y, 1), cm from the vertex, to (u·d, v·d, d), pixels and the
    depth in cm. ``zero`` is where the fan begins and ``sweep`` how it turns to the moving line,
    degrees; ``spread`` is half of the 95 % interval. ``line_end`` is the limb's end, px.
    """

    measure: str
    to_px: tuple[float, ...]
    line_end: Point
    radius_cm: float
    zero: float
    sweep: float
    spread: float


@dataclass(frozen=True)
class FanDrawing:
    """A measure as a fan on the picture, all in pixels.

    ``rim`` runs from the zero line to the moving line; ``soft`` is the same arc over
    the 95 % interval; ``ticks`` are pairs of inner and outer points.
    """

    measure: str
    vertex: Point
    zero_end: Point
    line_end: Point
    rim: tuple[Point, ...]
    soft: tuple[Point, ...]
    ticks: tuple[tuple[Point, Point], ...]
    label_at: Point


@dataclass(frozen=True)
class Result:
    """Everything measured on one scene."""

    id: str
    method: str
    pose: str
    readings: tuple[Reading, ...]
    checks: tuple[CheckResult, ...]
    camera: Camera | None
    warnings: tuple[str, ...]
    fans: tuple[LaidFan, ...] = ()
    #: Lengths that a reconstructed body tells, by segment.
    bones: Mapping[str, Bone] = field(default_factory=dict)
    #: Joints of a reconstructed body.
    body: tuple[BodyAngle, ...] = ()
    #: Whether the value itself is told, not only its change: some marks ask for known lengths.
    level_known: bool = True

    @property
    def status(self) -> str:
        """The worst check: ``ok``, ``watch`` or ``retake``."""
        return worst(c.status for c in self.checks)

    def reading(self, measure_id: str) -> Reading:
        """Return a reading by id; KeyError where it could not be computed."""
        for reading in self.readings:
            if reading.id == measure_id:
                return reading
        raise KeyError(measure_id)

    @property
    def headline(self) -> Reading:
        """The first headline reading."""
        return next(r for r in self.readings if r.headline)


class SceneError(NotDone):
    """A scene that cannot be measured; the message is for the person."""

    code = "scene"


def worst(statuses: Any) -> str:
    """Return the worst of several check statuses."""
    order = ("ok", "watch", "retake")
    return max(statuses, key=order.index, default="ok")
