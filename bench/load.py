"""A studio of 500 people over ten years: pages alone, and beside eight clients and uploads."""

from __future__ import annotations

import io
import json
import os
import random
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
import uuid
from contextlib import closing, suppress
from datetime import timedelta
from pathlib import Path

import numpy as np
from PIL import Image

from bench.speed import CLOCK, Browser, history, quantiles
from dachi import demo
from dachi.data import catalogue
from dachi.simulation.camera import Shot
from dachi.store import moving, preparation
from dachi.store.database import connect, transaction
from dachi.studio.record import moving as files
from dachi.studio.renew import renew
from dachi.studio.work import Work
from dachi.web.app import create_app
from tests.support import plain_picture, staged

#: A person, their newest visit, and a photograph of it.
Who = tuple[int, int, int]
PEOPLE, YEARS = 500, 10
POSES = ["supine-leg-raise", "front-split", "butterfly"]
VISITS, SESSIONS = 26 * YEARS // 4, 156 * YEARS
CLIENTS, EACH = 8, 30
#: Pages of a person, then those of the studio. ``{visit}`` and ``{trial}`` are their newest.
PAGES = (
    "/p/{pid}", "/p/{pid}?pose=supine-leg-raise", "/p/{pid}/plan", "/p/{pid}/practice",
    "/p/{pid}/prepare", "/p/{pid}/record", "/a/{visit}", "/a/{visit}/review", "/t/{trial}", "/",
    "/steadiness", "/account", "/drills",
)  # fmt: skip

#: Pages whose first look makes what later ones find: a week of practice, pictures measured.
MADE_ONCE = ("/p/{pid}/plan", "/p/{pid}/practice", "/a/{visit}/review")


def fill(folder: Path) -> list[Who]:
    """Ids of each person, of their newest visit and of a photograph of it."""
    first = history(folder, POSES, VISITS, "Person 000")
    db = connect(folder, CLOCK)
    work = Work(db, folder, 1)
    now = CLOCK.local()
    with transaction(db):
        db.execute("UPDATE practitioner SET birth_year = 1990 WHERE id = ?", (first,))
        preparation.give_consent(db, 1, first, given_on=now.date().isoformat(), scope="show")
        preparation.answer_screening(db, 1, first, answered_on=now.date().isoformat(), yes=[])
        rows = [
            (first, f"s{n}", (now - timedelta(days=2.3 * n)).isoformat(timespec="seconds"), 1200,
             "right", 1, '[{"drill": "lizard", "seconds": 60}]', db.now())
            for n in range(SESSIONS)
        ]  # fmt: skip
        db.executemany(
            "INSERT INTO practice_log (practitioner_id, once_key, started_at, seconds, felt,"
            " finished, done, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            rows,
        )
        for pose_id in POSES:
            pose = catalogue().pose(pose_id)
            side = "left" if pose.sides == "each" else "both"
            truth = staged(pose_id, Shot(side, pose.figure.low + 12))
            marks = {n: p for n, p in truth.marks_px.items() if n in pose.required}
            db.execute(
                "UPDATE marking SET marks = ?, corners = ? WHERE trial_id IN (SELECT t.id FROM"
                " trial t JOIN assessment a ON a.id = t.assessment_id WHERE a.practitioner_id = ?"
                " AND t.pose = ?)",
                (json.dumps(marks), json.dumps(truth.corners_px), first, pose_id),
            )
        # As if each had been marked here: every reading knows what it was made from.
        renew(work, first, strict=False)
        tables = files.record_of(work, [first])["tables"]
        for n in range(1, PEOPLE):
            tables["practitioner"][0] |= {"call_name": f"Person {n:03d}"}
            (pid,) = moving.load(db, 1, tables, beside=True).people
            for table in ("pose_summary", "scatter_evidence"):
                columns = [r["name"] for r in db.execute(f"PRAGMA table_info({table})")]
                others = ", ".join(c for c in columns if c != "practitioner_id")
                db.execute(
                    f"INSERT INTO {table} (practitioner_id, {others}) SELECT ?, {others}"
                    f" FROM {table} WHERE practitioner_id = ?",
                    (pid, first),
                )
    counts = {
        t: db.execute(f"SELECT count(*) FROM {t}").fetchone()[0]
        for t in ("practitioner", "assessment", "trial", "reading", "practice_log")
    }
    db.close()
    print(", ".join(f"{n} {t}" for t, n in counts.items()))
    return _newest(folder)


def ask(browser: Browser, page: str, who: Who) -> float:
    """Seconds of a page."""
    path = page.format(pid=who[0], visit=who[1], trial=who[2])
    began = time.perf_counter()
    browser.get(path)
    return time.perf_counter() - began


def upload(browser: Browser, aid: int, number: int) -> None:
    """Send a photograph into the tray of a visit."""
    post(browser, aid, str(number), plain_picture(2000, 1500, comment=str(number).encode()))


def post(browser: Browser, aid: int, number: str, data: bytes) -> None:
    """Send a file into the tray of a visit."""
    edge = uuid.uuid4().hex
    body = io.BytesIO()
    for k, v in {"csrf_token": browser.token}.items():
        body.write(
            f'--{edge}\r\nContent-Disposition: form-data; name="{k}"\r\n\r\n{v}\r\n'.encode()
        )
    body.write(
        f'--{edge}\r\nContent-Disposition: form-data; name="photo"; filename="{number}.jpg"\r\n'
        "Content-Type: image/jpeg\r\n\r\n".encode()
        + data
        + f"\r\n--{edge}--\r\n".encode()
    )
    request = urllib.request.Request(
        f"{browser.base}/a/{aid}/tray", body.getvalue(),
        {"Content-Type": f"multipart/form-data; boundary={edge}"},
    )  # fmt: skip
    browser.open_url(request).read()


def main() -> None:
    """Fill (or take ``DACHI_LOADED``, a folder filled before), then measure part by part."""
    kept = os.environ.get("DACHI_LOADED")
    with tempfile.TemporaryDirectory(prefix="dachi-load-") as name:
        folder = Path(name) / "data"
        if kept and Path(kept).exists():
            shutil.copytree(kept, folder)
            people = _newest(folder)
        else:
            create_app(folder, CLOCK)
            demo.fill(folder, CLOCK)
            began = time.perf_counter()
            people = fill(folder)
            print(f"filled in {time.perf_counter() - began:.0f} s")
            if kept:
                shutil.copytree(folder, kept)
        size = (folder / "dachi.sqlite3").stat().st_size / 1e6
        print(f"{len(people)} people, database {size:.0f} MB; {_busy()}")
        with Serving(folder) as server:
            print(f"started in {server.took:.1f} s")
            browser = Browser(server.base)
            _pages(browser, people)
            _sizes(browser, people)
            _crowd("on people seen before", server.base, people[:12], 250, warm=True)
            _crowd("on anybody", server.base, people, 350)
            _crowd("with uploads", server.base, people, 600, uploads=True)
            _large(server, people[:12])
            _away(server, browser, people)
            _erase(browser, people[-1])
        with Serving(folder) as server:
            print(f"after an erase it answers in {server.took:.1f} s   aim 5 s")


def _newest(folder: Path) -> list[Who]:
    with closing(connect(folder, CLOCK)) as db:
        found = db.execute(
            "SELECT p.id AS pid, max(a.id) AS visit, max(t.id) AS trial FROM practitioner p"
            " JOIN assessment a ON a.practitioner_id = p.id JOIN trial t ON t.assessment_id = a.id"
            " WHERE p.call_name LIKE 'Person %' GROUP BY p.id"
        ).fetchall()
    return [(r["pid"], r["visit"], r["trial"]) for r in found]


def _busy() -> str:
    """What else the machine does: a figure beside a busy one is worth less."""
    one, five, _ = os.getloadavg()
    return f"load of the machine {one:.1f} (1 min), {five:.1f} (5 min), {os.cpu_count()} cores"


class Serving:
    """The shipped server on a folder, until the block ends; ``took``: until it answered, s."""

    def __init__(self, folder: Path) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self.base = f"http://127.0.0.1:{port}"
        began = time.perf_counter()
        self.process = subprocess.Popen(
            [sys.executable, "-m", "dachi", "serve", "--data", str(folder), "--port", str(port),
             "--door", "0"], stdout=subprocess.DEVNULL,
        )  # fmt: skip
        while True:
            try:
                urllib.request.urlopen(f"{self.base}/sign-in").read()
                break
            except OSError:
                time.sleep(0.05)
        self.took = time.perf_counter() - began

    def __enter__(self) -> Serving:
        return self

    def __exit__(self, *_: object) -> None:
        self.process.terminate()
        self.process.wait()

    def resident(self) -> float:
        """Memory of the server and of the processes it began, MB."""
        found = 0
        pids = {self.process.pid}
        for path in Path("/proc").glob("[0-9]*/stat"):
            with suppress(OSError, ValueError):
                told = path.read_text().rpartition(")")[2].split()
                if int(told[1]) in pids:
                    pids.add(int(path.parent.name))
        for pid in pids:
            with suppress(OSError):
                found += int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096
        return found / 1e6


class Watched:
    """The most memory a server had while a block ran, MB."""

    def __init__(self, server: Serving) -> None:
        self.server, self.most, self.before = server, 0.0, server.resident()
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._watch)

    def _watch(self) -> None:
        while not self._over.wait(0.02):
            self.most = max(self.most, self.server.resident())

    def __enter__(self) -> Watched:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()


def _pages(browser: Browser, people: list[Who]) -> None:
    rng = random.Random(3)
    alone: list[float] = []
    for page in PAGES:
        chosen = [rng.choice(people) for _ in range(EACH)]
        if page in MADE_ONCE:
            cold = [ask(browser, page, who) for who in chosen]
            print(f"  {page + ', first look':34} {quantiles(cold)}")
        took = [ask(browser, page, who) for who in chosen]
        alone += took
        print(f"  {page:34} {quantiles(took)}")
    print(f"alone: {quantiles(alone)}   aim p95 < 200 ms")


def _sizes(browser: Browser, people: list[Who]) -> None:
    pid, visit, trial = people[0]
    found = {p: len(browser.get(p.format(pid=pid, visit=visit, trial=trial))) for p in PAGES}
    most = sorted(found.items(), key=lambda x: -x[1])[:3]
    print(
        "largest pages: " + ", ".join(f"{p} {n / 1000:.0f} kB" for p, n in most) + "   aim 200 kB"
    )


def _crowd(
    name: str, base: str, people: list[Who], aim: int, *, warm: bool = False, uploads: bool = False
) -> None:
    """Eight coaches who read what comes; before, with ``warm``, each page of each was seen."""
    if warm:
        browser = Browser(base)
        for who in people:
            for page in PAGES:
                ask(browser, page, who)
    took: list[float] = []
    stop = threading.Event()
    sent = 0

    def send() -> None:
        nonlocal sent
        mine, rng = Browser(base), random.Random(5)
        while not stop.is_set():
            upload(mine, rng.choice(people)[1], sent)
            sent += 1
            # A phone needs a moment for the next one.
            time.sleep(0.5)

    def client(seed: int) -> None:
        own, mine = random.Random(seed), Browser(base)
        for _ in range(EACH):
            took.append(ask(mine, own.choice(PAGES), own.choice(people)))
            # A coach reads what comes.
            time.sleep(own.uniform(0.5, 2.5))

    sender = threading.Thread(target=send)
    if uploads:
        sender.start()
    clients = [threading.Thread(target=client, args=(n,)) for n in range(CLIENTS)]
    for t in clients:
        t.start()
    for t in clients:
        t.join()
    stop.set()
    if uploads:
        sender.join()
    beside = f" ({sent} uploads)" if uploads else ""
    print(f"{CLIENTS} clients {name}{beside}: {quantiles(took)}   aim p95 <= {aim} ms; {_busy()}")


def _large(server: Serving, people: list[Who]) -> None:
    """Eight photographs of 48 megapixels at once, and pages meanwhile."""
    rng = np.random.default_rng(1)
    small = Image.fromarray(rng.integers(0, 255, (600, 800, 3), np.uint8))
    big = small.resize((8000, 6000), Image.Resampling.BICUBIC)
    files = []
    for n in range(8):
        out = io.BytesIO()
        big.save(out, "JPEG", quality=88, comment=str(n).encode())
        files.append(out.getvalue())
    took: list[float] = []
    over = threading.Event()

    def send(n: int) -> None:
        post(Browser(server.base), people[0][1], f"large{n}", files[n])

    def read() -> None:
        mine, own = Browser(server.base), random.Random(7)
        while not over.is_set():
            took.append(ask(mine, own.choice(PAGES), own.choice(people)))

    with Watched(server) as watched:
        reader = threading.Thread(target=read)
        reader.start()
        began = time.perf_counter()
        senders = [threading.Thread(target=send, args=(n,)) for n in range(8)]
        for t in senders:
            t.start()
        for t in senders:
            t.join()
        whole = time.perf_counter() - began
        over.set()
        reader.join()
    print(
        f"eight of 48 megapixels in {whole:.0f} s: pages {quantiles(took)}   aim p95 <= 600 ms; "
        f"peak {watched.most:.0f} MB   aim 1200 MB"
    )


def _away(server: Serving, browser: Browser, people: list[Who]) -> None:
    one = f"/p/{people[3][0]}/record.zip"
    for name, path in (("one person", one), ("the studio", "/account/studio.zip")):
        with Watched(server) as watched:
            began = time.perf_counter()
            size, first = 0, 0.0
            with browser.open_url(server.base + path) as answer:
                while block := answer.read(1 << 16):
                    first = first or time.perf_counter() - began
                    size += len(block)
            took = time.perf_counter() - began
        print(
            f"{name} out: {size / 1e6:.1f} MB in {took:.1f} s, the first after {first:.2f} s, "
            f"{watched.most - watched.before:.0f} MB more memory"
        )


def _erase(browser: Browser, who: Who) -> None:
    name = f"Person {PEOPLE - 1:03d}"
    began = time.perf_counter()
    browser.post(f"/p/{who[0]}/erase", {"name": name})
    answered = time.perf_counter() - began
    while "being cleared of it" in browser.get("/"):
        time.sleep(0.2)
    whole = time.perf_counter() - began
    print(f"one person erased: answered in {answered:.1f} s, gone from all files in {whole:.1f} s")
