"""Several coaches on one copy: invited, reset, closed, people handed over; links that end."""

from datetime import date, timedelta
from unittest import mock

from dachi.store import accounts, assessments, invitations, practitioners, preparation
from dachi.store.database import Conflict
from dachi.studio.record import picture_privacy
from tests.support import CLOCK, Pages, day_ago, rendered

NEW = {"name": "Ikka", "email": "ikka@quay.example", "password": "a long new one"}


class Coaches(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def link(self, path: str, form: dict[str, str]) -> str:
        page = self.text(self.post(path, form))
        return "/join/" + page.split("/join/")[1].split("<")[0]

    def came(self, link: str, **changes: str):
        """Somebody else opens a link and fills it in."""
        client = self.app.test_client()
        page = client.get(link)
        if page.status_code != 200:
            return client, page
        token = page.get_data(as_text=True).split('name="csrf-token" content="')[1].split('"')[0]
        return client, client.post(link, data=NEW | {"csrf_token": token} | changes)

    def joined(self) -> accounts.Coach:
        self.guest, answer = self.came(self.link("/account/coaches/invite", {"name": "Ikka"}))
        self.assertEqual(answer.status_code, 302, answer.get_data(as_text=True))
        found = accounts.by_email(self.db, NEW["email"])
        assert found is not None
        return found

    def test_an_invitation_works_once_and_says_what_is_wrong(self) -> None:
        link = self.link("/account/coaches/invite", {"name": "Ikka"})
        for wrong, words in (
            ({"password": "short"}, "at least 10"), ({"email": "nowhere"}, "needs an @"),
            ({"name": " "}, "Say what"), ({"email": "coach@quay.example"}, "already an account"),
        ):  # fmt: skip
            _, answer = self.came(link, **wrong)
            self.assertIn(words, answer.get_data(as_text=True))
        _, answer = self.came(link)
        self.assertEqual(answer.status_code, 302)
        _, answer = self.came(link)
        self.assertEqual(answer.status_code, 404, "used")
        self.assertFalse(accounts.by_email(self.db, NEW["email"]).owner)  # type: ignore[union-attr]
        late = invitations.make(self.db, self.coach.id, "Late")
        with mock.patch.object(type(CLOCK), "stamp", lambda *_: "2999-01-01T00:00:00.000+00:00"):
            self.assertIsNone(invitations.behind(self.db, late))
        number = invitations.open_ones(self.db, self.coach.id)[0].id
        self.post("/account/coaches/take-back", {"invitation": str(number)})
        self.assertEqual(invitations.open_ones(self.db, self.coach.id), [])

    def test_only_the_owner_lets_in_resets_and_closes(self) -> None:
        guest = self.joined()
        page = self.guest.get("/account/coaches").get_data(as_text=True)
        self.assertNotIn("Let a coach in", page)
        self.assertNotIn("Runa", page)
        token = page.split('name="csrf-token" content="')[1].split('"')[0]
        for path, form in (
            ("invite", {"name": "X"}), ("reset", {"coach": "1"}), ("close", {"coach": "1"}),
            ("take-back", {"invitation": "1"}),
        ):  # fmt: skip
            answer = self.guest.post(f"/account/coaches/{path}", data=form | {"csrf_token": token})
            self.assertEqual(answer.status_code, 403, path)
        with self.assertRaises(Conflict):
            invitations.make(self.db, guest.id, "X")
        for stolen in (
            {"from": str(self.coach.id), "person": str(self.pid), "to": str(guest.id)},
            {"person": str(self.pid), "to": str(self.coach.id)},
        ):
            self.guest.post("/account/coaches/hand-over", data=stolen | {"csrf_token": token})
            self.assertIsNotNone(practitioners.get(self.db, self.coach.id, self.pid))
        self.assertEqual(self.guest.get(f"/p/{self.pid}").status_code, 404)
        self.post("/account/coaches/close", {"coach": str(self.coach.id)})
        self.assertIsNone(accounts.by_id(self.db, self.coach.id).closed_at)  # type: ignore[union-attr]

    def test_closed_is_out_and_a_reset_lets_back_in(self) -> None:
        guest = self.joined()
        self.post("/account/coaches/close", {"coach": str(guest.id)})
        self.assertEqual(self.guest.get("/").status_code, 302)
        self.assertIsNone(accounts.check_password(self.db, NEW["email"], NEW["password"])[0])
        self.post("/account/coaches/close", {"coach": str(guest.id), "act": "open"})
        self.assertIsNotNone(accounts.check_password(self.db, NEW["email"], NEW["password"])[0])
        link = self.link("/account/coaches/reset", {"coach": str(guest.id)})
        newer = self.link("/account/coaches/reset", {"coach": str(guest.id)})
        self.assertEqual(self.came(link)[1].status_code, 404, "a newer one was made")
        _, answer = self.came(newer, password="yet another one")
        self.assertEqual(answer.status_code, 302)
        self.assertIsNotNone(accounts.check_password(self.db, NEW["email"], "yet another one")[0])
        self.assertIsNone(accounts.check_password(self.db, NEW["email"], NEW["password"])[0])

    def test_a_person_goes_on_with_another_coach(self) -> None:
        guest = self.joined()
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        own = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        tid = self.shot()
        sha = self.db.execute("SELECT sha256 FROM photo").fetchone()["sha256"]
        for wrong in (
            {"person": str(self.pid)},
            {"to": str(guest.id)},
            {"person": "9", "to": str(guest.id)},
        ):
            self.post("/account/coaches/hand-over", wrong)
            self.assertIsNotNone(practitioners.get(self.db, self.coach.id, self.pid))
        self.post("/account/coaches/hand-over", {"person": str(self.pid), "to": str(guest.id)})
        self.assertIsNone(practitioners.get(self.db, self.coach.id, self.pid))
        self.assertEqual(self.client.get(f"/t/{tid}").status_code, 404)
        self.assertEqual(self.client.get(own).status_code, 404)
        theirs = practitioners.listing(self.db, guest.id)
        self.assertEqual([x.practitioner.call_name for x in theirs], ["Runa"])
        new = theirs[0].practitioner.id
        visits = assessments.of_practitioner(self.db, guest.id, new)
        shots = assessments.trials(self.db, guest.id, visits[0].id)
        answer = self.guest.get(f"/photos/{shots[0].photo_id}.jpg")
        self.assertIn(answer.status_code, (200, 404))
        self.assertEqual([r["sha256"] for r in self.db.execute("SELECT sha256 FROM photo")], [sha])
        self.assertEqual(self.guest.get(f"/p/{new}").status_code, 200)
        # Back by the owner once the guest has left.
        self.post("/account/coaches/close", {"coach": str(guest.id)})
        self.assertIn("People of Ikka", self.text(self.client.get("/account/coaches")))
        form = {"from": str(guest.id), "person": str(new), "to": str(self.coach.id)}
        self.post("/account/coaches/hand-over", form)
        self.assertEqual(len(practitioners.listing(self.db, self.coach.id)), 1)
        page = self.text(self.client.get("/account"))
        for words in ("a person was handed over to Ikka", "Runa: was handed over by Ikka"):
            self.assertIn(words, page)


class Ending(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def test_a_link_nobody_opens_ends(self) -> None:
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        self.assertIn("not opened yet", page)
        own = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        for used, status in ((179, 200), (181, 404)):
            self.db.execute("UPDATE private_link SET used_at = ?", (CLOCK.stamp(used),))
            self.db.execute("DELETE FROM happening")
            self.assertEqual(self.client.get(own).status_code, status)
            if status == 200:
                page = self.text(self.client.get(f"/p/{self.pid}/practice"))
                self.assertIn("Last opened", page)

    def test_a_consent_ends_and_is_asked_for_again(self) -> None:
        today = date.fromisoformat(day_ago(0))
        self.post(
            f"/p/{self.pid}/consent", {"scope": "show", "given_on": day_ago(340), "lasts": "1"}
        )
        self.assertIn("It ends soon", self.text(self.client.get(f"/p/{self.pid}/prepare")))
        self.assertTrue(picture_privacy.to_themselves(self.work, self.pid))
        self.post(
            f"/p/{self.pid}/consent", {"scope": "show", "given_on": day_ago(366), "lasts": "1"}
        )
        found = preparation.consent(self.db, self.coach.id, self.pid)
        assert found is not None
        self.assertEqual(found.until, (today - timedelta(days=1)).isoformat())
        self.assertFalse(picture_privacy.to_themselves(self.work, self.pid))
        page = self.text(self.client.get(f"/p/{self.pid}/prepare"))
        self.assertIn("ask again", page)
        aid = self.new_assessment()
        answer = self.upload(aid, rendered()[0])
        self.assertEqual(answer.status_code, 422, "no photograph without a consent that holds")
        self.post(f"/p/{self.pid}/consent", {"scope": "show", "given_on": day_ago(0), "lasts": "9"})
        self.assertIn("ask again", self.text(self.client.get(f"/p/{self.pid}/prepare")))
        self.post(f"/p/{self.pid}/consent", {"scope": "show", "given_on": day_ago(0)})
        self.assertNotIn("ask again", self.text(self.client.get(f"/p/{self.pid}/prepare")))
