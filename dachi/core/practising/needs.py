"""What a person's week should work on, from limiters, reserves and asymmetries."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from dachi.core.body.anatomy import HIP_REFERENCES, other_side
from dachi.core.catalogue.cautions import Caution
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.gates import Ladder
from dachi.core.catalogue.poses import Catalogue
from dachi.core.judging.limiters import Limiter, SessionReading
from dachi.core.judging.series import NARROW_CONTROL, WIDE_CONTROL, worth_acting
from dachi.core.judging.thresholds import Reached, against
from dachi.core.practising.ladders import Standing
from dachi.core.practising.programme import Need
from dachi.core.rules import DIFFERENCE

#: Weights against 1 for the plain coverage of a direction.
SURE, UNSURE, WIDE_RESERVE, NARROW_RESERVE, ON_THE_WAY = 3.0, 1.8, 1.6, 1.2, 1.4
#: How short is short, and its weight.
SHORT_SD, SHORT = 1.5, 1.6
#: From this age on practice is longer and softer.
GENTLE_AGE = 60
#: What moves a hip in a direction under its own power.
MOVERS = {
    "flexion": "hip_flexors", "extension": "glutes", "abduction": "glutes",
    "adduction": "adductors", "external_rotation": "outer_hip",
    "internal_rotation": "inward_rotators",
}  # fmt: skip


@dataclass(frozen=True)
class SideRange:
    """The newest active and passive range in one direction and side, degrees.

    ``mdc``: what two values of one visit differ by through chance alone (95 %).
    """

    pose: str
    motion: str
    side: str
    active: float | None
    passive: float | None
    mdc: float
    higher: bool = True
    #: Whether the pose isolates the hip, and below which passive range a body is a stiff one.
    isolated: bool = False
    stiff_below: float | None = None


def ranges_of(readings: Iterable[SessionReading], catalogue: Catalogue) -> list[SideRange]:
    """The newest ranges in degrees by pose, direction and hip, of measures that tell one."""
    sides: dict[tuple[str, str, str], dict[str, SessionReading]] = {}
    for r in readings:
        if r.pose not in catalogue:
            continue
        pose = catalogue.pose(r.pose)
        measure = next((m for m in pose.families if m.family == r.family), None)
        if measure is None or not measure.motion or measure.unit != "deg":
            continue
        # In a split the hip behind is the other side's.
        hip = other_side(r.side) if measure.leg == "other" and r.side != "both" else r.side
        sides.setdefault((r.pose, r.family, hip), {})[r.mode] = r
    found = []
    for (pose_id, family, hip), modes in sides.items():
        pose = catalogue.pose(pose_id)
        measure = next(m for m in pose.families if m.family == family)
        active, passive = modes.get("active"), modes.get("passive")
        found.append(
            SideRange(
                pose_id, measure.motion or "", hip,
                active.value if active else None, passive.value if passive else None,
                max(x.mdc for x in modes.values()), measure.better == "higher",
                pose.isolates, pose.stiff_below,
            )
        )  # fmt: skip
    return found


def from_limiters(found: Iterable[tuple[str, Limiter]]) -> list[Need]:
    """Needs of limiters, each given with the name of the goal pose it holds back."""
    needs: dict[tuple[str, str], Need] = {}
    for name, limiter in found:
        weight = SURE if limiter.sure else UNSURE
        likely = "likely" if limiter.sure else "perhaps"
        for kind, tissues in (
            ("lengthen", limiter.rule.lengthen), ("strengthen", limiter.rule.strengthen),
        ):  # fmt: skip
            for tissue in tissues:
                # Named for what this drill works on, not for the whole finding.
                more = "longer" if kind == "lengthen" else "stronger"
                what = tissue.replace("_", " ")
                reason = f"{more} {what}: {likely} what the {name.lower()} lacks"
                one = Need(kind, tissue, weight, reason)
                if (kind, tissue) not in needs or needs[kind, tissue].weight < weight:
                    needs[kind, tissue] = one
    return list(needs.values())


def from_goals(
    goals: Iterable[tuple[str, str]], ladders: Iterable[Ladder], drills: Mapping[str, Drill]
) -> tuple[list[Need], tuple[str, ...]]:
    """What a goal pose (id and name) asks for before anything is known of what holds it back.

    The tissues its preparations and the pose itself work on, and the preparations.
    """
    ways = list(ladders)
    needs: dict[tuple[str, str], Need] = {}
    prepares: list[str] = []
    for goal, name in goals:
        own = [d.id for d in drills.values() if d.goal == goal]
        before = [n for x in ways if x.goal == goal for n in x.prepares]
        prepares += before
        for drill in (drills[n] for n in (*before, *own) if n in drills):
            for kind, tissues, more in (
                ("lengthen", drill.lengthens, "longer"),
                ("strengthen", drill.strengthens, "stronger"),
            ):
                for tissue in tissues:
                    if kind == "strengthen" and drill.id in before:
                        continue
                    what = tissue.replace("_", " ")
                    needs.setdefault(
                        (kind, tissue),
                        Need(kind, tissue, ON_THE_WAY, f"{more} {what}: on the way to the {name}"),
                    )
    return list(needs.values()), tuple(dict.fromkeys(prepares))


def from_reserves(ranges: Iterable[SideRange]) -> list[Need]:
    """A wide reserve asks for strength near the end of range, a narrow one for length."""
    needs: dict[tuple[str, str], Need] = {}
    for r in ranges:
        if not r.higher or r.active is None or r.passive is None or r.passive <= 0:
            continue
        ratio = r.active / r.passive
        way = r.motion.replace("_", " ")
        if ratio < WIDE_CONTROL and r.passive - r.active > r.mdc and r.motion in MOVERS:
            tissue = MOVERS[r.motion]
            needs.setdefault(
                ("strengthen", tissue),
                Need(
                    "strengthen", tissue, WIDE_RESERVE,
                    f"active {way} reaches {100 * ratio:.0f} % of passive: strength near the end",
                    r.motion,
                ),
            )  # fmt: skip
        elif ratio > NARROW_CONTROL:
            needs.setdefault(
                ("direction", r.motion),
                Need(
                    "direction", r.motion, NARROW_RESERVE,
                    f"active and passive {way} are about the same: length comes first",
                    held=True,
                ),
            )  # fmt: skip
    return list(needs.values())


def from_short(ranges: Iterable[SideRange]) -> list[Need]:
    """A rotation that is short beyond its error asks for minutes, whatever the goal.

    Only where the pose isolates the hip; the bound is 1.5 SD under the published mean.
    """
    needs: dict[str, Need] = {}
    for r in ranges:
        usual = HIP_REFERENCES.get(r.motion)
        if not r.isolated or usual is None or r.passive is None:
            continue
        least = usual.mean_deg - SHORT_SD * usual.sd_deg
        if against(r.passive, r.mdc / DIFFERENCE, at_least=least) is Reached.NO:
            way = r.motion.replace("_", " ")
            needs.setdefault(
                r.motion,
                Need(
                    "direction", r.motion, SHORT,
                    f"passive {way} is {r.passive:.0f}°, short of the usual "
                    f"{usual.mean_deg - usual.sd_deg:.0f} to {usual.mean_deg + usual.sd_deg:.0f}°",
                ),
            )  # fmt: skip
    return list(needs.values())


def on_the_rung(goals: Collection[str], standings: Iterable[Standing]) -> frozenset[str]:
    """Drills of the rungs somebody stands on towards their goals: what the next gate reads."""
    return frozenset(
        drill for s in standings if s.ladder.goal in goals for drill in s.ladder.rungs[s.at].drills
    )


def tighter(ranges: Iterable[SideRange]) -> dict[str, str]:
    """The tighter side in each direction where the difference is real and worth acting on."""
    said: dict[str, set[str]] = {}
    by_pose: dict[tuple[str, str], dict[str, SideRange]] = {}
    for r in ranges:
        by_pose.setdefault((r.pose, r.motion), {})[r.side] = r
    for (_, motion), sides in by_pose.items():
        left, right = sides.get("left"), sides.get("right")
        if left is None or right is None or left.passive is None or right.passive is None:
            continue
        if worth_acting(left.passive, right.passive, max(left.mdc, right.mdc)) is Reached.YES:
            less = "left" if left.passive < right.passive else "right"
            said.setdefault(motion, set()).add(less if left.higher else other_side(less))
    # Where two poses name different sides of one direction, neither gets more.
    return {motion: next(iter(sides)) for motion, sides in said.items() if len(sides) == 1}


def gentle(birth_year: int | None, year: int, ranges: Iterable[SideRange]) -> bool:
    """Whether a body asks for longer and softer work: by its age, or by how little it has."""
    if birth_year is not None and year - birth_year >= GENTLE_AGE:
        return True
    return any(
        r.stiff_below is not None and r.passive is not None and r.passive < r.stiff_below
        for r in ranges
    )


#: Weight of what helps under a caution, and a raise from which hamstrings are long enough.
SERVES, LONG_RAISE = 1.6, 100.0


def from_cautions(cautions: Iterable[Caution]) -> list[Need]:
    """What helps under a caution: strength where it heals or steadies."""
    found = []
    for what, why in (pair for c in cautions for pair in c.serves.items()):
        kind, _, name = what.partition(" ")
        said = f"stronger {name.replace('_', ' ')}: {why}"
        found.append(Need(kind, name, SERVES, said, worked=True))
    return found


def spared(
    needs: Iterable[Need], cautions: Iterable[Caution], ranges: Iterable[SideRange]
) -> tuple[Need, ...]:
    """Needs without length for a body that has it: none where joints are loose, none of hamstrings
    that are long on both sides.
    """
    loose = any(c.strength_first for c in cautions)
    raised = {
        r.side: r.passive
        for r in ranges
        if r.pose in _RAISES and r.motion == "flexion" and r.passive is not None
    }
    long = len(raised) == 2 and min(raised.values()) >= LONG_RAISE
    return tuple(
        n
        for n in needs
        if not (n.kind == "lengthen" and (loose or (long and n.name == "hamstrings")))
    )


#: A passive raise, a reserve and a split from which a body is proposed as over-mobile, degrees.
LOOSE_RAISE, LOOSE_RESERVE, LOOSE_SPLIT = 115.0, 35.0, 180.0
_RAISES = ("supine-leg-raise",)
_SPLITS = ("front-split", "straddle")


def over_mobile(readings: Iterable[SessionReading], catalogue: Catalogue) -> bool:
    """Whether a range was measured, beyond its error, that only an over-mobile body has."""
    told = list(readings)

    def beyond(x: SessionReading, bound: float) -> bool:
        return against(x.value, x.half, at_least=bound) is Reached.YES

    for x in told:
        if x.unit != "deg" or x.mode != "passive":
            continue
        if (x.pose in _RAISES and beyond(x, LOOSE_RAISE)) or (
            x.pose in _SPLITS and beyond(x, LOOSE_SPLIT)
        ):
            return True
    return any(
        r.higher
        and r.active is not None
        and r.passive is not None
        and r.passive - r.active - r.mdc > LOOSE_RESERVE
        for r in ranges_of(told, catalogue)
    )


def merged(needs: Iterable[Need]) -> tuple[Need, ...]:
    """One need of a kind and name: the heaviest."""
    found: dict[tuple[str, str], Need] = {}
    for n in needs:
        if (n.kind, n.name) not in found or found[n.kind, n.name].weight < n.weight:
            found[n.kind, n.name] = n
    return tuple(found.values())
