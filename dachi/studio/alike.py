"""Keys of caches whose things hold mappings and so cannot be hashed themselves."""

from __future__ import annotations

from typing import Generic, TypeVar

T = TypeVar("T")


class Alike(Generic[T]):
    """A thing that is the same as another which says the same of itself."""

    def __init__(self, thing: T) -> None:
        self.thing, self._said = thing, repr(thing)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Alike) and self._said == other._said

    def __hash__(self) -> int:
        return hash(self._said)
