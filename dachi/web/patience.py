"""Wrong passwords make one wait, a little longer each time: slow, never shut."""

from __future__ import annotations

import threading
from collections import deque
from dataclasses import dataclass, field

#: So many wrong guesses are free; from then on each doubles the wait, up to this, s.
FREE, LONGEST_S = 4, 30.0
#: Guesses are forgotten after so long, s; no more pairs than these are remembered.
FORGET_S, MOST = 3600.0, 20_000
#: So many wrong guesses a minute are looked at of all sources that were never right, however many
#: addresses they come from: each costs the machine a tenth of a second.
STRANGERS, MINUTE_S = 30, 60.0


@dataclass
class Patience:
    """Wrong guesses by account and by where they come from: a stranger's do not lock the honest.

    ``now`` is in seconds of a clock that is never set (``Clock.ticks``).
    """

    wrong: dict[tuple[str, str], tuple[int, float]] = field(default_factory=dict)
    strangers: deque[float] = field(default_factory=lambda: deque(maxlen=STRANGERS))
    friends: dict[str, None] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def wait(self, account: str, source: str, now: float) -> float:
        """Seconds until another guess is looked at; 0 where it is at once."""
        with self.lock:
            count, last = self.wrong.get((account.strip().casefold(), source), (0, 0.0))
            crowded = source not in self.friends and len(self.strangers) == STRANGERS
            whole = max(0.0, self.strangers[0] + MINUTE_S - now) if crowded else 0.0
        if count < FREE or now - last > FORGET_S:
            return whole
        return max(whole, last + min(LONGEST_S, 2.0 ** (count - FREE)) - now)

    def guessed(self, account: str, source: str, now: float, *, right: bool) -> None:
        """Count a guess; a right one clears them, and its source is no stranger any more."""
        key = (account.strip().casefold(), source)
        with self.lock:
            if right:
                self.wrong.pop(key, None)
                self.friends.pop(source, None)
                self.friends[source] = None
                while len(self.friends) > MOST:
                    del self.friends[next(iter(self.friends))]
                return
            if source not in self.friends:
                self.strangers.append(now)
            count, last = self.wrong.pop(key, (0, now))
            # The last is the newest: the oldest go first.
            self.wrong[key] = (1 if now - last > FORGET_S else count + 1, now)
            while len(self.wrong) > MOST:
                del self.wrong[next(iter(self.wrong))]
