"""What cautions forbid: rules over the demands of drills and poses."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from dachi.core.catalogue.demands import (
    DIRECTION_DEMANDS,
    ENDS,
    NAMES,
    Demands,
    Level,
)
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.problems import DataEntry, all_in, read_entry, without_twins
from dachi.core.words import PainKind, Place

#: Where it can hurt; a knee or a hip of which no part was said is all of its parts.
PLACES = (
    "hip_front", "hip_side", "hip_back", "sit_bone", "groin", "thigh_front", "thigh_back",
    "knee_inner", "knee_outer", "knee_front", "knee_back", "ankle", "foot", "low_back", "wrist",
    "elsewhere",
)  # fmt: skip
KINDS = ("sharp", "pinch", "tingling", "ache", "stretch")
#: A strong stretch is no harm by itself; in a knee any feeling is.
HARMFUL = ("sharp", "pinch", "tingling", "ache")
#: Has no place: only what names it is brought by it.
DIZZY = "dizzy"

LevelName = Literal["some", "end", "loaded"]


class CautionEntry(DataEntry, frozen=True):
    """A caution as the file has it (see ``Caution``)."""

    id: str
    name: str
    words: str
    blocks: dict[str, LevelName] = {}
    ends: bool = False
    no_passive_end: bool = False
    no_strap_end: bool = False
    no_session: bool = False
    screening: str | None = None
    when: Literal["always", "uncleared", "cleared"] = "always"
    by_direction: bool = False
    places: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    young: bool = False
    works: tuple[str, ...] = ()
    positions: tuple[str, ...] = ()


@dataclass(frozen=True)
class Caution:
    """What a caution forbids.

    ``blocks``: demands and the level from which they are blocked. ``screening`` names the
    question whose yes brings it, ``when`` before or after clearance; ``by_direction``: blocked
    ends open one direction at a time, as they are cleared. ``places`` and ``kinds`` of pain bring
    it (any place where no place is named), ``young`` whoever may be under age. ``works``: tissues
    that may not be contracted hard, ``positions`` that press on what is sore.
    """

    id: str
    name: str
    words: str
    blocks: Mapping[str, Level]
    no_passive_end: bool = False
    no_strap_end: bool = False
    no_session: bool = False
    screening: str | None = None
    when: str = "always"
    by_direction: bool = False
    places: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    young: bool = False
    works: tuple[str, ...] = ()
    positions: tuple[str, ...] = ()

    def forbidden(self, drill: Drill) -> bool:
        """Whether a drill may not be done under this caution."""
        if drill.passive_end and self.no_passive_end:
            return True
        if drill.passive_end and self.no_strap_end and "strap" in drill.requires:
            return True
        # Whoever rests turns onto the side that is not sore.
        presses = drill.position in self.positions and drill.phase not in ("settle", "rest")
        if presses or set(drill.strengthens) & set(self.works):
            return True
        return bool(drill.demands.beyond(self.blocks))

    def forbids_shot(self, demands: Demands, *, passive: bool) -> bool:
        """Whether a pose may not be photographed in a mode under this caution.

        What a person's own strength brings there goes a step less far.
        """
        asked = demands if passive else demands.unaided()
        return (passive and self.no_passive_end) or bool(asked.beyond(self.blocks))

    def returning(self) -> Caution:
        """The caution while what hurt comes back: only the end of range stays closed."""
        blocks = {n: max(level, Level.END) for n, level in self.blocks.items()}
        changed = {
            "blocks": blocks, "works": (), "positions": (), "name": f"{self.name}, coming back",
            "words": "Quiet for two weeks: the middle of its range again, not the end yet.",
        }  # fmt: skip
        return Caution(**{**self.__dict__, **changed})

    def opened(self, directions: Collection[str]) -> Caution:
        """The caution with some directions cleared; what combines them stays blocked."""
        free = {n for d in directions for n in DIRECTION_DEMANDS.get(d, ())}
        blocks = {n: level for n, level in self.blocks.items() if n not in free}
        return Caution(**{**self.__dict__, "blocks": blocks}) if self.by_direction else self


@dataclass(frozen=True)
class Hurt:
    """Where it hurts and how; ``side`` is empty where nobody said which. ``returning``: it has
    been quiet for a while, and comes back but for the end of its range.
    """

    place: str
    kind: str = "ache"
    side: str = ""
    returning: bool = False


_KNEE = ("knee_inner", "knee_outer", "knee_front", "knee_back")
#: What of the closed places a pointed one means: of a hip or a knee of which no part was said, the
#: parts that close most.
CLOSES: dict[Place, tuple[str, ...]] = {
    Place.HIP_FRONT: ("hip_front",), Place.HIP_SIDE: ("hip_side",), Place.HIP_BACK: ("hip_back",),
    Place.LEFT_HIP: ("hip_front",), Place.RIGHT_HIP: ("hip_front",), Place.GROIN: ("groin",),
    Place.SIT_BONE: ("sit_bone",), Place.THIGH_BACK: ("thigh_back",),
    Place.LEFT_THIGH_BACK: ("thigh_back",), Place.RIGHT_THIGH_BACK: ("thigh_back",),
    Place.THIGH_FRONT: ("thigh_front",), Place.LEFT_KNEE: _KNEE, Place.RIGHT_KNEE: _KNEE,
    Place.LEFT_KNEE_FRONT: ("knee_front",), Place.LEFT_KNEE_INNER: ("knee_inner",),
    Place.LEFT_KNEE_OUTER: ("knee_outer",), Place.LEFT_KNEE_BACK: ("knee_back",),
    Place.RIGHT_KNEE_FRONT: ("knee_front",), Place.RIGHT_KNEE_INNER: ("knee_inner",),
    Place.RIGHT_KNEE_OUTER: ("knee_outer",), Place.RIGHT_KNEE_BACK: ("knee_back",),
    Place.ANKLE_FOOT: ("ankle", "foot"), Place.LOW_BACK: ("low_back",), Place.WRIST: ("wrist",),
    Place.ELSEWHERE: ("elsewhere",),
}  # fmt: skip
CLOSES |= {p: CLOSES[p.sideless] for p in Place if p not in CLOSES}
_KINDS = {
    PainKind.SHARP: "sharp", PainKind.PINCH: "pinch", PainKind.NUMB: "tingling",
    PainKind.DULL: "ache", PainKind.KNEE: "ache",
}  # fmt: skip


def hurts_of(place: Place, kind: PainKind = PainKind.DULL) -> tuple[Hurt, ...]:
    """What a place and a kind of pain mean to the cautions; dizziness has no place of its own."""
    if kind is PainKind.DIZZY:
        return (Hurt("elsewhere", DIZZY),)
    return tuple(Hurt(p, _KINDS[kind], place.side) for p in CLOSES[place])


@dataclass(frozen=True)
class Answer:
    """A screening question answered yes; ``allowed`` directions that were cleared one by one."""

    cleared: bool = False
    allowed: tuple[str, ...] = ()


def build_cautions(entries: Iterable[Mapping[str, Any]]) -> tuple[Caution, ...]:
    """Read cautions from parsed TOML; CatalogueError names what is unknown."""
    found = []
    for e in (read_entry(CautionEntry, e, "caution") for e in entries):
        what = f"caution {e.id!r}"
        all_in(e.blocks, NAMES, what)
        all_in(e.places, PLACES, what)
        all_in(e.kinds, (*KINDS, DIZZY), what)
        blocks = dict.fromkeys(ENDS, Level.END) if e.ends else {}
        for name, level in e.blocks.items():
            blocks[name] = min(blocks.get(name, Level.LOADED), Level[level.upper()])
        found.append(
            Caution(
                e.id, e.name, e.words, blocks, e.no_passive_end, e.no_strap_end, e.no_session,
                e.screening, e.when, e.by_direction, e.places, e.kinds, e.young, e.works,
                e.positions,
            )
        )  # fmt: skip
    without_twins((c.id for c in found), "caution")
    return tuple(found)


def brought_by(
    cautions: Iterable[Caution],
    answers: Mapping[str, Answer],
    hurts: Collection[Hurt] = (),
    *,
    may_be_young: bool = False,
) -> tuple[Caution, ...]:
    """The cautions that screening answers, painful places and age bring."""
    found = []
    for c in cautions:
        answer = answers.get(c.screening or "")
        if answer is not None and c.when in (
            "always",
            "cleared" if answer.cleared else "uncleared",
        ):
            found.append(c.opened(answer.allowed))
        elif any(_brings(c, h) for h in hurts if not h.returning) or (c.young and may_be_young):
            found.append(c)
        elif any(_brings(c, h) for h in hurts):
            found.append(c.returning())
    return tuple(found)


def _brings(c: Caution, hurt: Hurt) -> bool:
    if not c.places and not c.kinds:
        return False
    kinds = c.kinds or (KINDS if hurt.place.startswith("knee") else HARMFUL)
    return hurt.kind in kinds and (not c.places or hurt.place in c.places)
