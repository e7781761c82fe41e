"""From signing in to a ring on the chart, as a coach does it."""

import tempfile
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from dachi.core.assessing.runsheet import Slot
from dachi.store import assessments, markings
from tests import slow
from tests.browser.chromium import InChromium
from tests.support import LEG_RAISE, ago, rendered


def seed_visit(case: InChromium, picture: tuple[bytes, dict[str, Any]] | None = None) -> int:
    """An assessment with one rendered photograph waiting to be marked; returns the trial."""
    data, truth = picture or rendered()
    with case.app.app_context():
        from dachi.photos.ingest import take_in
        from dachi.store import photos, positions

        aid = assessments.add(case.db, case.coach.id, case.pid, taken_at=ago(6), warmth="warm")
        taken = take_in(data, case.folder)
        photo = photos.add(
            case.db,
            case.coach.id,
            photos.NewPhoto(
                sha256=taken.sha256,
                source_sha256=taken.source_sha256,
                width=taken.width,
                height=taken.height,
                focal_35mm=taken.focal_35mm,
                taken_at=None,
                origin="simulated",
                truth=truth,
            ),
        )
        position = positions.for_photo(
            case.db, case.coach.id, aid, "side", "", (taken.width, taken.height)
        )
        return assessments.add_trial(
            case.db,
            case.coach.id,
            aid,
            photo,
            Slot(LEG_RAISE, "left", "passive", 1),
            variant={"resting_leg": "straight"},
            position_id=position,
        )


def screen_point(page: Page, x: float, y: float) -> tuple[float, float]:
    """Where a picture point lies on the screen."""
    found = page.evaluate(
        "([x, y]) => { const p = new DOMPoint(x, y).matrixTransform("
        "document.getElementById('overlay').getScreenCTM()); return [p.x, p.y]; }",
        [x, y],
    )
    return found[0], found[1]


def drag(page: Page, name: str, to: tuple[float, float]) -> None:
    ring = page.locator(f'[data-name="{name}"]')
    start = page.evaluate(
        "name => ['x', 'y'].map(a => Number(document.forms.bench.elements[`${name}-${a}`].value))",
        name,
    )
    ring.evaluate("m => m.parentNode.append(m)")
    page.mouse.move(*screen_point(page, *start))
    page.mouse.down()
    page.mouse.move(*screen_point(page, to[0] + 7, to[1] - 5), steps=3)
    page.mouse.move(*screen_point(page, *to), steps=2)
    page.mouse.up()


def to_chart(case: InChromium, page: Page) -> None:
    """From the bench, where the next shot is offered once one is kept, to the chart."""
    page.wait_for_url("**/t/*kept=*")
    expect(page.locator("label.next-shot")).to_be_visible()
    page.goto(f"{case.base}/p/{case.pid}?pose={LEG_RAISE}")  # type: ignore[attr-defined]


def value_of(page: Page, measure: str = "leg_line") -> float:
    return float(page.locator(f'#strip [data-measure="{measure}"]').get_attribute("data-value"))


class Journey(InChromium):
    def test_drag_every_mark_and_see_the_ring(self) -> None:
        page = self.page
        data, truth = rendered()
        self.sign_in()
        page.get_by_role("link", name="New assessment").click()
        page.fill("#taken_at", ago(5, "10:00"))
        page.get_by_role("button", name="Open the run sheet").click()
        page.wait_for_url("**/a/*")
        page.locator('[data-place="left|passive|1"]').click()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "leg.jpg"
            path.write_bytes(data)
            # Choosing it sends it: there is nothing else to decide.
            page.set_input_files("#photo", path)
            page.wait_for_url("**/t/*")
        # Wrong places first: every mark far from its joint, out of each other's way.
        wrong = {k: (150.0 + 160 * i, 120.0) for i, k in enumerate(truth["marks_px"]) if i < 6}
        for name, place in wrong.items():
            drag(page, f"mark-{name}", place)
        expect(page.locator("#strip .guesses")).to_be_empty()
        for name in wrong:
            drag(page, f"mark-{name}", tuple(truth["marks_px"][name]))
        page.keyboard.press("m")
        for name, corner in truth["corners_px"].items():
            drag(page, f"corner-{name}", tuple(corner))
        expect(page.locator("#strip .calibration")).to_contain_text("Camera turned 9°")
        self.assertAlmostEqual(value_of(page), truth["true_value_deg"], delta=1.0)
        page.get_by_role("button", name="Accept").click()
        to_chart(self, page)
        ring = page.locator(".c-ring.c-left.c-passive")
        expect(ring).to_have_count(1)
        self.assertAlmostEqual(
            float(ring.get_attribute("data-value")), truth["true_value_deg"], delta=1.0
        )
        page.locator("a.c-session").first.click()
        page.wait_for_url("**/t/*")
        expect(page.locator("#fan .fan-rim")).to_have_count(1)

    def test_keyboard_alone(self) -> None:
        page = self.page
        tid = seed_visit(self)
        _, truth = rendered()
        page.goto(f"{self.base}/sign-in")
        page.locator("#email").focus()
        page.keyboard.type("coach@quay.example")
        page.keyboard.press("Tab")
        page.keyboard.type("a few words in a row")
        page.keyboard.press("Enter")
        page.wait_for_url(f"{self.base}/")
        page.goto(f"{self.base}/t/{tid}")
        page.wait_for_load_state("networkidle")

        def walk(name: str, target: tuple[float, float]) -> None:
            for axis, goal, minus, plus in (
                ("x", target[0], "ArrowLeft", "ArrowRight"),
                ("y", target[1], "ArrowUp", "ArrowDown"),
            ):
                now = float(page.locator(f'[name="{name}-{axis}"]').input_value())
                key = plus if goal > now else minus
                tens, ones = divmod(round(abs(goal - now)), 10)
                for _ in range(tens):
                    page.keyboard.press(f"Shift+{key}")
                for _ in range(ones):
                    page.keyboard.press(key)

        for number, name in enumerate(list(truth["marks_px"])[:6], start=1):
            page.keyboard.press(str(number))
            walk(f"mark-{name}", tuple(truth["marks_px"][name]))
            page.keyboard.press("Space")
        page.keyboard.press("m")
        for i, (name, corner) in enumerate(truth["corners_px"].items()):
            if i:
                page.locator(f'[data-name="corner-{name}"]').focus()
            walk(f"corner-{name}", tuple(corner))
        expect(page.locator("#strip .guesses")).to_be_empty()
        expect(page.locator("#strip .calibration")).to_contain_text("Camera turned 9°")
        # The last key's reading is asked for after a moment; one question is under way at a time.
        page.wait_for_timeout(400)
        expect(page.locator("#strip.waiting")).to_have_count(0)
        at_joints = value_of(page)
        self.assertAlmostEqual(at_joints, truth["true_value_deg"], delta=1.0)
        # The same marks taken for points on skin say something else of the joint beneath.
        shown, ways = page.locator(".big-number"), page.get_by_label("Marks are set")
        page.get_by_text("How it was marked, where it belongs").click()
        exact = shown.get_attribute("data-value") or ""
        ways.select_option("palpated")
        expect(shown).not_to_have_attribute("data-value", exact)
        self.assertGreater(abs(value_of(page) - at_joints), 0.1)
        page.locator(".body-behind summary").click()
        ways.select_option("eye")
        expect(shown).not_to_have_attribute("data-value", exact)
        expect(page.locator(".body-behind")).to_have_attribute("open", "")
        ways.select_option("joint")
        expect(shown).to_have_attribute("data-value", exact)
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("Enter")
        page.wait_for_url("**/p/*")
        expect(page.locator(".c-ring.c-left.c-passive")).to_have_count(1)

    @slow("looks for stickers in a large picture")
    def test_stickers_from_colour_to_reading(self) -> None:
        """Pick the colour on one dot, look, accept: no mark is dragged."""
        page = self.page
        data, truth = rendered(stickers=True)
        tid = seed_visit(self, (data, truth))
        self.sign_in()
        page.goto(f"{self.base}/t/{tid}")
        page.wait_for_load_state("networkidle")
        page.keyboard.press("m")
        for name, corner in truth["corners_px"].items():
            drag(page, f"corner-{name}", tuple(corner))
        expect(page.locator("#strip .calibration")).to_contain_text("Camera turned 9°")
        page.keyboard.press("p")
        x, y = screen_point(page, *truth["marks_px"]["ankle"])
        page.mouse.click(x, y)
        expect(page.locator("#messages")).to_contain_text("stickers found")
        page.wait_for_load_state("networkidle")
        for mark in page.locator(".mark-guess").all():
            mark.focus()
            page.keyboard.press("Space")
        expect(page.locator("#strip .guesses")).to_be_empty()
        self.assertAlmostEqual(value_of(page), truth["true_value_deg"], delta=1.0)
        page.keyboard.press("Escape")
        page.keyboard.press("Enter")
        page.wait_for_url("**/p/*")
        expect(page.locator(".c-ring.c-left.c-passive")).to_have_count(1)

    def test_tab_walks_the_marks(self) -> None:
        tid = seed_visit(self)
        self.sign_in()
        self.page.goto(f"{self.base}/t/{tid}")
        self.page.keyboard.press("1")
        first = self.page.evaluate("document.activeElement.dataset.name")
        self.page.keyboard.press("Tab")
        second = self.page.evaluate("document.activeElement.dataset.name")
        self.assertEqual(first, "mark-shoulder")
        self.assertTrue(second.startswith("mark-") and second != first, second)

    @slow("axe on every page in both themes")
    def test_five_pages_are_accessible_in_both_themes(self) -> None:
        tid = seed_visit(self)
        self.sign_in()
        page = self.page
        page.goto(f"{self.base}/t/{tid}")
        aid = page.locator(".strip-who").get_attribute("href").split("?")[0]
        paths = ["/", f"/p/{self.pid}", f"/p/{self.pid}/record", aid, f"/t/{tid}"]
        paths.append(f"/p/{self.pid}/prepare")
        for theme in ("light", "dark"):
            page.context.add_cookies([{"name": "theme", "value": theme, "url": self.base}])
            for path in paths:
                with self.subTest(theme=theme, path=path):
                    page.goto(self.base + path)
                    page.wait_for_load_state("networkidle")
                    self.assertEqual(self.serious_issues(page, only_colours=theme == "dark"), [])

    def test_phone_bench_fits(self) -> None:
        tid = seed_visit(self)
        phone = self.open(390, 844, has_touch=True, is_mobile=True)
        self.sign_in(phone)
        for path in (f"/t/{tid}", f"/p/{self.pid}", "/"):
            phone.goto(self.base + path)
            width = phone.evaluate("document.documentElement.scrollWidth")
            self.assertLessEqual(width, 390, path)


class Interruptions(InChromium):
    """Marks outlive whatever happens around them."""

    def setUp(self) -> None:
        super().setUp()
        self.tid = seed_visit(self)
        self.sign_in()
        self.page.goto(f"{self.base}/t/{self.tid}")
        self.page.wait_for_load_state("networkidle")

    def field(self, name: str) -> float:
        return float(self.page.locator(f'[name="{name}"]').input_value())

    def test_session_expired_in_the_middle(self) -> None:
        self.expected_complaints = ("401",)
        page = self.page
        page.context.clear_cookies(name="dachi")
        drag(page, "mark-knee", (500.0, 300.0))
        expect(page.locator("#connection")).to_contain_text("Your marks are kept")
        page.get_by_role("link", name="Sign in and go on").click()
        page.fill("#email", "coach@quay.example")
        page.fill("#password", "a few words in a row")
        page.click("main button[type=submit]")
        page.wait_for_url(f"**/t/{self.tid}")
        self.assertAlmostEqual(self.field("mark-knee-x"), 500.0, delta=2)
        expect(page.locator("#hint")).to_contain_text("unsaved marks are back")

    def place_all(self) -> None:
        """Every mark a little away from where the program put it."""
        for n in range(1, 7):
            self.page.keyboard.press(str(n))
            self.page.keyboard.press("ArrowLeft")
            self.page.keyboard.press("ArrowLeft")
        expect(self.page.locator("#strip .guesses")).to_be_empty()
        expect(self.page.locator("#strip .big-number")).to_be_visible()

    def test_untouched_guesses_are_asked_about_once(self) -> None:
        page = self.page
        for n in range(1, 7):
            page.keyboard.press(str(n))
            page.keyboard.press("Space")
        expect(page.locator("#strip .guesses")).to_be_empty()
        page.keyboard.press("Enter")
        expect(page.locator("#messages")).to_contain_text("still exactly where the program put")
        page.keyboard.press("Enter")
        page.wait_for_url("**kept=*")
        (count,) = self.db.execute("SELECT count(*) FROM marking").fetchone()
        self.assertEqual(count, 1)

    def test_the_same_number_typed_again_confirms_a_mark(self) -> None:
        page = self.page
        page.get_by_text("Marks as numbers, and more").click()
        guesses = int(page.locator(".guesses").get_attribute("data-guesses") or 0)
        field = page.locator('[name="mark-knee-x"]')
        same = field.input_value()
        field.fill("")
        field.fill(same)
        expect(page.locator(".guesses")).to_have_attribute("data-guesses", str(guesses - 1))

    def test_lost_connection_while_dragging(self) -> None:
        self.expected_complaints = ("ERR_INTERNET_DISCONNECTED", "Failed to load")
        page = self.page
        self.place_all()
        before = value_of(page)
        page.context.set_offline(True)
        drag(page, "mark-knee", (430.0, 420.0))
        expect(page.locator("#connection")).to_contain_text("No connection")
        # The last click may still have been read.
        self.assertAlmostEqual(value_of(page), before, delta=0.1)
        page.context.set_offline(False)
        expect(page.locator("#connection")).to_be_empty()
        self.assertAlmostEqual(self.field("mark-knee-x"), 430.0, delta=2)
        self.assertNotEqual(value_of(page), before)

    def test_double_click_on_save_keeps_one_marking(self) -> None:
        page = self.page
        self.place_all()
        page.locator("#accept").dblclick()
        page.wait_for_url("**kept=*")
        (count,) = self.db.execute("SELECT count(*) FROM marking").fetchone()
        self.assertEqual(count, 1)

    @slow("waits for offers to run out")
    def test_delete_and_undo(self) -> None:
        page = self.page
        page.locator(".strip-who").click()
        page.get_by_role("button", name="Delete left passive trial 1").click()
        expect(page.locator("#messages")).to_contain_text("Deleted: left passive, trial 1")
        expect(page.locator(".shot")).to_have_count(0)
        # The bench goes on saying so once its first reading has come.
        sheet = page.url
        page.goto(f"{self.base}/t/{self.tid}")
        page.keyboard.press("2")
        page.keyboard.press("ArrowLeft")
        page.wait_for_load_state("networkidle")
        expect(page.get_by_text("This photograph was deleted")).to_be_visible()
        expect(page.locator("#accept")).to_be_disabled()
        page.goto(sheet)
        page.get_by_text("Deleted here: 1").click()
        page.get_by_role("button", name="bring it back").click()
        expect(page.locator(".shot")).to_have_count(1)
        page.get_by_role("button", name="Delete left passive trial 1").click()
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".shot")).to_have_count(1)


class NearTheBody(InChromium):
    """The bench looks at the person: what is nearer, what stays where it is."""

    def setUp(self) -> None:
        super().setUp()
        self.tid = seed_visit(self)
        self.sign_in()
        _, self.truth = rendered()
        form = {f"mark-{n}-state": "placed" for n in self.truth["marks_px"]}
        for name, (x, y) in self.truth["marks_px"].items():
            # Somebody far from the camera.
            x, y = 500 + 0.4 * (x - 500), 500 + 0.4 * (y - 500)
            form |= {f"mark-{name}-x": f"{x:.1f}", f"mark-{name}-y": f"{y:.1f}"}
        markings.save_draft(self.db, self.coach.id, self.tid, form)
        self.page.goto(f"{self.base}/t/{self.tid}")
        self.page.wait_for_function("document.getElementById('photo').complete")

    def scale(self) -> float:
        return self.page.evaluate("document.getElementById('overlay').getScreenCTM().a")

    def centre(self, name: str) -> tuple[float, float]:
        box = self.page.locator(f'[data-name="mark-{name}"] .ring').bounding_box()
        return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2

    def test_near_far_and_under_the_finger(self) -> None:
        page = self.page
        stage = page.locator("#stage").bounding_box()
        near = self.scale()
        page.keyboard.press("0")
        whole = self.scale()
        self.assertGreater(near, 1.1 * whole, "it opens near the person")
        # Every mark is in sight when near, and rings are as large as ever.
        page.keyboard.press("0")
        self.assertAlmostEqual(self.scale(), near, places=3)
        for name in self.truth["marks_px"]:
            if page.locator(f'[data-name="mark-{name}"]').count():
                x, y = self.centre(name)
                self.assertTrue(stage["x"] < x < stage["x"] + stage["width"], name)
                self.assertTrue(stage["y"] < y < stage["y"] + stage["height"], name)
        ring = page.locator(".mark-placed .ring").first.bounding_box()["width"]
        x, y = self.centre("knee")
        page.mouse.move(x, y)
        page.mouse.wheel(0, -300)
        self.assertGreater(self.scale(), 1.3 * near)
        after = self.centre("knee")
        self.assertLess(abs(after[0] - x) + abs(after[1] - y), 3.0, "it stays under the finger")
        larger = page.locator(".mark-placed .ring").first.bounding_box()["width"]
        self.assertAlmostEqual(larger, ring, delta=1.5)
        # A drag beside the marks moves the picture, and no mark.
        before = page.evaluate("new FormData(document.forms.bench).get('mark-knee-x')")
        page.mouse.move(stage["x"] + 60, stage["y"] + stage["height"] - 90)
        page.mouse.down()
        page.mouse.move(stage["x"] + 20, stage["y"] + stage["height"] - 150, steps=3)
        page.mouse.up()
        self.assertLess(self.centre("knee")[0], after[0])
        now = page.evaluate("new FormData(document.forms.bench).get('mark-knee-x')")
        self.assertEqual(now, before)
        # The mat's corners lie around: asking for them shows all of the photograph.
        page.locator("#mat-on").check()
        self.assertAlmostEqual(self.scale(), whole, places=3)
        for button, less in (("#zoom-in", False), ("#zoom-out", True), ("#zoom-all", False)):
            was = self.scale()
            page.locator(button).click()
            self.assertEqual(self.scale() < was, less, button)
