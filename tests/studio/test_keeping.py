"""Backup, restore and check: what a record is worth when something breaks."""

import contextlib
import io
import json
import os
import resource
import shutil
import sqlite3
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from dachi.cli import main
from dachi.clock import Clock
from dachi.photos.ingest import path_of
from dachi.store import copies, photos, practitioners, private_links
from dachi.store.database import (
    FILE,
    MIGRATIONS,
    Damaged,
    Database,
    DiskFull,
    DiskTrouble,
    StoreError,
    connect,
    disk_trouble,
    migrate,
    newest_version,
)
from dachi.studio.record import keeping
from dachi.studio.record.keeping import KeepingProblem
from dachi.web.app import create_app, open_on
from tests.support import CLOCK, Pages, asked_of, day_ago, plain_picture, rendered


def rows(path: Path) -> list[str]:
    with closing(sqlite3.connect(path)) as db:
        return list(db.iterdump())


class Keeping(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.aid = self.new_assessment()
        self.shot(self.aid)
        self.upload(self.aid, plain_picture(800, 600), "second.jpg", number="2")
        self.shas = sorted(photos.known_hashes(self.db))
        self.out = self.folder.with_name(self.folder.name + "-out")
        self.addCleanup(shutil.rmtree, self.out, ignore_errors=True)
        self.out.mkdir()
        self.zip = self.out / "kept.zip"

    def run_it(self, *args: str) -> tuple[int, str]:
        heard = io.StringIO()
        with contextlib.redirect_stdout(heard), contextlib.redirect_stderr(heard):
            return main(list(args)), heard.getvalue()

    def picture(self, n: int = 0) -> Path:
        return path_of(self.folder, self.shas[n], "photo")


class Backups(Keeping):
    def test_there_and_back(self) -> None:
        """While the program runs and writes: as of one moment, and the same in an empty folder."""
        made = keeping.backup(self.folder, self.zip, CLOCK)
        self.assertEqual((made.photos, made.bad), (2, ()))
        practitioners.add(self.db, self.coach.id, "Later")
        home = self.out / "again"
        about = keeping.restore(self.zip, home)
        self.assertEqual(about.counts["photos"], 2)
        for path in (self.folder / "photos").glob("*/*"):
            other = home / path.relative_to(self.folder)
            self.assertEqual(other.read_bytes(), path.read_bytes())
        self.assertEqual(
            (home / "secret.key").read_bytes(), (self.folder / "secret.key").read_bytes()
        )
        with closing(connect(home, CLOCK)) as db:
            self.assertNotIn("Later", practitioners.everybodys_names(db))
        # The restored record opens, and its pictures are served.
        open_on(self.app, home)
        client = self.app.test_client()
        self.client = client
        self.sign_in()
        self.assertEqual(self.client.get("/photo/1/preview.jpg").status_code, 200)
        self.assertTrue(keeping.check(home).whole)
        self.assertEqual(
            keeping.last_backup(self.folder), {"made_at": mock.ANY, "name": "kept.zip"}
        )

    def test_nothing_is_written_over(self) -> None:
        keeping.backup(self.folder, self.zip, CLOCK)
        with self.assertRaisesRegex(KeepingProblem, "is there already"):
            keeping.backup(self.folder, self.zip, CLOCK)
        before = sorted(p.name for p in self.folder.rglob("*"))
        with self.assertRaisesRegex(KeepingProblem, "holds a record already"):
            keeping.restore(self.zip, self.folder)
        self.assertEqual(sorted(p.name for p in self.folder.rglob("*")), before)
        with self.assertRaisesRegex(KeepingProblem, "no database"):
            keeping.backup(self.out / "nowhere", self.out / "x.zip", CLOCK)

    def test_a_damaged_or_foreign_file_puts_nothing_back(self) -> None:
        keeping.backup(self.folder, self.zip, CLOCK)
        whole = self.zip.read_bytes()
        with zipfile.ZipFile(self.zip) as found:
            name = next(n for n in found.namelist() if n.startswith("photos/"))
            offset = found.getinfo(name).header_offset + 400
        swapped = bytearray(whole)
        swapped[offset] ^= 255
        evil = io.BytesIO()
        with zipfile.ZipFile(evil, "w") as out:
            files = {"photos/../evil": {"sha256": "0" * 64, "bytes": 1}}
            out.writestr("manifest.json", json.dumps({"format": "dachi-backup", "version": 1, "files": files, "made_at": "", "schema": 1, "counts": {}}))  # fmt: skip
        newer = io.BytesIO()
        with zipfile.ZipFile(newer, "w") as out:
            out.writestr("manifest.json", json.dumps({"format": "dachi-backup", "version": 9}))
        for data, words in (
            (bytes(swapped), "damaged|put back"), (whole[: len(whole) // 2], "cut short"),
            (b"", "no backup"), (plain_picture(), "no backup"), (evil.getvalue(), "which no backup does"),
            (newer.getvalue(), "newer Dachi"),
        ):  # fmt: skip
            self.zip.write_bytes(data)
            home = self.out / "again"
            with self.subTest(words), self.assertRaisesRegex(KeepingProblem, words):
                keeping.restore(self.zip, home)
            self.assertFalse(home.exists())
            self.assertEqual([p.name for p in self.out.iterdir()], ["kept.zip"])

    def test_what_is_lost_already_is_said(self) -> None:
        self.picture(0).unlink()
        self.picture(1).write_bytes(b"")
        made = keeping.backup(self.folder, self.zip, CLOCK)
        self.assertEqual(sorted(made.bad), self.shas)

    def test_the_commands(self) -> None:
        """As the README has it: back up, look, put back somewhere else, check."""
        data = ("--data", str(self.folder))
        private_links.make(self.db, self.coach.id, self.pid)
        status, words = self.run_it("backup", str(self.zip), *data)
        self.assertEqual(status, 0, words)
        self.assertIn("2 pictures", words)
        home = str(self.out / "again")
        status, words = self.run_it("restore", str(self.zip), "--data", home, "--try")
        self.assertEqual((status, Path(home).exists()), (0, False))
        self.assertIn("would be put into", words)
        status, words = self.run_it("restore", str(self.zip), "--data", home)
        self.assertEqual((status, Path(home).exists()), (2, False), "asked, and nobody answered")
        for name in (
            "people, also those who were erased since: Runa",
            "work again: Runa",
            "coach@quay.example",
        ):
            self.assertIn(name, words)
        self.assertEqual(self.run_it("restore", str(self.zip), "--data", home, "--yes")[0], 0)
        status, words = self.run_it("check", "--data", home)
        self.assertEqual((status, words), (0, "The database and 2 pictures are whole.\n"))
        status, words = self.run_it("restore", str(self.zip), "--data", home, "--yes")
        self.assertEqual(status, 2)
        self.assertIn("nothing is written over", words)
        self.assertEqual(self.run_it("check", "--data", str(self.out))[0], 2)
        self.assertEqual(self.run_it("backup", str(self.out), *data)[0], 2)

    def test_what_comes_back_is_asked_about(self) -> None:
        """Nobody is signed in by it; private links go on, or end if that is wanted."""
        private_links.make(self.db, self.coach.id, self.pid)
        keeping.backup(self.folder, self.zip, CLOCK)
        cookie = self.client.get_cookie("dachi")
        assert cookie is not None
        heard: list[copies.ComesBack] = []
        home = self.out / "again"

        def no(back: copies.ComesBack) -> bool:
            heard.append(back)
            return False

        self.assertIsNone(keeping.restore(self.zip, home, no))
        self.assertEqual([p.name for p in self.out.iterdir()], ["kept.zip"])
        (back,) = heard
        self.assertEqual((back.people, back.links, back.consents), (("Runa",),) * 3)
        self.assertEqual(back.sessions, 1)
        for end, links in ((False, 1), (True, 0)):
            home = self.out / f"again-{end}"
            keeping.restore(self.zip, home, end_links=end)
            with closing(sqlite3.connect(home / "dachi.sqlite3")) as db:
                (left,) = db.execute("SELECT count(*) FROM private_link WHERE revoked_at IS NULL").fetchone()  # fmt: skip
                self.assertEqual(left, links)
            open_on(self.app, home)
            old = self.app.test_client()
            old.set_cookie("dachi", cookie.value)
            self.assertEqual(old.get("/").status_code, 302, "a cookie of then opens nothing")

    def test_a_backup_of_the_next_version_is_a_newer_ones(self) -> None:
        keeping.backup(self.folder, self.zip, CLOCK)
        with zipfile.ZipFile(self.zip) as found:
            about = json.loads(found.read("manifest.json"))
        self.assertEqual(about["version"], 1)
        with zipfile.ZipFile(self.zip, "w") as out:
            out.writestr("manifest.json", json.dumps(about | {"version": 2}))
        with self.assertRaisesRegex(KeepingProblem, "made by a newer Dachi"):
            keeping.offered(self.zip)

    def test_what_may_lie_in_a_backup(self) -> None:
        for name, good in (
            ("dachi.sqlite3", True), ("secret.key", True), ("photos/ab/abc.jpg", True), ("outbox/1/x.eml", True),
            ("photos/abc.jpg", False), ("tls/ab/authority.key", False), ("photos/ab/../x", False), ("/etc/passwd", False),
            ("photos//x", False), ("photos/a/b\\c", False), ("a/b/c", False), ("photos/a/b/c", False), ("log", False),
        ):  # fmt: skip
            self.assertEqual(keeping._expected(name), good, name)

    def test_how_far_a_check_is(self) -> None:
        said: list[tuple[int, int]] = []
        keeping.check(self.folder, progress=lambda n, of: said.append((n, of)))
        self.assertEqual(said, [(1, 2), (2, 2)])

    def test_no_room(self) -> None:
        keeping.backup(self.folder, self.zip, CLOCK)
        with (
            mock.patch.object(shutil, "disk_usage", return_value=mock.Mock(free=1000)),
            self.assertRaisesRegex(KeepingProblem, "there is room for"),
        ):
            keeping.restore(self.zip, self.out / "again")
        self.assertEqual([p.name for p in self.out.iterdir()], ["kept.zip"])

    def test_a_list_of_files_that_is_a_bomb(self) -> None:
        for about in (b"0" * 300_000_000, b"[" + b"[]," * 10_000_000 + b"[]]", b"[" * 100_000):
            with zipfile.ZipFile(self.zip, "w", zipfile.ZIP_DEFLATED) as out:
                out.writestr("manifest.json", about)
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            with self.assertRaisesRegex(KeepingProblem, "no backup of Dachi"):
                keeping.restore(self.zip, self.out / "again")
            more = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
            self.assertLess(more, 100_000)

    def test_what_is_written_is_its_owners(self) -> None:
        """Whatever the folder was before: database, copies, log, backup and export."""
        self.folder.chmod(0o755)
        (self.folder / "dachi.sqlite3").chmod(0o644)
        (self.folder / "dachi.log").write_text("x")
        open_on(self.app, self.folder)
        with self.umask(0o022):
            keeping.backup(self.folder, self.zip, CLOCK)
            self.run_it("export", str(self.out / "x.zip"), "--coach", "coach@quay.example", "--data", str(self.folder))  # fmt: skip
            keeping.daily_copy(self.folder, CLOCK)
        for path in (
            self.folder / "dachi.sqlite3", self.folder / "dachi.log", self.zip, self.out / "x.zip",
            *(self.folder / "copies").glob("*.sqlite3"),
        ):  # fmt: skip
            self.assertEqual(path.stat().st_mode & 0o077, 0, path.name)

    @contextlib.contextmanager
    def umask(self, mask: int) -> Iterator[None]:
        before = os.umask(mask)
        try:
            yield
        finally:
            os.umask(before)


class Checks(Keeping):
    def test_lost_damaged_unknown_and_healed_from_a_backup(self) -> None:
        keeping.backup(self.folder, self.zip, CLOCK)
        good = [self.picture(n).read_bytes() for n in (0, 1)]
        self.picture(0).unlink()
        self.picture(1).write_bytes(plain_picture(640, 480))
        stray = path_of(self.folder, "ab" + "0" * 62, "preview")
        stray.parent.mkdir(exist_ok=True)
        stray.write_bytes(b"x")
        found = keeping.check(self.folder)
        self.assertEqual((found.lost, found.damaged), (self.shas[:1], self.shas[1:]))
        self.assertEqual(found.unknown, [stray.name])
        self.assertFalse(found.whole)
        status, words = self.run_it("check", "--data", str(self.folder))
        self.assertEqual(status, 1)
        self.assertIn(f"picture lost: {self.shas[0]}", words)
        found = keeping.check(self.folder, self.zip)
        self.assertEqual((sorted(found.healed), found.whole), (self.shas, True))
        self.assertEqual([self.picture(n).read_bytes() for n in (0, 1)], good)

    def test_healed_from_a_folder_of_originals(self) -> None:
        (self.out / "card").mkdir()
        (self.out / "card" / "IMG_1.jpg").write_bytes(rendered()[0])
        (self.out / "card" / "IMG_2.jpg").write_bytes(plain_picture(800, 600))
        (self.out / "card" / "other.txt").write_bytes(b"no picture")
        for n in (0, 1):
            for kind in ("photo", "preview", "thumb"):
                path_of(self.folder, self.shas[n], kind).unlink()
        found = keeping.check(self.folder, self.out / "card")
        self.assertEqual((sorted(found.healed), found.whole), (self.shas, True))
        self.assertEqual(self.client.get("/photo/1/thumb.jpg").status_code, 200)

    def test_previews_are_made_again(self) -> None:
        path = path_of(self.folder, self.shas[0], "thumb")
        path.write_bytes(b"")
        self.assertTrue(keeping.check(self.folder).whole)
        self.assertGreater(path.stat().st_size, 500)

    def test_a_broken_page_is_said_everywhere(self) -> None:
        self.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self.db.close()
        path = self.folder / "dachi.sqlite3"
        data = bytearray(path.read_bytes())
        for at in range(4096 * 2, len(data), 4096):
            data[at : at + 64] = b"\xff" * 64
        path.write_bytes(bytes(data))
        for wal in self.folder.glob("dachi.sqlite3-*"):
            wal.unlink()
        self.assertTrue(keeping.check(self.folder).database)
        answer = self.client.get("/")
        self.assertEqual(answer.status_code, 503)
        self.assertIn("The database is damaged", self.text(answer))
        path.write_bytes(b"not a database at all, but long enough to be read as one" * 100)
        with self.assertRaises(StoreError):
            create_app(self.folder, CLOCK)
        status, words = self.run_it("backup", str(self.zip), "--data", str(self.folder))
        self.assertEqual(status, 2, words)
        self.assertFalse(self.zip.exists())

    def test_damaged_pictures_are_not_served(self) -> None:
        (tid,) = self.db.execute("SELECT id FROM trial ORDER BY id LIMIT 1").fetchone()
        sha = photos.get(self.db, self.coach.id, 1).sha256  # type: ignore[union-attr]
        bench = f"/t/{tid}/bench.jpg"
        self.assertEqual(self.client.get(bench).status_code, 200)
        for bad in (b"", plain_picture(640, 480)):
            path_of(self.folder, sha, "photo").write_bytes(bad)
            answer = self.client.get(bench)
            self.assertEqual(answer.status_code, 404)
            self.assertIn("is damaged", self.text(answer))
        # Sending the original again says that it is there, and heals it.
        answer = self.upload(self.aid, rendered()[0], number="3")
        self.assertIn("already there", self.text(answer))
        self.assertEqual(self.client.get(bench).status_code, 200)


class Versions(Keeping):
    def test_a_newer_schema_is_left_alone(self) -> None:
        self.db.execute(f"PRAGMA user_version = {newest_version() + 1}")
        with self.assertRaisesRegex(StoreError, "newer Dachi"):
            migrate(self.db)
        done = subprocess.run(
            [sys.executable, "-m", "dachi", "serve", "--port", "1", "--data", str(self.folder)],
            capture_output=True, text=True, timeout=60, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 2)
        self.assertNotIn("Traceback", done.stderr)

    def test_what_was_there_is_copied_before_it_is_brought_up_to_date(self) -> None:
        scripts = self.out / "scripts"
        shutil.copytree(MIGRATIONS, scripts)
        next_one = newest_version() + 1
        (scripts / f"{next_one:03d}-later.sql").write_text(
            "ALTER TABLE coach ADD COLUMN later TEXT;"
        )
        before = rows(self.folder / "dachi.sqlite3")
        self.assertEqual(migrate(self.db, scripts), next_one)
        (kept,) = (self.folder / "copies").glob(f"before-{next_one:03d}-*.sqlite3")
        self.assertEqual(rows(kept), before)
        self.assertEqual(copies.version(kept), newest_version())
        self.assertEqual(kept.stat().st_mode & 0o077, 0)
        # A script that fails leaves all as it was, and the copy too.
        (scripts / f"{next_one + 1:03d}-wrong.sql").write_text("ALTER TABLE nothing ADD COLUMN x;")
        with self.assertRaisesRegex(StoreError, "brought up to date"):
            migrate(self.db, scripts)

    def test_a_copy_a_day_for_a_fortnight(self) -> None:
        made = []
        for day in range(0, 20, 2):
            later = Clock(lambda day=day: CLOCK.local() + timedelta(days=day))
            made.append(keeping.daily_copy(self.folder, later))
            self.assertIsNone(keeping.daily_copy(self.folder, later), "once a day")
        there = sorted((self.folder / "copies").glob("day-*.sqlite3"))
        self.assertEqual(there, [p for p in made if p is not None][2:])
        self.assertEqual(copies.troubles(there[-1]), [])


class Disks(Keeping):
    def test_what_a_failed_write_means(self) -> None:
        for number, kind, words in (
            (28, DiskFull, "The disk is full"), (30, DiskTrouble, "cannot be written"),
            (13, DiskTrouble, "cannot be written"), (5, DiskTrouble, "reports an error"), (2, None, ""),
        ):  # fmt: skip
            found = disk_trouble(OSError(number, os.strerror(number)))
            self.assertEqual(type(found) if found else None, kind)
            self.assertIn(words, str(found))

    def test_every_write_is_told_of_a_disk_that_takes_nothing(self) -> None:
        """A withdrawal of consent too: it used to be “belongs to somebody else”."""

        def read_only(folder: Path, clock: Any) -> Database:
            path = f"file:{folder / FILE}?mode=ro"
            db = sqlite3.connect(path, isolation_level=None, factory=Database, uri=True)
            db.clock, db.row_factory = clock, sqlite3.Row
            return db

        for path, form in (
            (f"/p/{self.pid}/plan/profile", {"level": "2", "minutes": "20", "weekday": "1"}),
            (f"/p/{self.pid}/consent", {"withdraw": "1", "given_on": day_ago(0)}),
            (f"/p/{self.pid}/screening", asked_of()),
        ):
            token = self.token("/")
            with mock.patch("dachi.web.session.database.connect", read_only):
                answer = self.client.post(path, data={"csrf_token": token} | form)
            with self.subTest(path):
                self.assertEqual(answer.status_code, 507, self.text(answer)[-800:])
                self.assertIn("cannot be written to: nothing was saved", self.text(answer))

    def test_faces_that_cannot_be_kept(self) -> None:
        with mock.patch("dachi.photos.faces.write_once", side_effect=OSError(28, "No space")):
            answer = self.client.get("/photo/1/preview.jpg")
        self.assertEqual(answer.status_code, 507)
        self.assertIn("The disk is full", self.text(answer))

    def test_a_broken_database_is_no_full_disk(self) -> None:
        with mock.patch("dachi.web.session.database.connect", side_effect=Damaged()):
            self.assertEqual(self.client.get("/").status_code, 503)
