"""One body behind the joints that a network saw, and where a pose's marks lie on its skin.

Every joint is an observation of a point near the bone's end, with an offset and a spread learnt on
bodies whose joints are known (``python -m bench.bodies.network``), beside what the camera, the
floor and the pose say: one wrong joint is outvoted. Which way the person faces, and whether left
and right were taken for each other, are hypotheses; the least costly counts. Spreads give way where
a joint lies far from the body (Student's t, by reweighting).
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import exchanged, longest_bone
from dachi.core.body.pinhole import DEFAULT_FOCAL_35MM, focal_in_px
from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring import calibration, reconstruct, skeleton
from dachi.core.measuring.body_priors import Held, Seen, held, seen
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.habits import DOUBTFUL, Habit, Habits
from dachi.core.measuring.looks import CAMERA, Look
from dachi.core.measuring.recognise import JOINTS
from dachi.core.measuring.scene import Image, Point, Scene
from dachi.core.measuring.skeleton import Points, joint_point
from dachi.core.measuring.together import Together

Array = NDArray[np.float64]

SIDES = ("left", "right")
#: Joints whose centres are of use to look again.
CENTRES = tuple(n for n in JOINTS if not n.endswith(("heel", "toe")))


@dataclass(frozen=True)
class Sight:
    """Where a network sees a kind of joint: front, outwards, up of its centre; its spread; cm."""

    offset: tuple[float, float, float]
    sd: float


#: By ``bench.bodies.network``; heel and toe, whose truth the pictures do not tell, by hand.
SIGHTS: Mapping[str, Sight] = {
    "shoulder": Sight((0.84, -0.85, 0.09), 1.32),
    "hip": Sight((-0.55, -0.3, 2.92), 3.49),
    "knee": Sight((0.56, -0.63, -1.89), 1.87),
    "ankle": Sight((-1.61, -0.21, 1.42), 1.53),
    "heel": Sight((0.0, 0.0, -4.0), 3.0),
    "toe": Sight((0.0, 0.0, -5.0), 4.0),
}
#: Where heel and toe lie along the foot, as shares of its length from the ankle.
ALONG_FOOT = {"heel": -0.22, "toe": 0.85}
#: Degrees of freedom of a joint's spread, and how often it is weighed anew.
STUDENT, ROUNDS = 4.0, 3
#: How much wider a joint's spread is for what looks at it lay apart.
APART = 1.0
#: What a hypothesis costs that renames the network's sides, and one that shows the other side.
RENAMED, OTHER_SIDE = 3.0, 6.0
#: A usual bone, cm, against the longest one seen.
BONE_CM = 40.0
#: A mark's spread about its place on the body: its own, cm, and what its joint's distance from the
#: body and the looks' disagreement add, as shares of those.
MARK_SD: Mapping[str, float] = {
    "shoulder": 1.4, "hip": 1.6, "knee": 1.2, "ankle": 0.6, "heel": 1.6, "toe": 1.9, "": 2.3,
}  # fmt: skip
OFF, DISAGREED = 0.17, 0.32


@dataclass(frozen=True)
class Fused:
    """The body found: where marks and joint centres lie in the picture, px.

    ``sds`` is each mark's spread in either direction, px; ``sds_cm`` the same at its depth;
    ``doubts`` its chance of being wrong by a tenth of the thigh. ``ahead`` is which way of the
    picture is ahead of each mark, 1 for right.
    ``forward`` is 1 for a person who faces right, ``renamed`` that left and right were exchanged.
    ``unlikely`` is what the body costs beside the joints: people, the pose, the floor, the camera.
    """

    marks: dict[str, Point]
    sds: dict[str, float]
    sds_cm: dict[str, float]
    doubts: dict[str, float]
    ahead: dict[str, float]
    centres: dict[str, Point]
    forward: float
    renamed: bool
    unlikely: float

    def certain(self) -> dict[str, Point]:
        """Marks that need no look."""
        return {n: p for n, p in self.marks.items() if self.doubts[n] <= DOUBTFUL}

    def given(self, known: Mapping[str, Point], together: Together | None) -> dict[str, Point]:
        """Where the other marks lie, px, once somebody has set some."""
        missed = {}
        for n, at in known.items():
            if n in self.marks:
                cm = self.sds_cm[n] / self.sds[n]
                x, y = (at[k] - self.marks[n][k] for k in (0, 1))
                missed[n] = (x * cm * self.ahead[n], y * cm)
        rest = {n: p for n, p in self.marks.items() if n not in known}
        for n, (ahead, down) in (together.given(missed) if together else {}).items():
            if n in rest:
                px, (x, y) = self.sds[n] / self.sds_cm[n], rest[n]
                rest[n] = (x + ahead * self.ahead[n] * px, y + down * px)
        return rest


@dataclass(frozen=True)
class _Named:
    """A joint in the place of a mark."""

    id: str


def fuse(
    pose: Pose,
    side: str,
    variant: Mapping[str, str],
    image: Image,
    joints: Mapping[str, Point],
    estimate: CameraEstimate | None,
    *,
    spreads_px: Mapping[str, float] | None = None,
    segments_cm: Mapping[str, float] | None = None,
    prop_cm: float | None = None,
    habits: Habits | None = None,
) -> Fused | None:
    """The most probable body behind the twelve ``JOINTS`` a network saw, px; None where none fits.

    ``estimate`` is the camera the mat tells, where it does. ``spreads_px`` is how far apart or
    faintly several looks saw each joint.
    """
    camera = estimate or _square(pose, image, joints)
    saw = Saw(image, joints, spreads_px or {}, camera, estimate is not None)
    best = likeliest(pose, side, variant, saw, segments_cm or {}, prop_cm)
    return best.told(pose, variant, (habits or {}).get(pose.id, {})) if best else None


@dataclass(frozen=True)
class Saw:
    """What a network saw in a picture: joints and how far looks lay apart, px; the camera."""

    image: Image
    joints: Mapping[str, Point]
    apart_px: Mapping[str, float]
    camera: CameraEstimate
    on_mat: bool
    sights: Mapping[str, Sight] = field(default_factory=lambda: SIGHTS)


def likeliest(
    pose: Pose,
    side: str,
    variant: Mapping[str, str],
    saw: Saw,
    segments_cm: Mapping[str, float],
    prop_cm: float | None = None,
) -> Hypothesis | None:
    """The least costly of all ways the person may face, be named and lie; None where none fits."""
    found: list[Hypothesis] = []
    for forward in (1.0, -1.0) if pose.view == "side" else (1.0,):
        priors, names = held(pose, side, variant, forward, saw.on_mat, prop_cm)
        for renamed in (False, True):
            named = exchanged(saw.joints) if renamed else saw.joints
            apart = exchanged(saw.apart_px) if renamed else saw.apart_px
            extra = RENAMED * renamed + OTHER_SIDE * (side in SIDES and names["side"] != side)
            for prior in priors:
                with contextlib.suppress(np.linalg.LinAlgError):
                    one = Hypothesis(replace(saw, joints=named, apart_px=apart), prior, names,
                                     segments_cm, extra)  # fmt: skip
                    one.forward, one.renamed = forward, renamed
                    found.append(one)
    return min(found, key=lambda one: one.cost, default=None)


def _square(pose: Pose, image: Image, joints: Mapping[str, Point]) -> CameraEstimate:
    """A camera square to the pose, as far away as the longest bone says."""
    f = focal_in_px(image.focal_35mm or DEFAULT_FOCAL_35MM, image.width, image.height)
    distance = f * BONE_CM / max(longest_bone(joints), 4.0)
    return calibration.assume_square(
        image.width, image.height, image.focal_35mm, pose.plane, distance, None, 3.0
    )


def _seen_at(name: str, sights: Mapping[str, Sight]) -> skeleton.Point:
    """The point of the skeleton that the network calls a joint."""
    side, part = name.split(".")
    x, y, z = sights[part].offset
    if part in ALONG_FOOT:
        return skeleton.Point(f"{side}.foot", (x, y, z), side, of_foot=(ALONG_FOOT[part], 0, 0))
    at = joint_point(name)
    a, b, c = at.step
    return replace(at, step=(a + x, b + y, c + z))


class Hypothesis:
    """Joints by name, a camera and a prior, and the body that is then likeliest."""

    forward, renamed = 1.0, False

    def __init__(
        self,
        saw: Saw,
        prior: Held,
        names: Mapping[str, str],
        segments_cm: Mapping[str, float],
        extra: float,
    ) -> None:
        self.names, self.prior = names, prior
        self.px = np.array([saw.joints[n] for n in JOINTS], dtype=float)
        self.points = [_seen_at(n, saw.sights) for n in JOINTS]
        own = np.array([saw.sights[n.partition(".")[2]].sd for n in JOINTS])
        self.apart_px = np.array([saw.apart_px.get(n, 0.0) for n in JOINTS])
        # Spreads are the network's own: nothing of them is a click or a kind of skin.
        marks = {n: (x, y) for n, (x, y) in zip(JOINTS, self.px.tolist(), strict=True)}
        scene = Scene("", "", "", saw.image, marks, marked="eye", mark_sd_px=1.0)
        scene = replace(scene, mark_sds=dict(zip(JOINTS, 1.0 + APART * self.apart_px, strict=True)))
        taped = reconstruct.taped(prior, segments_cm)
        self.body: reconstruct.Body
        wider: Array = np.ones(len(JOINTS))
        for again in range(ROUNDS + 1):
            sds = np.repeat((own * wider)[:, None], 3, axis=1)
            look = Look(scene, tuple(_Named(n) for n in JOINTS), saw.camera, sds, np.eye(3), False)
            spots = Seen(
                Points([*self.points, *prior.contacts]), sds, np.zeros(len(JOINTS)), JOINTS,
                Points(self.points[:1]), (), "",
            )  # fmt: skip
            problem = reconstruct.Problem((look,), prior, spots, taped)
            self.body = (
                reconstruct.peak(problem, self.body.state) if again else reconstruct.solve(problem)
            )
            self.look: Look = look
            self.off_cm: Array = self._off()
            z2 = self.off_cm**2 / (own**2 + (APART * self.apart_px * self.cm_per_px) ** 2)
            wider = np.sqrt((STUDENT + z2) / (STUDENT + 2)).clip(0.7)
        joints_cost = float((STUDENT + 2) * np.log1p(z2 / STUDENT).sum())
        self.cost = self.body.unmarked + joints_cost + extra

    def seen(self, points: Points) -> tuple[Array, Array]:
        """Where points of the body lie in the picture, (k, 2) px, and how deep, (k,) cm."""
        x = self.body.x[None]
        at = points.at(x, skeleton.pose(x, self.prior.root))[0]
        return self.look.at(self.body.state[:CAMERA], at)

    def _off(self) -> Array:
        """How far each joint lies from where the body has it, cm at its depth."""
        px, depth = self.seen(Points(self.points))
        self.cm_per_px = depth / self.look.focal
        return np.asarray(np.hypot(*(self.px - px).T) * self.cm_per_px)

    def told(self, pose: Pose, variant: Mapping[str, str], habits: Mapping[str, Habit]) -> Fused:
        """Marks and centres of this body in the picture."""
        marks = tuple(m for m in pose.marks if m.skin.on != "free")
        on = seen(pose, marks, self.names, variant, (), ("eye",) * len(marks))
        px, depth = self.seen(on.skin)
        found: dict[str, Point] = {}
        sds, sds_cm, doubts, ways = {}, {}, {}, {}
        for i, m in enumerate(marks):
            names, per_cm = self.joints_of(m), self.look.focal / float(depth[i])
            habit = habits.get(m.id) or Habit(0.0, 0.0, self._usual_sd(names))
            ways[m.id] = self.ahead(pose, m)
            x = float(px[i, 0]) + ways[m.id] * habit.ahead * per_cm
            found[m.id] = (x, float(px[i, 1]) + habit.down * per_cm)
            off, apart = self.strayed(names)
            sds_cm[m.id] = math.sqrt(habit.sd**2 + (OFF * off) ** 2 + (DISAGREED * apart) ** 2)
            sds[m.id] = sds_cm[m.id] * per_cm
            doubts[m.id] = habit.doubt(off, apart)
        centres, _ = self.seen(Points([joint_point(n) for n in CENTRES]))
        at = {n: (float(x), float(y)) for n, (x, y) in zip(CENTRES, centres.tolist(), strict=True)}
        return Fused(
            found, sds, sds_cm, doubts, ways, at, self.forward, self.renamed, self.body.unmarked
        )

    def joints_of(self, mark: Mark) -> tuple[str, ...]:
        """The joint a mark lies at; both hips for one on the pelvis."""
        owner, _, part = mark.body.partition(".")
        joint = f"{self.names.get(owner, owner)}.{part.split('.')[0]}"
        return (joint,) if joint in JOINTS else ("left.hip", "right.hip")

    def ahead(self, pose: Pose, mark: Mark) -> float:
        """Which way of the picture is ahead (side view) or outwards (front view), 1 is right."""
        if pose.view == "side":
            return self.forward
        owner = mark.body.partition(".")[0]
        side = self.names.get(owner, owner if owner in SIDES else self.names["side"])
        return 1.0 if side == "left" else -1.0

    def strayed(self, names: tuple[str, ...]) -> tuple[float, float]:
        """How far joints lie off the body and looks at them apart, the most of them, cm."""
        at = [JOINTS.index(n) for n in names]
        return float(self.off_cm[at].max()), float((self.apart_px * self.cm_per_px)[at].max())

    def _usual_sd(self, names: tuple[str, ...]) -> float:
        return MARK_SD[names[0].partition(".")[2] if len(names) == 1 else ""]
