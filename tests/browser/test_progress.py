"""Overview, chart, compare and Today as a coach uses them, by pointer and by keyboard."""

from playwright.sync_api import expect

from dachi.core.assessing.runsheet import Slot
from dachi.data import catalogue
from dachi.photos.ingest import take_in
from dachi.store import assessments, goals, photos, positions
from dachi.store.markings import Marking
from dachi.studio.bench.acts import keep
from dachi.studio.bench.around import surroundings
from dachi.studio.phrases import say_day
from dachi.studio.verdicts.summaries import anew
from tests import slow
from tests.browser.chromium import InChromium
from tests.support import LEG_RAISE, ago, day_ago, rendered

VISITS = (
    (ago(86, "18:00"), 62.0, 9),
    (ago(51, "18:00"), 70.0, 4),
    (ago(16, "18:00"), 76.0, 3),
)


class Progress(InChromium):
    def setUp(self) -> None:
        super().setUp()
        for taken_at, value, seed in VISITS:
            self.marked_visit(taken_at, value, seed)
        goals.add(
            self.db, self.coach.id, self.pid, pose=LEG_RAISE, family="leg_line", side="left",
            mode="passive", target=90, due_on=day_ago(-156),
        )  # fmt: skip
        goals.annotate(self.db, self.coach.id, self.pid, day_ago(67), "holiday", "At sea.")
        anew(self.work, [self.pid])
        self.sign_in()

    def marked_visit(self, taken_at: str, value: float, seed: int) -> None:
        data, truth = rendered("left", value, seed)
        coach = self.coach.id
        aid = assessments.add(self.db, coach, self.pid, taken_at=taken_at, warmth="warm")
        taken = take_in(data, self.folder)
        photo_id = photos.add(self.db, coach, photos.NewPhoto(sha256=taken.sha256, source_sha256=taken.source_sha256, width=taken.width, height=taken.height, focal_35mm=taken.focal_35mm, taken_at=None, origin="simulated", truth=truth))  # fmt: skip
        pose = catalogue().pose(LEG_RAISE)
        tid = assessments.add_trial(self.db, coach, aid, photo_id, Slot(LEG_RAISE, "left", "passive", 1), variant=pose.default_variant(), position_id=positions.for_photo(self.db, self.coach.id, aid, "side", "", (taken.width, taken.height)))  # fmt: skip
        marking = Marking(
            marks={k: tuple(truth["marks_px"][k]) for k in pose.required},
            corners={k: tuple(p) for k, p in truth["corners_px"].items()},
        )
        trial = assessments.trial(self.db, coach, tid)
        keep(self.work, surroundings(self.work, trial), marking)

    def test_from_today_to_the_ring_and_its_photograph(self) -> None:
        page = self.page
        page.get_by_role("link", name="Runa").first.click()
        expect(page.locator(".hip-circle")).to_have_count(2)
        expect(page.locator(".goals")).to_contain_text("leg above the floor 90°")
        page.locator(".tile a").first.click()
        expect(page.locator(".c-ring")).to_have_count(3)
        expect(page.locator(".c-target")).to_have_count(1)
        expect(page.locator(".c-rule-holiday")).to_have_count(1)
        page.locator("a.c-session").nth(1).hover()
        detail = page.locator("#ring-detail")
        expect(detail).to_be_visible()
        expect(detail).to_contain_text(f"{say_day(VISITS[1][0])}: 70°")
        picture = page.locator("#ring-detail img")
        for _ in range(100):
            if picture.evaluate("i => i.naturalWidth") > 300:
                break
            page.wait_for_timeout(50)
        self.assertGreater(picture.evaluate("i => i.naturalWidth"), 300)

    def test_keyboard_walks_the_rings(self) -> None:
        page = self.page
        page.goto(f"{self.base}/p/{self.pid}?pose={LEG_RAISE}")
        page.locator("a.c-session").first.focus()
        expect(page.locator("#ring-detail")).to_contain_text(say_day(VISITS[0][0]))
        page.keyboard.press("ArrowRight")
        expect(page.locator("#ring-detail")).to_contain_text(say_day(VISITS[1][0]))
        page.keyboard.press("Enter")
        page.wait_for_url("**/t/2")
        expect(page.locator("#fan .fan-rim")).to_have_count(1)

    def test_one_photograph_over_the_other(self) -> None:
        page = self.page
        page.goto(f"{self.base}/p/{self.pid}/compare?pose={LEG_RAISE}")
        expect(page.locator(".sentence")).to_contain_text("These two photographs")
        expect(page.locator(".review-say").first).to_contain_text("Their visits")
        boxes = [page.locator(".compare-one").nth(i).bounding_box() for i in (0, 1)]
        self.assertGreater(boxes[1]["x"], boxes[0]["x"] + 300)
        page.check("#swipe-on")
        boxes = [page.locator(".compare-one svg").nth(i).bounding_box() for i in (0, 1)]
        self.assertEqual(boxes[0], boxes[1])
        page.locator("#swipe").focus()
        page.keyboard.press("Home")
        shown = page.locator("#compare").evaluate("c => c.style.getPropertyValue('--cut')")
        self.assertEqual(shown, "0%")

    @slow("axe on every page in both themes")
    def test_pages_are_accessible_in_both_themes_and_fit_a_phone(self) -> None:
        paths = (
            "/",
            f"/p/{self.pid}",
            f"/p/{self.pid}?pose={LEG_RAISE}",
            f"/p/{self.pid}/compare?pose={LEG_RAISE}",
        )
        page = self.page
        for theme in ("light", "dark"):
            page.context.add_cookies([{"name": "theme", "value": theme, "url": self.base}])
            for path in paths:
                with self.subTest(theme=theme, path=path):
                    page.goto(self.base + path)
                    page.wait_for_load_state("networkidle")
                    self.assertEqual(self.serious_issues(page, only_colours=theme == "dark"), [])
        phone = self.open(390, 844, has_touch=True, is_mobile=True)
        self.sign_in(phone)
        for path in paths:
            phone.goto(self.base + path)
            width = phone.evaluate("document.documentElement.scrollWidth")
            self.assertLessEqual(width, 390, path)
