"""The articulated figure: joint angles and body lengths to 3-D points.

Person frame: F forward, U towards the head, L to the person's left. A thigh in
anatomical standing points along -U. Hip flexion turns it in the sagittal plane,
abduction then tilts it out of that plane, so the flexion angle is what a side
view along L shows. Rotation turns the kneecap outward (external positive) about
the thigh, knee flexion carries the heel back. Degrees and centimetres.

World frame of a view as in ``dachi.core.camera``.
"""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from dachi.core.anatomy import SHIN_OF_HEIGHT, THIGH_OF_HEIGHT, other_side
from dachi.core.catalogue import FigurePose, Mark

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Body:
    """Lengths of one person, cm; proportions after Drillis and Contini (1966)."""

    height: float = 170.0
    girth: float = 1.0

    @property
    def thigh(self) -> float:
        """Hip joint to knee joint."""
        return THIGH_OF_HEIGHT * self.height

    @property
    def shin(self) -> float:
        """Knee joint to ankle joint."""
        return SHIN_OF_HEIGHT * self.height

    @property
    def segments_cm(self) -> dict[str, float]:
        """The lengths a coach would tape, between the marked points."""
        # Marked points sit further out at the hip than at the knee and ankle.
        return {
            "thigh": math.hypot(self.thigh, HIP_OUT - KNEE_OUT),
            "shin": math.hypot(self.shin, KNEE_OUT - ANKLE_OUT),
        }


#: Half the distance between hip joints, and how far the marked outer points lie
#: outside the joint centres, cm, for a body 170 cm tall.
HIP_HALF = 9.0
HIP_OUT, KNEE_OUT, ANKLE_OUT = 7.0, 5.5, 4.0

LEG_JOINTS = (
    "hip_flexion",
    "hip_abduction",
    "hip_rotation",
    "knee_flexion",
    "ankle_flexion",
)
ARM_JOINTS = ("shoulder_flexion", "shoulder_abduction", "elbow_flexion")


@dataclass(frozen=True)
class Pose3D:
    """Joint angles in degrees. Leg and arm joints are keyed ``left.`` or ``right.``.

    ``posture`` is how the person lies or sits before the pelvis tilts: ``supine``,
    ``prone`` or ``upright``; ``heading`` the picture direction of the feet (lying)
    or the front (upright): ``right``, ``left``, ``camera`` or ``away``.
    """

    posture: str
    heading: str
    joints: Mapping[str, float] = field(default_factory=dict)
    raise_cm: float = 0.0

    def joint(self, name: str) -> float:
        """Angle of a joint, 0 where unset."""
        return float(self.joints.get(name, 0.0))


Landmarks = dict[str, Array]

_HEADINGS = {
    "right": np.array([1.0, 0, 0]),
    "left": np.array([-1.0, 0, 0]),
    "camera": np.array([0, -1.0, 0]),
    "away": np.array([0, 1.0, 0]),
}
_UP = np.array([0, 0, 1.0])


def turn(axis: Array, degrees: float) -> Array:
    """Rotation matrix about a unit axis, right-handed (Rodrigues)."""
    a = math.radians(degrees)
    x, y, z = axis
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.asarray(np.eye(3) + math.sin(a) * k + (1 - math.cos(a)) * (k @ k))


def root_axes(posture: str, heading: str) -> Array:
    """Rows F, L, U of the untilted pelvis in the world frame, (3, 3)."""
    way = _HEADINGS[heading]
    if posture == "supine":
        forward, up = _UP, -way
    elif posture == "prone":
        forward, up = -_UP, -way
    else:
        forward, up = way, _UP
    return np.stack([forward, np.cross(up, forward), up])


def landmarks(body: Body, pose: Pose3D, standing: Pose3D | None = None) -> Landmarks:
    """Return every joint centre and surface point, world frame, cm.

    Keys: ``left.hip``, ``left.hip.outer``, ``left.knee``, ``left.knee.outer``,
    ``.inner``, ``.front``, the same for ``ankle``, ``left.heel``, ``left.toe``,
    ``left.asis``, ``left.psis``, ``left.shoulder`` (and ``.outer``), ``left.elbow``,
    ``left.hand``, ``pelvis``, ``groin``, ``mid_spine``, ``chest``, ``neck``, ``head``.
    The lowest skin point stands on the floor, or ``raise_cm`` above it; with
    ``standing``, the pelvis is as high as in that pose instead.
    """
    h = body.height / 170.0
    f0, l0, u0 = root_axes(pose.posture, pose.heading)
    tilt = turn(l0, pose.joint("pelvis_tilt"))
    spin = turn(u0, pose.joint("pelvis_turn"))
    hike = turn(f0, pose.joint("pelvis_list"))
    f, lat, u = (spin @ tilt @ hike @ v for v in (f0, l0, u0))
    p: Landmarks = {"pelvis": np.zeros(3)}
    p["groin"] = -7.5 * h * u + 3.0 * h * f
    for side, sign in (("left", 1.0), ("right", -1.0)):
        p |= _leg(body, pose, side, f, sign * lat, u)
        p[f"{side}.asis"] = 8.0 * h * u + sign * 12.0 * h * lat + 8.0 * h * f
        p[f"{side}.psis"] = 9.0 * h * u + sign * 5.0 * h * lat - 9.0 * h * f
    _trunk(p, body, pose, f, lat, u)
    for side, sign in (("left", 1.0), ("right", -1.0)):
        _arm(p, body, pose, side, sign)
    if standing is None:
        lowest = min(float(a[2] - r) for a, r in _skin(p, body))
        lift = np.array([0, 0, pose.raise_cm - lowest])
    else:
        lift = np.array([0, 0, landmarks(body, standing)["pelvis"][2]])
    return {name: point + lift for name, point in p.items()}


def _leg(body: Body, pose: Pose3D, side: str, f: Array, out: Array, u: Array) -> Landmarks:
    h = body.height / 170.0
    flex, abd, rot, knee, foot = (math.radians(pose.joint(f"{side}.{j}")) for j in LEG_JOINTS)
    hip = HIP_HALF * h * out
    swing = math.sin(flex) * f - math.cos(flex) * u
    front = math.cos(flex) * f + math.sin(flex) * u
    thigh = math.cos(abd) * swing + math.sin(abd) * out
    outer = math.cos(abd) * out - math.sin(abd) * swing
    kneecap = math.cos(rot) * front + math.sin(rot) * outer
    knee_out = math.cos(rot) * outer - math.sin(rot) * front
    shin = math.cos(knee) * thigh - math.sin(knee) * kneecap
    shin_front = math.cos(knee) * kneecap + math.sin(knee) * thigh
    k = hip + body.thigh * thigh
    a = k + body.shin * shin
    toe_way = math.cos(foot) * shin_front + math.sin(foot) * shin
    return {
        f"{side}.hip": hip,
        # The trochanter belongs to the thigh bone: it swings out with it.
        f"{side}.hip.outer": hip + HIP_OUT * h * outer,
        f"{side}.knee": k,
        f"{side}.knee.outer": k + KNEE_OUT * h * knee_out,
        f"{side}.knee.inner": k - KNEE_OUT * h * knee_out,
        f"{side}.knee.front": k + KNEE_OUT * h * kneecap,
        f"{side}.ankle": a,
        f"{side}.ankle.outer": a + ANKLE_OUT * h * knee_out,
        f"{side}.ankle.inner": a - ANKLE_OUT * h * knee_out,
        f"{side}.ankle.front": a + ANKLE_OUT * h * shin_front,
        f"{side}.heel": a + 3.5 * h * shin - 4.0 * h * shin_front,
        f"{side}.ball": a + 4.0 * h * shin + 11.0 * h * toe_way,
        f"{side}.toe": a + 4.5 * h * shin + 18.0 * h * toe_way,
    }


def _trunk(p: Landmarks, body: Body, pose: Pose3D, f: Array, lat: Array, u: Array) -> None:
    """Two bending segments from pelvis to neck, half the spine's flexion at each."""
    h = body.height / 170.0
    half = turn(lat, pose.joint("spine_flexion") / 2)
    f1, u1 = half @ f, half @ u
    f2, u2 = half @ f1, half @ u1
    p["waist"] = 10.0 * h * u
    p["mid_spine"] = p["waist"] + 14.0 * h * u1
    p["chest"] = p["waist"] + 15.0 * h * u1
    p["neck"] = p["chest"] + 24.0 * h * u2
    nod = turn(lat, pose.joint("neck_flexion"))
    p["head"] = p["neck"] + 15.0 * h * (nod @ u2) + 2.0 * h * (nod @ f2)
    for side, sign in (("left", 1.0), ("right", -1.0)):
        shoulder = p["chest"] + 18.5 * h * u2 + sign * 15.5 * h * lat
        p[f"{side}.shoulder"] = shoulder
        p[f"{side}.shoulder.outer"] = shoulder + sign * 5.0 * h * lat
        p[f"{side}.shoulder.axes"] = np.zeros(3)
    p["axes.f"], p["axes.l"], p["axes.u"] = f2, lat, u2


def _arm(p: Landmarks, body: Body, pose: Pose3D, side: str, sign: float) -> None:
    h = body.height / 170.0
    flex, abd, elbow = (math.radians(pose.joint(f"{side}.{j}")) for j in ARM_JOINTS)
    f, out, u = p["axes.f"], sign * p["axes.l"], p["axes.u"]
    swing = math.sin(flex) * f - math.cos(flex) * u
    front = math.cos(flex) * f + math.sin(flex) * u
    upper = math.cos(abd) * swing + math.sin(abd) * out
    lower = math.cos(elbow) * upper + math.sin(elbow) * front
    p[f"{side}.elbow"] = p[f"{side}.shoulder"] + 29.0 * h * upper
    p[f"{side}.hand"] = p[f"{side}.elbow"] + 31.0 * h * lower


@dataclass(frozen=True)
class Bone:
    """A round cone from point a (radius ra) to point b (radius rb), cm, with its cloth."""

    a: str
    b: str
    ra: float
    rb: float
    cloth: str


#: Radii for a body 170 cm tall, chosen so that marked points lie on the skin.
BONES: tuple[Bone, ...] = (
    Bone("left.hip", "right.hip", 6.9, 6.9, "shorts"),
    Bone("pelvis", "waist", 9.0, 9.0, "shorts"),
    Bone("waist", "chest", 9.2, 11.0, "top"),
    Bone("chest", "neck", 11.0, 6.0, "top"),
    Bone("left.shoulder", "right.shoulder", 4.7, 4.7, "top"),
    Bone("neck", "head", 4.6, 5.0, "skin"),
    Bone("head", "head", 9.4, 9.4, "hair"),
    *(
        Bone(f"{s}.{a}", f"{s}.{b}", ra, rb, cloth)
        for s in ("left", "right")
        for a, b, ra, rb, cloth in (
            ("hip", "knee", 6.9, 5.3, "shorts"),
            ("knee", "ankle", 5.2, 3.7, "skin"),
            ("ankle", "heel", 3.6, 3.2, "skin"),
            ("heel", "ball", 3.2, 2.8, "skin"),
            ("ball", "toe", 2.8, 1.9, "skin"),
            ("shoulder", "elbow", 4.6, 3.4, "skin"),
            ("elbow", "hand", 3.3, 2.6, "skin"),
        )
    ),
)


def _skin(p: Landmarks, body: Body) -> list[tuple[Array, float]]:
    h = body.height / 170.0 * body.girth
    ends = [(p[b.a], b.ra * h) for b in BONES]
    ends += [(p[b.b], b.rb * h) for b in BONES]
    return ends


def bones(body: Body, points: Landmarks) -> list[tuple[Array, Array, float, float, str]]:
    """Return the body as round cones: ends, radii (cm) and cloth."""
    h = body.height / 170.0 * body.girth
    return [(points[b.a], points[b.b], b.ra * h, b.rb * h, b.cloth) for b in BONES]


# ---------------------------------------------------------------- benchmark poses


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


def props(figure: FigurePose, side: str, points: Landmarks) -> list[tuple[Array, Array, float]]:
    """Round supports under the figure: ends and radius, cm."""
    names = sides_of(side)
    found = []
    for prop in figure.props:
        radius = float(prop["radius_cm"])
        ends = []
        for end in prop["between"]:
            owner, _, rest = end.partition(".")
            point = points[f"{names[owner]}.{rest}" if owner in names else end]
            ends.append(point + np.array([0, 0, -float(prop["below_cm"]) - radius]))
        a, b = ends
        stretch = float(prop.get("stretch_cm", 0.0)) * (b - a) / max(np.linalg.norm(b - a), 1e-6)
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


def mark_points(marks: tuple[Mark, ...], side: str, points: Landmarks) -> dict[str, Array]:
    """True 3-D position of each mark of a pose on the posed figure."""
    names = sides_of(side)
    found = {}
    for m in marks:
        owner, _, rest = m.body.partition(".")
        found[m.id] = points[f"{names[owner]}.{rest}" if owner in names else m.body]
    return found
