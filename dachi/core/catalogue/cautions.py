"""What cautions forbid: rules over the demands of drills and poses, of one leg or of both.

Everything that puts a drill or a photograph before somebody asks ``Caution.closes`` or
``Caution.forbids_shot``: the week, the session of today and the one that is running, what is
offered in a drill's place, what a coach puts in, the run sheet, the phone, the files.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from dachi.core.catalogue.demands import (
    BODY,
    DIRECTION_DEMANDS,
    ENDS,
    NAMES,
    Demands,
    Level,
)
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.hurts import DIZZY, KINDS, NO_LEG, PLACES, Hurt, Stage
from dachi.core.catalogue.problems import DataEntry, all_in, read_entry, without_twins
from dachi.core.catalogue.screening import Flag

LevelName = Literal["some", "end", "loaded"]
Source = Literal["screening", "pain", "age", "hand", "reading"]
SIDES = ("left", "right")


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
    screening: tuple[str, ...] = ()
    when: Literal["always", "uncleared", "cleared"] = "always"
    parts: tuple[str, ...] = ()
    weeks_from: float = 0.0
    weeks_to: float = 9999.0
    by_direction: bool = False
    places: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    ages: tuple[int, int] | None = None
    reading: bool = False
    back_s: float | None = None
    squat_s: float | None = None
    strength_first: bool = False
    serves: dict[str, str] = {}


@dataclass(frozen=True)
class Caution:
    """What a caution forbids.

    ``blocks``: demands and the level from which they are blocked; on the leg of ``side`` where it
    is of one, of the trunk always. ``screening`` names the questions whose yes brings it, ``when``
    before or after clearance, ``parts`` for which part or stage (any where none is named; the
    empty one for a yes of which nothing was said), ``weeks_from`` and ``weeks_to`` in which weeks;
    ``by_direction``: blocked ends open one direction at a time, as they are cleared. ``places`` and
    ``kinds`` of pain bring it (any place where no place is named), ``ages`` whoever may be of them,
    ``reading`` a range that is large. ``back_s`` seconds on the back in one session at most,
    ``squat_s`` seconds of a squat; ``strength_first``: no more seconds held than of strength.
    ``serves``: what helps (``strengthen glutes``) and why, as a need of the week. ``source`` says
    what brought it; ``half``: what its fresh form closes is done at half the dose.
    """

    id: str
    name: str
    words: str
    blocks: Mapping[str, Level]
    no_passive_end: bool = False
    no_strap_end: bool = False
    no_session: bool = False
    screening: tuple[str, ...] = ()
    when: str = "always"
    parts: tuple[str, ...] = ()
    weeks_from: float = 0.0
    weeks_to: float = 9999.0
    by_direction: bool = False
    places: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    ages: tuple[int, int] | None = None
    reading: bool = False
    back_s: float | None = None
    squat_s: float | None = None
    strength_first: bool = False
    serves: Mapping[str, str] = field(default_factory=dict)
    side: str = ""
    source: Source = "hand"
    half: Mapping[str, Level] = field(default_factory=dict)

    @property
    def said(self) -> str:
        """The name with the leg it is of."""
        return f"{self.name}, {self.side}" if self.side else self.name

    def closes(self, drill: Drill) -> frozenset[str]:
        """The sides on which a drill may not be done; both where it is done with both at once."""
        return self._sides(drill, self.blocks)

    def halves(self, drill: Drill) -> frozenset[str]:
        """The sides on which a drill loads what comes back: done at half the dose."""
        return self._sides(drill, self.half) if self.half else frozenset()

    def forbidden(self, drill: Drill) -> bool:
        """Whether a drill may not be done at all under this caution."""
        return len(self.closes(drill)) == len(SIDES)

    def _sides(self, drill: Drill, blocks: Mapping[str, Level]) -> frozenset[str]:
        if drill.passive_end and self.no_strap_end and "strap" in drill.requires:
            return frozenset(SIDES)
        alone = drill.sides == "each" and bool(self.side)
        if not alone:
            shut = drill.passive_end and self.no_passive_end
            return frozenset(SIDES if shut or drill.demands.beyond(blocks) else ())
        return frozenset(
            side
            for side in SIDES
            if (drill.passive_end and self.no_passive_end and side == self.side)
            or drill.demands.beyond(blocks, self.side, side)
        )

    def forbids_shot(self, demands: Demands, *, passive: bool, side: str = "") -> bool:
        """Whether a pose may not be photographed in a mode and on a side under this caution.

        What a person's own strength brings there goes a step less far.
        """
        asked = demands if passive else demands.unaided()
        one = side if side in SIDES else ""
        own = not self.side or not one or one == self.side
        return (passive and self.no_passive_end and own) or bool(
            asked.beyond(self.blocks, self.side, one)
        )

    def of(self, hurt: Hurt) -> Caution:
        """The caution as a pain brings it: of its leg, as strict as its kind, as far as it is back.

        Sharp pain closes the tissue from the first pull on; what comes back is closed at its end,
        then not at all, and done at half the dose.
        """
        fresh = dict(self.blocks)
        if hurt.kind == "sharp" and not self.kinds:
            fresh = {n: _sooner(n, level) for n, level in fresh.items()}
        # What the trunk asks of a leg it asks of either, wherever in it that hurts.
        side = "" if self.places and hurt.place in NO_LEG else hurt.side
        found = replace(self, side=side, source="pain", blocks=fresh)
        if hurt.stage is Stage.FRESH:
            return found
        back = {n: max(level, Level.END) for n, level in fresh.items()}
        words = (
            "Quiet for a while: the middle of its range again, at half the dose, not the end yet."
            if hurt.stage is Stage.MIDDLE
            else "Quiet: the end of its range again, at half the dose."
        )
        return replace(
            found,
            name=f"{self.name}, coming back",
            words=words,
            blocks=back if hurt.stage is Stage.MIDDLE else {},
            no_passive_end=False,
            half=fresh,
        )

    def opened(self, directions: Collection[str]) -> Caution:
        """The caution with some directions cleared; what combines them stays blocked."""
        free = {n for d in directions for n in DIRECTION_DEMANDS.get(d, ())}
        blocks = {n: level for n, level in self.blocks.items() if n not in free}
        return replace(self, blocks=blocks) if self.by_direction else self


def _sooner(name: str, level: Level) -> Level:
    """The level below, of what is pulled; what is worked or asked of the trunk as it is."""
    if name in BODY or name.startswith("con_"):
        return level
    return Level(max(Level.SOME, level - 1))


@dataclass(frozen=True)
class Answer:
    """A screening question answered yes.

    ``allowed`` directions that were cleared one by one; ``side`` (empty: both or unknown), ``part``
    of the body or way, ``stage`` 1 to 3 of a tear, ``weeks`` of a pregnancy or after it; ``since``
    when, cleared ``by`` whom, ``on`` which day and ``until`` when (its last day), ISO dates.
    """

    cleared: bool = False
    allowed: tuple[str, ...] = ()
    side: str = ""
    part: str = ""
    stage: int | None = None
    weeks: float | None = None
    since: str = ""
    by: str = ""
    on: str = ""
    until: str = ""


#: A torn muscle is cautioned like a pain at its place: by its stage sharp, an ache, coming back.
TEAR = "muscle_tear"
_TORN = {1: ("sharp", Stage.FRESH), 2: ("ache", Stage.FRESH), 3: ("ache", Stage.MIDDLE)}


def torn(answers: Mapping[str, Answer]) -> tuple[Hurt, ...]:
    """What a torn muscle means to the cautions of pain: nothing once it was cleared."""
    answer = answers.get(TEAR)
    if answer is None or answer.cleared:
        return ()
    kind, stage = _TORN[answer.stage or 1]
    place = answer.part if answer.part in PLACES else "thigh_back"
    return (Hurt(place, kind, answer.side, stage),)


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
        fields = set(CautionEntry.__struct_fields__) - {"blocks", "ends"}
        kept = {n: getattr(e, n) for n in fields}
        found.append(Caution(**kept, blocks=blocks))
    without_twins((c.id for c in found), "caution")
    return tuple(found)


def brought_by(
    cautions: Iterable[Caution],
    answers: Mapping[str, Answer],
    hurts: Collection[Hurt] = (),
    *,
    age: tuple[int, int] | None = None,
    readings: bool = False,
) -> tuple[Caution, ...]:
    """The cautions that screening answers, painful places, age and readings bring.

    ``age`` from and to, where only the year of birth is known; ``readings``: a range was measured
    that only an over-mobile body has. One caution stands once for each leg it is of.
    """
    found: list[Caution] = []
    told = [*hurts, *torn(answers)]
    for c in cautions:
        own = [_screened(c, answers[q]) for q in c.screening if q in answers]
        own += [c.of(h) for h in told if _brings(c, h)]
        if c.ages is not None and age is not None and _overlap(c.ages, age):
            own.append(replace(c, source="age"))
        if c.reading and readings and not own:
            own.append(replace(c, source="reading"))
        found += _strictest(x for x in own if x is not None)
    return tuple(found)


def stopped(why: Iterable[str], flags: Iterable[Flag]) -> tuple[Caution, ...]:
    """What stops every plan, as cautions: by the ids of the signs that were told."""
    told = set(why)
    care = "No practice is planned until then: that is care, not alarm."
    return tuple(
        Caution(f"stop_{f.id}", "To be seen first", f"{f.words} {care}", {}, no_session=True)
        for f in flags
        if f.id in told
    )


def _overlap(one: tuple[int, int], other: tuple[int, int]) -> bool:
    return one[0] <= other[1] and other[0] <= one[1]


def _screened(c: Caution, answer: Answer) -> Caution | None:
    """The caution that a yes brings; None where its part, week or clearance does not."""
    if c.when not in ("always", "cleared" if answer.cleared else "uncleared"):
        return None
    if c.parts and answer.part not in c.parts:
        return None
    weeks = answer.weeks
    if weeks is not None and not c.weeks_from <= weeks < c.weeks_to:
        return None
    side = answer.side if answer.side in SIDES else ""
    return replace(c.opened(answer.allowed), side=side, source="screening")


def _strictest(found: Iterable[Caution]) -> list[Caution]:
    """One for each leg: of several, what is fresh before what comes back, sharp before an ache."""
    kept: dict[str, Caution] = {}
    for c in found:
        before = kept.get(c.side)
        if before is None or _strict(c) > _strict(before):
            kept[c.side] = c
    if both := kept.get(""):
        # What is as strict on both legs need not be said of one.
        return [both, *(c for side, c in kept.items() if side and _strict(c) > _strict(both))]
    if len(kept) == len(SIDES) and len({_strict(c) for c in kept.values()}) == 1:
        return [replace(kept["left"], side="")]
    return list(kept.values())


def _strict(c: Caution) -> tuple[bool, int]:
    return not c.half, sum(Level.LOADED + 1 - level for level in c.blocks.values())


def _brings(c: Caution, hurt: Hurt) -> bool:
    if not c.places and not c.kinds:
        return False
    kind = hurt.kind in c.kinds if c.kinds else hurt.harmful
    return kind and (not c.places or hurt.place in c.places)
