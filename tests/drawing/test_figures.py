"""Hip circles and figure drawings by their geometry."""

import math
import unittest
import xml.etree.ElementTree as ET

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dachi.core.body.posing import sides_of
from dachi.core.body.staging import on_mat, within
from dachi.data import catalogue
from dachi.drawing.figure import HEIGHT, WIDTH, _marked, closeups, glyph, guide
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


class WhereMarksGo(unittest.TestCase):
    """The dots of the guide against steps over the skin, laid on the figure's own limbs."""

    def frames(self, points: dict, side: str) -> dict[str, np.ndarray]:
        """Front, outwards, up of a side's limbs and of the pelvis, from the figure's points."""
        hip, knee, ankle = (points[f"{side}.{j}"] for j in ("hip", "knee", "ankle"))
        found = {}
        for bone, top, end in (("thigh", hip, knee), ("shin", knee, ankle)):
            up = (top - end) / np.linalg.norm(top - end)
            out = points[f"{side}.{'knee' if bone == 'thigh' else 'ankle'}.outer"] - end
            out = out / np.linalg.norm(out)
            front = np.cross(out, up) * (1.0 if side == "left" else -1.0)
            found[bone] = np.stack([front, out, up], axis=1)
        lat = points[f"{side}.hip"] - points["pelvis"]
        lat = lat / np.linalg.norm(lat)
        back = points[f"{side}.psis"] - points[f"{side}.asis"]
        # From the front point to the back one it is 18 cm back, 7.3 in and 0.7 up.
        left = points["left.asis"] - points["right.asis"]
        left = left / np.linalg.norm(left)
        deep = -(back - (back @ left) * left)
        deep = deep / np.linalg.norm(deep)
        up0 = np.cross(deep, left)
        lean = math.atan2(0.7, 18.0)
        front = math.cos(lean) * deep + math.sin(lean) * up0
        found["pelvis"] = np.stack([front, lat, np.cross(front, left)], axis=1)
        return found

    def test_every_dot_lies_on_the_skin_that_the_skeleton_means(self) -> None:
        seen = 0
        for pose in catalogue().poses:
            for side in ("both",) if pose.sides == "both" else ("left", "right"):
                figure = on_mat(pose, side, within(pose, 0.6))
                names = sides_of(side)
                drawn = {
                    e.get("data-mark"): (float(e.get("cx")), float(e.get("cy")))
                    for e in shapes(guide(pose, side), "g-mark")
                }
                self.assertEqual(set(drawn), {m.id for m in pose.marks})
                _, camera, _ = _marked(pose, side, {})
                for m in pose.marks:
                    owner, _, part = m.body.partition(".")
                    own = names.get(owner, owner)
                    base = {"thigh": "hip", "knee": "knee", "shin": "ankle"}.get(m.skin.on)
                    if m.skin.on in ("pelvis", "fold"):
                        base = "hip"
                    if base is None or own not in ("left", "right"):
                        continue
                    bone = {"knee": "thigh"}.get(m.skin.on, m.skin.on)
                    frame = self.frames(figure.points, own)["pelvis" if bone == "fold" else bone]
                    x, y, z = m.skin.step
                    if m.leg is not None and part.endswith(".inner") == (m.leg == "front"):
                        y = -y
                    want = figure.points[f"{own}.{base}"] + frame @ [x, y, z]
                    (u, v), px_a_cm = camera.project(want), camera.focal_px / 700.0
                    off = math.hypot(drawn[m.id][0] - u, drawn[m.id][1] - v) / px_a_cm
                    with self.subTest(pose.id, side=side, mark=m.id):
                        self.assertLess(off, 0.5)
                    seen += 1
        self.assertGreater(seen, 120)

    def test_a_close_up_has_its_tick_and_what_it_is_not(self) -> None:
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "left"
            for (name, svg, nots), mark in zip(closeups(pose, side), pose.marks, strict=True):
                with self.subTest(pose.id, mark=name):
                    self.assertEqual(name, mark.id)
                    self.assertEqual(nots, tuple(n.words for n in mark.skin.not_the))
                    crosses = [
                        tuple(map(float, e.get("d")[1:].split("l")[0].split()))
                        for e in shapes(svg, "g-wrong")
                    ]
                    self.assertEqual(len(crosses), len(nots))
                    (right,) = shapes(svg, "g-right")
                    x, y = float(right.get("cx")), float(right.get("cy"))
                    left, top, wide, high = map(float, ET.fromstring(svg).get("viewBox").split())
                    self.assertAlmostEqual(left + wide / 2, x, delta=0.1)
                    self.assertAlmostEqual(top + high / 2, y, delta=0.1)
                    for cx, cy in crosses:
                        self.assertTrue(
                            left < cx + 0.9 < left + wide and top < cy + 0.9 < top + high
                        )
