"""Records out of one Dachi and into another: identical, once, all or nothing."""

import contextlib
import hashlib
import io
import json
import sqlite3
import tempfile
import zipfile
from contextlib import closing
from pathlib import Path
from typing import Any

from dachi.cli import main
from dachi.core.words import PainKind, Place
from dachi.data import screening_questions
from dachi.demo import ACCOUNT
from dachi.photos.ingest import path_of
from dachi.store import (
    accounts,
    moving,
    practice_log,
    practitioners,
    preparation,
    private_links,
    summaries,
    today,
    unsorted_photos,
)
from dachi.store.database import Conflict, connect, transaction
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.studio.practice.person import Practising
from dachi.studio.practice.weeks import keep_week
from dachi.studio.record import keeping
from dachi.studio.record import moving as boxes
from dachi.studio.record.moving import MovingProblem
from dachi.studio.work import Work
from dachi.web.app import create_app
from dachi.web.private_links import own_signer
from tests.support import CLOCK, Pages, ago, day_ago, plain_picture, rendered


class Boxes(Pages):
    """A studio with two people, and another Dachi beside it."""

    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        aid = self.new_assessment()
        tid = self.shot(aid)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        self.upload(aid, plain_picture(800, 600), "second.jpg", number="2")
        practice_log.add(
            self.db, self.coach.id, self.pid,
            NewLogEntry(once_key="k", started_at=ago(2), seconds=600, felt=Felt.EASY, finished=True, done=(DrillDone("lizard", 60.0),), pains=(Pain("lizard", Place.LEFT_KNEE, PainKind.KNEE),)),
        )  # fmt: skip
        self.renew()
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        keep_week(Practising(self.work, who))
        other = practitioners.add(self.db, self.coach.id, "Tavi", birth_year=1991)
        self.tavi = other
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.home = Path(holder.name) / "other"
        create_app(self.home, CLOCK)
        self.there = connect(self.home, CLOCK)
        self.addCleanup(self.there.close)
        self.them = Work(
            self.there,
            self.home,
            accounts.add(self.there, "b@quay.example", "Bo", "another one").id,
        )

    def box(self, *people: int) -> io.BytesIO:
        out = io.BytesIO()
        boxes.send(self.work, people or boxes.everybody(self.work), out)
        out.seek(0)
        return out

    def take(self, box: Any, **more: bool) -> moving.Loaded:
        return boxes.receive(self.them, box, **more)

    def counts(self) -> dict[str, int]:
        return {
            t: self.there.execute(f"SELECT count(*) FROM {t}").fetchone()[0]
            for t in (*moving.MOVED, *moving.LEFT)
        }  # fmt: skip


class Moving(Boxes):
    def test_every_table_is_moved_or_said_to_stay(self) -> None:
        with closing(sqlite3.connect(self.folder / "dachi.sqlite3")) as db:
            names = {
                r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            }
        self.assertEqual(names - {"sqlite_sequence"}, {*moving.MOVED, *moving.LEFT})

    def test_out_and_in_and_out_again_is_identical(self) -> None:
        before = boxes.record_of(self.work, boxes.everybody(self.work))
        self.assertTrue(all(before["tables"][t] for t in ("reading", "week_plan", "practice_pain")))
        done = self.take(self.box())
        self.assertEqual((len(done.people), done.same), (2, []))
        self.assertEqual(boxes.record_of(self.them, boxes.everybody(self.them)), before)
        self.assertTrue(keeping.check(self.home).whole)
        mine = summaries.of_practitioner(self.db, self.coach.id, self.pid)
        theirs = summaries.of_practitioner(self.there, self.them.coach, done.people[0])
        self.assertEqual([d.pose for d in theirs], [d.pose for d in mine])

    def test_twice_changes_nothing(self) -> None:
        self.take(self.box())
        counts = self.counts()
        done = self.take(self.box())
        self.assertEqual((done.people, sorted(done.same)), ([], ["Runa", "Tavi"]))
        done = self.take(self.box(self.tavi))
        self.assertEqual(done.same, ["Tavi"])
        self.assertEqual(self.counts(), counts)
        # Something has changed since: nobody is written over.
        practitioners.update(self.db, self.coach.id, self.tavi, notes="new")
        with self.assertRaisesRegex(Conflict, "Tavi is here already, and what comes differs"):
            self.take(self.box())
        self.assertEqual(self.counts(), counts)
        done = self.take(self.box(self.tavi), beside=True)
        self.assertEqual(len(done.people), 1)
        keep = practitioners.listing(self.there, self.them.coach)
        twins = [x.practitioner.id for x in keep if x.practitioner.call_name == "Tavi"]
        with transaction(self.there):
            self.assertTrue(boxes.merge(self.them, twins[0], twins[1]))
        self.assertEqual(self.counts()["practitioner"], counts["practitioner"])

    def test_nobody_elses_rows_come_along(self) -> None:
        text = json.dumps(boxes.record_of(self.work, [self.tavi]))
        self.assertNotIn("Runa", text)
        other = accounts.add(self.db, "else@quay.example", "Else", "a few words in a row")
        theirs = boxes.record_of(Work(self.db, self.folder, other.id), [self.pid, self.tavi])
        self.assertEqual([t for t, rows in theirs["tables"].items() if rows], [])

    def test_damaged_files_take_nothing_in(self) -> None:
        good = self.box(self.pid)
        counts = self.counts()

        def changed(*, hashed: bool = True, **parts: bytes) -> io.BytesIO:
            """The file with parts exchanged; its manifest says so, where ``hashed``."""
            out = io.BytesIO()
            with zipfile.ZipFile(good) as old, zipfile.ZipFile(out, "w") as new:
                held = {n: parts.get(n, old.read(n)) for n in old.namelist()}
                manifest = json.loads(held["manifest.json"])
                if hashed:
                    sha = hashlib.sha256(held["record.json"]).hexdigest()
                    manifest["files"]["record.json"] = sha
                held["manifest.json"] = json.dumps(manifest).encode()
                for name, data in held.items():
                    new.writestr(name, data)
            return out

        with zipfile.ZipFile(good) as found:
            record = json.loads(found.read("record.json"))
            picture = next(n for n in found.namelist() if n.startswith("photos/"))
        newer = json.dumps(record | {"schema": 999}).encode()
        wrong = json.dumps(record | {"tables": {"practitioner": [{"id": 1}]}}).encode()
        for box, words in (
            (io.BytesIO(b"no zip"), "no record"), (io.BytesIO(good.getvalue()[:900]), "no record"),
            (changed(**{"record.json": b"[" * 90_000}), "not right"), (changed(**{"record.json": newer}), "newer"),
            (changed(**{"record.json": wrong}), r"not right: .*uid.*tables.practitioner\[0\]"),
            (changed(hashed=False, **{"record.json": json.dumps(record).encode()}), "hash"),
            (changed(**{picture: plain_picture()}), "damaged"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(MovingProblem, words):
                self.take(box)
            self.assertEqual(self.counts(), counts)
            self.assertEqual(list(self.home.rglob("*.jpg")), [], "pictures neither")

    def test_rows_that_are_none(self) -> None:
        for row, words in (
            ({"id": 1, "uid": "x", "call_name": "A", "created_at": "", "surprise": 1}, "surprise"),
            ({"id": 1, "uid": "x", "call_name": "A"}, "cannot be taken in"),
            ({"id": 1, "uid": "x", "call_name": "A", "created_at": "", "height_cm": "tall"}, "cannot be"),
        ):  # fmt: skip
            with (
                self.subTest(words),
                self.assertRaisesRegex(Conflict, words),
                transaction(self.there),
            ):
                moving.load(self.there, self.them.coach, {"practitioner": [row]}, beside=False)
        self.assertEqual(self.counts()["practitioner"], 0)

    def test_one_of_two(self) -> None:
        """Everything of the other comes over; what both say stays as it was here."""
        practitioners.update(self.db, self.coach.id, self.tavi, height_cm=180.0, birth_year=1991)
        practitioners.update(self.db, self.coach.id, self.pid, height_cm=None)
        (visits,) = self.db.execute("SELECT count(*) FROM assessment").fetchone()
        unsorted_photos.of_assessment(self.db, self.coach.id, 1)
        self.assertFalse(boxes.merge(self.them, self.pid, self.tavi), "another coach")
        self.assertFalse(boxes.merge(self.work, self.pid, self.pid))
        self.post(f"/p/{self.pid}/merge", {"other": str(self.tavi)})
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        self.assertEqual((who.birth_year, who.height_cm), (1994, 180.0))
        self.assertIsNone(practitioners.get(self.db, self.coach.id, self.tavi))
        self.post(f"/p/{self.pid}/merge", {"other": str(self.tavi)})
        self.assertEqual(self.db.execute("SELECT count(*) FROM assessment").fetchone()[0], visits)
        self.assertEqual(self.db.execute("PRAGMA foreign_key_check").fetchall(), [])

    def test_by_page_and_by_command(self) -> None:
        data = self.client.get(f"/p/{self.pid}/record.zip").get_data()
        form = {"record": (io.BytesIO(data), "person.zip")}
        answer = self.post("/account/import", form, content_type="multipart/form-data")
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn("0 people were taken in. Here already, just so: Runa.", page)
        self.assertIn("Runa: the record was written to a file", page)
        form = {"record": (io.BytesIO(b"x"), "person.zip")}
        answer = self.post("/account/import", form, content_type="multipart/form-data")
        self.assertIn("no record", self.text(self.client.get(answer.headers["Location"])))
        out = self.home.with_name("all.zip")
        heard = io.StringIO()
        with contextlib.redirect_stdout(heard), contextlib.redirect_stderr(heard):
            own = ("--coach", "coach@quay.example", "--data", str(self.folder))
            self.assertEqual(main(["export", str(out), *own]), 0, heard.getvalue())
            self.assertEqual(main(["export", str(out), *own]), 2)
            far = ("--coach", "b@quay.example", "--data", str(self.home))
            self.assertEqual(main(["import", str(out), *far]), 0, heard.getvalue())
            self.assertEqual(main(["import", str(out), "--coach", ACCOUNT, *far[2:]]), 2)
        self.assertIn("2 people were taken in.", heard.getvalue())
        (sha,) = self.there.execute("SELECT sha256 FROM photo LIMIT 1").fetchone()
        self.assertTrue(path_of(self.home, sha, "thumb").exists())


class Withdrawn(Boxes):
    """A consent that was taken back: what it stops, and what does not bring it back."""

    def standing(self, pid: int) -> str | None:
        found = preparation.consent(self.db, self.coach.id, pid)
        return found.withdrawn_on if found is not None else "never"

    def give(self, pid: int, days: float) -> None:
        preparation.give_consent(self.db, self.coach.id, pid, given_on=day_ago(days), scope="show", faces=True)  # fmt: skip

    def withdraw(self, pid: int, days: float) -> None:
        preparation.withdraw_consent(self.db, self.coach.id, pid, day_ago(days))

    def test_wins_over_what_was_given_before_it(self) -> None:
        """In whatever order the two were entered; what is given after it is new."""
        self.withdraw(self.pid, 10)
        for given, stands in ((20, False), (10, True), (9, True)):
            with self.subTest(given), self.db.savepoint():
                self.give(self.pid, given)
                self.assertEqual(self.standing(self.pid) is None, stands)
                seen = {
                    p.id: p.consent_missing for p in today.everybody(self.db, self.coach.id, "", "")
                }
                self.assertEqual(seen[self.pid], not stands, "Today asks the same question")
                self.db.execute("DELETE FROM consent WHERE id = (SELECT max(id) FROM consent)")

    def test_wins_when_two_records_are_one(self) -> None:
        for keeps in ("withdrawn", "the other"):
            one, two = (practitioners.add(self.db, self.coach.id, n) for n in ("A", "B"))
            self.give(one, 20)
            self.withdraw(one, 5)
            self.give(two, 3)
            keep, other = (one, two) if keeps == "withdrawn" else (two, one)
            with self.subTest(keeps):
                self.assertTrue(boxes.merge(self.work, keep, other))
                self.assertEqual(self.standing(keep), day_ago(5))
                self.give(keep, 0)
                self.assertIsNone(self.standing(keep), "asked again, and given again")

    def test_a_question_answered_yes_stays_so(self) -> None:
        one, two = (practitioners.add(self.db, self.coach.id, n) for n in ("A", "B"))
        ids = [q.id for q in screening_questions()][:2]
        for pid, yes in ((one, ids[:1]), (two, ids[1:])):
            preparation.answer_screening(self.db, self.coach.id, pid, answered_on=day_ago(3), yes=yes)  # fmt: skip
        preparation.clear(self.db, self.coach.id, two, by="Dr Reed", on=day_ago(2))
        boxes.merge(self.work, one, two)
        kept = preparation.screening(self.db, self.coach.id, one)
        assert kept is not None
        self.assertEqual((set(kept.yes), kept.cleared_on), (set(ids), None))

    def test_no_original_leaves_while_it_stands(self) -> None:
        """As a person's file, the studio's, the command's, or their own bundle."""

        nonce = private_links.make(self.db, self.coach.id, self.pid)
        with self.app.test_request_context():
            link = own_signer().dumps(nonce)

        def pictures() -> dict[str, int]:
            found = {}
            for name, path in (
                ("person", f"/p/{self.pid}/record.zip"),
                ("studio", "/account/studio.zip"),
                ("bundle", f"/me/{link}/data.zip"),
            ):
                answer = self.client.get(path)
                self.assertEqual(answer.status_code, 200, path)
                with zipfile.ZipFile(io.BytesIO(answer.data)) as held:
                    found[name] = sum(n.endswith(".jpg") for n in held.namelist())
            out = self.folder / "x.zip"
            with contextlib.redirect_stdout(io.StringIO()):
                main(
                    [
                        "export",
                        str(out),
                        "--coach",
                        "coach@quay.example",
                        "--data",
                        str(self.folder),
                    ]
                )
            with zipfile.ZipFile(out) as held:
                found["command"] = sum(n.endswith(".jpg") for n in held.namelist())
            out.unlink()
            return found

        self.assertTrue(all(pictures().values()), pictures())
        self.withdraw(self.pid, 0)
        self.assertEqual(set(pictures().values()), {0})
        done = boxes.receive(self.them, self.box(self.pid))
        self.assertEqual(len(done.people), 1, "the record itself is theirs to take along")
