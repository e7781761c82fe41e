"""What every act of the studio works with."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path

from dachi.store.database import Database


@dataclass(frozen=True)
class Work:
    """The database in its transaction, the data folder, and the coach whose records these are."""

    db: Database
    folder: Path
    coach: int

    def now(self) -> datetime:
        """The wall clock's time."""
        return self.db.clock.local()

    def today(self) -> date:
        """The day on the wall clock."""
        return self.db.clock.today()
