"""The figure laid over marks: right poses, wrong poses, and heads hidden."""

from __future__ import annotations

import numpy as np

from dachi.core.body.figure import Body
from dachi.core.body.posing import mark_points
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.figure_match import MISFIT_LIMIT, match_figure
from dachi.data import catalogue
from dachi.simulation.camera import Shot, Stage, set_up

RIGHT, WRONG = 60, 3


def staged(pose: Pose, number: int, rng: np.random.Generator) -> tuple[str, Stage]:
    """A pose with scatter, another body, a moved camera, a bent neck and spine."""
    side = "both" if pose.sides == "both" else ("left", "right")[number % 2]
    extra = {"neck_flexion": rng.normal(0, 15)}
    if pose.figure.posture == "upright":
        extra["spine_flexion"] = rng.normal(0, 10)
    height, distance = pose.camera.height_cm, pose.camera.distance_cm
    shot = Shot(
        side,
        rng.uniform(pose.figure.low, pose.figure.high),
        yaw_deg=rng.uniform(-20, 20),
        height_cm=height * rng.uniform(0.8, 1.2),
        distance_cm=distance * rng.uniform(0.9, 1.25),
        scatter_deg=5,
        body=Body(rng.uniform(150, 192)),
        extra=extra,
        seed=number,
        width=1600,
        height=1200,
    )
    return side, set_up(pose, shot)


def main() -> None:
    """Print a row a pose: misfit of right marks, wrong poses caught, heads covered."""
    rng = np.random.default_rng(1)
    print(f"{'pose':26} right median/max  wrong caught  head hidden  circle (heads)")
    every, caught_all, hidden_all = [], [], []
    for pose in catalogue().poses:
        misfits, hidden, size = [], [], []
        for i in range(RIGHT):
            side, stage = staged(pose, i, rng)
            marks = {
                k: (x + rng.normal(0, 3), y + rng.normal(0, 3))
                for k, (x, y) in stage.marks_px.items()
                if k in pose.required
            }
            found = match_figure(pose, side, {}, marks)
            misfits.append(found.misfit)
            head = stage.points["head"]
            x, y = stage.camera.project(head)
            depth = float((stage.camera.rotation @ head + stage.camera.translation)[2])
            skull = 9.4 * stage.camera.focal_px / depth
            off = float(np.hypot(x - found.head.x, y - found.head.y))
            hidden.append(off + 0.9 * skull <= found.head.radius)
            size.append(found.head.radius / skull)
        caught = []
        for other in catalogue().poses:
            if pose.id in (other.id, other.companion_of) or other.id == pose.companion_of:
                continue
            for i in range(WRONG):
                side, stage = staged(other, i, rng)
                own = "both" if pose.sides == "both" else "right" if side == "both" else side
                points = mark_points(pose.marks, own, stage.points)
                seen = {k: stage.camera.project(points[k]) for k in pose.required}
                marks = {k: (float(p[0]), float(p[1])) for k, p in seen.items()}
                caught.append(match_figure(pose, own, {}, marks).misfit > MISFIT_LIMIT)
        every += misfits
        caught_all += caught
        hidden_all += hidden
        print(
            f"{pose.id:26} {np.median(misfits):.3f} / {max(misfits):.3f}   {np.mean(caught):9.0%}"
            f"   {np.mean(hidden):9.0%}      {np.median(size):.1f}"
        )
    refused = np.mean(np.array(every) > MISFIT_LIMIT)
    print(
        f"all: right marks refused {refused:.1%}, wrong poses caught {np.mean(caught_all):.0%}, "
        f"heads hidden {np.mean(hidden_all):.1%} of {len(hidden_all)}"
    )
