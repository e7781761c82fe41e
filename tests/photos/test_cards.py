"""Codes found in pictures: drawn flat on a floor and seen by a camera near it."""

import unittest
from functools import lru_cache

import cv2
import numpy as np

from dachi.core.body.pinhole import look_from
from dachi.core.measuring.cards import CARDS, CODES, Ground, code_corners, in_view
from dachi.photos.cards import find_all, find_at, find_cards, told
from tests import slow

GROUND = Ground(183.0, 61.0, 0.0)
PPC = 14


@lru_cache(24)
def picture(width: int, *, view="side", height=60.0, yaw=10.0, cards=CARDS, blur=0.8, seed=0):
    """A grey picture of a floor with cards, and the true corners of each code, px."""
    rng = np.random.default_rng(seed)
    size = (width, width * 3 // 4)
    away = 265.0
    a = np.radians(yaw)
    eye = (-away * np.sin(a), -away * np.cos(a), height)
    camera = look_from(eye, yaw, -np.degrees(np.arctan2(height - 25, away)), 0.7, 26.0, *size)
    half = np.array([150, 130])
    floor = cv2.resize(
        rng.normal(110, 14, (65, 75)), tuple(2 * half * PPC), interpolation=cv2.INTER_CUBIC
    )
    floor = floor.clip(0, 255)
    for card in cards:
        code = np.zeros((6, 6))
        code[1:5, 1:5] = [[int(c) for c in row] for row in CODES[card]]
        sheet = np.full((29 * PPC, 21 * PPC), 225.0)
        big = cv2.resize(20 + 205 * code, (17 * PPC, 17 * PPC), interpolation=cv2.INTER_NEAREST)
        sheet[2 * PPC : 19 * PPC, 2 * PPC : 19 * PPC] = big
        xy = in_view(code_corners(GROUND, card), view, from_far_side=False)
        to = ((xy * [1, -1] + half) * PPC).astype(np.float32)
        own = np.array([[2, 2], [19, 2], [19, 19], [2, 19]], np.float32) * PPC
        turn = cv2.getPerspectiveTransform(own, to)
        cv2.warpPerspective(
            sheet, turn, floor.shape[::-1], dst=floor, borderMode=cv2.BORDER_TRANSPARENT
        )
    corners = np.array([[-120, -80], [120, -80], [120, 90], [-120, 90.0]])
    on_floor = ((corners * [1, -1] + half) * PPC).astype(np.float32)
    at = camera.project(np.column_stack([corners, np.zeros(4)]))
    # Drawn twice as large and shrunk, so that no pixel sees a single point.
    big = cv2.getPerspectiveTransform(on_floor, (2 * at).astype(np.float32))
    light = cv2.warpPerspective(
        (floor / 255) ** 2.2, big, (2 * size[0], 2 * size[1]), borderValue=0.2
    )
    light = cv2.GaussianBlur(cv2.resize(light, size, interpolation=cv2.INTER_AREA), (0, 0), blur)
    grey = 255 * light.clip(0, 1) ** (1 / 2.2) + rng.normal(0, 3, light.shape)
    coded = cv2.imencode(".jpg", grey.clip(0, 255).astype(np.uint8), [1, 80])[1]
    truth = {
        c: camera.project(
            np.column_stack(
                [in_view(code_corners(GROUND, c), view, from_far_side=False), np.zeros(4)]
            )
        )
        for c in cards
    }
    return cv2.imdecode(coded, cv2.IMREAD_GRAYSCALE), truth


class Finding(unittest.TestCase):
    def test_codes_and_their_corners_at_every_size(self) -> None:
        for width, view, height in (
            (1600, "side", 60.0),
            (1600, "front", 130.0),
            (4000, "side", 45.0),
        ):
            with self.subTest(f"{width} {view}"):
                image, truth = picture(width, view=view, height=height, blur=width / 2000)
                found = find_cards(image)
                # What the first look misses the others' camera tells.
                found |= find_at(image, {c: at + 3.0 for c, at in truth.items() if c not in found})
                seen = [
                    c
                    for c, at in truth.items()
                    if (at > 0).all() and (at < image.shape[::-1]).all()
                ]
                self.assertEqual(set(found), set(seen))
                for card, at in found.items():
                    off = np.linalg.norm(at - truth[card], axis=1)
                    self.assertLess(off.mean(), 0.8 * width / 1600, card)

    def test_a_colour_picture_is_as_good(self) -> None:
        image, _ = picture(1600)
        self.assertEqual(set(find_cards(np.repeat(image[..., None], 3, 2))), set(find_cards(image)))

    def test_nothing_is_found_where_nothing_lies(self) -> None:
        for seed in range(4):
            image, _ = picture(1600, cards=(), seed=seed)
            self.assertEqual(find_cards(image), {})

    def test_a_mirrored_picture_holds_no_cards(self) -> None:
        image, _ = picture(1600)
        self.assertEqual(find_cards(np.ascontiguousarray(image[:, ::-1])), {})

    def test_where_the_others_say(self) -> None:
        image, truth = picture(1600, height=45.0)
        near = {c: at + 4.0 for c, at in truth.items()}
        found = find_at(image, near | {1: truth[1] + 5000})
        self.assertEqual(set(found), {2, 3, 4})
        self.assertLess(max(np.linalg.norm(found[c] - truth[c], axis=1).max() for c in found), 2.0)

    @slow("blurs many pictures")
    def test_blurred_cards_are_found_by_looking_harder(self) -> None:
        for blur, height in ((1.4, 60.0), (1.6, 60.0), (2.0, 90.0)):
            with self.subTest(blur):
                image, truth = picture(1600, height=height, blur=blur)
                self.assertEqual(find_cards(image), {})
                found = find_all(image, GROUND, "side", 26.0)
                self.assertEqual(set(found), set(truth))
                far = [np.linalg.norm(at - truth[c], axis=1).max() for c, at in found.items()]
                self.assertLess(max(far), 2.5)
        nothing, _ = picture(1600, cards=(), blur=1.6)
        self.assertEqual(find_all(nothing, GROUND, "side", 26.0), {})

    def test_found_cards_are_told_as_plain_numbers(self) -> None:
        self.assertEqual(told({3: np.array([[1.234, 2.0]] * 4)}), {"3": [[1.23, 2.0]] * 4})
