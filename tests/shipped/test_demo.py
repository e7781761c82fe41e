"""The shipped command in an exported tree, with its own default folder: every address answers."""

import http.client
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections import deque
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import urldefrag, urlencode, urljoin, urlsplit

from tests import slow
from tests.browser.chromium import the_browser
from tests.support import free_ports

ROOT = Path(__file__).parents[2]
#: Addresses followed at most; the demo has some three thousand.
MOST = 6000
FOLLOWED = ("href", "src", "hx-get", "xlink:href", "data-src", "poster")
MAIN_PAGES = (
    "/", "/practitioners/new", "/drills", "/outbox", "/p/1", "/p/1?pose=front-split",
    "/p/1/compare?pose=front-split", "/p/1/prepare", "/p/1/assess", "/p/1/plan", "/p/1/practice",
    "/p/1/ladders", "/p/1/record", "/a/1", "/a/1/review", "/a/1/phone", "/t/1",
)  # fmt: skip


class Links(HTMLParser):
    """Every address a page asks for or offers."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found += [value for name, value in attrs if name in FOLLOWED and value]


def export(target: Path) -> None:
    """Copy what git would hand out: tracked files and new ones that are not ignored."""
    listed = subprocess.run(
        ["git", "ls-files", "-z", "-co", "--exclude-standard"],
        cwd=ROOT,
        check=True,
        capture_output=True,
    ).stdout.decode()
    for name in filter(None, listed.split("\0")):
        source = ROOT / name
        if source.is_file() and not name.startswith(("tests/", "docs/")):
            (target / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(source, target / name)


class Visitor:
    """Asks for addresses on the two ports of the program, with a cookie on the coach's own."""

    def __init__(self, port: int, door: int) -> None:
        self.port, self.door = port, door
        self.cookies: dict[str, str] = {}

    def own(self, address: str) -> tuple[int, str] | None:
        """Port and path of an address that the program serves; None for any other."""
        parts = urlsplit(address)
        if parts.scheme != "http" or parts.port not in (self.port, self.door):
            return None
        return parts.port, parts.path + (f"?{parts.query}" if parts.query else "")

    def ask(
        self, port: int, path: str, form: dict[str, str] | None = None
    ) -> tuple[int, dict[str, str], bytes]:
        line = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        headers = {"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items())}
        body = None
        if form is not None:
            body = urlencode(form)
            headers["Content-Type"] = "application/x-www-form-urlencoded"
        line.request("GET" if form is None else "POST", path, body, headers)
        answer = line.getresponse()
        data = answer.read()
        for name, value in answer.getheaders():
            if name == "Set-Cookie":
                key, _, rest = value.partition("=")
                self.cookies[key] = rest.split(";")[0]
        found = {k.lower(): v for k, v in answer.getheaders()}
        line.close()
        return answer.status, found, data


@slow("starts the demo from nothing and asks for thousands of addresses")
class Shipped(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="dachi-shipped-")
        self.addCleanup(holder.cleanup)
        self.tree = Path(holder.name) / "dachi"
        export(self.tree)
        self.port, self.door = free_ports(2)
        self.said = self.tree / "said.txt"
        with self.said.open("w") as out:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "dachi", "demo", "--port", str(self.port)],
                cwd=self.tree, stdout=out, stderr=subprocess.STDOUT,
                env={"PATH": os.environ["PATH"], "HOME": holder.name},
            )  # fmt: skip
        self.addCleanup(self.stop)
        self.visitor = Visitor(self.port, self.door)

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(timeout=20)

    def printed(self, pattern: str) -> re.Match[str]:
        """What the command has said that matches, waited for."""
        end = time.monotonic() + 120
        while time.monotonic() < end:
            if found := re.search(pattern, self.said.read_text()):
                return found
            self.assertIsNone(self.process.poll(), self.said.read_text())
            time.sleep(0.2)
        raise AssertionError(f"never said {pattern!r}:\n{self.said.read_text()}")

    def token(self, path: str) -> str:
        return (
            self.visitor.ask(self.port, path)[2]
            .decode()
            .split('csrf-token" content="')[1]
            .split('"')[0]
        )

    def sign_in(self) -> tuple[str, str]:
        """Sign in with the printed account and let a phone in; the account."""
        account = self.printed(r"Demo account: (\S+) +password: (\S+)")
        self.printed(r"Dachi is open at")
        end = time.monotonic() + 30
        while time.monotonic() < end:
            try:
                self.visitor.ask(self.port, "/sign-in")
                break
            except OSError:
                time.sleep(0.1)
        form = {"email": account[1], "password": account[2], "csrf_token": self.token("/sign-in")}
        status, _, body = self.visitor.ask(self.port, "/sign-in", form)
        self.assertEqual(status, 302, body.decode()[-400:])
        status, _, body = self.visitor.ask(
            self.port, "/a/1/phone", {"csrf_token": self.token("/a/1/phone")}
        )
        self.assertEqual(status, 302, body.decode()[-400:])
        return account[1], account[2]

    def test_every_address_answers_and_nothing_is_logged(self) -> None:
        email, password = self.sign_in()
        broken, seen = self.crawl()
        self.assertEqual(broken, [], f"{len(broken)} of {len(seen)} addresses are broken")
        pages = [path for port, path in seen if port == self.port]
        private = [path for port, path in seen if port == self.door]
        self.assertGreater(len(pages), 500, "the crawl found its way")
        self.assertGreater(len(private), 10, self.said.read_text())
        for page in MAIN_PAGES:
            self.assertIn(page, pages)
        self.assertEqual(self.complaints(email, password, private), [])
        heard = [x for x in self.said.read_text().splitlines() if re.search("ERROR|Traceback", x)]
        logged = [p.read_text() for p in self.tree.glob("var/demo/*.log*")]
        heard += [x for text in logged for x in text.splitlines() if " ERROR " in x]
        self.assertEqual(heard, [])

    def crawl(self) -> tuple[list[str], list[tuple[int, str]]]:
        """Follow every address once; what answered 400 or above, and all that was asked."""
        waiting: deque[tuple[int, str]] = deque([(self.port, "/")])
        seen = {(self.port, "/")}
        broken = []
        while waiting and len(seen) <= MOST:
            port, path = waiting.popleft()
            status, headers, body = self.visitor.ask(port, path)
            if status >= 400:
                broken.append(f"{status} :{port}{path}")
                continue
            here = f"http://127.0.0.1:{port}{path}"
            found = [headers["location"]] if "location" in headers else []
            if headers.get("content-type", "").startswith("text/html"):
                links = Links()
                links.feed(body.decode())
                found += links.found
                # A code shows an address that stands in the page's text too.
                found += re.findall(rf"http://[\w.\[\]:]+:{self.door}/[\w./-]+", body.decode())
            for link in found:
                if link.startswith(("data:", "blob:", "mailto:", "#")):
                    continue
                own = self.visitor.own(urldefrag(urljoin(here, link)).url)
                if own is not None and own not in seen:
                    seen.add(own)
                    waiting.append(own)
        return broken, sorted(seen)

    def complaints(self, email: str, password: str, private: list[str]) -> list[str]:
        """What a browser's console says of the main pages and the practitioner's own."""
        heard: list[str] = []
        base = f"http://127.0.0.1:{self.port}"
        with the_browser().new_context(viewport={"width": 1280, "height": 800}) as context:
            page = context.new_page()
            page.on(
                "console",
                lambda m: heard.append(f"{page.url}: {m.text}") if m.type == "error" else None,
            )
            page.on("pageerror", lambda error: heard.append(f"{page.url}: {error}"))
            page.goto(f"{base}/sign-in")
            page.fill("#email", email)
            page.fill("#password", password)
            page.click("main button[type=submit]")
            page.wait_for_url(f"{base}/")
            own = [p for p in private if re.fullmatch(r"/me/[^/?]+(/play/\d)?|/c/[^/?]+", p)]
            for kind in ("/me/", "/c/"):
                self.assertTrue([p for p in own if p.startswith(kind)], f"no {kind} was reached")
            addresses = [f"{base}{p}" for p in MAIN_PAGES]
            addresses += [f"http://127.0.0.1:{self.door}{p}" for p in own]
            for address in addresses:
                page.goto(address, wait_until="load")
                page.wait_for_timeout(120)
        return heard
