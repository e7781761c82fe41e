"""A visit marked in the browser, four ways: ``python -m bench.visit [FOLDER] [WAY ...]``.

The folder (var/pictures) is made by ``python -m bench.bodies.pictures FOLDER``. Of its photographs
those with all four corner cards: with stickers painted where marks belong; with marks proposed and
those that want a look seen in their close-ups; proposed and all taken as seen with one key; and by
hand, cards and proposals away.
Acts are presses of the mouse and of keys; in the close-up of a doubtful mark further than ``NEAR``
from its place that place is touched. What was accepted is then read against the truth.
"""

from __future__ import annotations

import contextlib
import io
import json
import sys
import tempfile
import threading
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from PIL import Image
from playwright.sync_api import Page, sync_playwright
from waitress.server import create_server

from bench.bodies.sights import THIGH
from bench.day import seconds
from dachi.clock import Clock
from dachi.data import catalogue
from dachi.photos import stickers
from dachi.store import (
    accounts,
    assessments,
    markings,
    photos,
    positions,
    practitioners,
    preparation,
)
from dachi.store.database import connect
from dachi.studio.visits import intake, recognised
from dachi.studio.visits.intake import Incoming, Place
from dachi.studio.work import Work
from dachi.web.app import create_app
from tests.browser.chromium import COUNTING, FLAGS, chromium
from tests.browser.test_journey import drag

EMAIL, PASSWORD = "coach@quay.example", "a few words in a row"
WAYS = ("stickers", "looked at", "as seen", "by hand")
#: A mark this near its place, as a share of the thigh, is confirmed where it is.
NEAR = 0.04
MOST = 30
#: Stickers: colour, and how wide, cm.
DOT, DOT_CM = (40, 170, 60), 2.2


@dataclass
class Tally:
    """Acts and readings of one way."""

    acts: list[Counter[str]] = field(default_factory=list)
    read: list[tuple[float, float]] = field(default_factory=list)
    lost: int = 0


def pictures(folder: Path, most: int) -> list[tuple[Path, dict[str, Any]]]:
    """Photographs in which all four cards lie, with their truth."""
    found = []
    for file in sorted(f for f in folder.glob("*.json") if f.stem.isdigit()):
        told = json.loads(file.read_text())
        if len(told["cards"]) == 4 and file.with_suffix(".jpg").exists():
            found.append((file.with_suffix(".jpg"), told))
    return found[:most]


def thigh_px(told: dict[str, Any]) -> float:
    camera = told["camera"]
    middle = np.array(camera["rotation"]) @ [0, 0, 30.0] + camera["translation"]
    return float(THIGH * told["height_cm"] * camera["focal_px"] / middle[2])


def with_exif(file: Path, told: dict[str, Any], dots: bool) -> bytes:
    """The picture as a phone sends it; ``dots`` painted where marks belong, shaded as there."""
    with Image.open(file) as image:
        pixels = np.array(image.convert("RGB"))
    if dots:
        radius = DOT_CM / 2 * thigh_px(told) / (THIGH * told["height_cm"])
        for x, y in told["marks"].values():
            disc: Any = np.zeros(pixels.shape[:2], np.float32)
            cv2.circle(disc, (round(x * 16), round(y * 16)), round(radius * 16), 1.0, -1,
                       cv2.LINE_AA, 4)  # fmt: skip
            disc = np.asarray(cv2.GaussianBlur(disc, (0, 0), 0.8), np.float32)[..., None]
            light = float(pixels[disc[..., 0] > 0.5].mean()) / 120 if disc.max() > 0.5 else 1.0
            colour = np.clip(np.array(DOT) * np.clip(light, 0.5, 1.6), 0, 255)
            pixels = (pixels * (1 - disc) + colour * disc).astype(np.uint8)
    exif = Image.Exif()
    exif.get_ifd(0x8769)[41989] = int(told["focal_35mm"] or 26)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "JPEG", quality=90, exif=exif)
    return out.getvalue()


@contextlib.contextmanager
def studio(propose: bool) -> Iterator[tuple[str, Work, int]]:
    """A studio of its own on a real server: its address, its work, a visit that was opened."""
    with tempfile.TemporaryDirectory(prefix="dachi-visit-") as name:
        folder, clock = Path(name), Clock()
        app = create_app(folder, clock)
        app.config["PROPOSE"] = propose
        db = connect(folder, clock)
        coach = accounts.add(db, EMAIL, "Coach", PASSWORD)
        work = Work(db, folder, coach.id)
        pid = practitioners.add(db, work.coach, "Sanne", birth_year=1991)
        today = work.now().date().isoformat()
        preparation.give_consent(db, work.coach, pid, given_on=today, scope="show")
        preparation.answer_screening(db, work.coach, pid, answered_on=today, yes=[])
        aid = assessments.add(
            db, work.coach, pid, taken_at=work.now().isoformat(timespec="minutes"), warmth="warm"
        )
        server: Any = create_server(app, host="127.0.0.1", port=0, threads=6)
        threading.Thread(target=server.run, daemon=True).start()
        try:
            yield f"http://127.0.0.1:{server.effective_port}", work, aid
        finally:
            server.close()
            db.close()


def place_of(told: dict[str, Any], seen: Counter[tuple[str, str]]) -> Place:
    """The next free place of a picture's pose and side."""
    pose = catalogue().pose(told["pose"])
    side = told["side"] if pose.sides != "both" else "both"
    seen[pose.id, side] += 1
    return Place(pose, side, "passive" if "passive" in pose.modes else next(iter(pose.modes)),
                 seen[pose.id, side], pose.default_variant())  # fmt: skip


def opened(context: Any, base: str) -> Page:
    page: Page = context.new_page()
    page.set_default_timeout(20_000)
    page.goto(f"{base}/sign-in")
    page.fill("#email", EMAIL)
    page.fill("#password", PASSWORD)
    page.click("main button[type=submit]")
    page.wait_for_url(f"{base}/")
    return page


def mark(page: Page, told: dict[str, Any], way: str) -> None:
    """Work one photograph's bench until it is accepted."""
    names = "rings => rings.map(r => r.dataset.name)"

    def true(name: str) -> tuple[float, float]:
        x, y = told["marks"][name.removeprefix("mark-")]
        return x, y

    if way == "by hand":
        page.keyboard.press("m")
        for name, (x, y) in told["corners"].items():
            drag(page, f"corner-{name}", (x, y))
    if way == "as seen":
        page.keyboard.press("a")
    elif way != "looked at":
        for name in page.eval_on_selector_all(".mark-guess", names):
            drag(page, name, true(name))
    if way == "looked at":
        look_over(page, told)
    else:
        page.wait_for_function("!document.querySelector('.mark-guess')")
    page.evaluate("document.activeElement.blur()")
    before = page.url
    page.keyboard.press("Enter")
    page.wait_for_url(lambda url: url != before)
    page.wait_for_load_state("networkidle")
    if "sure=1" in page.url:
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "sure=1" not in url)


def look_over(page: Page, told: dict[str, Any]) -> None:
    """Touch the joint in each close-up where the cross is off it; drag where it is out of sight."""
    for tile in page.locator(".closeup").all():
        name = str(tile.get_attribute("data-for"))
        true = told["marks"][name.removeprefix("mark-")]
        at, span = page.evaluate(
            "n => [['x', 'y'].map(a => Number(document.forms.bench.elements[`${n}-${a}`].value)),"
            " Number(document.getElementById('closeups').dataset.span)]",
            name,
        )
        off = np.subtract(true, at)
        if np.hypot(*off) < NEAR * thigh_px(told):
            continue
        if np.abs(off).max() < 0.48 * span:
            canvas = tile.locator("canvas")
            canvas.scroll_into_view_if_needed()
            box = canvas.bounding_box()
            assert box is not None
            dx, dy = 0.5 + off / span
            page.mouse.click(box["x"] + dx * box["width"], box["y"] + dy * box["height"])
        else:
            drag(page, name, (true[0], true[1]))
        # The others follow.
        page.locator(".strip-body.waiting").wait_for(state="detached")


def visit(way: str, chosen: list[tuple[Path, dict[str, Any]]]) -> Tally:
    """Mark every photograph one way."""
    tally, acts = Tally(), Counter[str]()
    with studio(propose=False) as (base, work, aid), sync_playwright() as p:
        if way == "stickers":
            colour = stickers.pick_colour(np.full((64, 64, 3), DOT, np.uint8), 32.0, 32.0)
            accounts.keep_sticker_colour(work.db, work.coach, colour.text())
        assessment, seen = assessments.get(work.db, work.coach, aid), Counter[tuple[str, str]]()
        assert assessment is not None
        trials = []
        for file, told in chosen:
            data = Incoming(with_exif(file, told, way == "stickers"))
            photo = intake.store(work, data)
            tid = intake.put(work, assessment, place_of(told, seen), photo)
            setup = assessments.trial(work.db, work.coach, tid)
            assert setup is not None
            here = positions.of_assessment(work.db, work.coach, aid)[setup.position_id or 0]
            size = (here.mat_length_cm, here.mat_width_cm)
            own = positions.start(work.db, work.coach, aid, here.view, size, here.setup)
            positions.move_trial(work.db, work.coach, tid, own)
            if way == "by hand":
                photos.set_cards(work.db, work.coach, setup.photo_id, {})
            trials.append(tid)
        work.db.end(keep=True)
        if way != "by hand":
            recognised.look_at_all(work)
        browser = p.chromium.launch(executable_path=chromium(), args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        context.expose_binding("counted", lambda _, kind: acts.update([kind]))
        context.add_init_script(COUNTING)
        page = opened(context, base)
        for tid, (file, told) in zip(trials, chosen, strict=True):
            page.goto(f"{base}/t/{tid}")
            page.wait_for_load_state("networkidle")
            acts.clear()
            try:
                mark(page, told, way)
            except Exception as error:
                print(f"  {way}: {file.stem} {told['pose']} not accepted: {str(error)[:80]!r}")
                tally.lost += 1
                continue
            tally.acts.append(acts + Counter(pages=1))
            if markings.history(work.db, work.coach, tid):
                for r in markings.readings(work.db, work.coach, tid):
                    if r.headline and r.id in told["truth"]:
                        tally.read.append((r.value - told["truth"][r.id], r.sd))
        browser.close()
    return tally


def main(argv: list[str] | None = None) -> None:
    words = list(argv or [])
    ways = [w for w in WAYS if w in words] or WAYS
    chosen = pictures(Path(next((w for w in words if w not in WAYS), "var/pictures")), MOST)
    print(f"{len(chosen)} photographs, each from a camera place of its own")
    print(f"{'':12}{'acts, median':>13}{'mean':>6}{'90 %':>6}{'seconds':>9}   mean error, holds")
    for way in ways:
        tally = visit(way, chosen)
        acts = np.array([a["clicks"] + a["keys"] for a in tally.acts])
        took = np.mean([seconds(a) for a in tally.acts])
        error, sd = np.array(tally.read).T
        print(
            f"{way:12}{np.median(acts):13.0f}{acts.mean():6.1f}{np.percentile(acts, 90):6.0f}"
            f"{took:9.1f}   {np.mean(np.abs(error)):.1f} {np.mean(np.abs(error) < 1.96 * sd):.0%}"
            f" ({len(error)}; {tally.lost} not accepted)",
            flush=True,
        )


if __name__ == "__main__":
    main(sys.argv[1:])
