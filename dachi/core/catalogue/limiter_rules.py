"""Rules that name what holds a pose back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Literal

from dachi.core.catalogue.drills import Tissue
from dachi.core.catalogue.poses import Catalogue
from dachi.core.catalogue.problems import CatalogueError, DataEntry, read_entry, without_twins


class Condition(DataEntry, frozen=True):
    """One condition of a rule; exactly one of the four comparisons is set.

    ``alone`` is the same limit for the hip against the pelvis, where a pose also gives that: an
    apparent reading, with the back in it, never makes a rule certain.
    """

    pose: str
    family: str
    of: Literal["same", "other", "both", "any"]
    mode: Literal["active", "passive"] | None = None
    short: float | None = None
    long: float | None = None
    control_below: float | None = None
    reserve_above: float | None = None
    alone: float | None = None


class Settling(DataEntry, frozen=True):
    """The shot that would settle it."""

    pose: str
    mode: Literal["active", "passive"]


class LimiterRule(DataEntry, frozen=True):
    """If every condition holds, ``tissue`` is likely what limits the goal pose.

    ``lengthen`` and ``strengthen`` name the tissues that practice then works on.
    """

    id: str
    goal: str
    tissue: str
    needs: tuple[Condition, ...]
    because: str
    practice: str
    settle: Settling
    lengthen: tuple[Tissue, ...] = ()
    strengthen: tuple[Tissue, ...] = ()


def build_rules(
    entries: Iterable[Mapping[str, Any]], catalogue: Catalogue
) -> tuple[LimiterRule, ...]:
    """Validate rules (parsed TOML) against the catalogue; CatalogueError names the rule."""
    found = tuple(read_entry(LimiterRule, e, "limiter") for e in entries)
    without_twins((r.id for r in found), "limiter")
    for rule in found:
        for pose_id in (rule.goal, rule.settle.pose, *(n.pose for n in rule.needs)):
            if pose_id not in catalogue:
                raise CatalogueError(f"limiter {rule.id!r}: there is no pose {pose_id!r}")
        for n in rule.needs:
            given = [n.short, n.long, n.control_below, n.reserve_above]
            if sum(v is not None for v in given) != 1:
                raise CatalogueError(f"limiter {rule.id!r}: a need of {n.pose!r} is unclear")
            heads = {m.family: m for m in catalogue.pose(n.pose).headlines}
            if n.family not in heads:
                raise CatalogueError(f"limiter {rule.id!r}: {n.pose!r} has no {n.family!r}")
            if (n.alone is None) != (heads[n.family].headline_unless is None):
                raise CatalogueError(
                    f"limiter {rule.id!r}: `alone` goes with an apparent measure that has one "
                    f"against the pelvis, and {n.family!r} is the other"
                )
    return found
