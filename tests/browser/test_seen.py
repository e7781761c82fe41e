"""A photograph of a body, its marks seen by the program: one key, two keys, or a look at each."""

import json
import re
from pathlib import Path

from playwright.sync_api import expect

from dachi.data import catalogue
from dachi.store import assessments, markings, photos
from dachi.studio.visits import intake, recognised
from dachi.studio.visits.intake import Incoming, Place
from tests import slow
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

    def marks(self) -> dict[str, float]:
        fields = "form => [...form.elements].filter(f => /^mark-.*-x$/.test(f.name))"
        found = self.page.eval_on_selector(
            "#bench", f"{fields}.map(f => [f.name, Number(f.value)])"
        )
        return {n.removesuffix("-x"): x for n, x in found}

    @slow("the network looks at pictures")
    def test_close_ups_of_what_wants_a_look_are_kept_with_one_key(self) -> None:
        page, seen = self.page, self.marks()
        photo = photos.get(self.db, self.coach.id, 1)
        assert photo is not None
        tiles = page.locator(".closeup")
        expect(tiles).to_have_count(photo.doubtful or 0)
        self.assertGreater(tiles.count(), 1)
        expect(page.locator("#closeups-said")).to_contain_text("want a look")
        # What they would read is told, as no more than that.
        expect(page.locator(".proposed .big-number")).to_be_visible()
        self.assertEqual(page.locator("#fan path").count(), 0)

        # Touched a fifth of its width to the left, the mark goes there and is settled; z undoes.
        name = str(tiles.first.get_attribute("data-for"))
        box = tiles.first.locator("canvas").bounding_box()
        span = float(page.locator("#closeups").get_attribute("data-span") or 0)
        assert box is not None
        touch = (box["x"] + 0.3 * box["width"], box["y"] + 0.5 * box["height"])
        page.mouse.click(*touch)
        expect(tiles.first).to_have_class(re.compile(r"\blooked\b"))
        self.assertAlmostEqual(self.marks()[name], seen[name] - 0.2 * span, delta=2.0)
        # What nobody set follows it the same way, and back with it.
        other = next(n for n in ("mark-hip", "mark-back_knee") if n != name)
        page.wait_for_function("([n, x]) => document.forms.bench.elements[`${n}-x`].value < x - 3",
                               arg=[other, seen[other]])  # fmt: skip
        page.keyboard.press("z")
        expect(tiles.first).not_to_have_class(re.compile(r"\blooked\b"))
        self.assertAlmostEqual(self.marks()[name], seen[name], delta=0.1)
        page.wait_for_function("([n, x]) => Math.abs(document.forms.bench.elements[`${n}-x`].value - x) < 1",
                               arg=[other, seen[other]])  # fmt: skip
        page.mouse.click(*touch)
        # By keyboard a close-up chooses its mark.
        tiles.nth(1).focus()
        page.keyboard.press("Enter")
        second = str(tiles.nth(1).get_attribute("data-for"))
        expect(page.locator(f'.mark.chosen[data-name="{second}"]')).to_have_count(1)
        self.assertEqual(self.kept(), 0)

        expect(page.locator(".closeup:not(.looked):not(.glanced)")).to_have_count(0)
        page.evaluate("document.activeElement.blur()")
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)
        kept = markings.history(self.db, self.coach.id, self.tid)[0]
        doubted = {f"mark-{n}" for n in kept.marks} - {f"mark-{n}" for n in kept.seen}
        self.assertEqual(len(doubted), photo.doubtful)
        self.assertIn(name, doubted)
        self.assertFalse({n.removeprefix("mark-") for n in doubted} & set(kept.mark_sds))

    @slow("the network looks at pictures")
    def test_a_key_that_comes_too_soon_keeps_nothing(self) -> None:
        page = self.page
        expect(page.locator(".closeup").first).to_be_visible()
        page.evaluate("performance.now = () => 0")
        page.keyboard.press("Enter")
        page.locator("#accept").click()
        expect(page.locator(".mark-guess").first).to_be_visible()
        self.assertEqual(self.kept(), 0)

    def test_a_hasty_enter_is_asked_about_once(self) -> None:
        """Six close-ups nobody looked at went through by one key."""
        page = self.page
        expect(page.locator(".closeup").first).to_be_visible()
        # Nobody looks: the clock of glances stands.
        page.add_init_script(
            "const tick = setInterval; window.setInterval = (f, t) => t === 90 ? 0 : tick(f, t);"
        )
        page.reload()
        expect(page.locator(".closeup").first).to_be_visible()
        page.wait_for_timeout(700)
        page.keyboard.press("Enter")
        expect(page.locator("#closeups-said")).to_contain_text("Not looked at yet")
        self.assertEqual(self.kept(), 0)
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)
        self.assertEqual(self.kept(), 1)

    def test_what_was_in_sight_needs_no_question(self) -> None:
        page = self.page
        count = page.locator(".closeup").count()
        expect(page.locator(".closeup.glanced")).to_have_count(count, timeout=15_000)
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "kept=" in url)

    def test_a_move_is_undone_by_touch(self) -> None:
        page = self.page
        expect(page.locator("#undo")).to_be_hidden()
        mark = page.locator(".mark:not(.corner):not(.level)").first
        mark.focus()
        name = mark.get_attribute("data-name")
        field = page.locator(f'[name="{name}-x"]')
        # The server writes 591.0 where the page writes 591.
        x = float(field.input_value())
        page.keyboard.press("Shift+ArrowRight")
        self.assertNotEqual(float(field.input_value()), x)
        page.locator("#undo").click()
        self.assertEqual(float(field.input_value()), x)
        expect(page.locator("#undo")).to_be_hidden()

    def test_one_key_takes_all_as_seen(self) -> None:
        page = self.page
        expect(page.locator(".closeup").first).to_be_visible()
        page.keyboard.press("a")
        page.wait_for_url(lambda url: "kept=" in url)
        self.assertEqual(self.kept(), 1, "one key is the answer: nothing else is pressed")
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

    @slow("the network looks at pictures")
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
