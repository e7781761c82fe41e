"""Photographs of parametric bodies, rendered on the CPU, with the truth beside each.

``python -m bench.bodies.pictures FOLDER [COUNT] [FIRST]`` writes NNN.jpg and NNN.json, leaving
those that are there. Rooms, mats, cards, clothes, skins, light, sharpness and compression are
drawn anew for each number; the bodies are the report half of ``bench bodies``. Numbers from
``FIT_FROM`` on are other bodies, for fitting: coarser, drawn up to size, a fifth of the time;
from ``BARE_FROM`` on the report half again, without cards.
``python -m bench.bodies.pictures --visit FOLDER`` is one made-up person's visit for the demo: the
same body, clothes and room. ``make pictures`` installs the renderer.
"""

from __future__ import annotations

import io
import json
import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from PIL import Image

from bench.bodies.mesh import SEGMENTS, SIDES, Array, Person, person, template
from bench.bodies.pose import Posed
from bench.bodies.poses import MAKERS, Choice
from bench.bodies.shots import MAT, Clicking, Shot, heading_of, photograph, place
from bench.bodies.truth import truth
from dachi.core.body.pinhole import CORNERS, Camera, mat_points
from dachi.core.measuring.cards import (
    CARDS,
    CODE_CM,
    CODES,
    MARGIN_CM,
    Ground,
    code_corners,
    in_view,
)
from dachi.data import catalogue

Rng = np.random.Generator

#: Hues of skin from light to dark, mats, cloth: linear reflectance.
SKINS = ((0.78, 0.56, 0.45), (0.66, 0.43, 0.31), (0.50, 0.31, 0.21), (0.32, 0.18, 0.11),
         (0.17, 0.09, 0.06))  # fmt: skip
CLOTHS = ((0.03, 0.03, 0.035), (0.05, 0.08, 0.2), (0.35, 0.05, 0.08), (0.5, 0.5, 0.52),
          (0.05, 0.2, 0.16), (0.6, 0.45, 0.1), (0.3, 0.12, 0.35), (0.15, 0.3, 0.5),
          (0.75, 0.72, 0.66))  # fmt: skip
MATS = ((0.05, 0.18, 0.2), (0.28, 0.08, 0.24), (0.08, 0.08, 0.09), (0.1, 0.16, 0.45),
        (0.35, 0.33, 0.3), (0.1, 0.3, 0.12), (0.5, 0.22, 0.06))  # fmt: skip
FLOORS = ("boards", "rubber", "concrete", "tatami")
WALLS = ((0.7, 0.68, 0.63), (0.5, 0.56, 0.6), (0.75, 0.62, 0.5), (0.25, 0.28, 0.3), (0.6, 0.3, 0.2))
WIDTH = 1600
#: Samples a pixel; what they grain is smoothed as a phone smooths its own.
SAMPLES = 20
#: From this number on pictures are for fitting, and so coarse: px across and samples a pixel.
FIT_FROM, FIT_WIDTH, FIT_SAMPLES = 1000, 900, 12
#: From this one on for reporting again, none of them with cards.
BARE_FROM = 2000


@dataclass(frozen=True)
class Room:
    """How a picture was taken, besides the body in it."""

    cards: tuple[int, ...]
    from_far_side: bool
    thick_cm: float
    quality: int
    blur_px: float
    grain: float
    width: int
    samples: int = SAMPLES


def draw_room(rng: Rng, index: int) -> Room:
    """Cards in three of four pictures, now and then one of them missing."""
    cards = CARDS if index % 4 else ()
    if cards and index % 9 == 4:
        gone = int(rng.integers(4))
        cards = tuple(c for c in CARDS if c != CARDS[gone])
    return Room(
        cards, bool(rng.integers(2)), float(rng.choice([0.4, 0.6, 1.0])),
        int(rng.choice([60, 75, 88, 92])), float(rng.choice([0.0, 0.5, 0.9, 1.3])),
        float(rng.uniform(0.004, 0.02)), WIDTH,
    )  # fmt: skip


def code_image(card: int, scale: int = 40) -> Array:
    """A card's code with its rim, grey 0 to 1."""
    cells = np.zeros((6, 6))
    cells[1:5, 1:5] = [[float(c) for c in row] for row in CODES[card]]
    return np.asarray(np.kron(cells, np.ones((scale, scale))), dtype=float)


def sheet_image(card: int) -> Array:
    """A printed sheet 21 by 29.7 cm, 20 px a cm, grey 0 to 1; some words as grey lines."""
    ppc = 20
    sheet = np.ones((594, 420))
    size = int(CODE_CM * ppc)
    code = cv2.resize(code_image(card), (size, size), interpolation=cv2.INTER_NEAREST)
    left = 420 - 2 * ppc - size if card in (1, 3) else 2 * ppc
    top = 594 - 2 * ppc - size
    sheet[top : top + size, left : left + size] = code
    for row in range(60, 180, 24):
        sheet[row : row + 6, 60:360] = 0.3
    return 0.04 + 0.78 * sheet


def texture(rng: Rng, kind: str) -> Array:
    """A floor's reflectance, (n, n, 3), for four metres."""
    n = 1024
    coarse = cv2.resize(rng.normal(0, 1, (24, 24)), (n, n), interpolation=cv2.INTER_CUBIC)
    fine = rng.normal(0, 1, (n, n))
    if kind == "boards":
        base = np.array([0.42, 0.27, 0.15]) * rng.uniform(0.6, 1.2)
        board = (np.arange(n) // 36)[:, None]
        shade = rng.normal(0, 0.12, board.max() + 1)[board] + 0 * fine
        grain = cv2.GaussianBlur(fine, (0, 0), sigmaX=40, sigmaY=0.8) * 3
        gap = (np.arange(n) % 36 < 1)[:, None] * -0.5
        pattern = 1 + shade + 0.1 * grain + gap
    elif kind == "tatami":
        base = np.array([0.46, 0.44, 0.26])
        pattern = 1 + 0.08 * np.sin(np.arange(n) * 1.2)[None, :] + 0.05 * coarse
        pattern = pattern - 0.3 * (np.arange(n) % 340 < 8)[:, None]
    else:
        base = np.array([0.36, 0.36, 0.35]) if kind == "concrete" else np.array([0.07, 0.07, 0.08])
        speck = (fine > 2.4) * (1.5 if kind == "rubber" else 0.2)
        pattern = 1 + 0.12 * coarse + 0.08 * fine + speck
    return np.asarray(np.clip(base * pattern[..., None], 0.01, 0.9))


def dress(rng: Rng, who: Person) -> tuple[Array, Array]:
    """Colour (v, 3) and thickness of cloth (v,), cm, of a body's surface."""
    rest, tall = who.skin, who.height
    t, y = rest[:, 2] / tall, rest[:, 1]
    seg = np.array(SEGMENTS)[template().weights.argmax(axis=1)]
    skin = np.array(SKINS[rng.integers(len(SKINS))]) * rng.uniform(0.85, 1.15)
    blotch = 1 + 0.05 * np.sin(rest @ rng.normal(0, 0.35, 3)) + 0.02 * rng.normal(0, 1, len(rest))
    colour = skin * blotch[:, None]
    thick = np.zeros(len(rest))
    arm = np.char.endswith(seg, "arm")
    leg = np.isin(seg, [f"{s}.{x}" for s in SIDES for x in ("thigh", "shin")])
    bottom, top = (np.array(CLOTHS[i]) for i in rng.choice(len(CLOTHS), 2, replace=False))
    length = float(rng.choice([0.07, 0.2, 0.38, 0.45]))
    wears = (
        (leg & (t > length)) | ((seg == "pelvis") & (t < 0.62)) | ((seg == "lumbar") & (t < 0.6))
    )
    colour[wears], thick[wears] = bottom, rng.uniform(0.2, 0.9 if length < 0.4 else 0.5)
    sleeves = float(rng.choice([0.0, 0.08, 0.2]))
    covered = ~arm & ~leg & (t > 0.6) & (t < float(rng.choice([0.8, 0.815])))
    if rng.random() < 0.25:
        covered &= t > 0.68
    covered |= arm & (abs(rest[:, 0]) < (0.11 + sleeves) * tall)
    if rng.random() < 0.9:
        colour[covered], thick[covered] = top, rng.uniform(0.2, 1.2)
    socks = np.isin(seg, ["left.foot", "right.foot"]) & (rng.random() < 0.3)
    colour[socks], thick[socks] = 0.7, 0.15
    head = (t > 0.865) & ~arm
    middle = y[head].mean()
    hair = head & ((t > 0.965) | ((y > middle) & (t > 0.88)))
    colour[hair] = np.array([0.05, 0.03, 0.02]) * rng.choice([0.4, 1.0, 5.0, 9.0])
    thick[hair] = rng.uniform(0.3, 1.5)
    fold = 1 + 0.06 * np.sin(rest @ rng.normal(0, 0.9, 3))
    colour[thick > 0] *= fold[thick > 0, None]
    return np.clip(colour, 0.005, 0.95), thick


def surface(posed: Posed, thick: Array) -> Array:
    """The posed skin with its clothes on, (v, 3), cm."""
    skin = posed.skin()
    tri = template().triangles
    a, b, c = (skin[tri[:, i]] for i in range(3))
    face = np.cross(b - a, c - a)
    normal = np.zeros_like(skin)
    for i in range(3):
        np.add.at(normal, tri[:, i], face)
    normal /= np.linalg.norm(normal, axis=1, keepdims=True) + 1e-9
    return skin + thick[:, None] * normal


def _rectangle(points: Array, bsdf: dict[str, Any]) -> dict[str, Any]:
    """A flat shape over four points, bottom left first, counterclockwise."""
    import mitsuba as mi

    a, b, _, d = points
    middle, u, v = points.mean(axis=0), (b - a) / 2, (d - a) / 2
    w = np.cross(u, v)
    to = np.eye(4)
    to[:3, 0], to[:3, 1], to[:3, 2], to[:3, 3] = u, v, w / np.linalg.norm(w), middle
    return {"type": "rectangle", "to_world": mi.ScalarTransform4f(to), "bsdf": bsdf}


def _bitmap(image: Array, scale: float = 1.0) -> dict[str, Any]:
    import mitsuba as mi

    # The renderer's second coordinate runs upwards.
    upright = image[::-1] if image.ndim == 3 else np.repeat(image[::-1, :, None], 3, 2)
    data = np.ascontiguousarray(upright)
    to = mi.ScalarTransform4f().scale([scale, scale, 1.0])
    return {
        "type": "twosided",
        "inner": {"type": "diffuse", "reflectance": {
            "type": "bitmap", "bitmap": mi.Bitmap(data.astype(np.float32)), "raw": True,
            "to_uv": to}},
    }  # fmt: skip


def _plain(colour: Array | tuple[float, ...]) -> dict[str, Any]:
    shade = {"type": "rgb", "value": [float(c) for c in colour]}
    return {"type": "twosided", "inner": {"type": "diffuse", "reflectance": shade}}


def scene_of(
    shot: Shot, room: Room, rng: Rng, hall: tuple[int, int] | None = None
) -> dict[str, Any]:
    """Everything the renderer is told of a picture.

    ``hall`` are seeds of the room and of clothes that stay, so that only light is drawn anew.
    """
    import mitsuba as mi

    light = rng
    dresser = rng
    if hall is not None:
        rng, dresser = np.random.default_rng(hall[0]), np.random.default_rng(hall[1])

    view = catalogue().pose(shot.scene.pose).view
    colour, thick = dress(dresser, shot.posed.person)
    skin, tri = surface(shot.posed, thick), template().triangles
    props = mi.Properties()
    props["bsdf"] = mi.load_dict({"type": "twosided", "inner": {
        "type": "principled", "roughness": 0.55, "specular": 0.3,
        "base_color": {"type": "mesh_attribute", "name": "vertex_color"}}})  # fmt: skip
    body = mi.Mesh("body", len(skin), len(tri), has_vertex_normals=True, props=props)
    body.add_attribute("vertex_color", 3, colour.astype(np.float32).ravel())
    told = mi.traverse(body)
    told["vertex_positions"] = skin.astype(np.float32).ravel()
    told["faces"] = tri.astype(np.uint32).ravel()
    told.update()
    body.recompute_vertex_normals()
    down = -room.thick_cm
    floor = np.array([[-600, -700, down], [600, -700, down], [600, 500, down], [-600, 500, down]])
    corners = mat_points(*MAT, view)
    found: dict[str, Any] = {
        "type": "scene",
        "integrator": {"type": "path", "max_depth": 4, "hide_emitters": False},
        "body": body,
        "floor": _rectangle(floor, _bitmap(texture(rng, str(rng.choice(FLOORS))), 3.0)),
    }
    wall, back = np.array(WALLS[rng.integers(len(WALLS))]), float(rng.uniform(170, 420))
    side = float(rng.choice([-1, 1])) * float(rng.uniform(230, 480))
    plaster = np.clip(
        wall * (1 + 0.04 * cv2.resize(rng.normal(0, 1, (60, 60)), (512, 512))[..., None]), 0, 1
    )
    found["wall"] = _rectangle(
        np.array([[-600, back, down], [600, back, down], [600, back, 320], [-600, back, 320]]),
        _bitmap(plaster),
    )
    found["side"] = _rectangle(
        np.array([[side, -700, down], [side, 500, down], [side, 500, 320], [side, -700, 320]]),
        _plain(wall * rng.uniform(0.7, 1.1)),
    )
    found["base"] = _rectangle(
        np.array(
            [[-600, back - 1, down], [600, back - 1, down], [600, back - 1, 9], [-600, back - 1, 9]]
        ),
        _plain(np.clip(wall * 1.3, 0, 0.9)),
    )
    mat = np.array(MATS[rng.integers(len(MATS))]) * rng.uniform(0.7, 1.3)
    weave = np.clip(mat * (1 + 0.05 * rng.normal(0, 1, (400, 400, 1))), 0.005, 0.9)
    found["mat"] = _rectangle(corners, _bitmap(weave, 2.0))
    for i in range(4):
        edge = np.array([corners[i], corners[(i + 1) % 4]])
        low = edge + np.array([0, 0, down])
        found[f"edge{i}"] = _rectangle(np.array([*low, edge[1], edge[0]]), _plain(mat * 0.8))
    for card in room.cards:
        found[f"card{card}"] = _rectangle(
            sheet_corners(card, view, room, rng), _bitmap(sheet_image(card))
        )
    _furnish(found, rng, back, down)
    bright = float(light.uniform(0.5, 1.0))
    tint = np.array([1.0, light.uniform(0.88, 1.0), light.uniform(0.72, 1.05)])
    found["sky"] = {
        "type": "constant",
        "radiance": {"type": "rgb", "value": (0.35 * bright * tint).tolist()},
    }
    x, y = light.uniform(-200, 200), light.uniform(-350, 60)
    lamp = np.array([[-80, 50, 0], [80, 50, 0], [80, -50, 0], [-80, -50, 0.0]]) * light.uniform(
        0.4, 1.4
    )
    found["lamp"] = _rectangle(lamp + np.array([x, y, 300]), _plain((0.5, 0.5, 0.5))) | {
        "emitter": {
            "type": "area",
            "radiance": {"type": "rgb", "value": (bright * light.uniform(4, 11) * tint).tolist()},
        }
    }
    found["sensor"] = _sensor(shot.camera, room)
    return found


def sheet_corners(card: int, view: str, room: Room, rng: Rng) -> Array:
    """Where a card lies, a few millimetres from where it should: (4, 3), bottom left first."""
    ground = Ground(*MAT, room.thick_cm)
    tl, _, br, bl = code_corners(ground, card)
    right, up = (br - bl) / CODE_CM, (tl - bl) / CODE_CM
    base = bl - MARGIN_CM * (up + right)
    flat = np.array([base, base + 21 * right, base + 21 * right + 29.7 * up, base + 29.7 * up])
    turned = np.radians(rng.normal(0, 0.5))
    spin = np.array([[np.cos(turned), -np.sin(turned)], [np.sin(turned), np.cos(turned)]])
    middle = flat.mean(axis=0)
    flat = (flat - middle) @ spin.T + middle + rng.normal(0, 0.25, 2)
    xy = in_view(flat, view, from_far_side=room.from_far_side)
    return np.column_stack([xy, np.full(4, -room.thick_cm + 0.03)])


def _furnish(found: dict[str, Any], rng: Rng, back: float, down: float) -> None:
    """Boxes, holds and blocks that stand about in a studio."""
    import mitsuba as mi

    for i in range(int(rng.integers(1, 5))):
        half = rng.uniform([10, 8, 8], [60, 25, 45])
        x, y = rng.uniform(-280, 280), rng.uniform(back - 70, back - 30)
        to = (
            mi.ScalarTransform4f()
            .translate([x, y, float(half[2]) + down])
            .rotate([0, 0, 1], float(rng.uniform(0, 90)))
            .scale([float(h) for h in half])
        )
        found[f"box{i}"] = {
            "type": "cube",
            "to_world": to,
            "bsdf": _plain(CLOTHS[rng.integers(len(CLOTHS))]),
        }
    if rng.random() < 0.5:
        for i in range(14):
            x, z = rng.uniform(-300, 300), rng.uniform(30, 260)
            found[f"hold{i}"] = {
                "type": "sphere", "center": [float(x), back, float(z)],
                "radius": float(rng.uniform(5, 13)),
                "bsdf": _plain(rng.uniform(0.05, 0.8, 3)),
            }  # fmt: skip


def _sensor(camera: Camera, room: Room) -> dict[str, Any]:
    import mitsuba as mi

    x, y, z = camera.rotation
    to = np.eye(4)
    to[:3, 0], to[:3, 1], to[:3, 2], to[:3, 3] = -x, -y, z, camera.position
    wide, tall = (2 * c for c in camera.centre)
    scale = room.width / max(wide, tall)
    return {
        "type": "perspective", "to_world": mi.ScalarTransform4f(to), "fov_axis": "x",
        "fov": float(2 * np.degrees(np.arctan(wide / 2 / camera.focal_px))),
        "near_clip": 5.0, "far_clip": 3000.0,
        "film": {"type": "hdrfilm", "width": round(wide * scale), "height": round(tall * scale),
                 "rfilter": {"type": "gaussian"}, "pixel_format": "rgb"},
        "sampler": {"type": "multijitter", "sample_count": room.samples},
    }  # fmt: skip


def develop(linear: Array, room: Room, rng: Rng) -> bytes:
    """What a phone makes of light: exposure, curve, lens and sensor, JPEG."""
    # A sample that met a lamp by chance is no light that was there.
    light = np.ascontiguousarray(linear, dtype=np.float32)
    local = cv2.medianBlur(light, 3)
    linear = np.where(light > 1.25 * local, local, light)
    clean = cv2.bilateralFilter(linear.astype(np.float32), 5, 0.06 * float(np.median(linear)), 1.5)
    exposed = clean * (0.42 / max(float(np.percentile(linear, 70)), 1e-4))
    if room.blur_px:
        exposed = np.asarray(cv2.GaussianBlur(exposed, (0, 0), room.blur_px))
    exposed = exposed + rng.normal(0, 1, exposed.shape) * room.grain * np.sqrt(
        np.maximum(exposed, 0.02)
    )
    curve = np.clip(exposed, 0, None)
    curve = curve * (1 + curve / 1.7**2) / (1 + curve * 0.55)
    coded = np.clip(curve, 0, 1) ** (1 / 2.2)
    out = io.BytesIO()
    Image.fromarray((coded * 255).astype(np.uint8)).save(out, "JPEG", quality=room.quality)
    return out.getvalue()


def render(shot: Shot, room: Room, rng: Rng, hall: tuple[int, int] | None = None) -> bytes:
    """The photograph of a shot as a JPEG (see ``scene_of``)."""
    import mitsuba as mi

    mi.set_variant("llvm_ad_rgb")
    scene = mi.load_dict(scene_of(shot, room, rng, hall))
    light = np.array(mi.render(scene, seed=int(rng.integers(1 << 30))))
    if room.width < WIDTH:
        light = cv2.resize(light, None, fx=WIDTH / room.width, fy=WIDTH / room.width)
    return develop(light, room, rng)


def take(index: int) -> tuple[Shot, Room, Rng]:
    """The shot of a number: poses in turn, another body each."""
    rng = np.random.default_rng([91, index])
    pose_id = list(MAKERS)[index % len(MAKERS)]
    pose = catalogue().pose(pose_id)
    who = person(np.random.default_rng([12, 7, index]))
    side = "right" if pose.sides == "both" else str(rng.choice(["left", "right"]))
    posed = place(pose, MAKERS[pose_id](who, rng, Choice(side, heading_of(pose, side))), rng)
    shot = photograph(pose, side, posed, rng, Clicking(0.0, 0.0), {})
    room = draw_room(rng, index)
    if index >= BARE_FROM:
        room = replace(room, cards=())
    elif index >= FIT_FROM:
        room = replace(room, width=FIT_WIDTH, samples=FIT_SAMPLES)
    return shot, room, rng


def told(shot: Shot, room: Room) -> dict[str, Any]:
    """The truth beside a picture, as JSON: pixels of the picture and degrees."""
    pose = catalogue().pose(shot.scene.pose)
    view, camera = pose.view, shot.camera

    def px(points: Array) -> list[list[float]]:
        return [[round(float(c), 2) for c in p] for p in camera.project(np.atleast_2d(points))]

    ground = Ground(*MAT, room.thick_cm)
    cards = {
        str(c): px(np.column_stack([
            in_view(code_corners(ground, c), view, from_far_side=room.from_far_side),
            np.full(4, -room.thick_cm)]))
        for c in room.cards
    }  # fmt: skip
    near = {
        s: float(np.linalg.norm(shot.posed.centres[f"{s}.hip"] - camera.position)) for s in SIDES
    }
    return {
        "pose": pose.id, "view": view, "side": shot.side, "facing": shot.scene.facing,
        "width": 1600, "height": 1200, "focal_35mm": shot.scene.image.focal_35mm,
        "mat": list(MAT), "thick_cm": room.thick_cm, "cards": cards,
        "from_far_side": room.from_far_side,
        "corners": dict(zip(CORNERS, px(mat_points(*MAT, view)), strict=True)),
        "camera": {"rotation": camera.rotation.tolist(), "translation": camera.translation.tolist(),
                   "focal_px": camera.focal_px},
        "marks": {n: list(p) for n, p in shot.scene.marks.items()},
        "joints": {n: px(c)[0] for n, c in shot.posed.centres.items()},
        "near_side": min(near, key=near.__getitem__), "height_cm": shot.posed.person.height,
        "truth": truth(shot), "quality": room.quality, "blur_px": room.blur_px,
    }  # fmt: skip


#: The demo's visit: pose and side. One body, dressed once, in one room, with all four cards.
VISIT = (
    ("supine-leg-raise", "left"), ("supine-leg-raise", "right"), ("front-split", "left"),
    ("front-split", "right"), ("low-lunge", "left"), ("butterfly", "both"), ("straddle", "both"),
)  # fmt: skip
VISIT_SEED, VISIT_BODY = 6, 23


def visit(folder: Path) -> None:
    """Render the demo's visit: POSE-SIDE.jpg, the focal length told as a phone tells it."""
    folder.mkdir(parents=True, exist_ok=True)
    who = person(np.random.default_rng([12, 9, VISIT_BODY]))
    room = Room(CARDS, False, 0.6, 88, 0.5, 0.008, 1600)
    for number, (pose_id, side) in enumerate(VISIT):
        picture = folder / f"{pose_id}-{side}.jpg"
        if picture.exists():
            continue
        pose, rng = catalogue().pose(pose_id), np.random.default_rng([77, number])
        near = "right" if side == "both" else side
        posed = place(pose, MAKERS[pose_id](who, rng, Choice(near, heading_of(pose, near))), rng)
        shot = photograph(pose, near, posed, rng, Clicking(0.0, 0.0), {})
        data = render(shot, room, np.random.default_rng(VISIT_SEED))
        told_exif = Image.Exif()
        told_exif.get_ifd(0x8769)[41989] = int(shot.scene.image.focal_35mm or 26)
        with Image.open(io.BytesIO(data)) as image:
            image.save(picture, "JPEG", quality=85, exif=told_exif)
        print(picture, flush=True)


def main(argv: list[str]) -> int:
    if argv[0] == "--visit":
        visit(Path(argv[1]))
        return 0
    folder = Path(argv[0])
    count, first = (int(x) for x in (argv[1:3] + ["80", "0"][len(argv) - 1 :]))
    folder.mkdir(parents=True, exist_ok=True)
    for index in range(first, first + count):
        picture = folder / f"{index:03}.jpg"
        if picture.exists():
            continue
        shot, room, rng = take(index)
        data = render(shot, room, rng)
        (folder / f"{index:03}.json").write_text(json.dumps(told(shot, room)))
        picture.write_bytes(data)
        print(picture, shot.scene.pose, f"{len(data) / 1e3:.0f} kB", flush=True)
    return 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
