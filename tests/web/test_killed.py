"""The server killed at random moments of a day: what was acknowledged is there, and nothing else."""

import hashlib
import http.client
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
from pathlib import Path
from urllib.parse import urlencode

from dachi.data import catalogue
from dachi.simulation.camera import Shot
from dachi.store import (
    accounts,
    assessments,
    markings,
    photos,
    practitioners,
    preparation,
    unsorted_photos,
)
from dachi.store.database import connect
from tests.support import CLOCK, PASSWORD, ago, day_ago, plain_picture, staged

UPLOADS, KILLS = 200, 12
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

    def upload(self, path: str, fields: dict[str, str], data: bytes) -> tuple[int, str, str]:
        edge = uuid.uuid4().hex
        parts = [
            f'--{edge}\r\nContent-Disposition: form-data; name="{k}"\r\n\r\n{v}\r\n'.encode()
            for k, v in ({"csrf_token": self.token} | fields).items()
        ]
        parts.append(
            f'--{edge}\r\nContent-Disposition: form-data; name="photo"; filename="p.jpg"\r\n'
            "Content-Type: image/jpeg\r\n\r\n".encode()
            + data
            + f"\r\n--{edge}--\r\n".encode()
        )
        return self.ask("POST", path, b"".join(parts), f"multipart/form-data; boundary={edge}")


class Killed(unittest.TestCase):
    def serve(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "dachi", "serve", "--data", str(self.folder),
             "--port", str(self.port), "--door", "0"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
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

    def test_a_day_of_two_hundred_uploads_and_markings(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="dachi-killed-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.serve()
        self.addCleanup(lambda: (self.process.kill(), self.process.wait()))
        db = connect(self.folder, CLOCK)
        self.addCleanup(db.close)
        coach = accounts.add(db, "coach@quay.example", "Wenna", PASSWORD)
        pid = practitioners.add(db, coach.id, "Runa", birth_year=1994, height_cm=170.0)
        preparation.give_consent(db, coach.id, pid, given_on=day_ago(328), scope="show")
        preparation.answer_screening(db, coach.id, pid, answered_on=day_ago(328), yes=[])
        visits = [
            assessments.add(db, coach.id, pid, taken_at=ago(6, f"{at}:00"), warmth="warm")
            for at in ("09", "15")
        ]
        client = Client(self.port)

        def token() -> None:
            client.token = (
                client.ask("GET", "/sign-in")[2].split('csrf-token" content="')[1].split('"')[0]
            )

        token()
        client.form("/sign-in", {"email": "coach@quay.example", "password": PASSWORD})
        client.token = client.ask("GET", "/")[2].split('csrf-token" content="')[1].split('"')[0]

        rng = random.Random(11)
        # Upload and marking alternate: the acts of a picture are 2 i and 2 i + 1.
        fatal = set(rng.sample(range(2 * UPLOADS), KILLS))
        killed = 0

        def kill_during(act: int) -> threading.Thread | None:
            """Let the server die a moment after an act begins, and come back."""
            if act not in fatal:
                return None

            def killer() -> None:
                nonlocal killed
                time.sleep(rng.uniform(0.0, WITHIN))
                self.process.send_signal(signal.SIGKILL)
                self.process.wait()
                killed += 1
                self.serve()

            thread = threading.Thread(target=killer)
            thread.start()
            return thread

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
            reaper = kill_during(2 * i)
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
            reaper = kill_during(2 * i + 1)
            code, where, text = client.form(f"/t/{tid}/save", form)
            self.assertEqual(code, 302, text[-600:])
            self.assertNotEqual(where, f"/t/{tid}", "the marking was not accepted")
            kept[tid] = (kept[tid][0], 1)
            if reaper:
                reaper.join()
        self.assertEqual(len(kept), UPLOADS)
        self.assertEqual(killed, KILLS)
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
