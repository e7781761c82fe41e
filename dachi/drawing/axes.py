"""Scales, ticks and a small SVG writer."""

from __future__ import annotations

import math
from dataclasses import dataclass
from html import escape


@dataclass(frozen=True)
class Scale:
    """A straight-line mapping from data to drawing units."""

    data_low: float
    data_high: float
    at_low: float
    at_high: float

    def __call__(self, value: float) -> float:
        """Place a value."""
        share = (value - self.data_low) / (self.data_high - self.data_low)
        return self.at_low + share * (self.at_high - self.at_low)


def nice_ticks(low: float, high: float, most: int = 7) -> list[float]:
    """Round tick values (steps of 1, 2 or 5 times a power of ten) covering low to high."""
    if high <= low:
        high = low + 1.0
    raw = (high - low) / most
    size = 10.0 ** math.floor(math.log10(raw))
    step = next(m * size for m in (1, 2, 5, 10) if m * size >= raw - 1e-12)
    first = math.floor(low / step)
    last = math.ceil(high / step)
    return [round(i * step, 10) for i in range(first, last + 1)]


def number(value: float) -> str:
    """A coordinate with at most two decimals and no trailing zeros."""
    text = f"{value:.2f}"
    if text.endswith("0"):
        text = text.rstrip("0").rstrip(".")
    return "0" if text == "-0" else text


#: Attribute names as written, by their Python spelling.
_NAMES: dict[str, str] = {}


def _name(key: str) -> str:
    return _NAMES.setdefault(key, key.rstrip("_").replace("_", "-"))


def tag(name: str, content: str | None = None, /, **attributes: object) -> str:
    """One SVG element; ``class_`` and other trailing underscores are dropped, inner ones
    become hyphens, floats are shortened, None is left out."""
    parts = []
    for key, value in attributes.items():
        if value is None:
            continue
        text = number(value) if isinstance(value, float) else escape(str(value))
        parts.append(f' {_NAMES.get(key) or _name(key)}="{text}"')
    head = f"<{name}{''.join(parts)}"
    return f"{head}/>" if content is None else f"{head}>{content}</{name}>"


def text(content: str, **attributes: object) -> str:
    """A text element with its content escaped."""
    return tag("text", escape(content), **attributes)


def title(content: str) -> str:
    """A title element with its content escaped: what a pointer or a reader is told."""
    return tag("title", escape(content))


def points(pairs: list[tuple[float, float]]) -> str:
    """Coordinates for ``points`` attributes."""
    return " ".join(f"{number(x)},{number(y)}" for x, y in pairs)
