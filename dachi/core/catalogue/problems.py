"""What is wrong with catalogue data, and reading entries strictly into types."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any, TypeVar

import msgspec

T = TypeVar("T")


class CatalogueError(ValueError):
    """Catalogue data that cannot be used; the message names the entry and what is wrong."""


class DataEntry(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Base of everything read from a file: an unknown key or a wrong type is an error."""


def read_entry(kind: type[T], data: Mapping[str, Any], what: str) -> T:
    """Convert parsed TOML into a type. ``what`` names the kind of thing: ``pose``.

    Raises CatalogueError with the entry's id and the path to what is wrong.
    """
    try:
        return msgspec.convert(data, kind)
    except msgspec.ValidationError as error:
        raise CatalogueError(f"{what} {data.get('id', '?')!r}: {error}") from error


def all_in(values: Iterable[str], known: Collection[str], what: str) -> None:
    """Raise CatalogueError for the first value that is not known."""
    for value in values:
        if value not in known:
            raise CatalogueError(f"{what}: {value!r} is not one of {', '.join(known)}")


def one_of(value: str, known: Collection[str], what: str) -> str:
    """Return the value, or raise CatalogueError where it is not known."""
    if value not in known:
        raise CatalogueError(f"{what} is {value!r}; it must be one of {', '.join(known)}")
    return value


def without_twins(ids: Iterable[str], what: str) -> None:
    """Raise CatalogueError where two entries have one id."""
    seen: set[str] = set()
    for name in ids:
        if name in seen:
            raise CatalogueError(f"two {what}s are called {name!r}")
        seen.add(name)
