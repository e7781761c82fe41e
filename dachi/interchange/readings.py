"""Readings as CSV: UTF-8, one reading a row, ISO dates, units in the header."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from dachi.errors import NotDone

HEADER = (
    "practitioner", "taken_at", "warmth", "pose", "variant", "side", "mode", "trial", "measure",
    "value", "sd", "unit", "method", "status", "overruled", "prop_height_cm", "marker",
)  # fmt: skip

#: Cells that a spreadsheet would take for a formula start with one of these.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def write(rows: Iterable[Sequence[object]]) -> str:
    """Return rows under the header; text that could be a formula is quoted as text."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(HEADER)
    for row in rows:
        writer.writerow([_cell(v) for v in row])
    return out.getvalue()


def _cell(value: object) -> object:
    if value is None:
        return ""
    if isinstance(value, float):
        return f"{value:.3f}"
    if isinstance(value, str) and value.startswith(_FORMULA):
        return f"'{value}"
    return value


#: More than this is no table of readings, bytes and rows.
MOST_BYTES, MOST_ROWS = 1_000_000, 20_000
#: What a column may be called elsewhere, beside our own names. Small letters, spaces for others.
_SYNONYMS = {
    "taken_at": ("date", "day", "datetime", "visit", "when"),
    "pose": ("exercise", "position", "test"),
    "side": ("leg", "l r", "left right"),
    "mode": ("active passive", "kind"),
    "trial": ("trial number", "number", "repetition", "rep"),
    "measure": ("angle", "what"),
    "value": ("degrees", "deg", "reading", "result"),
    "sd": ("error", "standard deviation"),
    "warmth": ("warm", "warm up"),
    "prop_height_cm": ("prop", "height", "prop height"),
    "marker": ("measured by", "by", "who", "coach"),
}
#: What a table of readings must have, and what it may.
NEEDED = ("taken_at", "pose", "value")
TAKEN_IN = (
    "taken_at", "pose", "side", "mode", "value", "trial", "measure", "sd", "warmth", "variant",
    "method", "status", "overruled", "prop_height_cm", "marker",
)  # fmt: skip


class TableError(NotDone):
    """A file that is no table of readings; the message is for the person."""

    code = "table"


@dataclass(frozen=True)
class Table:
    """A table as it was read: names of its columns, and rows of text with their line numbers."""

    columns: tuple[str, ...]
    rows: tuple[tuple[int, tuple[str, ...]], ...]

    def guess(self) -> dict[str, int]:
        """Which column holds what, as far as names tell."""
        plain = [_plain(c) for c in self.columns]
        found: dict[str, int] = {}
        for name in TAKEN_IN:
            words = (_plain(name), *_SYNONYMS.get(name, ()))
            at = next((plain.index(w) for w in words if w in plain), None)
            if at is not None and at not in found.values():
                found[name] = at
        return found


def decoded(data: bytes) -> str:
    """The text of a file in UTF-8 or in a Western single byte encoding."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def read(text: str) -> Table:
    """Read CSV with commas, semicolons or tabs. Raises TableError with a sentence."""
    if len(text) > MOST_BYTES:
        raise TableError(f"The table is over {MOST_BYTES // 1_000_000} MB: send it in parts")
    if "\x00" in text or not text.strip():
        raise TableError("This is no table: save it as CSV, with a first row of names")
    first = text.lstrip().splitlines()[0]
    comma = max((";", "\t", ","), key=first.count)
    try:
        rows = list(csv.reader(io.StringIO(text), delimiter=comma))
    except csv.Error as error:
        raise TableError(f"The table cannot be read ({error})") from error
    head = next((r for r in rows if any(c.strip() for c in r)), None)
    if head is None:
        raise TableError("This is no table: save it as CSV, with a first row of names")
    start = rows.index(head) + 1
    body = [
        (n, tuple(c.strip() for c in r))
        for n, r in enumerate(rows[start:], start + 1)
        if any(c.strip() for c in r)
    ]
    if len(body) > MOST_ROWS:
        raise TableError(f"The table has over {MOST_ROWS} rows: send it in parts")
    return Table(tuple(c.strip()[:60] for c in head), tuple(body))


def _plain(name: str) -> str:
    return " ".join("".join(c if c.isalnum() else " " for c in name.lower()).split())
