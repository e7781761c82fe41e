"""The sheet and today's state either side of every limit."""

import itertools
import unittest

from dachi.core.assessing.permission import (
    Consent,
    Screening,
    cautions,
    may_be_minor,
    passive_refused,
    photograph_refused,
    state_cautions,
)
from dachi.core.assessing.runsheet import (
    SheetLine,
    Slot,
    build,
    first_side,
    first_visit,
    lines_for,
    minutes,
    move,
    ordered,
    slots,
    sort_onto,
    state,
    with_trials,
)
from dachi.core.catalogue.screening import Question
from dachi.core.words import Place
from dachi.data import catalogue


class Today(unittest.TestCase):
    def test_pain(self) -> None:
        for level, words in (
            (0, None), (1, "Pain in the groin, 1 of 10: stop a shot"), (3, "Pain in the groin, 3 of 10: stop a shot"),
            (4, "Pain in the groin is 4 of 10: nothing that loads it"), (9, "Pain in the groin is 9 of 10"),
        ):  # fmt: skip
            found = state_cautions({Place.GROIN: level}, 8)
            self.assertEqual(len(found), 0 if words is None else 1, level)
            if words:
                self.assertTrue(found[0].startswith(words), found)
        worst_first = state_cautions({Place.LEFT_KNEE: 2, Place.GROIN: 7, Place.LOW_BACK: 5}, None)
        self.assertEqual(
            ["groin" in worst_first[0], "back" in worst_first[1], "knee" in worst_first[2]],
            [True] * 3,
        )

    def test_a_short_warm_up(self) -> None:
        for minutes_, said in ((4.9, True), (5, False), (0, True), (None, False)):
            self.assertEqual(bool(state_cautions({}, minutes_)), said, minutes_)

    def test_faces(self) -> None:
        for scope, faces, hidden in (
            ("show", True, False), ("show", False, True), ("measure", True, True), ("teaching", True, True),
            ("teaching", False, True),
        ):  # fmt: skip
            self.assertEqual(Consent("2026-01-01", scope, faces=faces).face_hidden, hidden)
        self.assertTrue(Consent("2026-01-01", "show").face_hidden, "unless they said otherwise")

    def test_who_may_be_photographed(self) -> None:
        """Born in 2008 a person may still be seventeen in 2026; born in 2007 they are not."""
        for born, minor in ((2008, True), (2007, False), (2020, True), (None, True)):
            self.assertEqual(may_be_minor(born, 2026), minor, born)
        plain, guarded = Consent("2026-01-01", "show"), Consent("2026-01-01", "show", "Ola")
        for consent, born, words in (
            (None, 1990, "not recorded yet"), (Consent("2026-01-01", "show", withdrawn_on="2026-02-01"), 1990, "withdrawn"),
            (plain, 2010, "guardian"), (Consent("2026-01-01", "show", "  "), 2010, "guardian"), (guarded, 2010, None),
            (plain, 1990, None), (plain, None, "birth year"), (guarded, None, None),
        ):  # fmt: skip
            found = photograph_refused(consent, born, "2026-05-01")
            self.assertEqual(found is None, words is None)
            if words:
                self.assertIn(words, found)

    def test_the_end_of_passive_range(self) -> None:
        for screening, words in (
            (None, "have not been asked"), (Screening("2026-01-01", ("disc",)), None),
            (Screening("2026-01-01", ("disc",), "Dr. Ebb", "2026-02-01"), None), (Screening("2026-01-01", ()), None),
        ):  # fmt: skip
            found = passive_refused(screening)
            self.assertEqual(found is None, words is None)
            if words:
                self.assertIn(words, found)
        asked = [
            Question(id="disc", ask="?", caution="round less", group="back"),
            Question(id="fever", ask="?", caution="rest", group="today"),
        ]
        self.assertEqual(cautions(Screening("2026-01-01", ("disc",)), asked), ("round less",))
        self.assertEqual(cautions(None, asked), ())


class TheSheet(unittest.TestCase):
    def test_rows_of_a_pose(self) -> None:
        raise_, fly = catalogue().pose("supine-leg-raise"), catalogue().pose("butterfly")
        self.assertEqual(
            lines_for(raise_, "right"),
            tuple(
                SheetLine("supine-leg-raise", s, m, 2)
                for s in ("right", "left")
                for m in ("active", "passive")
            ),
        )
        self.assertEqual(
            lines_for(fly, "right", 3, ["passive"]), (SheetLine("butterfly", "both", "active", 3),)
        )
        self.assertEqual(SheetLine("x", "left", "active").trials, 2)
        sheet = build(catalogue(), goals=[], measured={"butterfly": 3}, first="left")
        self.assertEqual({x.trials for x in sheet}, {2})

    def test_what_a_first_visit_takes(self) -> None:
        """For each direction the least demanding pose that has a passive form."""
        found = first_visit(catalogue())
        for pose_id in found:
            pose = catalogue().pose(pose_id)
            self.assertIn("passive", pose.modes)
            self.assertTrue(any(m.motion for m in pose.headlines))
        directions = {m.motion for p in found for m in catalogue().pose(p).headlines if m.motion}
        every = {
            m.motion
            for p in catalogue().poses
            if "passive" in p.modes
            for m in p.headlines
            if m.motion
        }
        self.assertEqual(directions, every)

    def test_within_a_demand_one_view_after_the_other(self) -> None:
        for n in range(1, 8):
            same = [p for p in catalogue().poses if p.demand == n]
            views = [p.view for p in ordered(same)]
            changes = sum(a != b for a, b in itertools.pairwise(views))
            self.assertEqual(changes, max(0, len(set(views)) - 1), views)
        lowest = [p for p in catalogue().poses if p.view == "side"][:1]
        both = [p for p in catalogue().poses if p.demand == 3]
        order = ordered([*lowest, *both])
        if len({p.view for p in both}) == 2 and lowest[0].demand < 3:
            self.assertEqual(order[1].view, "side", "the camera is left where it stands")

    def test_how_long_it_takes(self) -> None:
        """Trial and marking 60 s, a pose 40, the camera 75, the other side 20, after a deep pose 40."""
        raise_ = [
            SheetLine("supine-leg-raise", "left", "active", 2),
            SheetLine("supine-leg-raise", "left", "passive", 1),
        ]
        self.assertAlmostEqual(minutes(raise_, catalogue()) * 60, 3 * 60 + 40 + 75)
        both = [*raise_, SheetLine("supine-leg-raise", "right", "passive", 1)]
        self.assertAlmostEqual(minutes(both, catalogue()) * 60, 4 * 60 + 40 + 75 + 20)
        deep = next(p for p in catalogue().poses if p.demand == 5)
        shallow = next(p for p in catalogue().poses if p.demand == 4)
        last = catalogue().pose("supine-leg-raise")
        for before, counter in ((deep, 40), (shallow, 0)):
            rows = [
                SheetLine(before.id, "left", "active", 1),
                SheetLine(last.id, "left", "active", 1),
            ]
            camera = 0 if before.setup == last.setup else 75
            self.assertAlmostEqual(
                minutes(rows, catalogue()) * 60,
                2 * 60 + 2 * 40 + 75 + camera + counter,
                msg=before.id,
            )
        self.assertEqual(minutes([], catalogue()), 0)

    def test_moving_and_trials(self) -> None:
        rows = [SheetLine(p, s, "active") for p in "abc" for s in ("left", "right")]

        def order(lines) -> str:
            return "".join(dict.fromkeys(x.pose for x in lines))

        for pose, step, found in (
            ("a", 1, "bac"),
            ("c", -1, "acb"),
            ("a", -1, "abc"),
            ("c", 1, "abc"),
            ("a", 9, "bca"),
            ("b", 1, "acb"),
        ):
            self.assertEqual(order(move(rows, pose, step)), found, (pose, step))
        key = ("a", "left", "active")
        for trials, left in ((3, 3), (4, 3), (1, 1), (0, None), (9, 3)):
            counts = {(x.pose, x.side): x.trials for x in with_trials(rows, key, trials)}
            self.assertEqual(counts.get(("a", "left")), left)
            self.assertEqual(counts[("a", "right")], 2)
        self.assertEqual(
            slots([SheetLine("a", "left", "active", 2)]),
            (Slot("a", "left", "active", 1), Slot("a", "left", "active", 2)),
        )
        self.assertEqual(
            [first_side(x) for x in ([], ["left"], ["right", "left"], ["both"])],
            ["left", "right", "left", "left"],
        )

    def test_the_state_of_a_row(self) -> None:
        for statuses, trials, found in (
            ([], 2, "empty"), ([("unmarked", False), ("ok", False)], 2, "photographed"), ([("ok", False)], 2, "marked"),
            ([("ok", False)], 1, "valid"), ([("watch", False), ("ok", False)], 2, "valid"), ([("retake", False)], 1, "retake"),
            ([("retake", True)], 1, "valid"), ([("retake", False), ("ok", False)], 1, "valid"),
            ([("retake", False), ("ok", False)], 2, "retake"), ([("retake", False), ("ok", False), ("ok", False)], 2, "valid"),
        ):  # fmt: skip
            self.assertEqual(state(statuses, trials), found)

    def test_a_folder_sorted_by_time_then_by_order(self) -> None:
        places = [Slot("a", "left", "active", n) for n in (1, 2)]
        found = sort_onto(
            [("x", "2026-01-01T10:05"), ("y", "2026-01-01T10:00"), ("z", None)], places
        )
        self.assertEqual(found, (("y", places[0]), ("z", places[1]), ("x", None)))
        self.assertEqual(sort_onto([("x", None)], places), (("x", places[0]),))
        self.assertEqual(sort_onto([("x", None), ("y", None)], []), (("x", None), ("y", None)))
        # What was seen goes to its own place; the rest keeps the order of time.
        slots = [Slot("a", "left", "passive", 1), Slot("a", "right", "passive", 1),
                 Slot("b", "both", "passive", 1), Slot("a", "left", "passive", 2)]  # fmt: skip
        for seen, expected in (
            ({}, (0, 1, 2, 3)),
            ({"w": ("b", "both")}, (2, 0, 1, 3)),
            ({"z": ("a", "left"), "y": ("a", "left")}, (1, 2, 0, 3)),
            ({"w": ("a", "")}, (0, 1, 2, 3)), ({"x": ("a", "")}, (1, 0, 2, 3)),
            ({"w": ("c", "left")}, (None, 0, 1, 2)),
            ({"w": ("b", "both"), "x": ("b", "both")}, (2, None, 0, 1)),
        ):  # fmt: skip
            laid = sort_onto([(k, None) for k in "wxyz"], slots, seen)
            want = tuple(None if i is None else slots[i] for i in expected)
            self.assertEqual(tuple(s for _, s in laid), want, seen)
        same = sort_onto([("b", "2026-01-01T10:00"), ("a", "2026-01-01T10:00")], places)
        self.assertEqual([k for k, _ in same], ["b", "a"])
