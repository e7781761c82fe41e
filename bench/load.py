"""A studio of 500 people over ten years: pages alone, and beside eight clients and uploads."""

from __future__ import annotations

import io
import json
import random
import socket
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from datetime import timedelta
from pathlib import Path

import numpy as np

from bench.speed import CLOCK, Browser, history, quantiles
from dachi import demo
from dachi.data import catalogue
from dachi.simulation.camera import Shot
from dachi.store import moving, preparation
from dachi.store.database import connect, transaction
from dachi.studio.record import moving as files
from dachi.studio.work import Work
from dachi.web.app import create_app
from tests.support import plain_picture, staged

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


def fill(folder: Path) -> list[tuple[int, int, int]]:
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
    found = db.execute(
        "SELECT p.id AS pid, max(a.id) AS visit, max(t.id) AS trial FROM practitioner p"
        " JOIN assessment a ON a.practitioner_id = p.id JOIN trial t ON t.assessment_id = a.id"
        " WHERE p.call_name LIKE 'Person %' GROUP BY p.id"
    ).fetchall()
    counts = {
        t: db.execute(f"SELECT count(*) FROM {t}").fetchone()[0]
        for t in ("practitioner", "assessment", "trial", "reading", "practice_log")
    }
    db.close()
    print(", ".join(f"{n} {t}" for t, n in counts.items()))
    return [(r["pid"], r["visit"], r["trial"]) for r in found]


def ask(browser: Browser, page: str, who: tuple[int, int, int]) -> float:
    """Seconds of a page."""
    path = page.format(pid=who[0], visit=who[1], trial=who[2])
    began = time.perf_counter()
    browser.get(path)
    return time.perf_counter() - began


def upload(browser: Browser, aid: int, number: int) -> None:
    """Send a photograph into the tray of a visit."""
    edge = uuid.uuid4().hex
    data = plain_picture(2000, 1500, comment=str(number).encode())
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
    import urllib.request

    request = urllib.request.Request(
        f"{browser.base}/a/{aid}/tray", body.getvalue(),
        {"Content-Type": f"multipart/form-data; boundary={edge}"},
    )  # fmt: skip
    browser.open_url(request).read()


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="dachi-load-") as name:
        folder = Path(name)
        create_app(folder, CLOCK)
        demo.fill(folder, CLOCK)
        began = time.perf_counter()
        people = fill(folder)
        size = (folder / "dachi.sqlite3").stat().st_size / 1e6
        print(f"filled in {time.perf_counter() - began:.0f} s, database {size:.0f} MB")
        assert all(p in catalogue() for p in POSES)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        server = subprocess.Popen(
            [sys.executable, "-m", "dachi", "serve", "--data", name, "--port", str(port),
             "--door", "0"], stdout=subprocess.DEVNULL,
        )  # fmt: skip
        try:
            _measure(f"http://127.0.0.1:{port}", port, people)
        finally:
            server.terminate()
            server.wait()


def _measure(base: str, port: int, people: list[tuple[int, int, int]]) -> None:
    began = time.perf_counter()
    while time.perf_counter() - began < 120:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.1)
    print(f"started in {time.perf_counter() - began:.1f} s")
    rng = random.Random(3)
    browser = Browser(base)
    alone: list[float] = []
    for page in PAGES:
        chosen = [rng.choice(people) for _ in range(EACH)]
        if page in MADE_ONCE:
            cold = [ask(browser, page, who) for who in chosen]
            print(f"  {page + ', first look':34} {quantiles(cold)}")
        took = [ask(browser, page, who) for who in chosen]
        alone += took
        print(f"  {page:34} {quantiles(took)}")
    print(f"alone:                               {quantiles(alone)}   aim p95 < 200 ms")
    beside: list[float] = []
    stop = threading.Event()
    sent = 0

    def uploads() -> None:
        nonlocal sent
        mine = Browser(base)
        while not stop.is_set():
            upload(mine, rng.choice(people)[1], sent)
            sent += 1
            # A phone needs a moment for the next one.
            time.sleep(0.5)

    def client(seed: int) -> None:
        own, mine = random.Random(seed), Browser(base)
        for _ in range(EACH):
            beside.append(ask(mine, own.choice(PAGES), own.choice(people)))
            # A coach reads what comes.
            time.sleep(own.uniform(0.5, 2.5))

    uploader = threading.Thread(target=uploads)
    uploader.start()
    clients = [threading.Thread(target=client, args=(n,)) for n in range(CLIENTS)]
    for t in clients:
        t.start()
    for t in clients:
        t.join()
    stop.set()
    uploader.join()
    slow = np.percentile(np.array(beside) * 1000, 99)
    print(f"beside {CLIENTS} clients and {sent} uploads: {quantiles(beside)}, p99 {slow:.0f} ms"
          "   aim p95 < 600 ms")  # fmt: skip
