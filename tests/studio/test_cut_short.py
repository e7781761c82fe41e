"""Keeping, moving and erasing killed midway: nothing is left beside what is finished, nothing lost."""

import contextlib
import io
import os
import shutil
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import numpy as np
from PIL import Image

from dachi import start, unfinished
from dachi.store import accounts, photos, practitioners
from dachi.store.database import connect
from dachi.studio.duties import Duties
from dachi.studio.record import erasing, keeping, moving
from dachi.studio.work import Work
from tests import slow
from tests.studio.test_keeping import Keeping
from tests.support import CLOCK, PASSWORD, empty_database


@slow("kills thirty of each")
class Killed(Keeping):
    """Backup, restore, import and erasing, each killed at thirty moments of its way.

    After the next start nothing of it is left beside what is finished, and nothing is lost.
    """

    KILLS = 30

    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(3)
        for n in range(3, 10):
            picture = Image.fromarray(rng.integers(0, 255, (700, 900, 3), np.uint8))
            out = io.BytesIO()
            picture.save(out, "JPEG")
            self.upload(self.aid, out.getvalue(), f"{n}.jpg", number=str(n))
        self.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def files(self, folder: Path) -> set[str]:
        out = {"dachi.sqlite3-wal", "dachi.sqlite3-shm", "serving.lock"}
        return {p.relative_to(folder).as_posix() for p in folder.rglob("*") if p.is_file()} - out

    def start(self, folder: Path) -> None:
        """What a start does with what it finds."""
        start._sweep(folder, CLOCK)
        with closing(connect(folder, CLOCK)) as db:
            Duties(folder, CLOCK).erase(db)

    def killed(self, act: Callable[[], object], after: float | None) -> bool:
        """Do something in a process that is killed after so long; whether it was done by then."""
        child = os.fork()
        if child == 0:
            with contextlib.suppress(BaseException):
                act()
                os._exit(0)
            os._exit(1)
        if after is not None:
            time.sleep(after)
            os.kill(child, signal.SIGKILL)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        self.assertIn(status, (0, -signal.SIGKILL))
        return status == 0

    def moments(self, act: Callable[[], object]) -> Iterator[float]:
        """Moments spread over how long something takes, and well beyond its end: machines are not always as quick."""
        began = time.monotonic()
        self.assertTrue(self.killed(act, None))
        took = time.monotonic() - began
        for n in range(self.KILLS):
            yield took * 1.6 * n / self.KILLS

    def test_backup(self) -> None:
        def act() -> None:
            keeping.backup(self.folder, self.zip, CLOCK)

        before = self.files(self.folder)
        done = 0
        for moment in self.moments(act):
            self.zip.unlink(missing_ok=True)
            finished = self.killed(act, moment)
            done += finished
            self.start(self.folder)
            self.assertLessEqual(self.files(self.folder) - before, {"copies/last-backup.json"})
            self.assertLessEqual({p.name for p in self.out.iterdir()}, {"kept.zip"})
            if self.zip.exists():
                keeping.offered(self.zip)
            self.assertTrue(self.zip.exists() or not finished)
        self.assertTrue(0 < done < self.KILLS)

    def test_restore(self) -> None:
        keeping.backup(self.folder, self.zip, CLOCK)
        home = self.out / "again"

        def act() -> None:
            keeping.restore(self.zip, home)

        done = 0
        for moment in self.moments(act):
            shutil.rmtree(home, ignore_errors=True)
            done += self.killed(act, moment)
            unfinished.sweep_beside(home)
            self.assertLessEqual({p.name for p in self.out.iterdir()}, {"kept.zip", "again"})
            if home.exists():
                self.assertTrue(keeping.check(home).whole)
                self.assertEqual(keeping.check(home).photos, len(photos.known_hashes(self.db)))
        self.assertTrue(0 < done < self.KILLS)

    def test_import(self) -> None:
        box = self.out / "box.zip"
        with box.open("wb") as out:
            moving.send(self.work, [self.pid], out)
        home = self.out / "other"

        def act() -> None:
            with closing(connect(home, CLOCK)) as db:
                coach = accounts.everybody(db)[0].id
                moving.receive(Work(db, home, coach), box)

        empty = self.out / "empty"
        empty.mkdir()
        (empty / "dachi.sqlite3").write_bytes(empty_database())
        with closing(connect(empty, CLOCK)) as db:
            accounts.add(db, "b@quay.example", "Bo", PASSWORD)
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        done = 0
        shutil.copytree(empty, home)
        for moment in self.moments(act):
            shutil.rmtree(home)
            shutil.copytree(empty, home)
            finished = self.killed(act, moment)
            done += finished
            self.start(home)
            with closing(connect(home, CLOCK)) as db:
                people = [p.practitioner.call_name for p in practitioners.listing(db, 1)]
            self.assertTrue(people == ["Runa"] or not finished)
            pictures = {f for f in self.files(home) if f.endswith(".jpg")}
            self.assertEqual(len(pictures), 3 * 9 if people else 0, (people, moment))
            self.assertTrue(keeping.check(home).whole)
        self.assertTrue(0 < done < self.KILLS)

    def test_erasing(self) -> None:
        home = self.out / "other"

        def act() -> None:
            with closing(connect(home, CLOCK)) as db:
                erasing.person(Work(db, home, self.coach.id), self.pid)
            erasing.finish(home, CLOCK)

        keeping.daily_copy(self.folder, CLOCK)
        shutil.copytree(self.folder, home)
        done = gone = 0
        for moment in self.moments(act):
            shutil.rmtree(home)
            shutil.copytree(self.folder, home)
            finished = self.killed(act, moment)
            done += finished
            self.start(home)
            with closing(connect(home, CLOCK)) as db:
                there = practitioners.get(db, self.coach.id, self.pid) is not None
                self.assertEqual(erasing.waiting(Work(db, home, self.coach.id)), 0)
            self.assertFalse(there and finished)
            gone += not there
            if there:
                self.assertTrue(keeping.check(home).whole)
                continue
            for path in (p for p in home.rglob("*") if p.is_file()):
                self.assertNotIn(b"Runa", path.read_bytes(), path.name)
                self.assertNotIn(".jpg", path.name)
        self.assertTrue(0 < done < self.KILLS)
        self.assertGreater(gone, done, "some were finished by the start")
