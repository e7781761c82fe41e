"""The mat's outline on floors drawn here, its corners known from a pinhole."""

import unittest

import cv2
import numpy as np

from dachi.core.body.pinhole import CORNERS, look_from, mat_points
from dachi.data import catalogue
from dachi.photos.mat_outline import find_mat
from dachi.photos.mat_patches import four_cornered
from tests import slow

SIZE = (1600, 1200)
FLOOR, MAT = (150, 120, 90), (40, 90, 130)


def drawn(
    pose_id: str, yaw: float, mat: tuple[int, int, int] = MAT, seed: int = 1
) -> tuple[np.ndarray, dict[str, tuple[float, float]]]:
    """A floor with a mat on it under a wall, some noise, and where the corners are."""
    pose = catalogue().pose(pose_id)
    stand, a = pose.camera, np.radians(yaw)
    eye = (-stand.distance_cm * np.sin(a) * 1.1, -stand.distance_cm * np.cos(a) * 1.1)
    pitch = -np.degrees(np.arctan2(stand.height_cm - stand.look_at_cm, stand.distance_cm * 1.1))
    camera = look_from((*eye, stand.height_cm), yaw, pitch, 0.7, 26.0, *SIZE)
    corners = camera.project(mat_points(183, 61, pose.view))
    image = np.full((SIZE[1], SIZE[0], 3), FLOOR, np.uint8)
    image[: SIZE[1] // 3] = (205, 200, 190)
    cv2.fillPoly(image, [(corners * 16).round().astype(np.int32)], mat, cv2.LINE_AA, 4)
    noise = np.random.default_rng(seed).normal(0, 5, image.shape)
    image = np.clip(cv2.GaussianBlur(image, (0, 0), 0.8) + noise, 0, 255).astype(np.uint8)
    return image, {n: (x, y) for n, (x, y) in zip(CORNERS, corners.tolist(), strict=True)}


class Outlines(unittest.TestCase):
    # An edge is taken where it begins, since real mats are thick: up to 3 px inside a thin one.

    @slow("renders many pictures")
    def test_a_mat_that_stands_out_is_found_to_some_pixels(self) -> None:
        for pose_id, yaw in (("supine-leg-raise", 12.0), ("straddle", -8.0)):
            with self.subTest(pose_id):
                image, true = drawn(pose_id, yaw)
                side = "left" if pose_id == "supine-leg-raise" else "both"
                found = find_mat(image, catalogue().pose(pose_id), side, (183.0, 61.0), 26.0, None)
                assert found is not None
                for name, at in true.items():
                    off = np.hypot(*np.subtract(found.corners[name], at))
                    self.assertLess(off, 4.0, name)
                    self.assertLess(off, 3.5 * found.sds_px[name], name)

    def test_a_picture_beside_it_tells_where_to_look_first(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        image, true = drawn("supine-leg-raise", 12.0)
        near = {n: (x + 9, y - 4) for n, (x, y) in true.items()}
        small = cv2.resize(image, (800, 600), interpolation=cv2.INTER_AREA)
        halved = {n: (x / 2, y / 2) for n, (x, y) in near.items()}
        found = find_mat(small, pose, "left", (183.0, 61.0), 26.0, None, near=halved)
        assert found is not None
        for name, (x, y) in true.items():
            self.assertLess(np.hypot(*np.subtract(found.corners[name], (x / 2, y / 2))), 2.5)

    def test_a_person_in_the_way_is_not_an_edge(self) -> None:
        """A dark bar across two edges: without knowing of it corners stray, with it they do not."""
        pose = catalogue().pose("supine-leg-raise")
        image, true = drawn("supine-leg-raise", 12.0)
        at = np.array([true[n] for n in CORNERS])
        hidden = np.zeros(image.shape[:2], np.uint8)
        (ax, ay), (bx, by) = at[[0, 1]].mean(axis=0), at[[2, 3]].mean(axis=0)
        cv2.line(hidden, (round(ax), round(ay + 30)), (round(bx), round(by - 60)), 1, 260)
        image[hidden > 0] = (30, 25, 25)
        found = find_mat(image, pose, "left", (183.0, 61.0), 26.0, None, hidden > 0)
        assert found is not None
        for name, corner in true.items():
            self.assertLess(np.hypot(*np.subtract(found.corners[name], corner)), 6.0, name)

    def test_no_mat_is_none(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        image, _ = drawn("supine-leg-raise", 12.0, mat=FLOOR)
        self.assertIsNone(find_mat(image, pose, "left", (183.0, 61.0), 26.0, None))


class Patches(unittest.TestCase):
    def test_a_patch_that_a_person_divides_is_one(self) -> None:
        image, true = drawn("supine-leg-raise", 12.0)
        small = cv2.resize(image, (480, 360), interpolation=cv2.INTER_AREA)
        lab = cv2.cvtColor(small, cv2.COLOR_RGB2LAB).astype(np.float32)
        corners = np.array([true[n] for n in CORNERS]) * 0.3
        middle = corners[:, 0].mean()
        nobody, across, all_of_it = (np.zeros(small.shape[:2], bool) for _ in range(3))
        across[:, int(middle) - 20 : int(middle) + 20] = True
        all_of_it[:] = True
        for hidden in (nobody, across):
            gaps = [
                min(float(np.abs(np.roll(way, k, axis=0) - corners).max())
                    for k in range(4) for way in (four, four[::-1]))
                for four in four_cornered(lab, hidden)
            ]  # fmt: skip
            self.assertLess(min(gaps), 3.0)
        self.assertEqual(four_cornered(lab, all_of_it), [])
