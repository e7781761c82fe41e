"""The articulated figure: joint angles and body lengths to 3-D points.

Person frame: F forward, U towards the head, L to the person's left. A thigh in
anatomical standing points along -U. Hip flexion turns it in the sagittal plane,
abduction then tilts it out of that plane, so the flexion angle is what a side
view along L shows. Rotation turns the kneecap outward (external positive) about
the thigh, knee flexion carries the heel back. Degrees and centimetres.

World frame of a view as in ``dachi.core.body.pinhole``.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import SHIN_OF_HEIGHT, THIGH_OF_HEIGHT

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
    p["groin"] = -7.0 * h * u - 1.0 * h * f
    for side, sign in (("left", 1.0), ("right", -1.0)):
        p |= _leg(body, pose, side, f, sign * lat, u)
        p[f"{side}.asis"] = 8.5 * h * u + sign * 12.5 * h * lat + 6.0 * h * f
        p[f"{side}.psis"] = 9.2 * h * u + sign * 5.2 * h * lat - 12.0 * h * f
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
