"""Drawings of practice and of the camera's stand, read back from their SVG."""

import itertools
import math
import re
import unittest
from xml.etree import ElementTree

from dachi.core.catalogue.drills import DIRECTIONS
from dachi.core.words import Place
from dachi.data import catalogue
from dachi.drawing.body import SPOT_CM, hurt, pointing, spots
from dachi.drawing.practice import SIZE, heights, soreness, weeks, wheel
from dachi.drawing.stand import stand
from dachi.simulation import inclinometer

SVG = "{http://www.w3.org/2000/svg}"


def read(svg: str) -> ElementTree.Element:
    return ElementTree.fromstring(svg)


class Wheel(unittest.TestCase):
    def test_area_follows_the_minutes(self) -> None:
        root = read(wheel({"flexion": 300.0, "extension": 75.0, "abduction": 9999.0}, 150.0))
        paths = root.findall(f"{SVG}path")
        self.assertEqual(len(paths), len(DIRECTIONS))
        radii = [float(re.search(r"A([\d.]+) ", p.get("d", ""))[1]) for p in paths]  # type: ignore[index]
        rim = SIZE / 2 - 34
        self.assertAlmostEqual(radii[0], rim, places=1)
        self.assertAlmostEqual(radii[1], rim * math.sqrt(0.25), places=1)
        self.assertAlmostEqual(radii[2], rim, places=1)
        kinds = [p.get("class") for p in paths]
        self.assertEqual(kinds, ["w-full", "w-hole", "w-full", "w-hole", "w-hole", "w-hole"])
        self.assertIn("flexion 5 min", root.get("aria-label", ""))


class Charts(unittest.TestCase):
    def test_soreness(self) -> None:
        root = read(soreness([(100.0, 0), (103.0, 4), (107.0, 3), (107.0, 10)], 3))
        dots = root.findall(f"{SVG}circle")
        self.assertEqual(
            [d.get("class") for d in dots], [f"p-sore{o}" for o in ("", " p-over", "", " p-over")]
        )
        ys = [float(d.get("cy", "0")) for d in dots]
        self.assertEqual(sorted(ys, reverse=True), [ys[0], ys[2], ys[1], ys[3]])
        limit = next(x for x in root.findall(f"{SVG}line") if x.get("class") == "p-limit")
        self.assertEqual(float(limit.get("y1", "0")), ys[2])
        self.assertIn("2 over 3", root.get("aria-label", ""))

    def test_weeks(self) -> None:
        root = read(weeks([("2 Nov", 0.0, 0, 4), ("9 Nov", 40.0, 3, 4), ("16 Nov", 20.0, 2, 4)]))
        bars = [float(b.get("height", "0")) for b in root.findall(f"{SVG}rect")]
        self.assertEqual(bars[0], 0.0)
        self.assertAlmostEqual(bars[1], 2 * bars[2], places=1)
        self.assertIn("60 in all", root.get("aria-label", ""))
        self.assertIn("3/4", [t.text for t in root.findall(f"{SVG}text")])

    def test_heights_fall_beside_a_range_that_rises(self) -> None:
        root = read(heights("Split", [(1, 16), (8, 12)], [(0, 150), (9, 162)], ("1 Nov", "9 Nov")))
        steps = [float(r.get("y", "0")) for r in root.findall(f"{SVG}rect")]
        self.assertLess(steps[0], steps[1])
        rings = [float(c.get("cy", "0")) for c in root.findall(f"{SVG}circle")]
        self.assertGreater(rings[0], rings[1])
        self.assertEqual(
            root.get("aria-label"), "Split: support from 16 to 12 cm, range from 150° to 162°"
        )
        self.assertIn("from 3 to 3 cm", heights("X", [(1, 3)], [], ("a", "b")))

    def test_a_name_cannot_break_out(self) -> None:
        self.assertNotIn("<script", heights("<script>", [(1, 3)], [], ("a", "b")))


class PainMap(unittest.TestCase):
    def test_left_is_the_persons_left(self) -> None:
        root = read(hurt({Place.LEFT_KNEE: 1, Place.RIGHT_KNEE: 4, Place.ELSEWHERE: 2}))
        rings = [c for c in root.iter(f"{SVG}circle") if "b-ring" in c.get("class", "")]
        self.assertEqual(len(rings), 2)
        left, right = rings
        # The figure faces the viewer: its left knee is on the picture's right.
        self.assertGreater(float(left.get("cx", "0")), float(right.get("cx", "0")))
        self.assertLess(float(left.get("r", "0")), float(right.get("r", "0")))

    def test_every_place_can_be_pointed_at_with_a_finger(self) -> None:
        """Spots of one view do not overlap, and both views together hold every place with a side."""
        found: dict[Place, tuple[float, float]] = {}
        for back in (False, True):
            own = spots(back)
            for (a, p), (b, q) in itertools.combinations(own.items(), 2):
                self.assertGreater(math.dist(p, q), 2 * SPOT_CM, (a, b))
            found |= own
        knees = {p for p in Place if p.is_knee and "_knee_" in p}
        whole = {Place.LEFT_HIP, Place.RIGHT_HIP}
        pointed = {p for p in Place if p.side} - knees - whole
        self.assertLessEqual(pointed, set(found))
        root = read(pointing())
        buttons = [g for g in root.iter(f"{SVG}g") if g.get("role") == "button"]
        self.assertEqual({g.get("data-place") for g in buttons}, {p.value for p in found})
        for g in buttons:
            self.assertTrue(g.get("aria-label"))

    def test_front_and_back_name_the_same_leg(self) -> None:
        front, back = spots(back=False), spots(back=True)
        self.assertGreater(front[Place.LEFT_KNEE][0], 0)
        self.assertLess(back[Place.LEFT_KNEE_BACK][0], 0)


class Stand(unittest.TestCase):
    def test_true_proportions(self) -> None:
        for pose in catalogue().poses:
            with self.subTest(pose.id):
                root = read(stand(pose, "both" if pose.sides == "both" else "left"))
                mat = root.find(f"{SVG}rect")
                assert mat is not None
                w, h, y = (float(mat.get(k, "0")) for k in ("width", "height", "y"))
                long, wide = (w, h) if pose.view == "side" else (h, w)
                self.assertAlmostEqual(long / wide, 3.0, places=1)
                scale = long / 183
                lens = root.find(f"{SVG}polygon")
                assert lens is not None
                ys = [float(p.split(",")[1]) for p in lens.get("points", "").split()]
                camera = max(ys) - 8
                self.assertAlmostEqual(
                    (camera - (y + h / 2)) / scale, pose.camera.distance_cm, delta=3
                )
                self.assertIn(pose.camera.stand, root.get("aria-label", ""))


class Inclinometer(unittest.TestCase):
    def test_it_errs_as_much_as_it_says(self) -> None:
        found = [inclinometer.reading(80.0, seed) - 80.0 for seed in range(4000)]
        mean = sum(found) / len(found)
        sd = math.sqrt(sum((x - mean) ** 2 for x in found) / len(found))
        self.assertAlmostEqual(mean, 0.0, delta=0.1)
        self.assertAlmostEqual(sd, inclinometer.SD_DEG, delta=0.08)
        self.assertEqual(inclinometer.reading(80.0, 7), inclinometer.reading(80.0, 7))
