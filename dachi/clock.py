"""The time of day, read in one place and handed to whatever asks for it."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta


def _system() -> datetime:
    return datetime.now().astimezone()


@dataclass(frozen=True)
class Clock:
    """Tells the time. ``read`` returns an aware datetime; tests put their own in its place."""

    read: Callable[[], datetime] = _system
    #: Seconds that only ever go on, whatever anybody sets the clock to.
    ticks: Callable[[], float] = time.monotonic

    def local(self) -> datetime:
        """The wall clock's time, without an offset: what coaches and visits are dated by."""
        return self.read().astimezone().replace(tzinfo=None)

    def today(self) -> date:
        """The day on the wall clock."""
        return self.local().date()

    def stamp(self, days_ago: float = 0.0) -> str:
        """UTC as stored: ISO 8601 to the millisecond."""
        at = self.read().astimezone(UTC) - timedelta(days=days_ago)
        return at.isoformat(timespec="milliseconds")

    def seconds(self) -> float:
        """Seconds since 1970."""
        return self.read().timestamp()
