"""What the whole house keeps to: told errors, duties, fingerprints of rules, commands."""

import importlib
import inspect
import logging
import pkgutil
import re
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path
from unittest import mock

import dachi
from dachi import errors
from dachi.core.assessing.runsheet import Slot
from dachi.core.words import SAID, Place
from dachi.errors import NotDone, Told, Trouble
from dachi.store import assessments, markings, photos, positions, practitioners
from dachi.store.database import (
    _WRITES,
    MIGRATIONS,
    Busy,
    Damaged,
    Database,
    DiskFull,
    DiskTrouble,
    connect,
    migrate,
    told_of,
)
from dachi.store.markings import Marking
from dachi.studio import versions
from dachi.studio.acting import acting
from dachi.studio.bench.around import Around
from dachi.studio.duties import Duties
from dachi.studio.renew import READ_FROM, Renewed, _due
from dachi.studio.work import Work
from tests.support import CLOCK, LEG_RAISE, Studio, ago


def everything() -> None:
    for module in pkgutil.walk_packages(dachi.__path__, "dachi."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)


def told_errors(of: type[Told] = Told) -> list[type[Told]]:
    return [of, *(deeper for sub in of.__subclasses__() for deeper in told_errors(sub))]


class Errors(unittest.TestCase):
    def test_the_tree_is_as_it_is_drawn(self) -> None:
        everything()
        drawn = dict(
            re.findall(r"^ *(?:[│├└─ ]+(?:\w+: )?)?(\w+) +([a-z-]+)\b", errors.__doc__ or "", re.M)
        )
        found = {e.__name__: e.code for e in told_errors() if e.__module__.startswith("dachi.")}
        self.assertEqual({k: v for k, v in drawn.items() if k in found}, found)
        self.assertGreater(len(found), 20)
        codes = [e.code for e in told_errors() if e.__module__.startswith("dachi.")]
        self.assertEqual(len(codes), len(set(codes)), "a code for each")
        for one in told_errors():
            if one not in (Told, NotDone, Trouble) and one.__module__.startswith("dachi."):
                self.assertTrue(issubclass(one, NotDone) != issubclass(one, Trouble), one)

    def test_a_message_is_a_sentence(self) -> None:
        for text, said in (("no mat", "No mat."), ("No mat.", "No mat."), ("", ".")):
            self.assertEqual(Told(text).sentence, said)

    def test_what_the_database_means_goes_by_its_code(self) -> None:
        def failed(code: int, words: str) -> sqlite3.Error:
            error = sqlite3.OperationalError(words)
            error.sqlite_errorcode = code  # type: ignore[misc]
            return error

        full = "no such column: fullness of a locked, malformed disk"
        for code, kind in (
            (sqlite3.SQLITE_BUSY, Busy), (sqlite3.SQLITE_BUSY_SNAPSHOT, Busy),
            (sqlite3.SQLITE_LOCKED, Busy), (sqlite3.SQLITE_CORRUPT, Damaged),
            (sqlite3.SQLITE_CORRUPT_INDEX, Damaged), (sqlite3.SQLITE_NOTADB, Damaged),
            (sqlite3.SQLITE_FULL, DiskFull), (sqlite3.SQLITE_READONLY, DiskTrouble),
            (sqlite3.SQLITE_IOERR_WRITE, DiskTrouble), (sqlite3.SQLITE_ERROR, type(None)),
            (sqlite3.SQLITE_CONSTRAINT, type(None)),
        ):  # fmt: skip
            with self.subTest(code):
                self.assertIs(type(told_of(failed(code, full))), kind)


class ADuty(Studio):
    def test_one_that_fails_costs_no_other(self) -> None:
        """Whatever it meets: it used to end the thread, and with it the daily copies."""
        duties = Duties(self.folder, CLOCK, looking=False)
        names = [duty.__name__ for duty in duties.all()]
        for name in names:
            with (
                self.subTest(name),
                mock.patch.object(logging.getLogger("dachi"), "exception") as said,
            ):
                once = Duties(self.folder, CLOCK, looking=False)
                done: list[str] = []

                def act(
                    db: Database, it: str = "", name: str = name, done: list[str] = done
                ) -> None:
                    done.append(it)
                    if it == name:
                        raise RuntimeError("nobody thought of this")

                made = []
                for each in names:
                    duty = mock.Mock(side_effect=lambda db, each=each, act=act: act(db, each))
                    duty.__name__ = each
                    made.append(duty)
                with mock.patch.object(once, "all", return_value=made):
                    self.assertEqual(once.once(), [name])
                self.assertEqual(done, names)
                said.assert_called_once()

    def test_all_of_them_on_a_folder_that_is_well(self) -> None:
        duties = Duties(self.folder, CLOCK, looking=False)
        self.assertEqual(duties.once(), [])
        self.assertTrue(list((self.folder / "copies").glob("day-*")))
        self.assertEqual(duties.weeks_on, CLOCK.today())
        with mock.patch("dachi.studio.duties.practice.renew_weeks") as renewed:
            duties.once()
            renewed.assert_not_called()


class Fingerprints(unittest.TestCase):
    def test_a_word_changes_none_and_a_number_does(self) -> None:
        plain = '"""Doc."""\nX = 1\n\n\ndef f(a: int) -> int:\n    """Say."""\n    return a + X\n'
        for text, same in (
            (plain.replace("Say.", "Say it better."), True),
            (plain.replace("Doc.", "Another."), True),
            (plain.replace("    return", "    # why\n\n    return"), True),
            (plain.replace("X = 1", "X = 2"), False),
            (plain.replace("a + X", "a - X"), False),
            (plain.replace("a: int", "a: int = 0"), False),
        ):
            with self.subTest(text), tempfile.TemporaryDirectory() as name:
                one, other = Path(name) / "one.py", Path(name) / "other.py"
                one.write_text(plain)
                other.write_text(text)
                self.assertEqual(versions._said(one) == versions._said(other), same)

    def test_what_is_measured_by_is_what_is_imported(self) -> None:
        everything()
        run = versions.run_by(["dachi.core.measuring.measure"])
        module = importlib.import_module("dachi.core.measuring.measure")
        homes = {
            thing.__module__
            for thing in vars(module).values()
            if inspect.isfunction(thing) or inspect.isclass(thing)
        }
        self.assertLessEqual({h for h in homes if h.startswith("dachi.core")}, run)
        self.assertFalse([r for r in run if r.startswith(("dachi.core.judging", "dachi.web"))])
        self.assertEqual(len({versions.measuring(), versions.judging(), versions.practising()}), 3)


class Commands(Studio):
    def heights(self) -> list[float | None]:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return [who.height_cm]

    def test_what_fails_inside_takes_all_of_it_back(self) -> None:
        for error in (NotDone("no"), Trouble("no"), KeyError("x"), KeyboardInterrupt()):
            with self.subTest(error), self.assertRaises(type(error)), acting(self.work, self.pid):
                practitioners.update(self.db, self.coach.id, self.pid, height_cm=150.0)
                with acting(self.work, self.pid):
                    practitioners.update(self.db, self.coach.id, self.pid, height_cm=151.0)
                raise error
            self.assertEqual(self.heights(), [170.0])
            self.assertFalse(self.db.in_transaction or self.db.acting or self.db.concerned)

    def test_an_inner_one_may_fail_alone(self) -> None:
        with acting(self.work, self.pid):
            practitioners.update(self.db, self.coach.id, self.pid, height_cm=150.0)
            with self.assertRaises(NotDone), acting(self.work, self.pid):
                practitioners.update(self.db, self.coach.id, self.pid, height_cm=151.0)
                raise NotDone("no")
        self.assertEqual(self.heights(), [150.0])

    def test_the_outermost_renews_everybody_once(self) -> None:
        other = practitioners.add(self.db, self.coach.id, "Ota")
        with mock.patch("dachi.studio.acting.renew") as renewed:  # noqa: SIM117
            with acting(self.work, self.pid):
                with acting(self.work, other):
                    pass
                with acting(self.work, self.pid):
                    pass
                renewed.assert_not_called()
        self.assertEqual([call.args[1] for call in renewed.call_args_list], [self.pid, other])

    def test_nothing_is_written_outside_one(self) -> None:
        self.db.guard()
        with self.assertRaisesRegex(RuntimeError, "written outside a command: UPDATE"):
            practitioners.update(self.db, self.coach.id, self.pid, height_cm=150.0)
        with acting(self.work, self.pid):
            practitioners.update(self.db, self.coach.id, self.pid, height_cm=150.0)
        with self.assertRaises(RuntimeError):
            practitioners.update(self.db, self.coach.id, self.pid, height_cm=151.0)
        self.assertEqual(self.heights(), [150.0])

    def test_slow_work_holds_no_lock(self) -> None:
        with self.assertRaisesRegex(RuntimeError, "slow work"), self.db.savepoint():  # noqa: SIM117
            with self.db.unlocked():
                self.fail("the lock is held")
        self.db.begin(write=True)
        with self.db.unlocked():
            self.assertFalse(self.db.in_transaction)
            with closing(connect(self.folder, CLOCK)) as other, other.savepoint():
                other.execute("UPDATE practitioner SET height_cm = 149.0")
        self.assertTrue(self.db.in_transaction and self.db.writing)
        self.db.end(keep=True)
        self.assertEqual(self.heights(), [149.0])

    def test_reading_becomes_writing(self) -> None:
        self.db.begin(write=False)
        self.assertEqual(self.heights(), [170.0])
        with self.db.savepoint():
            practitioners.update(self.db, self.coach.id, self.pid, height_cm=150.0)
        self.assertTrue(self.db.writing)
        self.db.end(keep=False)
        self.assertEqual(self.heights(), [170.0])


class Tables(Studio):
    def test_strict_and_every_id_once(self) -> None:
        tables = {
            r["name"]: r["sql"]
            for r in self.db.execute(
                "SELECT name, sql FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'"
            )
        }
        strict = {r["name"] for r in self.db.execute("PRAGMA table_list") if r["strict"]}
        self.assertEqual(set(tables) - strict, set())
        own = {n for n, sql in tables.items() if re.search(r"\bid INTEGER PRIMARY KEY", sql)}
        self.assertEqual({n for n in own if "AUTOINCREMENT" not in tables[n]}, set())
        self.assertGreater(len(own), 15)

    def test_what_refers_is_found_without_going_through_all(self) -> None:
        for table in [r[0] for r in self.db.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")]:  # fmt: skip
            led = {
                self.db.execute(f"PRAGMA index_info({i['name']})").fetchone()["name"]
                for i in self.db.execute(f"PRAGMA index_list({table})")
            }
            led |= {
                c["name"] for c in self.db.execute(f"PRAGMA table_info({table})") if c["pk"] == 1
            }
            for key in self.db.execute(f"PRAGMA foreign_key_list({table})"):
                with self.subTest(f"{table}.{key['from']}"):
                    self.assertIn(key["from"], led)


class FromWordsToKinds(unittest.TestCase):
    """What was kept as English before, as a hand-written older database has it."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="dachi-older-")
        self.addCleanup(holder.cleanup)
        folder = Path(holder.name)
        scripts = folder / "scripts"
        scripts.mkdir()
        for path in MIGRATIONS.glob("*.sql"):
            if path.name < "027":
                (scripts / path.name).write_text(path.read_text("utf-8"), "utf-8")
        (folder / "data").mkdir()
        self.db = connect(folder / "data", CLOCK)
        self.addCleanup(self.db.close)
        self.assertEqual(migrate(self.db, scripts), 26)
        self.db.executescript(
            """
            INSERT INTO coach (id, email, name, password_hash, session_stamp, created_at)
              VALUES (1, 'a@quay.example', 'Wenna', 'x', 'y', '2026-01-01');
            INSERT INTO practitioner (id, coach_id, call_name, created_at) VALUES (4, 1, 'Al', 'z');
            INSERT INTO practice_log VALUES (3, 4, 'k', '2026-11-01T07:00', 60, 'right', 1, '{}',
              '', NULL, 'z', NULL);
            INSERT INTO practice_pain VALUES (3, 'd', 'groin', 'pinch'), (3, 'd', 'left knee, behind',
              'ache'), (3, 'd', 'something of my own', 'ache');
            INSERT INTO assessment (id, practitioner_id, taken_at, warmth, created_at)
              VALUES (9, 4, '2026-11-01T09:00', 'warm', 'z');
            INSERT INTO assessment_state (assessment_id, pain, saved_at)
              VALUES (9, '{"low back": 3, "my toe": 2, "my ear": 5}', 'z');
            INSERT INTO proposal VALUES (1, 4, 'rest', 's', 'Rest.', 'It hurts.', '{}', 'z', 'z', 1),
              (2, 4, 'rest', 's', 'Rest.', 'It hurts.', '{}', 'z', NULL, NULL);
            INSERT INTO photo (id, coach_id, sha256, source_sha256, width, height, origin, created_at)
              VALUES (1, 1, 'a', 'a', 9, 9, 'upload', 'z'), (2, 1, 'b', 'b', 9, 9, 'upload', 'z');
            INSERT INTO trial (id, assessment_id, photo_id, pose, side, mode, number, created_at,
              held_with) VALUES (5, 9, 1, 'front-split', 'left', 'passive', 1, 'z',
              'split-squareness|left|passive|1'), (6, 9, 2, 'split-squareness', 'left', 'passive', 1,
              'z', NULL);
            """
        )
        self.assertEqual(migrate(self.db), max(int(p.name[:3]) for p in MIGRATIONS.glob("*.sql")))

    def rows(self, sql: str) -> list[tuple[object, ...]]:
        return [tuple(r) for r in self.db.execute(sql)]

    def test_places(self) -> None:
        found = [place for (place,) in self.rows("SELECT place FROM practice_pain")]
        self.assertEqual(found, ["groin", "left_knee_back", "elsewhere"])
        self.assertLessEqual(set(found), {p.value for p in Place})
        (pain,) = self.rows("SELECT pain FROM assessment_state")
        self.assertEqual(pain[0], '{"elsewhere":5,"low_back":3}')
        self.assertEqual(set(SAID) & set(Place), set(Place), "each has words")

    def test_what_was_decided_keeps_its_words(self) -> None:
        self.assertEqual(
            self.rows("SELECT id, why, about, accepted FROM proposal"),
            [(1, "earlier", '{"text":"Rest.","reason":"It hurts."}', 1)],
        )

    def test_the_second_photograph_is_a_trial(self) -> None:
        self.assertEqual(self.rows("SELECT id, held_with FROM trial"), [(5, 6), (6, None)])

    def test_no_id_comes_again(self) -> None:
        coach = 1
        self.db.execute("DELETE FROM proposal")
        self.db.execute("DELETE FROM trial")
        self.db.execute("DELETE FROM assessment_state")
        self.db.execute("DELETE FROM assessment WHERE id = 9")
        again = assessments.add(self.db, coach, 4, taken_at=ago(1), warmth="warm")
        self.assertGreater(again, 9)


class WhatReadingsAreMadeFrom(Studio):
    """A command compares readings with what they were made from only where it wrote any of that."""

    def test_every_table_that_is_looked_at_is_named(self) -> None:
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(2), warmth="warm")
        photo = photos.add(self.db, self.coach.id, photos.NewPhoto(sha256="0" * 64, source_sha256="1" * 64, width=1280, height=960, focal_35mm=26.0, taken_at=None, origin="upload"))  # fmt: skip
        place = positions.for_photo(self.db, self.coach.id, aid, "side", "", (1280, 960))
        tid = assessments.add_trial(self.db, self.coach.id, aid, photo, Slot(LEG_RAISE, "left", "passive", 1), variant={}, position_id=place)  # fmt: skip
        markings.save(self.db, self.coach.id, tid, Marking(marks={"hip": (1.0, 2.0)}))
        read: set[str] = set()

        def watch(action: int, table: str | None, *_: object) -> int:
            if action == sqlite3.SQLITE_READ and table:
                read.add(table)
            return sqlite3.SQLITE_OK

        with closing(connect(self.folder, CLOCK)) as db:
            db.set_authorizer(watch)
            work = Work(db, self.folder, self.coach.id)
            due = _due(Around(work, self.pid), aid)
        self.assertEqual(len(due), 1)
        # What checks said of a trial is told with it, and made of its reading.
        self.assertEqual(read - {"check_result", "sqlite_master"} - READ_FROM, set())
        self.assertGreater(len(read), 5)

    def test_every_statement_that_writes_is_noticed(self) -> None:
        seen = 0
        for path in sorted(Path(dachi.__file__).parent.rglob("*.py")):
            for literal in re.findall(
                r'"((?:INSERT|REPLACE|UPDATE|DELETE)\b[^"]*)', path.read_text("utf-8")
            ):
                if re.search(r" (INTO|SET|FROM)\b", literal):
                    seen += 1
                    self.assertIsNotNone(
                        _WRITES.match(literal.replace("{", "").replace("}", "")), literal
                    )
        self.assertGreater(seen, 80)

    def test_only_then_they_are_compared(self) -> None:
        with mock.patch("dachi.studio.renew._readings", return_value=Renewed()) as compared:
            with acting(self.work, self.pid):
                self.db.execute("UPDATE practice_log SET notes = 'x'")
            compared.assert_not_called()
            with acting(self.work, self.pid), acting(self.work, self.pid):
                self.db.execute("UPDATE practitioner SET thigh_cm = 40.0")
            compared.assert_called_once()
            with acting(self.work, self.pid):
                pass
            compared.assert_called_once()
