"""The camera from corner cards: truth projected by another library, cards laid as people lay them."""

import math
import unittest

import cv2
import numpy as np

from dachi.core.body.pinhole import CORNERS, look_from, mat_points
from dachi.core.measuring.cards import (
    CARDS,
    CODES,
    Ground,
    Placement,
    code_corners,
    expected,
    in_view,
    read_cards,
)
from tests import slow

SIZE = (1600, 1200)
MAT = Ground(183.0, 61.0)


class Cards:
    """Four cards on a floor, each displaced by hand, as a camera sees them."""

    def __init__(self, view: str, far: bool, rng: np.random.Generator, **how: float) -> None:
        self.view, self.far, self.rng = view, far, rng
        yaw = how.get("yaw", float(rng.uniform(-20, 20)))
        height, away = float(rng.uniform(45, 140)), float(rng.uniform(230, 300))
        a = math.radians(yaw)
        eye = (-away * math.sin(a), -away * math.cos(a), height)
        pitch = -math.degrees(math.atan2(height - 30, away))
        self.focal = float(rng.uniform(25, 29))
        self.camera = look_from(eye, yaw, pitch, float(rng.normal(0, 1)), self.focal, *SIZE)
        self.laid = Placement(how.get("shift", 0.3), how.get("turn", 0.7))
        self.pixel = how.get("pixel", 0.3)

    def project(self, points: np.ndarray) -> np.ndarray:
        """By OpenCV's own projection, not the program's."""
        f, c = self.camera.focal_px, self.camera.centre
        k = np.array([[f, 0, c[0]], [0, f, c[1]], [0, 0, 1.0]])
        turn = cv2.Rodrigues(self.camera.rotation)[0]
        return cv2.projectPoints(points, turn, self.camera.translation, k, None)[0].reshape(-1, 2)

    def lay(self, card: int, place: int | None = None, scale: float = 1.0, **more: float):
        flat = code_corners(MAT, place or card)
        middle = flat.mean(axis=0)
        turn = math.radians(more.get("turned", 0) + self.rng.normal(0, self.laid.turn_deg))
        spin = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
        off = self.rng.normal(0, self.laid.shift_cm, 2) + np.array([more.get("off", 0.0), 0])
        flat = scale * (flat - middle) @ spin.T + middle + off
        xy = in_view(flat, self.view, from_far_side=self.far)
        px = self.project(np.column_stack([xy, np.full(4, -MAT.below_cm)]))
        return px + self.rng.normal(0, self.pixel, (4, 2))

    def seen(self, cards=CARDS, **odd) -> dict[int, np.ndarray]:
        return {c: self.lay(c, **odd.get(f"card{c}", {})) for c in cards}

    def corners(self) -> np.ndarray:
        return self.project(mat_points(MAT.length_cm, MAT.width_cm, self.view))

    def read(self, found, ground: Ground = MAT, focal: bool = True):
        told = float(round(self.focal)) if focal else None
        return read_cards(found, ground, self.view, SIZE, told)


def errors(count: int, cards, seed: int, **how: float):
    """Corner errors over their told spreads, and in px, of many pictures."""
    rng = np.random.default_rng(seed)
    over, px = [], []
    for i in range(count):
        there = Cards("side" if i % 2 else "front", bool(i % 3 == 0), rng, **how)
        found = there.read(there.seen(cards))
        assert found.corners is not None, found.problem
        off = np.array([found.corners[n] for n in CORNERS]) - there.corners()
        sd = np.array([found.corner_sds_px[n] for n in CORNERS])
        over.append(off / sd[:, None])
        px.append(np.linalg.norm(off, axis=1))
    return np.array(over), np.array(px)


class TheCamera(unittest.TestCase):
    def test_cards_laid_exactly_give_the_very_corners(self) -> None:
        _, px = errors(12, CARDS, 1, shift=0.0, turn=0.0, pixel=0.0)
        # The picture names its focal length in whole millimetres: that alone is left.
        self.assertLess(px.max(), 1.5)

    @slow("Monte Carlo")
    def test_the_told_spread_is_the_spread(self) -> None:
        for cards in (CARDS, (1, 2, 4), (2, 4), (1, 4)):
            over, _ = errors(60, cards, 2)
            # The spread told is of a coordinate's root mean square over both directions.
            rms = math.sqrt(float(np.mean(over**2)))
            self.assertTrue(0.75 < rms < 1.2, f"{cards}: {rms:.2f}")

    def test_four_cards_do_no_worse_than_corners_clicked_at_two_pixels(self) -> None:
        _, px = errors(60, CARDS, 3)
        self.assertLess(float(np.median(px)), 2.0)

    def test_without_a_focal_length(self) -> None:
        rng = np.random.default_rng(4)
        there = Cards("side", False, rng, yaw=12.0)
        found = there.read(there.seen(), focal=False)
        self.assertAlmostEqual(
            found.estimate.camera.focal_px / there.camera.focal_px, 1.0, delta=0.08
        )

    def test_hidden_cards_are_expected_where_they_lie(self) -> None:
        there = Cards("side", True, np.random.default_rng(5), shift=0.0, turn=0.0)
        found = there.seen((1, 3))
        lost = expected(there.read(found), found, MAT, "side")
        self.assertEqual(set(lost), {2, 4})
        for card, at in lost.items():
            self.assertLess(np.linalg.norm(at - there.lay(card), axis=1).max(), 12.0)


class WhatIsWrong(unittest.TestCase):
    def told(self, *, view: str = "side", ground: Ground = MAT, asked: str = "", **odd):
        there = Cards(view, False, np.random.default_rng(6), yaw=8.0)
        found = there.seen(**odd)
        there.view = asked or view
        return there.read(found, ground)

    def test_mistakes_are_named(self) -> None:
        cases = [
            ({}, "", True),
            ({"card2": {"turned": 90.0}}, "Card 2 is left out: it lies turned by 9", True),
            ({"card3": {"off": 12.0}}, "Card 3 is left out: it lies 12 cm from its place", True),
            ({f"card{c}": {"scale": 0.94} for c in CARDS}, "% too small for a mat", True),
            ({"card1": {"place": 2}, "card2": {"place": 1}}, "Cards 1 and 2 are exchanged", False),
            (
                {"card1": {"place": 3}, "card3": {"place": 1}},
                "Cards 1 and 3, or 2 and 4, are exchanged",
                False,
            ),
        ]
        for odd, words, has_camera in cases:
            with self.subTest(words or "nothing"):
                found = self.told(**odd)
                self.assertIn(words, " ".join(found.said) + (found.problem or ""))
                self.assertEqual(found.corners is not None, has_camera)
                if not words:
                    self.assertEqual((found.said, found.problem), ((), None))

    def test_the_mat_seen_from_the_wrong_side(self) -> None:
        found = self.told(view="front", asked="side")
        self.assertIn("stands at a short end", found.problem)
        self.assertIsNone(found.corners)

    def test_a_mat_of_another_size(self) -> None:
        found = self.told(ground=Ground(150.0, 61.0))
        self.assertTrue(found.problem or found.said)

    def test_too_few(self) -> None:
        there = Cards("side", False, np.random.default_rng(7))
        self.assertIn("No corner card", there.read({}).problem)
        self.assertIn("Only card 2", there.read(there.seen((2,))).problem)

    def test_codes_are_apart_however_they_are_turned_or_mirrored(self) -> None:
        bits = {c: np.array([[int(x) for x in row] for row in rows]) for c, rows in CODES.items()}
        for a, one in bits.items():
            for b, other in bits.items():
                for k in range(4):
                    for shape in (np.rot90(other, k), np.rot90(other, k).T):
                        if a != b or not np.array_equal(shape, other):
                            self.assertGreaterEqual(int((one != shape).sum()), 6, (a, b, k))
