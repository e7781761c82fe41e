"""Who is let in, for how long, and what a coach can read of it."""

import contextlib
import io
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from dachi.cli import main
from dachi.store import accounts, sessions
from dachi.store.database import StoreError
from dachi.web.app import create_app
from dachi.web.patience import Patience
from tests.support import CLOCK, PASSWORD, Pages

EMAIL = "coach@quay.example"


class Waiting(unittest.TestCase):
    def test_slow_not_shut(self) -> None:
        """Four guesses are free; then 1, 2, 4 … 30 s, by account and source."""
        patience = Patience()
        now = 1000.0
        for _ in range(4):
            self.assertEqual(patience.wait("a@x", "1", now), 0)
            patience.guessed("A@x ", "1", now, right=False)
        waits = []
        for _ in range(7):
            waits.append(patience.wait("a@x", "1", now))
            now += waits[-1]
            self.assertEqual(patience.wait("a@x", "1", now), 0)
            patience.guessed("a@x", "1", now, right=False)
        self.assertEqual(waits, [1, 2, 4, 8, 16, 30, 30])
        for account, source in (("b@x", "1"), ("a@x", "2")):
            self.assertEqual(patience.wait(account, source, now), 0)
        self.assertEqual(patience.wait("a@x", "1", now + 3601), 0)
        patience.guessed("a@x", "1", now, right=True)
        self.assertEqual(patience.wait("a@x", "1", now), 0)

    def test_ever_new_addresses_are_one_crowd(self) -> None:
        """Thirty a minute of all strangers are looked at; who was right before is none."""
        patience, now = Patience(), 1000.0
        patience.guessed("coach@x", "home", now, right=True)
        for n in range(30):
            self.assertEqual(patience.wait("coach@x", f"10.0.0.{n}", now), 0)
            patience.guessed("coach@x", f"10.0.0.{n}", now + n, right=False)
        self.assertEqual(patience.wait("coach@x", "10.0.1.1", now + 30), 30)
        self.assertEqual(patience.wait("other@x", "10.0.1.2", now + 30), 30)
        self.assertEqual(patience.wait("coach@x", "home", now + 30), 0)
        self.assertEqual(patience.wait("coach@x", "10.0.1.1", now + 60), 0, "one is let in again")
        patience.guessed("coach@x", "10.0.1.1", now + 60, right=False)
        self.assertEqual(patience.wait("coach@x", "10.0.1.3", now + 60), 1)

    def test_it_forgets_the_oldest(self) -> None:
        patience = Patience()
        with mock.patch("dachi.web.patience.MOST", 3):
            for n in range(5):
                patience.guessed(f"{n}@x", "1", float(n), right=False)
        self.assertEqual(sorted(patience.wrong), [("2@x", "1"), ("3@x", "1"), ("4@x", "1")])


class Sessions(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def other(self) -> None:
        """Sign in from a second browser, then go on with the first."""
        first, self.client = self.client, self.app.test_client()
        self.sign_in()
        self.second, self.client = self.client, first

    def test_a_copied_cookie_ends_with_the_session(self) -> None:
        cookie = self.client.get_cookie("dachi")
        assert cookie is not None
        thief = self.app.test_client()
        thief.set_cookie("dachi", cookie.value)
        self.assertEqual(thief.get("/").status_code, 200)
        self.post("/sign-out")
        self.assertEqual(thief.get("/").status_code, 302)

    def test_a_new_password_ends_the_others(self) -> None:
        self.other()
        for old, new, words in (
            ("wrong", "a much longer one", "present password is another one"),
            (PASSWORD, "short", "at least 10 characters"),
        ):
            answer = self.post("/account/password", {"old": old, "new": new})
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, self.text(answer))
        self.assertEqual(self.second.get("/").status_code, 200)
        answer = self.post("/account/password", {"old": PASSWORD, "new": "a much longer one"})
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn("The password is changed, and 1 other session ended", page)
        self.assertIn("changed the password", page)
        self.assertEqual(self.second.get("/").status_code, 302)
        self.assertIsNone(accounts.check_password(self.db, EMAIL, PASSWORD)[0])
        self.assertIsNotNone(accounts.check_password(self.db, EMAIL, "a much longer one")[0])

    def test_sessions_are_listed_and_ended(self) -> None:
        self.other()
        mine, theirs = sessions.of_coach(self.db, self.coach.id)[::-1]
        page = self.text(self.client.get("/account"))
        self.assertIn("<b>here</b>", page)
        self.assertEqual(page.count('name="session"'), 1)
        other = accounts.add(self.db, "else@quay.example", "Else", PASSWORD)
        self.assertFalse(sessions.end(self.db, other.id, theirs.id), "another coach's")
        self.post("/account/sessions", {"session": str(theirs.id)})
        self.assertEqual(self.second.get("/").status_code, 302)
        self.other()
        self.post("/account/sessions")
        self.assertEqual([s.id for s in sessions.of_coach(self.db, self.coach.id)], [mine.id])

    def test_wrong_guesses_from_elsewhere_lock_nobody_out(self) -> None:
        """Sixty from anywhere kept the honest coach out for an hour."""
        stranger = self.app.test_client()
        page = stranger.get("/sign-in").get_data(as_text=True)
        token = page.split('name="csrf-token" content="')[1].split('"')[0]
        form = {"email": EMAIL, "password": "guess", "csrf_token": token}
        far = {"REMOTE_ADDR": "10.0.0.66"}
        still = replace(CLOCK, ticks=lambda: 1000.0)
        with mock.patch.dict(self.app.config, CLOCK=still):
            answers = [stranger.post("/sign-in", data=form, environ_base=far) for _ in range(60)]
        self.assertEqual([a.status_code for a in answers[:4]], [422] * 4)
        self.assertEqual({a.status_code for a in answers[5:]}, {429})
        self.assertRegex(answers[-1].get_data(as_text=True), r"wait \d+ s")
        self.post("/sign-out")
        self.assertEqual(self.sign_in().status_code, 302)

    def test_only_under_names_of_this_machine(self) -> None:
        for host, status in (
            ("localhost", 302), ("127.0.0.1:8765", 302), ("192.168.1.20:8766", 302), ("[::1]", 302),
            ("rebound.example", 421), ("127.0.0.1.rebound.example", 421),
        ):  # fmt: skip
            answer = self.app.test_client().get("/", headers={"Host": host})
            self.assertEqual(answer.status_code, status, host)
        with mock.patch.dict("os.environ", {"DACHI_HOSTS": "studio.quay.example"}):
            answer = self.app.test_client().get("/", headers={"Host": "studio.quay.example"})
        self.assertEqual(answer.status_code, 302)

    def test_what_happened_and_how_the_record_is(self) -> None:
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        link = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        for _ in range(2):
            answer = self.app.test_client().get(link)
        self.assertEqual(answer.headers["Cache-Control"], "private, no-store")
        page = self.text(self.client.get("/account"))
        for words in (
            "signed in", "Runa: the private page was opened", "No backup was ever written",
            "All 0 pictures are there", "GB are free",
        ):  # fmt: skip
            self.assertIn(words, page)
        self.assertEqual(page.count("the private page was opened"), 1)

    def test_a_lost_password(self) -> None:
        heard = io.StringIO()
        with contextlib.redirect_stdout(heard), contextlib.redirect_stderr(heard):
            self.assertEqual(main(["account", "nobody@x", "--data", str(self.folder)]), 2)
            self.assertEqual(main(["account", EMAIL.upper(), "--data", str(self.folder)]), 0)
        new = heard.getvalue().strip().rsplit(" ", 1)[1]
        self.assertEqual(self.client.get("/").status_code, 302)
        self.assertIsNotNone(accounts.check_password(self.db, EMAIL, new)[0])

    def test_a_secret_that_can_be_guessed(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            for key in (b"", b"x", b"y" * 31):
                (Path(name) / "secret.key").write_bytes(key)
                with self.assertRaisesRegex(StoreError, "is damaged"):
                    create_app(Path(name), CLOCK)
