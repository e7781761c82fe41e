"""Stickers of the simulated camera, found, named and doubted."""

import unittest
from datetime import datetime
from typing import ClassVar

import numpy as np

from dachi.core.body.staging import seen_over_range
from dachi.data import catalogue
from dachi.photos.stickers import (
    Colour,
    ColourError,
    Dot,
    MarkLayout,
    assign,
    assign_near,
    decode,
    find_dots,
    pick_colour,
)
from dachi.simulation.camera import Shot, photograph, set_up, stickers
from tests import slow

SIZE = (1600, 1200)


def layouts(pose_id: str, side: str) -> list[MarkLayout]:
    pose = catalogue().pose(pose_id)
    spread = seen_over_range(pose, side, SIZE)
    return [MarkLayout(tuple(m), np.array(list(m.values()))) for m in spread]


def dots_of(pose_id: str, shot: Shot, without: tuple[str, ...] = ()) -> tuple[list[Dot], dict]:
    """Perfect dots at every required mark but some, and where the marks truly are."""
    pose = catalogue().pose(pose_id)
    marks = {k: set_up(pose, shot).marks_px[k] for k in pose.required}
    return [Dot(x, y, 6.0, 0.9) for k, (x, y) in marks.items() if k not in without], marks


class Finding(unittest.TestCase):
    @slow("renders many pictures")
    def test_sunlit_and_shaded_pictures(self) -> None:
        for pose_id, side, value, sun in (
            ("supine-leg-raise", "left", 62.0, 1.0), ("half-split", "right", 95.0, 0.0),
        ):  # fmt: skip
            pose = catalogue().pose(pose_id)
            shot = Shot(
                side, value, yaw_deg=9, stickers=True, sun=sun, seed=4, width=1600, height=1200
            )
            data, _ = photograph(pose, shot, datetime(2026, 11, 24, 9, 30))
            stage, image = set_up(pose, shot), decode(data)
            seen = {
                k: share for k, (_, share) in stickers(stage, shot).items() if k in pose.required
            }
            visible = [k for k, share in seen.items() if share > 0.5]
            clearest = max(seen, key=seen.get)
            colour = pick_colour(image, *stage.marks_px[clearest])
            found = assign(find_dots(image, colour), layouts(pose_id, side), pose.required)
            self.assertGreaterEqual(len(visible), 4)
            for name in visible:
                with self.subTest(pose_id, mark=name):
                    self.assertIn(name, found.marks)
                    error = np.hypot(*(np.array(found.marks[name]) - stage.marks_px[name]))
                    self.assertLess(error, 2.5)

    def test_the_colour_picked_on_a_rim_will_do(self) -> None:
        image = np.full((900, 1200, 3), 180, np.uint8)
        yy, xx = np.mgrid[0:900, 0:1200]
        image[np.hypot(xx - 600.3, yy - 449.6) < 7] = (20, 170, 60)
        for x, y in ((600, 450), (605, 452), (594, 447)):
            colour = pick_colour(image, x, y)
            (dot,) = find_dots(image, colour)
            self.assertAlmostEqual(dot.x, 600.8, delta=0.4)
            self.assertAlmostEqual(dot.y, 450.1, delta=0.4)

    def test_a_colour_survives_being_stored(self) -> None:
        colour = Colour(143.25, 66.61)
        back = Colour.from_text(colour.text())
        self.assertAlmostEqual(back.hue_deg, colour.hue_deg, delta=0.1)
        self.assertAlmostEqual(back.chroma, colour.chroma, delta=0.1)

    def test_no_colour_there(self) -> None:
        with self.assertRaisesRegex(ColourError, "hardly any colour"):
            pick_colour(np.full((400, 400, 3), 128, np.uint8), 200, 200)
        with self.assertRaisesRegex(ColourError, "cannot be read"):
            decode(b"no picture")

    def test_long_streaks_and_large_patches_are_no_stickers(self) -> None:
        image = np.full((900, 1200, 3), 180, np.uint8)
        image[100:104, 200:500] = (20, 170, 60)
        image[400:520, 300:420] = (20, 170, 60)
        self.assertEqual(find_dots(image, Colour(144.0, 70.0)), [])


class Naming(unittest.TestCase):
    def test_dots_of_every_pose_get_their_names(self) -> None:
        for pose in catalogue().poses:
            if len(pose.required) < 3:
                continue
            side = "both" if pose.sides == "both" else "left"
            for share in (0.2, 0.7):
                value = pose.figure.low + share * (pose.figure.high - pose.figure.low)
                shot = Shot(
                    side,
                    value,
                    yaw_deg=8,
                    roll_deg=1.5,
                    scatter_deg=3,
                    seed=3,
                    width=1600,
                    height=1200,
                )
                dots, marks = dots_of(pose.id, shot)
                found = assign(dots, layouts(pose.id, side), pose.required)
                for name, place in found.marks.items():
                    if name not in found.doubtful:
                        with self.subTest(pose.id, share=share, mark=name):
                            self.assertLess(np.hypot(*(np.array(place) - marks[name])), 3.0)

    def test_a_missing_dot_is_named_and_spare_ones_are_left(self) -> None:
        shot = Shot("left", 70.0, yaw_deg=6, width=1600, height=1200)
        dots, marks = dots_of("supine-leg-raise", shot, without=("rest_knee",))
        dots.append(Dot(60.0, 60.0, 6.0, 0.9))
        found = assign(
            dots, layouts("supine-leg-raise", "left"), catalogue().pose("supine-leg-raise").required
        )
        self.assertEqual(found.missing, ("rest_knee",))
        self.assertEqual(found.spare, 1)
        self.assertAlmostEqual(found.marks["knee"][0], marks["knee"][0], delta=0.5)

    def test_too_few_dots(self) -> None:
        found = assign([Dot(5, 5, 6, 1)], layouts("pigeon", "left"), ("front_knee",))
        self.assertEqual((dict(found.marks), found.missing, found.spare), ({}, ("front_knee",), 1))


class NamedByABody(unittest.TestCase):
    """Dots given to where a body has its marks; distances worked out by hand."""

    SEEN: ClassVar = {"hip": (100.0, 100.0), "knee": (200.0, 100.0), "ankle": (300.0, 100.0)}
    SDS: ClassVar = {"hip": 10.0, "knee": 10.0, "ankle": 10.0}

    def test_cases(self) -> None:
        for words, spots, marks, doubtful, missing, spare in (
            ("all near", [(105, 95), (195, 110), (310, 100)], "hip knee ankle", "", "", 0),
            ("one away", [(105, 95), (310, 100)], "hip ankle", "", "knee", 0),
            ("too far", [(105, 95), (195, 110), (310, 180)], "hip knee", "", "ankle", 1),
            ("two for one", [(100, 100), (190, 100), (210, 101), (300, 100)],
             "hip knee ankle", "knee", "", 1),
            ("nothing", [], "", "", "hip knee ankle", 0),
        ):  # fmt: skip
            with self.subTest(words):
                dots = [Dot(float(x), float(y), 6.0, 0.9) for x, y in spots]
                found = assign_near(dots, self.SEEN, self.SDS, tuple(self.SEEN))
                self.assertEqual(set(found.marks), set(marks.split()))
                self.assertEqual(found.doubtful, tuple(doubtful.split()))
                self.assertEqual(found.missing, tuple(missing.split()))
                self.assertEqual(found.spare, spare)
