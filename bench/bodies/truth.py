"""True headline angles of a posed body, by their own small formulas on joint centres."""

from __future__ import annotations

import numpy as np

from bench.bodies.mesh import SIDES, Array
from bench.bodies.shots import Shot


def _deg(x: float) -> float:
    return float(np.degrees(x))


def _plane_angle(a: Array, b: Array, axes: tuple[int, int]) -> float:
    """Signed angle from a to b in a plane of the world."""
    i, j = axes
    return _deg(np.arctan2(a[i] * b[j] - a[j] * b[i], a[i] * b[i] + a[j] * b[j]))


def truth(shot: Shot) -> dict[str, float]:
    """Headline values by measure id. Side views in the x-z plane, floor poses in x-y."""
    c, s = shot.posed.centres, shot.side
    o = "left" if s == "right" else "right"
    forward = 1.0 if shot.scene.facing == "right" else -1.0

    def rise(a: Array, b: Array, ahead: float) -> float:
        d = b - a
        return _deg(np.arctan2(d[2], ahead * d[0]))

    def inside(p: Array, q: Array, axes: tuple[int, int]) -> float:
        return abs(_plane_angle(p, q, axes))

    side = (0, 2)
    match shot.scene.pose:
        case "supine-leg-raise":
            return {"leg_line": rise(c[f"{s}.hip"], c[f"{s}.ankle"], forward)}
        case "front-split":
            front, back = (c[f"{x}.ankle"] - c[f"{x}.hip"] for x in (s, o))
            sway = _deg(np.arctan2(front[2], forward * front[0]))
            sway_back = _deg(np.arctan2(back[2], -forward * back[0]))
            return {"leg_split": 180.0 + sway + sway_back}
        case "half-split" | "deep-squat":
            mids = [
                180.0
                - inside(c[f"{x}.shoulder"] - c[f"{x}.hip"], c[f"{x}.knee"] - c[f"{x}.hip"], side)
                for x in ([s] if shot.scene.pose == "half-split" else [near(shot)])
            ]
            return {"hip_flexion": mids[0]}
        case "low-lunge":
            thigh, trunk = c[f"{s}.knee"] - c[f"{s}.hip"], c[f"{s}.shoulder"] - c[f"{s}.hip"]
            hang = _deg(np.arctan2(forward * thigh[0], -thigh[2]))
            lean = _deg(np.arctan2(forward * trunk[0], trunk[2]))
            return {"back_hip_extension": -hang - lean}
        case "butterfly":
            return {
                f"{x}_thigh_rise": _deg(np.arctan2(d[2], sign * d[0]))
                for x, sign in SIDES.items()
                for d in [c[f"{x}.knee"] - c[f"{x}.hip"]]
            }
        case "straddle":
            legs = [c[f"{x}.ankle"] - c[f"{x}.hip"] for x in ("right", "left")]
            turn = [_deg(np.arctan2(g * d[0], -d[1])) for g, d in zip((-1, 1), legs, strict=True)]
            return {"straddle_angle": turn[0] + turn[1]}
        case "pigeon":
            d = c[f"{s}.ankle"] - c[f"{s}.knee"]
            return {"shin_angle": _deg(np.arctan2(d[1], abs(d[0])))}
        case "seated-rotation":
            d = c[f"{s}.ankle"] - c[f"{s}.knee"]
            outward = SIDES[s]  # facing the camera the left side is to the right
            out = _deg(np.arctan2(outward * d[0], -d[2]))
            internal = shot.scene.variant.get("direction") == "internal"
            return {"internal_rotation": out} if internal else {"external_rotation": -out}
        case "leg-raise-out":
            rest, moving = c[f"{o}.ankle"] - c[f"{o}.hip"], c[f"{s}.ankle"] - c[f"{s}.hip"]
            # Out of the upright plane of the resting leg, however high the foot is.
            ahead = rest[:2] / np.linalg.norm(rest[:2])
            out = abs(moving[0] * ahead[1] - moving[1] * ahead[0])
            return {"abduction": _deg(np.arctan2(out, np.hypot(moving[:2] @ ahead, moving[2])))}
    raise KeyError(shot.scene.pose)


def near(shot: Shot) -> str:
    return "right" if shot.scene.facing == "right" else "left"


def joint_angles(shot: Shot) -> dict[str, float]:
    """Hips against the pelvis and knees, degrees, by the names a result's body has.

    With columns front, left, up a thigh in the pelvis is Ry(-flexion) Rx(abduction) Rz(rotation).
    """
    f, found = shot.posed.frames, {}
    for s, sign in SIDES.items():
        r, k = f["pelvis"].T @ f[f"{s}.thigh"], f[f"{s}.thigh"].T @ f[f"{s}.shin"]
        found[f"{s}_hip_flexion"] = -_deg(np.arctan2(r[0, 2], r[2, 2]))
        found[f"{s}_hip_abduction"] = sign * _deg(np.arcsin(-r[1, 2]))
        found[f"{s}_hip_rotation"] = turned_out(shot, s)
        found[f"{s}_knee_flexion"] = _deg(np.arctan2(k[0, 2], k[2, 2]))
    return found


def turned_out(shot: Shot, side: str) -> float:
    """How far a thigh is turned outwards about its length against the pelvis, degrees.

    The thigh's frame in the pelvis's is flexion, then abduction, then rotation: with columns
    front, left, up, R = Ry Rx Rz, whose second row is cos b (sin c, cos c) and -sin b.
    """
    r = shot.posed.frames["pelvis"].T @ shot.posed.frames[f"{side}.thigh"]
    return SIDES[side] * _deg(np.arctan2(r[1, 0], r[1, 1]))
