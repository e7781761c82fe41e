"""Charts the size of a word: values where they belong, the same said in words."""

import re
import unittest
from xml.etree import ElementTree

from dachi.drawing.small_charts import HEIGHT, LEAST_SPAN, Course, distance, draw, patterns


def rings(svg: str) -> list[tuple[float, float]]:
    found = ElementTree.fromstring(svg).iter("{http://www.w3.org/2000/svg}circle")
    return [(float(c.get("cx")), float(c.get("cy"))) for c in found]


class Small(unittest.TestCase):
    def test_both_sides_share_a_scale_and_more_is_higher(self) -> None:
        lines = [
            Course("left", "passive", [(0.0, 70.0), (14.0, 90.0)]),
            Course("left", "active", [(0.0, 60.0), (14.0, 65.0)]),
            Course("right", "passive", [(0.0, 90.0), (14.0, 90.0)]),
        ]
        svg = draw(lines, "said", {"left": 95.0})
        (lx, passive), (_, active), (rx, right) = rings(svg)
        self.assertLess(passive, active)
        self.assertEqual(passive, right)
        self.assertLess(lx, rx)
        self.assertEqual(svg.count("c-reserve"), 1)
        self.assertEqual(svg.count("c-target"), 1)
        self.assertIn('aria-label="said"', svg)

    def test_small_moves_do_not_look_like_leaps(self) -> None:
        for span, most in ((1.0, HEIGHT / LEAST_SPAN), (LEAST_SPAN / 2, HEIGHT / 2)):
            svg = draw([Course("both", "passive", [(0.0, 50.0), (7.0, 50.0 + span)])], "", {})
            line = re.search(r'polyline[^>]*points="([^"]+)"', svg) or self.fail(svg)
            ys = [float(p.split(",")[1]) for p in line[1].split()]
            self.assertLessEqual(abs(ys[0] - ys[1]), most)

    def test_one_visit_is_a_ring_and_no_line(self) -> None:
        svg = draw([Course("left", "passive", [(3.0, 50.0)])], "", {})
        self.assertEqual(len(rings(svg)), 1)
        self.assertNotIn("polyline", svg)

    def test_a_goal_lies_to_the_right_whichever_way_its_numbers_run(self) -> None:
        for first, now, target in ((60.0, 70.0, 90.0), (30.0, 22.0, 8.0)):
            svg = distance(first, now, 4.0, target, "goal", "left")
            way = re.search(r'd-way" x1="([\d.]+)" x2="([\d.]+)"', svg) or self.fail(svg)
            start, goal = float(way[1]), float(way[2])
            ((here, _),) = rings(svg)
            self.assertTrue(start < here < goal)
            # The way gone is in proportion.
            self.assertAlmostEqual(
                (here - start) / (goal - start), (now - first) / (target - first), places=2
            )

    def test_the_patterns_are_there_once_for_each_side(self) -> None:
        for side in ("left", "right", "both"):
            self.assertEqual(patterns().count(f'id="small-{side}"'), 1)
