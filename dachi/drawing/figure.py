"""The articulated figure as a small drawing: pose glyphs, and the guide to where marks go."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.figure import Landmarks, bones
from dachi.core.body.pinhole import Camera, look_from
from dachi.core.body.posing import supports_under
from dachi.core.body.staging import ANYBODY, Figure, on_mat, shown_side, within
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.figure_skin import SkinMark, skin_marks
from dachi.drawing.axes import number, tag, title

Array = NDArray[np.float64]

WIDTH, HEIGHT = 240.0, 170.0
#: What a close-up shows of it.
CLOSE_WIDE, CLOSE_HIGH = 36.0, 27.0
_AROUND = np.array([[1, 0, 0], [-1, 0, 0], [0, 0, 1], [0, 0, -1.0]])


@lru_cache(maxsize=512)
def guide(pose: Pose, side: str, variant: tuple[tuple[str, str], ...] = ()) -> str:
    """Return the pose with each of its marks where the skin is touched, as SVG.

    Marks carry ``data-mark``. The body is the group ``guide-body``, which close-ups draw again.
    """
    figure, camera, found = _marked(pose, side, dict(variant))
    dots = ""
    for name, mark in found.items():
        u, v = camera.project(mark.at)
        dots += tag("circle", class_="g-mark", data_mark=name, cx=float(u), cy=float(v), r=5.0)
    supports = supports_under(pose.figure, side, figure.points)
    body = silhouette(figure.points, camera, supports) + _bones(figure.points, camera)
    content = tag("g", body, id="guide-body") + dots
    return framed(content, f"{pose.name}: where the marks go")


@lru_cache(maxsize=512)
def closeups(
    pose: Pose, side: str, variant: tuple[tuple[str, str], ...] = ()
) -> tuple[tuple[str, str, tuple[str, ...]], ...]:
    """For each mark its id, a drawing from near by of the guide's body, and what it is not.

    A tick is where the mark goes, crosses are where it does not; the ring inside is the joint.
    """
    _, camera, found = _marked(pose, side, dict(variant))
    drawn = []
    for m in pose.marks:
        mark = found[m.id]
        u, v = (float(c) for c in camera.project(mark.at))
        content = '<use href="#guide-body"/>'
        jx, jy = (float(c) for c in camera.project(mark.centre))
        content += tag("circle", class_="g-joint", cx=jx, cy=jy, r=1.1)
        for _, at in mark.taken_for:
            x, y = (float(c) for c in camera.project(at))
            d = f"M{x - 0.9:.1f} {y - 0.9:.1f}l1.8 1.8m0 -1.8l-1.8 1.8"
            content += tag("path", class_="g-wrong", d=d)
        content += tag("circle", class_="g-right", cx=u, cy=v, r=1.7)
        content += tag("path", class_="g-tick", d=f"M{u - 0.8:.2f} {v:.2f}l0.6 0.7l1.1 -1.4")
        box = f"{u - CLOSE_WIDE / 2:.1f} {v - CLOSE_HIGH / 2:.1f} {CLOSE_WIDE:g} {CLOSE_HIGH:g}"
        label = f"{m.label}, from near by"
        svg = tag(
            "svg",
            title(label) + content,
            viewBox=box,
            class_="glyph nearby-drawing",
            role="img",
            aria_label=label,
        )
        drawn.append((m.id, svg, tuple(words for words, _ in mark.taken_for)))
    return tuple(drawn)


def _marked(
    pose: Pose, side: str, variant: Mapping[str, str]
) -> tuple[Figure, Camera, dict[str, SkinMark]]:
    value = within(pose, 0.6)
    figure = on_mat(pose, side, value, variant=variant)
    camera = filling([figure.points], _lift(pose))
    return figure, camera, skin_marks(pose, side, figure, variant)


def _bones(points: Landmarks, camera: Camera) -> str:
    """Thighs, shins and the line of the hips, drawn through the body."""
    lines = ""
    for a, b in (
        ("left.hip", "right.hip"), ("left.hip", "left.knee"), ("left.knee", "left.ankle"),
        ("right.hip", "right.knee"), ("right.knee", "right.ankle"),
    ):  # fmt: skip
        (x1, y1), (x2, y2) = camera.project(points[a]), camera.project(points[b])
        lines += tag("path", class_="g-bone", d=f"M{x1:.1f} {y1:.1f}L{x2:.1f} {y2:.1f}")
    return lines


def _lift(pose: Pose) -> float:
    return 0.45 if pose.camera.height_cm > 100 else 0.08


@lru_cache(maxsize=512)
def glyph(pose: Pose, side: str = "right", share: float = 0.6) -> str:
    """Return the pose as a small picture; ``share`` of its range, 0 to 1."""
    value = within(pose, share)
    own = shown_side(pose, side)
    points, camera = _staged(pose, own, value, pose.default_variant())
    return framed(silhouette(points, camera, supports_under(pose.figure, own, points)), pose.name)


def framed(content: str, heading: str) -> str:
    """A drawing of the usual size with its heading."""
    return tag(
        "svg",
        title(heading) + content,
        xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(WIDTH)} {number(HEIGHT)}",
        class_="glyph",
        role="img",
        aria_label=heading,
    )


def _staged(
    pose: Pose, side: str, value: float, variant: Mapping[str, str]
) -> tuple[Landmarks, Camera]:
    """The posed figure and a camera that fills the drawing with it."""
    points = on_mat(pose, side, value, variant=variant).points
    return points, filling([points], _lift(pose))


def filling(positions: list[Landmarks], lift: float) -> Camera:
    """A camera far off that fills the drawing with the figure in all its positions.

    ``lift`` is its height as a share of its distance; above 5 it looks straight down.
    """
    body = np.array(
        [
            p + r * d
            for points in positions
            for a, b, ra, rb, _ in bones(ANYBODY, points)
            for p, r in ((a, ra), (b, rb))
            for d in _AROUND
        ]
    )
    middle = (body.min(axis=0) + body.max(axis=0)) / 2
    distance = 700.0
    if lift > 5:
        eye = (float(middle[0]), float(middle[1]), distance)
        camera = look_from(eye, 0.0, -90.0, 0.0, 100.0, int(WIDTH), int(HEIGHT))
    else:
        eye = (float(middle[0]), -distance, float(middle[2]) + lift * distance)
        pitch = -float(np.degrees(np.arctan2(lift * distance, distance + middle[1])))
        camera = look_from(eye, 0.0, pitch, 0.0, 100.0, int(WIDTH), int(HEIGHT))
    seen = camera.project(body)
    low, high = seen.min(axis=0), seen.max(axis=0)
    room = np.array([WIDTH - 10, HEIGHT - 10])
    scale = float((room / np.maximum(high - low, 1e-6)).min())
    centre = np.array([WIDTH / 2, HEIGHT / 2]) - scale * ((low + high) / 2 - camera.centre)
    return Camera(camera.rotation, camera.translation, camera.focal_px * scale, centre)


def silhouette(
    points: Landmarks, camera: Camera, supports: list[tuple[Array, Array, float]]
) -> str:
    """Round-ended strokes for every bone and support, the furthest first."""
    parts = []
    for a, b, ra, rb, cloth in bones(ANYBODY, points):
        pa, pb = camera.project(a), camera.project(b)
        depth = float((camera.rotation @ ((a + b) / 2) + camera.translation)[2])
        radius = camera.focal_px * (ra + rb) / 2 / depth
        parts.append((depth, pa, pb, radius, cloth))
    for a, b, radius_cm in supports:
        pa, pb = camera.project(a), camera.project(b)
        depth = float((camera.rotation @ ((a + b) / 2) + camera.translation)[2]) + 40.0
        parts.append((depth, pa, pb, camera.focal_px * radius_cm / depth, "prop"))
    out = []
    for _, pa, pb, radius, cloth in sorted(parts, key=lambda p: -p[0]):
        width = 2.0 * radius
        for kind, extra in (("g-edge", 2.0), (f"g-{cloth}", 0.0)):
            # A tenth of a unit is less than a screen shows; a point still has a round end.
            (x1, y1), (x2, y2) = pa.round(1), pb.round(1)
            out.append(
                tag(
                    "path",
                    class_=kind,
                    d=f"M{x1:g} {y1:g}L{x2 + 0.01 * (x1 == x2):g} {y2:g}",
                    stroke_width=round(width + extra, 1),
                )
            )
    return "".join(out)
