"""The geometry of a measure drawn on its picture, in pixels."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import Camera
from dachi.core.catalogue.formula import Frame
from dachi.core.catalogue.poses import Fan
from dachi.core.measuring.scene import FanDrawing, LaidFan, Point
from dachi.core.rules import Z95

Array = NDArray[np.float64]

TICK_EVERY_DEG = 5.0
#: Nothing nearer to the lens is drawn.
NEAREST_CM = 1.0


def lay_fan(
    measure: str, fan: Fan, frame: Frame, camera: Camera, value: float, sd: float
) -> LaidFan | None:
    """Lay the fan out in the pose's plane through its vertex.

    Returns None where a line has no length.
    """
    vertex = frame.points[fan.vertex][0]
    end = frame.points[fan.to][0]
    moving = _angle_to(frame, fan.vertex, fan.to)
    radius = float(np.linalg.norm(frame.line(fan.vertex, fan.to)[0]))
    zero = _zero_angle(frame, fan, moving)
    if radius < 1e-6:
        return None
    floor = frame.plane == "floor"
    across = np.array([1.0 if floor else frame.forward, 0.0, 0.0])
    along = np.array([0.0, 1.0, 0.0]) if floor else np.array([0.0, 0.0, 1.0])
    inner = np.array(
        [[camera.focal_px, 0, camera.centre[0]], [0, camera.focal_px, camera.centre[1]], [0, 0, 1]]
    )
    seen = camera.rotation @ np.stack([across, along, vertex], axis=1)
    seen[:, 2] += camera.translation
    depth = float((camera.rotation @ end + camera.translation)[2])
    if depth < NEAREST_CM:
        return None
    x, y = camera.project(end)
    return LaidFan(
        measure, tuple((inner @ seen).ravel().tolist()), (float(x), float(y)), radius, zero,
        _sweep(zero, moving, value), Z95 * sd,
    )  # fmt: skip


def drawn_fan(laid: LaidFan) -> FanDrawing | None:
    """The fan as its picture shows it; None where some of it lies at the camera or behind."""
    zero, sweep, radius = laid.zero, laid.sweep, laid.radius_cm

    def at(angle_deg: float, r: float) -> tuple[float, float]:
        return r * math.cos(math.radians(angle_deg)), r * math.sin(math.radians(angle_deg))

    rim_r = 0.62 * radius
    steps = max(2, math.ceil(abs(sweep) / 3.0))
    arc = [zero + sweep * i / steps for i in range(steps + 1)]
    towards = math.copysign(1.0, sweep)
    edge = [zero + sweep + towards * laid.spread * (i / 4.0 - 1.0) for i in range(9)]
    ticks = np.arange(0.0, abs(sweep), TICK_EVERY_DEG)
    shape = (
        [(0.0, 0.0), at(zero, radius), at(zero + sweep / 2, rim_r * 1.22)]
        + [at(t, rim_r) for t in arc]
        + [at(t, rim_r * 0.86) for t in edge]
        + [at(t, rim_r * 1.12) for t in edge]
    )
    for t in ticks:
        inner = 0.88 if round(t / TICK_EVERY_DEG) % 2 == 0 else 0.94
        shape += [at(zero + towards * t, rim_r * inner), at(zero + towards * t, rim_r)]
    flat = np.column_stack([np.array(shape), np.ones(len(shape))])
    seen = flat @ np.reshape(laid.to_px, (3, 3)).T
    if seen[:, 2].min() < NEAREST_CM:
        return None
    px: list[Point] = [(float(x), float(y)) for x, y in seen[:, :2] / seen[:, 2:]]
    n = 3 + len(arc)
    inner_edge, outer_edge = px[n : n + 9], px[n + 9 : n + 18]
    tick_px = px[n + 18 :]
    return FanDrawing(
        measure=laid.measure,
        vertex=px[0],
        zero_end=px[1],
        line_end=laid.line_end,
        label_at=px[2],
        rim=tuple(px[3:n]),
        soft=tuple(inner_edge) + tuple(reversed(outer_edge)),
        ticks=tuple((tick_px[i], tick_px[i + 1]) for i in range(0, len(tick_px), 2)),
    )


def _angle_to(frame: Frame, a: str, b: str) -> float:
    d = frame.line(a, b)[0]
    return math.degrees(math.atan2(d[1], d[0]))


def _zero_angle(frame: Frame, fan: Fan, moving: float) -> float:
    if fan.zero == "level":
        return 0.0 if abs(moving) <= 90.0 else 180.0
    fixed = {"forward": 0.0, "up": 90.0, "down": -90.0}
    if fan.zero in fixed:
        return fixed[fan.zero]
    if fan.zero.startswith("beyond "):
        return _angle_to(frame, fan.zero.removeprefix("beyond "), fan.vertex)
    return _angle_to(frame, fan.vertex, fan.zero)


def _sweep(zero: float, moving: float, value: float) -> float:
    """Signed turn from zero to the moving line, going the way the value counts."""
    short = (moving - zero + 180.0) % 360.0 - 180.0
    long = short - math.copysign(360.0, short)
    size = abs(value)
    return short if abs(abs(short) - size) <= abs(abs(long) - size) else long
