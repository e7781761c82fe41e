"""An outline is refused where the person on it would be of no person's size."""

import unittest
from unittest import mock

import numpy as np

from dachi.data import catalogue
from dachi.photos.mat_outline import Outline
from dachi.studio.bench import mat_seen, seen_joints
from tests import slow
from tests.studio.test_seen_joints import told


class Size(unittest.TestCase):
    @slow("renders many pictures")
    def test_only_the_person_tells_a_mat_from_a_larger_one_of_its_shape(self) -> None:
        for name in ("low-lunge", "butterfly"):
            image, truth = told(name)
            pose = catalogue().pose(name)
            side = truth["side"] if pose.sides != "both" else "both"
            seen = seen_joints.see(image, pose, side, pose.default_variant())
            corners = {n: (x, y) for n, (x, y) in truth["corners"].items()}
            outline = Outline(corners, dict.fromkeys(corners, 1.5))
            for times, taken in ((1.0, True), (1.4, False), (0.6, False)):
                with (
                    self.subTest(name, times=times),
                    mock.patch.object(mat_seen, "find_mat", return_value=outline),
                ):
                    length, width = (times * cm for cm in truth["mat"])
                    found = mat_seen.mat_seen(
                        image, pose, side, (length, width), truth["focal_35mm"], seen
                    )
                    self.assertEqual(found is not None, taken)

    def test_where_nobody_was_seen_the_outline_stands_by_itself(self) -> None:
        pose = catalogue().pose("butterfly")
        outline = Outline({}, {})
        with mock.patch.object(mat_seen, "find_mat", return_value=outline):
            grey = np.full((60, 80, 3), 128, np.uint8)
            found = mat_seen.mat_seen(grey, pose, "both", (183.0, 61.0), 26.0, None)
        self.assertIs(found, outline)


if __name__ == "__main__":
    unittest.main()
