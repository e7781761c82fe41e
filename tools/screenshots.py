"""Renews docs/screenshots from the demo data: ``make screenshots``."""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont
from playwright.sync_api import Browser, StorageState, sync_playwright
from waitress.server import create_server

from dachi import demo
from dachi.clock import Clock
from dachi.store import accounts
from dachi.store.database import connect, transaction
from dachi.studio.visits import recognised
from dachi.studio.work import Work
from dachi.web.app import create_app

OUT = Path(__file__).parents[1] / "docs" / "screenshots"
DESK, PHONE = (1280, 800), (390, 844)
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]

#: Name, size, theme, path. ``{trial}`` and ``{visit}`` are the newest of the first
#: practitioner, ``{waiting}`` a photograph not marked yet, ``{new}`` an assessment just opened,
#: ``{phone}`` and ``{own}`` private links.
VIEWS: tuple[tuple[str, tuple[int, int], str, str], ...] = (
    ("today", DESK, "light", "/"),
    ("today-dark", DESK, "dark", "/"),
    ("sheet", DESK, "light", "/a/{new}?pose=low-lunge"),
    ("phone", PHONE, "light", "{phone}"),
    ("bench", DESK, "light", "/t/{trial}"),
    ("bench-phone", PHONE, "light", "/t/{trial}"),
    ("review", DESK, "light", "/a/{visit}/review"),
    ("overview", DESK, "light", "/p/1"),
    ("cards", DESK, "light", "/cards"),
    ("bench-new", DESK, "light", "/t/{waiting}"),
    ("progress", DESK, "light", "/p/1?pose=supine-leg-raise"),
    ("steadiness", DESK, "light", "/steadiness"),
    ("compare", DESK, "light", "/p/1/compare?pose=supine-leg-raise&side=left&mode=passive"),
    ("plan", DESK, "light", "/p/1/plan"),
    ("ladders", DESK, "light", "/p/1/ladders"),
    ("player", PHONE, "light", "{own}/play/0"),
    ("own", PHONE, "light", "{own}"),
)

#: The four pictures the README begins with, and what they say.
STEPS = (
    ("bench-new", "1  A photograph: cards tell the camera, marks wait on the joints"),
    ("bench", "2  A reading: the angle with its interval, and whether the shot is valid"),
    ("progress", "3  A verdict: across weeks, chance told apart from change"),
    ("plan", "4  A plan: practice for what holds the pose back, with its reasons"),
)


def steps() -> None:
    """Put the four pictures onto one, each under its words."""
    wide, tall, rim, words = 800, 500, 16, 40
    sheet = Image.new("RGB", (2 * wide + 3 * rim, 2 * (tall + words) + 3 * rim), "#f7f2e8")
    pen, font = ImageDraw.Draw(sheet), ImageFont.load_default(24)
    for i, (name, said) in enumerate(STEPS):
        x, y = rim + (i % 2) * (wide + rim), rim + (i // 2) * (tall + words + rim)
        pen.text((x, y + 4), said, fill="#26231d", font=font)
        with Image.open(OUT / f"{name}.png") as picture:
            small = picture.convert("RGB").resize((wide, tall), Image.Resampling.LANCZOS)
        sheet.paste(small, (x, y + words))
    sheet.quantize(200).save(OUT / "steps.png", optimize=True)


def first(browser: Browser, folder: Path) -> None:
    """The first page of an empty copy."""
    app = create_app(folder, Clock())
    db = connect(folder, Clock())
    with transaction(db):
        accounts.add(db, demo.ACCOUNT, "Wenna", demo.PASSWORD)
    db.close()
    server = create_server(app, host="127.0.0.1", port=0, threads=4)
    threading.Thread(target=server.run, daemon=True).start()
    base = f"http://127.0.0.1:{server.effective_port}"
    state = signed_in(browser, base)
    _shoot(browser, base, state, "first", DESK, "light", "/")
    server.close()


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        app = create_app(folder, Clock())
        demo.fill(folder, Clock())
        db = connect(folder, Clock())
        recognised.look_at_all(Work(db, folder, 1))
        db.close()
        server = create_server(app, host="127.0.0.1", port=0, threads=4)
        threading.Thread(target=server.run, daemon=True).start()
        base = f"http://127.0.0.1:{server.effective_port}"
        with sync_playwright() as playwright:
            path = os.environ.get("CHROMIUM") or shutil.which("chromium")
            browser = playwright.chromium.launch(executable_path=path, args=FLAGS)
            state = signed_in(browser, base)
            known = _links(browser, base, state)
            for view, size, theme, address in VIEWS:
                _shoot(browser, base, state, view, size, theme, address.format(**known))
            with tempfile.TemporaryDirectory() as empty:
                first(browser, Path(empty))
            browser.close()
        steps()
        server.close()


def signed_in(browser: Browser, base: str) -> StorageState:
    """What a browser keeps once the demo's coach has signed in."""
    context = browser.new_context()
    page = context.new_page()
    page.goto(f"{base}/sign-in")
    page.fill("#email", demo.ACCOUNT)
    page.fill("#password", demo.PASSWORD)
    page.click("main button[type=submit]")
    page.wait_for_url(f"{base}/")
    state = context.storage_state()
    context.close()
    return state


def _shoot(
    browser: Browser,
    base: str,
    state: StorageState,
    view: str,
    size: tuple[int, int],
    theme: str,
    address: str,
) -> None:
    context = browser.new_context(
        viewport={"width": size[0], "height": size[1]}, storage_state=state
    )
    context.add_cookies([{"name": "theme", "value": theme, "url": base}])
    page = context.new_page()
    page.goto(base + address)
    page.wait_for_load_state("networkidle")
    if view == "player":
        page.get_by_role("button", name="Skip").click()
        page.get_by_role("button", name="Start").click()
        page.wait_for_timeout(24_000)
    page.screenshot(path=OUT / f"{view}.png")
    print(view)
    context.close()


def _links(browser: Browser, base: str, state: StorageState) -> dict[str, str]:
    """Opens an assessment and makes the links that views need."""
    context = browser.new_context(storage_state=state)
    page = context.new_page()
    page.goto(f"{base}/p/1/record")
    visit = str(page.locator(".visits a").first.get_attribute("href")).split("/")[2]
    page.goto(f"{base}/a/{visit}?pose=supine-leg-raise")
    trial = str(page.locator(".shot a").nth(3).get_attribute("href")).split("/")[2]
    page.goto(f"{base}/p/1/practice")
    own = page.locator("#own code").inner_text().removeprefix(base)
    page.goto(f"{base}/p/1/assess")
    page.get_by_role("button", name="Open the run sheet").click()
    page.wait_for_url(f"{base}/a/*")
    new = page.url.split("/a/")[1]
    page.goto(f"{base}/?q={demo.WAITING}")
    waiting = str(page.locator(".day-act").first.get_attribute("href")).split("/")[2]
    # The visit whose last photograph was looked at: the phone says so.
    page.goto(f"{base}/t/{waiting}")
    sheet = str(page.locator('a[href^="/a/"]').first.get_attribute("href"))
    page.goto(f"{base}/a/{sheet.split('/')[2].split('?')[0]}/phone")
    page.get_by_role("button", name="Make the code").click()
    phone = page.locator(".link-text code").inner_text().removeprefix(base)
    context.close()
    return {
        "waiting": waiting,
        "visit": visit,
        "trial": trial,
        "own": own,
        "new": new,
        "phone": phone,
    }


if __name__ == "__main__":
    main()
