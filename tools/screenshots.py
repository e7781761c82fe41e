"""Renews docs/screenshots from the demo data: ``make screenshots``."""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
from pathlib import Path

from playwright.sync_api import Browser, Page, StorageState, sync_playwright
from waitress.server import create_server

from dachi import demo
from dachi.web.app import create_app

OUT = Path(__file__).parents[1] / "docs" / "screenshots"
DESK, PHONE = (1280, 800), (390, 844)
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]

#: Name, size, theme, path; ``{trial}`` and ``{visit}`` are the newest of the first practitioner.
VIEWS: tuple[tuple[str, tuple[int, int], str, str], ...] = (
    ("today", DESK, "light", "/"),
    ("today-dark", DESK, "dark", "/"),
    ("prepare", DESK, "light", "/p/2/prepare"),
    ("sheet", DESK, "light", "/a/{visit}?pose=supine-leg-raise"),
    ("bench", DESK, "light", "/t/{trial}"),
    ("bench-phone", PHONE, "light", "/t/{trial}"),
    ("overview", DESK, "light", "/p/1"),
    ("overview-dark", DESK, "dark", "/p/1"),
    ("overview-phone", PHONE, "light", "/p/1"),
    ("progress", DESK, "light", "/p/1?pose=supine-leg-raise"),
    ("progress-dark", DESK, "dark", "/p/1?pose=front-split"),
    ("compare", DESK, "light", "/p/1/compare?pose=supine-leg-raise&side=left&mode=passive"),
    ("compare-dark", DESK, "dark", "/p/2/compare?pose=butterfly&side=left&mode=passive"),
)


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        app = create_app(folder)
        demo.fill(folder)
        server = create_server(app, host="127.0.0.1", port=0, threads=4)
        threading.Thread(target=server.run, daemon=True).start()
        base = f"http://127.0.0.1:{server.effective_port}"
        with sync_playwright() as playwright:
            path = os.environ.get("CHROMIUM") or shutil.which("chromium")
            browser = playwright.chromium.launch(executable_path=path, args=FLAGS)
            state = _signed_in(browser, base)
            for view, size, theme, address in VIEWS:
                _shoot(browser, base, state, view, size, theme, address)
            browser.close()
        server.close()


def _signed_in(browser: Browser, base: str) -> StorageState:
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
    page.goto(base + _filled(page, base, address))
    page.wait_for_load_state("networkidle")
    page.screenshot(path=OUT / f"{view}.png")
    print(view)
    context.close()


def _filled(page: Page, base: str, address: str) -> str:
    if "{" not in address:
        return address
    page.goto(f"{base}/p/1/record")
    visit = page.locator(".visits a").first.get_attribute("href")
    page.goto(f"{base}{visit}?pose=supine-leg-raise")
    trial = str(page.locator(".shot a").nth(3).get_attribute("href"))
    return address.format(visit=str(visit).split("/")[2], trial=trial.split("/")[2])


if __name__ == "__main__":
    main()
