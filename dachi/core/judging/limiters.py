"""What holds a pose back, named from the person's own readings, with the readings shown."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.limiter_rules import Condition, LimiterRule
from dachi.core.catalogue.poses import Catalogue


@dataclass(frozen=True)
class SessionReading:
    """A session value a rule looks at."""

    pose: str
    family: str
    label: str
    side: str
    mode: str
    value: float
    unit: str = "deg"


@dataclass(frozen=True)
class Limiter:
    """A likely limiter with the readings behind it.

    ``sure`` is False where the rule only holds if a reading that was never taken agrees;
    ``missing`` then names poses to photograph.
    """

    rule: LimiterRule
    side: str
    readings: tuple[SessionReading, ...]
    sure: bool
    missing: tuple[str, ...]


def limiters(
    goal: str,
    side: str,
    readings: Iterable[SessionReading],
    rules: Iterable[LimiterRule],
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
        used: list[SessionReading] = []
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
    need: Condition, side: str, known: list[SessionReading], catalogue: Catalogue
) -> tuple[bool | None, list[SessionReading]]:
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


def _control(
    need: Condition, own: list[SessionReading], higher: bool
) -> tuple[bool | None, list[SessionReading]]:
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
