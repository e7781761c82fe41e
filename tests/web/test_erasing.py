"""Erasing: afterwards nothing in the whole data folder knows the person or holds their bytes."""

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from dachi.photos.ingest import path_of
from dachi.store import accounts, assessments, goals, photos, practice_log, practitioners, weeks
from dachi.store.practice_log import Felt, NewLogEntry
from dachi.store.weeks import Profile
from dachi.studio.record import erasing, keeping
from tests.support import CLOCK, LEG_RAISE, Pages, ago, plain_picture

NAME, NOTE = "Isolde-Marit", "climbs at the third pier"


class Erasing(Pages):
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
            self.db, me, self.pid, pose=LEG_RAISE, family="hip_flexion", side="left",
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
        self.assertEqual(len(photos.known_hashes(self.db)), 1)
        self.assertTrue(keeping.check(self.folder).whole)

    def test_after_a_withdrawal_deleting_is_offered(self) -> None:
        prepare = f"/p/{self.pid}/prepare"
        self.assertNotIn("Erase the photographs", self.text(self.client.get(prepare)))
        self.post(
            f"/p/{self.pid}/consent", {"withdraw": "1", "given_on": CLOCK.today().isoformat()}
        )
        self.assertIn("Erase the photographs", self.text(self.client.get(prepare)))
