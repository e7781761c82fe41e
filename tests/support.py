"""Arrangements shared by the tests: posed scenes, small pictures, a running application."""

from __future__ import annotations

import contextlib
import functools
import io
import logging
import os
import pickle
import random
import socket
import tempfile
import threading
import unittest
from collections.abc import Callable, Iterable, Mapping
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import jinja2
import numpy as np
from argon2 import PasswordHasher
from flask import Flask
from flask.sessions import SecureCookieSessionInterface
from flask.testing import FlaskClient
from itsdangerous import URLSafeTimedSerializer
from jinja2.utils import missing
from PIL import Image as Pictures
from werkzeug.test import TestResponse

from dachi.clock import Clock
from dachi.core.body.figure import bones
from dachi.core.body.pinhole import CORNERS
from dachi.core.catalogue.demands import Level
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.scene import Image, Result, Scene
from dachi.data import catalogue, screening_groups, screening_questions
from dachi.simulation.camera import Shot, Stage, exif, photograph, set_up, sidecar
from dachi.store import accounts, assessments, markings, practitioners, preparation
from dachi.store.database import FILE, connect, migrate
from dachi.store.markings import Marking
from dachi.studio.bench import scenes
from dachi.studio.bench.around import surroundings
from dachi.studio.renew import renew
from dachi.studio.work import Work
from dachi.web.app import create_app, open_on


def free_ports(count: int = 1) -> list[int]:
    """Neighbouring ports nobody listens on, below those the system hands out by itself: a server
    that takes its second port half a minute after its first still finds it free.
    """
    while True:
        first = random.SystemRandom().randrange(20000, 30000)
        ports = list(range(first, first + count))
        with contextlib.ExitStack() as held:
            try:
                for port in ports:
                    held.enter_context(socket.socket()).bind(("0.0.0.0", port))
            except OSError:
                continue
            return ports


#: The day on which tests happen, at noon: the same for ever, or the one that is named. It is
#: the rarest of days, so that whatever stumbles over it does so in every test.
LEAP_DAY = "2028-02-29"
TODAY = datetime.fromisoformat(os.environ.get("DACHI_TEST_DAY", LEAP_DAY)).replace(hour=12)
_SHIFT = TODAY.astimezone() - datetime.now().astimezone()
CLOCK = Clock(lambda: datetime.now().astimezone() + _SHIFT)


def ago(days: float, at: str = "09:00") -> str:
    """A moment some days before the day of the tests, local time as forms post it."""
    return f"{(TODAY - timedelta(days=days)).date().isoformat()}T{at}"


def day_ago(days: float) -> str:
    """A day before the day of the tests (after it where negative), ISO."""
    return ago(days)[:10]


def written_ago(days: float) -> str:
    """A day before the day of the tests as pages write it, such as 8 Dec 2026."""
    day = TODAY - timedelta(days=days)
    return f"{day.day} {day:%b %Y}"


#: Passwords hashed as hard as in earnest take a third of a second at each sign-in.
accounts._HASHER = PasswordHasher(time_cost=1, memory_cost=64, parallelism=1)
accounts._NOBODY = accounts._HASHER.hash("nobody")

#: What one run of the tests shares between its processes: pictures and compiled pages.
KEPT = os.environ.get("DACHI_TEST_KEPT")


def kept_picture(name: str, make: Callable[[], tuple[bytes, Any]]) -> tuple[bytes, Any]:
    """A rendered picture and its truth, made once in a run."""
    if KEPT is None:
        return make()
    path = Path(KEPT) / f"{name}.pickle"
    if not path.exists():
        half = path.with_suffix(f".{os.getpid()}")
        half.write_bytes(pickle.dumps(make()))
        half.replace(path)
    found: tuple[bytes, Any] = pickle.loads(path.read_bytes())
    return found


PASSWORD = "a few words in a row"
LEG_RAISE = "supine-leg-raise"


def staged(pose_id: str, shot: Shot) -> Stage:
    return set_up(catalogue().pose(pose_id), shot)


def scene_of(
    pose_id: str,
    shot: Shot,
    *,
    mode: str = "passive",
    mat: bool = True,
    noise: np.random.Generator | None = None,
    mark_sd: float = 3.0,
    corner_sd: float = 2.0,
    marks: Mapping[str, tuple[float, float]] | None = None,
    **more: Any,
) -> Scene:
    """A scene of the posed figure, clicked exactly or with the given scatter (px)."""
    stage = staged(pose_id, shot)

    def click(p: tuple[float, float], sd: float) -> tuple[float, float]:
        if noise is None:
            return p
        return (p[0] + float(noise.normal(0, sd)), p[1] + float(noise.normal(0, sd)))

    pose = catalogue().pose(pose_id)
    found = {k: click(stage.marks_px[k], mark_sd) for k in pose.required}
    corners = {k: click(p, corner_sd) for k, p in stage.corners_px.items()}
    settings: dict[str, Any] = {
        "segments_cm": shot.body.segments_cm,
        "mark_sd_px": mark_sd,
        "variant": pose.default_variant(),
    } | more
    return Scene(
        pose=pose_id,
        side=shot.side,
        mode=mode,
        image=Image(shot.width, shot.height, shot.focal_35mm),
        marks=found | dict(marks or {}),
        mat=Mat(*shot.mat_cm, corners) if mat else None,
        **settings,
    )


def sketched(pose: Pose, shot: Shot, taken_at: datetime) -> tuple[bytes, dict[str, Any]]:
    """The shot as a flat drawing and its truth: a mat, limbs as strokes, dots for stickers.

    Quick to draw, and not by the renderer that made the demo's pictures.
    """
    stage = set_up(pose, shot)
    paper = np.full((shot.height, shot.width, 3), (205, 198, 186), dtype=np.uint8)
    mat = np.array([stage.corners_px[c] for c in CORNERS])
    cv2.fillPoly(paper, [mat.round().astype(np.int32)], (72, 88, 96), cv2.LINE_AA)
    for a, b, ra, rb, _ in bones(shot.body, stage.points):
        ends = [tuple(int(v) for v in stage.camera.project(p)) for p in (a, b)]
        depth = (stage.camera.rotation @ a + stage.camera.translation)[2]
        wide = max(2, round((ra + rb) * stage.camera.focal_px / depth))
        cv2.line(paper, ends[0], ends[1], (150, 118, 96), wide, cv2.LINE_AA)
    for x, y in stage.marks_px.values() if shot.stickers else ():
        spot = (round(x * 16), round(y * 16))
        cv2.circle(paper, spot, 5 * 16, (60, 210, 90), -1, cv2.LINE_AA, shift=4)
    out = io.BytesIO()
    Pictures.fromarray(paper).save(out, "JPEG", quality=85, exif=exif(shot.focal_35mm, taken_at))
    return out.getvalue(), sidecar(pose, shot, stage, taken_at)


@functools.lru_cache(maxsize=8)
def rendered(
    side: str = "left", value: float = 76.0, seed: int = 3, stickers: bool = False, yaw: float = 9.0
) -> tuple[bytes, dict[str, Any]]:
    """A picture of a leg raise and its truth; with stickers on, rendered in full."""
    shot = Shot(side, value, yaw_deg=yaw, seed=seed, stickers=stickers)
    name = f"leg-raise-{side}-{value}-{seed}-{stickers}-{yaw}"
    at = datetime(2026, 11, 24, 9, 30)
    if not stickers:
        return sketched(catalogue().pose(LEG_RAISE), shot, at)
    return kept_picture(name, lambda: photograph(catalogue().pose(LEG_RAISE), shot, at))


@functools.lru_cache(maxsize=64)
def pictured(pose_id: str, side: str, value: float, seed: int = 1) -> tuple[bytes, dict[str, Any]]:
    """Any pose sketched with stickers on, small, and its truth."""
    shot = Shot(side, value, yaw_deg=6.0, seed=seed, stickers=True, width=960, height=720)
    return sketched(catalogue().pose(pose_id), shot, datetime(2026, 11, 25, 10, 0))


def plain_picture(
    width: int = 640, height: int = 480, kind: str = "JPEG", mode: str = "RGB", **save: Any
) -> bytes:
    """A small gradient picture in any format Pillow writes."""
    ramp = np.linspace(0, 255, width * height, dtype=np.uint8).reshape(height, width)
    out = io.BytesIO()
    Pictures.fromarray(ramp).convert(mode).save(out, kind, **save)
    return out.getvalue()


def loaded_on(drill: Drill, demand: str, leg: str, steps: Iterable[Any]) -> bool:
    """Whether one leg is brought to a demand's end by what is worked in some steps."""
    if drill.sides == "both":
        return loaded(drill, demand)
    worked = {s.side for s in steps if s.worked}
    return any(drill.demands.asked(demand, leg, side) >= Level.END for side in worked)


def loaded(drill: Drill, demand: str) -> bool:
    """Whether a drill brings something to the end of its range."""
    return drill.demands.most(demand) >= Level.END


def asked_of(*yes: str, **more: str) -> dict[str, Any]:
    """The form of the screening: no to every group but those of the questions answered yes."""
    groups = {q.group for q in screening_questions() if q.id in yes}
    said = {f"group-{g.id}": "yes" if g.id in groups else "no" for g in screening_groups()}
    return said | {"yes": list(yes)} | more


class NoSuchAttribute(jinja2.Undefined):
    """Pages that ask a thing for what it does not have fail in tests; people see an empty place."""

    def _refuse(self) -> None:
        if self._undefined_obj is not missing and not isinstance(self._undefined_obj, dict):
            self._fail_with_undefined_error()

    def __str__(self) -> str:
        self._refuse()
        return ""

    def __bool__(self) -> bool:
        self._refuse()
        return False


class Client(FlaskClient):
    """Reads every answer to its end, as a browser does: files that are sent are closed."""

    def open(self, *args: Any, **more: Any) -> TestResponse:
        return super().open(*args, **{"buffered": True} | more)


@functools.cache
def empty_database() -> bytes:
    """A database with the present tables and nothing in them; made from the scripts once."""
    with tempfile.TemporaryDirectory(prefix="dachi-empty-") as name:
        with contextlib.closing(connect(Path(name), CLOCK)) as db:
            migrate(db)
        return (Path(name) / FILE).read_bytes()


@functools.cache
def the_application() -> Flask:
    """The application of this process; each test opens it on a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="dachi-app-") as name:
        app = create_app(Path(name), CLOCK, testing=True)
    app.test_client_class = Client
    app.jinja_env.undefined = NoSuchAttribute
    if KEPT is not None:
        app.jinja_env.bytecode_cache = jinja2.FileSystemBytecodeCache(KEPT)
    return app


class Studio(unittest.TestCase):
    """A data folder with one coach (and, on asking, others), and the application on it."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="dachi-test-", ignore_cleanup_errors=True)
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        (self.folder / FILE).write_bytes(empty_database())
        self.app = the_application()
        for table in (self.app.config, self.app.view_functions):
            patch = mock.patch.dict(table)
            patch.start()
            self.addCleanup(patch.stop)
        open_on(self.app, self.folder)
        self.db = connect(self.folder, CLOCK)
        self.addCleanup(self.db.close)
        self.coach = accounts.add(self.db, "coach@quay.example", "Wenna", PASSWORD)
        # Tests draw the stick figure, whose marks are its joints: no skin lies over them.
        accounts.keep_usual_marked(self.db, self.coach.id, "joint")
        self.work = Work(self.db, self.folder, self.coach.id)
        self.pid = practitioners.add(
            self.db,
            self.coach.id,
            "Runa",
            birth_year=1994,
            height_cm=170.0,
            thigh_cm=41.7,
            shin_cm=41.8,
        )
        preparation.give_consent(
            self.db, self.coach.id, self.pid, given_on=day_ago(300), scope="show"
        )
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(300), yes=[]
        )

    def renew(self, pid: int | None = None) -> None:
        """What every command ends with, for what a test wrote past them."""
        with self.db.savepoint():
            renew(self.work, pid or self.pid, strict=False)

    def invent(self, tid: int, marking: Marking, result: Result) -> None:
        """Readings nobody took, kept as if just these had been read of a trial's marks."""
        marking_id = markings.save(self.db, self.coach.id, tid, marking)
        marking = markings.history(self.db, self.coach.id, tid)[0]
        trial = assessments.trial(self.db, self.coach.id, tid)
        assert trial is not None
        at = surroundings(self.work, trial)
        stamp = scenes.made_from(scenes.whole(at, scenes.scene_of(at, marking)))
        markings.keep_readings(self.db, self.coach.id, marking_id, result, stamp)


class Pages(Studio):
    """The application driven through its test client, CSRF protection left on."""

    def setUp(self) -> None:
        super().setUp()
        from dachi.web.security import limiter

        limiter.reset()
        self.client = self.app.test_client()

    def token(self, path: str = "/sign-in") -> str:
        page = self.client.get(path, follow_redirects=True).get_data(as_text=True)
        return page.split('name="csrf-token" content="')[1].split('"')[0]

    def sign_in(self, email: str = "coach@quay.example", password: str = PASSWORD) -> Any:
        data = {"email": email, "password": password, "csrf_token": self.token()}
        return self.client.post("/sign-in", data=data)

    def post(self, path: str, data: dict[str, Any] | None = None, **more: Any) -> Any:
        body = {"csrf_token": self.held_token()} | (data or {})
        return self.client.post(path, data=body, **more)

    def held_token(self) -> str:
        """The token of the page in front of the coach, without asking for one again."""
        cookie = self.client.get_cookie("dachi")
        kept = None
        if cookie is not None:
            reader = SecureCookieSessionInterface().get_signing_serializer(self.app)
            assert reader is not None
            kept = reader.loads(cookie.value).get("csrf_token")
        if kept is None:
            return self.token("/")
        return URLSafeTimedSerializer(self.app.secret_key, salt="wtf-csrf-token").dumps(kept)

    def text(self, answer: Any) -> str:
        return str(answer.get_data(as_text=True))

    def new_assessment(self, at: str | None = None, warmth: str = "warm") -> int:
        at = at or ago(6)
        answer = self.post(f"/p/{self.pid}/assess", {"taken_at": at, "warmth": warmth})
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def upload(self, aid: int, data: bytes, name: str = "leg.jpg", **place: Any) -> Any:
        form: dict[str, Any] = {
            "pose": LEG_RAISE,
            "side": "left",
            "mode": "passive",
            "number": "1",
            "photo": (io.BytesIO(data), name),
        } | place
        return self.post(f"/a/{aid}/photos", form, content_type="multipart/form-data")

    def shot(self, aid: int | None = None, **place: object) -> int:
        answer = self.upload(aid or self.new_assessment(), rendered()[0], **place)
        self.assertEqual(answer.status_code, 302, self.text(answer))
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def marks_form(self, truth: Mapping[str, Any], **changes: Any) -> dict[str, Any]:
        """The bench's form with every mark on the truth and the mat's corners on."""
        form: dict[str, Any] = {"mat": "on", "seen": "0"}
        for name, (x, y) in truth["marks_px"].items():
            if name in catalogue().pose(truth["pose"]).required:
                form |= {f"mark-{name}-x": x, f"mark-{name}-y": y, f"mark-{name}-state": "placed"}
        for name, (x, y) in truth["corners_px"].items():
            form |= {f"corner-{name}-x": x, f"corner-{name}-y": y}
        return form | changes


class Served(Studio):
    """The application behind a real server on a free port."""

    def setUp(self) -> None:
        super().setUp()
        from waitress.server import create_server

        from dachi.web.security import limiter

        limiter.reset()
        # A browser opens more connections than there are threads; that is no news here.
        logging.getLogger("waitress.queue").setLevel(logging.ERROR)
        self.server = create_server(self.app, host="127.0.0.1", port=0, threads=4)
        self.base = f"http://127.0.0.1:{self.server.effective_port}"
        thread = threading.Thread(target=self.server.run, daemon=True)
        thread.start()

        def stop() -> None:
            self.server.task_dispatcher.shutdown(timeout=5)
            self.server.close()
            for channel in list(self.server.active_channels.values()):
                channel.close()
            thread.join(timeout=5)

        self.addCleanup(stop)
