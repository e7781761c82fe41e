"""Where it hurts, how, on which leg and how far it has come back."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

from dachi.core.words import PainKind, Place

#: Where it can hurt; a knee or a hip of which no part was said is all of its parts.
PLACES = (
    "hip_front", "hip_side", "hip_back", "sit_bone", "groin", "thigh_front", "thigh_back",
    "knee_inner", "knee_outer", "knee_front", "knee_back", "ankle", "foot", "low_back", "wrist",
    "shoulder", "neck", "head", "elsewhere",
)  # fmt: skip
#: Places that are of neither leg: what they close is closed on both sides.
NO_LEG = ("low_back", "wrist", "shoulder", "neck", "head", "elsewhere")
KINDS = ("sharp", "pinch", "tingling", "ache", "stretch", "cramp", "asleep")
#: A strong stretch is no harm by itself; in a knee any feeling is. A cramp and a leg that fell
#: asleep ask for less of what they came with, and close nothing.
HARMFUL = ("sharp", "pinch", "tingling", "ache")
#: Has no place: only what names it is brought by it.
DIZZY = "dizzy"
#: Any pain as strong as this, 0 to 10, is taken for a sharp one.
STRONG = 7


class Stage(IntEnum):
    """How far what hurt has come back; doses are half of the usual until it is there."""

    #: Its demands are closed.
    FRESH = 0
    #: The middle of its range, at half the dose.
    MIDDLE = 1
    #: Its end again, at half the dose.
    END = 2


@dataclass(frozen=True)
class Hurt:
    """Where it hurts and how; ``side`` is empty where nobody said which, or it has none."""

    place: str
    kind: str = "ache"
    side: str = ""
    stage: Stage = Stage.FRESH

    @property
    def harmful(self) -> bool:
        """Whether it is more than a strong stretch, a cramp or a leg asleep."""
        return self.kind in HARMFUL or (self.place.startswith("knee") and self.kind == "stretch")

    def of_leg(self, side: str) -> bool:
        """Whether it may be of a leg: where nobody said which, it may be either."""
        return self.place not in NO_LEG and self.side in ("", side)


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
    Place.SHOULDER: ("shoulder",), Place.NECK: ("neck",), Place.HEAD: ("head",),
    Place.ELSEWHERE: ("elsewhere",),
}  # fmt: skip
CLOSES |= {p: CLOSES[p.sideless] for p in Place if p not in CLOSES}
_KINDS = {
    PainKind.SHARP: "sharp", PainKind.PINCH: "pinch", PainKind.NUMB: "tingling",
    PainKind.DULL: "ache", PainKind.KNEE: "ache", PainKind.STRETCH: "stretch",
    PainKind.CRAMP: "cramp", PainKind.ASLEEP: "asleep",
}  # fmt: skip


def hurts_of(
    place: Place, kind: PainKind = PainKind.DULL, level: int | None = None
) -> tuple[Hurt, ...]:
    """What a place, a kind and a strength of pain mean to the cautions.

    Dizziness has no place of its own; what is as strong as ``STRONG`` counts as sharp.
    """
    if kind is PainKind.DIZZY:
        return (Hurt("elsewhere", DIZZY),)
    return tuple(Hurt(p, kind_of(kind, level), place.side) for p in CLOSES[place])


def kind_of(kind: PainKind, level: int | None = None) -> str:
    """A kind of pain in the words of the cautions (see ``hurts_of``)."""
    said = _KINDS[kind]
    return "sharp" if said in ("ache", "pinch") and (level or 0) >= STRONG else said
