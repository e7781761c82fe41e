"""An empty copy, led by its own steps to a first reading and a signed-off visit: by keyboard alone."""

import time

from playwright.sync_api import Page, expect

from dachi.store import accounts
from tests import slow
from tests.browser.chromium import InChromium
from tests.browser.test_journey import drag, value_of
from tests.support import PASSWORD, rendered

#: Card, Moran and Newell's keystroke model (1983): a key, and a look at a new page.
KEY_S, PAGE_S = 0.28, 1.35
NAMED = """() => { const e = document.activeElement; if (e === document.body) return '';
  return (e.getAttribute('aria-label') || (e.labels && e.labels[0] && e.labels[0].textContent) || e.textContent || '')
    .replace(/\\s+/g, ' ').trim(); }"""


class FirstReading(InChromium):
    def reach(self, page: Page, name: str, key: str | None = "Enter", most: int = 90) -> None:
        """Tab to what is called so, and press a key on it."""
        for _ in range(most):
            page.keyboard.press("Tab")
            if name in page.evaluate(NAMED):
                shown = page.evaluate(
                    "async () => { const e = document.activeElement, s = getComputedStyle(e);"
                    " await Promise.all(e.getAnimations().map(a => a.finished.catch(() => null)));"
                    " const ring = e.querySelector('.grab');"
                    " return s.outlineStyle !== 'none' || s.boxShadow !== 'none'"
                    " || (ring && getComputedStyle(ring).stroke !== 'none'); }"
                )
                self.assertTrue(shown, f"{name}: where the focus is cannot be seen")
                if key:
                    self.press(page, key)
                return
        self.fail(f"no Tab leads to {name!r}")

    def press(self, page: Page, key: str) -> None:
        """Press a key; where it leads to another page, be there."""
        if key != "Enter":
            page.keyboard.press(key)
            return
        with page.expect_navigation(wait_until="networkidle"):
            page.keyboard.press(key)

    def walk(self, page: Page, name: str, target: tuple[float, float]) -> None:
        for axis, goal, less, more in (
            ("x", target[0], "ArrowLeft", "ArrowRight"), ("y", target[1], "ArrowUp", "ArrowDown"),
        ):  # fmt: skip
            now = float(page.locator(f'[name="{name}-{axis}"]').input_value())
            key = more if goal > now else less
            tens, ones = divmod(round(abs(goal - now)), 10)
            for press in [f"Shift+{key}"] * tens + [key] * ones:
                page.keyboard.press(press)

    @slow("from an empty folder to a reading of oneself")
    def test_oneself_is_one_page_away(self) -> None:
        """Under five minutes without a second pair of hands, and without either role in words."""
        accounts.add(self.db, "self@quay.example", "Odalys", PASSWORD)
        self.expected_complaints = ("422",)
        page = self.page
        data, truth = rendered()
        picture = self.folder / "leg.jpg"
        picture.write_bytes(data)
        self.sign_in(page, "self@quay.example")
        acts = 0

        def plain() -> None:
            said = page.locator("main").inner_text().casefold()
            self.assertNotRegex(said, "practitioner|coach")

        page.get_by_role("link", name="Measure myself").click()
        plain()
        page.get_by_role("button", name="To the first photograph").click()
        expect(page.locator("#birth_year")).to_be_focused()
        page.fill("#birth_year", "1888")
        page.get_by_role("button", name="No to everything else").click()
        for name in ("warmed up", "Photographs of me"):
            page.get_by_label(name).check()
        page.get_by_role("button", name="To the first photograph").click()
        expect(page.get_by_text("Nothing is kept yet")).to_be_visible()
        self.assertTrue(page.get_by_label("Photographs of me").is_checked(), "nothing is lost")
        self.assertEqual(self.serious_issues(page), [])
        page.fill("#birth_year", "1988")
        page.get_by_role("button", name="To the first photograph").click()
        page.wait_for_url("**/a/*")
        plain()
        # Open, year, No to all that was read, two ticks, go, the photograph: seven acts to it.
        acts += 7
        page.get_by_role("link", name="Supine leg raise").click()
        page.locator("#photo").set_input_files(picture)
        page.wait_for_url("**/t/*")
        plain()
        for name, spot in truth["marks_px"].items():
            if page.locator(f'[name="mark-{name}-x"]').count():
                drag(page, f"mark-{name}", spot)
                acts += 1
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)
        # One more than before the intake asked in groups: that nothing applies is said, not assumed.
        self.assertLess(acts, 16)
        self.assertAlmostEqual(value_of(page), truth["true_value_deg"], delta=6.0)

    @slow("from an empty folder to a reading, as a stranger")
    def test_the_steps_lead_there(self) -> None:
        accounts.add(self.db, "new@quay.example", "Marit", PASSWORD)
        page, keys = self.page, page_keys(self)
        pages: list[str] = []
        page.on("framenavigated", lambda f: pages.append(f.url) if not f.parent_frame else None)
        data, truth = rendered()
        picture = self.folder / "leg.jpg"
        picture.write_bytes(data)
        page.goto(f"{self.base}/sign-in")
        began = time.monotonic()
        self.reach(page, "E-mail address", None)
        page.keyboard.type("new@quay.example")
        self.reach(page, "Password", None)
        page.keyboard.type(PASSWORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="To your first reading")).to_be_visible()
        self.assertEqual(self.serious_issues(page), [])
        self.reach(page, "Add a person")
        self.reach(page, "Name to call them", None)
        page.keyboard.type("Tove")
        self.reach(page, "Birth year", None)
        page.keyboard.type("1991")
        self.reach(page, "Supine leg raise", "Space")
        self.reach(page, "Add, then consent and screening")
        self.reach(page, "To measure from", "Space")
        self.reach(page, "Record the consent")
        for _ in range(9):
            self.reach(page, "No", "Space")
        self.reach(page, "No to everything else", "Space")
        self.reach(page, "Asked and answered")
        page.goto(f"{self.base}/")
        self.reach(page, "Open an assessment")
        self.reach(page, "Open the run sheet")
        # The chooser of files is the system's own.
        page.locator("#photo").set_input_files(picture)
        page.wait_for_url("**/t/*")
        required = [n for n in truth["marks_px"] if page.locator(f'[name="mark-{n}-x"]').count()]
        for number, name in enumerate(required[:6], start=1):
            page.keyboard.press(str(number))
            self.walk(page, f"mark-{name}", tuple(truth["marks_px"][name]))
            page.keyboard.press("Space")
        page.keyboard.press("m")
        for i, (name, corner) in enumerate(truth["corners_px"].items()):
            if i:
                self.reach(page, f"mat corner {name.replace('_', ' ')}", None)
            self.walk(page, f"corner-{name}", tuple(corner))
        page.wait_for_timeout(400)
        expect(page.locator("#strip.waiting")).to_have_count(0)
        self.assertAlmostEqual(value_of(page), truth["true_value_deg"], delta=4.0)
        page.keyboard.press("Escape")
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)
        took = keys["keys"] * KEY_S + len(pages) * PAGE_S
        self.assertLess(took, 300, f"{keys['keys']} keys, {len(pages)} pages")
        self.assertLess(time.monotonic() - began, 300)
        page.goto(f"{self.base}/")
        expect(page.get_by_role("heading", name="To your first reading")).to_have_count(0)
        # On to the end of the visit.
        self.reach(page, "Tove")
        self.reach(page, "Review")
        self.reach(page, "Sign off")
        expect(page.locator("#messages")).to_contain_text("Signed off")


def page_keys(case: FirstReading):
    """The test's own count of keys pressed."""
    return case.acts
