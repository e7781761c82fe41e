"""What a week with people this program did not draw stumbled over, page by page."""

import io
import re
import time

from dachi.data import catalogue, screening_questions
from dachi.store import (
    accounts,
    assessments,
    markings,
    messages,
    positions,
    practitioners,
    preparation,
    unsorted_photos,
)
from dachi.studio.verdicts import conclusions
from dachi.studio.visits import sheets
from dachi.studio.visits.allowed import allowed
from tests.support import LEG_RAISE, ago, asked_of, day_ago, plain_picture, rendered
from tests.web.test_day_stumbles import Day
from tests.web.test_progress import History

BUTTERFLY = "butterfly"


class RefusedBefore(Day):
    """A replaced hip without clearance: nothing is asked for that is refused afterwards."""

    def setUp(self) -> None:
        super().setUp()
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(1), yes=["hip_replacement"]
        )

    def test_prepare_sheet_phone_and_upload_say_one_thing(self) -> None:
        may = allowed(self.work, self.pid)
        prepared = self.page(f"/p/{self.pid}/prepare")
        self.assertNotIn("Active shots may be taken", prepared)
        aid = self.open()
        visit = assessments.get(self.db, self.coach.id, aid)
        assert visit is not None
        sheet = self.page(f"/a/{aid}").replace("&#39;", "'")
        for why in may.shut_poses(x.pose for x in self.lines(aid)):
            self.assertIn(why, sheet)
        self.post(f"/a/{aid}/phone", {"act": "new"})
        link = re.search(r"<code>[^<]*?(/c/[^<]+)</code>", self.page(f"/a/{aid}/phone"))
        assert link is not None
        asked = self.app.test_client().get(f"{link[1]}/state").get_json()["order"]
        for row in asked:
            self.assertIsNone(may.refused(catalogue().pose(row["pose"]), row["mode"]), row)
        shut = 0
        for pose in catalogue().poses:
            for mode in pose.modes:
                why = may.refused(pose, mode)
                side = "both" if pose.sides == "both" else "left"
                place = {"pose": pose.id, "side": side, "mode": mode, "number": "1"}
                answer = self.upload(aid, b"no picture", **place)
                said = self.text(answer)
                self.assertEqual(why is not None and why in said.replace("&#39;", "'"), why is not None, place)  # fmt: skip
                shut += why is not None
            if may.no_mode(pose) is not None:
                self.assertIn(pose.name.lower(), prepared)
                self.assertNotIn(pose.id, {x.pose for x in self.lines(aid)})
        self.assertGreater(shut, 10)
        for station in sheets.stations(self.work, visit, []):
            for row in station.rows:
                self.assertFalse(row.refused and list(row.numbers), "no empty place is offered")

    def test_what_was_on_the_sheet_before_is_not_taken_either(self) -> None:
        other = practitioners.add(self.db, self.coach.id, "Bo", birth_year=1990)
        preparation.answer_screening(self.db, self.coach.id, other, answered_on=day_ago(1), yes=[])
        aid = assessments.add(self.db, self.coach.id, other, taken_at=ago(1), warmth="warm")
        visit = assessments.get(self.db, self.coach.id, aid)
        assert visit is not None
        pose = next(p.id for p in catalogue().poses if allowed(self.work, self.pid).no_mode(p))
        self.post(f"/a/{aid}/lines", {"act": "choose", "poses": [pose], "revision": "0"})
        before = sheets.free(sheets.stations(self.work, visit, []))
        preparation.answer_screening(
            self.db, self.coach.id, other, answered_on=day_ago(0), yes=["hip_replacement"]
        )
        self.assertEqual((len(before) > 0, sheets.free(sheets.stations(self.work, visit, []))), (True, []))  # fmt: skip
        page = self.page(f"/a/{aid}?pose={pose}")
        self.assertIn("Not taken: Hip replacement", page)
        self.assertNotIn('id="photo"', page, "nothing to choose a photograph with")

    def test_every_question_has_its_words_on_the_page(self) -> None:
        for question in screening_questions():
            preparation.answer_screening(
                self.db, self.coach.id, self.pid, answered_on=day_ago(0), yes=[question.id]
            )
            page = self.page(f"/p/{self.pid}/prepare")
            for why in allowed(self.work, self.pid).shut_poses():
                self.assertIn(why, page.replace("&#39;", "'"), question.id)


class MixedUp(History):
    def test_passive_under_active_is_asked_about_and_nothing_is_built_on_it(self) -> None:
        aid = self.visit(
            3, {(LEG_RAISE, "left", "active"): [102, 103], (LEG_RAISE, "left", "passive"): [71, 72]}
        )
        for path in (f"/a/{aid}/review", f"/p/{self.pid}?pose={LEG_RAISE}"):
            page = self.text(self.client.get(path))
            self.assertIn("under active, which no body does", page)
            self.assertNotIn("are about the same", page)
        plan = self.text(self.client.get(f"/p/{self.pid}/plan"))
        self.assertNotIn("length comes first", plan)

    def test_one_advice_on_every_page(self) -> None:
        aid = self.visit(3, {(LEG_RAISE, s, m): [v] for s in ("left", "right") for m, v in (("active", 60), ("passive", 72))})  # fmt: skip
        self.text(self.client.get(f"/p/{self.pid}/plan"))
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        advice = conclusions.advise(self.work, who)
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        own = re.search(r"<code>[^<]*?(/me/[^<]+)</code>", self.text(self.client.get(f"/p/{self.pid}/practice")))  # fmt: skip
        assert own is not None
        for path in (f"/a/{aid}/review", f"/p/{self.pid}/plan", own[1], f"{own[1]}/until"):
            self.assertIn(advice.practise, self.text(self.client.get(path)), path)
        if advice.drills:
            self.assertTrue(set(advice.drills))

    def test_with_and_without_the_mat_at_one_visit_the_better_count(self) -> None:
        aid = self.visit(
            3, {(LEG_RAISE, "left", "passive"): [80, 81], (LEG_RAISE, "right", "passive"): [70, 71]}
        )
        for i, trial in enumerate(assessments.trials(self.db, self.coach.id, aid)):
            method = "mat" if trial.side == "left" else "picture"
            self.db.execute(
                "UPDATE reading SET method = ? WHERE marking_id IN"
                " (SELECT id FROM marking WHERE trial_id = ?)",
                (method, trial.id),
            )
            self.assertGreaterEqual(i, 0)
        from dachi.studio.verdicts.summaries import anew, judged

        anew(self.work, [self.pid])
        series = judged(self.work, self.pid, catalogue().pose(LEG_RAISE), "leg_line")
        assert series.conditions is not None
        self.assertIn("mat", series.conditions)

    def test_a_second_visit_is_not_the_first(self) -> None:
        self.visit(30, {(LEG_RAISE, "left", "passive"): [80, 81]})
        aid = self.visit(3, {(BUTTERFLY, "both", "passive"): [12, 13]})
        page = self.text(self.client.get(f"/a/{aid}/review"))
        self.assertNotIn("This is the first time", page)


class WrongPerson(Day):
    def setUp(self) -> None:
        super().setUp()
        self.other = practitioners.add(self.db, self.coach.id, "Bo", birth_year=1990)
        self.to = assessments.add(
            self.db, self.coach.id, self.other, taken_at=ago(1), warmth="warm"
        )

    def agree(self) -> None:
        preparation.give_consent(
            self.db, self.coach.id, self.other, given_on=day_ago(1), scope="show"
        )

    def test_a_photograph_goes_to_whom_it_shows_and_nothing_stays(self) -> None:
        tid = self.shot()
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]) | {"sure": "1"})
        self.assertTrue(markings.history(self.db, self.coach.id, tid))
        self.assertIn("Bo,", self.page(f"/t/{tid}"))
        said = self.text(self.post(f"/t/{tid}/person", {"whose": self.to}, follow_redirects=True))
        self.assertIn("Consent to photographs is not recorded", said, "not of somebody who was not asked")  # fmt: skip
        self.assertIsNotNone(assessments.trial(self.db, self.coach.id, tid))
        self.agree()
        said = self.text(self.post(f"/t/{tid}/person", {"whose": self.to}, follow_redirects=True))
        self.assertIn("Sort 1 photograph", said)
        self.assertIsNone(assessments.trial(self.db, self.coach.id, tid))
        self.assertEqual(self.db.execute("SELECT count(*) FROM marking").fetchone()[0], 0)
        self.assertEqual(len(unsorted_photos.of_assessment(self.db, self.coach.id, self.to)), 1)
        for wrong in ("", "0", "999", "x"):
            self.assertEqual(self.post(f"/t/{tid}/person", {"whose": wrong}).status_code, 404)

    def test_a_folder_that_was_somebody_elses(self) -> None:
        self.agree()
        aid = self.open()
        for n in range(3):
            form = {"photo": (io.BytesIO(plain_picture(640, 480, comment=bytes([n]))), f"{n}.jpg")}  # fmt: skip
            self.post(f"/a/{aid}/tray", form, content_type="multipart/form-data")
        said = self.text(self.post(f"/a/{aid}/tray/person", {"whose": self.to}, follow_redirects=True))  # fmt: skip
        self.assertIn("3 photographs moved here", said)
        self.assertEqual(unsorted_photos.of_assessment(self.db, self.coach.id, aid), [])

    def test_leaving_all_out_is_taken_back(self) -> None:
        aid = self.open()
        form = {"photo": (io.BytesIO(plain_picture(640, 480)), "a.jpg")}
        self.post(f"/a/{aid}/tray", form, content_type="multipart/form-data")
        said = self.text(self.post(f"/a/{aid}/tray/empty", follow_redirects=True))
        self.assertIn(f"/a/{aid}/tray/refill", said, "an Undo beside the message")
        self.post(f"/a/{aid}/tray/refill")
        self.assertEqual(len(unsorted_photos.of_assessment(self.db, self.coach.id, aid)), 1)


class Words(Day):
    def own(self) -> str:
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        found = re.search(r"<code>[^<]*?(/me/[^<]+)</code>", self.page(f"/p/{self.pid}/practice"))
        assert found is not None
        return found[1]

    def test_there_and_back(self) -> None:
        link = self.own()
        phone = self.app.test_client()
        phone.post(f"{link}/words", data={"text": "  "})
        self.assertNotIn("wrote:", self.page("/"), "nothing was said")
        phone.post(f"{link}/words", data={"text": "The <b>left</b> knee is quiet"})
        today = self.page("/")
        self.assertIn("wrote: “The &lt;b&gt;left&lt;/b&gt; knee is quiet”", today)
        self.assertIn("Read and answer", today)
        self.post(f"/p/{self.pid}/words", {"text": "Then lunge again, gently"})
        self.assertNotIn("wrote:", self.page("/"), "read with the answer")
        self.assertIn("not read yet", self.page(f"/p/{self.pid}/practice"))
        self.assertIn("Then lunge again, gently", self.text(phone.get(link)))
        found = messages.of_practitioner(self.db, self.coach.id, self.pid)
        self.assertTrue(all(m.read_at for m in found))
        self.assertNotIn("not read yet", self.page(f"/p/{self.pid}/practice"))
        self.assertEqual(phone.post("/me/nothing/words", data={"text": "x"}).status_code, 404)

    def test_until_next_time(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]) | {"sure": "1"})
        link = self.own()
        self.post(f"/a/{aid}/sign-off", {"agreed": "Lunge, right first", "next_visit_at": "24.12.2028 18:00"})  # fmt: skip
        page = self.text(self.app.test_client().get(f"{link}/until"))
        for words in ("Agreed: Lunge, right first", "24 Dec 2028, 18:00", "The week"):
            self.assertIn(words, page)
        review = self.page(f"/a/{aid}/review")
        self.assertIn(f"{link}/until", review)
        self.assertIn('data-copy="', review)


class OnceOnly(Day):
    def test_the_mat_is_said_once_and_used(self) -> None:
        self.post("/account/mat", {"length_cm": "172,5", "width_cm": "58"})
        aid = self.open()
        place = positions.for_photo(self.db, self.coach.id, aid, "side", "", (1280, 960))
        found = self.db.execute("SELECT * FROM camera_position WHERE id = ?", (place,)).fetchone()
        self.assertEqual((found["mat_length_cm"], found["mat_width_cm"]), (172.5, 58.0))
        for long, wide in (("", "60"), ("60", "180"), ("nan", "61"), ("5", "5")):
            said = self.text(self.post("/account/mat", {"length_cm": long, "width_cm": wide}, follow_redirects=True))  # fmt: skip
            self.assertIn("A mat is", said)

    def test_the_owner_is_led_by_the_steps(self) -> None:
        accounts.add(self.db, "new@quay.example", "Marit", "a few words in a row")
        self.post("/sign-out")
        self.sign_in("new@quay.example", "a few words in a row")
        page = self.page("/")
        for words in ("To your first reading", "say how large it is", "Measure myself"):
            self.assertIn(words, page)

    def test_a_backup_by_a_button(self) -> None:
        said = self.text(self.post("/account/backup", headers={"HX-Request": "true"}))
        key = re.search(r"/account/backup/([\w-]+)", said)
        until = time.monotonic() + 30
        while key is not None and "Backed up just now" not in said and time.monotonic() < until:
            time.sleep(0.1)
            said = self.text(self.client.get(f"/account/backup/{key[1]}"))
        self.assertIn("Backed up just now", said)
        written = list((self.folder.resolve().parent / "backups").glob("dachi-backup-*.zip"))
        self.assertTrue(written)
        for path in written:
            self.assertEqual(path.stat().st_mode & 0o077, 0, "nobody else reads it")
            path.unlink()
        self.assertIn("The last backup", self.page("/account"))

    def test_another_drill_is_searched_by_name(self) -> None:
        plan = self.page(f"/p/{self.pid}/plan")
        found = re.search(rf"/p/{self.pid}/plan/(\d)/([\w-]+)/other", plan)
        assert found is not None
        day, drill = found[1], found[2]
        page = self.page(f"/p/{self.pid}/plan/{day}/{drill}/other?q=butterfly")
        chosen = re.search(rf'value="swap {day} {drill} ([\w-]+)"', page)
        assert chosen is not None
        self.assertNotIn("Pigeon</b>", page)
        self.post(f"/p/{self.pid}/plan/wish", {"do": f"swap {day} {drill} {chosen[1]}"})
        self.assertIn(chosen[1], self.page(f"/p/{self.pid}/plan"))
        self.assertIn("No drill has all of these", self.page(f"/p/{self.pid}/plan/{day}/{drill}/other?q=zeppelin"))  # fmt: skip
        for path in (f"/p/{self.pid}/plan/9/{drill}/other", f"/p/{self.pid}/plan/0/none/other"):
            self.assertEqual(self.client.get(path).status_code, 404)

    def test_a_consent_that_could_not_be_recorded_keeps_what_was_chosen(self) -> None:
        young = practitioners.add(self.db, self.coach.id, "Ebba", birth_year=2015)
        form = {"scope": "teaching", "given_on": day_ago(0), "lasts": "2", "guardian": " "}
        answer = self.post(f"/p/{young}/consent", form)
        page = self.text(answer)
        self.assertEqual(answer.status_code, 422)
        self.assertRegex(page, r'value="teaching" required checked')
        self.assertRegex(page, r'value="2" selected')
        self.assertIn("Nothing is recorded yet", page)

    def test_an_invitation_that_opens_here_only_says_so(self) -> None:
        page = self.text(self.post("/account/coaches/invite", {"name": "Eskil"}))
        self.assertIn("opens on this machine only", page)
        self.assertIn("data-copy", page)

    def test_oneself_refused_keeps_what_was_typed(self) -> None:
        for form, words in (
            ({}, "the year you were born"), ({"birth_year": "1990"}, "Without photographs"),
            ({"birth_year": "1990", "agree": "1"}, "warmed up"),
            ({"birth_year": "2015", "agree": "1", "warmth": "warm"}, "guardian"),
            ({"birth_year": "1990", "agree": "1", "warmth": "warm", "length_cm": "2"}, "A mat is"),
        ):  # fmt: skip
            answer = self.post("/myself", asked_of() | form)
            self.assertEqual(answer.status_code, 422, form)
            self.assertIn(words, self.text(answer))
        self.assertEqual(len(practitioners.listing(self.db, self.coach.id)), 1)
