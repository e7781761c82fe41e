"""python -m bench pages: every page of the demo by weight, and what axe finds on it.

A fresh demo copy on a real server. Each page once with an empty cache, as somebody's first page:
bytes on the wire besides photographs; then axe in both themes, and whether anything runs out of
the window at 1280 px, at 640 px (200 % zoom) and at 390 px.
"""

from __future__ import annotations

import re
import sys
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page, StorageState, sync_playwright
from waitress.server import create_server

from dachi import demo
from dachi.clock import Clock
from dachi.store import assessments, photos
from dachi.store.database import connect
from dachi.web.app import create_app
from tests.browser.chromium import FLAGS, chromium, violations
from tools.screenshots import signed_in

BUDGET_KB = 250
#: Answers that are files or parts of pages.
NO_PAGE = re.compile(
    r"static|\.(pdf|csv|zip|ics|svg|jpg|crt|js|json)|/(read|code|photo|thumb|preview|jump|queue)"
)
RULES = ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa", "best-practice"]


def addresses(app: Any, folder: Path) -> Iterator[str]:
    """One address for every rule that answers a person with a page."""
    db = connect(folder, Clock())
    visits = assessments.of_practitioner(db, 1, 1)
    newest = visits[0]
    trial = next(t for t in assessments.trials(db, 1, newest.id) if t.status != "unmarked")
    picture = photos.get(db, 1, trial.photo_id)
    db.close()
    assert picture is not None
    known = {"pid": 1, "aid": newest.id, "tid": trial.id, "drill_id": "lizard", "pose": trial.pose}
    for rule in app.url_map.iter_rules():
        if "GET" not in (rule.methods or ()) or NO_PAGE.search(rule.rule):
            continue
        if set(rule.arguments) <= set(known):
            yield re.sub(r"<(?:\w+:)?(\w+)>", lambda m: str(known[m[1]]), rule.rule)


#: Pages that a question after the address makes others.
ASKED = (
    "/p/1?pose=front-split", "/p/1/compare?pose=supine-leg-raise&side=left&mode=passive",
    "/drills?phase=hold", "/a/1?pose=straddle", "/?show=due",
)  # fmt: skip


def own_pages(browser: Browser, base: str, state: StorageState) -> list[str]:
    """Addresses of the first person's own pages."""
    context = browser.new_context(storage_state=state)
    page = context.new_page()
    page.goto(f"{base}/p/1/practice")
    own = "/me/" + page.locator("#own code").inner_text().split("/me/")[1]
    context.close()
    return [own, f"{own}/method", f"{own}/play/0"]


def weigh(page: Page, address: str) -> tuple[int, int | None]:
    """Bytes on the wire of a first load, photographs apart, and the answer's status."""
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    kinds: dict[str, str] = {}
    total = 0

    def came(event: dict[str, Any]) -> None:
        kinds[event["requestId"]] = event["type"]

    def ended(event: dict[str, Any]) -> None:
        nonlocal total
        if kinds.get(event["requestId"]) != "Image":
            total += int(event["encodedDataLength"])

    session.on("Network.responseReceived", came)
    session.on("Network.loadingFinished", ended)
    answer = page.goto(address, wait_until="networkidle")
    return total, answer.status if answer else None


def findings(page: Page) -> list[str]:
    """What axe finds, whatever its impact."""
    return [f"{impact} {name}: {where[:80]}" for impact, name, where in violations(page, RULES)]


def too_wide(page: Page) -> list[str]:
    found = []
    for width in (1280, 640, 390):
        page.set_viewport_size({"width": width, "height": 800})
        wide = page.evaluate("document.documentElement.scrollWidth")
        if wide > width:
            found.append(f"{wide} px at {width}")
    page.set_viewport_size({"width": 1280, "height": 800})
    return found


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="dachi-pages-") as name:
        folder = Path(name)
        app = create_app(folder, Clock())
        demo.fill(folder, Clock())
        server = create_server(app, host="127.0.0.1", port=0, threads=6)
        base = f"http://127.0.0.1:{server.effective_port}"
        threading.Thread(target=server.run, daemon=True).start()
        over = faults = pages = 0
        with sync_playwright() as p:
            browser = p.chromium.launch(executable_path=chromium(), args=FLAGS)
            state = signed_in(browser, base)
            own = own_pages(browser, base, state)
            for path in [*sorted(addresses(app, folder)), *ASKED, *own]:
                context = browser.new_context(
                    viewport={"width": 1280, "height": 800}, storage_state=state
                )
                page = context.new_page()
                weight, status = weigh(page, base + path)
                if status != 200 or not page.locator("main").count():
                    context.close()
                    continue
                pages += 1
                found = too_wide(page) + findings(page)
                page.evaluate("document.documentElement.dataset.bsTheme = 'dark'")
                found += [f"dark: {f}" for f in findings(page) if "color-contrast" in f]
                over += weight > BUDGET_KB * 1000
                faults += len(found)
                print(f"{path[:44]:44} {weight / 1000:6.0f} kB  {'; '.join(found)}", flush=True)
                context.close()
            browser.close()
        print(f"{pages} pages; over {BUDGET_KB} kB: {over}; findings: {faults}")
        server.close()
    sys.stdout.flush()


if __name__ == "__main__":
    main()
