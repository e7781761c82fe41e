"""A coach's day worked through the pages by script: clicks, keys, pages, seconds.

``python -m bench day`` works the program it stands in; ``python -m bench.day --tree FOLDER``
another checkout of it, so that two versions can be set side by side. An empty studio, three
people (a beginner aiming at the split, one with a knee history, one of fourteen), first
assessments of each, a second of the first, review, signing off, a week planned, a session
logged. Photographs are sketches whose joints are known; a mark is dragged where it belongs.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import re
import socket
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from pathlib import Path

from playwright.sync_api import Locator, Page, sync_playwright

from dachi.data import catalogue
from tests.browser.chromium import COUNTING, FLAGS, chromium
from tests.browser.test_journey import drag
from tests.support import pictured

#: Keystroke-level model (Card, Moran, Newell 1983): point and press; one key; think, by page.
CLICK_S, KEY_S, PAGE_S = 1.3, 0.28, 1.35
AIMS = {
    "Nella": (1996, "front-split", ("supine-leg-raise", "low-lunge", "front-split")),
    "Gorm": (1984, "supine-leg-raise", ("supine-leg-raise", "leg-raise-out", "butterfly")),
    "Tamsin": (2012, "butterfly", ("supine-leg-raise", "butterfly")),
}  # fmt: skip
AGAIN = "Nella"
GAIN = 6.0


class Coach:
    """Somebody at the keyboard whose acts are counted by what they were part of."""

    def __init__(self, page: Page, base: str, acts: Counter[str], pictures: Path) -> None:
        self.page, self.base, self.acts, self.pictures = page, base, acts, pictures
        self.shares: dict[str, Counter[str]] = {}
        self.part, self.before = "", Counter[str]()
        #: What it took from the empty copy to the first accepted reading, and fields filled in.
        self.first, self.fields = Counter[str](), 0
        page.on(
            "framenavigated", lambda frame: acts.update(["pages"] if not frame.parent_frame else [])
        )

    def begin(self, part: str) -> None:
        if self.part:
            self.shares.setdefault(self.part, Counter()).update(self.acts - self.before)
        self.part, self.before = part, self.acts.copy()

    def click(self, what: Locator) -> None:
        what.first.click()
        self.page.wait_for_load_state("networkidle")

    def press(self, name: str) -> None:
        self.click(self.page.get_by_role("button", name=name))

    def write(self, field: str, text: str) -> None:
        """A click into the field and a key a letter; dates are filled as a picker would."""
        self.fields += not self.first
        self.page.locator(field).first.click()
        self.page.locator(field).first.fill("")
        if self.page.locator(field).first.get_attribute("type") in ("date", "datetime-local"):
            self.page.fill(field, text)
            self.acts["keys"] += len(re.sub(r"\D", "", text))
        else:
            self.page.keyboard.type(text)

    def follow(self, name: str) -> None:
        self.click(self.page.locator(".path").get_by_role("link", name=name))

    # ---- the day -----------------------------------------------------------------

    def welcome(self) -> None:
        self.begin("account")
        self.page.goto(f"{self.base}/")
        self.write("#name", "Wenna")
        self.write("#email", "wenna@quay.example")
        self.write("#password", "a few words in a row")
        self.press("Create the account")

    def add(self, name: str, born: int) -> None:
        self.begin("a new person")
        self.page.goto(f"{self.base}/")
        self.click(self.page.get_by_role("link", name=re.compile("Add a (person|practitioner)")))
        self.write("#call_name", name)
        self.write("#birth_year", str(born))
        self.press("Add, then consent and screening")
        self.click(self.page.locator("fieldset.choice label").first)
        if self.page.locator("#guardian").count():
            self.write("#guardian", "Her mother")
        self.press("Record the consent")
        self.press("Asked and answered")

    def prepare(self, name: str, at: datetime) -> int:
        self.begin("opening the sheet")
        _, aim, poses = AIMS[name]
        self.click(self.page.get_by_role("link", name="New assessment"))
        aims = self.page.locator(f'[name="aim"][value="{aim}"]')
        if aims.count() and not aims.is_checked():
            self.click(self.page.locator("label", has=aims))
        if at.date() != datetime.now().date():
            self.write("#taken_at", at.strftime("%Y-%m-%dT%H:%M"))
        self.press("Open the run sheet")
        self.choose(poses)
        return int(self.page.url.split("/a/")[1].split("?")[0].split("/")[0])

    def stations(self) -> list[str]:
        found = self.page.locator(".run-box").inner_text()
        names = {p.name: p.id for p in catalogue().poses}
        return [names[line] for line in found.splitlines() if line in names]

    def choose(self, poses: tuple[str, ...]) -> None:
        """Make the sheet hold just these, whichever way this version has."""
        page = self.page
        names = {p.id: p.name for p in catalogue().poses}
        here = set(self.stations())
        fold = page.locator(".more-poses")
        if page.locator('.pose-grid input[type="checkbox"]').count():
            if here == set(poses):
                return
            self.click(fold.locator("summary"))
            for pose in sorted(here ^ set(poses)):
                box = page.locator(f'.pose-grid input[value="{pose}"]')
                if box.count():  # a second view comes and goes with its pose
                    inside = page.locator(f'input[value="{pose}"]')
                    self.click(page.locator(".pose-grid label").filter(has=inside))
            self.press("Use these")
            return
        for pose in sorted(here - set(poses)):
            self.click(page.locator(".run-box").get_by_text(names[pose], exact=True))
            self.click(page.get_by_text("Change the sheet"))
            self.press("Drop this pose")
        for pose in sorted(set(poses) - set(self.stations())):
            self.click(fold.locator("summary"))
            self.click(fold.locator(f'button[value="{pose}"]'))

    def photograph(self, aid: int, gain: float) -> int:
        """Every photograph of the sheet, marked as it comes; how many there were."""
        page, taken = self.page, 0
        self.begin("photographs and marks")
        while True:
            offered = page.locator("label.next-shot")
            if "/t/" in page.url and offered.count():
                chooser = offered.locator("input[type=file]")
                if not chooser.count():
                    chooser = page.locator("#next-shot-photo, input[type=file][data-sends]")
                place = self.place_on_bench()
            else:
                if "/t/" in page.url or "/a/" not in page.url:
                    if page.locator(".path").get_by_role("link", name="Photograph").count():
                        self.follow("Photograph")
                    else:
                        page.goto(f"{self.base}/a/{aid}")
                if f"/a/{aid}" not in page.url:
                    page.goto(f"{self.base}/a/{aid}")
                if not self.waiting_station():
                    return taken
                place = self.place_on_sheet()
                chooser = page.locator("#photo")
            self.take(chooser, *place, gain)
            self.first = self.first or self.acts.copy()
            taken += 1

    def waiting_station(self) -> bool:
        """Bring a pose with an empty place to the front, as the list of the sheet does."""
        if self.page.locator(".empty-shot").count():
            return True
        for n in range(self.page.locator(".run-one > a").count()):
            link = self.page.locator(".run-one > a").nth(n)
            if re.search(
                "to photograph|one more trial", self.page.locator(".run-one").nth(n).inner_text()
            ):
                self.click(link)
                return bool(self.page.locator(".empty-shot").count())
        return False

    def place_on_sheet(self) -> tuple[str, str, str]:
        page = self.page
        if not page.locator(".empty-shot.chosen").count():
            self.click(page.locator(".empty-shot"))
        side, mode, _ = str(
            page.locator(".empty-shot.chosen").first.get_attribute("data-place")
        ).split("|")
        return str(page.locator('#upload [name="pose"]').first.input_value()), side, mode

    def place_on_bench(self) -> tuple[str, str, str]:
        form = self.page.locator("form#next-shot")
        pose, side, mode = (
            str(form.locator(f'[name="{k}"]').first.input_value()) for k in ("pose", "side", "mode")
        )
        return pose, side, mode

    def take(self, chooser: Locator, pose: str, side: str, mode: str, gain: float) -> None:
        page = self.page
        about = catalogue().pose(pose).figure
        share = (0.55 if mode == "passive" else 0.45) + gain / max(about.high - about.low, 1.0)
        data, truth = pictured(pose, side, round(about.low + share * (about.high - about.low), 1))
        path = self.pictures / f"{pose}-{side}-{mode}-{gain}-{time.monotonic_ns()}.jpg"
        # Every trial is a picture of its own.
        path.write_bytes(data + str(time.monotonic_ns()).encode())
        before = page.url
        self.acts["clicks"] += 2  # the chooser, and the file in it
        chooser.first.set_input_files(path)
        if page.locator("#upload button.btn-go[type=submit]:visible").count():
            self.press("Add and mark it")
        page.wait_for_url(lambda url: "/t/" in url and url.split("?")[0] != before.split("?")[0])
        page.wait_for_load_state("networkidle")
        if not page.locator("#camera-moved").count():
            page.keyboard.press("m")
            for name, corner in truth["corners_px"].items():
                drag(page, f"corner-{name}", tuple(corner))
        names = "rings => rings.map(r => r.dataset.name)"
        for name in page.eval_on_selector_all(".mark-guess", names):
            drag(page, name, tuple(truth["marks_px"][name.removeprefix("mark-")]))
        page.wait_for_function("!document.querySelector('.mark-guess')")
        page.evaluate("document.activeElement.blur()")
        here = page.url
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: url != here)
        page.wait_for_load_state("networkidle")

    def finish(self, aid: int) -> None:
        self.begin("review and sign off")
        self.follow("Review")
        if "/review" not in self.page.url:
            self.page.goto(f"{self.base}/a/{aid}/review")
        self.press("Sign off")

    def plan_and_log(self) -> None:
        self.begin("week and log")
        self.follow("Plan")
        self.follow("Practise")


def seconds(acts: Counter[str]) -> float:
    """What the acts would take a practised hand, s."""
    return acts["clicks"] * CLICK_S + acts["keys"] * KEY_S + acts["pages"] * PAGE_S


@contextlib.contextmanager
def served(tree: Path) -> Iterator[str]:
    """The tree's own program on an empty folder."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    with tempfile.TemporaryDirectory(prefix="dachi-day-") as folder:
        words = ["serve", "--port", str(port), "--door", "0", "--data", folder]
        server = subprocess.Popen(
            [sys.executable, "-m", "dachi", *words], cwd=tree, stdout=subprocess.PIPE, text=True,
            env=os.environ | {"PYTHONPATH": str(tree)},
        )  # fmt: skip
        try:
            assert server.stdout is not None
            for line in server.stdout:
                if "is open at" in line:
                    break
            else:
                raise SystemExit(f"the program in {tree} did not start")
            yield f"http://127.0.0.1:{port}"
        finally:
            server.terminate()
            server.wait()


def day(tree: Path) -> tuple[Coach, int, float]:
    acts: Counter[str] = Counter()
    with served(tree) as base, tempfile.TemporaryDirectory() as pictures, sync_playwright() as p:
        browser = p.chromium.launch(executable_path=chromium(), args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        context.expose_binding("counted", lambda _, kind: acts.update([kind]))
        context.add_init_script(COUNTING)
        page = context.new_page()
        page.set_default_timeout(20_000)
        coach = Coach(page, base, acts, Path(pictures))
        began, photographs = time.monotonic(), 0
        coach.welcome()
        now = datetime.now().replace(second=0, microsecond=0)
        for name, (born, _, _) in AIMS.items():
            coach.add(name, born)
            aid = coach.prepare(name, now - timedelta(days=35 if name == AGAIN else 0, hours=1))
            photographs += coach.photograph(aid, 0.0)
            coach.finish(aid)
            coach.plan_and_log()
        coach.begin("coming back")
        page.goto(f"{base}/")
        coach.click(page.get_by_role("link", name=AGAIN))
        aid = coach.prepare(AGAIN, now)
        photographs += coach.photograph(aid, GAIN)
        coach.finish(aid)
        coach.begin("")
        took = time.monotonic() - began
        browser.close()
    return coach, photographs, took


def main(argv: Sequence[str] = ()) -> None:
    parser = argparse.ArgumentParser(prog="bench day", description=__doc__)
    parser.add_argument("--tree", type=Path, default=Path(__file__).parents[1])
    args = parser.parse_args(list(argv))
    coach, photographs, took = day(args.tree.resolve())
    shares = coach.shares
    shares["the day"] = sum(shares.values(), Counter())
    print(f"{'part':<24}{'clicks':>8}{'keys':>8}{'pages':>8}{'seconds':>9}")
    for part, acts in shares.items():
        row = f"{part:<24}{acts['clicks']:8}{acts['keys']:8}{acts['pages']:8}{seconds(acts):9.0f}"
        print(row)
    each = seconds(shares["the day"]) / max(photographs, 1)
    print(f"{photographs} photographs, {each:.0f} s each; worked by script in {took:.0f} s")
    print(
        f"empty copy to the first reading accepted, all marks by hand: {coach.fields} fields, "
        f"{coach.first['clicks']} clicks, {coach.first['pages']} pages"
    )


if __name__ == "__main__":
    main(sys.argv[1:])
