"""What is taken of the scatter of a pose and mode before anybody was measured."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import msgspec

from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.problems import CatalogueError, DataEntry, all_in, read_entry


class ScatterEntry(DataEntry, frozen=True):
    """Scales of the priors; what is left out is as usual."""

    trial: float | None = None
    visit: float | None = None
    df: float | None = None
    shared: float | None = None
    shared_df: float | None = None


class ScatterFile(DataEntry, frozen=True):
    """The file: what is usual, and what differs by pose and by mode."""

    usual: ScatterEntry
    poses: dict[str, ScatterEntry] = {}
    modes: dict[str, ScatterEntry] = {}


@dataclass(frozen=True)
class Prior:
    """What is taken of a pose and mode before anybody was measured: half-t distributions.

    ``trial`` and ``visit`` are their scales (standard deviations), ``df`` their degrees of
    freedom; ``shared`` is the share of the visit's variance that all one visit holds has in
    common, worth ``shared_df``.
    """

    trial: float = 2.0
    visit: float = 2.5
    df: float = 4.0
    shared: float = 0.5
    shared_df: float = 12.0


class ScatterPriors:
    """Priors by pose and mode: where both say something the wider one counts."""

    def __init__(self, found: ScatterFile) -> None:
        self._found = found

    def of(self, pose: str, mode: str) -> Prior:
        """The prior of a pose and mode."""
        known = _said(self._found.usual)
        for own in (self._found.poses.get(pose), self._found.modes.get(mode)):
            for name, value in _said(own).items():
                wider = name in ("trial", "visit")
                known[name] = max(known.get(name, 0.0), value) if wider else value
        return Prior(**known)


def _said(entry: ScatterEntry | None) -> dict[str, float]:
    if entry is None:
        return {}
    return {k: v for k, v in msgspec.structs.asdict(entry).items() if v is not None}


def build_priors(entry: Mapping[str, Any], catalogue: Catalogue) -> ScatterPriors:
    """Validate the file (parsed TOML); CatalogueError names what is wrong."""
    found = read_entry(ScatterFile, entry, "scatter")
    all_in(found.poses, [p.id for p in catalogue.poses], "scatter")
    all_in(found.modes, ("active", "passive"), "scatter")
    for e in (found.usual, *found.poses.values(), *found.modes.values()):
        if any(value <= 0.0 for value in _said(e).values()):
            raise CatalogueError("scatter: scales and degrees of freedom are above zero")
    return ScatterPriors(found)
