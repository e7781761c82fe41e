"""Scenes through the command line: exactly as published, and never a crash."""

import contextlib
import io
import json
import math
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from dachi.cli import main
from dachi.core.measuring.measure import measure
from dachi.data import catalogue
from dachi.interchange.json_lines import complaint, lines_of
from dachi.interchange.scenes import (
    MOST_BYTES,
    measure_json,
    scene_from_json,
    scene_to_json,
)
from dachi.simulation.camera import Shot
from tests.support import LEG_RAISE, scene_of


def example() -> dict:
    scene = scene_of(LEG_RAISE, Shot("left", 84.0, yaw_deg=8), noise=np.random.default_rng(1))
    return scene_to_json(scene) | {"id": "a1"}


def changed(path: str, value: object) -> dict:
    data = json.loads(json.dumps(example()))
    *way, last = path.split(".")
    at = data
    for step in way:
        at = at[step]
    if value is ...:
        del at[last]
    else:
        at[last] = value
    return data


def run(text: bytes) -> tuple[int, list[dict]]:
    source = io.TextIOWrapper(io.BytesIO(text))
    out = io.StringIO()
    with mock.patch("sys.stdin", source), contextlib.redirect_stdout(out):
        status = main(["measure", "-"])
    return status, [json.loads(line) for line in out.getvalue().splitlines()]


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4)
    ),
    max_leaves=12,
)


class Format(unittest.TestCase):
    def test_the_same_as_the_core(self) -> None:
        result = measure_json(example(), catalogue())
        reading = measure(scene_from_json(example()), catalogue()).headline
        headline = next(m for m in result["measures"] if m["headline"])
        self.assertEqual(result["id"], "a1")
        self.assertEqual(result["method"], "mat")
        self.assertAlmostEqual(headline["value"], reading.value, places=3)
        self.assertLess(abs(headline["value"] - 84), 2.5 * headline["sd"])
        self.assertAlmostEqual(
            headline["high"] - headline["low"], 2 * 1.96 * headline["sd"], delta=0.01
        )
        self.assertAlmostEqual(result["camera"]["yaw_deg"], 8.0, delta=2.0)
        self.assertIsNone(complaint("result", result))

    def test_there_and_back(self) -> None:
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "right"
            scene = scene_of(pose.id, Shot(side, pose.figure.low + 8), mode=next(iter(pose.modes)))
            data = json.loads(json.dumps(scene_to_json(scene)))
            self.assertIsNone(complaint("scene", data), pose.id)
            self.assertEqual(scene_from_json(data), scene, pose.id)
            self.assertIsNone(complaint("result", measure_json(data, catalogue())), pose.id)

    def test_marks_are_set_by_eye_unless_said(self) -> None:
        """What lies on the skin is not what lies at the joint."""
        read = {}
        for way in (None, "eye", "palpated", "sticker", "joint"):
            data = example() | {"marked": way}
            found = measure_json(data if way else {k: data[k] for k in data if k != "marked"},
                                 catalogue())["measures"][0]  # fmt: skip
            read[way] = (found["value"], found["sd"], found["sd_change"])
            self.assertLessEqual(found["sd_change"], found["sd"])
        self.assertEqual(read[None], read["eye"])
        self.assertNotEqual(read["eye"], read["joint"])
        self.assertLess(read["sticker"][1], read["eye"][1])
        one = example() | {"marked": "eye", "marked_by_mark": {"hip": "joint"}}
        self.assertNotEqual(measure_json(one, catalogue())["measures"][0]["value"], read["eye"][0])

    def test_two_photographs_of_one_hold(self) -> None:
        data = example() | {"marked": "eye"}
        own = ("image", "mat", "marks", "facing", "level")
        view = {k: data.pop(k) for k in own if k in data} | {"view": "side"}
        alone = measure_json(example() | {"marked": "eye"}, catalogue())["measures"][0]
        both = measure_json(data | {"views": [view, view]}, catalogue())
        self.assertEqual(both["method"], "mat")
        self.assertLess(both["measures"][0]["sd"], alone["sd"])
        self.assertIsNone(complaint("result", both))
        scene = scene_from_json(data | {"views": [view, view]})
        self.assertEqual(scene_from_json(scene_to_json(scene)), scene)
        for wrong, words in (
            ({"views": []}, "views"),
            ({"views": [view, view | {"view": "front"}]}, "photograph 2 (front)"),
            ({"views": [view | {"marks": {}}]}, "photograph 1 (side): still to mark"),
            ({"views": [{k: v for k, v in view.items() if k != "image"}]}, "image"),
        ):
            with self.subTest(words):
                self.assertIn(words, measure_json(data | wrong, catalogue())["error"])

    def test_method_follows_what_calibrates(self) -> None:
        level = [[100, 880], [1200, 884]]
        cases = {
            "mat": example(),
            "level": changed("mat", None) | {"level": level},
            "picture": changed("mat", ...),
        }
        for method, data in cases.items():
            result = measure_json(data, catalogue())
            self.assertEqual(result["method"], method)
            self.assertEqual("camera" in result, method == "mat")
            self.assertIsNone(complaint("result", result))

    def test_unhappy_scenes_are_told_why(self) -> None:
        cases = {
            "'marks' is a required": changed("marks", ...),
            "no pose called": changed("pose", "handstand"),
            "image.focal_35mm": changed("image.focal_35mm", 0),
            "mat.length_cm": changed("mat.length_cm", -183),
            "mat.width_cm": changed("mat.width_cm", 1e9),
            "longer side": changed("mat.width_cm", 190),
            "'far_left' is a required": changed("mat.corners.far_left", ...),
            "is not a position": changed("marks.knee", [math.nan, 4]),
            "marks.knee": changed("marks.knee", "there"),
            "outside the picture": changed("marks.knee", [-40, 10]),
            "still to mark": changed("marks.knee", ...),
            "side": changed("side", "upper"),
            "is not one of": changed("mode", "asleep"),
            "version": changed("version", 2),
            "from the side, not from the front": changed("view", "front"),
            "crosses itself": changed("mat.corners", {
                "near_left": [210, 900], "near_right": [1100, 905],
                "far_right": [300, 758], "far_left": [1000, 760]}),
        }  # fmt: skip
        for words, data in cases.items():
            with self.subTest(words):
                result = measure_json(data, catalogue())
                self.assertIn(words, result["error"])
                self.assertEqual(result["id"], "a1")
                self.assertIsNone(complaint("result", result))

    def test_marks_behind_the_camera(self) -> None:
        """A straddle's ankle above the horizon lies on no floor: no body is behind such marks."""
        scene = scene_of("straddle", Shot("both", 100.0))
        data = scene_to_json(scene)
        data["marks"]["left_ankle"] = [1000, 2]
        found = measure_json(data, catalogue())
        self.assertIn("pose_fit", [c["id"] for c in found["checks"] if c["status"] == "retake"])

    @given(JSON)
    @settings(max_examples=150, deadline=None)
    def test_arbitrary_json_never_raises(self, data: object) -> None:
        result = measure_json(data, catalogue())
        self.assertIn("error", result)
        self.assertIsNone(complaint("result", json.loads(json.dumps(result))))

    @given(
        st.sampled_from(
            ["marks.knee", "marks.hip", "mat.corners.near_left", "mat.corners.far_right"]
        ),
        st.tuples(st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)),
        st.floats(5, 1000),
    )
    @settings(max_examples=80, deadline=None)
    def test_wild_positions_never_raise(self, path, point, focal) -> None:
        data = changed(path, list(point))
        data["image"]["focal_35mm"] = focal
        result = measure_json(data, catalogue())
        self.assertIsNone(complaint("result", result))
        self.assertTrue("error" in result or math.isfinite(result["measures"][0]["value"]))


class CommandLine(unittest.TestCase):
    def test_a_bad_line_does_not_stop_the_rest(self) -> None:
        good = json.dumps(example()).encode()
        huge = b'{"id": "' + b"x" * (10 << 20) + b'"}'
        status, results = run(b"\n".join([good, b"not json", b"", huge, b"[1, 2]", good]))
        self.assertEqual(status, 1)
        self.assertEqual(["error" in r for r in results], [False, True, True, True, False])
        self.assertIn("not JSON", results[1]["error"])
        self.assertIn("longer than", results[2]["error"])

    def test_exit_status(self) -> None:
        self.assertEqual(run(json.dumps(example()).encode())[0], 0)
        heard = io.StringIO()
        with contextlib.redirect_stderr(heard):
            self.assertEqual(main(["measure", "/no/such/file"]), 2)
            with self.assertRaises(SystemExit) as caught:
                main(["measure"])
        self.assertEqual(caught.exception.code, 2)
        self.assertIn("cannot be read", heard.getvalue())

    def test_a_file_is_read_in_order(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "scenes.jsonl"
            path.write_text("\n".join(json.dumps(example() | {"id": i}) for i in range(5)), "utf-8")
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                self.assertEqual(main(["measure", str(path)]), 0)
        self.assertEqual(
            [json.loads(r)["id"] for r in out.getvalue().splitlines()], [0, 1, 2, 3, 4]
        )

    def test_long_lines_are_not_kept_in_memory(self) -> None:
        lines = list(lines_of(io.BytesIO(b"a" * (3 * MOST_BYTES) + b"\nb\n"), MOST_BYTES))
        self.assertLessEqual(len(lines[0]), MOST_BYTES + 2)
        self.assertEqual(lines[1], b"b\n")

    def test_schemas_are_published(self) -> None:
        for name in ("scene", "result"):
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                self.assertEqual(main(["schema", name]), 0)
            self.assertEqual(json.loads(out.getvalue())["title"], f"dachi-{name}")


class Symmetry(unittest.TestCase):
    @given(
        st.floats(-12, 12), st.floats(0.5, 2.0), st.sampled_from([p.id for p in catalogue().poses])
    )
    @settings(max_examples=40, deadline=None)
    def test_rotating_and_scaling_the_picture(self, turn, scale, pose_id) -> None:
        """A picture turned about its middle and scaled has the same scene in it."""
        pose = catalogue().pose(pose_id)
        side = "both" if pose.sides == "both" else "left"
        shot = Shot(
            side, pose.figure.low + 12, yaw_deg=6, distance_cm=pose.camera.distance_cm * 1.5
        )
        base = scene_of(pose_id, shot, mode=next(iter(pose.modes)))
        w, h = base.image.width, base.image.height
        c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))

        def moved(p):
            x, y = p[0] - w / 2, p[1] - h / 2
            return [scale * (w / 2 + c * x - s * y), scale * (h / 2 + s * x + c * y)]

        data = scene_to_json(base)
        data["image"] |= {"width": round(w * scale), "height": round(h * scale)}
        data["mark_sd_px"] = 3.0 * scale
        data["marks"] = {k: moved(p) for k, p in data["marks"].items()}
        data["mat"]["corners"] = {k: moved(p) for k, p in data["mat"]["corners"].items()}
        a, b = measure_json(scene_to_json(base), catalogue()), measure_json(data, catalogue())
        if "error" in b:
            self.assertIn("outside the picture", b["error"])
            return
        for one, two in zip(a["measures"], b["measures"], strict=True):
            self.assertAlmostEqual(one["value"], two["value"], delta=0.25, msg=one["id"])
