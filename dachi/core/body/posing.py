"""Putting the articulated figure into a benchmark pose at a headline value."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Iterable, Mapping
from typing import Literal, Protocol

import msgspec
import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import other_side
from dachi.core.body.figure import ARM_JOINTS, LEG_JOINTS, Landmarks, Pose3D

Array = NDArray[np.float64]


Posture = Literal["supine", "prone", "upright"]
OWNERS = ("side", "other", "each", "left", "right")
TRUNK_JOINTS = ("pelvis_tilt", "pelvis_turn", "pelvis_list", "spine_flexion", "neck_flexion")


def is_joint(name: str) -> bool:
    """Whether a joint of the figure has this name: ``each.hip_flexion``, ``pelvis_tilt``."""
    owner, _, joint = name.partition(".")
    if not joint:
        return name in TRUNK_JOINTS
    return owner in OWNERS and joint in (*LEG_JOINTS, *ARM_JOINTS)


class Support(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A round support under the figure: ``between`` two points of the body, cm.

    It lies ``below_cm`` under them and reaches ``stretch_cm`` beyond either.
    """

    between: tuple[str, str]
    radius_cm: float
    below_cm: float
    stretch_cm: float = 0.0


class FigurePose(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Joint angles that put the articulated figure in the pose.

    ``joints`` maps joint names to numbers or expressions in ``v``, roughly the headline
    value in degrees, for the right side; the left is its mirror image. ``variants``
    replaces joints where a variant is chosen, keyed ``variant=option``. ``scatter`` names
    the joints that tip limbs out of the pose's plane. ``near`` is the side towards the
    camera in a side view, ``side`` or ``other``. ``props`` are round supports.
    """

    posture: Posture
    joints: Mapping[str, str | float]
    low: float
    high: float
    raise_cm: float = 0.0
    scatter: tuple[str, ...] = ()
    near: Literal["side", "other"] = "side"
    anchor: str = "pelvis"
    centre: str = "legs"
    variants: Mapping[str, Mapping[str, str | float]] = msgspec.field(default_factory=dict)
    props: tuple[Support, ...] = ()


class BodyMark(Protocol):
    """A mark, as far as the figure knows it: its id and the point of the body it is."""

    @property
    def id(self) -> str: ...
    @property
    def body(self) -> str: ...


#: Trunk joints that turn one way or the other: mirrored with the side.
_HANDED = ("pelvis_turn", "pelvis_list")


def posed(
    figure: FigurePose,
    side: str,
    value: float,
    view: str,
    extra: Mapping[str, float] | None = None,
    variant: Mapping[str, str] | None = None,
) -> Pose3D:
    """Put the figure in a benchmark pose at a headline value (degrees).

    Joints written ``side.`` and ``other.`` take the measured and the opposite side.
    ``extra`` is added to the resolved joints (scatter, compensations). In a side
    view the measured side faces the camera (unless the pose says the other does): the
    right side heads right, the left side heads left.
    """
    names = sides_of(side)
    specs = dict(figure.joints)
    for option, changed in figure.variants.items():
        name, _, choice = option.partition("=")
        if (variant or {}).get(name) == choice:
            specs |= changed
    joints: dict[str, float] = {}
    resolved = [(name, evaluate(spec, value)) for name, spec in specs.items()]
    for name, degrees in [*resolved, *(extra or {}).items()]:
        owner, _, joint = name.partition(".")
        if owner == "each":
            keys = [f"{s}.{joint}" for s in ("left", "right")]
        else:
            keys = [f"{names[owner]}.{joint}" if owner in names else name]
        turned = -1.0 if name in _HANDED and side == "left" else 1.0
        for key in keys:
            joints[key] = joints.get(key, 0.0) + turned * degrees
    heading = names[figure.near] if view == "side" else "camera"
    return Pose3D(figure.posture, heading, joints, figure.raise_cm)


def sides_of(side: str) -> dict[str, str]:
    """Which body side ``side`` and ``other`` stand for."""
    near = "right" if side == "both" else side
    return {"side": near, "other": other_side(near)}


def _degrees(function: Callable[[float], float]) -> Callable[[float], float]:
    return lambda x: function(math.radians(x))


def _clipped(function: Callable[[float], float]) -> Callable[[float], float]:
    return lambda x: math.degrees(function(max(-1.0, min(1.0, x))))


_FUNCTIONS: dict[str, Callable[[float], float]] = {
    "sin": _degrees(math.sin),
    "cos": _degrees(math.cos),
    "tan": _degrees(math.tan),
    "asin": _clipped(math.asin),
    "acos": _clipped(math.acos),
}


def evaluate(spec: str | float, value: float) -> float:
    """Evaluate a joint expression such as ``"90 - v/2"`` at the headline value.

    Besides sums and products it knows sin, cos, tan, asin and acos of degrees.
    """
    if isinstance(spec, int | float):
        return float(spec)

    def run(node: ast.expr) -> float:
        if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
            return float(node.value)
        if isinstance(node, ast.Name) and node.id == "v":
            return value
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
            return -run(node.operand)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            function = _FUNCTIONS.get(node.func.id)
            if function is not None and len(node.args) == 1 and not node.keywords:
                return function(run(node.args[0]))
        if isinstance(node, ast.BinOp):
            left, right = run(node.left), run(node.right)
            if isinstance(node.op, ast.Add):
                return left + right
            if isinstance(node.op, ast.Sub):
                return left - right
            if isinstance(node.op, ast.Mult):
                return left * right
            if isinstance(node.op, ast.Div):
                return left / right
        raise ValueError(
            f"joint expression {spec!r} may only use v, numbers, + - * / and sines of degrees"
        )

    return run(ast.parse(spec, mode="eval").body)


def supports_under(
    figure: FigurePose, side: str, points: Landmarks
) -> list[tuple[Array, Array, float]]:
    """Round supports under the figure: ends and radius, cm."""
    names = sides_of(side)
    found = []
    for prop in figure.props:
        radius = prop.radius_cm
        ends = []
        for end in prop.between:
            owner, _, rest = end.partition(".")
            point = points[f"{names[owner]}.{rest}" if owner in names else end]
            ends.append(point + np.array([0, 0, -prop.below_cm - radius]))
        a, b = ends
        stretch = prop.stretch_cm * (b - a) / max(np.linalg.norm(b - a), 1e-6)
        found.append((a - stretch, b + stretch, radius))
    return found


def place_on_mat(points: Landmarks, along: str, anchor: str = "pelvis") -> Landmarks:
    """Slide the figure so that it lies centred on the mat.

    ``along`` ``x`` (side view) centres the leg span on x and the pelvis on y;
    ``y`` (front view) the other way round.
    """
    ends = ("ankle", "shoulder", "knee")
    feet = np.array([points[f"{s}.{j}"] for s in ("left", "right") for j in ends])
    middle = (feet.min(axis=0) + feet.max(axis=0)) / 2
    shift = np.array([-middle[0], -points[anchor][1], 0.0])
    if along == "y":
        shift = np.array([-points[anchor][0], -middle[1], 0.0])
    return moved(points, shift)


def moved(points: Landmarks, by_cm: Array | tuple[float, float, float]) -> Landmarks:
    """Shift every landmark; the directions kept among them stay."""
    step = np.asarray(by_cm, dtype=float)
    return {n: p if "axes" in n else p + step for n, p in points.items()}


def mark_points(marks: Iterable[BodyMark], side: str, points: Landmarks) -> dict[str, Array]:
    """True 3-D position of each mark of a pose on the posed figure."""
    names = sides_of(side)
    found = {}
    for m in marks:
        owner, _, rest = m.body.partition(".")
        found[m.id] = points[f"{names[owner]}.{rest}" if owner in names else m.body]
    return found


#: Joints whose centres marks on skin stand for.
CENTRED = ("hip", "knee", "ankle", "shoulder")


def joint_points(marks: Iterable[BodyMark], side: str, points: Landmarks) -> dict[str, Array]:
    """The centre of the joint each mark stands for, the point itself where it stands for none.

    Both hips too (``own_hip``, ``other_hip``), since one mark may stand for either.
    """
    names = sides_of(side)
    found = {}
    for m in marks:
        owner, _, rest = m.body.partition(".")
        joint = rest.partition(".")[0]
        part = joint if joint in CENTRED else rest
        owner = names.get(owner, owner)
        found[m.id] = points[f"{owner}.{part}" if part else m.body]
    return found | {
        "own_hip": points[f"{names['side']}.hip"], "other_hip": points[f"{names['other']}.hip"]
    }  # fmt: skip
