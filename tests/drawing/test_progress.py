"""The chart's geometry: a point at the right place for its value."""

import unittest
import xml.etree.ElementTree as ET

from hypothesis import given
from hypothesis import strategies as st

from dachi.core.series import build
from dachi.drawing.axes import Scale, nice_ticks, number, tag
from dachi.drawing.progress import draw, layout
from tests.core.test_series import COLD, trials

SVG = "{http://www.w3.org/2000/svg}"


def rings(svg: str, kind: str) -> list[tuple[float, float]]:
    root = ET.fromstring(svg)
    return [
        (float(c.get("cx")), float(c.get("cy")))
        for c in root.iter(f"{SVG}circle")
        if set(kind.split()) <= set(c.get("class", "").split())
    ]


class Chart(unittest.TestCase):
    def setUp(self) -> None:
        rows = trials((1, 0, 70, 72), (2, 14, 75), (3, 42, 82, 84))
        rows += trials((1, 0, 60), (2, 14, 61), (3, 42, 66), mode="active")
        rows += trials((1, 0, 80), (3, 42, 81), side="right")
        self.rows = rows + trials((4, 50, 50.0), conditions=COLD)
        self.series = build(self.rows)
        self.svg = draw(self.series, "Title", lambda t: f"/t/{t}", {}, target=90.0)
        self.place = layout(self.series, 90.0)

    def test_rings_stand_at_their_values(self) -> None:
        for line in self.series.lines:
            across = self.place.across[line.side]
            drawn = rings(self.svg, f"c-ring c-{line.side} c-{line.mode}")
            self.assertEqual(len(drawn), len(line.sessions))
            for (x, y), s in zip(drawn, line.sessions, strict=True):
                self.assertAlmostEqual(x, across(s.day), places=1)
                self.assertAlmostEqual(y, self.place.up(s.value), places=1)

    def test_higher_is_up_and_later_is_right(self) -> None:
        ring = rings(self.svg, "c-ring c-left c-passive")
        self.assertEqual(ring, sorted(ring))
        self.assertGreater(ring[0][1], ring[-1][1])

    def test_panels_share_one_scale_and_do_not_overlap(self) -> None:
        left, right = self.place.across["left"], self.place.across["right"]
        self.assertLess(left.at_high, right.at_low)
        self.assertEqual(left.at_high - left.at_low, right.at_high - right.at_low)

    def test_whiskers_are_half_an_mdc_each_way(self) -> None:
        root = ET.fromstring(self.svg)
        session = self.series.line("right", "passive").sessions[0]
        stems = [
            abs(float(w.get("y1")) - float(w.get("y2")))
            for w in root.iter(f"{SVG}line")
            if w.get("class") == "c-whisker c-right c-passive" and w.get("x1") == w.get("x2")
        ]
        self.assertAlmostEqual(
            stems[0], abs(self.place.up(session.mdc) - self.place.up(0.0)), places=1
        )

    def test_left_out_trials_are_hollow(self) -> None:
        ((_, y),) = rings(self.svg, "c-hollow")
        self.assertAlmostEqual(y, self.place.up(50.0), places=1)

    def test_the_target_is_drawn_in_each_panel(self) -> None:
        root = ET.fromstring(self.svg)
        rules = [e for e in root.iter(f"{SVG}line") if e.get("class") == "c-target"]
        self.assertEqual(len(rules), 2)
        self.assertAlmostEqual(float(rules[0].get("y1")), self.place.up(90.0), places=1)


class Axes(unittest.TestCase):
    @given(st.floats(-200, 200), st.floats(0.1, 500))
    def test_ticks_cover_and_are_round(self, low: float, size: float) -> None:
        ticks = nice_ticks(low, low + size)
        self.assertLessEqual(ticks[0], low + 1e-9)
        self.assertGreaterEqual(ticks[-1], low + size - 1e-9)
        self.assertLessEqual(len(ticks), 10)

    def test_scale_and_writer(self) -> None:
        self.assertEqual(Scale(0, 10, 100, 0)(2.5), 75)
        self.assertEqual([number(v) for v in (0.0, 1.5, 2.0, -0.254)], ["0", "1.5", "2", "-0.25"])
        self.assertEqual(
            tag("a", "x", class_="b", data_v='"<'), '<a class="b" data-v="&quot;&lt;">x</a>'
        )
