"""Erasing: afterwards nothing in the whole data folder knows the person or holds their bytes."""

import io
import os
import shutil
import sqlite3
import tempfile
import time
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from dachi import unfinished
from dachi.photos import strays
from dachi.photos.ingest import path_of, take_in
from dachi.simulation import outbox
from dachi.store import (
    accounts,
    assessments,
    erasures,
    goals,
    photos,
    practice_log,
    practitioners,
    weeks,
)
from dachi.store import erasing as store_erasing
from dachi.store.database import connect
from dachi.store.practice_log import Felt, NewLogEntry
from dachi.store.weeks import Profile
from dachi.studio.duties import Duties
from dachi.studio.record import erasing, keeping
from dachi.studio.work import Work
from tests.support import CLOCK, LEG_RAISE, Pages, ago, plain_picture

NAME, NOTE = "Isolde-Marit", "climbs at the third pier"


class Marit(Pages):
    """Somebody with everything that can be kept of a person, and places it may be left in."""

    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        me = self.coach.id
        practitioners.update(
            self.db, me, self.pid, call_name=NAME, notes=NOTE, email="marit@quay.example"
        )
        self.aid = self.new_assessment()
        self.tid = self.shot(self.aid)
        self.upload(self.aid, plain_picture(800, 600), "second.jpg", number="2")
        goals.add(
            self.db, me, self.pid, pose=LEG_RAISE, family="leg_line", side="left",
            mode="passive", target=90.0, due_on=None,
        )  # fmt: skip
        weeks.save_profile(self.db, me, self.pid, Profile(level=2, minutes=10.0, weekdays=(0, 3)))
        self.client.get(f"/p/{self.pid}/plan")
        practice_log.add(
            self.db,
            me,
            self.pid,
            NewLogEntry(
                once_key="k",
                started_at=ago(2),
                seconds=600,
                felt=Felt.EASY,
                finished=True,
                done=(),
                notes=NOTE,
            ),
        )
        self.post(f"/p/{self.pid}/remind", {"kind": "practice"})
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        for n in (1, 2):
            self.client.get(f"/photo/{n}/preview.jpg")
        keeping.daily_copy(self.folder, CLOCK)
        self.shas = sorted(photos.known_hashes(self.db))
        self.bytes = [path_of(self.folder, s, "photo").read_bytes() for s in self.shas]
        stray = self.folder / "strays" / f"{self.shas[0]}.thumb.jpg"
        stray.parent.mkdir()
        shutil.copy(path_of(self.folder, self.shas[0], "thumb"), stray)

    def holds(self, needle: bytes) -> list[Path]:
        return [
            p for p in self.folder.rglob("*") if p.is_file() and needle in p.read_bytes()
        ]  # fmt: skip

    def rows(self) -> dict[str, int]:
        """Rows of every table but those of signing in, which go on meanwhile."""
        with closing(sqlite3.connect(self.folder / "dachi.sqlite3")) as db:
            found = db.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
            names = {r[0] for r in found} - {"coach_session", "happening"}
            return {n: db.execute(f"SELECT count(*) FROM {n}").fetchone()[0] for n in names}


class Erasing(Marit):
    def test_a_person(self) -> None:
        for needle in (NAME.encode(), NOTE.encode(), self.bytes[0][-400:]):
            self.assertTrue(self.holds(needle))
        before = self.rows()
        wrong = self.post(f"/p/{self.pid}/erase", {"name": "Isolde"})
        self.assertIn("Nothing was erased", self.text(self.client.get(wrong.headers["Location"])))
        self.assertEqual(self.rows(), before)
        answer = self.post(f"/p/{self.pid}/erase", {"name": f" {NAME.lower()} "})
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn("Everything of theirs is erased", page)
        self.assertIn("No backup was ever written", page)
        for needle in (
            NAME.encode(), NOTE.encode(), b"marit@quay", *(b[-400:] for b in self.bytes),
            *(s.encode() for s in self.shas),
        ):  # fmt: skip
            self.assertEqual(self.holds(needle), [])
        for sha in self.shas:
            self.assertEqual([p.name for p in self.folder.rglob(f"*{sha}*")], [])
        left = {n for n, count in self.rows().items() if count}
        self.assertLessEqual(left, {"coach", "sqlite_sequence"}, self.rows())
        self.assertNotIn("What you erased", self.text(self.client.get("/")))
        self.assertTrue(keeping.check(self.folder).whole)
        self.assertEqual(self.client.get(f"/p/{self.pid}").status_code, 404)

    def test_a_backup_is_named(self) -> None:
        out = self.folder.with_name(self.folder.name + ".zip")
        self.addCleanup(out.unlink)
        keeping.backup(self.folder, out, CLOCK)
        answer = self.post(f"/a/{self.aid}/erase")
        page = self.text(self.client.get(answer.headers["Location"]))
        self.assertIn(f"Backups still hold it until you delete them: the last, “{out.name}”", page)

    def test_a_visit_a_shot_and_all_photographs(self) -> None:
        other = self.new_assessment(ago(3))
        self.upload(other, plain_picture(900, 700), "third.jpg")
        third = (photos.known_hashes(self.db) - set(self.shas)).pop()
        trial = assessments.trial(self.db, self.coach.id, self.tid)
        photo = photos.get(self.db, self.coach.id, trial.photo_id if trial else 0)
        assert photo is not None
        shown = self.bytes[self.shas.index(photo.sha256)][-400:]
        self.assertTrue(self.holds(shown))
        self.post(f"/t/{self.tid}/erase")
        self.assertEqual(len(photos.known_hashes(self.db)), 2)
        self.assertEqual(self.holds(shown), [])
        self.post(f"/a/{self.aid}/erase")
        self.assertEqual(photos.known_hashes(self.db), {third})
        self.assertEqual(self.client.get(f"/a/{self.aid}").status_code, 404)
        self.assertEqual(self.client.get(f"/a/{other}").status_code, 200)
        self.assertEqual(self.client.get(f"/p/{self.pid}").status_code, 200)
        self.post(f"/p/{self.pid}/erase/photographs", {"name": NAME})
        self.assertEqual(photos.known_hashes(self.db), set())
        self.assertEqual(list((self.folder / "photos").glob("*/*")), [])
        self.assertEqual(self.client.get(f"/p/{self.pid}").status_code, 200)
        self.assertTrue(self.holds(NAME.encode()))

    def test_what_another_person_shows_too_stays(self) -> None:
        """The same bytes in two people's visits: one of them may go."""
        pid = practitioners.add(self.db, self.coach.id, "Other")
        visit = assessments.add(self.db, self.coach.id, pid, taken_at=ago(4), warmth="warm")
        self.db.execute(
            "INSERT INTO tray (assessment_id, photo_id, name, created_at) SELECT ?, photo_id, 'x', ?"
            " FROM trial WHERE id = ?",
            (visit, ago(4), self.tid),
        )
        self.post(f"/p/{self.pid}/erase", {"name": NAME})
        self.assertEqual(len(photos.known_hashes(self.db)), 1)
        self.assertTrue(keeping.check(self.folder).whole)

    def test_strangers_erase_nothing(self) -> None:
        accounts.add(self.db, "else@quay.example", "Else", "a few words in a row")
        before = self.rows()
        self.post("/sign-out")
        self.sign_in("else@quay.example")
        for path in (
            f"/p/{self.pid}/erase", f"/p/{self.pid}/erase/photographs", f"/a/{self.aid}/erase",
            f"/t/{self.tid}/erase",
        ):  # fmt: skip
            self.assertEqual(self.post(path, {"name": NAME}).status_code, 404, path)
        self.assertEqual(self.client.get(f"/p/{self.pid}/erase").status_code, 404)
        self.assertEqual(self.rows(), before)

    def test_what_was_deleted_is_not_shown_and_goes_after_a_month(self) -> None:
        page = self.text(self.client.get(f"/p/{self.pid}/practice"))
        link = "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]
        trial = assessments.trial(self.db, self.coach.id, self.tid)
        assert trial is not None
        shown = f"{link}/photo/{trial.photo_id}.jpg"
        self.assertEqual(self.client.get(shown).status_code, 200)
        self.post(f"/t/{self.tid}/delete")
        self.assertEqual(self.client.get(shown).status_code, 404)
        self.assertEqual(erasing.purge(self.folder, self.db), 0)
        bench = self.text(self.client.get(f"/t/{self.tid}"))
        self.assertIn("Erase for good", bench)
        self.db.execute("UPDATE trial SET deleted_at = ? WHERE id = ?", (CLOCK.stamp(31), self.tid))
        self.assertEqual(erasing.purge(self.folder, self.db), 1)
        self.assertTrue(erasing.finish(self.folder, CLOCK))
        self.assertEqual(len(photos.known_hashes(self.db)), 1)
        self.assertTrue(keeping.check(self.folder).whole)

    def test_after_a_withdrawal_deleting_is_offered(self) -> None:
        prepare = f"/p/{self.pid}/prepare"
        self.assertNotIn("Erase the photographs", self.text(self.client.get(prepare)))
        self.post(
            f"/p/{self.pid}/consent", {"withdraw": "1", "given_on": CLOCK.today().isoformat()}
        )
        self.assertIn("Erase the photographs", self.text(self.client.get(prepare)))

    def test_whose_a_letter_is(self) -> None:
        """By the name nobody else has; old ones, which have none, by the address."""
        box = self.folder / "outbox" / str(self.coach.id)
        for path in box.glob("*.eml"):
            path.unlink()
        at = CLOCK.local()
        theirs = [
            outbox.send(box, "Marit@quay.example ", "Old", "x", at=at),
            outbox.send(box, "moved@quay.example", "New", "x", at=at + timedelta(seconds=1),
                        about=self.uid(self.pid)),
        ]  # fmt: skip
        others = [
            outbox.send(box, "other@quay.example", "Old", "x", at=at + timedelta(seconds=2)),
            outbox.send(box, "marit@quay.example", "New", "x", at=at + timedelta(seconds=3), about="else"),
        ]  # fmt: skip
        nobody = practitioners.add(self.db, self.coach.id, "Nobody")
        self.post(f"/p/{nobody}/erase", {"name": "Nobody"})
        self.assertEqual(sorted(p.name for p in box.glob("*.eml")), sorted([*theirs, *others]))
        self.post(f"/p/{self.pid}/erase", {"name": NAME})
        self.assertEqual(sorted(p.name for p in box.glob("*.eml")), sorted(others))

    def uid(self, pid: int) -> str:
        found = practitioners.get(self.db, self.coach.id, pid)
        assert found is not None
        return found.uid

    def test_left_out_of_a_folder_is_still_theirs(self) -> None:
        """It goes with them, or like what was deleted; sent again it is back in the tray."""
        data = plain_picture(1000, 700)
        tray = f"/a/{self.aid}/tray"

        def send() -> None:
            form = {"photo": (io.BytesIO(data), "third.jpg")}
            self.post(tray, form, content_type="multipart/form-data")

        send()
        (sha,) = photos.known_hashes(self.db) - set(self.shas)
        self.post(f"{tray}/empty")
        self.assertNotIn("third.jpg", self.text(self.client.get(tray)))
        send()
        self.assertIn("third.jpg", self.text(self.client.get(tray)))
        self.post(f"{tray}/empty")
        for days, left in ((29, True), (31, False)):
            with self.subTest(days):
                self.db.execute("UPDATE tray SET left_out_at = ?", (CLOCK.stamp(days),))
                erasing.purge(self.folder, self.db)
                erasing.finish(self.folder, CLOCK)
                self.assertEqual(path_of(self.folder, sha, "photo").exists(), left)
        send()
        self.post(f"{tray}/empty")
        self.post(f"/p/{self.pid}/erase", {"name": NAME})
        self.assertEqual(list((self.folder / "photos").rglob("*.jpg")), [])

    def test_what_no_visit_knows_goes_too(self) -> None:
        """As photographs that an earlier Dachi left out: rows that nothing refers to."""
        taken = take_in(plain_picture(1000, 800), self.folder)
        new = photos.NewPhoto(sha256=taken.sha256, source_sha256=taken.source_sha256, width=1000, height=800, focal_35mm=None, taken_at=None, origin="upload")  # fmt: skip
        pid = photos.add(self.db, self.coach.id, new)
        erasing.purge(self.folder, self.db)
        self.assertIsNotNone(photos.get(self.db, self.coach.id, pid), "it may just be coming in")
        self.db.execute("UPDATE photo SET created_at = ? WHERE id = ?", (CLOCK.stamp(31), pid))
        erasing.purge(self.folder, self.db)
        erasing.finish(self.folder, CLOCK)
        self.assertIsNone(photos.get(self.db, self.coach.id, pid))
        self.assertFalse(path_of(self.folder, taken.sha256, "photo").exists())
        self.assertEqual(len(photos.known_hashes(self.db)), 2, "the others are somebody's")

    def test_letters_go_with_who_is_handed_over_or_merged(self) -> None:
        def letters() -> list[Path]:
            return list((self.folder / "outbox").rglob("*.eml"))

        self.assertTrue(letters())
        double = practitioners.add(self.db, self.coach.id, "Marit again")
        self.post(f"/p/{double}/merge", {"other": str(self.pid)})
        self.assertEqual(letters(), [])
        practitioners.update(self.db, self.coach.id, double, email="m@quay.example")
        self.post(f"/p/{double}/remind", {"kind": "practice"})
        self.assertTrue(letters())
        other = accounts.add(self.db, "else@quay.example", "Else", "a few words in a row")
        self.post("/account/coaches/hand-over", {"person": str(double), "to": str(other.id)})
        self.assertEqual(letters(), [])

    def test_a_report_of_somebody_erased_is_not_handed_out(self) -> None:
        jobs = self.app.extensions["jobs"]
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        for uid, there in ((who.uid, False), ("somebody else", True)):
            key = jobs.start(self.coach.id, "a report", 1, lambda _: b"%PDF", about=uid)
            with self.subTest(uid):
                if not there:
                    self.post(f"/p/{self.pid}/erase", {"name": NAME})
                self.assertEqual(jobs.of(self.coach.id, key) is not None, there)


class CutShort(Marit):
    """Erasing killed before and after each of its steps; the next start finishes it."""

    STEPS: ClassVar = (
        (erasing, "remove_pictures"), (unfinished, "sweep"), (erasures, "cleared"),
        (store_erasing, "compact"), (erasing, "anew"), (erasures, "done"),
    )  # fmt: skip

    def killed(self, folder: Path, where: Any, name: str, *, after: bool) -> None:
        """Erase the person in a process that ends as a step begins, or as it is through."""
        child = os.fork()
        if child == 0:
            try:
                step = getattr(where, name)

                def end(*args: Any, **more: Any) -> None:
                    if after:
                        step(*args, **more)
                    os._exit(9)

                setattr(where, name, end)
                with closing(connect(folder, CLOCK)) as db:
                    erasing.person(Work(db, folder, self.coach.id), self.pid)
                erasing.finish(folder, CLOCK)
            finally:
                os._exit(1)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 9, name)

    def test_is_finished_later(self) -> None:
        needles = [NAME.encode(), NOTE.encode(), b"marit@quay", *(b[-400:] for b in self.bytes), *(s.encode() for s in self.shas)]  # fmt: skip
        self.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        cuts = [(w, n, after) for w, n in self.STEPS for after in (False, True)]
        for where, name, after in [*cuts, (store_erasing, "practitioner", False)]:
            with self.subTest(name, after=after), tempfile.TemporaryDirectory() as there:
                folder = Path(there) / "data"
                shutil.copytree(self.folder, folder)
                self.killed(folder, where, name, after=after)
                with closing(connect(folder, CLOCK)) as db:
                    work = Work(db, folder, self.coach.id)
                    who = practitioners.get(db, self.coach.id, self.pid)
                    if name == "practitioner":
                        self.assertIsNotNone(who, "nothing was begun")
                        continue
                    self.assertIsNone(who)
                    self.assertEqual(erasing.waiting(work), 1)
                    strays.sweep(folder, photos.known_hashes(db), now=CLOCK.seconds())
                    Duties(folder, CLOCK).erase(db)
                    self.assertEqual(erasing.waiting(work), 0)
                for path in (p for p in folder.rglob("*") if p.is_file()):
                    held = path.read_bytes()
                    self.assertEqual([n for n in needles if n in held], [], path.name)
                    self.assertFalse(any(s in path.name for s in self.shas), path.name)

    def test_what_cannot_be_removed_is_said_until_it_is(self) -> None:
        """The disk will not have it: the person is gone, the page says that files are not."""
        with mock.patch.object(erasing, "remove_pictures", side_effect=OSError(5, "no")):
            self.post(f"/p/{self.pid}/erase", {"name": NAME})
        page = self.text(self.client.get("/"))
        self.assertIn("being cleared of it", page)
        self.assertEqual(self.client.get(f"/p/{self.pid}").status_code, 404)
        deadline = time.monotonic() + 20
        while erasing.waiting(self.work) and time.monotonic() < deadline:
            # Asking for the page goes on with it.
            self.client.get("/")
            time.sleep(0.05)
        self.assertEqual(erasing.waiting(self.work), 0)
        self.assertNotIn("being cleared of it", self.text(self.client.get("/")))
        for needle in (NAME.encode(), *(b[-400:] for b in self.bytes)):
            self.assertEqual(self.holds(needle), [])
