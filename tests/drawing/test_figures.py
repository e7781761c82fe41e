"""Hip circles and figure drawings by their geometry."""

import math
import unittest
import xml.etree.ElementTree as ET

from hypothesis import given
from hypothesis import strategies as st

from dachi.data import catalogue
from dachi.drawing.figure import HEIGHT, WIDTH, glyph, guide
from dachi.drawing.hip import DIRECTIONS, MIDDLE, RADIUS, DrawnRange, draw, radius_of

SVG = "{http://www.w3.org/2000/svg}"


def shapes(svg: str, kind: str) -> list[ET.Element]:
    return [e for e in ET.fromstring(svg).iter() if kind in e.get("class", "").split()]


def numbers(path: ET.Element) -> list[float]:
    text = path.get("d").replace("M", " ").replace("L", " ").replace("A", " ").replace("Z", " ")
    return [float(v) for v in text.split()]


class Circles(unittest.TestCase):
    def test_a_wedge_reaches_in_proportion(self) -> None:
        for value in (35.0, 70.0, 140.0, 200.0):
            (wedge,) = shapes(draw("right", {"flexion": DrawnRange(passive=value)}), "h-passive")
            x0, y0, x1, y1 = numbers(wedge)[:4]
            reach = math.hypot(x1 - x0, y1 - y0)
            self.assertAlmostEqual(reach, RADIUS * min(value / 140.0, 1.0), delta=0.02)

    def test_left_mirrors_right(self) -> None:
        ranges = {"abduction": DrawnRange(40.0, 60.0, 55.0)}
        right, left = draw("right", ranges), draw("left", ranges)
        for kind in ("h-active", "h-passive"):
            a, b = numbers(shapes(right, kind)[0]), numbers(shapes(left, kind)[0])
            # Start of one arc is the end of the other, mirrored in the middle.
            self.assertAlmostEqual(a[2] - MIDDLE, MIDDLE - b[-2], delta=0.02)
            self.assertAlmostEqual(a[3], b[-1], delta=0.02)
            self.assertGreater(a[2], MIDDLE - 1)

    def test_what_was_never_measured_stays_dotted(self) -> None:
        svg = draw("left", {"flexion": DrawnRange(active=60.0)})
        self.assertEqual(len(shapes(svg, "h-spoke")), len(DIRECTIONS) - 1)
        self.assertEqual(len(shapes(svg, "h-passive")), 0)
        self.assertIn("adduction not measured", svg)
        self.assertEqual(
            len(shapes(draw("left", {"flexion": DrawnRange(passive=9, before=7)}), "h-before")), 1
        )

    @given(st.floats(-30, 400), st.sampled_from([d[2] for d in DIRECTIONS]))
    def test_radius_stays_in_the_circle(self, value: float, full: float) -> None:
        self.assertTrue(0.0 <= radius_of(value, full) <= RADIUS)


class Figures(unittest.TestCase):
    def test_every_pose_is_drawn_inside_its_frame(self) -> None:
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "left"
            root = ET.fromstring(glyph(pose, side))
            for line in root.iter(f"{SVG}line"):
                for x in ("x1", "x2"):
                    self.assertTrue(-1 <= float(line.get(x)) <= WIDTH + 1, pose.id)
                for y in ("y1", "y2"):
                    self.assertTrue(-1 <= float(line.get(y)) <= HEIGHT + 1, pose.id)

    def test_the_guide_shows_every_mark_once(self) -> None:
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "right"
            found = shapes(guide(pose, side), "g-mark")
            self.assertEqual([c.get("data-mark") for c in found], [m.id for m in pose.marks])

    def test_the_guide_mirrors_with_the_side(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        places = {
            side: {
                c.get("data-mark"): float(c.get("cx")) for c in shapes(guide(pose, side), "g-mark")
            }
            for side in ("left", "right")
        }
        for name, x in places["right"].items():
            self.assertAlmostEqual(x - WIDTH / 2, WIDTH / 2 - places["left"][name], delta=0.5)
