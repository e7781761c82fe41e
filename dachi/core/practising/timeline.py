"""A planned session as a timeline of steps that a player walks through."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.drills import Drill
from dachi.core.practising.dose import ENTER_S, OUT_EVERY_S, Dose, breaths_of
from dachi.core.practising.programme import Item, Session
from dachi.core.words import PainKind

KINDS = {
    PainKind.SHARP: "sharp or sudden", PainKind.KNEE: "in the knee", PainKind.PINCH: "a pinch",
    PainKind.NUMB: "numb or tingling", PainKind.DIZZY: "dizzy",
    PainKind.DULL: "a dull ache, too much", PainKind.STRETCH: "a strong stretch",
    PainKind.CRAMP: "a cramp", PainKind.ASLEEP: "it fell asleep",
}  # fmt: skip
#: Kinds of pain that end a session, and what is said of them.
STOPS = {
    PainKind.SHARP: "Sharp or sudden pain ends the session. If it does not settle, "
    "have it looked at.",
    PainKind.KNEE: "Any pain in a knee ends the drill and the session. Nothing presses on a knee.",
    PainKind.PINCH: "A pinch in the front of the hip or the low back ends the session.",
    PainKind.NUMB: "Numbness or tingling ends the session: come out and move a little "
    "until it is gone.",
    PainKind.DIZZY: "Dizziness ends the session: nothing standing, nothing with the head low.",
}
#: Kinds after which a session may go on with what spares the place, once it has settled.
MAY_GO_ON = (PainKind.SHARP, PainKind.PINCH)
#: Kinds that only end a drill.
EASES = {
    PainKind.DULL: "A dull ache beyond a breathable stretch: this drill ends, its easier "
    "form may go on."
}
#: Kinds with an answer of their own: they end nothing.
MINDS = {
    PainKind.STRETCH: "A strong stretch is what is wanted while you can breathe in it: come up a "
    "little, and go on.",
    PainKind.CRAMP: "Come out, stretch it gently and breathe until it lets go. There is less of "
    "this one next time.",
    PainKind.ASLEEP: "Come out and shake the leg until it is awake. The next sits are shorter; "
    "nothing is closed for it.",
}
#: Dizziness in somebody who may not lie flat, and in others.
DIZZY_NOW = "Stop here. {} until it is over, and do not go on alone; your coach sees this note."


@dataclass(frozen=True)
class Step:
    """One thing the player shows.

    ``kind`` is ``enter`` (get into the drill), ``change`` (of sides), ``ease`` (up a little
    between rounds), ``out`` (out of a long sit, and back), ``reps`` or ``hold``. ``round``
    counts the rounds of one side; ``extra`` marks the tighter side's one more. ``breaths`` is
    set where a hold is counted in them. ``words`` say what this round is like; ``sinking``:
    ease out breathing in, sink breathing out.
    """

    kind: str
    drill: str
    side: str | None
    seconds: float
    reps: int = 0
    rep_s: float = 0.0
    both_ways: bool = False
    round: int = 1
    extra: bool = False
    breaths: int = 0
    words: str = ""
    sinking: bool = False

    @property
    def worked(self) -> bool:
        """Whether it is work, not getting in, easing or changing sides."""
        return self.kind in ("reps", "hold")


#: What is said of the rounds of a yielding hold, and of coming out of a long one.
EASY_ROUND, FURTHER_ROUND = "Round 1: easy, where it first speaks", "Round 2: a little further"
SAME_ROUND = "Round 2: as far as before, softer"


def timeline(session: Session) -> tuple[Step, ...]:
    """The steps of a session. Sides get equal counts, but for a planned extra round."""
    return tuple(step for item in session.items for step in steps(item))


def steps(item: Item) -> tuple[Step, ...]:
    """Getting in, then each side in turn, the tighter one first and once more at the end."""
    d, how = item.drill, item.dose
    found = [Step("enter", d.id, None, ENTER_S)]
    sides: tuple[str | None, ...] = (None,)
    if how.sides == 2:
        first = item.first or "left"
        sides = (first, other_side(first))
    elif d.sides == "each":
        # The other leg is left alone: what is closed for it is said with the reason.
        sides = (item.first or "left",)
    for n, side in enumerate(sides):
        if n:
            found.append(Step("change", d.id, side, how.change_s))
        if how.reps:
            found.append(
                Step("reps", d.id, side, how.reps * how.rep_s, how.reps, how.rep_s, d.both_ways)
            )
        else:
            found += _held(d.id, how, side)
    last = how.rounds + 1
    if how.extra and (how.extra_reps or how.extra_s) and how.extra != sides[-1]:
        found.append(Step("change", d.id, how.extra, how.change_s, round=last, extra=True))
    if how.extra and how.extra_reps:
        found.append(
            Step(
                "reps", d.id, how.extra, how.extra_reps * how.rep_s, how.extra_reps, how.rep_s,
                False, last, True,
            )
        )  # fmt: skip
    elif how.extra and how.extra_s:
        found.append(Step("hold", d.id, how.extra, how.extra_s, round=last, extra=True))
    return tuple(found)


def _held(drill: str, how: Dose, side: str | None) -> list[Step]:
    """A hold of one side: whole, in two rounds, or minutes long with come-outs."""
    if how.outs:
        found: list[Step] = []
        left = how.hold_s
        for n in range(1, how.outs + 2):
            part = min(left, OUT_EVERY_S)
            left -= part
            found.append(Step("hold", drill, side, part, round=n))
            if n <= how.outs:
                words = f"Come out if you like, {n} of {how.outs}; then go back in"
                found.append(Step("out", drill, side, how.out_s, round=n, words=words))
        return found
    if how.rounds == 1:
        return [Step("hold", drill, side, how.hold_s)]
    easy = 5.0 * (how.hold_s // 10)
    further = SAME_ROUND if how.gentle else FURTHER_ROUND
    return [
        Step("hold", drill, side, easy, words=EASY_ROUND),
        Step("ease", drill, side, how.ease_s, words="Come up a little, breathe"),
        Step(
            "hold", drill, side, how.hold_s - easy, round=2, words=further, sinking=not how.gentle
        ),
    ]


def in_breaths(step: Step, breath_s: float) -> Step:
    """A hold counted in whole breaths of a person's own pace, and as long as they take."""
    if step.kind != "hold":
        return step
    breaths = breaths_of(step.seconds, breath_s)
    return replace(step, breaths=breaths, seconds=breaths * breath_s)


def balance(found: Iterable[Step]) -> Mapping[str, tuple[float, float, float]]:
    """Seconds of each drill on the left, on the right, and in extra rounds."""
    totals: dict[str, list[float]] = {}
    for s in found:
        if s.side is None or not s.worked:
            continue
        row = totals.setdefault(s.drill, [0.0, 0.0, 0.0])
        row[2 if s.extra else ("left", "right").index(s.side)] += s.seconds
    return {k: (v[0], v[1], v[2]) for k, v in totals.items()}


def direction_seconds(done: Mapping[str, float], drills: Mapping[str, Drill]) -> dict[str, float]:
    """Seconds in each direction of the hip, from seconds done of each drill."""
    found: dict[str, float] = {}
    for name, seconds in done.items():
        for direction in drills[name].directions if name in drills else ():
            found[direction] = found.get(direction, 0.0) + seconds
    return found


#: Crossed sitting grows by these, s.
SITTING_S = (10, 15, 30, 60, 120, 300, 600, 900)


def sitting_rung(seconds: float) -> int:
    """Index of the highest sitting time reached; -1 below the first."""
    return max((i for i, s in enumerate(SITTING_S) if seconds >= s), default=-1)


def after_pain(
    kind: PainKind, drill: Drill, drills: Mapping[str, Drill], *, flat: bool = True
) -> tuple[str, str]:
    """What is said when it hurts, and what to do now.

    Whoever may not lie ``flat`` lies on the left side. ``drills``: those that may be done now.
    """
    lie = "Lie flat" if flat else "Lie on your left side"
    if kind is PainKind.DIZZY:
        return STOPS[kind], DIZZY_NOW.format(lie)
    if kind in MINDS:
        return MINDS[kind], "Go on when you are ready."
    if kind in STOPS:
        return STOPS[kind], f"Stop here. {lie} for two minutes; your coach sees this note."
    easier = drills.get(drill.easier or "")
    now = (
        f"Leave it out today, or try “{easier.name}”, smaller." if easier else "Leave it out today."
    )
    return EASES[PainKind.DULL], now
