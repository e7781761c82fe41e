"""What is said of somebody's pain, what a coach opens or shuts by hand, what they prepare for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import get_args

from dachi.core.catalogue.cautions import SIDES
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.hurts import PLACES
from dachi.core.practising import allowed
from dachi.core.practising.returning import AFTER, After, Return
from dachi.core.words import Place, as_place
from dachi.data import gates
from dachi.store import practice_log, preparation, safety
from dachi.store.practitioners import Practitioner
from dachi.store.safety import ComingEvent, QuietAnswer, What
from dachi.studio.phrases import day_of
from dachi.studio.practice.acts import practising
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: How far ahead an event may lie, days.
FURTHEST_DAYS = 400


@dataclass(frozen=True)
class ComingBack:
    """A place on its way back, in words: how long quiet, the next step, whether to ask."""

    key: str
    words: str
    quiet_days: int
    next_step: str
    asks: bool
    referred: bool


def coming_back(own: Practising) -> list[ComingBack]:
    """Where every place stands that hurt, what is asked about first."""
    merged: dict[str, Return] = {}
    for r in own.pain.returns:
        words = _said(r)
        # A place that stands for several is told once, by what is furthest behind.
        known = merged.get(words)
        if known is None or (r.stage, -r.referred) < (known.stage, -known.referred):
            merged[words] = r
    found = [
        ComingBack(f"{r.place}|{r.side}", words, int(r.days_quiet), r.next_step, r.asks, r.referred)
        for words, r in merged.items()
    ]
    return sorted(found, key=lambda c: (not c.referred, not c.asks, c.quiet_days))


def _said(r: Return) -> str:
    place = as_place(r.about)
    if place is not None:
        return place.said
    return f"{r.side} {r.place.replace('_', ' ')}".strip()


def answer(work: Work, who: Practitioner, key: str, told: str, by_whom: str = "") -> None:
    """Keep what was answered of a place (``ComingBack.key``), and of what it stands for.

    Raises Refused: that a clinician has seen it needs their name.
    """
    place, _, side = key.partition("|")
    said: QuietAnswer | None = next((a for a in get_args(QuietAnswer) if a == told), None)
    if said is None or place not in PLACES or side not in ("", *SIDES):
        raise Refused("There is no such place or answer.")
    if said == "seen" and not by_whom.strip():
        raise Refused("Say which doctor or physiotherapist has seen it.")
    with practising(work, who):
        own = Practising(work, who)
        words = {_said(r) for r in own.pain.returns if (r.place, r.side) == (place, side)}
        for r in own.pain.returns:
            if _said(r) in words:
                safety.say_quiet(
                    work.db, work.coach, who.id, r.place, r.side, said, by_whom.strip()[:120]
                )


def seen(work: Work, who: Practitioner, by_whom: str) -> None:
    """A clinician has seen them: what stops every plan stops it no longer. Raises Refused."""
    if not by_whom.strip():
        raise Refused("Say which doctor or physiotherapist has seen them.")
    with practising(work, who):
        preparation.lower_flags(work.db, work.coach, who.id)
        for place in PLACES:
            safety.say_quiet(work.db, work.coach, who.id, place, "", "seen", by_whom.strip()[:120])


@dataclass(frozen=True)
class ToTell:
    """A pain of the last session of which more may be said."""

    log_id: int
    place: Place


def to_tell(own: Practising) -> list[ToTell]:
    """Pains of the newest session of which nobody has said more than two taps."""
    for entry in own.log[:1]:
        return [ToTell(entry.id, p.place) for p in entry.pains if p.level is None and not p.after]
    return []


def tell_more(work: Work, who: Practitioner, log_id: int, said: Mapping[str, str]) -> None:
    """Say how strong a pain was, whether it spreads and what it did since. Raises Refused."""
    place, level = as_place(said.get("place", "")), said.get("level", "")
    after = said.get("after", "")
    if place is None or (level and (not level.isdecimal() or int(level) > 10)):
        raise Refused("How strong is a whole number from 0 to 10.")
    if after not in ("", *After):
        raise Refused("Say what it did since, from the list.")
    with practising(work, who):
        practice_log.tell_more(
            work.db, work.coach, who.id, log_id, place, level=int(level) if level else None,
            spreads=said.get("spreads") == "1", after=after,
        )  # fmt: skip


# ---- the coach's hand ----------------------------------------------------------------------


def to_open(own: Practising) -> list[Drill]:
    """Drills that a pain alone closes, on a side or both: what a coach may open by hand."""
    person = own.person
    return [
        d
        for d in drill_by_id().values()
        if allowed.closed_sides(d, person) and not allowed.not_to_open(d, person)
    ]


def one_sided(own: Practising) -> dict[str, str]:
    """Drills that are done on one side only, each with which one and why."""
    found = {}
    for d in drill_by_id().values():
        if side := allowed.only_side(d, own.person):
            (why,) = allowed.closed_sides(d, own.person).values()
            found[d.id] = f"{d.short_side(side)} only ({why.split(':')[0].lower()})"
    return found


def overrule(work: Work, who: Practitioner, told: str, name: str, reason: str) -> None:
    """Open a drill or a gate, or shut a gate, against the rule, with a reason that is kept.

    Raises Refused where the rule is not a coach's to overrule: what a clinician has to clear, a red
    flag, a young person's passive end, a place that was referred.
    """
    what: What | None = next((w for w in get_args(What) if w == told), None)
    if not reason.strip():
        raise Refused("Say why: it is shown wherever this acts.")
    known = drill_by_id()
    there = known if what == "open_drill" else gates()
    if what is None or name not in there:
        raise Refused("There is no such drill or gate.")
    if what == "open_drill" and allowed.not_to_open(known[name], Practising(work, who).person):
        raise Refused(
            "This is not for a coach to open: a doctor or physiotherapist clears it, or age closes "
            "it."
        )
    with practising(work, who):
        safety.overrule(work.db, work.coach, who.id, what, name, reason.strip()[:300])


def lift(work: Work, who: Practitioner, name: str) -> None:
    """Let the rule act again."""
    with practising(work, who):
        safety.lift(work.db, work.coach, who.id, name)


def prepare_for(work: Work, who: Practitioner, on: str, what: str) -> None:
    """Keep what somebody prepares for on a day; no day: nothing. Raises Refused."""
    event = None
    if on.strip():
        try:
            day = day_of(on)
        except ValueError as error:
            raise Refused("Give the day of the event.") from error
        if not 0 <= (day - work.today()).days <= FURTHEST_DAYS:
            raise Refused("The day of an event lies ahead, within a year.")
        event = ComingEvent(day.isoformat(), what.strip()[:80] or "event")
    with practising(work, who):
        safety.prepare_for(work.db, work.coach, who.id, event)


def after_words() -> dict[str, str]:
    """What a pain may have done since, in words."""
    return {a.value: words for a, words in AFTER.items()}
