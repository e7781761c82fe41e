"""What a careless hand or a hostile one sends, and a form that lay open too long."""

import io
import json
import threading
import time
import unittest
import zipfile
from contextlib import ExitStack

from dachi.photos import ingest
from dachi.store import assessments, practitioners, preparation, unsorted_photos
from dachi.studio.phrases import moment_of
from tests.support import LEG_RAISE, Pages, ago, day_ago, plain_picture


class Careless(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def who(self) -> practitioners.Practitioner:
        found = practitioners.get(self.db, self.coach.id, self.pid)
        assert found is not None
        return found

    def record_form(self) -> dict[str, str]:
        """The record's form as a browser would send it back, untouched."""
        page = self.text(self.client.get(f"/p/{self.pid}/record"))
        was = page.split('name="was" value="')[1].split('"')[0]
        shown = json.loads(was.replace("&#34;", '"').replace("&quot;", '"'))
        return {"was": json.dumps(shown)} | {k: str(v) for k, v in shown.items()}

    def test_an_older_tab_loses_nothing(self) -> None:
        """It erased the height that feeds measurement."""
        practitioners.update(self.db, self.coach.id, self.pid, height_cm=None)
        old = self.record_form()
        practitioners.update(self.db, self.coach.id, self.pid, height_cm=171.0, notes="new")
        self.post(f"/p/{self.pid}/record", old | {"thigh_cm": "42.5"})
        who = self.who()
        self.assertEqual((who.height_cm, who.notes, who.thigh_cm), (171.0, "new", 42.5))
        self.post(f"/p/{self.pid}/record", self.record_form() | {"height_cm": ""})
        self.assertIsNone(self.who().height_cm)

    def test_a_shot_is_not_moved_to_where_it_may_not_be_taken(self) -> None:
        tid = self.shot(mode="active")
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(1), yes=["hip_replacement"]
        )
        answer = self.post(f"/t/{tid}/move", {"move-to": f"{LEG_RAISE}|left|passive|1"})
        self.assertEqual(answer.status_code, 302)
        trial = assessments.trial(self.db, self.coach.id, tid)
        self.assertEqual(trial and trial.mode, "active")
        self.post(f"/t/{tid}/move", {"move-to": f"{LEG_RAISE}|right|active|1"})
        trial = assessments.trial(self.db, self.coach.id, tid)
        self.assertEqual(trial and trial.side, "right")

    def test_of_several_photographs_it_is_said_which_are_in(self) -> None:
        aid = self.new_assessment()
        many = [
            (io.BytesIO(plain_picture(800, 600)), "one.jpg"), (io.BytesIO(b"no picture"), "two.jpg"),
            (io.BytesIO(plain_picture(900, 600)), "three.jpg"),
        ]  # fmt: skip
        form = {"pose": LEG_RAISE, "side": "left", "mode": "passive", "number": "1", "photo": many}
        answer = self.post(
            f"/a/{aid}/photos", form, content_type="multipart/form-data", follow_redirects=True
        )
        self.assertIn(
            "1 of 3 photographs are in. two.jpg: This is not a picture", self.text(answer)
        )
        self.assertEqual(len(assessments.trials(self.db, self.coach.id, aid)), 1)

    def test_a_key_is_for_one_photograph(self) -> None:
        aid = self.new_assessment()
        first = self.upload(aid, plain_picture(800, 600), once_key="k")
        again = self.upload(aid, plain_picture(800, 600), once_key="k")
        self.assertEqual(first.headers["Location"], again.headers["Location"])
        other = self.upload(aid, plain_picture(900, 600), once_key="k", number="2")
        self.assertIn("Another photograph was sent under this key", self.text(other))
        self.assertEqual(len(assessments.trials(self.db, self.coach.id, aid)), 1)

    def test_a_withdrawal_counts_for_the_same_bytes_in_another_tray(self) -> None:
        pid = practitioners.add(self.db, self.coach.id, "Tavi")
        preparation.give_consent(
            self.db, self.coach.id, pid, given_on=day_ago(9), scope="show", faces=True
        )
        own = [self.new_assessment()]
        own.append(assessments.add(self.db, self.coach.id, pid, taken_at=ago(2), warmth="warm"))
        self.shot(own[0])
        (photo,) = self.db.execute("SELECT id FROM photo").fetchone()
        unsorted_photos.add(self.db, self.coach.id, own[1], photo, "x.jpg")
        shown = f"/photo/{photo}/thumb.jpg"
        before = self.client.get(shown).get_data()
        preparation.withdraw_consent(self.db, self.coach.id, pid, day_ago(0))
        self.assertNotEqual(self.client.get(shown).get_data(), before)
        self.assertEqual(self.client.get(shown).headers["Cache-Control"], "no-store")

    def test_odd_times_break_nobodys_pages(self) -> None:
        self.assertEqual(moment_of("2026-11-26T09:30"), moment_of("2026-11-26T09:30:00"))
        self.assertIsNone(moment_of("2026-11-26T09:30+05:00").tzinfo)
        self.post(f"/p/{self.pid}/visit", {"next_visit_at": "2028-03-02T09:30+05:00"})
        self.assertNotIn("+", str(self.who().next_visit_at))
        practitioners.plan_visit(self.db, self.coach.id, self.pid, "2028-03-02T09:30+05:00")
        for path in ("/", "/outbox", f"/p/{self.pid}/plan", f"/p/{self.pid}"):
            self.assertEqual(self.client.get(path).status_code, 200, path)
        answer = self.post(
            f"/p/{self.pid}/assess", {"taken_at": f"{ago(2)}+02:00", "warmth": "warm"}
        )
        self.assertIn(answer.status_code, (302, 422))

    def test_what_no_page_asked_for(self) -> None:
        self.post(f"/p/{self.pid}/record", self.record_form() | {"call_name": "Ru\r\nna\tQuay"})
        self.assertEqual(self.who().call_name, "Ru na Quay")
        self.assertEqual(self.client.get("/outbox").status_code, 200)
        digits, deep = "9" * 5000, "[" * 90_000
        for path, form in (
            (f"/p/{self.pid}/record", self.record_form() | {"birth_year": digits}),
            (f"/p/{self.pid}/record", self.record_form() | {"was": deep, "height_cm": digits}),
            ("/account/sessions", {"session": digits}),
            (f"/p/{self.pid}/assess", {"taken_at": ago(2), "warmth": "warm", "pain-0": digits}),
        ):
            self.assertLess(self.post(path, form).status_code, 500, path)
        for path in (f"/p/{digits}", f"/a/{digits}", f"/p/{self.pid}?pose={deep[:2000]}"):
            self.assertIn(self.client.get(path).status_code, (400, 404), path[:20])
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        if "<code>" not in page:
            self.post(f"/p/{self.pid}/link", {"act": "new"})
            page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        link = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        for body in (deep, digits, "\ud83d".encode("utf-8", "surrogatepass")):
            answer = self.app.test_client().post(f"{link}/log", data=body)
            self.assertIn(answer.status_code, (400, 413, 422), body[:9])

    def test_two_visits_of_a_day_in_the_bundle(self) -> None:
        for at, size in (("09:00", 800), ("15:00", 900)):
            self.upload(self.new_assessment(ago(3, at)), plain_picture(size, 600))
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        link = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        data = self.app.test_client().get(f"{link}/data.zip").get_data()
        with zipfile.ZipFile(io.BytesIO(data)) as found:
            names = [n for n in found.namelist() if n.startswith("photographs/")]
        self.assertEqual(len(names), 2)
        self.assertEqual(len(set(names)), 2)


class Crowd(unittest.TestCase):
    def test_photographs_wait_in_turn(self) -> None:
        """Six of 70 megapixels took 2.5 GB; two at a time are taken in, and many do not wait."""
        with ExitStack() as held:
            for _ in range(ingest.AT_ONCE):
                held.enter_context(ingest.turn())
            with self.assertRaises(ingest.TooMany), ingest.turn(0.01):
                pass
            got: list[bool] = []

            def wait() -> None:
                with ingest.turn():
                    got.append(True)

            threads = [threading.Thread(target=wait) for _ in range(ingest.WAITING)]
            for t in threads:
                t.start()
            deadline = time.monotonic() + 10
            while ingest._QUEUE._value and time.monotonic() < deadline:
                time.sleep(0.01)
            began = time.monotonic()
            with self.assertRaisesRegex(ingest.TooMany, "Send it again in a moment"), ingest.turn():
                pass
            self.assertLess(time.monotonic() - began, 5, "sent away at once")
            self.assertEqual(got, [], "nobody's turn yet")
        for t in threads:
            t.join(10)
        self.assertEqual(len(got), ingest.WAITING)
