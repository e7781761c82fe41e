"""Seconds and bytes of the pages a coach waits for, on the demo server."""

from __future__ import annotations

import io
import json
import re
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
import urllib.request
from datetime import datetime, timedelta
from http.cookiejar import CookieJar
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image
from waitress.server import create_server

from dachi import demo
from dachi.clock import Clock
from dachi.core.assessing.runsheet import Slot
from dachi.core.measuring.scene import Reading, Result
from dachi.data import catalogue
from dachi.simulation.camera import exif
from dachi.store import assessments, markings, positions, practitioners
from dachi.store.database import connect, transaction
from dachi.store.markings import Marking
from dachi.studio import versions
from dachi.studio.recompute import recompute
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work
from dachi.web.app import create_app, settle

CLOCK = Clock()


def quantiles(seconds: list[float]) -> str:
    p50, p95 = np.percentile(np.array(seconds) * 1000, [50, 95])
    return f"p50 {p50:6.1f} ms   p95 {p95:6.1f} ms   ({len(seconds)} requests)"


class Browser:
    """A signed-in client over real HTTP."""

    def __init__(self, base: str) -> None:
        self.base = base
        self.open_url = urllib.request.build_opener(
            urllib.request.HTTPCookieProcessor(CookieJar())
        ).open
        self.token = self._token(self.get("/sign-in"))
        self.post("/sign-in", {"email": demo.ACCOUNT, "password": demo.PASSWORD})
        self.token = self._token(self.get("/"))

    @staticmethod
    def _token(page: str) -> str:
        return page.split('name="csrf-token" content="')[1].split('"')[0]

    def get(self, path: str) -> str:
        with self.open_url(self.base + path) as answer:
            return str(answer.read().decode())

    def post(self, path: str, form: dict[str, Any]) -> str:
        data = urllib.parse.urlencode(form | {"csrf_token": self.token}).encode()
        with self.open_url(self.base + path, data) as answer:
            return str(answer.read().decode())

    def times(self, count: int, ask: Any) -> list[float]:
        ask()
        found = []
        for _ in range(count):
            start = time.perf_counter()
            ask()
            found.append(time.perf_counter() - start)
        return found


def history(folder: Path, poses: list[str], visits: int, name: str) -> int:
    """A practitioner with fortnightly assessments in each pose, the newest today."""
    db = connect(folder, CLOCK)
    rng = np.random.default_rng(4)
    with transaction(db):
        pid = practitioners.add(db, 1, name)
        photo = db.execute("SELECT id FROM photo LIMIT 1").fetchone()["id"]
        for visit in range(visits):
            at = datetime.now() - timedelta(days=14 * (visits - 1 - visit))
            aid = assessments.add(
                db, 1, pid, taken_at=at.isoformat(timespec="minutes"), warmth="warm"
            )
            position = positions.start(db, 1, aid, "side")
            for pose_id in poses:
                _session(db, aid, position, photo, pose_id, 60 + 0.1 * visit, rng)
        summaries.anew(Work(db, folder, 1), [pid])
    db.close()
    return pid


def _session(
    db: Any, aid: int, position: int, photo: int, pose_id: str, level: float, rng: Any
) -> None:
    pose = catalogue().pose(pose_id)
    sides = ("both",) if pose.sides == "both" else ("left", "right")
    for side in sides:
        for mode in pose.modes:
            for number in (1, 2):
                value = level + float(rng.normal(0, 2))
                tid = assessments.add_trial(
                    db, 1, aid, photo, Slot(pose_id, side, mode, number),
                    variant=pose.default_variant(), position_id=position,
                )  # fmt: skip
                readings = tuple(
                    Reading(m.id, m.label, m.unit, value, 1.2, value - 2.4, value + 2.4, True)
                    for m in pose.headlines
                    if m.heads(pose.default_variant())
                )
                result = Result("", "mat", pose_id, readings, (), None, ())
                marking_id = markings.save(db, 1, tid, Marking(marks={}))
                markings.keep_readings(db, 1, marking_id, result, versions.measuring())


def touch(folder: Path, pid: int) -> None:
    """Make every summary of a person look newly derived."""
    db = connect(folder, CLOCK)
    db.execute(
        "UPDATE pose_summary SET updated_at = ? WHERE practitioner_id = ?", (str(time.time()), pid)
    )
    db.close()


def studio(folder: Path, people: int) -> None:
    """As many practitioners, each with four visits in three poses."""
    db = connect(folder, CLOCK)
    rng = np.random.default_rng(9)
    ids = []
    with transaction(db):
        photo = db.execute("SELECT id FROM photo LIMIT 1").fetchone()["id"]
        for n in range(people):
            pid = practitioners.add(db, 1, f"Person {n:03d}")
            ids.append(pid)
            ago = int(rng.integers(0, 60))
            for visit in range(4):
                at = datetime.now() - timedelta(days=ago + 21 * (3 - visit))
                aid = assessments.add(
                    db, 1, pid, taken_at=at.isoformat(timespec="minutes"), warmth="warm"
                )
                position = positions.start(db, 1, aid, "side")
                for pose in ("supine-leg-raise", "butterfly", "front-split"):
                    _session(db, aid, position, photo, pose, 60 + 2.0 * visit, rng)
        summaries.anew(Work(db, folder, 1), ids)
    db.close()


def recomputing(folder: Path) -> None:
    """Markings a second through ``python -m dachi recompute``, on copies of the demo's."""
    db = connect(folder, CLOCK)
    with transaction(db):
        rows = db.execute("SELECT * FROM marking").fetchall()
        for copy in range(1, 126):
            db.executemany(
                "INSERT INTO marking (trial_id, number, marks, mark_sds, level, corners, facing,"
                " author, overrule_reason, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                [
                    (r["trial_id"], 1000 + copy, r["marks"], r["mark_sds"], r["level"],
                     r["corners"], r["facing"], r["author"], r["overrule_reason"], r["created_at"])
                    for r in rows
                ],
            )  # fmt: skip
        db.execute(
            "INSERT INTO reading (marking_id, measure, label, unit, value, sd, low, high, headline,"
            " method, made_from) SELECT id, 'x', 'x', 'deg', 0, 1, 0, 0, 0, 'mat', 'old'"
            " FROM marking WHERE number > 1000"
        )
    db.close()
    start = time.perf_counter()
    found = recompute(folder, CLOCK)
    took = time.perf_counter() - start
    print(
        f"recompute: {found.done} markings in {took:.0f} s, {found.done / took:.0f} a second "
        f"(aim 300), {found.failed} could not be"
    )


def twelve_megapixels() -> bytes:
    """A noisy 4000 x 3000 JPEG with EXIF, turned on its side as phones do."""
    rng = np.random.default_rng(1)
    base = rng.integers(0, 255, (75, 100, 3), dtype=np.uint8)
    big = np.asarray(Image.fromarray(base).resize((4000, 3000), Image.Resampling.BICUBIC))
    noisy = np.clip(big + rng.normal(0, 6, big.shape), 0, 255).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(noisy).save(out, "JPEG", quality=90, exif=exif(26, datetime.now(), 6))
    return out.getvalue()


_INGEST = """
import json, sys, tempfile, time
from pathlib import Path
from dachi.photos.ingest import take_in
data = Path(sys.argv[1]).read_bytes()
warm = Path(sys.argv[2]).read_bytes()
with tempfile.TemporaryDirectory() as name:
    take_in(warm, Path(name))
def peak():
    # VmHWM is this process's own; ru_maxrss is inherited from the one that started it.
    text = Path("/proc/self/status").read_text()
    return int(text.split("VmHWM:")[1].split()[0])
before = peak()
times = []
for _ in range(7):
    with tempfile.TemporaryDirectory() as name:
        start = time.perf_counter()
        take_in(data, Path(name))
        times.append(time.perf_counter() - start)
after = peak()
print(json.dumps({"median_s": sorted(times)[3], "extra_mb": (after - before) / 1024}))
"""


def ingest() -> dict[str, float]:
    """Median time and extra peak memory of taking a 12 MP JPEG in, in a fresh process."""
    small = io.BytesIO()
    Image.new("RGB", (640, 480)).save(small, "JPEG")
    with tempfile.TemporaryDirectory() as name:
        big, warm = Path(name) / "big.jpg", Path(name) / "warm.jpg"
        big.write_bytes(twelve_megapixels())
        warm.write_bytes(small.getvalue())
        out = subprocess.run(
            [sys.executable, "-c", _INGEST, str(big), str(warm)],
            check=True, capture_output=True, text=True,
        )  # fmt: skip
    return dict(json.loads(out.stdout))


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="dachi-bench-") as name:
        folder = Path(name)
        app = create_app(folder, CLOCK)
        demo.fill(folder, CLOCK)
        twelve = [p.id for p in catalogue().poses if p.companion_of is None][:12]
        people = {n: history(folder, twelve, n, f"{n} visits") for n in (16, 65, 260)}
        studio(folder, 500)
        server = create_server(app, host="127.0.0.1", port=0, threads=6)
        settle()
        threading.Thread(target=server.run, daemon=True).start()
        browser = Browser(f"http://127.0.0.1:{server.effective_port}")
        page = browser.get("/t/1")
        form = dict(
            re.findall(r'<input[^>]* ?name="((?:mark|corner)-[^"]+)" value="([^"]*)"', page)
        )
        form |= {"mat": "on", "seen": "1"}

        def changed(pid: int) -> str:
            touch(folder, pid)
            return browser.get(f"/p/{pid}?pose={twelve[0]}")

        read = browser.times(200, lambda: browser.post("/t/1/read", form))
        print("marks posted to readings in the reply:   ", quantiles(read), "  aim p95 < 60 ms")
        rest = browser.times(60, lambda: browser.post("/t/1/read", form | {"rest": "1"}))
        print("the same, keeping the draft:             ", quantiles(rest))
        for visits, pid in people.items():
            chart = browser.times(40, lambda pid=pid: browser.get(f"/p/{pid}?pose={twelve[0]}"))
            print(f"chart of one of 12 poses, {visits:3d} visits:    ", quantiles(chart))
            # Touching the summary makes the series be built anew, as after a saved marking.
            cold = browser.times(15, lambda pid=pid: changed(pid))
            print("  the same, just after a change:         ", quantiles(cold))
            over = browser.times(20, lambda pid=pid: browser.get(f"/p/{pid}"))
            print(f"overview of 12 poses, {visits:3d} visits:         ", quantiles(over))
        print("  (260 visits are ten years; aim p95 < 200 ms, growth no worse than linear)")
        first = browser.times(40, lambda: browser.get("/"))
        print("Today of a studio with 500 people:       ", quantiles(first), "  aim p95 < 200 ms")
        server.close()
    with tempfile.TemporaryDirectory(prefix="dachi-bench-") as name:
        create_app(Path(name), CLOCK)
        demo.fill(Path(name), CLOCK)
        recomputing(Path(name))
    took = ingest()
    print(
        f"taking in a 12 MP JPEG:  median {took['median_s']:.2f} s (aim < 0.7 s), "
        f"extra peak memory {took['extra_mb']:.0f} MB (aim < 200 MB)"
    )


if __name__ == "__main__":
    main()
