"""A working day in the browser: what stumbled, and how many acts the work takes."""

import re
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from dachi.core.assessing.runsheet import SheetLine
from dachi.data import catalogue
from dachi.simulation.camera import Shot
from dachi.store import assessments, run_sheets
from tests import slow
from tests.browser.chromium import InChromium
from tests.browser.test_journey import drag
from tests.support import CLOCK, LEG_RAISE, ago, plain_picture, sketched

PHONE = {"width": 390, "height": 844, "has_touch": True}


class OnAPhone(InChromium):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.page.get_by_role("link", name="New assessment").click()
        self.page.get_by_role("button", name="Open the run sheet").click()
        self.page.wait_for_url("**/a/*")
        aid = self.page.url.split("/a/")[1].split("?")[0]
        self.page.goto(f"{self.base}/a/{aid}/phone")
        self.page.get_by_role("button", name="Make the code").click()
        self.phone = self.open(**PHONE)
        self.phone.goto(self.page.locator(".link-text code").inner_text())
        holder = tempfile.TemporaryDirectory(prefix="dachi-stumbles-")
        self.addCleanup(holder.cleanup)
        self.folder_of_shots = Path(holder.name)

    def file(self, name: str, data: bytes) -> Path:
        path = self.folder_of_shots / name
        path.write_bytes(data)
        return path

    def what(self) -> str:
        return f"{self.phone.locator('#shot-name').inner_text()} {self.phone.locator('#shot-what').inner_text()}"

    def test_after_a_refusal_it_stays_at_that_shot(self) -> None:
        """It moved on to the next one."""
        phone = self.phone
        self.expected_complaints = ("Failed to load resource",)
        expect(phone.locator("#count")).to_contain_text("0 of")
        first = self.what()
        phone.set_input_files("#take", self.file("a.jpg", b"no picture"))
        expect(phone.locator("#refused")).to_contain_text("not a picture")
        self.assertEqual(self.what(), first)
        phone.set_input_files("#take", self.file("b.jpg", plain_picture()))
        expect(phone.locator("#count")).to_contain_text("1 of")
        self.assertNotEqual(self.what(), first)

    def test_what_waits_stays_in_sight(self) -> None:
        """And that the page cannot be opened again without a connection is said before."""
        phone = self.phone
        self.expected_complaints = (
            "Failed to load resource",
            "ERR_INTERNET_DISCONNECTED",
            "ERR_FAILED",
        )
        expect(phone.locator("#count")).to_contain_text("0 of")
        phone.context.set_offline(True)
        phone.set_input_files("#take", self.file("b.jpg", plain_picture()))
        held = phone.locator("#held")
        expect(held).to_contain_text("Waiting on this phone")
        expect(held).to_contain_text("cannot be opened again until")
        phone.on("dialog", lambda d: d.accept())
        phone.route("**/photo", lambda route: route.abort())
        phone.context.set_offline(False)
        phone.reload()
        expect(held).to_contain_text("Waiting on this phone")
        phone.unroute("**/photo")
        expect(phone.locator("#count")).to_contain_text("1 of", timeout=20_000)
        expect(held).to_be_hidden()


class SecondVisit(InChromium):
    """A second assessment done on the bench alone: no other page but for the first photograph."""

    def shots(self) -> list[tuple[str, str, int, bytes, dict[str, Any]]]:
        pose = catalogue().pose(LEG_RAISE)
        found = []
        for side in ("left", "right"):
            for mode, value in (("active", 66.0), ("passive", 80.0)):
                shot = Shot(side, value, yaw_deg=7.0, seed=3)
                found.append((side, mode, 1, *sketched(pose, shot, CLOCK.local())))
        return found

    @slow("a second visit, all of it in the browser")
    def test_on_the_bench_alone(self) -> None:
        page = self.page
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(1), warmth="warm")
        lines = [
            SheetLine(LEG_RAISE, side, mode, 1)
            for side in ("left", "right")
            for mode in ("active", "passive")
        ]
        run_sheets.save(self.db, self.coach.id, aid, lines)
        self.sign_in()
        page.goto(f"{self.base}/a/{aid}")
        visited: list[str] = []
        page.on("framenavigated", lambda f: visited.append(re.sub(r"^https?://[^/]+", "", f.url)))
        acts, began = 0, time.monotonic()
        shots = self.shots()
        with tempfile.TemporaryDirectory() as folder:
            for i, (side, mode, number, data, truth) in enumerate(shots):
                path = Path(folder) / f"{i}.jpg"
                path.write_bytes(data)
                chooser = page.locator("#photo" if i == 0 else ".next-shot input")
                with page.expect_navigation(url="**/t/*"):
                    chooser.set_input_files(path)
                acts += 1
                page.wait_for_load_state("networkidle")
                trial = assessments.trials(self.db, self.coach.id, aid)[-1]
                self.assertEqual((trial.side, trial.mode, trial.number), (side, mode, number))
                for name in page.eval_on_selector_all(
                    ".mark-guess", "rings => rings.map(r => r.dataset.name)"
                ):
                    drag(page, name, tuple(truth["marks_px"][name.removeprefix("mark-")]))
                    acts += 1
                if i == 0:
                    page.evaluate("document.activeElement.blur()")
                    page.keyboard.press("m")
                    acts += 1
                    for name, corner in truth["corners_px"].items():
                        drag(page, f"corner-{name}", tuple(corner))
                        acts += 1
                page.evaluate("document.activeElement.blur()")
                with page.expect_navigation():
                    page.keyboard.press("Enter")
                acts += 1
                if page.get_by_text("do they lie on the mat's corners of this photograph").count():
                    # Corners of the other side's photograph, drawn dotted: agreed to once.
                    with page.expect_navigation():
                        page.keyboard.press("Enter")
                    acts += 1
        elapsed = time.monotonic() - began
        trials = assessments.trials(self.db, self.coach.id, aid)
        self.assertEqual({t.status for t in trials} - {"ok", "watch"}, set())
        between = [v for v in visited if not re.match(r"/t/\d+", v)]
        self.assertEqual(
            [v.split("?")[0] for v in between], [f"/p/{self.pid}"], "only the chart, at the end"
        )
        print(
            f"\nsecond visit by hand: {len(shots)} photographs, {acts / len(shots):.1f} acts and "
            f"{elapsed / len(shots):.1f} s each, no other page in between",
            file=sys.stderr,
        )
        expect(page.locator(".c-ring")).to_have_count(4)


class FirstVisit(InChromium):
    def test_choosing_six_poses(self) -> None:
        """Twenty-two clicks: the list closed after each, a drop cost three."""
        page: Page = self.page
        self.sign_in()
        page.get_by_role("link", name="New assessment").click()
        clicks = 0
        page.get_by_text("Front split").first.click()
        clicks += 1
        page.get_by_role("button", name="Open the run sheet").click()
        clicks += 1
        page.wait_for_url("**/a/*")
        page.get_by_text("Choose the poses").click()
        clicks += 1
        grid = page.locator(".pose-grid label")
        wanted = {
            "Front split",
            "Low lunge",
            "Supine leg raise",
            "Pigeon",
            "Butterfly",
            "Half split",
        }
        for label in grid.all():
            name = label.locator("span").inner_text()
            if label.locator("input").is_checked() != (name in wanted):
                label.click()
                clicks += 1
        page.get_by_role("button", name="Use these").click()
        clicks += 1
        names = page.locator(".runlist b")
        expect(names).to_have_count(len(wanted))
        self.assertEqual(set(names.all_inner_texts()), wanted)
        self.assertEqual(self.serious_issues(page), [])
        self.assertLessEqual(clicks, 12)
        print(f"\nsix poses chosen in {clicks} clicks, from the person's page on", file=sys.stderr)
