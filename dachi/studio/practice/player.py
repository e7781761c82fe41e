"""Everything the player needs of a session: once loaded it asks for nothing more."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import asdict, replace
from typing import Any

from dachi.core.catalogue.cautions import brought_by
from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.hurts import hurts_of
from dachi.core.catalogue.schools import said_prop, with_stand_ins
from dachi.core.practising import timeline
from dachi.core.practising.allowed import barred, only_side, refused
from dachi.core.practising.programme import Item
from dachi.core.practising.timeline import Step
from dachi.core.practising.worth import dose_for
from dachi.core.words import KNEE_PARTS, PainKind, Place, with_part
from dachi.data import catalogue, cautions, cues_under, props
from dachi.drawing.body import spots
from dachi.drawing.drills import drill_figures
from dachi.store.weeks import PlannedSession, Tuned
from dachi.studio.practice import weeks
from dachi.studio.practice.person import Practising, drill_by_id

#: Minutes a session may be cut to on the day.
SHORTER = ("5", "10", "15", "20", "30")


def session_on(own: Practising, weekday: int, minutes: str = "") -> PlannedSession | None:
    """The session of a weekday, cut to the minutes there are today; None where there is none.

    Raises NoPlan.
    """
    week = weeks.week_of(own)
    found = next((s for s in week.sessions if s.weekday == weekday), None)
    if found is None or minutes not in SHORTER:
        return found
    return weeks.shorter(found, own.person, float(minutes))


def figures(names: Collection[str]) -> dict[str, Any]:
    """Drawings of drills, by id."""
    return {n: drill_figures(drill_by_id()[n], catalogue()) for n in names}


def player(
    own: Practising, session: PlannedSession, *, short: bool
) -> tuple[dict[str, Any], list[str]]:
    """What the player walks through, with easier and harder forms ready."""
    known = drill_by_id()
    flat = all("on_back" not in c.blocks for c in own.person.cautions)
    styles = own.known.styles
    profile = own.profile
    person = own.person

    def counted(step: Step) -> Step:
        by_breath = styles["counting"] == "breaths"
        return timeline.in_breaths(step, own.who.breath_s) if by_breath else step

    items, names = [], []
    for i in session.items:
        if i.drill not in known:
            continue
        d = known[i.drill]
        others = {}
        for kind, other in (("easier", d.easier), ("harder", d.harder)):
            swap = known.get(other or "")
            # Going easier is never barred by a level or a gate.
            asks = barred if kind == "easier" else refused
            if swap is None or asks(swap, person) is not None:
                continue
            how = dose_for(swap, person, session.weekday)
            item = Item(swap, how, only_side(swap, person) or i.first or "left", "")
            others[kind] = {
                "drill": swap.id,
                "steps": [asdict(counted(s)) for s in timeline.steps(item)],
            }
            names.append(swap.id)
        names.append(d.id)
        steps = [_shortened(s) if short else counted(s) for s in i.steps]
        items.append(
            {
                "drill": d.id,
                "steps": [asdict(s) for s in steps],
                "others": others,
                "reason": i.reason,
            }
        )
    names = list(dict.fromkeys(names))
    data = {
        "weekday": session.weekday,
        "items": items,
        "drills": {
            n: _card(known[n], profile.tuned, own.who.schools, own.who.props | {"mat"})
            | {"note": own.notes.get(n, "")}
            for n in names
        },
        "breath_s": own.who.breath_s,
        "places": {p: _place(p) for p in POINTED},
        "kinds": {k: w for k, w in timeline.KINDS.items() if k is not PainKind.KNEE},
        "stops": timeline.STOPS,
        "may_go_on": timeline.MAY_GO_ON,
        "minds": timeline.MINDS,
        "closes": closes(names),
        "eases": {
            n: [timeline.after_pain(PainKind.DULL, known[n], drills)[1] for drills in (known, {})]
            for n in names
        },
        "easier": {n: known[n].easier for n in names},
        "stop_now": {
            k: timeline.after_pain(k, known[names[0]], known, flat=flat)[1] for k in timeline.STOPS
        },
    }
    return data, names


def closes(names: Collection[str]) -> dict[str, dict[str, list[str]]]:
    """For each place and kind of pain (``place|kind``) which drills it closes at once, on which
    sides; a drill that is done with both legs at once is closed on both.

    The same rule as the week's: what is closed tomorrow is not gone on with today.
    """
    known = drill_by_id()
    found: dict[str, dict[str, list[str]]] = {}
    asked = {*names, *(known[n].easier for n in names if known[n].easier in known)}
    pointed = [p for place in POINTED for p in (place, *_parts(place))]
    for place in dict.fromkeys(pointed):
        for kind in PainKind:
            brought = brought_by(cautions(), {}, hurts_of(place, kind))
            shut = {n: sorted({s for c in brought for s in c.closes(known[n])}) for n in asked if n}
            if any(shut.values()):
                found[f"{place}|{kind}"] = {n: sides for n, sides in sorted(shut.items()) if sides}
    return found


#: What can be pointed at: the spots of the body drawing, and what is nowhere on it.
POINTED = (*dict.fromkeys([*spots(back=False), *spots(back=True)]), Place.ELSEWHERE)


def _parts(place: Place) -> list[Place]:
    """What is asked next of a place: which part of a knee."""
    return [with_part(place, part) for part in KNEE_PARTS] if place.is_knee else []


def _place(place: Place) -> dict[str, Any]:
    """A place to tap, with the parts of it where it has any."""
    words = list(KNEE_PARTS.values()) if _parts(place) else []
    return {
        "words": place.said,
        "knee": place.is_knee,
        "parts": [{"id": p, "words": w} for p, w in zip(_parts(place), words, strict=True)],
    }


def _card(d: Drill, tuned: Tuned, own: Mapping[str, str], owned: Collection[str]) -> dict[str, Any]:
    """What the player says of a drill; of what may help, only what the person owns."""
    usable = with_stand_ins(owned, props())
    return {
        "name": d.name,
        "legs": {s: d.said_side(s) for s in ("left", "right")},
        "phase": d.phase,
        "cue": " ".join([d.cue, *cues_under(d.id, own)]),
        "feel": d.feel,
        "not_feel": d.not_feel,
        "prop": d.prop_height,
        "prop_cm": tuned.prop_cm.get(d.id),
        "sitting": d.sitting,
        "props": [
            said_prop(p, owned)
            for name in (*d.requires, *(x for x in d.optional if x in usable))
            for p in props()
            if p.id == name
        ],
    }


def _shortened(step: Step) -> Step:
    """A step cut to a few seconds, for trying the player out."""
    if step.kind == "reps":
        reps, rep_s = min(step.reps, 2), min(step.rep_s, 0.4)
        return replace(step, reps=reps, rep_s=rep_s, seconds=reps * rep_s)
    return replace(step, seconds=min(step.seconds, 1.5 if step.worked else 0.8), breaths=0)
