"""What is known of some misses says of the others."""

import unittest

import numpy as np

from dachi.core.measuring.together import HAND_CM, Together, read_together, write_together
from dachi.data import catalogue, habits, together


def table(rho: float, sd: float = 2.0) -> Together:
    """Two marks whose misses ahead go together by ``rho``, and down not at all; cm."""
    c = sd**2 * np.eye(4)
    c[0, 2] = c[2, 0] = rho * sd**2
    return Together(("hip", "knee"), c)


class Together_(unittest.TestCase):
    def test_the_others_lie_where_many_draws_have_them(self) -> None:
        rng = np.random.default_rng(5)
        root = rng.normal(0, 1.5, (6, 6))
        some = Together(("a", "b", "c"), root @ root.T + 0.5 * np.eye(6))
        drawn = rng.multivariate_normal(np.zeros(6), some.covariance, 400_000)
        touched = drawn[:, :2] + rng.normal(0, HAND_CM, (len(drawn), 2))
        # What draws say by least squares, which knows nothing of the formula.
        slopes = np.linalg.lstsq(touched, drawn, rcond=None)[0]
        mean = np.array([1.2, -0.8]) @ slopes
        told = some.given({"a": (1.2, -0.8)})
        self.assertEqual(set(told), {"b", "c"})
        np.testing.assert_allclose([*told["b"], *told["c"]], mean[2:], atol=0.02)

    def test_by_hand(self) -> None:
        # rho sd^2 / (sd^2 + hand^2) of two unknowns: 0.9 * 4 / 5 = 0.72 a cm.
        ahead, down = table(0.9).given({"hip": (1.0, 5.0)})["knee"]
        self.assertAlmostEqual(ahead, 0.72)
        self.assertAlmostEqual(down, 0.0)
        self.assertEqual(table(0.0).given({"hip": (3.0, 3.0)})["knee"], (0.0, 0.0))
        self.assertEqual(table(0.9).given({}), {})
        self.assertEqual(table(0.9).given({"toe": (3.0, 3.0)}), {})

    def test_what_no_network_misses_by_drags_nothing_along(self) -> None:
        far = table(0.9).given({"hip": (40.0, 0.0)})["knee"][0]
        self.assertAlmostEqual(far, table(0.9).given({"hip": (6.0, 0.0)})["knee"][0])

    def test_what_ships_is_read_as_it_is_written_and_of_its_poses(self) -> None:
        for pose, one in together().items():
            self.assertLessEqual(set(one.marks), {m.id for m in catalogue().pose(pose).marks})
            self.assertEqual(set(one.marks), set(habits()[pose]))
            self.assertGreater(float(np.linalg.eigvalsh(one.covariance).min()), 0.0, pose)
            again = read_together(write_together({pose: one}))[pose]
            np.testing.assert_allclose(again.covariance, one.covariance, atol=1e-3)


if __name__ == "__main__":
    unittest.main()
