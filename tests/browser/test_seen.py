"""A photograph of a body, its marks seen by the program: one key, two keys, or a look at each."""

import json
from pathlib import Path

from playwright.sync_api import expect

from dachi.data import catalogue
from dachi.store import assessments, markings, photos
from dachi.studio import intake, recognised
from dachi.studio.intake import Incoming, Place
from tests.browser.chromium import InChromium
from tests.support import ago

PICTURES = Path(__file__).parents[1] / "pictures"


class Seen(InChromium):
    def setUp(self) -> None:
        super().setUp()
        pose = catalogue().pose("low-lunge")
        self.truth = json.loads((PICTURES / "low-lunge.json").read_text())
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(1), warmth="warm")
        visit = assessments.get(self.db, self.coach.id, aid)
        assert visit is not None
        place = Place(pose, self.truth["side"], "passive", 1, pose.default_variant())
        data = Incoming((PICTURES / "low-lunge.jpg").read_bytes())
        self.tid = intake.put(self.work, visit, place, intake.store(self.work, data))
        self.db.end(keep=True)
        recognised.look_at_all(self.work)
        self.sign_in()
        self.page.goto(f"{self.base}/t/{self.tid}")

    def kept(self) -> int:
        self.db.end(keep=True)
        return len(markings.history(self.db, self.coach.id, self.tid))

    def test_doubtful_marks_hold_enter_up_and_one_key_takes_all_as_seen(self) -> None:
        page = self.page
        doubtful = page.locator(".mark-guess").count()
        photo = photos.get(self.db, self.coach.id, 1)
        assert photo is not None
        self.assertEqual(photo.doubtful, doubtful)
        if doubtful:
            expect(page.locator(".mark-guess.chosen")).to_have_count(1)
            expect(page.locator("#loupe")).to_be_visible()
            page.keyboard.press("Enter")
            expect(page.locator("#hint")).to_contain_text("to look at")
            self.assertEqual(self.kept(), 0)
            page.keyboard.press("a")
        expect(page.locator(".mark-guess")).to_have_count(0)
        expect(page.locator(".seen-said")).to_contain_text("every mark")
        wide = page.locator(".mark-seen").count()
        self.assertEqual(wide, len(catalogue().pose("low-lunge").required))
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)
        self.assertEqual(self.kept(), 1)
        seen = markings.history(self.db, self.coach.id, self.tid)[0]
        self.assertEqual(set(seen.seen), set(seen.marks))
        self.assertTrue(all(seen.mark_sds[n] > 3.0 for n in seen.seen))
        as_seen = markings.readings(self.db, self.coach.id, self.tid)

        # Looked at, each confirmed or put right: the interval narrows.
        page.goto(f"{self.base}/t/{self.tid}")
        for name in catalogue().pose("low-lunge").required:
            page.locator(f'[data-name="mark-{name}"]').focus()
            page.keyboard.press("Space")
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)
        self.assertEqual(self.kept(), 2)
        looked = markings.readings(self.db, self.coach.id, self.tid)
        self.assertLess(looked[0].sd, as_seen[0].sd)
        self.assertEqual(markings.history(self.db, self.coach.id, self.tid)[0].seen, ())

    def test_marks_come_by_themselves_while_nobody_marks(self) -> None:
        self.app.config["PROPOSE"] = True
        pose = catalogue().pose("butterfly")
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(0), warmth="warm")
        visit = assessments.get(self.db, self.coach.id, aid)
        assert visit is not None
        place = Place(pose, "both", "passive", 1, pose.default_variant())
        data = Incoming((PICTURES / "butterfly.jpg").read_bytes())
        tid = intake.put(self.work, visit, place, intake.store(self.work, data))
        self.db.end(keep=True)
        self.page.goto(f"{self.base}/t/{tid}")
        expect(self.page.locator("#hint")).to_contain_text("Looking for the person")
        expect(self.page.locator(".mark-seen").first).to_be_visible(timeout=30_000)
