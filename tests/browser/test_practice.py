"""The player on a phone: a shortened session with the connection gone in the middle."""

import json
import re
from datetime import timedelta
from typing import Any

from playwright.sync_api import Locator, Page, expect

from dachi.core.assessing.runsheet import SheetLine
from dachi.core.words import PainKind, Place
from dachi.data import drills
from dachi.store import assessments, felt, practice_log, practitioners, run_sheets, weeks
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import Profile
from dachi.studio.practice.player import closes
from tests import slow
from tests.browser.chromium import InChromium
from tests.support import CLOCK, ago, day_ago

PHONE = {"width": 390, "height": 844, "has_touch": True}

KNOWN_EASIER = {d.id: d.easier for d in drills()}


class Player(InChromium):
    def setUp(self) -> None:
        super().setUp()
        practitioners.update(
            self.db, self.coach.id, self.pid, props={"mat", "strap", "block", "cushion", "wall"}
        )
        weeks.save_profile(
            self.db,
            self.coach.id,
            self.pid,
            Profile(level=2, minutes=10.0, weekdays=tuple(range(7))),
        )
        self.sign_in()
        self.page.goto(f"{self.base}/p/{self.pid}/practice")
        self.page.get_by_role("button", name="Make the link").click()
        self.link = self.page.locator("#own code").inner_text()

    def log(self) -> list[practice_log.LogEntry]:
        return practice_log.entries(self.db, self.coach.id, self.pid)

    def player(self, looked_over: bool = False) -> tuple[Page, dict[str, Any]]:
        phone = self.open(**PHONE)
        phone.goto(self.link)
        expect(phone.get_by_role("heading", name="Hello Runa")).to_be_visible()
        if looked_over:
            self.assertEqual(self.serious_issues(phone), [])
        self.assertEqual(phone.evaluate("document.documentElement.scrollWidth"), 390)
        start = phone.get_by_role("link", name="Start").get_attribute("href") or ""
        phone.goto(f"{self.base}{start}?short=1")
        data = json.loads(phone.locator("#play-data").text_content() or "{}")
        if looked_over:
            self.assertEqual(self.serious_issues(phone), [])
        return phone, data

    def play_to(self, phone: Page, what: Locator) -> None:
        """Let the player's time run, a second at a time, until something shows."""
        for _ in range(1200):
            if what.count() and what.first.is_visible():
                return
            phone.clock.run_for(1000)
        self.fail(f"{what} never came")

    def test_a_session_with_the_connection_gone_in_the_middle(self) -> None:
        phone, data = self.player(looked_over=True)
        phone.clock.install(time=CLOCK.local())
        phone.get_by_role("button", name="Start").click()
        items = data["items"]
        self.play_to(
            phone, phone.locator("#name", has_text=data["drills"][items[1]["drill"]]["name"])
        )
        self.expected_complaints = ("Failed to load resource", "ERR_INTERNET_DISCONNECTED")
        phone.context.set_offline(True)
        self.play_to(phone, phone.get_by_role("heading", name="Well done"))
        phone.clock.resume()
        phone.get_by_text("easy", exact=True).first.click()
        props = phone.locator('.end-prop input[name="prop_cm"]')
        if props.count():
            props.first.fill("a lot")
            phone.get_by_role("button", name="Add this").click()
            expect(phone.locator("#wrong")).to_contain_text("in centimetres")
            props.first.fill("12")
        expect(phone.locator("#kept")).to_contain_text("Kept on this device")
        phone.fill("#notes", "the bus was late")
        phone.get_by_role("button", name="Add this").click()
        expect(phone.locator("#kept")).to_contain_text("Kept on this device")
        self.assertEqual(self.log(), [])
        phone.context.set_offline(False)
        expect(phone.locator("#kept")).to_contain_text("It is in your log", timeout=20_000)
        (entry,) = self.log()
        self.assertEqual(
            (entry.felt, entry.finished, entry.notes), ("easy", True, "the bus was late")
        )
        self.assertEqual({d.drill for d in entry.done}, {i["drill"] for i in items})
        extra = {i["drill"] for i in items if any(s["extra"] for s in i["steps"])}
        for d in entry.done:
            if d.left is not None and d.drill not in extra:
                self.assertAlmostEqual(d.left, d.right or 0.0, delta=0.01)
        self.page.goto(f"{self.base}/p/{self.pid}/practice")
        expect(self.page.get_by_text("the bus was late")).to_be_visible()
        self.assertEqual(self.serious_issues(self.page), [])

    def test_changing_sides_has_its_time_and_what_was_felt_is_kept(self) -> None:
        """A changeover is counted, may be cut short, and both sides get the same by the clock."""
        phone, data = self.player()
        phone.clock.install(time=CLOCK.local())
        # Time goes only when it is let go: a busy machine would be past the change otherwise.
        phone.clock.pause_at(CLOCK.local() + timedelta(seconds=5))
        phone.get_by_role("button", name="Start").click()
        change = next(s for i in data["items"] for s in i["steps"] if s["kind"] == "change")
        legs = data["drills"][change["drill"]]["legs"][change["side"]]
        self.play_to(phone, phone.get_by_text(f"Change: {legs}.", exact=True))
        expect(phone.locator("#side")).to_contain_text(legs)
        mirrored = phone.locator("#figure.mirrored")
        expect(mirrored).to_have_count(1 if change["side"] == "left" else 0)
        phone.get_by_role("button", name="Ready").click()
        expect(phone.locator("#what")).not_to_contain_text("Change")
        expect(phone.locator("#side")).to_contain_text(legs)
        self.play_to(phone, phone.get_by_role("heading", name="Well done"))
        phone.clock.resume()
        for question, answer in (
            ("Tighter today", "left"),
            ("The same movement at the end", "freer"),
        ):
            phone.get_by_role("group", name=question).get_by_text(answer, exact=True).click()
        phone.get_by_role("button", name="Add this").click()
        expect(phone.locator("#kept")).to_contain_text("It is in your log", timeout=15_000)
        (entry,) = self.log()
        row = next(d for d in entry.done if d.drill == change["drill"])
        self.assertAlmostEqual(row.left or 0.0, row.right or 0.0, delta=0.01)
        ((_, said),) = felt.of_practitioner(self.db, self.coach.id, self.pid)
        self.assertEqual(said, {"tighter": "left", "again": "freer"})

    def test_a_finished_session_is_kept_without_another_touch(self) -> None:
        """Left or reloaded at "Well done", before "Keep it", it was lost."""
        phone, _ = self.player()
        phone.clock.install(time=CLOCK.local())
        phone.get_by_role("button", name="Start").click()
        self.play_to(phone, phone.get_by_role("heading", name="Well done"))
        phone.clock.resume()
        expect(phone.locator("#kept")).to_contain_text("It is in your log", timeout=15_000)
        self.assertEqual(
            [(e.finished, e.felt) for e in self.log()], [(True, None)], "what nobody said"
        )
        phone.reload()
        expect(phone.get_by_role("heading", name="Well done")).to_be_visible()
        phone.get_by_text("hard", exact=True).first.click()
        phone.fill("#notes", "warm room")
        phone.get_by_role("button", name="Add this").click()
        expect(phone.locator("#kept")).to_contain_text("It is in your log", timeout=15_000)
        self.assertEqual([(e.felt, e.notes) for e in self.log()], [("hard", "warm room")])

    def test_walking_through_by_skip_is_no_session(self) -> None:
        """It counted as one: "1 min, felt right", 1 of 4."""
        phone, data = self.player()
        phone.get_by_role("button", name="Start").click()
        for _ in data["items"]:
            phone.get_by_role("button", name="Skip").click()
        expect(phone.locator("#kept")).to_contain_text("nothing is logged")
        expect(phone.get_by_role("button", name="Add this")).to_be_hidden()
        phone.reload()
        expect(phone.locator("#kept")).to_contain_text("nothing is logged")
        self.assertEqual(self.log(), [])

    def test_a_wrong_tap_on_it_hurts_is_taken_back(self) -> None:
        phone, _ = self.player()
        phone.get_by_role("button", name="Start").click()
        for _ in range(2):
            phone.get_by_role("button", name="It hurts").click()
            phone.get_by_role("button", name="left knee", exact=True).click()
            phone.get_by_role("button", name="inner side").click()
            phone.get_by_role("button", name="dull ache").click()
            phone.get_by_role("button", name="take it back").click()
            expect(phone.locator("#name")).to_be_visible()
        phone.get_by_role("button", name="It hurts").click()
        phone.get_by_role("button", name="low back").click()
        phone.get_by_role("button", name="a pinch").click()
        phone.get_by_role("button", name="End the session here").click()
        expect(phone.locator("#kept")).to_contain_text("It is in your log", timeout=15_000)
        self.assertEqual([[p.place for p in e.pains] for e in self.log()], [[Place.LOW_BACK]])

    def test_what_waited_under_an_old_link_arrives_by_the_new_one(self) -> None:
        phone, data = self.player()
        body = {
            "once_key": "kept", "started_at": ago(2, "07:00:00"), "seconds": 60, "felt": "right",
            "finished": True, "done": [{"drill": data["items"][0]["drill"], "seconds": 60}],
        }  # fmt: skip
        old = phone.locator("#player").get_attribute("data-to")
        who = phone.locator("#player").get_attribute("data-who")
        waiting = [
            {"to": old, "who": "somebody else", "body": body | {"once_key": "other"}},
            {"to": old, "who": who, "body": body},
        ]
        phone.evaluate(
            "q => localStorage.setItem('dachi-practice-queue', JSON.stringify(q))", waiting
        )
        self.page.get_by_role("button", name="New link").click()
        expect(self.page.locator("#own code")).not_to_have_text(self.link)
        self.expected_complaints = ("Failed to load resource",)
        phone.goto(self.page.locator("#own code").inner_text())
        queue = phone.locator("#queue")
        expect(queue).to_contain_text(f"The session of {day_ago(2)} could not be sent.")
        self.assertEqual([e.started_at for e in self.log()], [ago(2, "07:00:00")])
        queue.get_by_role("button", name="Put it away").click()
        expect(queue).to_have_text("")
        self.assertEqual(phone.evaluate("localStorage.getItem('dachi-practice-queue')"), "[]")

    def test_skipping_on_one_side_gives_the_other_as_much(self) -> None:
        phone, data = self.player()
        phone.clock.install(time=CLOCK.local())

        def in_turns(items: list[Any]) -> Any:
            return next(
                (
                    i
                    for i in items
                    if len({s["side"] for s in i["steps"]} - {None}) == 2
                    and [s["kind"] for s in i["steps"][1:4]] == ["hold", "ease", "hold"]
                ),
                None,
            )

        # Today's session may have none: each day of the week has its own.
        at = 0
        while in_turns(data["items"]) is None:
            at += 1
            phone.goto(re.sub(r"/play/\d+", f"/play/{at}", phone.url))
            data = json.loads(phone.locator("#play-data").text_content() or "{}")
        item = in_turns(data["items"])
        name = data["drills"][item["drill"]]["name"]
        # The full session, so that a side is long enough to be cut short.
        phone.goto(phone.url.replace("?short=1", ""))
        phone.get_by_role("button", name="Start").click()
        while phone.locator("#name").inner_text() != name:
            phone.get_by_role("button", name="Skip").click()
        phone.clock.run_for(20_500)
        first, now = phone.locator("#side").inner_text(), phone.locator("#round")
        expect(now).to_contain_text("Round 1")
        phone.clock.run_for(6_000)
        phone.get_by_role("button", name="Skip").click()
        expect(phone.locator("#what")).to_contain_text("Come up a little")
        phone.get_by_role("button", name="Go on").click()
        expect(now).to_contain_text("Round 2")
        phone.clock.run_for(4_000)
        phone.get_by_role("button", name="Skip").click()
        second = phone.locator("#side").inner_text()
        self.assertNotEqual(first, second)
        phone.get_by_role("button", name="Ready").click()
        button = phone.locator("#next")
        expect(button).to_be_disabled()
        expect(button).to_have_text("As long as the other")
        phone.clock.run_for(7_000)
        phone.get_by_role("button", name="Go on").click()
        expect(now).to_contain_text("Round 2")
        phone.clock.run_for(5_500)
        kept = phone.evaluate(
            "() => Object.keys(localStorage).filter((k) => k.startsWith('dachi-play-'))"
            ".map((k) => JSON.parse(localStorage.getItem(k)).done)"
        )
        # The page was open shortened before: either has a place of its own.
        kept = next(done[item["drill"]] for done in kept if item["drill"] in done)
        self.assertAlmostEqual(kept["left"], kept["right"], delta=0.01)
        self.assertLess(kept["left"], 25)

    def test_what_an_ache_closes_is_left_out_of_the_running_session(self) -> None:
        phone, _ = self.player()
        names = {d.name: d.id for d in drills()}
        sides = closes(list(names.values()))[f"{Place.LEFT_GROIN}|{PainKind.DULL}"]
        shut = {n for n, closed in sides.items() if len(closed) == 2}
        phone.get_by_role("button", name="Start").click()
        first = names[phone.locator("#name").inner_text()]
        phone.get_by_role("button", name="It hurts").click()
        phone.get_by_role("button", name="left groin").click()
        expect(phone.locator("#hurt-kind-head")).to_have_text("Left groin. What is it like?")
        phone.get_by_role("button", name="dull ache").click()
        expect(phone.locator("#hurt-where")).to_be_hidden()
        said = phone.locator("#hurt-say").inner_text()
        phone.get_by_role("button", name="go on").click()
        seen = set()
        for _ in range(60):
            if phone.get_by_role("heading", name="Well done").is_visible():
                break
            drill = names[phone.locator("#name").inner_text()]
            side = (phone.locator("#side").get_attribute("class") or "").rpartition("side-")[2]
            if drill != first:
                self.assertNotIn(side, sides.get(drill, []), "the closed side is left out")
            seen.add(drill)
            # The first tap gets out of the entry's way, so that sides are seen as well.
            phone.evaluate("document.querySelector('#next').click()")
        self.assertTrue(seen)
        self.assertEqual((seen - {first}) & shut, set())
        named = {d for n, d in names.items() if n in said}
        self.assertTrue(named - {first} <= set(sides) | {KNOWN_EASIER.get(first)}, said)

    def test_when_it_hurts_the_session_stops_and_the_coach_hears(self) -> None:
        phone, _ = self.player()
        phone.get_by_role("button", name="Start").click()
        phone.wait_for_timeout(1200)
        phone.get_by_role("button", name="It hurts").click()
        phone.get_by_role("button", name="low back").click()
        phone.get_by_role("button", name="a pinch").click()
        expect(phone.locator("#hurt-say")).to_contain_text("ends the session")
        self.assertEqual(self.serious_issues(phone), [])
        phone.get_by_role("button", name="End the session here").click()
        phone.get_by_role("button", name="Add this").click()
        expect(phone.locator("#kept")).to_contain_text("It is in your log", timeout=15_000)
        (entry,) = self.log()
        self.assertFalse(entry.finished)
        self.assertEqual(
            [(p.place, p.kind) for p in entry.pains], [(Place.LOW_BACK, PainKind.PINCH)]
        )
        self.page.goto(f"{self.base}/p/{self.pid}/plan")
        expect(self.page.get_by_text(re.compile("Because pain in the low back"))).to_be_visible()
        self.page.goto(f"{self.base}/")
        expect(self.page.get_by_text("pain in the low back")).to_be_visible()

    @slow("waits for a film to play")
    def test_the_screen_stays_on_without_a_wake_lock(self) -> None:
        """As on a phone in the local network, where pages come without https."""
        phone, _ = self.player()
        phone.add_init_script("delete Navigator.prototype.wakeLock")
        phone.reload()
        film = phone.locator("video.awake")
        self.assertEqual(film.count(), 0)
        phone.get_by_role("button", name="Start").click()
        expect(film).to_have_count(1)
        phone.wait_for_timeout(1500)
        self.assertGreater(film.evaluate("v => v.paused ? -1 : v.currentTime"), 0.5)
        phone.get_by_role("button", name="Pause").click()
        expect(film).to_have_count(0)

    def test_a_closed_page_goes_on_where_it_was(self) -> None:
        phone, data = self.player()
        phone.clock.install(time=CLOCK.local())
        phone.get_by_role("button", name="Start").click()
        name = data["drills"][data["items"][2]["drill"]]["name"]
        self.play_to(phone, phone.locator("#name").get_by_text(name, exact=True))
        phone.reload()
        expect(phone.locator("#name")).to_have_text(name)
        expect(phone.get_by_role("button", name="Go on")).to_be_visible()

    @slow("axe on every page in both themes")
    def test_pages_of_the_plan(self) -> None:
        page = self.page
        practitioners.update(self.db, self.coach.id, self.pid, email="runa@quay.example")
        for n in range(3):
            entry = NewLogEntry(once_key=f"k{n}", started_at=ago(25 - n, "08:00:00"), seconds=600, felt=Felt.RIGHT, finished=True, done=(DrillDone("goal-front-split", 60, prop_cm=20 - n),), pains=(Pain("lizard", Place.LEFT_KNEE, PainKind.KNEE),))  # fmt: skip
            log_id = practice_log.add(self.db, self.coach.id, self.pid, entry)
            practice_log.set_soreness(self.db, self.coach.id, self.pid, log_id, 2 + n)
        for path in (
            f"/p/{self.pid}/plan",
            f"/p/{self.pid}/practice",
            f"/p/{self.pid}/ladders",
            f"/p/{self.pid}/prepare",
            f"/p/{self.pid}/record",
            f"/p/{self.pid}/assess",
            "/drills",
            "/drills/lizard",
            "/outbox",
        ):
            page.goto(f"{self.base}{path}")
            with self.subTest(path):
                self.assertEqual(self.serious_issues(page), [])
                page.evaluate("document.documentElement.dataset.bsTheme = 'dark'")
                self.assertEqual(self.serious_issues(page, only_colours=True), [], "dark")
                page.set_viewport_size({"width": 390, "height": 844})
                self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
                page.set_viewport_size({"width": 1280, "height": 800})
        page.context.add_cookies([{"name": "theme", "value": "dark", "url": self.base}])
        page.goto(f"{self.base}/p/{self.pid}/plan")
        page.emulate_media(media="print")
        for hidden in (".bar", ".path", ".item-acts >> nth=0", ".settings"):
            expect(page.locator(hidden)).to_be_hidden()
        page.evaluate("dispatchEvent(new Event('beforeprint'))")
        expect(page.locator("html")).to_have_attribute("data-bs-theme", "light")
        for day in page.locator(".plan-items").all():
            expect(day).to_be_visible()
        page.evaluate("dispatchEvent(new Event('afterprint'))")
        expect(page.locator(".plan-day[open]")).to_have_count(1)
        expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
        page.emulate_media(media="screen")
        page.goto(f"{self.base}/drills")
        page.get_by_label("Direction").select_option("internal_rotation")
        expect(page.get_by_text("Lizard")).to_have_count(0)
        page.goto(f"{self.base}/p/{self.pid}/plan?day=0")
        first = page.locator(".plan-items li").nth(1)
        name = first.locator("b").inner_text()
        first.locator("summary").click()
        first.get_by_role("button", name=re.compile("not on this day ?: .*Monday")).click()
        expect(page.locator(".wishes")).to_contain_text(f"Dropped: {name} on Monday")

    def test_player_and_capture_page_survive_a_reload(self) -> None:
        phone, data = self.player()
        player = phone.url
        phone.wait_for_selector("html[data-kept]", state="attached")
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(0.01), warmth="warm")
        run_sheets.save(
            self.db, self.coach.id, aid, [SheetLine("supine-leg-raise", "left", "passive", 2)]
        )
        self.page.goto(f"{self.base}/a/{aid}/phone")
        self.page.get_by_role("button", name="Make the code").click()
        capture = self.page.locator(".link-text code").first.inner_text()
        phone.goto(capture)
        phone.wait_for_selector("html[data-kept]", state="attached")
        kept = phone.evaluate(
            "(async () => (await (await caches.open('dachi-private-1')).keys()).map((r) => r.url))()"
        )
        self.assertTrue(any("/play/" in u for u in kept))
        self.assertFalse([u for u in kept if "photo" in u or "/p/" in u or u.endswith(".zip")])
        self.expected_complaints = ("Failed to load resource", "ERR_", "net::")
        phone.context.set_offline(True)
        self.gone()
        phone.reload()
        expect(phone.locator("#take-label")).to_be_visible()
        expect(phone.locator("#shot-name")).to_have_text("Supine leg raise")
        phone.goto(player)
        expect(phone.get_by_role("button", name="Start")).to_be_visible()
        phone.get_by_role("button", name="Start").click()
        names = "|".join(re.escape(d["name"]) for d in data["drills"].values())
        expect(phone.get_by_role("heading", level=1)).to_have_text(re.compile(names))

    def gone(self) -> None:
        """The studio's machine is switched off."""
        self.server.task_dispatcher.shutdown(timeout=5)
        self.server.close()
