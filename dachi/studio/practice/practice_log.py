"""Taking sessions into the log, from the player or by hand."""

from __future__ import annotations

import math
import secrets
from collections.abc import Mapping, Sequence
from datetime import datetime

import msgspec

from dachi.core.practising.returning import After
from dachi.core.words import PainKind, as_place
from dachi.errors import NotDone
from dachi.store import felt
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import PlannedSession
from dachi.studio.phrases import moment_of
from dachi.studio.practice.person import drill_by_id

#: Rows kept of one session; more than any session has.
MOST_DRILLS, MOST_PAINS = 80, 20
#: Less work than this is none, s.
LEAST_S = 10.0
DAY_S, LONGEST_DRILL_S, LONGEST_MIN = 86_400, 7200, 600
HIGHEST_CM, MOST_LAYERS = 150, 20


class LogProblem(NotDone):
    """A session that cannot be logged; the message says why."""

    code = "log"


#: Numbers come as numbers, or as what was typed into a field.
Typed = float | str | None


class PlayedDrill(msgspec.Struct, frozen=True):
    """A drill as the player sends it."""

    drill: str
    seconds: Typed = 0.0
    felt: str | None = None
    prop_cm: Typed = None
    layers: Typed = None
    hold_s: Typed = None
    left: Typed = None
    right: Typed = None


class PlayedPain(msgspec.Struct, frozen=True):
    """Where it hurt and how, at which drill, as the player sends it."""

    drill: str
    place: str
    kind: str


class Played(msgspec.Struct, frozen=True):
    """A session as the player sends it."""

    once_key: str
    started_at: str
    seconds: Typed
    done: list[PlayedDrill]
    felt: Felt | None = None
    finished: bool = False
    notes: str = ""
    pains: list[PlayedPain] = []
    senses: dict[str, str] = {}


def beginning(text: str, now: datetime) -> datetime:
    """When a session began; LogProblem says what is wrong with it."""
    try:
        # A player tells its offset behind the seconds; what counts is the wall clock there.
        at = moment_of(text[:19] if text[4:5] == "-" else text)
    except ValueError as error:
        raise LogProblem("give the day and time it began") from error
    if not datetime(2020, 1, 1) <= at <= now.replace(hour=23, minute=59):
        raise LogProblem("its date lies in the future or too far back")
    return at


def read_played(body: bytes, now: datetime) -> NewLogEntry:
    """Check a session as the player sends it. Raises LogProblem.

    Drills, places and kinds that are not known here any more are left out.
    """
    try:
        sent = msgspec.json.decode(body, type=Played)
    except msgspec.DecodeError as error:
        raise LogProblem(str(error)) from error
    known = drill_by_id()
    return NewLogEntry(
        once_key=sent.once_key[:64],
        started_at=beginning(sent.started_at, now).isoformat(timespec="seconds"),
        seconds=_number(sent.seconds, DAY_S) or 0.0,
        felt=sent.felt,
        finished=sent.finished,
        done=tuple(_done(d) for d in sent.done[:MOST_DRILLS] if d.drill in known),
        notes=sent.notes[:1000],
        pains=tuple(
            Pain(p.drill, place, PainKind(p.kind))
            for p in sent.pains[:MOST_PAINS]
            if p.drill in known and p.kind in set(PainKind)
            if (place := as_place(p.place)) is not None
        ),
        senses={k: v for k, v in sent.senses.items() if v and felt.known(k, v)},
    )


def worth_keeping(entry: NewLogEntry) -> bool:
    """Whether anything was done or hurt: walking through by Skip alone is no session."""
    return bool(entry.pains) or sum(d.seconds for d in entry.done) >= LEAST_S


def _done(d: PlayedDrill) -> DrillDone:
    return DrillDone(
        d.drill,
        _number(d.seconds, LONGEST_DRILL_S) or 0.0,
        Felt(d.felt) if d.felt in set(Felt) else None,
        _number(d.prop_cm, HIGHEST_CM),
        _number(d.layers, MOST_LAYERS),
        _number(d.hold_s, LONGEST_DRILL_S),
        _number(d.left, LONGEST_DRILL_S),
        _number(d.right, LONGEST_DRILL_S),
    )


def _number(value: Typed, most: float) -> float | None:
    """A number from 0 to ``most``; None where nothing was said. Raises LogProblem."""
    if value is None or value == "":
        return None
    try:
        found = float(value)
    except ValueError:
        found = math.nan
    if not 0 <= found <= most:
        raise LogProblem(f"{value!r} is no number from 0 to {most:g}")
    return round(found, 2)


def read_by_hand(
    form: Mapping[str, str], sessions: Sequence[PlannedSession], now: datetime
) -> tuple[NewLogEntry, int | None]:
    """Check a session from the form, and how sore the day after was. Raises LogProblem."""
    at = beginning(form["started_at"], now)
    try:
        minutes = float(form["minutes"].replace(",", "."))
    except ValueError:
        minutes = 0.0
    if not 0 < minutes <= LONGEST_MIN:
        raise LogProblem(f"give its length in minutes, up to {LONGEST_MIN}")
    sore = form["soreness"]
    if sore and not (sore.isdecimal() and int(sore) <= 10):
        raise LogProblem("soreness is a whole number from 0 to 10")
    if form["felt"] and form["felt"] not in set(Felt):
        raise LogProblem("it felt easy, right or hard, or nobody said")
    planned = next((s for s in sessions if str(s.weekday) == form["what"]), None)
    done: list[DrillDone] = []
    if planned is not None:
        share = min(1.0, 60 * minutes / planned.seconds)
        for i in planned.items:
            seconds = sum(s.seconds for s in i.steps if s.worked)
            done.append(DrillDone(i.drill, round(share * seconds, 1)))
    place, kind = as_place(form["place"]), form["kind"]
    level, after = form.get("level", "").strip(), form.get("after", "")
    if level and not (level.isdecimal() and int(level) <= 10):
        raise LogProblem("how strong a pain is is a whole number from 0 to 10")
    if after and after not in set(After):
        raise LogProblem("say what the pain did since, from the list")
    pain = place and kind in set(PainKind)
    pains = (
        (
            Pain(
                "", place, PainKind(kind), int(level) if level else None,
                form.get("spreads") == "1", after,
            ),
        )
        if place is not None and pain
        else ()
    )  # fmt: skip
    entry = NewLogEntry(
        once_key=form["once_key"][:64] or secrets.token_urlsafe(12),
        started_at=at.isoformat(timespec="seconds"),
        seconds=60 * minutes,
        felt=Felt(form["felt"]) if form["felt"] else None,
        finished=True,
        done=tuple(done),
        notes=form["notes"][:1000],
        # Nobody says at which drill: the place alone counts.
        pains=pains,
    )
    return entry, int(sore) if sore else None
