"""Rows belong to their coach; corrections add; conflicts are said."""

import json
import sqlite3
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from dachi.core.assessing.runsheet import Slot
from dachi.core.measuring.figure_match import Region
from dachi.core.measuring.scene import Reading, Result
from dachi.store import (
    accounts,
    assessments,
    copies,
    database,
    invitations,
    markings,
    photos,
    positions,
    practitioners,
)
from dachi.store.database import Conflict, StoreError
from dachi.store.markings import Marking
from tests.support import CLOCK, LEG_RAISE, Studio


class Arranged(Studio):
    def setUp(self) -> None:
        super().setUp()
        self.other = accounts.add(self.db, "other@quay.example", "Oska", "another long password")
        self.aid = assessments.add(
            self.db, self.coach.id, self.pid, taken_at="2026-11-01T09:00", warmth="warm"
        )
        self.tid = self.trial("a" * 64)

    def trial(self, source: str, number: int = 1, mode: str = "passive", **more: object) -> int:
        photo = photos.add(self.db, self.coach.id, photos.NewPhoto(sha256=source, source_sha256=source, width=1280, height=960, focal_35mm=26.0, taken_at=None, origin="upload"))  # fmt: skip
        position = positions.for_photo(self.db, self.coach.id, self.aid, "side", "", (1280, 960))
        return assessments.add_trial(self.db, self.coach.id, self.aid, photo, Slot(LEG_RAISE, "left", mode, number), variant={}, position_id=position, **more)  # fmt: skip

    def mark(self, value: float, **more: object) -> int:
        reading = Reading("leg_line", "leg above the floor", "deg", value, 1.0, value, value, True)
        result = Result("", "mat", LEG_RAISE, (reading,), (), None, ())
        marking = Marking(marks={"hip": (1.0, 2.0)}, corners={"near_left": (value, 0.0)})
        marking_id = markings.save(self.db, self.coach.id, self.tid, marking, **more)
        markings.keep_readings(self.db, self.coach.id, marking_id, result, "v")
        return marking_id


class Kept(Arranged):
    def test_whose_hand_it_was_stays_with_a_marking(self) -> None:
        """As the coach was called then; another coach's markings are another hand's."""
        self.mark(70.0)
        was = self.coach.name
        self.db.execute("UPDATE coach SET name = 'Somebody' WHERE id = ?", (self.coach.id,))
        self.mark(71.0)
        self.db.execute("UPDATE practitioner SET coach_id = ?", (self.other.id,))
        marking = Marking(marks={"hip": (1.0, 2.0)})
        markings.save(self.db, self.other.id, self.tid, marking)
        told = [m.marker for m in markings.history(self.db, self.other.id, self.tid)]
        self.assertEqual(told, ["Oska", "Somebody", was])

    def test_nobody_else_sees_anything(self) -> None:
        self.mark(70.0)
        stranger = self.other.id
        for found in (
            practitioners.get(self.db, stranger, self.pid),
            assessments.get(self.db, stranger, self.aid),
            assessments.trial(self.db, stranger, self.tid),
            photos.get(self.db, stranger, 1),
            markings.draft(self.db, stranger, self.tid),
            markings.last_marks(self.db, stranger, self.pid, LEG_RAISE, "left", None),
        ):
            self.assertIsNone(found)
        for rows in (
            practitioners.listing(self.db, stranger),
            assessments.of_practitioner(self.db, stranger, self.pid),
            assessments.trials(self.db, stranger, self.aid),
            markings.history(self.db, stranger, self.tid),
            markings.readings(self.db, stranger, self.tid),
            markings.checks(self.db, stranger, self.tid),
            markings.charted(self.db, stranger, self.pid),
        ):
            self.assertEqual(rows, [])
        self.assertFalse(assessments.delete_trial(self.db, stranger, self.tid))
        self.assertFalse(assessments.restore_trial(self.db, stranger, self.tid))
        self.assertFalse(positions.set_mat(self.db, stranger, 1, 200, 70))
        self.assertEqual(positions.of_assessment(self.db, stranger, self.aid), {})
        markings.save_draft(self.db, stranger, self.tid, {"x": 1})
        self.assertIsNone(markings.draft(self.db, self.coach.id, self.tid))
        with self.assertRaises(Conflict):
            assessments.add(self.db, stranger, self.pid, taken_at="2026-11-02T09:00", warmth="warm")

    def test_a_correction_keeps_the_earlier_marking(self) -> None:
        self.assertEqual([self.mark(70.0), self.mark(73.0)], [1, 2])
        history = markings.history(self.db, self.coach.id, self.tid)
        self.assertEqual([m.number for m in history], [2, 1])
        charted = markings.charted(self.db, self.coach.id, self.pid)
        self.assertEqual([c.value for c in charted], [73.0])

    def test_the_later_save_sees_the_earlier_one(self) -> None:
        self.mark(70.0, seen=0)
        with self.assertRaisesRegex(Conflict, "Somebody marked"):
            self.mark(75.0, seen=0)

    def test_once_is_once(self) -> None:
        self.assertEqual(self.mark(70.0, once_key="k"), self.mark(71.0, once_key="k"))
        again = {"taken_at": "2026-11-03T09:00", "warmth": "cold", "once_key": "o"}
        first = assessments.add(self.db, self.coach.id, self.pid, **again)
        self.assertEqual(first, assessments.add(self.db, self.coach.id, self.pid, **again))
        one = self.trial("b" * 64, 2, once_key="t")
        self.assertEqual(one, self.trial("b" * 64, 2, once_key="t"))

    def test_places_and_undo(self) -> None:
        with self.assertRaisesRegex(Conflict, "already has a photograph"):
            self.trial("c" * 64)
        self.assertTrue(assessments.delete_trial(self.db, self.coach.id, self.tid))
        replacement = self.trial("c" * 64)
        with self.assertRaisesRegex(Conflict, "taken this trial's place"):
            assessments.restore_trial(self.db, self.coach.id, self.tid)
        assessments.delete_trial(self.db, self.coach.id, replacement)
        self.assertTrue(assessments.restore_trial(self.db, self.coach.id, self.tid))

    def test_corners_of_a_position_are_pooled(self) -> None:
        self.mark(100.0)
        second = self.trial("d" * 64, 2)
        (position,) = positions.of_assessment(self.db, self.coach.id, self.aid).values()
        self.assertEqual(position.pooled(second, None), ({"near_left": (100.0, 0.0)}, 1))
        own = {"near_left": (104.0, 2.0)}
        self.assertEqual(position.pooled(second, own), ({"near_left": (102.0, 1.0)}, 2))
        self.assertEqual(position.pooled(self.tid, None), (None, 0))

    def test_another_picture_size_is_another_position(self) -> None:
        same = positions.for_photo(self.db, self.coach.id, self.aid, "side", "", (1280, 960))
        other = positions.for_photo(self.db, self.coach.id, self.aid, "side", "", (4000, 3000))
        self.assertNotEqual(same, other)

    def test_drafts(self) -> None:
        markings.save_draft(self.db, self.coach.id, self.tid, {"a": "1"})
        markings.save_draft(self.db, self.coach.id, self.tid, {"a": "2"})
        self.assertEqual(markings.draft(self.db, self.coach.id, self.tid), {"a": "2"})
        self.mark(70.0)
        self.assertIsNone(markings.draft(self.db, self.coach.id, self.tid))

    def test_strict_tables_and_foreign_keys(self) -> None:
        for sql in (
            "INSERT INTO trial (assessment_id, photo_id, pose, side, mode, number, created_at)"
            " VALUES (99, 99, 'x', 'left', 'active', 1, '')",
            "UPDATE practitioner SET height_cm = 'tall'",
            "UPDATE assessment SET warmth = 'tepid'",
        ):
            with self.assertRaises(sqlite3.IntegrityError):
                self.db.execute(sql)
        self.assertEqual(self.db.execute("PRAGMA journal_mode").fetchone()[0], "wal")


class Folder(unittest.TestCase):
    def test_unusable_folders_get_a_sentence(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            file = Path(name) / "file"
            file.write_text("in the way")
            with self.assertRaisesRegex(StoreError, "cannot be written to"):
                database.open_folder(file / "data")
            (Path(name) / "dachi.sqlite3").write_text("this is not a database at all" * 50)
            with self.assertRaisesRegex(StoreError, "database is damaged"):
                database.migrate(database.connect(Path(name), CLOCK))

    def test_a_failing_migration_changes_nothing(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "001-a.sql").write_text("CREATE TABLE a (x INTEGER) STRICT;")
            (folder / "002-b.sql").write_text("CREATE TABLE b (x INTEGER) STRICT; NONSENSE;")
            db = database.connect(folder, CLOCK)
            with self.assertRaisesRegex(StoreError, "brought up to date"):
                database.migrate(db, folder)
            self.assertEqual(db.execute("PRAGMA user_version").fetchone()[0], 1)
            tables = {r[0] for r in db.execute("SELECT name FROM sqlite_master")}
            self.assertEqual(tables, {"a"})
            (folder / "002-b.sql").write_text("CREATE TABLE b (x INTEGER) STRICT;")
            self.assertEqual(database.migrate(db, folder), 2)
            db.close()


class Answers(Arranged):
    """What functions that change something answer, and what comes back as it was kept."""

    def test_true_once_and_false_after(self) -> None:
        invitations.make(self.db, self.coach.id, "Ikka")
        (link,) = invitations.open_ones(self.db, self.coach.id)
        self.assertFalse(invitations.take_back(self.db, self.other.id, link.id))
        for act in (
            lambda: invitations.take_back(self.db, self.coach.id, link.id),
            lambda: assessments.delete_trial(self.db, self.coach.id, self.tid),
            lambda: assessments.restore_trial(self.db, self.coach.id, self.tid),
        ):
            self.assertIs(act(), True)
            self.assertIs(act(), False)

    def test_whether_it_was_the_coachs_own(self) -> None:
        region = Region(1.0, 2.0, 3.0)
        for act in (
            lambda who: photos.set_joints(
                self.db, who, 1, {"hip": (1.04, 2.06)}, (), {"hip": 3.14}
            ),
            lambda who: photos.set_head(self.db, who, 1, region),
            lambda who: photos.set_cards(self.db, who, 1, {}),
            lambda who: assessments.hold_with(self.db, who, self.tid, None),
        ):
            self.assertIs(act(self.other.id), False)
            self.assertIs(act(self.coach.id), True)
        kept = self.db.execute("SELECT joints FROM photo WHERE id = 1").fetchone()[0]
        self.assertEqual(json.loads(kept), {"hip": [1.0, 2.1, 3.1]})

    def test_marks_come_back_as_they_were_kept(self) -> None:
        marking = Marking(
            marks={"hip": (1.5, 2.5), "raised_knee": (3.5, 4.5)}, mark_sds={"hip": 6.0},
            level=((10.0, 20.0), (30.0, 40.0)), corners={"near_left": (5.0, 6.0)},
            facing="left", overrule_reason="seen", marked="felt", seen=("hip",),
        )  # fmt: skip
        for number in (1, 2):
            at = markings.save(self.db, self.coach.id, self.tid, marking, once_key=f"k{number}")
            newest = markings.history(self.db, self.coach.id, self.tid)[0]
            self.assertEqual(
                newest,
                replace(
                    marking, id=at, trial_id=self.tid, number=number, created_at=newest.created_at
                ),
            )
            self.assertEqual(
                markings.newest_of(self.db, self.coach.id, self.aid), {self.tid: newest}
            )

    def test_a_copy_into_folders_that_are_not_there(self) -> None:
        to = self.folder / "one" / "two" / "copy.sqlite3"
        copies.copy(self.folder / database.FILE, to)
        self.assertEqual(copies.version(to), database.newest_version())
        self.assertEqual(to.stat().st_mode & 0o777, 0o600)
        with self.assertRaisesRegex(StoreError, "could not be copied"):
            copies.copy(self.folder / "no" / "such.sqlite3", to)
        self.assertEqual([p.name for p in to.parent.iterdir()], ["copy.sqlite3"])
