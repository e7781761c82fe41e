"""A whole assessment: prepared, photographed with a phone, marked, reviewed, signed off."""

import base64
import json
import re
import shutil
import sys
import tempfile
import time
from datetime import timedelta
from pathlib import Path
from typing import Any, ClassVar

from playwright.sync_api import Page, expect

from dachi.data import catalogue
from dachi.photos import stickers
from dachi.photos.stickers import Colour
from dachi.store import accounts, assessments, run_sheets
from tests import slow
from tests.browser.chromium import InChromium
from tests.browser.test_journey import drag
from tests.support import CLOCK, ago, pictured, plain_picture

PHONE = {"width": 390, "height": 844, "has_touch": True}
POSES = ("supine-leg-raise", "leg-raise-out", "hip-extension-hang", "butterfly")
VALUES = {
    ("supine-leg-raise", "active"): 66.0, ("supine-leg-raise", "passive"): 82.0,
    ("leg-raise-out", "active"): 40.0, ("leg-raise-out", "passive"): 52.0,
    ("hip-extension-hang", "active"): 8.0, ("hip-extension-hang", "passive"): 16.0,
    ("butterfly", "active"): 22.0, ("butterfly", "passive"): 14.0,
}  # fmt: skip


class WholeAssessment(InChromium):
    shots: ClassVar[dict[tuple[str, str, str], tuple[bytes, Any]]]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        keys = [
            (pose, side, mode)
            for pose, mode in VALUES
            for side in (("both",) if pose == "butterfly" else ("left", "right"))
        ]
        cls.shots = {(p, side, mode): pictured(p, side, VALUES[p, mode]) for p, side, mode in keys}

    def setUp(self) -> None:
        super().setUp()
        holder = tempfile.TemporaryDirectory(prefix="dachi-shots-")
        self.addCleanup(holder.cleanup)
        self.pictures = Path(holder.name)

    def shot_file(self, pose: str, side: str, mode: str) -> Path:
        data, _ = self.shots[pose, side, mode]
        path = self.pictures / f"{pose}-{side}-{mode}.jpg"
        path.write_bytes(data)
        return path

    def take_next(self, phone: Page) -> dict[str, str]:
        """Photograph whatever the phone asks for; return the place."""
        name = phone.locator("#shot-name").inner_text()
        what = phone.locator("#shot-what").inner_text()
        found = re.search(
            r"(?:(left|right) )?(active|passive), trial (\d)", what.replace("\n", " ")
        )
        assert found is not None, what
        side, mode = found[1] or "both", found[2]
        pose = next(p.id for p in catalogue().poses if p.name == name)
        before = phone.locator("#count").inner_text()
        phone.set_input_files("#take", self.shot_file(pose, side, mode))
        expect(phone.locator("#count")).not_to_have_text(before)
        return {"pose": pose, "side": side, "mode": mode}

    @slow("a whole visit in the browser")
    def test_four_poses_both_sides_both_modes(self) -> None:
        page = self.page
        data, known = self.shots["supine-leg-raise", "left", "active"]
        colour = stickers.pick_colour(stickers.decode(data), *known["marks_px"]["ankle"])
        accounts.keep_sticker_colour(self.db, self.coach.id, Colour.text(colour))
        self.sign_in()

        day_began = time.monotonic()
        self.acts.clear()
        # Prepare: how she is today; the sheet is built and made to fit.
        page.get_by_role("link", name="New assessment").click()
        page.fill("#taken_at", ago(5, "17:00"))
        page.get_by_text("Pain anywhere?").click()
        page.get_by_label("Left knee", exact=True).select_option("2")
        self.assertEqual(self.serious_issues(page), [])
        page.get_by_role("button", name="Open the run sheet").click()
        page.wait_for_url("**/a/*")
        expect(page.get_by_text("Pain in the left knee, 2 of 10")).to_be_visible()
        # All poses in one go: one fold, one tick each, one press.
        page.get_by_text("Choose the poses").click()
        for change in ("Butterfly", "Raised leg taken across", "Seated hip rotation"):
            page.locator(".pose-grid label", has_text=change).click()
        page.get_by_role("button", name="Use these").click()
        aid = int(page.url.split("/a/")[1].split("?")[0])
        for pose in POSES:
            page.goto(f"{self.base}/a/{aid}?pose={pose}")
            page.get_by_text("Change the sheet").click()
            for i in range(2 if pose == "butterfly" else 4):
                page.locator(".trials-form").nth(i).get_by_role(
                    "button", name="1", exact=True
                ).click()
                page.get_by_text("Change the sheet").click()
        prepared = self.acts.copy()
        lines = run_sheets.lines(self.db, self.coach.id, aid)
        self.assertEqual(list(dict.fromkeys(x.pose for x in lines)), list(POSES))
        self.assertEqual([x.trials for x in lines], [1] * 14)
        self.assertEqual(self.serious_issues(page), [])

        # Photograph: a phone scans the code; the connection goes away in the middle.
        page.get_by_role("link", name="Photograph with a phone").click()
        page.get_by_role("button", name="Make the code").click()
        link = page.locator(".link-text code").inner_text()
        self.assertEqual(self.serious_issues(page), [])
        phone = self.open(**PHONE)
        phone.goto(link)
        expect(phone.locator("#count")).to_have_text("0 of 14")
        self.assertEqual(self.serious_issues(phone), [])
        self.assertEqual(phone.evaluate("document.documentElement.scrollWidth"), 390)
        page.goto(f"{self.base}/a/{aid}")
        order = [self.take_next(phone) for _ in range(3)]
        self.expected_complaints = ("Failed to load resource", "ERR_INTERNET_DISCONNECTED")
        phone.context.set_offline(True)
        order += [self.take_next(phone) for _ in range(3)]
        expect(phone.locator("#sending")).to_contain_text("kept on this phone")
        phone.context.set_offline(False)
        order += [self.take_next(phone) for _ in range(8)]
        expect(phone.locator("#shot-name")).to_have_text("Every shot of the sheet is taken")
        expect(phone.locator("#shot-say")).to_contain_text("on the laptop", timeout=60_000)
        self.assertEqual([(x["pose"], x["side"], x["mode"]) for x in order],
                         [(x.pose, x.side, x.mode) for x in lines])  # fmt: skip
        trials = assessments.trials(self.db, self.coach.id, aid)
        self.assertEqual(len(trials), 14)

        # The laptop's sheet has filled by itself meanwhile.
        expect(page.locator(".run-photographed")).to_have_count(4, timeout=20_000)

        # Mark: by keyboard alone; a new camera position asks for its mat corners once.
        page.goto(f"{self.base}/a/{aid}")
        page.get_by_role("link", name="Mark 14 photographs").click()
        times, keys = [], []
        for _ in trials:
            page.wait_for_selector("#accept")
            page.wait_for_load_state("networkidle")
            tid = int(page.url.split("/t/")[1].split("?")[0])
            trial = assessments.trial(self.db, self.coach.id, tid)
            assert trial is not None
            _, truth = self.shots[trial.pose, trial.side, trial.mode]
            began, pressed = time.monotonic(), 0
            calibrated = page.locator("#camera-moved").count() > 0
            if not calibrated:
                page.keyboard.press("m")
                for name, corner in truth["corners_px"].items():
                    drag(page, f"corner-{name}", tuple(corner))
            # What the finder is not sure of is put where it belongs, one by one.
            for name in page.eval_on_selector_all(
                ".mark-guess", "rings => rings.map(r => r.dataset.name)"
            ):
                drag(page, name, tuple(truth["marks_px"][name.removeprefix("mark-")]))
                pressed += 1
            page.evaluate("document.activeElement.blur()")
            with page.expect_navigation():
                page.keyboard.press("Enter")
            if page.get_by_text("do they lie on the mat's corners of this photograph").count():
                page.keyboard.press("Enter")
            page.wait_for_url(lambda url, t=tid: f"/t/{t}" not in url)
            if calibrated:
                times.append(time.monotonic() - began)
                keys.append(pressed + 1)
        self.assertIn("/p/", page.url)
        marked = assessments.trials(self.db, self.coach.id, aid)
        self.assertEqual(
            {t.status for t in marked} - {"ok", "watch"},
            set(),
            json.dumps([(t.pose, t.side, t.mode, t.status) for t in marked]),
        )
        self.assertLess(max(times), 30.0)
        print(
            f"\nbench with stickers: {len(times)} photographs, {sum(keys) / len(keys):.1f} acts and "
            f"{sum(times) / len(times):.1f} s each (longest {max(times):.1f} s)",
            file=sys.stderr,
        )

        # Review and sign off; the phone is shut out.
        page.goto(f"{self.base}/a/{aid}/review")
        # The butterfly has two measures: how far the knees are up, how near the heels.
        expect(page.locator(".part")).to_have_count(5)
        self.assertEqual(self.serious_issues(page), [])
        page.get_by_role("button", name="Sign off").click()
        expect(
            page.get_by_text("Nothing in this assessment changes until it is reopened")
        ).to_be_visible()
        print(
            f"\na day with four poses: {self.acts['clicks']} clicks and {self.acts['keys']} keys in "
            f"{time.monotonic() - day_began:.0f} s; the sheet alone {prepared['clicks']} clicks",
            file=sys.stderr,
        )
        answer = phone.goto(link)
        self.assertEqual(answer.status if answer else 0, 410)
        self.assertEqual(self.serious_issues(phone), [])

    @slow("a folder of photographs in the browser")
    def test_a_folder_is_sorted_and_everything_goes_on_after_a_closed_browser(self) -> None:
        page = self.page
        self.sign_in()
        page.get_by_role("link", name="New assessment").click()
        page.fill("#taken_at", ago(5, "17:00"))
        page.get_by_role("button", name="Open the run sheet").click()
        page.wait_for_url("**/a/*")
        aid = int(page.url.split("/a/")[1].split("?")[0])
        files = [
            self.shot_file("supine-leg-raise", side, mode)
            for side in ("left", "right")
            for mode in ("active", "passive")
        ]
        folder = self.pictures / "visit"
        folder.mkdir()
        for file in files:
            shutil.copy(file, folder)
        (folder / "broken.jpg").write_bytes(b"no picture")
        (folder / "notes.txt").write_text("no picture either, and passed over")
        page.set_input_files("#folder", folder)
        expect(page.locator("#folder-state")).to_contain_text("broken.jpg: This is not a picture")
        page.get_by_role("link", name="Sort the 4 that are kept").click()
        expect(page.locator(".tray li")).to_have_count(4)
        self.assertEqual(self.serious_issues(page), [])
        page.context.close()

        again = self.open(1280, 800)
        self.sign_in(again)
        again.goto(f"{self.base}/a/{aid}")
        again.get_by_role("link", name="4 photographs to sort").click()
        again.get_by_label("leave out").first.check()
        again.get_by_role("button", name="Sort again").click()
        expect(again.locator(".left-out")).to_have_count(1)
        again.get_by_role("button", name="Put them on the sheet").click()
        expect(
            again.get_by_text("3 photographs put on the sheet; 1 still in the tray")
        ).to_be_visible()
        self.assertEqual(len(assessments.trials(self.db, self.coach.id, aid)), 3)

    def test_dropping_several_photographs_sorts_them(self) -> None:
        page = self.page
        self.sign_in()
        page.get_by_role("link", name="New assessment").click()
        page.get_by_role("button", name="Open the run sheet").click()
        page.wait_for_url("**/a/*")
        sent = [base64.b64encode(plain_picture(400 + i, 330)).decode() for i in range(3)]
        dropped = page.evaluate_handle(
            """sent => { const all = new DataTransfer();
            sent.forEach((text, i) => all.items.add(new File(
              [Uint8Array.from(atob(text), c => c.charCodeAt(0))], `shot-${i}.jpg`, {type: "image/jpeg"})));
            return all; }""",
            sent,
        )
        page.dispatch_event("#drop", "drop", {"dataTransfer": dropped})
        page.wait_for_url("**/tray")
        expect(page.locator(".tray li")).to_have_count(3)

    def test_a_hold_is_counted_in(self) -> None:
        page = self.page
        self.sign_in()
        page.get_by_role("link", name="New assessment").click()
        page.get_by_role("button", name="Open the run sheet").click()
        page.wait_for_url("**/a/*")
        # Nothing runs on by itself, however busy the machine is.
        page.clock.install(time=CLOCK.local())
        page.clock.pause_at(CLOCK.local() + timedelta(minutes=1))
        page.get_by_role("button", name="Count in and hold 5 s").click()
        seen = []
        for _ in range(10):
            seen.append(page.locator(".hold-out").inner_text())
            page.clock.run_for(1000)
            page.wait_for_timeout(30)
        self.assertEqual(seen[:5], ["3", "2", "1", "hold", "hold 4"])
        self.assertIn("and down", page.locator(".hold-out").inner_text())
