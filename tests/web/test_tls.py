"""Every page encrypted for the studio's devices; certificates; cookies; clear words on Wi-Fi."""

import http.client
import socket
import ssl
import tempfile
import time
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from cryptography import x509

from dachi import start
from dachi.cli import main
from dachi.clock import Clock
from dachi.store.database import StoreError
from dachi.web import tls
from dachi.web.private_links import Door
from tests.support import CLOCK, PASSWORD, Pages, Studio, free_ports

NOW = datetime(2026, 11, 26, 12, tzinfo=UTC)


class Certificates(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def leaf(self, now: datetime = NOW, *names: str) -> x509.Certificate:
        found = tls.self_made(self.folder, names or ("192.168.7.9", "quay.local"), now)
        return x509.load_pem_x509_certificate(found.cert.read_bytes())

    def test_it_is_kept_and_renewed_when_it_must_be(self) -> None:
        first = self.leaf()
        self.assertEqual(self.leaf(), first, "kept")
        near = NOW + timedelta(days=tls.LEAF_DAYS - tls.RENEW_DAYS - 1)
        self.assertEqual(self.leaf(near), first)
        late = self.leaf(near + timedelta(days=2))
        self.assertNotEqual(late, first, "ends soon")
        moved = self.leaf(near + timedelta(days=2), "10.0.0.4")
        self.assertNotEqual(moved, late, "another address")
        authority = (self.folder / "tls" / "authority.pem").read_bytes()
        (self.folder / "tls" / "studio.pem").write_bytes(b"broken")
        self.assertIsNotNone(self.leaf())
        self.assertEqual((self.folder / "tls" / "authority.pem").read_bytes(), authority)
        for key in ("studio.key", "authority.key"):
            self.assertEqual((self.folder / "tls" / key).stat().st_mode & 0o077, 0, key)

    def test_one_that_is_brought_along_must_be_one(self) -> None:
        made = tls.self_made(self.folder, ["studio.quay.example"], NOW)
        self.assertEqual(tls.own(made.cert, made.key).authority, None)
        self.assertEqual(tls.names_in(made.cert), ["studio.quay.example"])
        other = self.folder / "other.key"
        other.write_bytes((self.folder / "tls" / "authority.key").read_bytes())
        for cert, key in (
            (made.cert, other),
            (self.folder / "none", made.key),
            (made.key, made.key),
        ):
            with self.assertRaises(StoreError):
                tls.own(cert, key)
        with mock.patch("sys.stderr"), mock.patch.object(start, "_open_door"):
            args = ["serve", "--data", str(self.folder / "d"), "--port", str(free_ports()[0])]
            studio = ["--studio", str(free_ports()[0]), "--cert", str(made.cert)]
            self.assertEqual(main([*args, *studio]), 2)


class Encrypted(Studio):
    def setUp(self) -> None:
        super().setUp()
        self.found = tls.self_made(self.folder, ["127.0.0.1", "quay.local"], Clock().read())
        self.port = free_ports()[0]
        self.app.config.update(
            STUDIO=f"https://127.0.0.1:{self.port}",
            STUDIO_OWN=False,
            AUTHORITY=self.found.authority,
        )
        tls.listen(self.app, self.found, self.port, host="127.0.0.1", most=1 << 20)
        self.trusting = ssl.create_default_context(cafile=str(self.found.authority))
        for _ in range(100):
            try:
                socket.create_connection(("127.0.0.1", self.port)).close()
                break
            except OSError:
                time.sleep(0.05)

    def ask(
        self, method: str, path: str, body: str = "", **headers: str
    ) -> tuple[int, http.client.HTTPMessage, str]:
        link = http.client.HTTPSConnection(
            "127.0.0.1", self.port, context=self.trusting, timeout=20
        )
        link.request(method, path, body or None, headers)
        answer = link.getresponse()
        text = answer.read().decode("utf-8", "replace")
        link.close()
        return answer.status, answer.headers, text

    def test_a_device_that_trusts_it_signs_in_and_its_cookie_stays_encrypted(self) -> None:
        status, headers, page = self.ask("GET", "/sign-in")
        self.assertEqual(status, 200)
        self.assertNotIn("in the clear", page)
        token = page.split('name="csrf-token" content="')[1].split('"')[0]
        cookie = headers["Set-Cookie"]
        self.assertIn("Secure", cookie)
        form = (
            f"email=coach%40quay.example&password={PASSWORD.replace(' ', '+')}&csrf_token={token}"
        )
        status, headers, _ = self.ask(
            "POST", "/sign-in", form, Cookie=cookie.split(";")[0],
            Referer=f"https://127.0.0.1:{self.port}/sign-in",
            **{"Content-Type": "application/x-www-form-urlencoded"},
        )  # fmt: skip
        self.assertEqual((status, headers["Location"]), (302, "/"))
        status, _, page = self.ask("GET", "/", Cookie=headers["Set-Cookie"].split(";")[0])
        self.assertIn("Runa", page)
        status, *_ = self.ask("GET", "/", Host="rebound.example")
        self.assertEqual(status, 421)

    def test_who_does_not_trust_it_is_warned_and_silence_keeps_nobody_out(self) -> None:
        with self.assertRaises(ssl.SSLCertVerificationError):
            ssl.create_default_context().wrap_socket(
                socket.create_connection(("127.0.0.1", self.port)), server_hostname="127.0.0.1"
            )
        silent = [socket.create_connection(("127.0.0.1", self.port)) for _ in range(150)]
        began = time.monotonic()
        self.assertEqual(self.ask("GET", "/sign-in")[0], 200)
        self.assertLess(time.monotonic() - began, 5.0)
        for one in silent:
            one.close()
        self.assertIn(self.ask("POST", "/sign-in", "x" * (2 << 20))[0], (400, 413))


class Words(Pages):
    def test_where_the_wifi_is_plain_it_is_said(self) -> None:
        far = {"REMOTE_ADDR": "192.168.7.30"}
        plain = self.client.get("/sign-in", environ_base=far)
        self.assertIn("in the clear", self.text(plain))
        self.assertIn("--studio", self.text(plain))
        self.assertNotIn("in the clear", self.text(self.client.get("/sign-in")))
        self.app.config["STUDIO"] = "https://192.168.7.9:8767"
        page = self.text(self.client.get("/sign-in", environ_base=far))
        self.assertIn("https://192.168.7.9:8767/", page)

    def test_the_first_account_is_made_on_the_machine_itself(self) -> None:
        with mock.patch("dachi.studio.records.any_coach", return_value=False):
            far = self.client.get("/welcome", environ_base={"REMOTE_ADDR": "192.168.7.30"})
            self.assertEqual(far.status_code, 403)
            self.assertIn("on the machine that Dachi runs on", self.text(far))
            self.assertEqual(self.client.get("/welcome").status_code, 200)

    def test_links_and_the_way_to_trust(self) -> None:
        self.assertEqual(self.client.get("/trust").status_code, 404, "not started for it")
        found = tls.self_made(self.folder, ["192.168.7.9"], CLOCK.read())
        studio = "https://192.168.7.9:8767"
        self.app.config.update(
            STUDIO=studio, STUDIO_OWN=False, AUTHORITY=found.authority, DOOR_PORT=8766
        )
        assert found.authority is not None
        page = self.text(self.client.get("/trust"))
        self.assertIn(tls.fingerprint(found.authority), page.replace("<wbr>", ""))
        data = self.client.get("/trust/dachi.crt").get_data()
        kept = x509.load_pem_x509_certificate(found.authority.read_bytes())
        self.assertEqual(x509.load_der_x509_certificate(data), kept)
        for path, status in (("/trust", 200), ("/sw.js", 200), ("/account", 404), ("/join/x", 404)):
            seen: list[str] = []
            environ = {"PATH_INFO": path, "REQUEST_METHOD": "GET", "SERVER_NAME": "localhost", "SERVER_PORT": "1",
                       "wsgi.url_scheme": "http", "wsgi.input": None, "wsgi.errors": None, "REMOTE_ADDR": "1.1.1.1"}  # fmt: skip
            sent = Door(self.app)(environ, lambda s, h, e=None, seen=seen: seen.append(s))
            getattr(sent, "close", list)()
            self.assertEqual(int(seen[0].split()[0]), status, path)
        self.sign_in()
        invited = self.text(self.post("/account/coaches/invite", {"name": "Ikka"}))
        self.assertIn(f"{studio}/join/", invited, "their own device is to reach it")
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        self.assertIn(f"{studio}/me/", page)
        self.assertIn(":8766/me/", page)
        self.app.config["STUDIO_OWN"] = True
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        self.assertIn(f"<code>{studio}/me/", page)
        self.assertNotIn(":8766/me/", page)
