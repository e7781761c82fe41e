"""What holds a pose back, named from the person's own readings, with the readings shown."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from dachi.core.anatomy import other_side
from dachi.core.catalogue import Catalogue, CatalogueError

OF = ("same", "other", "both", "any")


@dataclass(frozen=True)
class Reading:
    """A session value a rule looks at."""

    pose: str
    family: str
    label: str
    side: str
    mode: str
    value: float
    unit: str = "deg"


@dataclass(frozen=True)
class Need:
    """One condition of a rule; exactly one of the four comparisons is set."""

    pose: str
    family: str
    of: str
    mode: str | None = None
    short: float | None = None
    long: float | None = None
    control_below: float | None = None
    reserve_above: float | None = None


@dataclass(frozen=True)
class Rule:
    """If every need holds, ``tissue`` is likely what limits the goal pose.

    ``lengthen`` and ``strengthen`` name the tissues that practice then works on.
    """

    id: str
    goal: str
    tissue: str
    needs: tuple[Need, ...]
    because: str
    practice: str
    settle_pose: str
    settle_mode: str
    lengthen: tuple[str, ...] = ()
    strengthen: tuple[str, ...] = ()


@dataclass(frozen=True)
class Limiter:
    """A likely limiter with the readings behind it.

    ``sure`` is False where the rule only holds if a reading that was never taken agrees;
    ``missing`` then names poses to photograph.
    """

    rule: Rule
    side: str
    readings: tuple[Reading, ...]
    sure: bool
    missing: tuple[str, ...]


def build_rules(entries: Iterable[Mapping[str, Any]], catalogue: Catalogue) -> tuple[Rule, ...]:
    """Validate rules (parsed TOML) against the catalogue; CatalogueError names the rule."""
    rules = []
    for e in entries:
        try:
            needs = tuple(Need(**n) for n in e["needs"])
            rule = Rule(
                e["id"], e["goal"], e["tissue"], needs, e["because"], e["practice"],
                e["settle"]["pose"], e["settle"]["mode"],
                tuple(e.get("lengthen", ())), tuple(e.get("strengthen", ())),
            )  # fmt: skip
        except (KeyError, TypeError) as error:
            raise CatalogueError(f"limiter {e.get('id', '?')!r}: {error}") from error
        for pose_id in (rule.goal, rule.settle_pose, *(n.pose for n in needs)):
            if pose_id not in catalogue:
                raise CatalogueError(f"limiter {rule.id!r}: there is no pose {pose_id!r}")
        for n in needs:
            set_ = [n.short, n.long, n.control_below, n.reserve_above]
            if n.of not in OF or sum(v is not None for v in set_) != 1:
                raise CatalogueError(f"limiter {rule.id!r}: a need of {n.pose!r} is unclear")
            if n.family not in {m.family for m in catalogue.pose(n.pose).headlines}:
                raise CatalogueError(f"limiter {rule.id!r}: {n.pose!r} has no {n.family!r}")
        rules.append(rule)
    return tuple(rules)


def limiters(
    goal: str,
    side: str,
    readings: Iterable[Reading],
    rules: Iterable[Rule],
    catalogue: Catalogue,
) -> list[Limiter]:
    """Likely limiters of a goal pose on a side (``both`` for poses without one), best first.

    Rules whose needs all hold come before those that lack a reading; among the latter the
    one with most needs met comes first. A need that is contradicted drops its rule.
    """
    known = list(readings)
    found: list[tuple[int, int, int, Limiter]] = []
    for order, rule in enumerate(rules):
        if rule.goal != goal:
            continue
        used: list[Reading] = []
        missing: list[str] = []
        for need in rule.needs:
            holds, behind = _holds(need, side, known, catalogue)
            if holds is False:
                break
            if holds is None:
                missing.append(need.pose)
            used += [r for r in behind if r not in used]
        else:
            if len(missing) < len(rule.needs):
                one = Limiter(rule, side, tuple(used), not missing, tuple(dict.fromkeys(missing)))
                met = len(rule.needs) - len(missing)
                found.append((len(missing) > 0, -met, order, one))
    found.sort(key=lambda f: f[:3])
    return [f[3] for f in found]


def _holds(
    need: Need, side: str, known: list[Reading], catalogue: Catalogue
) -> tuple[bool | None, list[Reading]]:
    """Whether a need holds (None: never measured), and the readings it was judged by."""
    own = [r for r in known if r.pose == need.pose and r.family == need.family]
    wanted = {
        "same": (side,) if side != "both" else ("left", "right"),
        "other": (other_side(side),) if side != "both" else ("left", "right"),
    }.get(need.of, ("left", "right"))
    own = [r for r in own if r.side in (*wanted, "both")]
    higher = next(
        m.better for m in catalogue.pose(need.pose).headlines if m.family == need.family
    ) == "higher"  # fmt: skip
    if need.control_below is not None or need.reserve_above is not None:
        return _control(need, own, higher)
    if need.mode is not None:
        own = [r for r in own if r.mode == need.mode]
    if not own:
        return None, []
    limit = need.short if need.short is not None else need.long
    assert limit is not None
    below = (need.short is not None) == higher
    verdicts = [(r.value < limit) if below else (r.value >= limit) for r in own]
    together = any(verdicts) if need.of == "any" else all(verdicts)
    return together, own


def _control(need: Need, own: list[Reading], higher: bool) -> tuple[bool | None, list[Reading]]:
    """Active against passive on each side that has both."""
    verdicts, behind = [], []
    for side in {r.side for r in own}:
        pair = {r.mode: r for r in own if r.side == side}
        if {"active", "passive"} <= set(pair):
            active, passive = pair["active"].value, pair["passive"].value
            behind += [pair["active"], pair["passive"]]
            if need.control_below is not None:
                verdicts.append(passive > 0 and active / passive < need.control_below)
            else:
                reserve = passive - active if higher else active - passive
                verdicts.append(reserve > (need.reserve_above or 0.0))
    if not verdicts:
        return None, []
    return all(verdicts), behind
