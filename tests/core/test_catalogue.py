"""Pose data is validated, and the core stays a core."""

import ast
import tomllib
import unittest
from pathlib import Path

from dachi.core.catalogue import CatalogueError, build_catalogue
from dachi.data import FOLDER, catalogue
from dachi.web.scenes import guess_marks

ROOT = Path(__file__).parents[2] / "dachi"
OUTSIDE = {
    "flask", "sqlite3", "werkzeug", "jinja2", "socket", "urllib", "http", "requests", "pathlib",
    "os", "io", "shutil", "tempfile", "time", "datetime", "dachi.store", "dachi.web",
    "dachi.photos", "dachi.devices", "dachi.interchange", "dachi.drawing", "dachi.demo",
}  # fmt: skip


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {a.name for a in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module} | {f"{node.module}.{a.name}" for a in node.names}
    return found


class Layers(unittest.TestCase):
    def test_core_reaches_nothing_outside(self) -> None:
        for path in (ROOT / "core").glob("*.py"):
            heads = {m for name in imports(path) for m in (name, name.split(".")[0])}
            two = {".".join(name.split(".")[:2]) for name in imports(path)}
            self.assertEqual((heads | two) & OUTSIDE, set(), path.name)

    def test_imports_point_one_way(self) -> None:
        for folder, above in (
            ("store", ("web", "demo", "photos", "devices", "drawing", "interchange")),
            ("photos", ("web", "demo", "store", "drawing", "interchange")),
            ("devices", ("web", "demo", "store", "drawing")),
            ("drawing", ("web", "demo", "store", "photos", "devices")),
            ("interchange", ("web", "demo")),
        ):
            for path in (ROOT / folder).rglob("*.py"):
                for name in imports(path):
                    for higher in above:
                        self.assertFalse(name.startswith(f"dachi.{higher}"), f"{path}: {name}")

    def test_no_code_knows_a_pose_by_name(self) -> None:
        ids = [p.id for p in catalogue().poses]
        for path in ROOT.rglob("*.py"):
            if "demo" in path.parts:
                continue
            text = path.read_text("utf-8")
            for pose_id in ids:
                self.assertNotIn(f'"{pose_id}"', text, path.name)


class Poses(unittest.TestCase):
    def test_every_guess_lies_in_the_picture(self) -> None:
        for pose in catalogue().poses:
            sides = ("both",) if pose.sides == "both" else ("left", "right")
            for side in sides:
                for x, y in guess_marks(pose, side, 1600, 1200).values():
                    self.assertTrue(0 < x < 1600 and 0 < y < 1200, pose.id)

    def test_wrong_data_is_named(self) -> None:
        good = tomllib.loads((FOLDER / "poses" / "supine-leg-raise.toml").read_text("utf-8"))

        def changed(**top: object) -> dict[str, object]:
            return {**good, **top}

        def formula(text: str) -> dict[str, object]:
            return changed(measures=[{**measure, "formula": text}])

        landmarks = tomllib.loads((FOLDER / "landmarks.toml").read_text("utf-8"))
        mark, measure, check = good["marks"][0], good["measures"][0], good["checks"][0]
        cases = {
            "'marks' is missing": {k: v for k, v in good.items() if k != "marks"},
            "view is 'above'": changed(view="above"),
            "no mark is called 'elbow'": formula("rise(hip, elbow)"),
            "takes 2 marks": formula("rise(hip)"),
            "unknown formula kind": formula("open('x')"),
            "only sums": formula("rise(hip, knee) ** 2"),
            "not an expression": formula("rise(hip,"),
            "no measure is called": formula("other + 1"),
            "must be the headline": changed(measures=[{**measure, "headline": False}]),
            "severity is": changed(checks=[{**check, "severity": "awful"}]),
            "which is no mark": changed(marks=[{**mark, "parent": "tail"}, *good["marks"][1:]]),
            "plane of mark": changed(marks=[{**mark, "plane": "astral"}, *good["marks"][1:]]),
            "no landmark is called": changed(marks=[{"from": "tail"}, *good["marks"][1:]]),
            "needs a parent": changed(marks=[*good["marks"], {
                "id": "x", "label": "x", "where": "", "body": "head", "plane": "reach"}]),
            "same id": changed(marks=[*good["marks"], mark]),
            "no mark called": changed(facing=["shoulder", "tail"]),
            "better is": changed(measures=[{**measure, "better": "nicer"}]),
            "default of variant": changed(
                variants={"resting_leg": {"label": "x", "default": "z", "options": {"a": "b"}}}
            ),
        }  # fmt: skip
        for words, entry in cases.items():
            with self.subTest(words), self.assertRaises(CatalogueError) as caught:
                build_catalogue("t", [entry], landmarks)
            self.assertIn(words, str(caught.exception))
            self.assertIn("supine-leg-raise", str(caught.exception))
        with self.assertRaisesRegex(CatalogueError, "two poses"):
            build_catalogue("t", [good, good], landmarks)
