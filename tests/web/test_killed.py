"""The server killed at random moments of a day: what was acknowledged is there, and nothing else."""

import hashlib
import http.client
import io
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import uuid
from datetime import timedelta
from pathlib import Path
from urllib.parse import urlencode

from dachi.clock import Clock
from dachi.data import catalogue
from dachi.simulation.camera import Shot
from dachi.store import (
    accounts,
    assessments,
    markings,
    photos,
    practitioners,
    preparation,
    private_links,
    unsorted_photos,
)
from dachi.store.database import connect
from dachi.studio.record import keeping, moving
from dachi.studio.work import Work
from tests import slow
from tests.support import CLOCK, PASSWORD, ago, day_ago, free_ports, plain_picture, staged

UPLOADS, KILLS, NEW_ACTS = 200, 12, 200
ACTS = ("take in", "table", "consent", "link", "visit")
#: An act is answered within about this, s: a kill falls somewhere into it.
WITHIN = 0.12
SIZE = (640, 480)


class Client:
    """A browser with a cookie that asks again until it is answered."""

    def __init__(self, port: int) -> None:
        self.port = port
        self.cookie = ""
        self.token = ""
        self.lost = 0

    def ask(
        self, method: str, path: str, body: bytes = b"", kind: str = ""
    ) -> tuple[int, str, str]:
        end = time.monotonic() + 60
        while True:
            line = http.client.HTTPConnection("127.0.0.1", self.port, timeout=20)
            try:
                line.request(method, path, body, {"Cookie": self.cookie, "Content-Type": kind})
                answer = line.getresponse()
                text = answer.read().decode("utf-8", "replace")
                if cookie := answer.getheader("Set-Cookie"):
                    self.cookie = cookie.split(";")[0]
                return answer.status, answer.getheader("Location") or "", text
            except (OSError, http.client.HTTPException):
                self.lost += 1
                if time.monotonic() > end:
                    raise
                time.sleep(0.05)
            finally:
                line.close()

    def form(self, path: str, fields: dict[str, object]) -> tuple[int, str, str]:
        body = urlencode({"csrf_token": self.token} | fields).encode()
        return self.ask("POST", path, body, "application/x-www-form-urlencoded")

    def upload(
        self, path: str, fields: dict[str, str], data: bytes, name: str = "photo"
    ) -> tuple[int, str, str]:
        edge = uuid.uuid4().hex
        parts = [
            f'--{edge}\r\nContent-Disposition: form-data; name="{k}"\r\n\r\n{v}\r\n'.encode()
            for k, v in ({"csrf_token": self.token} | fields).items()
        ]
        parts.append(
            f'--{edge}\r\nContent-Disposition: form-data; name="{name}"; filename="p.jpg"\r\n'
            "Content-Type: image/jpeg\r\n\r\n".encode()
            + data
            + f"\r\n--{edge}--\r\n".encode()
        )
        return self.ask("POST", path, b"".join(parts), f"multipart/form-data; boundary={edge}")


class Mortal(unittest.TestCase):
    """A studio whose server may die at any moment."""

    def setUp(self) -> None:
        self.killed = 0
        holder = tempfile.TemporaryDirectory(prefix="dachi-killed-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.port = free_ports()[0]
        self.serve()
        self.addCleanup(lambda: (self.process.kill(), self.process.wait()))
        self.db = db = connect(self.folder, CLOCK)
        self.addCleanup(db.close)
        self.coach = coach = accounts.add(db, "coach@quay.example", "Wenna", PASSWORD)
        self.pid = pid = practitioners.add(db, coach.id, "Runa", birth_year=1994, height_cm=170.0)
        preparation.give_consent(db, coach.id, pid, given_on=day_ago(328), scope="show")
        preparation.answer_screening(db, coach.id, pid, answered_on=day_ago(328), yes=[])
        self.visits = [
            assessments.add(db, coach.id, pid, taken_at=ago(6, f"{at}:00"), warmth="warm")
            for at in ("09", "15")
        ]
        self.client = client = Client(self.port)

        def token() -> None:
            client.token = (
                client.ask("GET", "/sign-in")[2].split('csrf-token" content="')[1].split('"')[0]
            )

        token()
        client.form("/sign-in", {"email": "coach@quay.example", "password": PASSWORD})
        client.token = client.ask("GET", "/")[2].split('csrf-token" content="')[1].split('"')[0]

    def serve(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "dachi", "serve", "--data", str(self.folder),
             "--port", str(self.port), "--door", "0"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            env=os.environ | {"DACHI_PROPOSE": "0"},
        )  # fmt: skip
        self.assertTrue(self.answers(), "the server did not start")

    def answers(self) -> bool:
        for _ in range(400):
            if self.process.poll() is not None:
                return False
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                    return True
            time.sleep(0.05)
        return False

    def kill(self, rng: random.Random) -> threading.Thread:
        """Let the server die in a moment, and come back."""

        def killer() -> None:
            time.sleep(rng.uniform(0.0, WITHIN))
            self.process.send_signal(signal.SIGKILL)
            self.process.wait()
            self.killed += 1
            self.serve()

        thread = threading.Thread(target=killer)
        thread.start()
        return thread


@slow("the server is killed a dozen times among 200 photographs")
class Killed(Mortal):
    def test_a_day_of_two_hundred_uploads_and_markings(self) -> None:
        rng = random.Random(11)
        # Upload and marking alternate: the acts of a picture are 2 i and 2 i + 1.
        fatal = set(rng.sample(range(2 * UPLOADS), KILLS))
        db, coach, visits, client = self.db, self.coach, self.visits, self.client

        poses = [p for p in catalogue().poses if p.sides == "each"]
        places = [
            (aid, p, s, m, n)
            for aid in visits
            for p in poses
            for s in ("left", "right")
            for m in p.modes
            for n in (1, 2, 3)
        ]
        kept: dict[int, tuple[str, int]] = {}
        for i, (aid, pose, side, mode, number) in enumerate(places[:UPLOADS]):
            data = plain_picture(*SIZE, comment=f"picture {i}".encode())
            place = {"pose": pose.id, "side": side, "mode": mode, "number": str(number)}
            reaper = self.kill(rng) if 2 * i in fatal else None
            code, where, text = client.upload(
                f"/a/{aid}/photos", place | {"once_key": f"k{i}"}, data
            )
            self.assertEqual(code, 302, text[-600:])
            tid = int(where.rsplit("/", 1)[1])
            kept[tid] = (hashlib.sha256(data).hexdigest(), 0)
            truth = staged(pose.id, Shot(side, pose.figure.low + 12, width=SIZE[0], height=SIZE[1]))
            form: dict[str, object] = {
                "seen": "0", "mat": "on", "once_key": f"m{i}", "sure": "1",
            }  # fmt: skip
            for name, (x, y) in truth.marks_px.items():
                if name in pose.required:
                    form |= {
                        f"mark-{name}-x": x,
                        f"mark-{name}-y": y,
                        f"mark-{name}-state": "placed",
                    }
            for name, (x, y) in truth.corners_px.items():
                form |= {f"corner-{name}-x": x, f"corner-{name}-y": y}
            if reaper:
                reaper.join()
            reaper = self.kill(rng) if 2 * i + 1 in fatal else None
            code, where, text = client.form(f"/t/{tid}/save", form)
            self.assertEqual(code, 302, text[-600:])
            self.assertNotEqual(where, f"/t/{tid}", "the marking was not accepted")
            kept[tid] = (kept[tid][0], 1)
            if reaper:
                reaper.join()
        self.assertEqual(len(kept), UPLOADS)
        self.assertEqual(self.killed, KILLS)
        self.assertGreater(client.lost, 0, "no request was cut short")
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()
        self.serve()

        found = [t for aid in visits for t in assessments.trials(db, coach.id, aid)]
        self.assertEqual({t.id for t in found}, set(kept), "acknowledged, once each, and no others")
        for t in found:
            source, marked = kept[t.id]
            row = db.execute("SELECT * FROM photo WHERE id = ?", (t.photo_id,)).fetchone()
            self.assertEqual(row["source_sha256"], source)
            stored = (self.folder / "photos" / t.sha256[:2] / f"{t.sha256}.jpg").read_bytes()
            self.assertEqual(hashlib.sha256(stored).hexdigest(), t.sha256, "half-written")
            self.assertEqual(len(markings.history(db, coach.id, t.id)), marked)
            self.assertTrue(markings.readings(db, coach.id, t.id), "a marking without readings")
        known = photos.known_hashes(db)
        on_disk = [p.name for p in (self.folder / "photos").glob("*/*")]
        self.assertEqual([n for n in on_disk if n.split(".")[0] not in known], [], "orphans")
        self.assertEqual(len(on_disk), 3 * len(known))
        self.assertEqual(
            [unsorted_photos.of_assessment(db, coach.id, aid) for aid in visits], [[], []]
        )
        self.assertEqual(db.execute("PRAGMA integrity_check").fetchone()[0], "ok")
        os.sync()


def served_day(days: int) -> str:
    """A day so long before the server's, ISO."""
    return (Clock().today() - timedelta(days=days)).isoformat()


@slow("the server is killed through 200 acts")
class NewParts(Mortal):
    """Moving, erasing, tables, links and handing over, cut short: wholly done, or not at all."""

    def test_two_hundred_mixed_writes(self) -> None:
        rng = random.Random(5)
        # What the server dates is judged by its own clock.
        self.db.clock = Clock()
        db, coach, client = self.db, self.coach, self.client
        for n in range(4):
            data = plain_picture(*SIZE, comment=f"own {n}".encode())
            place = {"pose": "front-split", "side": "left", "mode": "passive", "number": str(n + 1)}
            client.upload(f"/a/{self.visits[0]}/photos", place | {"once_key": f"n{n}"}, data)
        work = Work(db, self.folder, coach.id)
        out = io.BytesIO()
        moving.send(work, [self.pid], out)
        record = out.getvalue()
        original = moving.record_of(work, [self.pid])
        other = accounts.add(db, "else@quay.example", "Else", PASSWORD)
        acts = [x for last in ("hand over", "erase") for x in (*ACTS, last)]
        fatal = set(rng.sample(range(NEW_ACTS), KILLS))
        for act in range(NEW_ACTS):
            kind = acts[act % len(acts)]
            mine = sorted(p.practitioner.id for p in practitioners.listing(db, coach.id))
            reaper = self.kill(rng) if act in fatal else None
            getattr(self, f"_{kind.replace(' ', '_')}")(act, mine, record, other.id)
            if reaper:
                reaper.join()
                # Whoever is here is here wholly, or as what was done to them since left them.
                self.assertEqual(db.execute("PRAGMA integrity_check").fetchone()[0], "ok")
                self.assertEqual(db.execute("PRAGMA foreign_key_check").fetchall(), [])
        self.assertEqual(self.killed, KILLS)
        self.assertGreater(client.lost, 0, "no request was cut short")
        found = keeping.check(self.folder)
        self.assertEqual((found.database, found.lost, found.damaged), ([], [], []))
        self.assertEqual(moving.record_of(work, [self.pid]), original, "who nobody touched")

    def _take_in(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        before = len(mine)
        fields = {"beside": "1"}
        self.client.upload("/account/import", fields, record, "record")
        after = [p.practitioner.id for p in practitioners.listing(self.db, self.coach.id)]
        # Asked again after it was cut short it may have come twice, each time whole.
        self.assertIn(len(after) - before, (1, 2))
        for pid in set(after) - set(mine):
            shots = [
                t
                for v in assessments.of_practitioner(self.db, self.coach.id, pid)
                for t in assessments.trials(self.db, self.coach.id, v.id)
            ]
            self.assertEqual(len(shots), 4)

    def _erase(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        gone = mine[-1]
        if gone == self.pid:
            return
        code, *_ = self.client.form(f"/p/{gone}/erase", {"name": "Runa"})
        self.assertIn(code, (302, 404))
        self.assertIsNone(practitioners.get(self.db, self.coach.id, gone))

    def _table(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        if mine[-1] == self.pid:
            return
        day = served_day(20 + act)
        text = f"day,pose,side,value\n{day},front split,left,100\n{day},front split,right,101\n"
        form: dict[str, object] = {"text": text, "act": "take"}
        columns = ("taken_at", "pose", "side", "value")
        form |= {f"column-{name}": str(n) for n, name in enumerate(columns)}
        code, _, page = self.client.form(f"/p/{mine[-1]}/readings", form)
        self.assertEqual(code, 302, page[page.find("<main") : page.find("<main") + 900])
        rows = markings.charted(self.db, self.coach.id, mine[-1])
        self.assertEqual(sorted(r.value for r in rows if r.taken_at[:10] == day), [100.0, 101.0])

    def _link(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        code, _, text = self.client.form(f"/p/{mine[-1]}/link", {"act": "new"})
        self.assertEqual(code, 302, text[-600:])
        self.assertIsNotNone(private_links.live(self.db, self.coach.id, mine[-1]))

    def _consent(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        if mine[-1] == self.pid:
            return
        form: dict[str, object] = {"scope": "measure", "given_on": served_day(act), "lasts": "1"}
        self.client.form(f"/p/{mine[-1]}/consent", form)
        found = preparation.consent(self.db, self.coach.id, mine[-1])
        assert found is not None
        self.assertEqual((found.scope, found.given_on), ("measure", served_day(act)))

    def _hand_over(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        if mine[-1] == self.pid:
            return
        theirs = len(practitioners.listing(self.db, other))
        form: dict[str, object] = {"person": str(mine[-1]), "to": str(other)}
        self.client.form("/account/coaches/hand-over", form)
        self.assertIsNone(practitioners.get(self.db, self.coach.id, mine[-1]))
        self.assertEqual(len(practitioners.listing(self.db, other)), theirs + 1, "once")

    def _visit(self, act: int, mine: list[int], record: bytes, other: int) -> None:
        if mine[-1] == self.pid:
            return
        visits = assessments.of_practitioner(self.db, self.coach.id, mine[-1])
        if visits:
            code, *_ = self.client.form(f"/a/{visits[0].id}/erase", {})
            self.assertIn(code, (302, 404))
            left = assessments.of_practitioner(self.db, self.coach.id, mine[-1])
            self.assertEqual(len(left), len(visits) - 1)
