"""Photographs of parametric bodies as scenes: marks on the skin, a camera, a mat, clicks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from bench.bodies.mesh import SIDES, Array, Person
from bench.bodies.pose import Posed
from bench.bodies.poses import MAKERS, Choice
from dachi.core.body.anatomy import other_side
from dachi.core.body.pinhole import CORNERS, Camera, look_from, mat_points
from dachi.core.catalogue.poses import Mark, Pose
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.scene import Image, PhotoView, Scene
from dachi.data import catalogue

WIDTH, HEIGHT = 1600, 1200
MAT = (183.0, 61.0)


@dataclass(frozen=True)
class Clicking:
    """Spread of clicks (px) and of where on the skin a point is taken to be (cm).

    ``joints`` marks joint centres; ``sliding`` puts stickers on while standing; ``optional``
    marks the pelvis too; ``trochanter_cm`` moves the outer hip forward on its bone. ``read`` names
    another honest reading of the words (``READINGS``), ``other_skin`` carries the groin's skin by
    a quarter of the hip's turn, ``habit_cm`` is the spread of where a hand always puts marks;
    ``bare`` shots have no mat.
    """

    mark_sd: float = 3.0
    corner_sd: float = 2.0
    skin_sd_cm: float = 0.0
    joints: bool = False
    how: str = "eye"
    sliding: bool = False
    optional: bool = False
    trochanter_cm: float = 0.0
    read: str = ""
    other_skin: bool = False
    habit_cm: float = 0.0
    bare: bool = False


#: Other honest readings of where a mark goes, and the marks they are of.
READINGS = {
    "ankle's front": "the front of the ankle in place of between its two bones, front views",
    "kneecap": "the kneecap in place of the middle between the knee's sides, front views",
    "calf bone": "the knob of the calf bone, 3.5 cm lower, in place of the thigh bone's bump",
    "hip forward": "the outer hip 2 cm further forward",
    "hip up": "the outer hip 2 cm higher",
    "thigh's crease": "the front of the thigh below the fold in place of the fold",
    "arm": "the side of the arm, 3 cm down and out, in place of the top of the shoulder",
}
CLICKS = Clicking()


@dataclass(frozen=True)
class Shot:
    """A scene with the true position of every joint and segment."""

    scene: Scene
    posed: Posed
    side: str
    camera: Camera
    spots: dict[str, Array]


def heading_of(pose: Pose, side: str) -> Array:
    """The picture direction of front (or of the feet, lying): the near side is the camera's."""
    if pose.view == "front":
        return np.array([0, -1.0, 0])
    near = side if pose.figure.near == "side" else other_side(side)
    return np.array([1.0 if near == "right" else -1.0, 0, 0])


def place(pose: Pose, posed: Posed, rng: np.random.Generator) -> Posed:
    """Lay the body along the mat's middle, as well as people do."""
    spread = np.array(
        [p for n, p in posed.centres.items() if n.split(".")[-1] in ("ankle", "neck")]
    )
    middle = (spread.min(axis=0) + spread.max(axis=0)) / 2
    hips = posed.centres["pelvis"]
    off = np.array([rng.normal(0, 8), rng.normal(0, 2)])
    if pose.view == "front":
        return posed.lifted(np.array([-hips[0] + off[1], -middle[1] + off[0], 0]))
    return posed.lifted(np.array([-middle[0] + off[0], -hips[1] + off[1], 0]))


def spot_of(mark: Mark, side: str, posed: Posed, camera: Camera, clicking: Clicking) -> Array:
    """The surface point a mark asks for, world cm; its joint centre where those are marked."""
    owner, _, part = mark.body.partition(".")
    whose = {"side": side, "other": other_side(side)}.get(owner, owner)
    if mark.body == "mid_spine":
        return posed.spot("thorax" if clicking.joints else f"waist.{near_side(posed, camera)}")
    if mark.body == "groin":
        return posed.spot("groin")
    if clicking.joints:
        return posed.spot(f"{whose}.{part.removesuffix('.outer').removesuffix('.inner')}")
    if mark.body.endswith("hip"):
        if clicking.read == "thigh's crease":
            return posed.spot(f"{whose}.hip.crease")
        fold = f"{whose}.hip.fold"
        return posed.turned_a_quarter(fold) if clicking.other_skin else posed.spot(fold)
    if part == "knee" and "kneecap" in mark.where:
        return posed.spot(f"{whose}.knee.front", clicking.sliding)
    if part == "shoulder.outer":
        top = posed.spot(f"{whose}.shoulder.top", clicking.sliding)
        return top + another_reading(clicking.read, part, whose, posed)
    at = posed.spot(f"{whose}.{part}", clicking.sliding)
    if part == "hip.outer":
        at = at + clicking.trochanter_cm * posed.frames[f"{whose}.thigh"][:, 0]
    return at + another_reading(clicking.read, part, whose, posed)


def another_reading(read: str, part: str, whose: str, posed: Posed) -> Array:
    """How far another honest reading of its words moves a mark, cm."""
    thigh, shin, thorax = (posed.frames[n] for n in (f"{whose}.thigh", f"{whose}.shin", "thorax"))
    out = SIDES.get(whose, 1.0)
    match read, part:
        case "hip forward", "hip.outer":
            return np.asarray(2.0 * thigh[:, 0])
        case "hip up", "hip.outer":
            return np.asarray(2.0 * thigh[:, 2])
        case "calf bone", "knee.outer":
            return np.asarray(-3.5 * shin[:, 2])
        case "arm", "shoulder.outer":
            return np.asarray(3.0 * (out * thorax[:, 1] - thorax[:, 2]))
        case _:
            return np.zeros(3)


def near_side(posed: Posed, camera: Camera) -> str:
    eye = camera.position
    return min(
        ("left", "right"), key=lambda s: float(np.linalg.norm(posed.centres[f"{s}.hip"] - eye))
    )


def camera_for(
    pose: Pose, spots: dict[str, Array], rng: np.random.Generator, yaw_sd: float = 20.0
) -> tuple[Camera, float]:
    """The camera the pose asks for, about; moved back until marks and mat are in the picture."""
    focal = float(rng.uniform(24, 40))
    height = float(pose.camera.height_cm + rng.uniform(-15, 15))
    yaw, roll = float(rng.uniform(-yaw_sd, yaw_sd)), float(rng.normal(0, 1))
    distance = pose.camera.distance_cm * focal / 26.0
    points = np.array([*spots.values(), *mat_points(*MAT, pose.view)])
    while True:
        pitch = -np.degrees(np.arctan2(height - pose.camera.look_at_cm, distance))
        a = np.radians(yaw)
        eye = (-distance * np.sin(a), -distance * np.cos(a), height)
        camera = look_from(eye, yaw, pitch, roll, focal, WIDTH, HEIGHT)
        seen = camera.project(points)
        if (seen > 15).all() and (seen < np.array([WIDTH - 15, HEIGHT - 15])).all():
            return camera, focal
        distance *= 1.06


def shoot(
    pose_id: str,
    person: Person,
    rng: np.random.Generator,
    clicking: Clicking = CLICKS,
    asked: Mapping[str, float] | None = None,
) -> Shot:
    """Pose, place, photograph and mark one body; ``asked`` goes to the pose's maker."""
    pose = catalogue().pose(pose_id)
    side = "right" if pose.sides == "both" else str(rng.choice(["left", "right"]))
    asked = dict(asked or {})
    choice = Choice(side, heading_of(pose, side), **asked)
    posed = place(pose, MAKERS[pose_id](person, rng, choice), rng)
    return photograph(pose, side, posed, rng, clicking, asked)


def from_beside(shot: Shot, pose_id: str, rng: np.random.Generator, clicking: Clicking) -> Shot:
    """The same hold photographed from the other direction, as another pose's entry marks it."""
    pose = catalogue().pose(pose_id)
    ax, ay, _ = heading_of(catalogue().pose(shot.scene.pose), shot.side)
    bx, by, _ = heading_of(pose, shot.side)
    cos, sin = ax * bx + ay * by, ax * by - ay * bx
    turn = np.array([[cos, -sin, 0.0], [sin, cos, 0.0], [0.0, 0.0, 1.0]])
    return photograph(pose, shot.side, shot.posed.turned(turn), rng, clicking, {})


def together(shot: Shot, *beside: Shot) -> Scene:
    """One scene of several photographs."""
    views = tuple(
        PhotoView(
            catalogue().pose(s.scene.pose).view, s.scene.image, s.scene.marks, s.scene.mat,
            facing=s.scene.facing,
        )
        for s in (shot, *beside)
    )  # fmt: skip
    return replace(shot.scene, views=views, marks={}, mat=None, facing=None)


def photograph(
    pose: Pose,
    side: str,
    posed: Posed,
    rng: np.random.Generator,
    clicking: Clicking,
    asked: Mapping[str, float],
    seen_by: tuple[Camera, float] | None = None,
) -> Shot:
    """Photograph and mark a posed body on its mat, by a camera of its own or one given."""
    look = look_from((0, -250, 60), 0, 0, 0, 26, WIDTH, HEIGHT)
    marks = [m for m in pose.marks if clicking.optional or not m.optional]
    spots = {m.id: spot_of(m, side, posed, look, clicking) for m in marks}
    camera, focal = seen_by or camera_for(pose, spots, rng)
    pixels = {}
    habit = Habit(rng, clicking.habit_cm)
    for m in marks:
        at = spots[m.id]
        if not clicking.joints and m.body.endswith(("knee", "ankle")) and "kneecap" not in m.where:
            # "the middle of the knee, as the camera sees it": its centre shows through.
            at = posed.centres.get(seen_joint(m, side), at)
            at = at + seen_otherwise(m, side, posed, clicking.read)
        at = at + habit.get(m, side, posed)
        if clicking.skin_sd_cm:
            at = at + rng.normal(0, clicking.skin_sd_cm, 3)
        pixels[m.id] = camera.project(at) + rng.normal(0, clicking.mark_sd, 2)
    corners = {
        n: tuple(camera.project(p) + rng.normal(0, clicking.corner_sd, 2))
        for n, p in zip(CORNERS, mat_points(*MAT, pose.view), strict=True)
    }
    variant = pose.default_variant()
    if asked.get("internal"):
        variant["direction"] = "internal"
    if asked.get("seat") and "seat" in variant:
        variant["seat"] = "raised"
    # A leg that cannot be held so high lies lower, and so does its prop.
    prop = asked.get("seat") or (asked.get("clear") and posed.lowest(f"{side}.foot"))
    told = prop + float(rng.normal(0, 1)) if prop and asked.get("told") else None
    scene = Scene(
        pose=pose.id,
        side="both" if pose.sides == "both" else side,
        mode=next(iter(pose.modes)),
        variant=variant,
        image=Image(WIDTH, HEIGHT, float(round(focal))),
        marks={n: (float(p[0]), float(p[1])) for n, p in pixels.items()},
        mark_sd_px=max(clicking.mark_sd, 0.3),
        prop_cm=max(told, 0.0) if told is not None else None,
        marked="joint" if clicking.joints else clicking.how,
        sticker_put="standing" if clicking.sliding else "in_pose",
        mat=None
        if clicking.bare
        else Mat(*MAT, corners, corner_sd_px=max(clicking.corner_sd, 0.3)),
        facing={1.0: "right", -1.0: "left"}.get(float(heading_of(pose, side)[0])),
    )
    return Shot(scene, posed, side, camera, spots)


def seen_joint(mark: Mark, side: str) -> str:
    """The joint a mark stands for, as the posed body names it."""
    owner, _, part = mark.body.partition(".")
    whose = {"side": side, "other": other_side(side)}.get(owner, owner)
    return f"{whose}.{part.split('.')[0]}"


def seen_otherwise(mark: Mark, side: str, posed: Posed, read: str) -> Array:
    """How far a joint seen through is marked elsewhere: on its front, where it is taken so."""
    joint = seen_joint(mark, side)
    whose, _, part = joint.partition(".")
    if read == "kneecap" and part == "knee":
        return posed.spot(f"{whose}.knee.front") - posed.centres[joint]
    if read == "ankle's front" and part == "ankle":
        return np.asarray(3.5 * posed.frames[f"{whose}.shin"][:, 0])
    return np.zeros(3)


class Habit:
    """Where one hand always puts each kind of mark: a step in its bone's frame, cm."""

    def __init__(self, rng: np.random.Generator, cm: float) -> None:
        self.rng, self.cm = rng, cm
        self.steps: dict[str, Array] = {}

    def get(self, mark: Mark, side: str, posed: Posed) -> Array:
        """The step of a mark in the world, left and right put alike."""
        if not self.cm:
            return np.zeros(3)
        owner, _, part = mark.body.partition(".")
        whose = {"side": side, "other": other_side(side)}.get(owner, owner)
        kind = part or owner
        if kind not in self.steps:
            self.steps[kind] = self.rng.normal(0, self.cm * mark.skin.habit, 3)
        bone = {"thigh": "thigh", "knee": "thigh", "shin": "shin", "foot": "foot"}.get(mark.skin.on)
        x, y, z = self.steps[kind]
        if bone is None or whose not in SIDES:
            frame = posed.frames["thorax" if mark.skin.on in ("shoulder", "waist") else "pelvis"]
        else:
            frame = posed.frames[f"{whose}.{bone}"]
        return np.asarray(frame @ [x, y * SIDES.get(whose, 1.0), z])
