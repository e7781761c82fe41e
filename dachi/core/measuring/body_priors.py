"""What is known of a body before any mark is seen: lengths, and what a pose prescribes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import other_side
from dachi.core.body.figure import Body, landmarks, root_axes
from dachi.core.body.posing import posed
from dachi.core.catalogue.poses import Mark, Pose, SkinSpot, agrees
from dachi.core.measuring import skeleton
from dachi.core.measuring.skeleton import INDEX, SIZE, Point, Points, joint_point

Array = NDArray[np.float64]

#: One standard deviation of an angle that a pose holds still, degrees.
HELD = {
    "pelvis_turn": 5.0, "pelvis_tilt": 12.0, "pelvis_list": 4.0,
    "hip_flexion": 12.0, "hip_abduction": 6.0, "hip_rotation": 12.0,
    "knee_flexion": 12.0, "ankle_flexion": 25.0, "spine_flexion": 15.0, "spine_side": 4.0,
}  # fmt: skip
#: The same of a knee that is to be straight, and of an angle that the pose is about.
STRAIGHT_KNEE_SD = 3.0
MOVING_SD = 30.0
#: How far the hips lie off the mat's middle, across and along the way the camera looks, cm.
ON_MIDLINE_SD, ALONG_SD, HEIGHT_SD = 4.0, 60.0, 30.0
#: How well the height over a prop of known height is known, cm.
PROP_SD = 2.5
#: A prop under a limb no higher than this changes nothing of how it lies, cm.
FLAT_PROP = 3.0
#: Steps of the headline at which a body may start.
STARTS = 5


@dataclass(frozen=True)
class Held:
    """The prior of one pose, side and variant.

    ``mean`` (SIZE,), ``precision`` (SIZE, SIZE) of all but the angles, whose priors (``sd``)
    give way where the picture contradicts them. ``lengths`` is the part of the precision that
    repeats with the person. Contacts: points whose height is known to a spread.
    ``starts`` (n, SIZE) are bodies to begin from, ``root`` the pelvis's frame at zero. ``lifted``:
    what may rest on the floor does not.
    """

    root: Array
    mean: Array
    sd: Array
    precision: Array
    lengths: Array
    contacts: tuple[Point, ...]
    heights: Array
    height_sds: Array
    starts: Array
    lifted: bool


@dataclass(frozen=True)
class Seen:
    """Marks as points on the skeleton: on the skin (with spread, (k, 3)) and at their joints.

    ``skin`` holds the prior's contacts after the marks, ``joints`` both hips. ``habits`` is how
    far (cm) one hand or another always puts each mark from there, ``kinds`` what is put alike.
    """

    skin: Points
    sds: Array
    habits: Array
    kinds: tuple[str, ...]
    joints: Points
    names: tuple[str, ...]
    own: str

    def angles(self, x: Array) -> dict[str, Array]:
        """Joint angles of bodies (s, SIZE) by the names formulas use, (s,) degrees."""
        found = {}
        for name, i in INDEX.items():
            if not skeleton.FIRST_ANGLE <= i < skeleton.FIRST_LENGTH:
                continue
            degrees = np.degrees(x[:, i])
            side, _, joint = name.partition(".")
            if joint:
                found[f"{side}_{joint}"] = degrees
                found[f"{'own' if side == self.own else 'other'}_{joint}"] = degrees
            else:
                found[name] = degrees
        return found


def sides_for(pose: Pose, side: str, variant: Mapping[str, str], forward: float) -> dict[str, str]:
    """Which side of the body ``side`` and ``other`` are, by what the picture shows.

    In a side view the near side follows from the way the person faces.
    """
    if pose.view == "front":
        own = "right" if side == "both" else side
    else:
        near = "right" if forward > 0 else "left"
        turned = near_leg(pose, variant) == "back"
        own = near if (pose.figure.near == "side") != turned else other_side(near)
    return {"side": own, "other": other_side(own)}


@lru_cache(maxsize=256)
def _held(
    pose: Pose,
    own: str,
    variant: tuple[tuple[str, str], ...],
    heading: str,
    calibrated: bool,
    lifted: bool,
    prop_cm: float | None,
) -> Held:
    chosen = dict(variant)
    figure = pose.figure
    values = np.linspace(figure.low, figure.high, STARTS)
    starts = np.zeros((STARTS, SIZE))
    for row, v in zip(starts, values, strict=True):
        figured = posed(figure, own, float(v), pose.view, variant=chosen)
        for name, degrees in figured.joints.items():
            if name in INDEX:
                row[INDEX[name]] = np.radians(degrees)
        row[2] = landmarks(Body(), figured)["pelvis"][2]
        row[skeleton.FIRST_LENGTH :] = skeleton.USUAL_LENGTHS
    mean = starts.mean(axis=0)
    reach = np.ptp(starts, axis=0)
    sd: Array = np.zeros(SIZE)
    names = {"side": own, "other": other_side(own)}
    spreads = _by_side(pose.held.spread, names)
    means = _by_side(pose.held.mean, names)
    resting = [c for c in pose.held.contacts if agrees(c.when, chosen) and not (lifted and c.maybe)]
    # A prop whose height nobody told is as high as its contact says.
    likely = max((c.height_cm - c.on_prop(0.0) for c in resting if c.prop), default=0.0)
    raised = prop_cm if prop_cm is not None else likely
    if lifted or raised > FLAT_PROP:
        means |= _by_side(pose.held.lifted_mean, names)
        if raised > FLAT_PROP:
            slopes = _by_side(pose.held.per_prop_cm, names)
            means |= {n: float(np.degrees(mean[INDEX[n]])) + raised * k for n, k in slopes.items()}
        spreads |= _by_side(pose.held.lifted, names)
        low, high = starts.copy(), starts.copy()
        for name in means.keys() & spreads.keys():
            i = INDEX[name]
            low[:, i] = np.radians(means[name] - spreads[name] / 2)
            high[:, i] = np.radians(means[name] + spreads[name])
        starts = np.concatenate([low, high])
    for name, i in INDEX.items():
        if not skeleton.FIRST_ANGLE <= i < skeleton.FIRST_LENGTH:
            continue
        joint = name.split(".")[-1]
        base = HELD[joint]
        if joint == "knee_flexion" and abs(mean[i]) < np.radians(10) and reach[i] < 0.1:
            base = STRAIGHT_KNEE_SD
            mean[i] += np.radians(1.0)
        if reach[i] > 0.1:
            base = max(MOVING_SD, float(np.degrees(reach[i])) * 0.6)
        if name in means:
            mean[i] = np.radians(means[name])
        sd[i] = np.radians(spreads.get(name, base))
    front = pose.view == "front"
    sd[:3] = (ON_MIDLINE_SD, ALONG_SD, HEIGHT_SD) if front else (ALONG_SD, ON_MIDLINE_SD, HEIGHT_SD)
    if not calibrated:
        sd[:3] = (ALONG_SD, ALONG_SD, HEIGHT_SD * 3)
    covariance = np.diag(sd**2)
    at = skeleton.FIRST_LENGTH
    usual = skeleton.USUAL_LENGTHS
    covariance[at:, at:] = np.diag(skeleton.OWN_SD**2) + skeleton.HEIGHT_SD**2 * np.outer(
        usual, usual
    )
    precision = np.asarray(np.linalg.inv(covariance), dtype=np.float64)
    precision[skeleton.ANGLES, skeleton.ANGLES] = 0.0
    lengths = np.zeros((SIZE, SIZE))
    lengths[at:, at:] = precision[at:, at:]
    contacts = [
        c
        if prop_cm is None or not c.prop
        else replace(c, height_cm=c.on_prop(prop_cm), sd_cm=PROP_SD)
        for c in resting
    ]
    sd[at:] = np.sqrt(np.diag(covariance)[at:])
    root = root_axes(figure.posture, heading).T
    points = [joint_point(_named(c.at, names, s)) for c in contacts for s in _both(c.at)]
    return Held(
        root, mean, sd, precision, lengths,
        tuple(points or [joint_point("pelvis")]),
        np.array([c.height_cm for c in contacts for _ in _both(c.at)] or [40.0]),
        np.array([c.sd_cm for c in contacts for _ in _both(c.at)] or [1e4]),
        starts, lifted,
    )  # fmt: skip


def held(
    pose: Pose,
    side: str,
    variant: Mapping[str, str],
    forward: float,
    calibrated: bool,
    prop_cm: float | None = None,
) -> tuple[tuple[Held, ...], dict[str, str]]:
    """The prior of a pose as it is seen, and which side is which.

    Two priors where something may rest on the floor or may not.
    """
    names = sides_for(pose, side, variant, forward)
    heading = "camera" if pose.view == "front" else "right" if forward > 0 else "left"
    unsaid = any(c.maybe and (prop_cm is None or not c.prop) for c in pose.held.contacts)
    chosen = tuple(sorted(variant.items()))
    return tuple(
        _held(pose, names["side"], chosen, heading, calibrated, way, prop_cm)
        for way in ((False, True) if unsaid else (False,))
    ), names


def _by_side(given: Mapping[str, float], names: Mapping[str, str]) -> dict[str, float]:
    """Values of joints written ``side.``, ``other.`` or ``each.``, by the skeleton's names."""
    return {_named(n, names, s): v for n, v in given.items() for s in _both(n)}


def _both(name: str) -> tuple[str, ...]:
    return ("left", "right") if name.startswith("each.") else ("",)


def _named(name: str, names: Mapping[str, str], each: str) -> str:
    owner, _, joint = name.partition(".")
    if owner == "each":
        return f"{each}.{joint}"
    return f"{names[owner]}.{joint}" if owner in names else name


def seen(
    pose: Pose,
    marks: tuple[Mark, ...],
    names: Mapping[str, str],
    variant: Mapping[str, str],
    contacts: tuple[Point, ...],
    how: tuple[str, ...],
    told: bool = False,
) -> Seen:
    """Put marks on the skeleton: where each lies on the skin and which centre it stands for.

    ``how`` each was set: a joint's centre has no skin over it, and stickers put on while
    standing stay behind where the skin slides. ``told``: thigh and shin are known.
    """
    return _seen(marks, names["side"], near_leg(pose, variant), contacts, how, told)


def near_leg(pose: Pose, variant: Mapping[str, str]) -> str | None:
    """``front`` or ``back`` where a pose says which leg is nearer."""
    return next((variant.get(v.id, v.default) for v in pose.variants if v.id == "near_leg"), None)


@lru_cache(maxsize=512)
def _seen(
    marks: tuple[Mark, ...],
    own: str,
    nearer: str | None,
    contacts: tuple[Point, ...],
    how: tuple[str, ...],
    told: bool,
) -> Seen:
    skin, centres, sds = [], [], []
    for m, way in zip(marks, how, strict=True):
        owner, _, part = m.body.partition(".")
        names = {"side": own, "other": other_side(own)}
        if nearer == "back" and m.leg is None:
            names = {"side": names["other"], "other": names["side"]}
        side = names.get(owner, owner if owner in ("left", "right") else own)
        spot = m.skin
        if nearer is not None and m.leg is not None:
            facing_in = part.endswith(".inner")
            if facing_in == (m.leg == nearer):
                x, y, z = spot.step
                spot = replace(spot, step=(x, -y, z))
        if spot.on == "waist" and owner not in names:
            # The side that the camera sees.
            side = own
        centre = _centre(spot, part, side)
        centres.append(centre)
        if way == "joint":
            skin.append(centre)
            sds.append((CENTRE_SD,) * 3 if spot.on in JOINTED else spot.sd)
            continue
        skin.append(_skin_point(spot, side, sliding=way == "sliding" and part == "hip.outer"))
        slid = way == "sliding" and part in SLIDES
        loose = SLIDING_SPREAD if slid else 1.0
        x, y, z = spot.sd_told if told and spot.sd_told is not None else spot.sd
        sds.append((loose * x, loose * y, loose * z))
    extra = other_side(own)
    centres += [joint_point(f"{own}.hip"), joint_point(f"{extra}.hip")]
    ids = (*(m.id for m in marks), "own_hip", "other_hip")
    return Seen(
        Points([*skin, *contacts]), np.array(sds, dtype=float),
        np.array([m.skin.habit for m in marks]), tuple(m.body.partition(".")[2] for m in marks),
        Points(centres), ids, own,
    )  # fmt: skip


def together(found: list[Seen]) -> Seen:
    """Marks of several photographs of one body, in their order; what is named twice counts once."""
    if len(found) == 1:
        return found[0]
    names: list[str] = []
    centres: list[Point] = []
    for part in found:
        for name, point in zip(part.names, part.joints.points, strict=True):
            if name not in names:
                names.append(name)
                centres.append(point)
    skin = [p for part in found for p in part.skin.points]
    sds = np.concatenate([part.sds for part in found])
    habits = np.concatenate([part.habits for part in found])
    kinds = tuple(k for part in found for k in part.kinds)
    return Seen(Points(skin), sds, habits, kinds, Points(centres), tuple(names), found[0].own)


#: Parts whose marks stand for a joint's centre, and how well one that is given is known, cm.
JOINTED = ("thigh", "fold", "knee", "shin", "shoulder")
CENTRE_SD = 0.5
#: Points of the body over which skin slides by centimetres when a limb moves under it, and how
#: much wider they spread then.
SLIDES = ("hip.outer", "shoulder.outer", "asis")
SLIDING_SPREAD = 2.2
#: How far skin over the outer hip stays with the pelvis when the thigh moves under it.
LEFT_BEHIND = 0.3


def _skin_point(spot: SkinSpot, side: str, sliding: bool = False) -> Point:
    step = spot.step
    match spot.on:
        case "thigh":
            return Point(f"{side}.thigh", step, side, behind=LEFT_BEHIND if sliding else 0.0)
        case "knee":
            return Point(f"{side}.thigh", step, side, of_thigh=1.0)
        case "shin":
            return Point(f"{side}.shin", step, side, of_shin=1.0)
        case "foot":
            return Point(
                f"{side}.foot", (0, step[1], step[2]), side, of_foot=(step[0] / 18.0, 0, 0)
            )
        case "pelvis" | "fold":
            return Point("pelvis", step, side, of_hips=1.0)
        case "middle":
            return Point("pelvis", step, side)
        case "waist":
            return Point("lumbar", step, side, of_trunk=(0.05, 0.0, 0.25))
        case _:
            at = joint_point(f"{side}.shoulder")
            return Point("thorax", step, side, of_trunk=at.of_trunk)


def _centre(spot: SkinSpot, part: str, side: str) -> Point:
    match spot.on:
        case "thigh" | "fold":
            return joint_point(f"{side}.hip")
        case "knee":
            return joint_point(f"{side}.knee")
        case "shin":
            return joint_point(f"{side}.ankle")
        case "shoulder":
            return joint_point(f"{side}.shoulder")
        case "waist":
            return Point("lumbar", (0, 0, 0), side, of_trunk=(0.05, 0.0, 0.25))
        case _:
            return _skin_point(spot, side)
