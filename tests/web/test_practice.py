"""Plan, log, own page, calendar and outbox through their pages."""

import html
import io
import json
import re
import zipfile
from collections import Counter
from datetime import datetime, timedelta
from email import policy
from email.parser import BytesParser
from typing import Any

import icalendar

from dachi.data import drills
from dachi.simulation import outbox
from dachi.store import accounts, practice_log, practitioners, preparation, private_links, weeks
from dachi.store.weeks import Profile, Tuned
from dachi.studio.practice import person as persons
from dachi.studio.practice.person import drill_by_id
from dachi.studio.practice.weeks import keep_week, week_of
from tests.support import CLOCK, PASSWORD, Pages, ago, day_ago, loaded, loaded_on, written_ago


class Practising(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.profile(Profile(level=2, minutes=10.0, weekdays=(0, 3)))
        practitioners.update(
            self.db, self.coach.id, self.pid, props={"mat", "strap", "block", "cushion", "wall"}
        )

    def profile(self, found: Profile) -> None:
        weeks.save_profile(self.db, self.coach.id, self.pid, found)

    def practising(self) -> persons.Practising:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return persons.Practising(self.work, who)

    def week(self) -> weeks.PlannedWeek:
        """The week that pages show; a page that only looks keeps nothing."""
        self.assertEqual(self.client.get(f"/p/{self.pid}/plan").status_code, 200)
        return week_of(self.practising())

    def drills_on(self, weekday: int) -> list[str]:
        found = next(s for s in self.week().sessions if s.weekday == weekday)
        return [i.drill for i in found.items]

    def on_the_left_knee(self) -> list[str]:
        """Drills of Monday that bring the left knee to its end."""
        known, (session, *_) = drill_by_id(), self.week().sessions
        return [
            i.drill for i in session.items if loaded_on(known[i.drill], "knee_end", "left", i.steps)
        ]

    def me(self) -> str:
        return "/me/" + self.own_link().split("/me/")[1]

    def own_link(self) -> str:
        if not private_links.live(self.db, self.coach.id, self.pid):
            self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        return page.split("<code>")[1].split("</code>")[0]

    def body(self, **more: object) -> dict[str, Any]:
        return {
            "once_key": "k1", "started_at": CLOCK.local().isoformat(timespec="seconds"), "seconds": 130,
            "felt": "right", "finished": True,
            "done": [{"drill": "raise-up", "seconds": 120, "left": 60, "right": 60, "felt": "easy"}],
        } | more  # fmt: skip

    def send(self, body: object) -> Any:
        return self.app.test_client().post(f"{self.me()}/log", data=json.dumps(body))

    def log(self) -> list[practice_log.LogEntry]:
        return practice_log.entries(self.db, self.coach.id, self.pid)


class ThePlan(Practising):
    def test_settings(self) -> None:
        form = {
            "level": "1",
            "minutes": "15",
            "weekday": ["1", "5"],
            "caution": ["kneeling", "nonsense"],
        }
        self.post(f"/p/{self.pid}/plan/profile", form)
        found = weeks.profile(self.db, self.coach.id, self.pid)
        assert found is not None
        self.assertEqual(
            (found.level, found.minutes, found.weekdays, found.cautions),
            (1, 15.0, (1, 5), ("kneeling",)),
        )
        self.assertEqual([s.weekday for s in self.week().sessions], [1, 5])
        page = self.text(self.client.get(f"/p/{self.pid}/plan"))
        self.assertIn("No weight on the kneecaps", page)
        # A long Saturday, the same in the morning and in the evening, longer and softer.
        self.post(
            f"/p/{self.pid}/plan/profile",
            form | {"minutes-5": "45", "minutes-1": "15", "minutes-2": "30", "twice": "1", "gentle": "1"},
        )  # fmt: skip
        found = weeks.profile(self.db, self.coach.id, self.pid)
        assert found is not None
        self.assertEqual(
            (found.by_day, found.twice, found.gentle, found.week_sessions, found.week_min),
            ({5: 45.0}, True, True, 4, 60.0),
        )
        short, long = (s.seconds for s in self.week().sessions)
        self.assertTrue(600 < short <= 900 and 1500 < long <= 2700, (short, long))
        self.assertTrue(any(i.dose.gentle for s in self.week().sessions for i in s.items))
        for wrong, words in (
            ({"minutes-5": "7"}, "Choose the minutes of each day"),
            ({"level": "9"}, "Choose a level"),
            ({"weekday": []}, "at least one day"),
        ):
            answer = self.post(f"/p/{self.pid}/plan/profile", form | wrong)
            self.assertIn(words, self.text(self.client.get(answer.headers["Location"])))

    def test_the_same_again_is_not_planned_again(self) -> None:
        self.week()
        self.week()
        # A session that went well is no reason to turn the rest of the week round.
        self.send(self.body())
        self.week()
        (count,) = self.db.execute("SELECT count(*) FROM week_plan").fetchone()
        self.assertEqual(count, 1)

    def test_one_day_is_open_and_marks_what_changed_since_last_week(self) -> None:
        keep_week(self.practising())
        days = [s.weekday for s in self.week().sessions]
        page = f"/p/{self.pid}/plan"
        self.assertNotIn("tag-new", self.text(self.client.get(page)))
        self.db.execute("UPDATE week_plan SET made_at = ?", (day_ago(9),))
        gone = next(
            d for d in self.drills_on(days[0]) if drill_by_id()[d].phase in ("hold", "strength")
        )
        wish = {"do": f"drop {days[0]} {gone}"}
        answer = self.post(f"{page}/wish", wish)
        found = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn(f'id="day-{days[0]}" open', found)
        self.assertEqual(found.count('class="plan-day"'), len(days))
        self.assertEqual(len(re.findall(r'id="day-\d" open', found)), 1)
        self.assertIn("marked is what changed since last week", found)
        self.assertRegex(found, f"No longer on this day: [^<]*{drill_by_id()[gone].name}")

    def test_changes_by_hand(self) -> None:
        before = self.drills_on(0)
        gone = next(d for d in before if drill_by_id()[d].phase not in ("settle", "rest"))
        wish = f"/p/{self.pid}/plan/wish"
        self.post(wish, {"do": f"drop 0 {gone}"})
        self.assertNotIn(gone, self.drills_on(0))
        self.post(wish, {"do": "keep 0 figure-four"})
        self.assertIn("figure-four", self.drills_on(0))
        self.post(wish, {"do": "swap 0 figure-four cross-reach"})
        self.assertIn("cross-reach", self.drills_on(0))
        self.assertNotIn("figure-four", self.drills_on(0))
        self.post(wish, {"do": "longer 0 cross-reach"})
        found = weeks.profile(self.db, self.coach.id, self.pid)
        assert found is not None
        self.assertEqual(found.tuned.longer, {"cross-reach": 1.25})
        self.post(wish, {"do": f"free 0 {gone}"})
        kinds = {k for _, _, k in weeks.wishes(self.db, self.coach.id, self.pid)}
        self.assertEqual(kinds, {"keep", "drop"})
        self.assertEqual(self.post(wish, {"do": "keep -1 no-such"}).status_code, 400)

    def test_a_wish_that_cannot_be_is_said_and_taken_back(self) -> None:
        self.profile(Profile(level=2, minutes=6.0, weekdays=(0,)))
        wish = f"/p/{self.pid}/plan/wish"
        self.post(wish, {"do": "keep 0 wall-straddle"})
        answer = self.post(wish, {"do": "keep 0 butterfly-reclined"})
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn("Not changed: nothing fits into 6 minutes", page)
        self.assertIn("wall-straddle", self.drills_on(0))

    def test_screening_and_pain_reach_the_plan(self) -> None:
        self.profile(Profile(level=2, minutes=20.0, weekdays=(0,)))
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(6), yes=["disc"]
        )
        known = drill_by_id()
        self.assertFalse(
            [d for d in self.drills_on(0) if known[d].passive_end or loaded(known[d], "nerve")]
        )
        preparation.clear(self.db, self.coach.id, self.pid, by="Dr. Ebb", on=day_ago(5))
        self.send(self.body(pains=[{"drill": "raise-up", "place": "left_knee", "kind": "dull"}]))
        self.assertEqual(self.on_the_left_knee(), [])
        self.assertIn(
            "Nothing that loads a knee", self.text(self.client.get(f"/p/{self.pid}/plan"))
        )

    def test_proposals_are_made_decided_and_kept(self) -> None:
        for i in range(3):
            self.send(self.body(once_key=f"k{i}"))
        page = self.text(self.client.get(f"/p/{self.pid}/plan"))
        self.assertIn("a longer hold, a quarter more", page)
        oid = page.split("/proposals/")[1].split('"')[0]
        self.post(f"/p/{self.pid}/proposals/{oid}", {"accept": "1"})
        found = weeks.profile(self.db, self.coach.id, self.pid)
        assert found is not None
        self.assertEqual(found.tuned.longer, {"raise-up": 1.25})
        page = self.text(self.client.get(f"/p/{self.pid}/plan"))
        self.assertIn("Decided before", page)
        self.assertEqual(
            self.post(f"/p/{self.pid}/proposals/9999", {"accept": "1"}).status_code, 404
        )

    def test_a_harder_form_takes_over_until_it_hurts(self) -> None:
        known = drill_by_id()
        steps = [
            (d.id, d.harder) for d in known.values()
            if d.harder and known[d.harder].level > d.level and not known[d.harder].gate
            and set(known[d.harder].requires) <= {"mat", "strap", "block", "cushion", "wall"}
        ]  # fmt: skip
        old, new = steps[0]
        self.profile(Profile(level=known[old].level, minutes=20.0, weekdays=(0, 3)))

        def plans_say(name: str) -> str:
            return self.week().fell_out.get(name, "")

        self.assertIn("is for level", plans_say(new))
        self.profile(
            Profile(
                level=known[old].level,
                minutes=20.0,
                weekdays=(0, 3),
                cautions=(),
                tuned=Tuned(stepped={old: new}),
            )
        )
        self.assertIn("its harder form does its work", plans_say(old))
        self.assertNotIn("is for level", plans_say(new))
        self.send(self.body(pains=[{"drill": new, "place": "groin", "kind": "dull"}]))
        self.assertIn("hurt lately", plans_say(new))
        self.assertNotIn("its harder form", plans_say(old))

    def test_ladders_say_what_opens_the_next_rung(self) -> None:
        page = self.text(self.client.get(f"/p/{self.pid}/ladders"))
        self.assertIn("Supine leg raise not measured yet: one photograph would tell", page)

    def test_what_would_do_for_a_missing_prop(self) -> None:
        practitioners.update(self.db, self.coach.id, self.pid, props={"mat", "wall"})
        page = self.text(self.client.get(f"/p/{self.pid}/plan"))
        self.assertIn("needs a strap; a long scarf or a bathrobe belt would do", page.lower())

    def test_all_drills_come_in_the_end(self) -> None:
        """The first answer draws some; what it leaves comes by its own addresses, once each."""
        page = self.text(self.client.get("/drills"))
        parts = [html.unescape(p) for p in re.findall(r'hx-get="([^"]*part=[^"]*)"', page)]
        self.assertGreater(len(parts), 2)
        pieces = [page, *(self.text(self.client.get(p)) for p in parts)]
        found = Counter(re.findall(r'href="/drills/([^"?]+)"', " ".join(pieces)))
        self.assertEqual(found, Counter(d.id for d in drills()))
        # Without script a link leads to the same.
        for link in re.findall(r'class="more-drills"[^>]*><a href="([^"]+)"', page):
            self.assertIn("drill-grid", self.text(self.client.get(html.unescape(link))))

    def test_drills_are_found(self) -> None:
        for query, inside, outside in (
            ("phase=rest", "Flat rest", "Pyramid"),
            ("direction=internal_rotation&phase=strength", "90/90 heel lift, back leg", "Lizard"),
            ("q=bell+rope", "Standing leg swing", "Lizard"),
            ("prop=bolster&phase=hold", "Hang on the bolster", "Pyramid"),
        ):
            page = self.text(self.client.get(f"/drills?{query}"))
            self.assertIn(inside, page)
            self.assertNotIn(outside, page)
        self.assertIn("No drill matches", self.text(self.client.get("/drills?q=trampoline")))
        card = self.text(self.client.get("/drills/split-draw"))
        self.assertIn("a supine leg raise of 80° on both sides", card)
        self.assertEqual(self.client.get("/drills/none").status_code, 404)


class TheLog(Practising):
    def test_a_session_arrives_once(self) -> None:
        for _ in range(2):
            self.assertEqual(self.send(self.body()).status_code, 200)
        self.assertEqual(len(self.log()), 1)
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        self.assertIn("left side 60 s; right side 60 s", page)

    def test_what_is_no_log(self) -> None:
        tomorrow = (CLOCK.local() + timedelta(days=2)).isoformat(timespec="seconds")
        for wrong in (
            [], {}, "x", self.body(felt="great"), self.body(seconds="many"), self.body(seconds=-4),
            self.body(started_at=tomorrow), self.body(started_at="yesterday"), self.body(done=[{"seconds": 3}]),
            self.body(done=[{"drill": "raise-up", "prop_cm": 900}]), self.body(seconds=float("nan")),
        ):  # fmt: skip
            with self.subTest(wrong=str(wrong)[:60]):
                self.assertEqual(self.send(wrong).status_code, 422)
        self.assertEqual(self.log(), [])
        self.assertEqual(
            self.send(self.body(done=[{"drill": "gone", "seconds": 3}])).status_code, 200
        )

    def test_a_session_is_logged_by_hand_and_taken_back(self) -> None:
        planned = self.drills_on(0)
        form = {
            "once_key": "h1", "started_at": ago(3, "07:30"), "minutes": "10", "what": "0",
            "felt": "easy", "soreness": "2", "place": "left_knee", "kind": "knee", "notes": "on paper",
        }  # fmt: skip
        path = f"/p/{self.pid}/practice"
        for name, wrong, words in (
            ("started_at", "", "give the day"), ("started_at", "2199-01-01T08:00", "in the future"),
            ("minutes", "long", "in minutes"), ("minutes", "0", "in minutes"),
            ("minutes", "nan", "in minutes"), ("soreness", "11", "from 0 to 10"),
            ("felt", "great", "it felt easy"),
        ):  # fmt: skip
            with self.subTest(name, wrong=wrong):
                answer = self.post(path, form | {name: wrong})
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, self.text(answer))
                self.assertIn("on paper", self.text(answer), "nothing typed is lost")
        self.post(path, form)
        self.post(path, form)
        (entry,) = self.log()
        self.assertEqual([d.drill for d in entry.done], planned)
        self.assertEqual((entry.seconds, entry.felt, entry.soreness), (600, "easy", 2))
        self.assertLessEqual(sum(d.seconds for d in entry.done), 600)
        # The place alone counts: the knee is left alone, and Today says so.
        self.assertEqual(self.on_the_left_knee(), [])
        self.assertIn("Pain in the left knee", self.text(self.client.get(path)))
        removed = self.post(f"{path}/{entry.id}/remove")
        self.assertEqual(self.log(), [])
        self.assertIn(f"{path}/{entry.id}/restore", self.text(self.client.get(removed.location)))
        self.post(f"{path}/{entry.id}/restore")
        self.assertEqual(self.log(), [entry])

    def test_soreness_is_asked_the_next_time(self) -> None:
        yesterday = (CLOCK.local() - timedelta(hours=20)).isoformat(timespec="seconds")
        self.send(self.body(started_at=yesterday))
        page = self.text(self.app.test_client().get(self.me()))
        self.assertIn("How sore were you", page)
        entry = self.log()[0]
        for level in ("12", "x"):
            self.app.test_client().post(
                f"{self.me()}/soreness", data={"log": entry.id, "soreness": level}
            )
        self.assertIsNone(self.log()[0].soreness)
        self.app.test_client().post(
            f"{self.me()}/soreness", data={"log": entry.id, "soreness": "5"}
        )
        self.assertEqual(self.log()[0].soreness, 5)
        self.assertNotIn("How sore were you", self.text(self.app.test_client().get(self.me())))
        self.assertIn("A gentler week", self.text(self.client.get(f"/p/{self.pid}/plan")))

    def test_prop_heights_and_sitting(self) -> None:
        for i, cm in enumerate((16, 14, 12)):
            at = (CLOCK.local() - timedelta(days=9 - 3 * i)).isoformat(timespec="seconds")
            done = [
                {"drill": "goal-front-split", "seconds": 90, "prop_cm": cm, "layers": 4 - i},
                {"drill": "goal-crossed-seat", "seconds": 60, "hold_s": 30},
            ]
            self.send(self.body(once_key=f"p{i}", started_at=at, done=done))
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        self.assertIn("support from 16 to 12 cm", page)
        self.assertIn("Longest so far 30 s", page)


class OwnPage(Practising):
    def test_a_link_opens_one_persons_page_until_it_is_taken_back(self) -> None:
        me = self.me()
        stranger = self.app.test_client()
        page = self.text(stranger.get(me))
        self.assertIn("Hello Runa", page)
        self.assertNotIn("/p/1", page)
        self.assertEqual(stranger.get(f"{me}x").status_code, 404)
        self.assertEqual(stranger.get(f"/p/{self.pid}/plan").status_code, 302)
        self.post(f"/p/{self.pid}/link", {"act": "revoke"})
        gone = stranger.get(me)
        self.assertEqual(gone.status_code, 404)
        self.assertIn("taken back", self.text(gone))
        self.assertEqual(stranger.post(f"{me}/log", data=json.dumps(self.body())).status_code, 404)
        self.assertEqual(stranger.get(f"{me}/calendar.ics").status_code, 404)

    def test_photographs_only_as_consent_says(self) -> None:
        aid = self.new_assessment()
        self.shot(aid)
        me = self.me()
        stranger = self.app.test_client()
        seen = stranger.get(f"{me}/photo/1.jpg")
        self.assertEqual(seen.status_code, 200)

        def taken_away() -> list[bytes]:
            with zipfile.ZipFile(io.BytesIO(stranger.get(f"{me}/data.zip").data)) as bundle:
                return [bundle.read(n) for n in bundle.namelist() if n.endswith(".jpg")]

        self.assertEqual(taken_away(), [seen.data], "with the face as hidden as on their page")
        preparation.give_consent(
            self.db, self.coach.id, self.pid, given_on=day_ago(6), scope="measure"
        )
        self.assertEqual(taken_away(), [])
        self.assertEqual(stranger.get(f"{me}/photo/1.jpg").status_code, 404)
        preparation.give_consent(
            self.db, self.coach.id, self.pid, given_on=day_ago(6), scope="show"
        )
        for lost in (*self.folder.glob("photos/*/*"), *self.folder.glob("cache/*/*/*")):
            lost.unlink()
        answer = stranger.get(f"{me}/data.zip")
        with zipfile.ZipFile(io.BytesIO(answer.data)) as bundle:
            self.assertEqual(len([n for n in bundle.namelist() if n.endswith("missing.txt")]), 1)
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(5))
        self.assertEqual(stranger.get(f"{me}/photo/1.jpg").status_code, 404)
        self.assertEqual(taken_away(), [])
        other = practitioners.add(self.db, self.coach.id, "Ilo")
        preparation.give_consent(self.db, self.coach.id, other, given_on=day_ago(328), scope="show")
        private_links.make(self.db, self.coach.id, other)
        page = self.text(self.client.get(f"/p/{other}/practice"))
        theirs = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        self.assertEqual(stranger.get(f"{theirs}/photo/1.jpg").status_code, 404)

    def test_the_player_has_everything_it_needs(self) -> None:
        me = self.me()
        page = self.text(self.app.test_client().get(f"{me}/play/0"))
        data = json.loads(page.split('id="play-data">')[1].split("</script>")[0])
        self.assertEqual([i["drill"] for i in data["items"]], self.drills_on(0))
        for item in data["items"]:
            self.assertIn(f'data-figures="{item["drill"]}"', page)
            for other in item["others"].values():
                self.assertIn(other["drill"], data["drills"])
        self.assertEqual(self.app.test_client().get(f"{me}/play/1").status_code, 302)

    def test_less_time_today(self) -> None:
        self.profile(Profile(level=2, minutes=30.0, weekdays=(0,)))
        me = self.me()
        page = self.text(self.app.test_client().get(me))
        self.assertIn("play/0?minutes=10", page)
        full, short = (
            json.loads(
                self.text(self.app.test_client().get(f"{me}/play/0{query}"))
                .split('id="play-data">')[1]
                .split("</script>")[0]
            )
            for query in ("", "?minutes=10")
        )
        seconds = [sum(s["seconds"] for i in x["items"] for s in i["steps"]) for x in (full, short)]
        self.assertLess(seconds[1], 600)
        self.assertGreater(seconds[0], 1200)

    def test_the_calendar(self) -> None:
        practitioners.plan_visit(self.db, self.coach.id, self.pid, ago(-12, "18:00"))
        answer = self.app.test_client().get(f"{self.me()}/calendar.ics")
        self.assertEqual(answer.mimetype, "text/calendar")
        events = {
            str(e["summary"]): e for e in icalendar.Calendar.from_ical(answer.data).walk("VEVENT")
        }
        days = [e for s, e in events.items() if s.startswith("Practice")]
        found = list(icalendar.Calendar.from_ical(answer.data).walk("VEVENT"))
        self.assertEqual(len([e for e in found if "rrule" in e]), 2)
        self.assertTrue(days)
        for e in found:
            if "rrule" in e:
                self.assertIn(e["dtstart"].dt.weekday(), (0, 3))
                self.assertGreaterEqual(e["dtstart"].dt, CLOCK.today())
        self.assertEqual(
            events["Visit to your coach"]["dtstart"].dt, datetime.fromisoformat(ago(-12, "18:00"))
        )
        again = self.app.test_client().get(f"{self.me()}/calendar.ics")
        uids = [
            sorted(str(e["uid"]) for e in icalendar.Calendar.from_ical(a.data).walk("VEVENT"))
            for a in (answer, again)
        ]
        self.assertEqual(uids[0], uids[1])

    def test_their_data(self) -> None:
        self.send(self.body())
        answer = self.app.test_client().get(f"{self.me()}/data.zip")
        with zipfile.ZipFile(io.BytesIO(answer.data)) as bundle:
            self.assertEqual(
                set(bundle.namelist()),
                {
                    "record.json", "practice.json", "ranges.json", "visits.json", "readings.csv",
                    "calendar.ics",
                },
            )  # fmt: skip
            self.assertEqual(json.loads(bundle.read("record.json"))["call_name"], "Runa")
            self.assertEqual(json.loads(bundle.read("practice.json"))[0]["felt"], "right")


class Outbox(Practising):
    def letters(self) -> list[outbox.Letter]:
        return outbox.letters(self.folder / "outbox" / str(self.coach.id))

    def test_a_reminder_is_a_standard_message(self) -> None:
        answer = self.post(f"/p/{self.pid}/remind", {"kind": "practice"})
        self.assertIn("no address", self.text(self.client.get(answer.headers["Location"])))
        wrong = self.post(f"/p/{self.pid}/record", {"call_name": "Runa", "email": "not an address"})
        self.assertIn("does not look like an address", self.text(wrong))
        practitioners.update(self.db, self.coach.id, self.pid, email="runa@quay.example")
        practitioners.plan_visit(self.db, self.coach.id, self.pid, ago(-12, "18:00"))
        self.own_link()
        for kind, subject in (
            ("practice", "Your practice this week"),
            ("visit", f"See you on {written_ago(-12)}"),
        ):
            self.post(f"/p/{self.pid}/remind", {"kind": kind})
            letter = self.letters()[0]
            self.assertEqual((letter.subject, letter.to), (subject, "runa@quay.example"))
            self.assertIn("/me/", letter.text)
        self.assertIn(f"See you on {written_ago(-12)}", self.text(self.client.get("/outbox")))
        raw = self.client.get(f"/outbox/{letter.name}").data
        message = BytesParser(policy=policy.default).parsebytes(raw)
        self.assertEqual([a.get_filename() for a in message.iter_attachments()], ["practice.ics"])
        for name in ("../secret.key", "x.eml", "20261125-000000-000000.eml"):
            self.assertIn(self.client.get(f"/outbox/{name}").status_code, (404, 308))

    def test_what_is_due_is_written_once(self) -> None:
        now = CLOCK.local()

        def person(name: str, visit_days: float | None, email: str = "", link: bool = True) -> int:
            pid = practitioners.add(self.db, self.coach.id, name)
            practitioners.update(self.db, self.coach.id, pid, email=email)
            if visit_days is not None:
                at = (now + timedelta(days=visit_days)).isoformat(timespec="minutes")
                practitioners.plan_visit(self.db, self.coach.id, pid, at)
            if link:
                private_links.make(self.db, self.coach.id, pid)
            return pid

        person("Ilo", 1, "ilo@quay.example")
        person("Tavi", 5, "tavi@quay.example")
        person("Oona", 1)
        person("Merel", -3, "merel@quay.example", link=False)
        busy = person("Sanne", None, "sanne@quay.example")
        at = (now - timedelta(days=2)).isoformat(timespec="seconds")
        entry = practice_log.NewLogEntry(
            once_key="b",
            started_at=at,
            seconds=60,
            felt=practice_log.Felt.RIGHT,
            finished=True,
            done=(),
        )
        practice_log.add(self.db, self.coach.id, busy, entry)
        page = self.text(self.client.get("/outbox"))
        self.assertIn("2 reminders due", page)
        self.post("/outbox")
        written = {(m.to, m.subject.split(" on ")[0]) for m in self.letters()}
        wanted = {("ilo@quay.example", "See you"), ("tavi@quay.example", "Your practice this week")}
        self.assertEqual(written, wanted)
        self.post("/outbox")
        self.assertEqual(len(self.letters()), 2)
        self.assertNotIn("due</h2>", self.text(self.client.get("/outbox")))

    def test_an_outbox_is_its_coachs(self) -> None:
        practitioners.update(self.db, self.coach.id, self.pid, email="runa@quay.example")
        self.post(f"/p/{self.pid}/remind", {"kind": "practice"})
        (mine,) = self.letters()
        accounts.add(self.db, "other@quay.example", "Brannoc", PASSWORD)
        self.client = self.app.test_client()
        self.sign_in("other@quay.example")
        self.assertNotIn("runa@", self.text(self.client.get("/outbox")))
        self.assertEqual(self.client.get(f"/outbox/{mine.name}").status_code, 404)

    def test_a_header_cannot_be_broken(self) -> None:
        with self.assertRaises(ValueError):
            outbox.send(self.folder, "a@b.example\nBcc: c@d.example", "x", "y", at=CLOCK.local())
        self.assertEqual(self.letters(), [])


class Empty(Pages):
    def test_with_nothing_in_it(self) -> None:
        self.sign_in()
        pid = practitioners.add(self.db, self.coach.id, "Merel")
        for path in ("plan", "ladders", "practice", "prepare", "record"):
            self.assertEqual(self.client.get(f"/p/{pid}/{path}").status_code, 200, path)
        self.assertIn("Nothing is logged yet", self.text(self.client.get(f"/p/{pid}/practice")))
        self.assertIn("Nothing was written yet", self.text(self.client.get("/outbox")))
        self.assertIn("screening and clearance", self.text(self.client.get(f"/p/{pid}/plan")))
