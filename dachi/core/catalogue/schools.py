"""What practitioners own, and the questions on which schools differ."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.problems import CatalogueError, DataEntry, read_entry, without_twins


class Prop(DataEntry, frozen=True):
    """Something to practise with, and what does instead of it.

    ``made_of``: sets of other props that together stand in for it.
    """

    id: str
    name: str
    instead: str
    made_of: tuple[tuple[str, ...], ...] = ()


class Cue(DataEntry, frozen=True):
    """What is said at some poses and drills."""

    say: str
    at: tuple[str, ...]


class School(DataEntry, frozen=True):
    """A question coaches answer differently; the first option holds until one is chosen.

    ``variants``: option to pose id to the variant the pose is photographed in; ``cues``:
    option to what is said.
    """

    id: str
    ask: str
    options: dict[str, str]
    variants: dict[str, dict[str, dict[str, str]]] = {}
    cues: dict[str, Cue] = {}

    @property
    def default(self) -> str:
        """The option that is meant until somebody chooses."""
        return next(iter(self.options))


def build_props(entries: Iterable[Mapping[str, Any]]) -> tuple[Prop, ...]:
    """Read props from parsed TOML; CatalogueError names what is wrong."""
    found = tuple(read_entry(Prop, e, "prop") for e in entries)
    without_twins((p.id for p in found), "prop")
    for p in found:
        for part in (x for parts in p.made_of for x in parts):
            if part not in {q.id for q in found}:
                raise CatalogueError(f"prop {p.id!r}: there is no prop {part!r}")
    return found


def with_stand_ins(owned: Collection[str], props: Iterable[Prop]) -> frozenset[str]:
    """What somebody can practise with: what they own, and what that stands in for."""
    made = {p.id for p in props if any(set(parts) <= set(owned) for parts in p.made_of)}
    return frozenset(owned) | made


def said_prop(prop: Prop, owned: Collection[str]) -> str:
    """A prop by name, or what stands in for it where it is not owned."""
    parts = next((x for x in prop.made_of if set(x) <= set(owned)), None)
    if prop.id in owned or parts is None:
        return prop.id
    return f"{' and '.join(parts)} as a {prop.id}"


def build_schools(
    entries: Iterable[Mapping[str, Any]], catalogue: Catalogue, drills: Collection[str]
) -> tuple[School, ...]:
    """Read schools from parsed TOML; CatalogueError names what is wrong or unknown."""
    found = tuple(read_entry(School, e, "school") for e in entries)
    without_twins((s.id for s in found), "school")
    for s in found:
        for option in (*s.variants, *s.cues):
            if option not in s.options:
                raise CatalogueError(f"school {s.id!r}: there is no option {option!r}")
        for poses in s.variants.values():
            for pose_id, variant in poses.items():
                _check_variant(s.id, pose_id, variant, catalogue)
        for cue in s.cues.values():
            for name in cue.at:
                if name not in catalogue and name not in drills:
                    raise CatalogueError(f"school {s.id!r}: nothing is called {name!r}")
    return found


def _check_variant(
    school: str, pose_id: str, variant: Mapping[str, str], catalogue: Catalogue
) -> None:
    if pose_id not in catalogue:
        raise CatalogueError(f"school {school!r}: there is no pose {pose_id!r}")
    options = {v.id: v.options for v in catalogue.pose(pose_id).variants}
    for name, option in variant.items():
        if option not in options.get(name, {}):
            raise CatalogueError(f"school {school!r}: {pose_id!r} has no {name} = {option!r}")
