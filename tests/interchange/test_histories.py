"""The history file: verdicts on made-up people whose courses and scatters are known."""

import io
import json
import unittest
from contextlib import redirect_stdout
from datetime import datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from dachi.cli import main
from dachi.data import catalogue, scatter_priors
from dachi.interchange.histories import HistoryError, judge, judge_line
from dachi.interchange.json_lines import FORMATS, complaint

START = datetime(2026, 3, 2, 17, 30)


def person(
    rng: np.random.Generator, *, rate: float = 0.0, visits: int = 7, visit_sd: float = 1.5,
    trial_sd: float = 1.5, pose: str = "supine-leg-raise", **more: object,
) -> list[dict]:  # fmt: skip
    """Three weeks between visits, two trials each; the left passive side moves by ``rate``."""
    found = []
    for i in range(visits):
        at = START + timedelta(days=21 * i)
        for side in ("left", "right"):
            for mode, level in (("active", 60.0), ("passive", 80.0)):
                day = rng.normal(0, visit_sd)
                moved = rate * 3 * i if (side, mode) == ("left", "passive") else 0.0
                for k in range(2):
                    value = level + moved + day + rng.normal(0, trial_sd)
                    found.append(
                        {"pose": pose, "side": side, "mode": mode, "value": round(value, 2), "sd": 1.4,
                         "taken_at": (at + timedelta(minutes=3 * k)).isoformat(timespec="minutes"),
                         "valid": True, "conditions": {"warmth": "warm", "method": "mat"}} | more
                    )  # fmt: skip
    return found


def judged(trials: list[dict], **more: object) -> dict:
    studio = json.dumps(more.pop("studio", [])).encode()
    found = judge({"trials": trials, **more}, catalogue(), scatter_priors(), studio)
    assert complaint("verdict", found) is None, complaint("verdict", found)
    return found


def line(found: dict, side: str = "left", mode: str = "passive") -> dict:
    return next(x for x in found["lines"] if (x["side"], x["mode"]) == (side, mode))


class Judged(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(5)
        self.studio = [person(rng) for _ in range(5)]
        self.rising = person(rng, rate=1.0)

    def test_a_true_gain_is_confirmed_and_what_stood_still_is_not(self) -> None:
        target = {"pose": "supine-leg-raise", "side": "left", "mode": "passive"}
        found = judged(self.rising, studio=self.studio, targets=[target | {"value": 103.0}])
        moved = line(found)
        self.assertEqual(moved["since_first"]["verdict"], "real gain")
        self.assertEqual(moved["since_first"]["stage"], "confirmed")
        self.assertTrue(moved["since_first"]["why"])
        self.assertTrue(moved["since_first"]["low"] < 18.0 < moved["since_first"]["high"])
        self.assertTrue(moved["trend"]["low"] < 1.0 < moved["trend"]["high"])
        self.assertEqual(moved["forecast"]["state"], "window")
        self.assertLess(moved["forecast"]["earliest"], moved["forecast"]["latest"])
        for side, mode in (("right", "passive"), ("left", "active"), ("right", "active")):
            self.assertIsNone(line(found, side, mode)["since_first"]["stage"])
            self.assertIsNone(line(found, side, mode)["forecast"])
        self.assertEqual(len(moved["sessions"]), 7)
        self.assertEqual({s["trials"] for s in moved["sessions"]}, {2})
        told = found["scatter"]["supine-leg-raise"]
        self.assertAlmostEqual(told["trial_sd"], 1.5, delta=0.3)
        self.assertAlmostEqual(told["visit_sd"], 1.5, delta=0.6)
        # Reserve 20 and more, and no side tighter among the active ones.
        reserve = next(r for r in found["reserve"] if r["side"] == "right")
        self.assertTrue(reserve["low"] < 20.0 < reserve["high"])
        passive = next(a for a in found["asymmetry"] if a["mode"] == "passive")
        self.assertEqual(passive["tighter"], "right")

    def test_butterflies_gain_downwards(self) -> None:
        rng = np.random.default_rng(6)
        found = judged(person(rng, rate=-1.0, pose="butterfly"), studio=[])
        self.assertEqual(line(found)["better"], "lower")
        self.assertEqual(line(found)["since_first"]["verdict"], "real gain")

    def test_the_studio_is_heard(self) -> None:
        rng = np.random.default_rng(7)
        shaky = [person(rng, visit_sd=6.0, trial_sd=5.0) for _ in range(5)]
        steady = judged(self.rising, studio=self.studio)
        self.assertGreater(
            judged(self.rising, studio=shaky)["scatter"]["supine-leg-raise"]["visit_sd"],
            2 * steady["scatter"]["supine-leg-raise"]["visit_sd"],
        )

    def test_what_does_not_count(self) -> None:
        """Invalid trials and other conditions are left out; what was never measured is no line."""
        cold = [t | {"conditions": {"warmth": "cold", "method": "mat"}} for t in self.rising[:4]]
        wrong = [t | {"value": 5.0, "valid": False} for t in self.rising[-4:]]
        plain = judged(self.rising[4:])
        found = judged([*cold, *self.rising[4:], *wrong])
        self.assertEqual(found, plain)
        self.assertEqual(judged([])["lines"], [])
        two = judged(self.rising[:16])
        self.assertIsNone(line(two)["trend"])
        self.assertIsNotNone(line(two)["since_first"])
        self.assertIsNone(line(judged(self.rising[:8]))["since_first"])

    def test_trials_of_one_hour_are_one_visit(self) -> None:
        one = [t for t in self.rising if t["taken_at"].startswith("2026-03-02")]
        split = [t | {"taken_at": "2026-03-02T21:45"} for t in one]
        self.assertEqual(len(line(judged(one))["sessions"]), 1)
        self.assertEqual(len(line(judged([*one, *split]))["sessions"]), 2)


class Lines(unittest.TestCase):
    def answer(self, data: object) -> dict:
        text = data if isinstance(data, bytes) else json.dumps(data).encode()
        found = judge_line(text, catalogue(), scatter_priors())
        self.assertIsNone(complaint("verdict", found))
        return found

    def test_errors_say_what_is_wrong(self) -> None:
        good = {
            "pose": "butterfly",
            "side": "left",
            "mode": "passive",
            "taken_at": "2026-01-01",
            "value": 3,
        }
        for data, known, words in (
            (b"{", None, "not JSON"), ([], None, "JSON object"), ({"id": 4}, 4, "'trials' is a required"),
            ({"id": "a", "trials": [good | {"pose": "nope"}]}, "a", "no pose 'nope'"),
            ({"id": "a", "trials": [good | {"taken_at": "soon"}]}, "a", "no date and time"),
            ({"id": "a", "trials": [good | {"side": "up"}]}, "a", "trials.0.side"),
            ({"id": "a", "trials": [good | {"value": 1e9}]}, "a", "trials.0.value"),
            ({"id": "a", "trials": [good], "studio": [[{"pose": "butterfly"}]]}, "a", "studio.0.0"),
            ({"id": "a", "trials": [good], "targets": [{"pose": "nope", "side": "left", "mode": "passive", "value": 1}]},
             "a", "targets.0"),
            (b'{"id": "a", "trials": [], "x": NaN}', None, "not JSON"),
        ):  # fmt: skip
            found = self.answer(data)
            with self.subTest(data=data):
                self.assertEqual(found["id"], known)
                self.assertIn(words, found["error"])
        self.assertEqual(self.answer({"id": True, "trials": []})["id"], None)
        with self.assertRaises(HistoryError):
            judge({"trials": [good | {"pose": "nope"}]}, catalogue(), scatter_priors())

    def test_the_command(self) -> None:
        """One line in, one out, in order; 1 where any was no history, 2 for no file."""
        rng = np.random.default_rng(1)
        lines = [
            json.dumps({"id": "p7", "trials": person(rng, visits=3)}),
            "x",
            "",
            json.dumps({"id": 2, "trials": []}),
        ]
        with TemporaryDirectory() as folder:
            path = Path(folder) / "histories.jsonl"
            path.write_text("\n".join(lines))
            out = io.StringIO()
            with redirect_stdout(out):
                self.assertEqual(main(["judge", str(path)]), 1)
            found = [json.loads(x) for x in out.getvalue().splitlines()]
            self.assertEqual([f["id"] for f in found], ["p7", None, 2])
            self.assertEqual(main(["judge", str(path) + "-"]), 2)
            path.write_text(lines[0])
            with redirect_stdout(io.StringIO()):
                self.assertEqual(main(["judge", str(path)]), 0)

    def test_schemas_are_published(self) -> None:
        self.assertLessEqual({"scene", "result", "history", "verdict"}, set(FORMATS))
        for name in ("history", "verdict"):
            out = io.StringIO()
            with redirect_stdout(out):
                self.assertEqual(main(["schema", name]), 0)
            self.assertEqual(json.loads(out.getvalue())["title"], f"dachi-{name}")
