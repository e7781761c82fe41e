"""Profiles written from the brief, each with the limiter a coach would name."""

import tomllib
import unittest
from dataclasses import replace

from dachi.core.catalogue.limiter_rules import build_rules
from dachi.core.catalogue.problems import CatalogueError
from dachi.core.judging.limiters import Limiter, SessionReading, limiters
from dachi.data import FOLDER, catalogue, limiter_rules

SHORT = {
    "raise": ("supine-leg-raise", "leg_line"), "lunge": ("low-lunge", "back_hip_extension"),
    "alone": ("low-lunge", "hip_extension"),
    "split": ("front-split", "leg_split"), "square": ("split-squareness", "pelvis_turn"),
    "fly": ("butterfly", "thigh_rise"), "out": ("seated-rotation", "external_rotation"),
    "straddle": ("straddle", "straddle_angle"), "pigeon": ("pigeon", "shin_angle"),
    "fold": ("forward-fold", "trunk_to_leg"), "cross": ("crossed-seat", "thigh_rise"),
    "knee": ("standing-knee-raise", "active_flexion"), "squat": ("deep-squat", "hip_flexion"),
    "half": ("half-split", "hip_flexion"),
}  # fmt: skip


def profile(**values: float) -> list[SessionReading]:
    """``raise_l=80`` is the left passive leg raise; ``a`` before the side is active."""
    found = []
    for key, value in values.items():
        name, _, tail = key.partition("_")
        pose, family = SHORT[name]
        mode = "active" if tail.startswith("a") or name == "knee" else "passive"
        for side in {"l": ("left",), "r": ("right",), "b": ("left", "right"), "o": ("both",)}[
            tail[-1]
        ]:
            found.append(SessionReading(pose, family, family, side, mode, value))
    return found


#: Goal, side, profile, the limiter expected first (None: nothing to name).
PROFILES = [
    ("front-split", "left", profile(split_l=150, raise_l=92, lunge_r=18), "split-hip-flexors"),
    ("front-split", "right", profile(split_r=150, raise_r=92, lunge_l=18), "split-hip-flexors"),
    # The other side's lunge says nothing about this split.
    ("front-split", "left", profile(split_l=150, raise_l=92, lunge_l=18, lunge_r=45), "split-pose"),
    ("front-split", "left", profile(split_l=140, raise_l=62, lunge_r=40), "split-hamstrings"),
    ("front-split", "left", profile(split_l=130, raise_l=62, lunge_r=20), "split-both-ends"),
    ("front-split", "left", profile(split_l=176, split_al=140, raise_l=95, lunge_r=45), "split-strength"),
    ("front-split", "left", profile(split_l=160, split_al=138, raise_l=95, lunge_r=45), "split-pose"),
    ("front-split", "left", profile(split_l=160, raise_l=95, lunge_r=45, square_l=18), "split-pose"),
    ("front-split", "left", profile(split_l=160, square_l=18), "split-square"),
    ("front-split", "left", profile(split_l=178, split_al=170, raise_l=95, lunge_r=45), None),
    ("front-split", "left", profile(split_l=150, raise_l=92), "split-hip-flexors"),
    ("front-split", "left", profile(), None),
    ("supine-leg-raise", "left", profile(raise_l=92, raise_al=60), "raise-strength"),
    ("supine-leg-raise", "left", profile(raise_l=62, raise_al=58, knee_l=118), "raise-hamstrings"),
    ("supine-leg-raise", "left", profile(raise_l=62, raise_al=58, knee_l=90), "raise-hip"),
    ("supine-leg-raise", "right", profile(raise_r=62), "raise-length"),
    ("supine-leg-raise", "right", profile(raise_r=95, raise_ar=90), None),
    ("butterfly", "left", profile(fly_b=25, out_b=42), "butterfly-adductors"),
    ("butterfly", "left", profile(fly_b=25, out_b=22), "butterfly-rotation"),
    ("butterfly", "left", profile(fly_l=25, fly_r=8, out_b=42), None),
    ("butterfly", "left", profile(fly_l=25, fly_r=8, out_l=20, out_r=42), "butterfly-rotation"),
    ("butterfly", "right", profile(fly_b=6, fly_ab=17), "butterfly-strength"),
    ("butterfly", "right", profile(fly_b=6, fly_ab=9), None),
    ("butterfly", "left", profile(fly_b=25, straddle_o=100), "butterfly-adductors-straddle"),
    ("straddle", "both", profile(straddle_o=120, fold_o=95), "straddle-hamstrings"),
    ("straddle", "both", profile(straddle_o=120, raise_b=90, fold_o=50), "straddle-adductors"),
    ("straddle", "both", profile(straddle_o=120, raise_b=60), "straddle-hamstrings-raise"),
    ("straddle", "both", profile(straddle_o=165, raise_b=95), None),
    ("pigeon", "left", profile(pigeon_l=55, out_l=20), "pigeon-rotation"),
    ("pigeon", "left", profile(pigeon_l=20, lunge_r=15), "pigeon-flexors"),
    ("pigeon", "left", profile(pigeon_l=55, out_l=45), "pigeon-outer-hip"),
    ("pigeon", "left", profile(pigeon_l=20, lunge_r=45), None),
    ("crossed-seat", "left", profile(cross_b=25, out_b=42, fly_b=5), "crossed-girth"),
    ("crossed-seat", "left", profile(cross_b=25, out_b=20), "crossed-rotation"),
    ("crossed-seat", "right", profile(cross_b=25, fly_b=25), "crossed-adductors"),
    ("forward-fold", "both", profile(fold_o=90, raise_b=60), "fold-hamstrings"),
    ("forward-fold", "both", profile(fold_o=90, raise_b=95), "fold-back"),
    ("forward-fold", "both", profile(fold_o=45, raise_b=95), None),
    ("deep-squat", "both", profile(squat_o=105, knee_b=90), "squat-hip"),
    ("deep-squat", "both", profile(squat_o=105, knee_b=120), "squat-ankle"),
    ("half-split", "left", profile(half_l=80), "half-split-hamstrings"),
    ("low-lunge", "right", profile(lunge_r=10), "lunge-flexors"),
]  # fmt: skip


def first(goal: str, side: str, readings: list[SessionReading]):
    found = limiters(goal, side, readings, limiter_rules(), catalogue())
    return found[0] if found else None


class Profiles(unittest.TestCase):
    def test_every_profile(self) -> None:
        self.assertGreaterEqual(len(PROFILES), 30)
        for goal, side, readings, expected in PROFILES:
            found = first(goal, side, readings)
            with self.subTest(goal, readings={(r.pose, r.side, r.mode): r.value for r in readings}):
                self.assertEqual(found.rule.id if found else None, expected)

    def test_readings_behind_it_are_listed(self) -> None:
        found = first(
            "front-split", "left", profile(split_l=150, raise_l=92, raise_r=60, lunge_r=18)
        )
        self.assertEqual(
            {(r.pose, r.side) for r in found.readings},
            {("front-split", "left"), ("supine-leg-raise", "left"), ("low-lunge", "right")},
        )
        self.assertEqual(found.rule.settle.pose, "hip-extension-hang")

    def test_with_the_back_in_it_nothing_is_sure(self) -> None:
        """32 with the back is about 18 of the hip alone, and only the hip alone is believed."""
        base = {"split_l": 150, "raise_l": 92}
        for lunge, expected, sure, apparent in (
            ({"lunge_r": 18}, "split-hip-flexors", False, ("low-lunge",)),
            ({"alone_r": 10}, "split-hip-flexors", True, ()),
            # An arched back made it look open: the hip alone decides.
            ({"lunge_r": 40, "alone_r": 10}, "split-hip-flexors", True, ()),
            ({"lunge_r": 40, "alone_r": 25}, "split-pose", True, ()),
            ({"lunge_r": 20, "alone_r": 25}, "split-pose", True, ()),
            # The other side's says nothing.
            ({"lunge_r": 18, "alone_l": 25}, "split-hip-flexors", False, ("low-lunge",)),
        ):
            found = first("front-split", "left", profile(**base, **lunge))
            with self.subTest(lunge):
                said = (found.rule.id, found.sure, found.apparent)
                self.assertEqual(said, (expected, sure, apparent))

    def test_what_is_missing_is_said(self) -> None:
        found = first("front-split", "left", profile(split_l=150, raise_l=92))
        self.assertFalse(found.sure)
        self.assertEqual(found.missing, ("low-lunge",))

    def test_swapping_sides_swaps_the_answer(self) -> None:
        swap = {"left": "right", "right": "left", "both": "both"}
        for goal, side, readings, expected in PROFILES:
            mirrored = [
                SessionReading(r.pose, r.family, r.label, swap[r.side], r.mode, r.value)
                for r in readings
            ]
            found = first(goal, swap[side], mirrored)
            self.assertEqual(found.rule.id if found else None, expected)

    def test_every_rule_is_reached_by_a_profile(self) -> None:
        self.assertEqual({r.id for r in limiter_rules()}, {p[3] for p in PROFILES} - {None})


class Data(unittest.TestCase):
    def test_wrong_rules_are_named(self) -> None:
        good = tomllib.loads((FOLDER / "limiters.toml").read_text("utf-8"))["rules"][0]
        need = good["needs"][0]
        for words, entry in (
            ("no pose 'handstand'", good | {"goal": "handstand"}),
            ("is unclear", good | {"needs": [{k: v for k, v in need.items() if k != "long"}]}),
            ("Invalid enum value 'third'", good | {"needs": [need | {"of": "third"}]}),
            ("has no 'x'", good | {"needs": [need | {"family": "x"}]}),
            ("`alone` goes with", good | {"needs": [need | {"alone": 10.0}]}),
            ("missing required field `because`", {k: v for k, v in good.items() if k != "because"}),
        ):
            with self.subTest(words), self.assertRaisesRegex(CatalogueError, words):
                build_rules([entry], catalogue())


class NotKnownWellEnough(unittest.TestCase):
    """A reading whose interval holds the limit makes a limiter likely no more than perhaps."""

    def of(self, half: float) -> Limiter:
        readings = [replace(r, half=half) for r in profile(split_l=140, raise_l=62, alone_r=28)]
        return limiters("front-split", "left", readings, limiter_rules(), catalogue())[0]

    def test_sure_only_beyond_the_interval(self) -> None:
        sure, vague = self.of(1.0), self.of(12.0)
        self.assertEqual((sure.rule.id, sure.sure, sure.vague), ("split-hamstrings", True, ()))
        self.assertFalse(vague.sure)
        self.assertTrue(vague.vague)
        self.assertEqual(vague.missing, ())

    def test_active_against_passive(self) -> None:
        """60 of 92 is 65 %: 13.6 short of four fifths, so 13 is enough and 14 is not."""
        for within, sure in ((13.0, True), (14.0, False)):
            readings = [replace(r, within=within) for r in profile(raise_l=92, raise_al=60)]
            found = limiters("supine-leg-raise", "left", readings, limiter_rules(), catalogue())
            self.assertEqual((found[0].rule.id, found[0].sure), ("raise-strength", sure))
