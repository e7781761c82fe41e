"""Readings as CSV: UTF-8, one reading a row, ISO dates, units in the header."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

HEADER = (
    "practitioner", "taken_at", "warmth", "pose", "variant", "side", "mode", "trial", "measure",
    "value", "sd", "unit", "method", "status", "overruled", "prop_height_cm",
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
