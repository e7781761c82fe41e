"""Keys that rotate, an authority that signs for no other, caches, clocks that jump, a full disk."""

import contextlib
import html
import io
import ipaddress
import re
import shutil
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509 import verification

from dachi import reserve
from dachi.cli import main
from dachi.clock import Clock
from dachi.store import assessments, database, goals, practitioners
from dachi.store.database import DiskFull, StoreError, connect
from dachi.studio.duties import Duties
from dachi.studio.record import keeping
from dachi.web import keys, tls
from dachi.web.app import open_on
from tests.support import CLOCK, LEG_RAISE, PASSWORD, Pages, day_ago


class Keys(Pages):
    def link(self) -> str:
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        return "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]

    def test_old_keys_are_read_and_new_ones_sign(self) -> None:
        self.sign_in()
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        old = self.link()
        with contextlib.redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["key", "--data", str(self.folder)]), 0)
        self.assertIn("1 old ones are still read", said.getvalue())
        open_on(self.app, self.folder)
        self.assertEqual(self.client.get("/").status_code, 200, "still signed in")
        self.assertEqual(self.client.get(old).status_code, 200, "an old link opens")
        new = self.link()
        self.assertNotEqual(new, old)
        self.assertEqual(self.client.get(new).status_code, 200)
        with contextlib.redirect_stdout(io.StringIO()):
            main(["key", "--data", str(self.folder), "--only"])
        open_on(self.app, self.folder)
        self.assertEqual(self.client.get("/").status_code, 302)
        for link in (old, new):
            self.assertEqual(self.client.get(link).status_code, 404)

    def test_keys_of_a_folder(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (first,) = keys.read(folder)
            self.assertEqual(keys.read(folder), [first], "made once")
            for count in (2, 3, 4, 4):
                self.assertEqual(keys.rotate(folder), count)
            self.assertNotIn(first, keys.read(folder), "the oldest goes")
            self.assertEqual((folder / "secret.key").stat().st_mode & 0o077, 0)
            raw = bytes(range(200, 232))
            (folder / "secret.key").write_bytes(raw)
            self.assertEqual(keys.read(folder), [raw], "of an earlier Dachi")
            keys.rotate(folder)
            self.assertEqual(keys.read(folder)[0], raw)
            for bad in (b"", b"short", b"abcd\n"):
                (folder / "secret.key").write_bytes(bad)
                with self.subTest(bad), self.assertRaises(StoreError):
                    keys.read(folder)


class Authority(unittest.TestCase):
    """Another library's verifier says for whom the authority may sign."""

    NOW = datetime(2027, 6, 1, tzinfo=UTC)

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.names = ["192.168.1.20", "studio", "studio.local", "127.0.0.1"]
        self.found = tls.self_made(self.folder, self.names, self.NOW)

    def trusts(self, names: list[str], subject: x509.GeneralName) -> bool:
        """Whether a device that trusts the authority takes a certificate it signs for a name."""
        home = self.folder / "tls"
        authority, key = tls._authority(home, self.names, self.NOW)
        other = tls.Certificate(home / "x.pem", home / "x.key")
        tls._leaf(other, authority, key, names, self.NOW)
        leaf = x509.load_pem_x509_certificate(other.cert.read_bytes())
        builder = verification.PolicyBuilder().store(verification.Store([authority]))
        try:
            builder.time(self.NOW).build_server_verifier(subject).verify(leaf, [])  # type: ignore[arg-type]
        except verification.VerificationError:
            return False
        return True

    def test_signs_for_this_machine_and_its_network_only(self) -> None:
        for name, good in (
            ("studio", True), ("studio.local", True), ("192.168.1.20", True), ("10.1.2.3", True),
            ("bank.example", False), ("8.8.8.8", False), ("studio.example", False),
        ):  # fmt: skip
            try:
                subject: x509.GeneralName = x509.IPAddress(ipaddress.ip_address(name))
            except ValueError:
                subject = x509.DNSName(name)
            with self.subTest(name):
                self.assertEqual(self.trusts([name], subject), good)

    def test_one_that_may_sign_for_anybody_is_made_anew(self) -> None:
        first = (self.folder / "tls" / "authority.pem").read_bytes()
        tls.self_made(self.folder, self.names, self.NOW)
        self.assertEqual((self.folder / "tls" / "authority.pem").read_bytes(), first, "kept")
        tls.self_made(self.folder, [*self.names, "10.0.0.9"], self.NOW)
        self.assertEqual((self.folder / "tls" / "authority.pem").read_bytes(), first, "its network")
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Dachi")])
        wide = (
            tls._builder(name, name, key.public_key(), self.NOW, 3650)
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .sign(key, hashes.SHA256())
        )
        home = self.folder / "tls"
        (home / "authority.pem").write_bytes(wide.public_bytes(serialization.Encoding.PEM))
        tls._write_key(home / "authority.key", key)
        tls.self_made(self.folder, self.names, self.NOW)
        made = x509.load_pem_x509_certificate((home / "authority.pem").read_bytes())
        self.assertNotEqual(made.serial_number, wide.serial_number)
        self.assertTrue(tls._may_sign(made, self.names))


class Caches(Pages):
    def test_nothing_of_anybody_is_kept_by_others(self) -> None:
        """Every address, signed in or by link: none says that anybody may keep it."""
        self.sign_in()
        aid = self.new_assessment()
        self.shot(aid)
        practitioners.update(self.db, self.coach.id, self.pid, email="r@quay.example")
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        self.post(f"/p/{self.pid}/remind", {"kind": "practice"})
        letter = next((self.folder / "outbox").rglob("*.eml")).name
        jobs = self.app.extensions["jobs"]
        report = jobs.start(self.coach.id, "r", 1, lambda _: b"%PDF")
        jobs._pool.submit(lambda: None).result()
        asked = 0
        for rule in self.app.url_map.iter_rules():
            if "GET" not in (rule.methods or ()) or rule.endpoint == "static":
                continue
            given = {"pid": self.pid, "aid": aid, "tid": 1, "photo_id": 1, "name": letter, "key": report, "kind": "photo", "weekday": 0, "drill_id": "lizard", "token": "x"}  # fmt: skip
            with self.app.test_request_context():
                path = rule.build({k: given[k] for k in rule.arguments}, append_unknown=False)
            assert path is not None
            answer = self.client.get(path[1] + f"?pose={LEG_RAISE}")
            said = answer.headers.get("Cache-Control", "")
            asked += 1
            with self.subTest(path[1]):
                self.assertNotIn("public", said)
                self.assertRegex(said, r"no-store|private|no-cache")
        self.assertGreater(asked, 50)
        self.assertIn("public", self.client.get("/static/chart.css").headers["Cache-Control"])


class Busy(Pages):
    def test_what_was_filled_in_is_kept_to_be_sent_again(self) -> None:
        """Somebody else holds the lock: 503, and a button that sends the very same."""
        self.sign_in()
        form = {"kind": "note", "text": "a <b>fall", "on_date": day_ago(1)}
        held = connect(self.folder, CLOCK)
        self.addCleanup(held.close)
        with mock.patch.object(database, "WAIT_S", 0.05):
            held.begin(write=True)
            answer = self.post(f"/p/{self.pid}/notes", form)
            held.end(keep=False)
        self.assertEqual(answer.status_code, 503)
        page = self.text(answer)
        self.assertIn("Send it again", page)
        fields = dict(re.findall(r'<input type="hidden" name="([^"]+)" value="([^"]*)">', page.split("<main")[1]))  # fmt: skip
        self.assertEqual(fields["text"], "a &lt;b&gt;fall")
        again = {k: html.unescape(v) for k, v in fields.items()}
        self.assertEqual(self.client.post(f"/p/{self.pid}/notes", data=again).status_code, 302)
        (note,) = goals.notes_of(self.db, self.coach.id, self.pid)
        self.assertEqual(note.text, "a <b>fall")
        with mock.patch.object(database, "WAIT_S", 0.05):
            held.begin(write=True)
            answer = self.post("/account/password", {"old": PASSWORD, "new": "another one, longer"})
            held.end(keep=False)
        self.assertNotIn("another one", self.text(answer), "no password stands in a page")


class Jumps(Pages):
    """The clock a year ahead, and back: copies and what was put away are still there."""

    def at(self, days: float) -> Clock:
        return Clock(lambda: CLOCK.read() + timedelta(days=days), CLOCK.ticks)

    def test_copies_are_never_all_let_go(self) -> None:
        for n in range(20):
            keeping.daily_copy(self.folder, self.at(n - 20))
        home = self.folder / "copies"
        self.assertLessEqual(len(list(home.glob("day-*"))), 16)
        keeping.daily_copy(self.folder, self.at(365))
        left = sorted(p.name for p in home.glob("day-*"))
        self.assertEqual(len(left), keeping.KEEP_LEAST + 1)
        keeping.daily_copy(self.folder, self.at(0))
        self.assertEqual(len(list(home.glob("day-*"))), keeping.KEEP_LEAST + 2)

    def test_what_was_put_away_waits_until_the_clock_is_believed(self) -> None:
        self.sign_in()
        tid = self.shot()
        self.post(f"/t/{tid}/delete")
        there = assessments.trial(self.db, self.coach.id, tid)
        assert there is not None

        def gone(days: float) -> bool:
            duties = Duties(self.folder, self.at(days), looking=False)
            duties.once()
            return assessments.trial(self.db, self.coach.id, tid) is None

        self.assertFalse(gone(0))
        self.assertFalse(gone(29))
        self.assertFalse(gone(29 + 365), "a year ahead at once")
        self.assertFalse(gone(29 + 366))
        self.assertFalse(gone(29), "and back")
        self.assertFalse(gone(31), "is doubted too")
        self.assertTrue(gone(33))

    def test_when_a_clock_is_believed(self) -> None:
        for steps in (
            [(0, True), (1, True), (35.9, True), (37, True)], [(0, True), (40, False), (42.9, False), (43.1, True)],
            [(0, True), (-2, False), (0, False), (1.1, True)],
        ):  # fmt: skip
            with tempfile.TemporaryDirectory() as name:
                for days, said in steps:
                    with self.subTest(steps, at=days):
                        self.assertEqual(keeping.clock_is_trusted(Path(name), self.at(days)), said)


class FullDisk(Pages):
    """No room is left: whoever signs in or erases gets what was put by."""

    def full(self) -> contextlib.AbstractContextManager[object]:
        return mock.patch.object(shutil, "disk_usage", return_value=mock.Mock(free=0))

    def test_room_is_put_by_and_given_once(self) -> None:
        reserve.keep(self.folder)
        path = self.folder / reserve.FILE
        self.assertEqual(path.stat().st_size, reserve.SIZE)
        self.assertGreaterEqual(path.stat().st_blocks * 512, reserve.SIZE, "no file of holes")
        self.assertFalse(reserve.give(self.folder), "there is room")
        with self.full():
            self.client.get("/sign-in")
            self.assertTrue(path.exists(), "looking takes none")
            self.assertEqual(self.sign_in().status_code, 302)
            self.assertFalse(path.exists())
            self.assertFalse(reserve.give(self.folder))
            reserve.keep(self.folder)
            self.assertFalse(path.exists(), "none is put by where there is little")
            self.assertEqual(self.post(f"/p/{self.pid}/erase", {"name": "Runa"}).status_code, 302)
        self.assertEqual(self.client.get(f"/p/{self.pid}").status_code, 404)

    def test_their_own_page_opens(self) -> None:
        self.sign_in()
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        link = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        with mock.patch("dachi.store.happenings.note", side_effect=DiskFull()):
            self.assertEqual(self.app.test_client().get(link).status_code, 200)


if __name__ == "__main__":
    unittest.main()
