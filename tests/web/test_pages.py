"""Pages through the test client: who gets in, what is refused and how it is said."""

import io
import os
import re
import unittest
from pathlib import Path

from dachi.core.measuring.scene import SceneError
from dachi.data import catalogue
from dachi.store import accounts, practitioners
from dachi.studio.bench.drafts import read_form
from dachi.web.app import open_on
from dachi.web.page_help import HELP
from dachi.web.security import safe_path
from tests.support import LEG_RAISE, Pages, plain_picture, rendered


class Door(Pages):
    def test_every_room_asks_to_sign_in(self) -> None:
        shut = [
            r.rule
            for r in self.app.url_map.iter_rules()
            if r.endpoint not in ("static", "accounts.sign_in", "accounts.first", "accounts.theme")
            and not r.rule.startswith(("/c/", "/me/", "/join/", "/trust", "/sw.js"))
        ]
        self.assertGreater(len(shut), 15)
        for rule in shut:
            path = re.sub(r"<[^>]*kind>", "thumb", re.sub(r"<int:\w+>", "1", rule))
            methods = next(r for r in self.app.url_map.iter_rules() if r.rule == rule).methods
            answer = self.client.open(path, method="GET" if "GET" in methods else "POST")
            with self.subTest(rule):
                self.assertEqual(answer.status_code, 302)
                self.assertIn("/sign-in", answer.headers["Location"])

    def test_signing_in(self) -> None:
        self.assertEqual(self.sign_in(password="wrong password").status_code, 422)
        self.assertEqual(self.sign_in(email="nobody@quay.example").status_code, 422)
        answer = self.sign_in()
        self.assertEqual(answer.headers["Location"], "/")
        cookie = next(c for c in answer.headers.getlist("Set-Cookie") if c.startswith("dachi="))
        self.assertIn("HttpOnly", cookie)
        self.assertIn("SameSite=Lax", cookie)
        self.assertEqual(self.client.get("/").status_code, 200)

    def test_guessing_passwords_is_slowed(self) -> None:
        codes = [self.sign_in(password=f"guess number {i}").status_code for i in range(12)]
        self.assertEqual(codes[:4], [422] * 4)
        self.assertEqual(codes[4:], [429] * 8)

    def test_a_form_without_its_token_is_refused(self) -> None:
        self.sign_in()
        answer = self.client.post("/practitioners/new", data={"call_name": "Tavi"})
        self.assertEqual(answer.status_code, 400)
        self.assertIn("open too long", self.text(answer))
        self.assertEqual(len(practitioners.listing(self.db, self.coach.id)), 1)

    def test_headers(self) -> None:
        answer = self.client.get("/sign-in")
        policy = answer.headers["Content-Security-Policy"]
        self.assertIn("default-src 'self'", policy)
        self.assertNotIn("unsafe", policy)
        self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")
        page = self.text(answer)
        self.assertEqual(re.findall(r"<script(?![^>]*src=)|\son\w+=|\sstyle=", page), [])

    def test_way_back_stays_here(self) -> None:
        with self.app.test_request_context():
            for given, path in (
                ("/t/4?x=1", "/t/4?x=1"), ("https://evil.example/t/4", "/t/4"),
                ("//evil.example", "/"), ("javascript:alert(1)", "/"), ("/\\evil", "/"), (None, "/"),
            ):  # fmt: skip
                self.assertEqual(safe_path(given), path, given)

    def test_another_coach_finds_nothing(self) -> None:
        self.sign_in()
        aid = self.new_assessment()
        tid = int(self.upload(aid, rendered()[0]).headers["Location"].rsplit("/", 1)[1])
        accounts.add(self.db, "other@quay.example", "Oska", "another long password")
        self.post("/sign-out")
        self.sign_in("other@quay.example", "another long password")
        for path in (f"/p/{self.pid}", f"/p/{self.pid}/record", f"/a/{aid}", f"/t/{tid}",
                     f"/t/{tid}/history", "/photo/1/photo.jpg"):  # fmt: skip
            self.assertEqual(self.client.get(path).status_code, 404, path)
        for path in (f"/t/{tid}/save", f"/t/{tid}/delete", f"/a/{aid}/photos", f"/t/{tid}/read"):
            self.assertEqual(self.post(path).status_code, 404, path)


class Work(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def test_records_are_checked(self) -> None:
        for field, value, words in (
            ("call_name", " ", "Say what to call them"), ("height_cm", "tall", "must be a number"),
            ("birth_year", "1066", "between 1900"), ("thigh_cm", "400", "between 25 and 65"),
        ):  # fmt: skip
            answer = self.post("/practitioners/new", {"call_name": "Tavi"} | {field: value})
            with self.subTest(field):
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, self.text(answer))
                if field != "call_name":
                    self.assertIn(f'value="{value}"', self.text(answer))
        self.assertEqual(len(practitioners.listing(self.db, self.coach.id)), 1)

    def test_assessments_are_checked(self) -> None:
        for at, words in (("", "Give the date"), ("2093-01-01T10:00", "future")):
            answer = self.post(f"/p/{self.pid}/assess", {"taken_at": at, "warmth": "warm"})
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, self.text(answer))

    def test_files_that_are_no_photograph(self) -> None:
        aid = self.new_assessment()
        for data, words in (
            (b"", "file is empty"),
            (b"plain words", "not a picture"),
            (plain_picture()[:3000], "damaged or cut short"),
            (b"\xff\xd8" + b"\0" * 53_000_000, "53 MB"),
        ):
            answer = self.upload(aid, data)
            with self.subTest(words):
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, self.text(answer))
        self.assertEqual(self.upload(aid, b"\0" * 60_000_000).status_code, 413)
        self.assertIn("Choose a photograph", self.text(self.upload(aid, b"x", name="")))
        self.assertEqual(self.db.execute("SELECT count(*) FROM photo").fetchone()[0], 0)

    def test_the_same_photograph_twice(self) -> None:
        aid = self.new_assessment()
        self.shot(aid)
        answer = self.upload(aid, rendered()[0], number="2")
        self.assertEqual(answer.status_code, 422)
        self.assertIn(
            "already there: Runa, Supine leg raise, left passive, trial 1", self.text(answer)
        )

    def test_a_double_click_on_upload_is_one_trial(self) -> None:
        aid = self.new_assessment()
        first = self.shot(aid, once_key="click")
        self.assertEqual(first, self.shot(aid, once_key="click"))

    def test_a_taken_place(self) -> None:
        aid = self.new_assessment()
        self.shot(aid)
        answer = self.upload(aid, plain_picture())
        self.assertIn("already has a photograph", self.text(answer))

    def test_reading_follows_the_marks(self) -> None:
        tid = self.shot()
        _, truth = rendered()
        page = self.text(self.post(f"/t/{tid}/read", self.marks_form(truth)))
        value = float(re.search(r'data-measure="leg_line" data-value="([\d.]+)"', page)[1])
        self.assertAlmostEqual(value, truth["true_value_deg"], delta=1.0)
        self.assertIn("fan-rim", page)
        self.assertIn("Camera turned 9°", page)

    def test_marks_that_cannot_be(self) -> None:
        tid = self.shot()
        _, truth = rendered()
        good = self.marks_form(truth)
        knee = {"mark-knee-x": good["mark-hip-x"], "mark-knee-y": good["mark-hip-y"]}
        for changes, words in (
            ({"mark-knee-x": "-40"}, "outside the picture"),
            (knee, "on the same spot"),
            ({"mark-knee-x": "", "mark-ankle-y": ""}, "Still to mark: raised knee, raised ankle"),
            ({"mark-knee-x": "elbow"}, "is not a number"),
            ({"mark-knee-x": "nan"}, "is not a number"),
            ({"corner-far_left-x": good["corner-near_left-x"],
              "corner-far_left-y": good["corner-near_left-y"]}, "same spot"),
        ):  # fmt: skip
            answer = self.post(f"/t/{tid}/read", good | changes)
            with self.subTest(words):
                self.assertIn(words, self.text(answer))
            self.assertEqual(self.post(f"/t/{tid}/save", good | changes).status_code, 302)
            self.assertIn("Not saved", self.text(self.client.get(f"/t/{tid}")))
        self.assertEqual(self.db.execute("SELECT count(*) FROM marking").fetchone()[0], 0)

    def test_a_guess_is_not_a_marking(self) -> None:
        tid = self.shot()
        _, truth = rendered()
        self.post(f"/t/{tid}/save", self.marks_form(truth) | {"mark-hip-state": "guess"})
        page = self.text(self.client.get(f"/t/{tid}"))
        self.assertIn("still at the starting guess: hip", page)

    def test_save_correct_history_and_chart(self) -> None:
        tid = self.shot()
        _, truth = rendered()
        form = self.marks_form(truth)
        # The sheet has more to photograph: the bench stays, and offers the next shot.
        self.assertIn(f"/t/{tid}?kept", self.post(f"/t/{tid}/save", form).headers["Location"])
        self.assertIn('id="next-shot"', self.text(self.client.get(f"/t/{tid}")))
        moved = form | {"mark-shoulder-x": form["mark-shoulder-x"] + 30, "seen": "1"}
        self.post(f"/t/{tid}/save", moved)
        stale = self.post(f"/t/{tid}/save", form, follow_redirects=True)
        self.assertIn("Somebody marked this photograph", self.text(stale))
        page = self.text(self.client.get(f"/t/{tid}/history"))
        self.assertEqual(page.count("by hand"), 2)
        chart = self.text(self.client.get(f"/p/{self.pid}?pose={LEG_RAISE}"))
        self.assertEqual(chart.count('class="c-ring '), 1)
        self.assertIn("has one assessment so far", chart)

    def test_a_reason_keeps_a_retake(self) -> None:
        tid = self.shot()
        _, truth = rendered()
        form = self.marks_form(truth)
        bent = form | {"mark-ankle-x": form["mark-ankle-x"] + 90}
        self.post(f"/t/{tid}/save", bent)
        self.assertIn("c-hollow", self.text(self.client.get(f"/p/{self.pid}?pose={LEG_RAISE}")))
        self.post(f"/t/{tid}/save", bent | {"seen": "1", "overrule_reason": "old knee injury"})
        page = self.text(self.client.get(f"/p/{self.pid}?pose={LEG_RAISE}"))
        self.assertIn('class="c-ring ', page)
        self.assertNotIn("c-hollow", page)

    def test_delete_and_restore(self) -> None:
        tid = self.shot()
        page = self.text(self.post(f"/t/{tid}/delete", follow_redirects=True))
        self.assertIn("Undo", page)
        self.assertNotIn('class="shot"', page)
        page = self.text(self.post(f"/t/{tid}/restore", follow_redirects=True))
        self.assertIn('class="shot"', page)

    def test_the_simulated_camera(self) -> None:
        aid = self.new_assessment()
        place = {"pose": LEG_RAISE, "side": "right", "mode": "active", "number": "1"}
        shot = {"angle": "70", "yaw": "5", "height": "60", "scatter": "0"}
        for changes, words in (
            ({"angle": "900"}, "takes angle from"), ({"yaw": "x"}, "needs a number for yaw"),
        ):  # fmt: skip
            answer = self.post(f"/a/{aid}/simulate", place | shot | changes)
            self.assertIn(words, self.text(answer))
        answer = self.post(f"/a/{aid}/simulate", place | shot)
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn("True leg above the floor: 70.0°", page)
        with self.client.get("/photo/1/preview.jpg") as picture:
            self.assertEqual(picture.content_type, "image/jpeg")

    def test_the_camera_was_moved(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        second = self.shot_of(aid, 70.0)
        page = self.text(self.client.get(f"/t/{second}"))
        self.assertIn(
            "The mat&#39;s corners are those of left passive, trial 1, drawn dotted here", page
        )
        self.post(f"/t/{second}/camera-moved")
        self.assertNotIn("drawn dotted", self.text(self.client.get(f"/t/{second}")))
        answer = self.post(f"/t/{second}/camera-same", follow_redirects=True)
        self.assertIn("shares the mat corners", self.text(answer))
        self.assertIn("drawn dotted here", self.text(self.client.get(f"/t/{second}")))
        answer = self.post(f"/t/{tid}/camera-same", follow_redirects=True)
        self.assertIn("no earlier photograph", self.text(answer))

    def test_another_pose_is_another_position_of_the_camera(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        answer = self.upload(aid, plain_picture(1280, 960), pose="front-split")
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertNotIn("drawn dotted", page)
        self.assertIn("camera as for the photo before", page)

    def test_stickers_are_proposed_and_saved_as_such(self) -> None:
        aid = self.new_assessment()
        data, truth = rendered(stickers=True)
        tid = int(self.upload(aid, data).headers["Location"].rsplit("/", 1)[1])
        answer = self.post(f"/t/{tid}/stickers", {"seen": "0"}, follow_redirects=True)
        self.assertIn("Pick the sticker", self.text(answer))
        wall = {"pick-x": "60", "pick-y": "60"}
        answer = self.post(f"/t/{tid}/stickers", wall, follow_redirects=True)
        self.assertIn("hardly any colour", self.text(answer))
        x, y = truth["marks_px"]["knee"]
        answer = self.post(f"/t/{tid}/stickers", {"pick-x": x, "pick-y": y}, follow_redirects=True)
        page = self.text(answer)
        self.assertRegex(page, r"[678] stickers found")
        self.assertIn('name="mark-knee-state" value="sticker"', page)
        again = self.text(self.post(f"/t/{tid}/stickers", follow_redirects=True))
        self.assertRegex(again, r"[678] stickers found")
        form = dict(re.findall(r'name="(mark-[^"]+|corner-[^"]+)" value="([^"]*)"', page))
        self.assertAlmostEqual(float(form["mark-knee-x"]), x, delta=2)
        form = {k: "placed" if v == "guess" else v for k, v in form.items()}
        corners = self.marks_form(truth)
        form |= {k: v for k, v in corners.items() if k.startswith(("corner", "mat", "seen"))}
        self.post(f"/t/{tid}/save", form)
        row = self.db.execute("SELECT author, mark_sds FROM marking").fetchone()
        self.assertEqual(row["author"], "sticker")
        self.assertIn('"knee": 1.0', row["mark_sds"])
        page = self.text(self.client.get(f"/p/{self.pid}?pose={LEG_RAISE}"))
        value = float(re.search(r'data-value="([\d.]+)"', page)[1])
        self.assertAlmostEqual(value, truth["true_value_deg"], delta=1.0)

    def test_marks_go_out_and_come_in_as_coco(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        _, truth = rendered()
        self.post(f"/t/{tid}/save", self.marks_form(truth))
        answer = self.client.get(f"/a/{aid}/marks.coco.json")
        self.assertEqual(answer.json["categories"][0]["name"], LEG_RAISE)
        second = self.shot_of(aid, 70.0)

        def send(data: bytes, name: str = "marks.json") -> str:
            form = {"coco": (io.BytesIO(data), name)}
            path, kind = f"/t/{second}/coco", "multipart/form-data"
            return self.text(self.post(path, form, content_type=kind, follow_redirects=True))

        self.assertIn("6 marks read from the file", send(answer.data))
        page = self.text(self.client.get(f"/t/{second}"))
        self.assertIn(f'name="mark-hip-x" value="{truth["marks_px"]["hip"][0]}', page)
        self.assertIn('data-guesses="6"', page)
        self.assertIn("does not hold COCO", send(b"[1"))
        self.assertIn("Choose a COCO", send(b"", ""))

    def shot_of(self, aid: int, value: float) -> int:
        answer = self.upload(aid, rendered("left", value, 4)[0], number="2")
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def stored(self) -> list[float]:
        """Stored readings of every marking: they follow what calibrates them."""
        rows = self.db.execute("SELECT value FROM reading ORDER BY marking_id, measure")
        return [r["value"] for r in rows]

    def test_a_mat_needs_a_believable_size(self) -> None:
        tid = self.shot()
        for length, width, words in (("61", "183", "length first"), ("x", "", "length first")):
            page = self.post(
                f"/t/{tid}/mat", {"length_cm": length, "width_cm": width}, follow_redirects=True
            )
            self.assertIn(words, self.text(page))
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        before = self.stored()
        self.post(f"/t/{tid}/mat", {"length_cm": "180", "width_cm": "66"})
        self.assertNotEqual(self.stored(), before)
        self.assertIn('name="length_cm" value="180.0"', self.text(self.client.get(f"/t/{tid}")))

    def test_wrong_addresses(self) -> None:
        for path in ("/p/999", "/a/999", "/t/999", f"/p/{self.pid}?pose=handstand", "/nowhere"):
            answer = self.client.get(path)
            self.assertEqual(answer.status_code, 404, path)
            self.assertIn("There is no such page", self.text(answer))


class Empty(Pages):
    def setUp(self) -> None:
        super().setUp()
        for table in ("consent", "screening", "practitioner", "coach"):
            self.db.execute(f"DELETE FROM {table}")

    def test_the_first_account(self) -> None:
        self.assertEqual(self.client.get("/", follow_redirects=True).request.path, "/welcome")
        good = {"name": "Wenna", "email": "w@quay.example", "password": "long enough words"}
        for field, value, words in (
            ("name", "", "Say what"), ("email", "nobody", "needs an @"),
            ("password", "short", "at least 10"),
        ):  # fmt: skip
            answer = self.post("/welcome", good | {field: value})
            self.assertIn(words, self.text(answer))
        answer = self.post("/welcome", good, follow_redirects=True)
        self.assertIn("Welcome, Wenna", self.text(answer))
        self.assertEqual(self.client.get("/welcome").status_code, 302)
        page = self.text(self.client.get("/"))
        self.assertIn("To your first reading", page)


class Forms(unittest.TestCase):
    def test_commas_and_absent_marks(self) -> None:
        pose = catalogue().pose(LEG_RAISE)
        marking, guesses = read_form(
            {"mark-hip-x": "10,5", "mark-hip-y": "20", "mark-asis-x": "1", "mark-asis-y": "2",
             "mark-asis-state": "absent", "mark-knee-x": "3", "mark-knee-y": "4",
             "mark-knee-state": "guess"}, pose)  # fmt: skip
        self.assertEqual(marking.marks, {"hip": (10.5, 20.0), "knee": (3.0, 4.0)})
        self.assertEqual(guesses, {"knee"})
        with self.assertRaises(SceneError):
            read_form({"mark-hip-x": "inf", "mark-hip-y": "1"}, pose)


class RelativeFolder(Pages):
    def test_pictures_are_found_in_a_folder_named_from_here(self) -> None:
        """The shipped default is relative: what serves files must not look elsewhere for it."""
        before = Path.cwd()
        self.addCleanup(os.chdir, before)
        os.chdir(self.folder.parent)
        open_on(self.app, Path(self.folder.name))
        self.client = self.app.test_client()
        self.sign_in()
        tid = self.shot()
        for address in (f"/t/{tid}/preview.jpg", f"/t/{tid}/bench.jpg", "/photo/1/thumb.jpg"):
            self.assertEqual(self.client.get(address).status_code, 200, address)


class Help(Pages):
    """Every page of the coach's says in a sentence what it is for."""

    #: Keys instead of a sentence, parts of pages, files, and pages without a coach.
    WITHOUT = re.compile(
        r"bench\.(page|marks|looked|assessment_coco)|own\.|phone\.(capture|state)|play\.|pictures\.|trust\."
        r"|moving\.|backups\.|today\.jump|accounts\.(first|sign_in)|coaches\.join|letters\.letter|cards\.sheets"
        r"|assessments\.run|progress\.(chart|readings)_file|report\.(fetch|state)|static"
    )

    def test_every_page_has_one(self) -> None:
        shown = {
            rule.endpoint
            for rule in self.app.url_map.iter_rules()
            if "GET" in (rule.methods or ()) and not self.WITHOUT.match(rule.endpoint)
        }
        self.assertEqual(shown, set(HELP))
        for words in HELP.values():
            self.assertTrue(30 < len(words) < 220 and words.endswith("."), words)

    def test_it_is_on_the_page_for_a_coach_only(self) -> None:
        self.assertNotIn('id="help"', self.text(self.client.get("/sign-in")))
        self.sign_in()
        page = self.text(self.client.get("/"))
        self.assertIn(HELP["today.page"].split(".")[0], page)
        self.assertIn('id="help-open"', page)
