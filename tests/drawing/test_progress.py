"""The chart's geometry: a point at the right place for its value."""

import unittest
import xml.etree.ElementTree as ET

from hypothesis import given
from hypothesis import strategies as st

from dachi.core.judging.series import build
from dachi.drawing.axes import Scale, nice_ticks, number, tag
from dachi.drawing.progress import IN_FULL, Legend, Note, draw, layout
from tests.core.judging.test_series import COLD, trials

SVG = "{http://www.w3.org/2000/svg}"


def rings(svg: str, kind: str) -> list[tuple[float, float]]:
    root = ET.fromstring(svg)
    return [
        (float(c.get("cx")), float(c.get("cy")))
        for c in root.iter(f"{SVG}circle")
        if set(kind.split()) <= set(c.get("class", "").split())
    ]


class Beside(unittest.TestCase):
    """What is drawn beside the rings lies at its day and its value."""

    def setUp(self) -> None:
        self.rows = trials(*[(i, 14 * i, 60 + 0.5 * i) for i in range(45)])
        self.series = build(self.rows)
        notes = [Note(140.0, "injury", "Knee <tweaked>"), Note(-900.0, "plan", "long ago")]
        words = Legend(lambda t: f"/t/{t}", {}, lambda t: f"/t/{t}.jpg")
        self.svg = draw(self.series, "T & T", words, 75.0, notes)
        self.root = ET.fromstring(self.svg)
        self.place = layout(self.series, 75.0)

    def of(self, kind: str) -> list[ET.Element]:
        return [e for e in self.root.iter() if kind in e.get("class", "").split()]

    def test_the_goal_and_the_note(self) -> None:
        (rule,) = self.of("c-target")
        self.assertAlmostEqual(float(rule.get("y1")), self.place.up(75.0), delta=0.01)
        (note,) = self.of("c-rule")
        self.assertAlmostEqual(float(note.get("x1")), self.place.across["left"](140.0), delta=0.01)
        self.assertIn("Knee &lt;tweaked&gt;", self.svg)

    def test_old_sessions_are_one_drawing_in_the_right_places(self) -> None:
        (old,) = self.of("c-old")
        spots = [
            tuple(map(float, s.removesuffix("h0").split())) for s in old.get("d").split("M")[1:]
        ]
        sessions = self.series.lines[0].sessions
        self.assertEqual(
            (len(spots), len(self.of("c-session"))), (len(sessions) - IN_FULL, IN_FULL)
        )
        for (x, y), s in zip(spots, sessions, strict=False):
            self.assertAlmostEqual(x, self.place.across["left"](s.day), delta=0.01)
            self.assertAlmostEqual(y, self.place.up(s.value), delta=0.01)

    def test_rings_name_their_photograph_and_stay_in_the_panel(self) -> None:
        ring = self.of("c-session")[-1]
        self.assertEqual(ring.get("data-photo"), f"{ring.get('href')}.jpg")
        for whisker in self.of("c-whisker"):
            for y in ("y1", "y2"):
                self.assertTrue(
                    self.place.up.at_high <= float(whisker.get(y)) <= self.place.up.at_low
                )


class Chart(unittest.TestCase):
    def setUp(self) -> None:
        rows = trials((1, 0, 70, 72), (2, 14, 75), (3, 42, 82, 84))
        rows += trials((1, 0, 60), (2, 14, 61), (3, 42, 66), mode="active")
        rows += trials((1, 0, 80), (3, 42, 81), side="right")
        self.rows = rows + trials((4, 50, 50.0), conditions=COLD)
        self.series = build(self.rows)
        self.svg = draw(self.series, "Title", Legend(lambda t: f"/t/{t}", {}), target=90.0)
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
