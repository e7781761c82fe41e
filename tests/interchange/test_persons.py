"""The person file: weeks of made-up people, read as a physiotherapist would."""

import io
import json
import unittest
from contextlib import redirect_stdout
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from dachi.cli import main
from dachi.core.practising.dose import ENTER_S
from dachi.data import drills
from dachi.interchange.json_lines import FORMATS, complaint
from dachi.interchange.persons import PersonError, plan_json, plan_line
from tools import weeks

BY_ID = {d.id: d for d in drills()}
PROPS = ["mat", "wall", "block", "strap", "cushion", "bolster", "chair"]
SOMEBODY: dict[str, Any] = {
    "id": "w", "today": "2026-11-26", "birth_year": 1990, "level": 2, "days": {"mon": 20, "thu": 20},
    "props": ["mat", "wall", "block", "strap"],
}  # fmt: skip


def planned(**more: Any) -> dict[str, Any]:
    found = plan_json(SOMEBODY | more)
    assert complaint("week", found) is None, complaint("week", found)
    return found


def used(found: dict[str, Any]) -> set[str]:
    return {i["drill"] for s in found["sessions"] for i in s["items"]}


class Described(unittest.TestCase):
    def test_the_page_of_ten_people_is_what_is_planned(self) -> None:
        self.assertEqual(weeks.OUT.read_text("utf-8"), weeks.page(), "python -m tools.weeks")


class Weeks(unittest.TestCase):
    def test_every_drill_is_used_or_its_absence_told(self) -> None:
        found = planned(goals=["front-split"])
        self.assertEqual(used(found) | {f["drill"] for f in found["fell_out"]}, set(BY_ID))
        self.assertEqual([s["day"] for s in found["sessions"]], ["mon", "thu"])
        for s in found["sessions"]:
            self.assertLessEqual(s["total_s"], 20 * 60)
            worked = sum(max(i["left_s"], i["right_s"]) for i in s["items"])
            self.assertGreater(s["total_s"], worked + ENTER_S * len(s["items"]) - 1)
            for i in s["items"]:
                self.assertEqual(i["left_s"], i["right_s"], "nobody is tighter")
                self.assertEqual(i["first"] is None, BY_ID[i["drill"]].sides == "both")

    def test_days_of_different_lengths(self) -> None:
        found = planned(days={"mon": 10, "wed": 10, "sun": 45}, goals=["butterfly"])
        times = {s["day"]: s["total_s"] for s in found["sessions"]}
        self.assertEqual(list(times), ["mon", "wed", "sun"])
        self.assertLessEqual(max(times["mon"], times["wed"]), 600)
        self.assertGreater(times["sun"], 900)

    def test_the_tighter_side_gets_more(self) -> None:
        readings = [
            {"pose": "supine-leg-raise", "side": side, "mode": mode, "value": value, "sd": 1.0}
            for side, passive in (("left", 60), ("right", 88))
            for mode, value in (("passive", passive), ("active", passive - 10))
        ]
        found = planned(readings=readings, goals=["supine-leg-raise"])
        uneven = [i for s in found["sessions"] for i in s["items"] if i["left_s"] > i["right_s"]]
        self.assertTrue(uneven)
        self.assertEqual({i["first"] for i in uneven}, {"left"})
        self.assertFalse(
            [i for s in found["sessions"] for i in s["items"] if i["left_s"] < i["right_s"]]
        )

    def test_rungs_are_climbed_in_order(self) -> None:
        """Nobody's readings: no drill of a higher rung; a raise known well enough opens one."""
        bare = planned(level=3, props=PROPS)
        self.assertFalse(
            used(bare)
            & {
                "goal-front-split",
                "goal-deep-squat",
                "goal-straddle",
                "goal-pigeon",
                "half-split-fold",
            }
        )
        told = {f["drill"]: f["reason"] for f in bare["fell_out"]}
        self.assertIn("rung is not reached", told["half-split-fold"])
        for sd, opened in ((1.0, True), (6.0, False)):
            readings = [
                {"pose": "supine-leg-raise", "side": s, "mode": "passive", "value": 86, "sd": sd}
                for s in ("left", "right")
            ]
            why = {
                f["drill"]: f["reason"]
                for f in planned(level=3, props=PROPS, readings=readings)["fell_out"]
            }
            self.assertEqual(
                "rung is not reached" not in why.get("half-split-fold", ""), opened, sd
            )

    def test_no_session_for_a_fever(self) -> None:
        found = planned(screening={"fever": {"yes": True}})
        self.assertEqual(found["sessions"], [])
        self.assertIn("rest", found["cautions"][0])
        self.assertEqual(len(planned(screening={"fever": {"yes": False}})["sessions"]), 2)

    def test_who_may_be_young_is_not_brought_to_passive_ends(self) -> None:
        for born in (None, 2012):
            found = planned(birth_year=born)
            self.assertFalse([d for d in used(found) if BY_ID[d].passive_end])
            self.assertIn("age unknown", " ".join(found["cautions"]))
        self.assertTrue([d for d in used(planned()) if BY_ID[d].passive_end])

    def test_pain_counts_until_it_is_back(self) -> None:
        """Fresh for a fortnight, then the middle of its range until it is said to be quiet."""
        ends = {"raise-up", "raise-traction", "pyramid", "lunge-half-split"}
        for on, stage in (
            ("2026-11-26", "fresh"), ("2026-11-13", "fresh"), ("2026-11-12", "back"), ("2026-10-01", "back"),
            ("2026-05-01", ""), ("2026-12-01", ""),
        ):  # fmt: skip
            sore = {"place": "thigh_back", "side": "left", "kind": "sharp", "on": on}
            found = planned(pain=[sore])
            said = [c for c in found["cautions"] if c.startswith("Back of the thigh")]
            self.assertEqual(bool(said), bool(stage), on)
            self.assertEqual(any("coming back" in c for c in said), stage == "back", on)
            for i in (i for s in found["sessions"] for i in s["items"] if i["drill"] in ends):
                # The other leg keeps its work.
                self.assertTrue(not stage or (i["left_s"] == 0 and i["right_s"] > 0), (on, i))

    def test_who_is_referred(self) -> None:
        def at(*days: str, place: str = "knee_inner", kind: str = "ache") -> list[dict[str, str]]:
            return [{"place": place, "side": "left", "kind": kind, "on": d} for d in days]

        for pains, referred in (
            (at("2026-11-20"), False), (at("2026-11-20", "2026-11-20"), False), (at("2026-11-20", "2026-11-24"), True),
            (at("2026-10-01", "2026-11-24"), False), (at("2026-11-20") + at("2026-11-22", place="groin"), False),
            (at("2026-11-20") + at("2026-11-22", place="knee_back"), True),
            (at("2026-11-20", kind="tingling") + at("2026-11-22", place="foot", kind="tingling"), True),
        ):  # fmt: skip
            self.assertEqual(planned(pain=pains)["referred"], referred, pains)

    def test_a_goal_shapes_the_week(self) -> None:
        """From the first day, before anything is known of what holds it back."""
        holds = {}
        for goal, some in (
            ("front-split", {"raise-block", "lunge-half-split"}), ("straddle", {"side-lunge", "wall-straddle"}),
            ("deep-squat", {"squat-supported", "squat-forearm"}), ("pigeon", {"figure-four"}),
        ):  # fmt: skip
            found = planned(goals=[goal])
            self.assertLessEqual(some, used(found), goal)
            holds[goal] = frozenset(used(found))
            reasons = {i["reason"] for s in found["sessions"] for i in s["items"]}
            self.assertTrue([r for r in reasons if "on the way to the" in r], goal)
        self.assertEqual(len(set(holds.values())), len(holds))


class Lines(unittest.TestCase):
    def test_errors_say_what_is_wrong(self) -> None:
        for change, words in (
            ({"today": "soon"}, "no date"), ({"goals": ["moon"]}, "no 'moon'"), ({"props": ["jetpack"]}, "no 'jetpack'"),
            ({"schools": {"mood": "good"}}, "no 'mood'"), ({"schools": {"split": "wild"}}, "no 'wild'"),
            ({"screening": {"gout": {"yes": True}}}, "no 'gout'"), ({"days": {}}, "days"), ({"days": {"mon": 1}}, "days.mon"),
            ({"screening": {"hip_replacement": {"yes": True, "allowed": ["up"]}}}, "no 'up'"),
            ({"readings": [{"pose": "nope", "side": "left", "mode": "passive", "value": 3}]}, "no pose 'nope'"),
            ({"readings": [{"pose": "butterfly", "measure": "x", "side": "left", "mode": "passive", "value": 3}]}, "no measure 'x'"),
            ({"pain": [{"place": "elbow", "on": "2026-11-20"}]}, "pain.0.place"),
            ({"pain": [{"place": "groin", "on": "then"}]}, "no date"),
        ):  # fmt: skip
            with self.subTest(change), self.assertRaisesRegex(PersonError, words):
                plan_json(SOMEBODY | change)
            self.assertIn(words, plan_line(json.dumps(SOMEBODY | change).encode())["error"])
        self.assertIn("not JSON", plan_line(b"{")["error"])
        self.assertIn("error", plan_line(b"[]"))

    def test_the_command_and_its_schemas(self) -> None:
        with TemporaryDirectory() as folder:
            path = Path(folder) / "people.jsonl"
            path.write_text(json.dumps(SOMEBODY) + "\n{}\n")
            out = io.StringIO()
            with redirect_stdout(out):
                self.assertEqual(main(["plan", str(path)]), 1)
            one, two = (json.loads(x) for x in out.getvalue().splitlines())
            self.assertEqual(one["id"], "w")
            self.assertIn("error", two)
        self.assertLessEqual({"person", "week"}, set(FORMATS))
