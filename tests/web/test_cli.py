"""Starting the program in awkward surroundings, and the demo."""

import contextlib
import io
import json
import os
import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from dachi import demo
from dachi.cli import main
from dachi.store import assessments, markings, practitioners
from dachi.store.database import connect, migrate
from dachi.studio.duties import Duties
from tests import slow
from tests.support import CLOCK


def run(*args: str, **env: str) -> tuple[int, str]:
    heard = io.StringIO()
    with mock.patch.dict(os.environ, env), contextlib.redirect_stderr(heard):
        return main(list(args)), heard.getvalue()


class Starting(unittest.TestCase):
    def test_a_busy_port(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = taken.getsockname()[1]
            status, words = run("serve", PORT=str(port))
        self.assertEqual(status, 2)
        self.assertIn(f"port {port} is taken", words)
        self.assertNotIn("Traceback", words)

    def test_a_port_that_is_none(self) -> None:
        self.assertIn("must be a number", run("serve", PORT="harbour")[1])

    def test_an_unwritable_folder(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            file = Path(name) / "file"
            file.write_text("")
            status, words = run("serve", "--port", "0", DACHI_DATA=str(file / "below"))
        self.assertEqual(status, 2)
        self.assertIn("cannot be written to", words)
        self.assertIn("DACHI_DATA=", words)


@slow("fills the demo, pictures and all")
class Demo(unittest.TestCase):
    def test_seven_assessments_over_twelve_weeks(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            migrate(connect(folder, CLOCK))
            demo.fill(folder, CLOCK)
            demo.fill(folder, CLOCK)  # a folder with a coach is left alone
            db = connect(folder, CLOCK)
            people = practitioners.listing(db, 1)
            runa = next(p.practitioner for p in people if p.practitioner.call_name == "Runa")
            visits = assessments.of_practitioner(db, 1, runa.id)
            self.assertEqual(len(visits), 7)
            self.assertEqual({v.warmth for v in visits}, {"warm", "cold"})
            rows = markings.charted(db, 1, runa.id, "supine-leg-raise")
            self.assertEqual(len(rows), 56)
            # The bodies' true angles, by the bench's own formulas, lie beside the pictures.
            told = json.loads(demo.STUDIO.read_text("utf-8"))["people"]
            known = next(p for p in told if p["call_name"] == "Runa")["visits"]
            truths = [
                shot["true"]["leg_line"]
                for visit in sorted(known, key=lambda v: -v["days_ago"])
                for shot in visit["shots"]
                if shot["pose"] == "supine-leg-raise"
            ]
            errors = [abs(t - row.value) for t, row in zip(truths, rows, strict=True)]
            self.assertGreater(sum(e < 3.5 for e in errors) / len(errors), 0.95)
            self.assertLess(sum(errors) / len(errors), 1.5)
            self.assertGreaterEqual(len(people), 8)

            # As after an update that measures otherwise: starting reads them again.
            where = "WHERE marking_id <= 30"
            db.execute(f"UPDATE reading SET value = value + 9 {where}")
            db.execute("UPDATE marking SET made_from = 'old' WHERE id <= 30")
            heard: list[int] = []

            class Told(Duties):
                """Says how many are to be read, whenever that changes."""

                def __setattr__(self, name: str, value: object) -> None:
                    if name == "to_read" and isinstance(value, int):
                        heard.append(value)
                    super().__setattr__(name, value)

            duties = Told(folder, CLOCK)
            duties.fresh(db)
            self.assertEqual((max(heard), heard[-1]), (30, 0))
            heard.clear()
            duties.fresh(db)
            self.assertEqual(max(heard), 0, "once")
            self.assertEqual(markings.charted(db, 1, runa.id, "supine-leg-raise"), rows)
            db.close()

    def test_pictures_stay_small(self) -> None:
        size = sum(p.stat().st_size for p in demo.FOLDER.glob("*.jpg"))
        self.assertLess(size, 20_000_000)


class Answers(unittest.TestCase):
    """What is written out, wherever it goes."""

    def run_it(
        self, text: bytes, command: str = "judge", **more: Any
    ) -> subprocess.CompletedProcess[bytes]:
        return subprocess.run(
            [sys.executable, "-m", "dachi", command, "-"],
            **({"stdout": subprocess.PIPE, "stderr": subprocess.PIPE} | more),
            input=text,
            check=False,
            timeout=120,
        )

    def test_half_a_character_in_an_id(self) -> None:
        """It is not valid Unicode, yet the line is answered and the ones behind it are too."""
        for command in ("measure", "judge", "plan"):
            done = self.run_it(b'{"id": "\\ud83d"}\n{"id": "b"}\n', command)
            first, second = (json.loads(x) for x in done.stdout.splitlines())
            with self.subTest(command):
                self.assertIn("error", first)
                self.assertEqual(second["id"], "b")
                self.assertEqual(done.stderr, b"")

    def test_nobody_reads_on(self) -> None:
        """A pipe closed after the first answers ends quietly."""
        lines = b'{"id": 1, "trials": []}\n' * 20_000
        with tempfile.TemporaryFile() as source:
            source.write(lines)
            source.seek(0)
            process = subprocess.Popen(
                [sys.executable, "-m", "dachi", "judge", "-"],
                stdin=source, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            )  # fmt: skip
            assert process.stdout is not None and process.stderr is not None
            process.stdout.readline()
            process.stdout.close()
            self.assertEqual(process.wait(timeout=60), 1)
            self.assertEqual(process.stderr.read(), b"")
            process.stderr.close()

    def test_a_full_disk(self) -> None:
        with open("/dev/full", "wb") as full:
            done = self.run_it(b'{"id": 1, "trials": []}\n' * 2000, stdout=full)
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"cannot be written", done.stderr)
        self.assertNotIn(b"Traceback", done.stderr)
