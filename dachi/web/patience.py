"""Wrong passwords make one wait, a little longer each time: slow, never shut."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field

#: So many wrong guesses are free; from then on each doubles the wait, up to this, s.
FREE, LONGEST_S = 4, 30.0
#: Guesses are forgotten after so long, s; no more pairs than these are remembered.
FORGET_S, MOST = 3600.0, 20_000


@dataclass
class Patience:
    """Wrong guesses by account and by where they come from: a stranger's do not lock the honest."""

    wrong: dict[tuple[str, str], tuple[int, float]] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def wait(self, account: str, source: str, now: float) -> float:
        """Seconds until another guess is looked at; 0 where it is at once."""
        with self.lock:
            count, last = self.wrong.get((account.strip().casefold(), source), (0, 0.0))
        if count < FREE or now - last > FORGET_S:
            return 0.0
        return max(0.0, last + min(LONGEST_S, 2.0 ** (count - FREE)) - now)

    def guessed(self, account: str, source: str, now: float, *, right: bool) -> None:
        """Count a guess; a right one clears them."""
        key = (account.strip().casefold(), source)
        with self.lock:
            if right:
                self.wrong.pop(key, None)
                return
            count, last = self.wrong.get(key, (0, now))
            self.wrong[key] = (1 if now - last > FORGET_S else count + 1, now)
            while len(self.wrong) > MOST:
                del self.wrong[min(self.wrong, key=lambda k: self.wrong[k][1])]
