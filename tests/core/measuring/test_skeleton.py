"""The skeleton: its positions against the articulated figure, its slopes against differences."""

import unittest

import numpy as np

from dachi.core.body.figure import Body, Pose3D, landmarks, root_axes
from dachi.core.measuring import skeleton
from dachi.core.measuring.skeleton import INDEX, NAMES, SIZE, Point, Points, joint_point

JOINTS = [f"{s}.{j}" for s in ("left", "right") for j in ("hip", "knee", "ankle")]


def somebody(seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    x = np.zeros((1, SIZE))
    x[0, :3] = rng.normal(size=3) * 20
    x[0, skeleton.ANGLES] = rng.normal(size=15) * 0.7
    x[0, skeleton.FIRST_LENGTH :] = skeleton.USUAL_LENGTHS + rng.normal(size=5)
    return x


class Places(unittest.TestCase):
    def test_legs_lie_where_the_figures_do(self) -> None:
        """Another implementation of the same angles, written before this one."""
        body = Body()
        for seed, (posture, heading) in enumerate(
            [("upright", "right"), ("supine", "left"), ("upright", "camera"), ("prone", "away")]
        ):
            x = somebody(seed)
            x[0, [INDEX["half_hips"], INDEX["thigh"], INDEX["shin"]]] = 9.0, body.thigh, body.shin
            joints = {n: float(np.degrees(x[0, INDEX[n]])) for n in NAMES[3:18] if "spine" not in n}
            truth = landmarks(body, Pose3D(posture, heading, joints))
            points = Points([joint_point(n) for n in JOINTS])
            posed = skeleton.pose(x, root_axes(posture, heading).T)
            at = points.at(x, posed)[0]
            for name, p in zip(JOINTS, at, strict=True):
                apart = (p - at[0]) - (truth[name] - truth["left.hip"])
                np.testing.assert_allclose(apart, 0, atol=1e-9, err_msg=f"{posture} {name}")

    def test_a_body_standing_still(self) -> None:
        """By hand: feet under the hips, shoulders over them, everything in one plane but depth."""
        x = np.zeros((1, SIZE))
        x[0, skeleton.FIRST_LENGTH :] = 9.0, 40.0, 41.0, 50.0, 18.0
        points = Points([joint_point(n) for n in ("left.ankle", "right.knee", "left.shoulder")])
        at = points.at(x, skeleton.pose(x, root_axes("upright", "camera").T))[0]
        # Facing the camera the left side is on the right of the picture, the front towards it.
        np.testing.assert_allclose(at[0], (9.0, 0.0, -81.0), atol=1e-9)
        np.testing.assert_allclose(at[1], (-9.0, 0.0, -40.0), atol=1e-9)
        np.testing.assert_allclose(at[2], (17.0, 2.0, 50.0), atol=1e-9)


class Slopes(unittest.TestCase):
    def test_every_unknown_by_differences(self) -> None:
        points = Points(
            [
                *(joint_point(n) for n in [*JOINTS, "left.shoulder", "right.shoulder", "pelvis"]),
                Point("right.thigh", (1.0, 2.0, 3.0), "right", of_thigh=0.5),
                Point("left.shin", (1.0, -2.0, 3.0), of_shin=1.0),
                Point("right.foot", (1.0, 2.0, 3.0), "right", of_foot=(0.5, 0, -0.2)),
                Point("lumbar", (0.0, 12.0, 0.0), "right", of_trunk=(0.05, 0, 0.25)),
                Point("left.thigh", (-1.3, 8.8, -0.5), behind=0.5),
                Point("right.thigh", (-1.3, 8.8, -0.5), "right", behind=0.3),
                Point("pelvis", (6.0, 3.5, 8.5), "right", of_hips=1.0),
            ]
        )
        root = root_axes("supine", "left").T
        for seed in range(3):
            x = somebody(seed)
            posed = skeleton.pose(x, root)
            found = points.slopes(points.at(x, posed)[0], posed)
            h = 1e-6
            for i, name in enumerate(NAMES):
                up, down = x.copy(), x.copy()
                up[0, i] += h
                down[0, i] -= h
                ends = [points.at(y, skeleton.pose(y, root))[0] for y in (up, down)]
                want = (ends[0] - ends[1]) / (2 * h)
                np.testing.assert_allclose(found[:, :, i], want, atol=1e-6, err_msg=name)

    def test_skin_that_slides_stays_between_pelvis_and_thigh(self) -> None:
        x = somebody(4)
        root = root_axes("upright", "right").T
        step = (-1.3, 8.8, -0.5)
        kinds = [Point("left.thigh", step, behind=b) for b in (0.0, 0.5, 1.0)]
        at = Points(kinds).at(x, skeleton.pose(x, root))[0]
        np.testing.assert_allclose(at[1], (at[0] + at[2]) / 2, atol=1e-12)
