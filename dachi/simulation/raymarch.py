"""Rendering the figure in its studio: a signed-distance body, ray-marched with numpy.

The body is a smooth union of round cones (Quilez's polynomial smooth minimum). Floor,
wall and mat are cut analytically. Only tiles of the picture that the body can touch
are marched, and each tile only against the cones near it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.body.pinhole import Camera

Array = NDArray[np.float32]
Cone = tuple[NDArray[np.float64], NDArray[np.float64], float, float, str]

TILE = 48
BLEND_CM = 2.6
STICKER_RADIUS_CM = 1.0
LIGHT = np.array([-0.42, -0.55, 0.72], dtype=np.float32) / np.float32(1.0)
LIGHT = (LIGHT / np.linalg.norm(LIGHT)).astype(np.float32)


@dataclass(frozen=True)
class Studio:
    """What surrounds the figure. Colours are linear RGB 0..1, lengths cm."""

    mat_near_cm: float
    mat_deep_cm: float
    wall_y_cm: float
    mat_colour: tuple[float, float, float] = (0.16, 0.26, 0.30)
    floor_colour: tuple[float, float, float] = (0.50, 0.39, 0.28)
    wall_colour: tuple[float, float, float] = (0.70, 0.67, 0.61)
    sun: float = 0.0


@dataclass(frozen=True)
class Outfit:
    """Colours of the figure, linear RGB 0..1."""

    skin: tuple[float, float, float] = (0.55, 0.38, 0.29)
    shorts: tuple[float, float, float] = (0.07, 0.09, 0.12)
    top: tuple[float, float, float] = (0.30, 0.31, 0.33)
    hair: tuple[float, float, float] = (0.09, 0.07, 0.06)
    prop: tuple[float, float, float] = (0.34, 0.16, 0.14)


@dataclass(frozen=True)
class Scenery:
    """What is photographed: the body as cones, its room, clothes and stickers (centres, cm)."""

    cones: Sequence[Cone]
    studio: Studio
    outfit: Outfit
    stickers: Sequence[NDArray[np.float64]] = ()
    sticker_colour: tuple[float, float, float] = (0.05, 0.65, 0.12)


def render(
    camera: Camera, width: int, height: int, scenery: Scenery, seed: int = 0
) -> NDArray[np.uint8]:
    """Return the picture, (height, width, 3) RGB. The same inputs give the same bytes."""
    rng = np.random.default_rng(seed)
    rays = _rays(camera, width, height)
    origin = camera.position.astype(np.float32)
    colour = _room(rays, origin, scenery.studio, rng)
    shade = _floor_shade(camera, width, height, scenery.cones, scenery.studio)
    colour *= shade[..., None]
    _draw_body(colour, rays, camera, scenery)
    grain = rng.normal(0.0, 0.006, colour.shape[:2]).astype(np.float32)
    tone = np.clip(colour * 1.05, 0, None)
    tone = tone / (1.0 + 0.18 * tone)
    srgb = np.power(np.clip(tone, 0, 1), 1 / 2.2) + grain[..., None]
    return np.asarray(np.clip(srgb * 255 + 0.5, 0, 255).astype(np.uint8))


def sticker_share(camera: Camera, cones: Sequence[Cone], centre: NDArray[np.float64]) -> float:
    """Share of a sticker's disc that the camera sees past the body, 0 to 1."""
    eye = camera.position
    towards = (eye - centre) / np.linalg.norm(eye - centre)
    side = np.cross(towards, [0.0, 0.0, 1.0])
    side /= np.linalg.norm(side)
    up = np.cross(side, towards)
    grid = np.linspace(-0.9, 0.9, 9)
    offsets = [(a, b) for a in grid for b in grid if math.hypot(a, b) <= 0.9]
    r = STICKER_RADIUS_CM
    spots = np.array(
        [centre + r * (a * side + b * up + math.sqrt(1 - a * a - b * b) * towards)
         for a, b in offsets]
    ).astype(np.float32)  # fmt: skip
    ways = (spots - eye).astype(np.float32)
    reach = np.linalg.norm(ways, axis=1)
    ways /= reach[:, None]
    t = np.maximum(reach - 220.0, 1.0).astype(np.float32)
    clear = np.ones(len(spots), dtype=bool)
    for _ in range(80):
        d = _distance(eye.astype(np.float32) + t[:, None] * ways, cones)
        clear &= (d > 0.01) | (t >= reach - 0.02)
        t = np.minimum(t + np.maximum(d, 0.03), reach).astype(np.float32)
    return float(clear.mean())


def on_skin(
    camera: Camera, cones: Sequence[Cone], centre: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Where a sticker for a landmark goes: the skin the camera sees in front of it.

    A landmark on the skin is its own place. One inside a limb moves along the line of
    sight, so that the sticker's picture is the landmark's; one behind another limb stays.
    """
    start = centre.astype(np.float32)[None]
    if float(_distance(start, cones)[0]) > -0.8:
        return centre
    eye = camera.position.astype(np.float32)
    way = (start - eye) / np.linalg.norm(start - eye)
    reach = float(np.linalg.norm(start - eye))
    t = np.float32(max(reach - 220.0, 1.0))
    for _ in range(120):
        d = float(_distance(np.asarray(eye + t * way, np.float32), cones)[0])
        if d < 0.02:
            break
        t += np.float32(max(d * 0.9, 0.02))
    found = (eye + t * way)[0].astype(np.float64)
    return found if reach - float(t) < 14.0 else centre


def _rays(camera: Camera, width: int, height: int) -> Array:
    x = (np.arange(width, dtype=np.float32) + 0.5 - camera.centre[0]) / camera.focal_px
    y = (np.arange(height, dtype=np.float32) + 0.5 - camera.centre[1]) / camera.focal_px
    r = camera.rotation.astype(np.float32)
    grid = (
        x.astype(np.float32)[None, :, None] * r[0]
        + y.astype(np.float32)[:, None, None] * r[1]
        + r[2]
    )
    return np.asarray(grid / np.linalg.norm(grid, axis=2, keepdims=True), dtype=np.float32)


def _soft_inside(edge: Array, footprint: Array) -> Array:
    """1 inside (edge > 0), 0 outside, over one pixel's footprint."""
    return np.clip(edge / np.maximum(footprint, 1e-3) + 0.5, 0, 1)


def _room(rays: Array, origin: Array, studio: Studio, rng: np.random.Generator) -> Array:
    down = np.minimum(rays[..., 2], -1e-4)
    t_floor = -origin[2] / down
    away = np.maximum(rays[..., 1], 1e-4)
    t_wall = (studio.wall_y_cm - origin[1]) / away
    floor = (rays[..., 2] < -1e-4) & (t_floor < t_wall)
    t = np.where(floor, t_floor, t_wall)
    p = origin + t[..., None] * rays
    px = t * 0.0011
    # Boards run along the mat; each has its own shade.
    board = np.floor(p[..., 1] / 14.0).astype(np.int64) % 64
    shade = rng.uniform(0.90, 1.06, 64).astype(np.float32)[board]
    gap = np.abs((p[..., 1] / 14.0) % 1.0 - 0.5) * 14.0
    seam = 1.0 - 0.22 * _soft_inside(gap - 6.75, px + 0.15)
    grain = 1.0 + 0.03 * np.sin(p[..., 0] * 0.21 + board * 2.1) * np.sin(p[..., 1] * 1.7 + board)
    wood = np.asarray(studio.floor_colour, dtype=np.float32) * (shade * seam * grain)[..., None]
    edge = np.minimum(
        studio.mat_near_cm / 2 - np.abs(p[..., 0]), studio.mat_deep_cm / 2 - np.abs(p[..., 1])
    )
    on_mat = _soft_inside(edge, px)[..., None]
    weave = 1.0 + 0.05 * np.sin(p[..., 0] * 2.4) * np.sin(p[..., 1] * 2.4)
    rim = 1.0 + 0.45 * (1 - _soft_inside(edge - 1.2, px))
    mat = np.asarray(studio.mat_colour, dtype=np.float32) * (weave * rim)[..., None]
    ground = wood * (1 - on_mat) + mat * on_mat
    fall = np.exp(-((p[..., 0] / 420) ** 2 + (p[..., 1] / 420) ** 2))
    ground = ground * (0.62 + 0.45 * fall)[..., None]
    high = p[..., 2]
    wall = (
        np.asarray(studio.wall_colour, dtype=np.float32)
        * (0.80 + 0.22 * np.exp(-(((p[..., 0] + 60) / 260) ** 2 + ((high - 140) / 170) ** 2)))[
            ..., None
        ]
    )
    skirting = _soft_inside(9.0 - high, px)[..., None]
    lip = 1.0 - 0.4 * np.exp(-(((high - 9.0) / 0.8) ** 2))
    wall = (wall * (1 - skirting) + wall * 0.80 * skirting) * lip[..., None]
    corner = 1.0 - 0.25 * np.exp(-np.abs(p[..., 1] - studio.wall_y_cm) / 14.0)
    out = np.where(floor[..., None], ground * corner[..., None], wall)
    return np.asarray(out, np.float32)


def _floor_shade(
    camera: Camera, width: int, height: int, cones: Sequence[Cone], studio: Studio
) -> Array:
    """Soft shadow and contact darkening on floor and wall, at quarter resolution."""
    small = 4
    w, h = width // small, height // small
    quarter = Camera(
        camera.rotation, camera.translation, camera.focal_px / small, camera.centre / small
    )
    rays = _rays(quarter, w, h)
    origin = camera.position.astype(np.float32)
    t_floor = -origin[2] / np.minimum(rays[..., 2], -1e-4)
    t_wall = (studio.wall_y_cm - origin[1]) / np.maximum(rays[..., 1], 1e-4)
    p = (origin + np.minimum(t_floor, t_wall)[..., None] * rays).reshape(-1, 3)
    lit = np.ones(len(p), dtype=np.float32)
    closed = np.zeros(len(p), dtype=np.float32)
    spread = 0.30 if studio.sun < 0.5 else 0.07
    for a, b, ra, rb, _ in cones:
        far, near, radius = _ray_to_cone(p, LIGHT, a, b, ra, rb)
        lit = np.minimum(lit, np.clip((near - radius) / (spread * far + 1.5) + 0.5, 0, 1))
        q, r = _nearest(p, a, b, ra, rb)
        closed += r**2 / (np.linalg.norm(p - q, axis=1) ** 2 + 1.0)
    depth = 0.55 if studio.sun < 0.5 else 0.72
    shade = (1 - depth * (1 - lit)) / (1.0 + 0.16 * closed)
    grid = shade.reshape(h, w).astype(np.float32)
    return np.asarray(cv2.resize(grid, (width, height), interpolation=cv2.INTER_CUBIC))


def _nearest(
    p: Array, a: NDArray[np.float64], b: NDArray[np.float64], ra: float, rb: float
) -> tuple[Array, Array]:
    """Nearest axis point of a cone to each p (n, 3), and the radius there."""
    a32, ab = a.astype(np.float32), (b - a).astype(np.float32)
    span = float(ab @ ab)
    t = np.clip(((p - a32) @ ab) / span, 0, 1) if span > 1e-6 else np.zeros(len(p), np.float32)
    nearest = np.asarray(a32 + t[:, None] * ab, np.float32)
    return nearest, np.asarray(ra + t * (rb - ra), np.float32)


def _ray_to_cone(
    p: Array, way: Array, a: NDArray[np.float64], b: NDArray[np.float64], ra: float, rb: float
) -> tuple[Array, Array, Array]:
    """Closest approach of rays p + s way to a cone's axis: s, distance, radius there."""
    a32, ab = a.astype(np.float32), (b - a).astype(np.float32)
    w = p - a32
    bb = float(ab @ ab) + 1e-6
    bd = float(ab @ way)
    u = (w @ ab - (w @ way) * bd) / max(bb - bd * bd, 1e-3)
    u = np.clip(u, 0, 1)
    q = a32 + u[:, None] * ab
    s = np.maximum((q - p) @ way, 0.0)
    gap = np.linalg.norm(p + s[:, None] * way - q, axis=1)
    return s, gap, (ra + u * (rb - ra)).astype(np.float32)


def _distance(p: Array, cones: Sequence[Cone]) -> Array:
    """Smooth union of round cones at points (n, 3)."""
    total: Array | None = None
    for a, b, ra, rb, cloth in cones:
        q, r = _nearest(p, a, b, ra, rb)
        e = p - q
        d = np.sqrt(np.einsum("ij,ij->i", e, e)) - r
        if total is None:
            total = d
        elif cloth in ("sticker", "prop"):
            # Stickers and supports touch the skin; blending would melt them into it.
            total = np.minimum(total, d)
        else:
            k = np.float32(BLEND_CM)
            h = np.maximum(k - np.abs(total - d), 0.0) / k
            total = np.minimum(total, d) - h * h * k * np.float32(0.25)
    assert total is not None
    return total


def _draw_body(colour: Array, rays: Array, camera: Camera, scenery: Scenery) -> None:
    height, width = colour.shape[:2]
    origin = camera.position.astype(np.float32)
    r = STICKER_RADIUS_CM
    solid = [*scenery.cones, *((s, s, r, r, "sticker") for s in scenery.stickers)]
    reach = [_outline(camera, c, width, height) for c in solid]
    pixel = 1.0 / camera.focal_px
    for top in range(0, height, TILE):
        for left in range(0, width, TILE):
            box = (left, top, min(left + TILE, width), min(top + TILE, height))
            near = [
                c
                for c, r in zip(solid, reach, strict=True)
                if r[0] < box[2] and r[2] > box[0] and r[1] < box[3] and r[3] > box[1]
            ]
            if not near:
                continue
            view = (slice(box[1], box[3]), slice(box[0], box[2]))
            _draw_tile(colour[view], rays[view], origin, pixel, replace(scenery, cones=near))


def _outline(camera: Camera, cone: Cone, width: int, height: int) -> tuple[float, ...]:
    """Bounding box of a cone in the picture, px."""
    a, b, ra, rb, _ = cone
    boxes = []
    for end, radius in ((a, ra), (b, rb)):
        depth = float((camera.rotation @ end + camera.translation)[2])
        u, v = camera.project(end)
        r = camera.focal_px * (radius + 2.0) / max(depth - radius, 10.0)
        boxes.append((u - r, v - r, u + r, v + r))
    lo = np.min(boxes, axis=0)
    hi = np.max(boxes, axis=0)
    return float(lo[0]), float(lo[1]), float(hi[2]), float(hi[3])


def _draw_tile(colour: Array, rays: Array, origin: Array, pixel: float, scenery: Scenery) -> None:
    cones = scenery.cones
    way = rays.reshape(-1, 3)
    start = min(
        float(np.linalg.norm(np.asarray(end) - origin))
        - max(c[2], c[3])
        - float(np.linalg.norm(c[1] - c[0]))
        for c in cones
        for end in (c[0],)
    )
    t = np.full(len(way), max(start, 1.0), dtype=np.float32)
    best_t, best = t.copy(), np.full(len(way), np.inf, dtype=np.float32)
    live = np.arange(len(way))
    stop = max(
        float(np.linalg.norm(np.asarray(end) - origin)) + max(c[2], c[3])
        for c in cones
        for end in (c[0], c[1])
    )
    for _ in range(64):
        d = _distance(origin + t[live, None] * way[live], cones)
        ratio = d / (t[live] * pixel)
        better = ratio < best[live]
        chosen = live[better]
        best[chosen], best_t[chosen] = ratio[better], t[chosen]
        keep = (d > 0.02) & (t[live] < stop)
        t[live] += d * np.float32(0.9)
        live = live[keep]
        if not len(live):
            break
    seen = np.flatnonzero(best < 0.7)
    if not len(seen):
        return
    p = origin + best_t[seen, None] * way[seen]
    alpha = np.clip(0.7 - best[seen], 0, 0.7) / 0.7
    alpha = np.where(best[seen] < 0.1, 1.0, alpha).astype(np.float32)
    shaded = _shade(p, way[seen], scenery)
    flat = colour.reshape(-1, 3)
    flat[seen] = flat[seen] * (1 - alpha[:, None]) + shaded * alpha[:, None]
    colour[...] = flat.reshape(colour.shape)


_TETRA = np.array([[1, -1, -1], [-1, -1, 1], [-1, 1, -1], [1, 1, 1]], dtype=np.float32)


def _shade(p: Array, way: Array, scenery: Scenery) -> Array:
    cones = scenery.cones
    e = np.float32(0.15)
    normal = sum(
        (k[None, :] * _distance(p + e * k, cones)[:, None] for k in _TETRA),
        np.zeros_like(p),
    )
    normal /= np.linalg.norm(normal, axis=1, keepdims=True) + 1e-6
    base = _cloth(p, cones, scenery.outfit)
    for s in scenery.stickers:
        spot = np.linalg.norm(p - s.astype(np.float32), axis=1)
        on = np.clip((STICKER_RADIUS_CM + 0.12 - spot) / 0.1, 0, 1)[:, None].astype(np.float32)
        base = base * (1 - on) + np.asarray(scenery.sticker_colour, dtype=np.float32) * on
    open_sky = np.clip(_distance(p + 4.0 * normal, cones) / 4.0, 0, 1)
    diffuse = np.clip(normal @ LIGHT, 0, 1)
    lit = np.clip(_distance(p + 3.0 * LIGHT + 0.5 * normal, cones) / 2.2, 0, 1)
    sky = 0.5 + 0.5 * normal[:, 2]
    rim = np.clip(1.0 + np.einsum("ij,ij->i", normal, way), 0, 1) ** 3
    direct = 0.75 if scenery.studio.sun < 0.5 else 1.35
    light = (0.18 + 0.42 * sky * (0.55 + 0.45 * open_sky) + direct * diffuse * lit) * (
        0.75 + 0.25 * np.clip(p[:, 2] / 12.0, 0, 1)
    )
    return np.asarray(base * light[:, None] + (0.10 * rim * sky)[:, None], dtype=np.float32)


def _cloth(p: Array, cones: Sequence[Cone], outfit: Outfit) -> Array:
    """Colour of the cone each point belongs to; shorts end part way down the thigh."""
    best = np.full(len(p), np.inf, dtype=np.float32)
    colour = np.zeros_like(p)
    for a, b, ra, rb, cloth in cones:
        q, r = _nearest(p, a, b, ra, rb)
        d = np.linalg.norm(p - q, axis=1) - r
        if cloth == "sticker":
            continue
        own = np.broadcast_to(np.asarray(getattr(outfit, cloth), dtype=np.float32), p.shape)
        span = float(np.linalg.norm(b - a))
        if cloth == "shorts" and span > 30.0:
            along = np.linalg.norm(q - a.astype(np.float32), axis=1) / span
            bare = np.clip((along - 0.42) / 0.012, 0, 1)[:, None].astype(np.float32)
            own = own * (1 - bare) + np.asarray(outfit.skin, dtype=np.float32) * bare
        mine = d < best
        best = np.where(mine, d, best)
        colour = np.where(mine[:, None], own, colour)
    return np.asarray(colour, dtype=np.float32)
