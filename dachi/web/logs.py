"""The log: a rotating file in the data folder, tokens and people's names taken out."""

from __future__ import annotations

import logging
import re
from collections.abc import Callable, Iterable
from logging.handlers import RotatingFileHandler
from pathlib import Path

from dachi.clock import Clock
from dachi.errors import Told
from dachi.studio import records

FILE = "dachi.log"
MOST_BYTES, BACKUPS = 1_000_000, 4
#: Private links stand in addresses; other long secrets look like them.
_TOKENS = re.compile(
    r"(?<=/join/)[^/\s?\"']+|(?<=/me/)[^/\s?\"']+|(?<=/c/)[^/\s?\"']+|\b[\w-]{24,}\b(?:\.[\w-]{20,})?"
)
_ADDRESS = re.compile(r"[^\s<>@\"']+@[^\s<>@\"']+\.\w+")


class Discreet(logging.Formatter):
    """A formatter that leaves out tokens, addresses and names.

    ``names`` says whose names those are at the moment; where it cannot, everything quoted in
    the message goes.
    """

    def __init__(self, names: Callable[[], Iterable[str]]) -> None:
        super().__init__("%(asctime)s %(levelname)s %(name)s: %(message)s")
        self._names = names

    def format(self, record: logging.LogRecord) -> str:
        """The record as a line (and its traceback) without what identifies anybody."""
        text = _ADDRESS.sub("[address]", _TOKENS.sub("[token]", super().format(record)))
        try:
            names = sorted({n for n in self._names() if n.strip()}, key=len, reverse=True)
        except (Told, OSError):
            return re.sub(r"'[^'\n]*'|\"[^\"\n]*\"|“[^”\n]*”", "[left out]", text)
        for name in names:
            text = re.sub(rf"(?<!\w){re.escape(name)}(?!\w)", "[name]", text)
        return text


def keep_log(folder: Path, clock: Clock) -> logging.Handler:
    """Write warnings and errors into the data folder, and to where the program was started."""

    def names() -> Iterable[str]:
        return records.everybodys_names(folder, clock)

    discreet = Discreet(names)
    kept = RotatingFileHandler(
        folder / FILE, maxBytes=MOST_BYTES, backupCount=BACKUPS, encoding="utf-8", delay=True
    )
    root = logging.getLogger()
    root.setLevel(logging.WARNING)
    for handler in (kept, logging.StreamHandler()):
        handler.setFormatter(discreet)
        root.addHandler(handler)
    return kept
