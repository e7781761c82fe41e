"""The order of an assessment, as tables of cases."""

import unittest
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from dachi.core.assessing.runsheet import (
    SheetLine,
    Slot,
    build,
    first_side,
    first_visit,
    lines_for,
    minutes,
    move,
    slots,
    sort_onto,
    state,
    with_trials,
)
from dachi.data import catalogue
from tests import slow

ALL = [p.id for p in catalogue().poses]


class TheSheet(unittest.TestCase):
    @slow("goes through every sheet")
    @given(st.sets(st.sampled_from(ALL), min_size=1), st.sampled_from(["left", "right"]))
    def test_order_of_every_sheet(self, poses: set[str], first: str) -> None:
        sheet = build(catalogue(), goals=poses, measured={}, first=first)
        self.assertEqual({x.pose for x in sheet}, poses)
        demands = [catalogue().pose(x.pose).demand for x in sheet]
        self.assertEqual(demands, sorted(demands), "least to most demanding")
        for a, b in pairwise(sheet):
            if (a.pose, a.side) == (b.pose, b.side):
                self.assertEqual((a.mode, b.mode), ("active", "passive"))
            if a.pose == b.pose and a.side != b.side:
                self.assertEqual(a.side, first, "both sides before the next pose")

    def test_what_a_sheet_is_made_of(self) -> None:
        motions = {
            m.motion for p in first_visit(catalogue()) for m in catalogue().pose(p).headlines
        }
        self.assertGreaterEqual(
            motions,
            {
                "flexion",
                "extension",
                "abduction",
                "adduction",
                "external_rotation",
                "internal_rotation",
            },
        )
        goal = build(
            catalogue(), goals=["front-split"], measured={"butterfly": 3}, first="left",
            limits={"front-split": ["low-lunge", "no-such-pose"]},
        )  # fmt: skip
        self.assertEqual(
            list(dict.fromkeys(x.pose for x in goal)), ["butterfly", "low-lunge", "front-split"]
        )
        quiet = build(
            catalogue(),
            goals=["butterfly"],
            measured={},
            first="left",
            refused=lambda _pose, mode, _side: mode == "passive",
        )
        self.assertEqual({x.mode for x in quiet}, {"active"})

    def test_the_first_side_alternates(self) -> None:
        for before, then in (([], "left"), (["left"], "right"), (["right", "left"], "left")):
            self.assertEqual(first_side(before), then)

    def test_minutes_by_hand(self) -> None:
        raise_, split = catalogue().pose("supine-leg-raise"), catalogue().pose("front-split")
        one = [SheetLine(raise_.id, "left", "active", 2)]
        self.assertAlmostEqual(minutes(one, catalogue()), (2 * 60 + 40 + 75) / 60)
        both = [*one, SheetLine(raise_.id, "right", "active", 1)]
        self.assertAlmostEqual(minutes(both, catalogue()), (3 * 60 + 40 + 75 + 20) / 60)
        deep = [SheetLine(split.id, "left", "active", 1), SheetLine(raise_.id, "left", "active", 1)]
        self.assertAlmostEqual(minutes(deep, catalogue()), (2 * 60 + 2 * 115 + 40) / 60)

    def test_changing_it(self) -> None:
        sheet = build(
            catalogue(), goals=["butterfly", "straddle", "deep-squat"], measured={}, first="left"
        )
        order = list(dict.fromkeys(x.pose for x in sheet))
        up = list(dict.fromkeys(x.pose for x in move(sheet, order[2], -1)))
        self.assertEqual(up, [order[0], order[2], order[1]])
        self.assertEqual(move(sheet, order[0], -1), sheet)
        key = (order[0], "both", "active")
        self.assertEqual(with_trials(sheet, key, 3)[0].trials, 3)
        self.assertEqual(len(with_trials(sheet, key, 0)), len(sheet) - 1)

    def test_states(self) -> None:
        ok, watch, retake, new = (
            ("ok", False),
            ("watch", False),
            ("retake", False),
            ("unmarked", False),
        )
        for statuses, trials, expected in (
            ([], 2, "empty"),
            ([ok, new], 2, "photographed"),
            ([ok], 2, "marked"),
            ([ok, watch], 2, "valid"),
            ([ok, retake], 2, "retake"),
            ([ok, ("retake", True)], 2, "valid"),
            ([ok, retake, ok], 2, "valid"),
        ):
            with self.subTest(statuses):
                self.assertEqual(state(statuses, trials), expected)

    def test_sorting_a_folder(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        places = slots(lines_for(pose, "right", 1))
        self.assertEqual(places[0], Slot(pose.id, "right", "active", 1))
        laid = sort_onto(
            [("c", "2026-11-25T10:03"), ("a", "2026-11-25T10:01"), ("x", None), ("b", "2026-11-25T10:02"),
             ("z", "2026-11-25T11:00")],
            places,
        )  # fmt: skip
        # What has no time follows the one it came in after; what has no place is left over.
        self.assertEqual([k for k, _ in laid], ["a", "x", "b", "c", "z"])
        self.assertEqual([s for _, s in laid], [*places, None])
