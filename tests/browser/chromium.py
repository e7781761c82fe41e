"""Real pages in headless Chromium."""

from __future__ import annotations

import atexit
import functools
import os
import shutil
from collections import Counter
from pathlib import Path
from typing import Any, ClassVar

from playwright.sync_api import Browser, ConsoleMessage, Page, Playwright, sync_playwright

from tests.support import CLOCK, PASSWORD, Served

AXE = Path(__file__).parents[1] / "vendor" / "axe.min.js"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
#: Every press of the mouse and of a key is told to the test.
COUNTING = (
    "for (const [on, kind] of [['pointerdown', 'clicks'], ['keydown', 'keys']])"
    " addEventListener(on, () => window.counted?.(kind), true);"
)


def chromium() -> str:
    """Where the browser is; RuntimeError says how to get one."""
    path = os.environ.get("CHROMIUM") or shutil.which("chromium")
    if path is None:
        raise RuntimeError("chromium is missing: run make test, or name it with CHROMIUM=")
    return path


def violations(page: Page, only: Any) -> list[tuple[str, str, str]]:
    """What axe-core finds on a page, what is folded opened, but for menus: impact, rule, where."""
    page.evaluate(AXE.read_text("utf-8"))
    # A drawn figure is one image with a name; its hundreds of limbs are nobody's stop.
    page.evaluate(
        "document.querySelectorAll('svg.glyph')"
        ".forEach(s => s.replaceChildren(...s.querySelectorAll(':scope > title')))"
    )
    page.evaluate(
        "document.querySelectorAll('details:not([open], .item-acts)')"
        ".forEach(d => { d.open = true; d.dataset.folded = ''; })"
    )
    # A colour that is still on its way from one theme to the other is nobody's fault.
    page.evaluate(
        "Promise.all(document.getAnimations().filter(a => isFinite(a.effect.getComputedTiming().endTime))"
        ".map(a => a.finished.catch(() => null)))"
    )
    found = page.evaluate(
        "async only => (await axe.run(document, {runOnly: only})).violations.map(v => [v.impact,"
        " v.id, v.nodes.map(n => n.target.join(' ') + ': ' + n.failureSummary).join(' | ')])",
        only,
    )
    page.evaluate(
        "document.querySelectorAll('details[data-folded]')"
        ".forEach(d => { d.open = false; delete d.dataset.folded; })"
    )
    return [(str(i), str(n), str(where)) for i, n, where in found]


@functools.cache
def the_browser() -> Browser:
    """The one browser of this process; each test opens contexts of its own."""
    playwright = sync_playwright().start()
    browser = playwright.chromium.launch(executable_path=chromium(), args=FLAGS)
    _OPEN.append((playwright, browser))
    return browser


#: What was started and is to be put away.
_OPEN: list[tuple[Playwright, Browser]] = []


def put_away() -> None:
    """Close the browser, where one was started."""
    the_browser.cache_clear()
    while _OPEN:
        playwright, browser = _OPEN.pop()
        browser.close()
        playwright.stop()


#: For who runs single tests without the runner.
atexit.register(put_away)


class InChromium(Served):
    """A page on the served application; console errors fail the test."""

    browser: ClassVar[Browser]

    @classmethod
    def setUpClass(cls) -> None:
        cls.browser = the_browser()

    def setUp(self) -> None:
        super().setUp()
        self.acts: Counter[str] = Counter()
        self.complaints: list[str] = []
        self.expected_complaints: tuple[str, ...] = ()
        self.page = self.open(1280, 800)

    def open(self, width: int, height: int, **more: Any) -> Page:
        context = self.browser.new_context(viewport={"width": width, "height": height}, **more)
        self.addCleanup(context.close)
        context.clock.set_system_time(CLOCK.local())
        context.expose_binding("counted", lambda _, kind: self.acts.update([kind]))
        context.add_init_script(COUNTING)
        page = context.new_page()
        page.set_default_timeout(15_000)
        page.on("console", self._heard)
        page.on("pageerror", lambda error: self.complaints.append(str(error)))
        return page

    def _heard(self, message: ConsoleMessage) -> None:
        if message.type == "error":
            self.complaints.append(message.text)

    def tearDown(self) -> None:
        heard = [c for c in self.complaints if not any(e in c for e in self.expected_complaints)]
        self.assertEqual(heard, [], "the console complained")
        super().tearDown()

    def sign_in(self, page: Page | None = None, email: str = "coach@quay.example") -> None:
        """Open Today signed in; typing into the form itself is one test's matter."""
        page = page or self.page
        client = self.app.test_client()
        form = client.get("/sign-in").get_data(as_text=True)
        token = form.split('name="csrf-token" content="')[1].split('"')[0]
        body = {"email": email, "password": PASSWORD, "csrf_token": token}
        client.post("/sign-in", data=body)
        kept = client.get_cookie("dachi")
        assert kept is not None
        page.context.add_cookies([{"name": "dachi", "value": kept.value, "url": self.base}])
        page.goto(f"{self.base}/")

    def serious_issues(self, page: Page, only_colours: bool = False) -> list[str]:
        """Serious and critical findings of axe-core on the page, what is folded opened, but for menus.

        A second theme changes colours and nothing else.
        """
        rules = ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa", "best-practice", "experimental"]
        only = {"type": "rule", "values": ["color-contrast"]} if only_colours else rules
        found = violations(page, only)
        return [f"{i}: {n} {where}" for i, n, where in found if i in ("serious", "critical")]
