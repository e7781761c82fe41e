"""Every room given nonsense: an answer in words, never a stumble, and nothing lost."""

import random
import re
from pathlib import Path

from dachi.store import weeks
from dachi.store.weeks import Profile
from tests import slow
from tests.support import Pages, rendered

WEB = Path(__file__).parents[2] / "dachi" / "web"
VALUES = (
    "", "0", "1", "-1", "7", "nan", "inf", "1e309", "1,5", "3.5", "x" * 3000, "left", "both",
    "passive", "supine-leg-raise", "butterfly", "low-lunge|left|passive|1", "a|b", "2026-11-20",
    "2026-11-20T10:00", "9999-12-31T00:00", "warm", "keep", "swap", "longer", "drop", "up", "add",
    "trials", "é\x00ü", "<b>", "on", "raise-up", "easy", "revoke", "²", "٣", "9" * 23, "640.5",
)  # fmt: skip
#: Signing in and out would end the round.
LEFT_OUT = ("accounts.", "static", "erase.visit", "erase.shot")
GETS, POSTS = 4, 8
#: Fields whose names a page puts together.
BUILT = (
    "pain-0", "pain-3", "place-1", "variant-knee", "school-raise", "mark-hip-x", "mark-hip-y",
    "mark-hip-state", "mark-knee-x", "corner-near_left-x", "revision", "seen",
)  # fmt: skip


class Nonsense(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.app.config["RATELIMIT_ENABLED"] = False
        self.sign_in()
        weeks.save_profile(
            self.db, self.coach.id, self.pid, Profile(level=1, minutes=10.0, weekdays=(0,))
        )
        self.aid = self.new_assessment()
        self.tid = self.shot(self.aid)
        self.post(f"/t/{self.tid}/save", self.marks_form(rendered()[1]))
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        self.me = page.split("/me/")[1].split("<")[0]
        self.rng = random.Random(5)
        source = [p.read_text("utf-8") for p in (*WEB.rglob("*.html"), *WEB.rglob("*.py"))]
        found = re.findall(
            r'(?:name="|(?:form|args)(?:\.get|\.getlist)?[(\[]")([a-z_0-9-]+)"', "".join(source)
        )
        self.names = sorted({*found, *BUILT} - {"csrf_token"})
        self.assertGreater(len(self.names), 60)

    def path(self, rule: str) -> str:
        ids = {"pid": self.pid, "aid": self.aid, "tid": self.tid}

        def number(m: re.Match[str]) -> str:
            wild = self.rng.choice([0, 1, 2, 99, 10**22])
            return str(ids.get(m[1], 1) if self.rng.random() < 0.8 else wild)

        found = re.sub(r"<int:(\w+)>", number, rule)
        found = re.sub(r"<any\(([^)]*)\):\w+>", lambda m: m[1].split(", ")[0], found)
        found = found.replace("<token>", self.me if "/me/" in found else "cut-short")
        return re.sub(r"<[^>]+>", lambda _: self.rng.choice(["x", "raise-up", "%00"]), found)

    def nonsense(self, most: int) -> dict[str, str]:
        some = self.rng.sample(self.names, self.rng.randint(0, most))
        return {n: self.rng.choice(VALUES) for n in some}

    @slow("nonsense by the hundred at every address")
    def test_every_room(self) -> None:
        rounds = 0
        for rule in self.app.url_map.iter_rules():
            if rule.endpoint.startswith(LEFT_OUT):
                continue
            for method, times in (("GET", GETS), ("POST", POSTS)):
                for _ in range(times if method in (rule.methods or ()) else 0):
                    path, given = self.path(rule.rule), self.nonsense(6 if method == "GET" else 40)
                    with self.subTest(f"{method} {path}", given=given):
                        if method == "GET":
                            answer = self.client.get(path, query_string=given)
                        else:
                            answer = self.post(path, given)
                        answer.close()
                        self.assertLess(answer.status_code, 500)
                    rounds += 1
        self.assertGreater(rounds, 400)
        self.assertEqual(self.db.execute("PRAGMA integrity_check").fetchone()[0], "ok")
        self.assertEqual(self.db.execute("PRAGMA foreign_key_check").fetchall(), [])
        kept = self.db.execute("SELECT count(*) FROM marking").fetchone()[0]
        self.assertGreaterEqual(kept, 1, "marks are facts")
