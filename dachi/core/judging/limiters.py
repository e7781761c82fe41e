"""What holds a pose back, named from the person's own readings, with the readings shown."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.limiter_rules import Condition, LimiterRule
from dachi.core.catalogue.poses import Catalogue
from dachi.core.judging.series import under_active
from dachi.core.judging.thresholds import Reached, against, together


@dataclass(frozen=True)
class SessionReading:
    """A session value a rule looks at.

    ``half`` is half its 95 % interval; ``within`` that of a difference from another value of the
    same visit, ``mdc`` of one from any other visit.
    """

    pose: str
    family: str
    label: str
    side: str
    mode: str
    value: float
    unit: str = "deg"
    half: float = 0.0
    within: float = 0.0
    mdc: float = 0.0


@dataclass(frozen=True)
class Limiter:
    """A likely limiter with the readings behind it.

    ``sure`` is False where the rule only holds if a reading that was never taken agrees
    (``missing`` names its pose), where one is not known well enough (``vague``) or where one has
    the back in it (``apparent``).
    """

    rule: LimiterRule
    side: str
    readings: tuple[SessionReading, ...]
    sure: bool
    missing: tuple[str, ...]
    vague: tuple[str, ...] = ()
    apparent: tuple[str, ...] = ()


def believable(
    readings: Iterable[SessionReading], catalogue: Catalogue
) -> tuple[SessionReading, ...]:
    """Readings without pairs whose passive range lies clearly under the active one.

    One of the two is of another side, mode or joint: nothing is built on either until it is known
    which.
    """
    told = list(readings)
    pairs: dict[tuple[str, str, str], dict[str, SessionReading]] = {}
    for r in told:
        pairs.setdefault((r.pose, r.family, r.side), {})[r.mode] = r
    out = set()
    for (pose, family, _), modes in pairs.items():
        measures = catalogue.pose(pose).families if pose in catalogue else ()
        better = next((m.better for m in measures if m.family == family), None)
        if better is None or not {"active", "passive"} <= set(modes):
            continue
        active, passive = modes["active"], modes["passive"]
        reserve = (passive.value - active.value) * (1 if better == "higher" else -1)
        if under_active(reserve, max(active.mdc, passive.mdc)):
            out |= {active, passive}
    return tuple(r for r in told if r not in out)


def limiters(
    goal: str,
    side: str,
    readings: Iterable[SessionReading],
    rules: Iterable[LimiterRule],
    catalogue: Catalogue,
) -> list[Limiter]:
    """Likely limiters of a goal pose on a side (``both`` for poses without one), best first.

    Rules whose needs all hold, if only by an apparent reading, come before those that lack one;
    among the latter the one with most needs met comes first. A need that is contradicted drops
    its rule.
    """
    known = list(readings)
    found: list[tuple[int, int, int, Limiter]] = []
    for order, rule in enumerate(rules):
        if rule.goal != goal:
            continue
        used: list[SessionReading] = []
        missing: list[str] = []
        vague: list[str] = []
        apparent: list[str] = []
        for need in rule.needs:
            holds, behind = _holds(need, side, known, catalogue)
            with_back = need.alone is not None and any(r.family == need.family for r in behind)
            if holds is Reached.NO:
                break
            if holds is None:
                missing.append(need.pose)
            elif holds is Reached.UNKNOWN:
                vague.append(need.pose)
            elif with_back:
                apparent.append(need.pose)
            used += [r for r in behind if r not in used]
        else:
            if len(missing) < len(rule.needs):
                sure = not missing and not vague and not apparent
                lacking = (tuple(dict.fromkeys(names)) for names in (missing, vague, apparent))
                one = Limiter(rule, side, tuple(used), sure, *lacking)
                met = len(rule.needs) - len(missing) - len(vague)
                found.append((bool(missing or vague), -met, order, one))
    found.sort(key=lambda f: f[:3])
    return [f[3] for f in found]


def _holds(
    need: Condition, side: str, known: list[SessionReading], catalogue: Catalogue
) -> tuple[Reached | None, list[SessionReading]]:
    """Whether a need holds (None: never measured), and the readings it was judged by.

    What the point speaks against is dropped; what only the interval leaves open is vague.
    """
    head = next(m for m in catalogue.pose(need.pose).headlines if m.family == need.family)
    here = [r for r in known if r.pose == need.pose]
    own = [r for r in here if r.family == need.family]
    wanted = {
        "same": (side,) if side != "both" else ("left", "right"),
        "other": (other_side(side),) if side != "both" else ("left", "right"),
    }.get(need.of, ("left", "right"))
    own = [r for r in own if r.side in (*wanted, "both")]
    alone = [r for r in here if r.family == head.headline_unless and r.side in wanted]
    higher = head.better == "higher"
    if need.control_below is not None or need.reserve_above is not None:
        return _control(need, own, higher)
    if need.mode is not None:
        own = [r for r in own if r.mode == need.mode]
        alone = [r for r in alone if r.mode == need.mode]
    limit = need.short if need.short is not None else need.long
    if alone:
        own, limit = alone, need.alone
    if not own:
        return None, []
    assert limit is not None
    below = (need.short is not None) == higher
    bound = {"at_most" if below else "at_least": limit}
    verdicts = [
        Reached.NO if (r.value < limit) != below else against(r.value, r.half, **bound) for r in own
    ]
    return together(verdicts, need.of != "any"), own


def _control(
    need: Condition, own: list[SessionReading], higher: bool
) -> tuple[Reached | None, list[SessionReading]]:
    """Active against passive on each side that has both."""
    verdicts, behind = [], []
    for side in {r.side for r in own}:
        pair = {r.mode: r for r in own if r.side == side}
        if {"active", "passive"} <= set(pair):
            active, passive = pair["active"], pair["passive"]
            behind += [active, passive]
            apart = max(active.within, passive.within)
            if need.control_below is not None:
                # Short of the share of passive: active - share x passive is below zero.
                short = active.value - need.control_below * passive.value
                known = against(short, apart, at_most=0.0)
                wrong = passive.value <= 0 or short >= 0
            else:
                reserve = active.value - passive.value
                reserve = -reserve if higher else reserve
                known = against(reserve, apart, at_least=need.reserve_above or 0.0)
                wrong = reserve <= (need.reserve_above or 0.0)
            verdicts.append(Reached.NO if wrong else known)
    if not verdicts:
        return None, []
    return together(verdicts, True), behind
