"""Benchmark poses as people do them, with everything a photograph does not hold still.

Each function gives a posed body for a random headline and the variant it was done in. Legs and
seats are laid on the floor by bisection on the skin; angles scatter as people's do.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bench.bodies.mesh import SIDES, Array, Person, frame
from bench.bodies.pose import (
    SEAT_SINK,
    SEAT_SINK_SD,
    SITTING,
    SITTING_SD,
    UP,
    Posed,
    Posture,
    bisect,
    pose,
    turn,
    two_bones,
)

Rng = np.random.Generator
Maker = Callable[[Person, Rng, "Choice"], Posed]


class Choice:
    """What is asked of a pose: the measured side and, where wanted, a cheat or a height (cm)."""

    def __init__(self, side: str, heading: Array, **asked: float) -> None:
        self.side, self.heading, self.asked = side, heading, asked
        self.other = "left" if side == "right" else "right"

    def get(self, name: str, default: float) -> float:
        return float(self.asked.get(name, default))


def sink(rng: Rng) -> float:
    """How far a seat or a back gives way, cm."""
    return float(np.clip(rng.normal(SEAT_SINK, SEAT_SINK_SD), 0.8, 3.6))


def on_floor(found: Posed, at: float, *segments: str) -> Posed:
    """Lift so that the lowest skin of some segments lies at a height."""
    return found.lifted(np.array([0, 0, at - found.lowest(*segments)]))


def lying(person: Person, p: Posture, rng: Rng) -> Posed:
    """Lay a person on the back: seat and shoulder blades carried by the floor."""

    def gap(bend: float) -> float:
        p.joints["spine_flexion"] = bend
        found = pose(person, p)
        return found.lowest("thorax") - found.lowest("pelvis")

    p.joints["spine_flexion"] = bisect(gap, -40.0, 60.0)
    return on_floor(pose(person, p), -sink(rng), "pelvis", "lumbar")


def lay_leg(
    person: Person,
    p: Posture,
    s: str,
    height: float,
    at: float,
    *parts: str,
    low: float = -60.0,
    high: float = 100.0,
) -> None:
    """Turn a hip until the lowest skin of a leg's parts lies ``at`` above the floor.

    ``height`` is the pelvis's own, cm.
    """
    names = [f"{s}.{x}" for x in parts]

    def miss(flex: float) -> float:
        p.joints[f"{s}.hip_flexion"] = flex
        return pose(person, p).lowest(*names) + height - at

    p.joints[f"{s}.hip_flexion"] = bisect(miss, low, high)


def leg_raise(person: Person, rng: Rng, c: Choice) -> Posed:
    s, o = c.side, c.other
    raised = c.get("value", rng.uniform(30, 125))
    p = Posture(UP, -c.heading)
    p.joints |= {
        "pelvis_tilt": rng.normal(-0.05 * raised, 4),
        "pelvis_turn": rng.normal(0, 2),
        "pelvis_list": rng.normal(0, 2),
        f"{s}.hip_abduction": rng.normal(0, 4),
        f"{s}.hip_rotation": rng.normal(5, 8),
        f"{s}.knee_flexion": rng.normal(2, 2) + c.get("knee_bend", 0),
        f"{s}.ankle_flexion": rng.uniform(0, 50),
        f"{o}.hip_abduction": rng.normal(3, 3),
        f"{o}.hip_rotation": rng.normal(12, 10),
        f"{o}.knee_flexion": rng.normal(2, 2) + c.get("rest_knee_bend", 0),
        f"{o}.ankle_flexion": rng.uniform(15, 50),
    }
    p.joints[f"{s}.hip_flexion"] = raised + p["pelvis_tilt"]
    height = lying(person, p, rng).centres["pelvis"][2]
    lift = c.get("rest_lift", 0)
    lay_leg(person, p, o, height, -0.3, "foot", "shin")
    p.joints[f"{o}.hip_flexion"] += lift
    return pose(person, p).lifted(np.array([0, 0, height]))


def upright(c: Choice, rng: Rng, **joints: float) -> Posture:
    p = Posture(c.heading, UP)
    p.joints |= {
        "pelvis_turn": rng.normal(0, 3),
        "pelvis_list": rng.normal(0, 1.2) + c.get("list", 0),
        "spine_flexion": rng.normal(4, 6),
        "spine_side": rng.normal(0, 2),
    } | joints
    return p


def front_split(person: Person, rng: Rng, c: Choice) -> Posed:
    s, o = c.side, c.other
    p = upright(
        c, rng, pelvis_tilt=rng.normal(12, 7), pelvis_turn=rng.normal(0, 5) + c.get("turn", 0)
    )
    height = c.get("height", rng.uniform(9.5, 42))
    p.joints |= {
        f"{s}.hip_abduction": rng.normal(0, 4),
        f"{s}.hip_rotation": rng.normal(4, 8),
        f"{s}.knee_flexion": rng.normal(2, 2) + c.get("knee_bend", 0),
        f"{s}.ankle_flexion": rng.uniform(0, 50),
        f"{o}.hip_abduction": rng.normal(0, 4),
        f"{o}.hip_rotation": rng.normal(4, 8),
        f"{o}.knee_flexion": rng.normal(3, 3) + c.get("back_knee_bend", 0),
        f"{o}.ankle_flexion": rng.uniform(60, 88),
        "arms": rng.uniform(10, 60),
    }
    lay_leg(person, p, s, height, -0.3, "foot", "shin", "thigh", low=20, high=110)
    lay_leg(person, p, o, height, -0.3, "foot", "shin", "thigh", low=0, high=-95)
    return pose(person, p).lifted(np.array([0, 0, height]))


def half_split(person: Person, rng: Rng, c: Choice) -> Posed:
    s, o = c.side, c.other
    tilt = c.get("tilt", rng.uniform(-5, 70))
    p = upright(c, rng, pelvis_tilt=tilt, pelvis_turn=rng.normal(0, 4))
    p.joints["spine_flexion"] = rng.normal(10, 7) + c.get("round", 0)
    p.joints |= {
        f"{o}.hip_flexion": tilt + rng.normal(0, 3) + c.get("back_thigh", 0),
        f"{o}.hip_abduction": rng.normal(2, 3),
        f"{o}.hip_rotation": rng.normal(0, 5),
        f"{s}.hip_abduction": rng.normal(0, 4),
        f"{s}.hip_rotation": rng.normal(4, 8),
        f"{s}.knee_flexion": rng.normal(2, 2) + c.get("knee_bend", 0),
        f"{s}.ankle_flexion": rng.uniform(-10, 40),
        f"{o}.ankle_flexion": rng.uniform(40, 80),
        "arms": rng.uniform(30, 100),
    }
    p.joints[f"{o}.knee_flexion"] = 90.0 + p[f"{o}.hip_flexion"] - tilt
    found = on_floor(pose(person, p), -0.5, f"{o}.shin", f"{o}.thigh")
    height = found.centres["pelvis"][2]
    lay_leg(person, p, s, height, -0.3, "foot", "shin", low=tilt, high=tilt + 110)
    return pose(person, p).lifted(np.array([0, 0, height]))


def low_lunge(person: Person, rng: Rng, c: Choice) -> Posed:
    """The measured leg is the back one."""
    s, o = c.side, c.other
    behind = c.get("value", rng.uniform(0, 50))
    tilt = float(rng.normal(5, 8)) + c.get("arch", 0)
    p = upright(c, rng, pelvis_tilt=tilt, pelvis_turn=rng.normal(0, 4))
    p.joints["spine_flexion"] = rng.normal(-0.5 * tilt, 7) - c.get("arch", 0)
    p.joints |= {
        f"{s}.hip_flexion": tilt - behind,
        f"{s}.hip_abduction": rng.normal(0, 4),
        f"{s}.hip_rotation": rng.normal(0, 6),
        f"{s}.knee_flexion": 90.0 - behind + rng.uniform(0, 3),
        f"{s}.ankle_flexion": rng.uniform(30, 75),
        f"{o}.hip_abduction": rng.normal(2, 4),
        f"{o}.hip_rotation": rng.normal(0, 6),
        "arms": rng.uniform(0, 170),
    }
    found = on_floor(pose(person, p), -0.5, f"{s}.shin", f"{s}.thigh", f"{s}.foot")
    height = found.centres["pelvis"][2]
    lean = float(rng.normal(3, 7))
    p.flat.add(o)

    def miss(flex: float) -> float:
        # Thigh at flex - tilt from hanging; the shin leans forward by ``lean``.
        p.joints[f"{o}.hip_flexion"] = flex
        p.joints[f"{o}.knee_flexion"] = flex - tilt + lean
        return float(pose(person, p).lowest(f"{o}.foot") + height + 0.3)

    p.joints[f"{o}.hip_flexion"] = bisect(miss, tilt + 20, tilt + 130)
    miss(p[f"{o}.hip_flexion"])
    return pose(person, p).lifted(np.array([0, 0, height]))


def deep_squat(person: Person, rng: Rng, c: Choice) -> Posed:
    flex = c.get("flex", rng.uniform(95, 135))
    p = upright(c, rng, pelvis_tilt=rng.normal(30, 8))
    p.joints["spine_flexion"] = rng.normal(18, 8) + c.get("round", 0)
    for s in SIDES:
        p.joints |= {
            f"{s}.hip_flexion": flex + rng.normal(0, 2),
            f"{s}.hip_abduction": 16 + rng.normal(0, 5),
            f"{s}.hip_rotation": rng.normal(8, 6),
            f"{s}.knee_flexion": flex - 5 + rng.normal(0, 5),
        }
    p.flat |= set(SIDES)
    p.joints["arms"] = rng.uniform(40, 90)
    return on_floor(pose(person, p), -0.3, "left.foot", "right.foot")


def seated(person: Person, rng: Rng, seat: float = 0.0) -> float:
    """Height of the hips' middle when sitting on something of a height."""
    return seat + SITTING * person.height / 170.0 + float(rng.normal(0, SITTING_SD))


def butterfly(person: Person, rng: Rng, c: Choice) -> Posed:
    p = upright(c, rng, pelvis_tilt=rng.normal(-6, 8) - c.get("roll", 0))
    p.joints["spine_flexion"] = rng.normal(8, 6) + c.get("round", 0)
    height = seated(person, rng, c.get("seat", 0))
    ahead = float(rng.uniform(18, 36))
    rise = c.get("value", rng.uniform(-5, 45))
    base = pose(person, p).lifted(np.array([0, 0, height]))
    across = np.cross(UP, c.heading)
    for s, sign in SIDES.items():
        hip = base.centres[f"{s}.hip"]
        thigh, shin = limb_lengths(person, s)
        ankle = base.centres["pelvis"] * [1, 1, 0] + (ahead + 8) * c.heading
        ankle = ankle + sign * 3.5 * across + np.array([0, 0, 5.5 + rng.normal(0, 0.5)])
        own = rise + rng.normal(0, 3)
        knee = swivel(hip, ankle, thigh, shin, sign * across, own)
        two_bones(p, s, hip, knee, ankle)
    return pose(person, p).lifted(np.array([0, 0, height]))


def limb_lengths(person: Person, s: str) -> tuple[float, float]:
    hip, knee, ankle = (person.centres[f"{s}.{j}"] for j in ("hip", "knee", "ankle"))
    return float(np.linalg.norm(hip - knee)), float(np.linalg.norm(knee - ankle))


def swivel(hip: Array, ankle: Array, thigh: float, shin: float, out: Array, rise: float) -> Array:
    """The knee between hip and ankle, turned about their line until the thigh rises so far.

    ``rise`` is degrees above level as seen from the front.
    """
    line = ankle - hip
    d = float(np.linalg.norm(line))
    d = min(d, thigh + shin - 0.5)
    along = line / np.linalg.norm(line)
    a = (thigh**2 - shin**2 + d**2) / (2 * d)
    radius = np.sqrt(max(thigh**2 - a**2, 0.0))
    first = out - (out @ along) * along
    first /= np.linalg.norm(first)
    second = np.cross(along, first)
    if second[2] < 0:
        second = -second

    def knee(angle: float) -> Array:
        t = np.radians(angle)
        return np.asarray(hip + a * along + radius * (np.cos(t) * first + np.sin(t) * second))

    def miss(angle: float) -> float:
        step = knee(angle) - hip
        return float(np.degrees(np.arctan2(step[2], step @ out))) - rise

    return knee(bisect(miss, -60, 85))


def straddle(person: Person, rng: Rng, c: Choice) -> Posed:
    wide = c.get("value", rng.uniform(80, 160))
    p = upright(c, rng, pelvis_tilt=rng.normal(0, 9) - c.get("roll", 0))
    p.joints["spine_flexion"] = rng.normal(6, 7)
    for s in SIDES:
        p.joints |= {
            f"{s}.hip_flexion": 90 + p["pelvis_tilt"],
            f"{s}.hip_abduction": wide / 2 + rng.normal(0, 2),
            f"{s}.knee_flexion": rng.normal(1, 2) + c.get("knee_bend", 0),
            f"{s}.ankle_flexion": rng.uniform(5, 40),
        }
    height = seated(person, rng, c.get("seat", 0))
    base = pose(person, p)
    across = np.cross(UP, c.heading)
    for s, sign in SIDES.items():
        # The leg lies on the floor, kneecap up but for a little.
        turned = np.radians(p[f"{s}.hip_abduction"] + p["pelvis_turn"] * sign)
        flat = np.cos(turned) * c.heading + np.sin(turned) * sign * across
        spin = float(rng.normal(0, 8)) + c.get("spin", 0)

        def laid(drop: float, s: str = s, flat: Array = flat, spin: float = spin) -> Posed:
            way = np.cos(np.radians(drop)) * flat - np.sin(np.radians(drop)) * UP
            set_straight(p, s, base.centres[f"{s}.hip"], way, spin, person)
            return pose(person, p)

        def miss(drop: float, s: str = s, laid: Callable[[float], Posed] = laid) -> float:
            return laid(drop).lowest(f"{s}.shin", f"{s}.foot") + height + 0.3

        laid(bisect(miss, -10, 40))
    return pose(person, p).lifted(np.array([0, 0, height]))


def set_straight(p: Posture, s: str, hip: Array, way: Array, spin: float, person: Person) -> None:
    """Lay a leg with its own knee bend in a direction, kneecap up and turned out by ``spin``."""
    sign = SIDES[s]
    axis = np.cross(UP, way)  # a left-pointing axis for a leg that points along ``way``
    axis = turn(way / np.linalg.norm(way), sign * spin) @ axis
    bend = np.radians(p[f"{s}.knee_flexion"])
    thigh = frame(-way, axis)
    kneecap = thigh[:, 0]
    shin = np.cos(bend) * way - np.sin(bend) * kneecap
    p.frames[f"{s}.thigh"] = thigh
    p.frames[f"{s}.shin"] = frame(-shin, axis)
    lat = p.frames[f"{s}.shin"][:, 1]
    front = p.frames[f"{s}.shin"][:, 0]
    foot = np.radians(p[f"{s}.ankle_flexion"])
    toes = np.cos(foot) * front + np.sin(foot) * shin
    p.frames[f"{s}.foot"] = np.stack([toes, lat, np.cross(toes, lat)], 1)


def pigeon(person: Person, rng: Rng, c: Choice) -> Posed:
    s, o = c.side, c.other
    p = upright(c, rng, pelvis_tilt=rng.normal(12, 8), pelvis_turn=rng.normal(0, 5))
    p.joints["spine_flexion"] = rng.normal(-8, 8)
    p.joints |= {
        f"{o}.hip_abduction": rng.normal(2, 4),
        f"{o}.hip_rotation": rng.normal(0, 8),
        f"{o}.knee_flexion": rng.normal(4, 4),
        f"{o}.ankle_flexion": 85.0,
    }
    height = float(rng.uniform(11, 22))
    lay_leg(person, p, o, height, -0.3, "foot", "shin", "thigh", low=0, high=-110)
    base = pose(person, p).lifted(np.array([0, 0, height]))
    across = np.cross(UP, c.heading) * SIDES[s]
    turned = c.get("value", rng.uniform(0, 60))
    thigh, shin = limb_lengths(person, s)
    hip = base.centres[f"{s}.hip"]
    out = np.radians(rng.uniform(5, 35))
    down = hip[2] - (6.0 + rng.normal(0, 0.6))
    reach = np.sqrt(max(thigh**2 - down**2, 1.0))
    knee = hip + reach * (np.cos(out) * c.heading + np.sin(out) * across) - [0, 0, down]
    t = np.radians(turned)
    step = -np.cos(t) * across - np.sin(t) * c.heading
    rise = rng.normal(0.5, 1.2)
    ankle = knee + np.sqrt(shin**2 - rise**2) * step + np.array([0, 0, rise])
    two_bones(p, s, hip, knee, ankle)
    return pose(person, p).lifted(np.array([0, 0, height]))


def seated_rotation(person: Person, rng: Rng, c: Choice) -> Posed:
    s = c.side
    p = upright(c, rng, pelvis_tilt=rng.normal(-3, 6))
    way = -1.0 if c.get("internal", 0) else 1.0
    for x in SIDES:
        p.joints |= {
            f"{x}.hip_flexion": 90 + p["pelvis_tilt"] + rng.normal(0, 3),
            f"{x}.hip_abduction": rng.normal(3, 4),
            f"{x}.knee_flexion": 90 + rng.normal(0, 5),
            f"{x}.ankle_flexion": rng.normal(10, 8),
        }
    p.joints[f"{s}.hip_rotation"] = way * c.get("turned", rng.uniform(0, 45))
    height = seated(person, rng, 0.29 * person.height + 14.0)
    return pose(person, p).lifted(np.array([0, 0, height]))


def leg_out(person: Person, rng: Rng, c: Choice) -> Posed:
    s, o = c.side, c.other
    p = Posture(UP, -c.heading)
    p.joints |= {
        "pelvis_tilt": rng.normal(0, 4),
        "pelvis_turn": rng.normal(0, 3) + c.get("turn", 0),
        "pelvis_list": rng.normal(0, 3),
        f"{s}.hip_abduction": rng.uniform(15, 70),
        f"{s}.hip_rotation": rng.normal(8, 12),
        f"{s}.knee_flexion": rng.normal(1, 2) + c.get("knee_bend", 0),
        f"{s}.ankle_flexion": rng.uniform(0, 50),
        f"{o}.hip_abduction": rng.normal(3, 3),
        f"{o}.hip_rotation": rng.normal(12, 10),
        f"{o}.knee_flexion": rng.normal(1, 2),
        f"{o}.ankle_flexion": rng.uniform(15, 50),
    }
    height = lying(person, p, rng).centres["pelvis"][2]
    lay_leg(person, p, o, height, -0.3, "foot", "shin")
    clear = c.get("clear", 0.0)
    parts = ("foot",) if clear else ("foot", "shin")
    lay_leg(person, p, s, height, clear - 0.3, *parts, low=-30, high=85)
    return pose(person, p).lifted(np.array([0, 0, height]))


MAKERS: dict[str, Maker] = {
    "supine-leg-raise": leg_raise,
    "front-split": front_split,
    "half-split": half_split,
    "low-lunge": low_lunge,
    "deep-squat": deep_squat,
    "butterfly": butterfly,
    "straddle": straddle,
    "pigeon": pigeon,
    "seated-rotation": seated_rotation,
    "leg-raise-out": leg_out,
}
