"""Formula kinds on points whose angles and lengths are known without the program."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dachi.core.catalogue.formula import FormulaError, Frame, parse

#: A right-angled scene: x right, y away, z up, centimetres.
POINTS = {
    "o": (0, 0, 0), "right": (10, 0, 0), "left": (-10, 0, 0), "up": (0, 0, 10), "down": (0, 0, -10),
    "away": (0, 10, 0), "near": (0, -10, 0), "ne": (10, 0, 10), "nw": (-10, 0, 10), "se": (10, 0, -10),
    "sw": (-10, 0, -10), "far_right": (10, 10, 0), "near_right": (10, -10, 0), "high": (3, 4, 12),
}  # fmt: skip
NAMES = frozenset(POINTS)


def value(
    text: str, plane: str = "upright", forward: float = 1.0, points=POINTS, **measures: float
) -> float:
    frame = Frame(
        {k: np.array([p], dtype=float) for k, p in points.items()}, plane, forward,
        {k: np.array([v]) for k, v in measures.items()},
    )  # fmt: skip
    return float(parse(text, NAMES, frozenset(measures))(frame)[0])


class Kinds(unittest.TestCase):
    def test_table(self) -> None:
        cases = [
            ("angle(right, o, up)", 90), ("angle(right, o, left)", 180), ("angle(ne, o, right)", 45),
            ("bend(left, o, right)", 0), ("bend(left, o, up)", 90), ("bend(left, o, ne)", 45),
            ("between(o, right, o, up)", 90), ("between(o, right, left, o)", 0),
            ("between_space(o, right, o, away)", 90), ("between_space(o, far_right, o, right)", 45),
            ("rise(o, right)", 0), ("rise(o, ne)", 45), ("rise(o, up)", 90), ("rise(o, nw)", 135),
            ("rise(o, se)", -45), ("rise(o, left)", 180),
            ("slope(o, ne)", 45), ("slope(ne, o)", -45), ("slope(o, nw)", 45), ("slope(o, sw)", -45),
            ("lean(o, up)", 0), ("lean(o, ne)", 45), ("lean(o, nw)", -45), ("lean(o, right)", 90),
            ("hang(o, down)", 0), ("hang(o, se)", 45), ("hang(o, sw)", -45), ("hang(o, right)", 90),
            ("through_floor(o, right, o, left)", 180), ("through_floor(o, se, o, sw)", 90),
            ("through_floor(o, ne, o, nw)", 270),
            ("turn(o, right)", 0), ("turn(o, far_right)", 45), ("turn(o, near_right)", -45),
            ("turn(far_right, o)", -45), ("opening(o, near)", 0), ("opening(o, near_right)", 45),
            ("opening(o, right)", 90),
            ("height(up)", 10), ("gap(o, high)", 13), ("ratio(o, high, o, up)", 1.3),
            ("ahead(left, right)", 20), ("drop(down, up)", 20),
            ("180 - angle(right, o, up)", 90), ("-hang(o, se) * 2 + 10 / 4", -87.5),
            ("max(rise(o, ne), 50)", 50), ("min(rise(o, ne), 50)", 45), ("abs(lean(o, nw))", 45),
        ]  # fmt: skip
        for text, expected in cases:
            with self.subTest(text):
                self.assertAlmostEqual(value(text), expected, places=9)

    def test_backwards_counts_from_the_other_end(self) -> None:
        self.assertAlmostEqual(value("rise(o, nw)", forward=-1.0), 45)
        self.assertAlmostEqual(value("lean(o, ne)", forward=-1.0), -45)
        self.assertAlmostEqual(value("ahead(left, right)", forward=-1.0), -20)
        self.assertAlmostEqual(value("opening(o, near_right)", forward=-1.0), -45)
        self.assertAlmostEqual(value("gap(o, high)", forward=-1.0), 13)

    def test_floor_plane_looks_from_above(self) -> None:
        self.assertAlmostEqual(value("angle(right, o, away)", plane="floor"), 90)
        self.assertAlmostEqual(value("bend(left, o, far_right)", plane="floor"), 45)

    def test_earlier_measures(self) -> None:
        self.assertAlmostEqual(value("lift - max(other, 0)", lift=80.0, other=-5.0), 80)

    def test_what_a_formula_is_known_by(self) -> None:
        deep = parse("opening(o, near)", NAMES, frozenset())
        size = parse("abs(slope(o, ne))", NAMES, frozenset())
        tall = parse("drop(o, up) + height(up)", NAMES, frozenset())
        self.assertTrue(deep.deep and not deep.in_cm and not deep.size_only)
        self.assertTrue(size.size_only and not size.deep)
        self.assertTrue(tall.in_cm)
        self.assertEqual(tall.marks, {"o", "up"})
        for bad in (
            "o",
            "rise(o)",
            "rise(o, o, o)",
            "rise(o, nobody)",
            "import os",
            "rise(o, ne)[0]",
        ):
            with self.subTest(bad), self.assertRaises(FormulaError):
                parse(bad, NAMES, frozenset())


class Properties(unittest.TestCase):
    @given(st.floats(-170, 170), st.floats(1, 90))
    def test_rise_is_the_angle_it_was_built_with(self, degrees: float, length: float) -> None:
        a = np.radians(degrees)
        points = POINTS | {"ne": (length * np.cos(a), 0, length * np.sin(a))}
        found = value("rise(o, ne)", points=points)
        self.assertAlmostEqual((found - degrees + 180) % 360 - 180, 0, places=6)

    @given(st.floats(-80, 80), st.floats(-80, 80))
    def test_hang_and_lean_make_the_bend(self, trunk: float, thigh: float) -> None:
        """Extension against the trunk: what the thigh hangs back plus what the trunk leans."""
        a, b = np.radians(trunk), np.radians(thigh)
        points = POINTS | {
            "up": (50 * np.sin(a), 0, 50 * np.cos(a)), "down": (40 * np.sin(b), 0, -40 * np.cos(b)),
        }  # fmt: skip
        extension = value("-hang(o, down) - lean(o, up)", points=points)
        self.assertAlmostEqual(extension, -thigh - trunk, places=6)
        self.assertAlmostEqual(abs(extension), value("bend(up, o, down)", points=points), places=6)

    @given(st.floats(-0.3, 0.3))
    def test_noise_about_zero_keeps_its_slope(self, tilt: float) -> None:
        """Batches follow one branch: an angle of 0 perturbed both ways moves both ways."""
        steps = np.array([0.0, 0.01, -0.01]) + np.radians(tilt)
        batch = {
            "left": np.array([(-10.0, 0, 0)] * 3), "o": np.zeros((3, 3)),
            "right": np.stack([10 * np.cos(steps), np.zeros(3), 10 * np.sin(steps)], axis=1),
        }  # fmt: skip
        found = parse("bend(left, o, right)", NAMES, frozenset())(Frame(batch, "upright", 1.0))
        self.assertAlmostEqual(abs(found[1] - found[2]), np.degrees(0.02), places=6)
