"""What forms post, read carefully: nothing here trusts that a number is one."""

from __future__ import annotations

from werkzeug.routing import IntegerConverter

#: Longer ones name nothing that is kept.
MOST_DIGITS = 18


class Id(IntegerConverter):
    """A number in an address that can name something."""

    regex = rf"\d{{1,{MOST_DIGITS}}}"


def whole(text: str) -> int | None:
    """A whole number as it was posted, None where it is none."""
    text = text.strip()
    return int(text) if text.isdecimal() and text.isascii() and len(text) <= MOST_DIGITS else None
