"""Two coaches: every address there is, tried with the other's ids, changes and shows nothing."""

import io
import re

from dachi.store import accounts, goals, practice_log, practitioners
from dachi.store.practice_log import Felt, NewLogEntry
from dachi.studio.record import moving
from tests.support import LEG_RAISE, PASSWORD, Pages, ago, rendered

#: What the other's numbers are called in addresses.
IDS = ("pid", "aid", "tid", "photo_id", "goal_id", "note_id", "log_id", "proposal_id", "oid")


class EveryAddress(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        practitioners.update(self.db, self.coach.id, self.pid, call_name="Isolde-Marit")
        aid = self.new_assessment()
        self.tid = int(self.upload(aid, rendered()[0]).headers["Location"].rsplit("/", 1)[1])
        self.post(f"/t/{self.tid}/save", self.marks_form(rendered()[1]))
        goals.add(
            self.db,
            self.coach.id,
            self.pid,
            pose=LEG_RAISE,
            family="leg_line",
            side="left",
            mode="passive",
            target=90.0,
            due_on=None,
        )
        goals.annotate(self.db, self.coach.id, self.pid, on_date=ago(3)[:10], kind="note", text="x")
        practice_log.add(
            self.db,
            self.coach.id,
            self.pid,
            NewLogEntry(
                once_key="k", started_at=ago(2), seconds=600, felt=Felt.EASY, finished=True, done=()
            ),
        )
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        self.client.get(f"/p/{self.pid}/plan")
        self.whole = self.state()
        accounts.add(self.db, "else@quay.example", "Else", PASSWORD)
        self.post("/sign-out")
        self.sign_in("else@quay.example")

    def state(self) -> dict:
        links = [tuple(r) for r in self.db.execute("SELECT nonce, revoked_at FROM private_link")]
        return moving.record_of(self.work, [self.pid]) | {"links": links}

    def test_none_opens(self) -> None:
        rules = [
            r for r in self.app.url_map.iter_rules()
            if any(a in r.arguments for a in IDS) and not r.rule.startswith(("/me/", "/c/"))
        ]  # fmt: skip
        self.assertGreater(len(rules), 60)
        unknown = (
            {a for r in rules for a in r.arguments}
            - set(IDS)
            - {"kind", "key", "which", "act", "weekday", "drill_id"}
        )
        self.assertEqual(unknown, set(), "what else is an id?")
        token = self.token("/")
        for rule in rules:
            path = re.sub(r"<[^>]*kind>", "thumb", re.sub(r"<int:\w+>", "1", rule.rule))
            for method in rule.methods & {"GET", "POST"}:
                form = {"csrf_token": token, "name": "Isolde-Marit", "act": "take", "other": "1",
                        "text": "day,pose,value\n2026-01-01,x,1\n", "undo": "1"} if method == "POST" else None  # fmt: skip
                answer = self.client.open(path, method=method, data=form)
                with self.subTest(f"{method} {rule.rule}"):
                    self.assertIn(answer.status_code, (404, 400, 422), self.text(answer)[:200])
                    self.assertNotIn("Isolde-Marit", self.text(answer).replace("Type “", ""))
        self.assertEqual(self.state(), self.whole)

    def test_nor_by_import_merge_or_hand_over(self) -> None:
        out = io.BytesIO()
        self.assertEqual(moving.send(self.work, [self.pid], out), 0)
        form = {"record": (io.BytesIO(out.getvalue()), "p.zip")}
        self.post("/account/import", form, content_type="multipart/form-data")
        # Whoever has the file has a record of their own; the first one is as it was.
        self.assertEqual(self.state(), self.whole)
        other = accounts.by_email(self.db, "else@quay.example")
        assert other is not None
        mine = practitioners.listing(self.db, other.id)[0].practitioner.id
        self.post(f"/p/{mine}/merge", {"other": str(self.pid)})
        self.post("/account/coaches/hand-over", {"person": str(self.pid), "to": str(other.id)})
        self.post(
            "/account/coaches/hand-over",
            {"from": str(self.coach.id), "person": str(self.pid), "to": str(other.id)},
        )
        self.assertEqual(self.state(), self.whole)
        self.client.post(
            f"/p/{mine}/erase", data={"name": "Isolde-Marit", "csrf_token": self.token("/")}
        )
        self.assertEqual(self.state(), self.whole)
        self.assertTrue(moving.send(self.work, [self.pid], io.BytesIO()) == 0, "the pictures too")

    def test_after_handing_over_and_erasing_nothing_is_left(self) -> None:
        other = accounts.by_email(self.db, "else@quay.example")
        assert other is not None
        self.post("/sign-out")
        self.sign_in()
        self.post("/account/coaches/hand-over", {"person": str(self.pid), "to": str(other.id)})
        theirs = practitioners.listing(self.db, other.id)[0].practitioner.id
        self.post("/sign-out")
        self.sign_in("else@quay.example")
        self.post(f"/p/{theirs}/erase", {"name": "Isolde-Marit"})
        held = [
            p for p in self.folder.rglob("*") if p.is_file() and b"Isolde-Marit" in p.read_bytes()
        ]
        self.assertEqual(held, [])
        self.assertEqual(list((self.folder / "photos").glob("*/*")), [])
