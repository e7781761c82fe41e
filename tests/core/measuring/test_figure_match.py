"""The figure laid over marks: right poses fit, wrong ones do not, and the head is under the circle."""

import unittest

import numpy as np

from dachi.core.body.figure import Body
from dachi.core.body.posing import mark_points
from dachi.core.measuring.figure_match import MISFIT_LIMIT, match_figure
from dachi.data import catalogue
from dachi.simulation.camera import Shot, Stage, set_up


def stages(pose_id: str, seed: int, count: int) -> list[tuple[str, Stage]]:
    """Scattered stagings of a pose: other bodies, cameras and heads than the fit assumes."""
    pose = catalogue().pose(pose_id)
    rng = np.random.default_rng(seed)
    found = []
    for i in range(count):
        side = "both" if pose.sides == "both" else ("left", "right")[i % 2]
        nod = {"neck_flexion": rng.normal(0, 15)}
        if pose.figure.posture == "upright":
            nod["spine_flexion"] = rng.normal(0, 8)
        shot = Shot(
            side,
            rng.uniform(pose.figure.low, pose.figure.high),
            yaw_deg=rng.uniform(-20, 20),
            height_cm=pose.camera.height_cm * rng.uniform(0.85, 1.15),
            distance_cm=pose.camera.distance_cm * rng.uniform(0.9, 1.25),
            scatter_deg=5,
            body=Body(rng.uniform(150, 192)),
            extra=nod,
            seed=i,
        )
        found.append((side, set_up(pose, shot)))
    return found


class TheFit(unittest.TestCase):
    def test_every_pose_fits_its_own_marks_and_covers_the_head(self) -> None:
        covered = total = 0
        for pose in catalogue().poses:
            for side, stage in stages(pose.id, 7, 10):
                marks = {k: p for k, p in stage.marks_px.items() if k in pose.required}
                found = match_figure(pose, side, {}, marks)
                with self.subTest(pose.id):
                    self.assertLess(found.misfit, MISFIT_LIMIT)
                head = stage.camera.project(stage.points["head"])
                depth = (stage.camera.rotation @ stage.points["head"] + stage.camera.translation)[2]
                skull = 9.4 * stage.camera.focal_px / float(depth)
                off = float(np.hypot(head[0] - found.head.x, head[1] - found.head.y))
                covered += off + 0.8 * skull <= found.head.radius
                total += 1
        self.assertGreaterEqual(covered, 0.97 * total, f"{covered} of {total}")

    def test_other_poses_do_not_pass_for_a_leg_raise_or_a_lunge(self) -> None:
        for wanted, others in (
            ("supine-leg-raise", ("front-split", "butterfly", "deep-squat", "half-split")),
            ("low-lunge", ("supine-leg-raise", "straddle", "forward-fold")),
        ):
            pose = catalogue().pose(wanted)
            for other in others:
                for side, stage in stages(other, 3, 4):
                    own = side if side != "both" else "right"
                    points = mark_points(pose.marks, own, stage.points)
                    marks = {
                        k: (float(p[0]), float(p[1]))
                        for k, p in ((k, stage.camera.project(q)) for k, q in points.items())
                        if k in pose.required
                    }
                    with self.subTest(f"{other} as {wanted}"):
                        self.assertGreater(match_figure(pose, own, {}, marks).misfit, MISFIT_LIMIT)

    def test_a_similarity_moves_the_head_along(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        side, stage = stages(pose.id, 5, 1)[0]
        marks = {k: np.array(p) for k, p in stage.marks_px.items() if k in pose.required}
        before = match_figure(pose, side, {}, {k: (p[0], p[1]) for k, p in marks.items()})
        moved = {k: (0.5 * p[0] + 40, 0.5 * p[1] + 90) for k, p in marks.items()}
        after = match_figure(pose, side, {}, moved)
        self.assertAlmostEqual(after.misfit, before.misfit, places=9)
        self.assertAlmostEqual(after.head.x, 0.5 * before.head.x + 40, places=6)
        self.assertAlmostEqual(after.head.y, 0.5 * before.head.y + 90, places=6)
        self.assertAlmostEqual(after.head.radius, 0.5 * before.head.radius, places=6)

    def test_marks_that_tell_nothing(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        with self.assertRaises(ValueError):
            match_figure(pose, "left", {}, {"hip": (5, 5)})
        self.assertFalse(match_figure(pose, "left", {}, {"hip": (5, 5), "knee": (5, 5)}).fits)
