"""Known segment lengths against closed forms, and rays against planes and spheres."""

import math
import unittest
from dataclasses import replace

import numpy as np

from dachi.core.body.pinhole import look_from
from dachi.core.measuring.assumptions import Assumptions
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.lengths import (
    along_sight,
    fold_in,
    length_sds,
    turned_about_sight,
    under_floor,
)
from dachi.core.measuring.mark_planes import RayPlanes, StepOrder
from dachi.core.measuring.perturbations import solve
from dachi.data import catalogue
from dachi.simulation.camera import Shot, set_up
from tests import slow
from tests.support import scene_of


def placed(pose_id: str, shot: Shot, **more):
    """A scene through its true camera: the bench, the marks and where they were put."""
    pose = catalogue().pose(pose_id)
    stage = set_up(pose, shot)
    scene = scene_of(pose_id, shot, **more)
    exact = CameraEstimate(stage.camera, np.zeros((7, 7)), "mat")
    marks = tuple(m for m in pose.marks if m.id in scene.marks)
    bench = RayPlanes(scene, pose, marks, exact)
    px = np.array([scene.marks[m.id] for m in marks])
    return pose, stage, scene, exact, marks, bench, bench.place_once(px)


class Planes(unittest.TestCase):
    def test_every_mark_lands_in_its_plane_on_its_ray(self) -> None:
        for pose_id, side in (("half-split", "right"), ("straddle", "both"), ("butterfly", "both")):
            pose, stage, _, _, marks, _, points = placed(
                pose_id,
                Shot(
                    side,
                    80.0
                    if side == "both" and pose_id == "straddle"
                    else 14.0
                    if side == "both"
                    else 95.0,
                    yaw_deg=7,
                ),
            )
            for m, p in zip(marks, points, strict=True):
                with self.subTest(pose_id, mark=m.id):
                    np.testing.assert_allclose(
                        stage.camera.project(p), stage.marks_px[m.id], atol=1e-6
                    )
                    if m.plane == "level":
                        self.assertAlmostEqual(p[2], m.height_cm)
                    if m.plane == "near":
                        self.assertAlmostEqual(p[1], -16.0 - m.forward_cm)
                    if m.plane == "mid":
                        self.assertAlmostEqual(p[1], -m.forward_cm)
                    if m.id == pose.floor_mark:
                        self.assertAlmostEqual(p[2], pose.floor_height_cm)

    def test_a_reach_ends_on_the_sphere_nearer_the_camera(self) -> None:
        shot = Shot("left", 35.0)
        _, stage, scene, _, marks, _, points = placed("standing-knee-open", shot, mode="active")
        at = {m.id: p for m, p in zip(marks, points, strict=True)}
        self.assertAlmostEqual(
            float(np.linalg.norm(at["knee"] - at["hip"])), scene.segments_cm["thigh"]
        )
        eye = stage.camera.position
        self.assertLess(np.linalg.norm(at["knee"] - eye), np.linalg.norm(at["hip"] - eye))

    def test_a_ray_that_misses_the_sphere_meets_its_nearest_point(self) -> None:
        """A thigh seen longer than it is lies square to the line of sight."""
        shot = Shot("left", 74.0)
        short = {"thigh": 30.0, "shin": 41.0}
        _, _, _, _, marks, _, points = placed(
            "standing-knee-open", shot, mode="active", segments_cm=short
        )
        self.assertTrue(np.isfinite(points).all())
        at = {m.id: p for m, p in zip(marks, points, strict=True)}
        self.assertGreater(np.linalg.norm(at["knee"] - at["hip"]), 30.0)

    def test_layout_steps_one_thing_at_a_time(self) -> None:
        layout = StepOrder(3, 2)
        px = np.arange(6.0).reshape(3, 2)
        steps = np.array([[1.0, 0, 0], [0, 2.0, 2.0]])
        pixels, depths, contact = layout.inputs(
            np.zeros(layout.n), px, np.array([3.0, 3, 3]), steps, 0.7
        )
        n = layout.n
        self.assertEqual((n, pixels.shape), (16, (33, 3, 2)))
        changed = (
            (np.abs(pixels - px).sum(axis=(1, 2)) > 0)
            | (np.abs(depths).sum(axis=1) > 0)
            | (contact != 0)
        )
        # Row 0 and the camera's fourteen rows touch none of these; each other row touches one.
        self.assertEqual(
            [int(i) for i in np.flatnonzero(~changed)], [0, *range(1, 8), *range(n + 1, n + 8)]
        )
        np.testing.assert_allclose(pixels[1 : n + 1] - px, -(pixels[n + 1 :] - px))
        np.testing.assert_allclose(depths[1 : n + 1], -depths[n + 1 :])


class Folding(unittest.TestCase):
    def test_one_length_is_the_textbook_update(self) -> None:
        """x ~ N(0, 1), length = 40 + 3 x measured as 43 with sd 1: mean 0.9, variance 0.1."""
        pose = catalogue().pose("half-split")
        scene = replace(scene_of("half-split", Shot("right", 90.0)), segments_cm={"thigh": 43.0})
        marks = tuple(pose.mark(i) for i in ("hip", "front_knee"))
        n = 4
        solved = np.zeros((2 * n + 1, 2, 3))
        solved[:, 1, 0] = 40.0
        solved[1, 1, 0], solved[n + 1, 1, 0] = 43.0, 37.0
        a = replace(Assumptions(), segment_sd_cm=1.0)
        found = fold_in(scene, marks, [marks[1]], solved, np.zeros(n), a)
        self.assertAlmostEqual(found.mean[0], 0.9)
        self.assertAlmostEqual(found.covariance[0, 0], 0.1)
        np.testing.assert_allclose(found.mean[1:], 0)
        np.testing.assert_allclose(found.covariance[1:, 1:], np.eye(3))
        self.assertAlmostEqual(found.misfit, 0.9**2 + 0.3**2)
        self.assertAlmostEqual(found.spreads_cm[0], 3.0)
        self.assertAlmostEqual(found.log_weight, -(0.9 + math.log(10.0)) / 2)
        # A length no such spread explains is not believed.
        far = replace(scene, segments_cm={"thigh": 60.0})
        ignored = fold_in(far, marks, [marks[1]], solved, np.zeros(n), a)
        np.testing.assert_allclose(ignored.mean, 0)

    @slow("Monte Carlo")
    def test_length_spread_against_repeated_clicking(self) -> None:
        shot = Shot("right", 95.0, yaw_deg=6, width=1600, height=1200)
        pose, _, scene, exact, marks, _, _ = placed("half-split", shot, segments_cm={})
        none = Assumptions(0, 0, 0, 0, 0, 1e-3, 0, 0)
        (batch,) = solve(scene, pose, marks, exact, none)
        solved = np.stack([batch.points[m.id] for m in marks], axis=1)
        stated = length_sds(marks, solved, (len(solved) - 1) // 2)["front_knee"]
        rng = np.random.default_rng(8)
        seen = []
        for _ in range(400):
            clicked = scene_of("half-split", shot, noise=rng, segments_cm={})
            px = np.array([clicked.marks[m.id] for m in marks])
            at = dict(
                zip(
                    (m.id for m in marks),
                    RayPlanes(clicked, pose, marks, exact).place_once(px),
                    strict=True,
                )
            )
            seen.append(np.linalg.norm(at["front_knee"] - at["hip"]))
        self.assertAlmostEqual(stated, float(np.std(seen)), delta=0.12 * stated)

    def test_the_other_direction_has_the_same_length(self) -> None:
        """A straddled leg turned about the line of sight: same ray, same length, other angle."""
        shot = Shot("both", 110.0, height_cm=40, distance_cm=320)
        pose, stage, scene, exact, marks, _, points = placed("straddle", shot)
        batch = solve(scene, pose, marks, exact, Assumptions())
        self.assertGreater(len(batch), 1)
        at = {m.id: p[None] for m, p in zip(marks, points, strict=True)}
        shift = turned_about_sight(scene, marks, {"left_knee"}, at, stage.camera)
        i = [m.id for m in marks].index("left_knee")
        eye = stage.camera.position
        ray = points[i] - eye
        reach = (points[i][2] + shift[i] - eye[2]) / ray[2]
        turned = eye + reach * ray
        hip = at["left_hip"][0]
        self.assertAlmostEqual(
            float(np.linalg.norm(turned - hip)), scene.segments_cm["thigh"], places=5
        )
        self.assertEqual(float(np.abs(np.delete(shift, i)).sum()), 0.0)

    def test_limbs_along_the_sight_line(self) -> None:
        pose = catalogue().pose("straddle")
        known = [pose.mark(i) for i in ("left_knee", "left_ankle", "right_knee")]
        folded = fold_in(
            scene_of("straddle", Shot("both", 100.0)), tuple(pose.marks), [], np.zeros((3, 6, 3)),
            np.zeros(1), Assumptions(),
        )  # fmt: skip
        spread = replace(folded, spreads_cm=(9.0, 8.0, 1.0))
        self.assertEqual(along_sight(known, spread, 6.0), [["left_knee", "left_ankle"]])

    def test_under_the_floor(self) -> None:
        self.assertEqual(under_floor(np.array([[0, 0, 5.0], [0, 0, 0.0]])), 0.0)
        self.assertAlmostEqual(under_floor(np.array([[0, 0, -3.0], [0, 0, -6.0]])), 5.0)


class Horizon(unittest.TestCase):
    def test_a_camera_looking_up_sees_no_floor_there(self) -> None:
        camera = look_from((0, -300, 60), 0, 20, 0, 26, 1600, 1200)
        pose = catalogue().pose("straddle")
        scene = scene_of("straddle", Shot("both", 100.0, width=1600, height=1200))
        marks = tuple(pose.marks)
        bench = RayPlanes(scene, pose, marks, CameraEstimate(camera, np.zeros((7, 7)), "mat"))
        bench.place_once(np.full((len(marks), 2), 300.0))
        self.assertTrue(bench.behind.all())
