"""How what hurt comes back: by quiet days and a question, one step at a time; and what stops all.

Fresh, what loads it is closed. After 7 quiet days (an ache) or 14 (sharp, tingling, a pinch, what
swelled, locked, gave way or lasted until morning) its middle opens at half the dose; after three
sessions more and the answer that it is quiet, its end, at half; after three more, all of it. Where
a clinician has to look first nothing comes back until they did.
"""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from dachi.core.catalogue.hurts import DIZZY, STRONG, Hurt, Stage

#: Quiet days before the middle of the range opens.
ACHE_DAYS, SHARP_DAYS = 7.0, 14.0
#: Quiet sessions before the next step.
SESSIONS = 3
#: A second sharp pain at a place within so many days is for a clinician.
AGAIN_DAYS = 28.0
#: Tingling on so many days of the last so many stops every plan until it was seen.
TINGLED, TINGLED_OF = 10, 14.0
#: What has been quiet for so long is over, whoever was asked.
LONG_AGO = 182.0
#: Cramp and a leg that fell asleep are minded for so long.
MINDED_DAYS = 7.0


class After(StrEnum):
    """What a pain did since."""

    GONE = "gone"
    HOURS = "hours"
    NEXT_DAY = "next_day"
    SWELLING = "swelling"
    LOCKING = "locking"
    GIVING_WAY = "giving_way"


AFTER = {
    After.GONE: "gone at once", After.HOURS: "some hours", After.NEXT_DAY: "still there next day",
    After.SWELLING: "it swelled", After.LOCKING: "it locked", After.GIVING_WAY: "it gave way",
}  # fmt: skip
#: What sends to a clinician by itself.
SENDS = (After.SWELLING, After.LOCKING, After.GIVING_WAY)


@dataclass(frozen=True, kw_only=True)
class Pained:
    """One pain, so many days ago: a place of ``hurts.PLACES``, its side (or none) and kind.

    ``level`` 0 to 10, ``spreads`` down or around, ``after`` what it did since, ``drill`` at which.
    ``about`` names what was pointed at, where that is not the same.
    """

    days_ago: float
    place: str
    kind: str = "ache"
    side: str = ""
    level: int | None = None
    spreads: bool = False
    after: str = ""
    drill: str = ""
    about: str = ""

    @property
    def waits(self) -> float:
        """Quiet days it asks for before the middle of its range."""
        long = (
            self.kind in ("sharp", "tingling", "pinch")
            or (self.level or 0) >= STRONG
            or self.after in (*SENDS, After.NEXT_DAY)
        )
        return SHARP_DAYS if long else ACHE_DAYS

    @property
    def hurt(self) -> Hurt:
        """What it means to the cautions while it is fresh."""
        return Hurt(self.place, self.kind, self.side)


@dataclass(frozen=True)
class Said:
    """What was answered of a place, so many days ago: that it is quiet, or that it was ``seen`` by
    a clinician who lets it go on. No ``side``: of both.
    """

    days_ago: float
    place: str
    side: str = ""
    seen: bool = False


@dataclass(frozen=True)
class Return:
    """Where a place stands on its way back, and the next step in words."""

    place: str
    side: str
    stage: Stage
    kinds: tuple[str, ...]
    days_quiet: float
    #: Nothing comes back before a clinician has looked.
    referred: bool
    #: The question is due: is it quiet?
    asks: bool
    next_step: str
    about: str = ""

    @property
    def hurts(self) -> tuple[Hurt, ...]:
        """What it means to the cautions."""
        return tuple(Hurt(self.place, kind, self.side, self.stage) for kind in self.kinds)


def returns(
    pains: Iterable[Pained], sessions: Sequence[float], said: Iterable[Said] = ()
) -> tuple[Return, ...]:
    """Where every place stands that hurt and is not yet back.

    ``sessions``: how many days ago each counted session was.
    """
    told = list(said)
    harmful = [p for p in pains if p.hurt.harmful and p.days_ago >= 0]
    found = []
    for place, side in dict.fromkeys((p.place, p.side) for p in harmful):
        own = [p for p in harmful if p.place == place and p.side in (side, "")]
        own += [p for p in harmful if not side and p.place == place and p.side]
        if one := _return(place, side, own, sessions, [s for s in told if _about(s, place, side)]):
            found.append(one)
    return tuple(found)


def _about(said: Said, place: str, side: str) -> bool:
    return said.place == place and (said.side in ("", side) or not side)


def _return(
    place: str, side: str, pains: list[Pained], sessions: Sequence[float], said: list[Said]
) -> Return | None:
    quiet = min(p.days_ago for p in pains)
    if quiet > LONG_AGO:
        return None
    about = min(pains, key=lambda p: p.days_ago).about
    # Time runs forward: what lies further ahead has the smaller number of days ago.
    middle = min([p.days_ago - p.waits for p in pains] + _let_go(pains, said))
    kinds = tuple(
        dict.fromkeys(
            p.kind if p.kind in ("sharp", "tingling", "pinch", "stretch") else "ache"
            for p in sorted(pains, key=lambda p: p.days_ago)
            if p.days_ago <= quiet + SHARP_DAYS
        )
    )

    def now(stage: Stage, step: str, *, asks: bool = False, referred: bool = False) -> Return:
        own = kinds if stage else _worst(pains, kinds)
        return Return(place, side, stage, own, quiet, referred, asks, step, about)

    if _referred(pains, said):
        step = "stays closed until a doctor or physiotherapist has looked at it"
        return now(Stage.FRESH, step, referred=True)
    if middle < 0:
        return now(Stage.FRESH, f"its middle opens in {_days(-middle)} if it stays quiet")
    after = sorted((s for s in sessions if s <= middle), reverse=True)
    answers = [s.days_ago for s in said if s.days_ago <= middle]
    if len(after) < SESSIONS or not answers:
        todo = [_quiet_sessions(SESSIONS - len(after))] if len(after) < SESSIONS else []
        todo += [] if answers else ["the answer that it is quiet"]
        step = f"its end opens, at half the dose, after {' and '.join(todo)}"
        return now(Stage.MIDDLE, step, asks=not answers)
    end = min(after[SESSIONS - 1], max(answers))
    later = [s for s in after if s < end]
    if len(later) >= SESSIONS:
        return None
    return now(Stage.END, f"as usual after {_quiet_sessions(SESSIONS - len(later))}")


def _quiet_sessions(count: int) -> str:
    return f"{count} more quiet session{'s' if count > 1 else ''}"


def _worst(pains: Iterable[Pained], kinds: tuple[str, ...]) -> tuple[str, ...]:
    """The kinds that are still waited for, strong ones as sharp ones."""
    strong = any((p.level or 0) >= STRONG and p.days_ago <= p.waits for p in pains)
    return ("sharp", *(k for k in kinds if k != "sharp")) if strong else kinds


def _days(days: float) -> str:
    whole = max(1, round(days))
    return "a day" if whole == 1 else f"{whole} days"


def _referred(pains: Iterable[Pained], said: Iterable[Said]) -> bool:
    """Whether a clinician has to look: twice sharp within four weeks, or swollen, locked, given
    way; not what was seen since.
    """
    seen = min((s.days_ago for s in said if s.seen), default=float("inf"))
    open_ = sorted((p for p in pains if p.days_ago < seen), key=lambda p: p.days_ago)
    if any(p.after in SENDS for p in open_):
        return True
    sharp = sorted({p.days_ago for p in open_ if p.kind == "sharp"})
    return any(b - a <= AGAIN_DAYS and b - a >= 0.5 for a, b in itertools.pairwise(sharp))


def _let_go(pains: Sequence[Pained], said: Iterable[Said]) -> list[float]:
    """When a clinician let a place go on that waited for it: until then nothing came back."""
    seen = sorted((s.days_ago for s in said if s.seen), reverse=True)
    found, before = [], float("inf")
    for at in seen:
        if _referred([p for p in pains if at <= p.days_ago < before], ()):
            found.append(at)
        before = at
    return found


def fresh_dizziness(pains: Iterable[Pained]) -> tuple[Hurt, ...]:
    """Dizziness lately: it has no place that could come back, and ends by quiet days alone."""
    lately = any(p.kind == DIZZY and 0 <= p.days_ago < ACHE_DAYS for p in pains)
    return (Hurt("elsewhere", DIZZY),) if lately else ()


def minded(pains: Iterable[Pained], kind: str) -> frozenset[str]:
    """The drills at which a cramp came or a leg fell asleep lately: less of them next time."""
    return frozenset(
        p.drill for p in pains if p.kind == kind and 0 <= p.days_ago < MINDED_DAYS and p.drill
    )


def stops(
    pains: Collection[Pained], flags: Collection[str] = (), said: Iterable[Said] = ()
) -> tuple[str, ...]:
    """Why nobody plans for somebody until a clinician has seen them, by what was told: the flags
    answered yes, and what pains tell by themselves (``tingling``, ``both_legs``).
    """
    found = list(flags)
    seen = min((s.days_ago for s in said if s.seen), default=float("inf"))
    open_ = [p for p in pains if p.kind == "tingling" and p.days_ago < seen]
    lately = [p for p in open_ if 0 <= p.days_ago < TINGLED_OF]
    days = {int(p.days_ago) for p in lately}
    if len(days) >= TINGLED or any(p.spreads for p in lately):
        found.append("tingling")
    if {"left", "right"} <= {p.side for p in lately}:
        found.append("both_legs")
    return tuple(dict.fromkeys(found))
