"""Pose data is validated, and the core stays a core."""

import tomllib
import unittest
from typing import Any

from dachi.core.catalogue.pose_entries import build_catalogue
from dachi.core.catalogue.problems import CatalogueError
from dachi.data import FOLDER, catalogue
from dachi.studio.bench.starting_marks import guess_marks


class Poses(unittest.TestCase):
    def test_every_guess_lies_in_the_picture(self) -> None:
        for pose in catalogue().poses:
            sides = ("both",) if pose.sides == "both" else ("left", "right")
            for side in sides:
                for x, y in guess_marks(pose, side, 1600, 1200).values():
                    self.assertTrue(0 < x < 1600 and 0 < y < 1200, pose.id)

    def test_wrong_data_is_named(self) -> None:
        good = tomllib.loads((FOLDER / "poses" / "supine-leg-raise.toml").read_text("utf-8"))

        def changed(**top: object) -> dict[str, Any]:
            return {**good, **top}

        def formula(text: str) -> dict[str, Any]:
            return changed(measures=[{**measure, "formula": text}])

        landmarks = tomllib.loads((FOLDER / "landmarks.toml").read_text("utf-8"))
        mark, measure, check = good["marks"][0], good["measures"][0], good["checks"][0]
        cases = {
            "missing required field `marks`": {k: v for k, v in good.items() if k != "marks"},
            "Invalid enum value 'above' - at `$.view`": changed(view="above"),
            "no mark is called 'elbow'": formula("rise(hip, elbow)"),
            "takes 2 marks": formula("rise(hip)"),
            "unknown formula kind": formula("open('x')"),
            "only sums": formula("rise(hip, knee) ** 2"),
            "not an expression": formula("rise(hip,"),
            "no measure is called": formula("other + 1"),
            "must be the headline": changed(measures=[{**measure, "headline": False}]),
            "Invalid enum value 'awful' - at `$.severity`": changed(checks=[{**check, "severity": "awful"}]),
            "needs the variant": changed(
                checks=[{"id": "x", "label": "x", "over": "x", "by_eye": True}]
            ),
            "'' is not an expression": changed(checks=[{"id": "x", "label": "x", "over": "x"}]),
            "which is no mark": changed(marks=[{**mark, "parent": "tail"}, *good["marks"][1:]]),
            "Object contains unknown field `plane`": changed(marks=[{**mark, "plane": "near"}, *good["marks"][1:]]),
            "no landmark is called": changed(marks=[{"from": "tail"}, *good["marks"][1:]]),
            "two marks are called": changed(marks=[*good["marks"], mark]),
            "facing: 'tail'": changed(facing=["shoulder", "tail"]),
            "Invalid enum value 'nicer' - at `$.better`": changed(measures=[{**measure, "better": "nicer"}]),
            "unknown field `colour`": changed(colour="red"),
            "Expected `int`, got `str` - at `$.demand`": changed(demand="two"),
            "Expected `array`, got `str` - at `$.cautions`": changed(cautions="never"),
            "unknown field `heigth_cm`": changed(camera={**good["camera"], "heigth_cm": 3}),
            "no joint 'each.hip_flexoin'": changed(
                figure={**good["figure"], "joints": {"each.hip_flexoin": 3}}
            ),
            "each_side of 'x'": changed(measures=[{**measure, "id": "x", "each_side": "yes"}]),
            "default of variant": changed(
                variants={"resting_leg": {"label": "x", "default": "z", "options": {"a": "b"}}}
            ),
        }  # fmt: skip
        for words, entry in cases.items():
            with self.subTest(words), self.assertRaises(CatalogueError) as caught:
                build_catalogue("t", [entry], landmarks)
            self.assertIn(words, str(caught.exception))
            self.assertIn("supine-leg-raise", str(caught.exception))
        with self.assertRaisesRegex(CatalogueError, "two poses are called"):
            build_catalogue("t", [good, good], landmarks)
