"""What cautions forbid of drills."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from dachi.core.catalogue.drills import Drill, Load
from dachi.core.catalogue.problems import DataEntry, read_entry, without_twins


class Caution(DataEntry, frozen=True):
    """What a caution forbids. ``pain`` names places, ``screening`` the question bringing it."""

    id: str
    name: str
    words: str
    forbids: tuple[Load, ...] = ()
    no_passive_end: bool = False
    screening: str | None = None
    pain: tuple[str, ...] = ()

    def forbidden(self, drill: Drill) -> bool:
        """Whether a drill may not be done under this caution."""
        return bool(set(self.forbids) & set(drill.loads)) or (
            self.no_passive_end and drill.passive_end
        )


def build_cautions(entries: Iterable[Mapping[str, Any]]) -> tuple[Caution, ...]:
    """Read cautions from parsed TOML; CatalogueError names what is unknown."""
    found = tuple(read_entry(Caution, e, "caution") for e in entries)
    without_twins((c.id for c in found), "caution")
    return found


def brought_by(
    cautions: Iterable[Caution], yes: Collection[str], pains: Collection[str]
) -> tuple[Caution, ...]:
    """The cautions that screening answers and painful places bring."""
    return tuple(c for c in cautions if c.screening in set(yes) or any(p in c.pain for p in pains))
