"""What is looked after by itself, once an hour: each duty catches what is its own and goes on."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from dachi import reserve
from dachi.clock import Clock
from dachi.store import outdated
from dachi.store.database import Database, connect
from dachi.studio.practice import acts as practice
from dachi.studio.recompute import recompute
from dachi.studio.record import erasing, keeping
from dachi.studio.visits import recognised
from dachi.studio.work import Work


@dataclass
class Duties:
    """The duties of a data folder, and on which day weeks were last looked at.

    ``looking``: whether joints are looked for in photographs that came in. ``to_read`` is how many
    photographs are to be read again, as after an update that measures otherwise.
    """

    folder: Path
    clock: Clock
    looking: bool = True
    weeks_on: date | None = field(default=None, init=False)
    to_read: int = field(default=0, init=False)

    def all(self) -> list[Callable[[Database], None]]:
        """Every duty; erasing and the copy first: what the others meet must not cost them."""
        return [self.erase, self.copy, self.fresh, self.let_go, self.weeks, self.look]

    def once(self) -> list[str]:
        """Do every duty; the names of those that failed, which the log tells more of."""
        failed = []
        for duty in self.all():
            try:
                with closing(connect(self.folder, self.clock)) as db:
                    duty(db)
            except Exception:
                # Whatever one of them meets, the others and the next hour are not lost to it.
                logging.getLogger("dachi").exception("the duty “%s” failed", duty.__name__)
                failed.append(duty.__name__)
        return failed

    def erase(self, db: Database) -> None:
        """Erasing that was cut short, by a kill or a full disk."""
        erasing.finish(self.folder, db.clock)

    def copy(self, db: Database) -> None:
        """Today's copy of the database, and some room put by for a full disk."""
        keeping.daily_copy(self.folder, db.clock)
        reserve.keep(self.folder)

    def fresh(self, db: Database) -> None:
        """What earlier rules derived, derived again: all of a chart by one rule."""

        def progress(done: int, total: int) -> None:
            self.to_read = total - done

        found = recompute(self.folder, db.clock, progress=progress, workers=1)
        self.to_read = 0
        if found.failed:
            words = "%d photographs could not be read again, and stay as they are"
            logging.getLogger("dachi").warning(words, found.failed)

    def let_go(self, db: Database) -> None:
        """What was put away long ago goes for good, where the clock can be believed."""
        if keeping.clock_is_trusted(self.folder, db.clock) and erasing.purge(self.folder, db):
            erasing.finish(self.folder, db.clock)
        erasing.old_faces(self.folder)

    def weeks(self, db: Database) -> None:
        """On a new day, the weeks and proposals of everybody who practises."""
        today = db.clock.today()
        if self.weeks_on == today:
            return
        for coach in outdated.coaches(db):
            # Whoever asks for a page comes before.
            practice.renew_weeks(Work(db, self.folder, coach), lambda took: time.sleep(2 * took))
        self.weeks_on = today

    def look(self, db: Database) -> None:
        """Photographs nobody has looked at yet, as the program was stopped."""
        for coach in outdated.coaches(db) if self.looking else ():
            recognised.look_at_all(Work(db, self.folder, coach))
