"""Where the camera stands, drawn from above: mat, person, stand, distance and height."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from dachi.core.body.figure import bones
from dachi.core.body.staging import ANYBODY, on_mat, within
from dachi.core.catalogue.poses import Pose
from dachi.drawing.axes import number, tag, text, title

WIDTH, HEIGHT = 240.0, 170.0
_MAT_CM = (183.0, 61.0)


@lru_cache(maxsize=128)
def stand(pose: Pose, side: str) -> str:
    """Return the set-up of a pose as SVG, camera at the bottom, in true proportions."""
    points = on_mat(pose, side, within(pose, 0.6)).points
    long, wide = _MAT_CM
    across, deep = (long, wide) if pose.view == "side" else (wide, long)
    distance = pose.camera.distance_cm
    top, bottom = deep / 2 + 12, -distance - 14
    scale = min((HEIGHT - 8) / (top - bottom), (WIDTH - 70) / max(across, 150))

    def at(x: float, y: float) -> tuple[float, float]:
        return WIDTH / 2 - 18 + scale * x, 4 + scale * (top - y)

    x0, y0 = at(-across / 2, deep / 2)
    parts = [
        tag("rect", class_="s-mat", x=x0, y=y0, width=scale * across, height=scale * deep, rx=2),
    ]
    for a, b, ra, rb, cloth in bones(ANYBODY, points):
        (ax, ay), (bx, by) = at(float(a[0]), float(a[1])), at(float(b[0]), float(b[1]))
        parts.append(
            tag(
                "line", class_=f"g-{cloth}", x1=ax, y1=ay, x2=bx + 0.01, y2=by,
                stroke_width=scale * (ra + rb), stroke_linecap="round",
            )
        )  # fmt: skip
    cx, cy = at(0, -distance)
    ex, ey = at(0, -deep / 2)
    parts.append(tag("line", class_="s-way", x1=cx, y1=cy - 8, x2=ex, y2=ey))
    lens = np.array([[-7, 8], [7, 8], [7, 0], [3, 0], [3, -5], [-3, -5], [-3, 0], [-7, 0]])
    parts.append(
        tag(
            "polygon", class_="s-camera",
            points=" ".join(f"{number(cx + float(x))},{number(cy + float(y))}" for x, y in lens),
        )
    )  # fmt: skip
    parts.append(text(f"{distance:.0f} cm", x=cx + 12, y=(cy + ey) / 2 + 4, class_="s-word"))
    parts.append(
        text(
            f"lens {pose.camera.height_cm:.0f} cm up",
            x=cx + 12,
            y=cy + 6,
            class_="s-word",
        )
    )
    heading = (
        f"Seen from above: the camera {distance:.0f} cm from the middle of the mat, "
        f"{pose.camera.stand}"
    )
    return tag(
        "svg",
        title(heading) + "".join(parts),
        xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(WIDTH)} {number(HEIGHT)}",
        class_="stand",
        role="img",
        aria_label=heading,
    )
