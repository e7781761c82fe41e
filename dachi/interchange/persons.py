"""The person file: somebody in, the week to practise out; through the planner of the pages."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from typing import Any

from dachi.core.assessing.permission import may_be_young
from dachi.core.assessing.runsheet import sides
from dachi.core.catalogue.cautions import CLOSES, Answer, Hurt
from dachi.core.catalogue.drills import DIRECTIONS
from dachi.core.judging.limiters import SessionReading
from dachi.core.practising import timeline
from dachi.core.practising.ladders import Facts
from dachi.core.practising.person import Known, person_of
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import Item, NoPlan, Session
from dachi.core.practising.progression import recurring
from dachi.core.rules import DIFFERENCE, PAIN_DAYS, RETURN_DAYS, Z95
from dachi.core.words import Place
from dachi.data import (
    catalogue,
    chosen_schools,
    drills,
    props,
    rules,
    schools,
    screening_questions,
)
from dachi.errors import NotDone
from dachi.interchange import json_lines

MOST_BYTES = 1 << 20
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
#: Drills of so many last entries are known.
MOST_LOG = 60


class PersonError(NotDone):
    """A person that cannot be planned for; the sentence says why."""

    code = "person"


def plan_line(line: bytes) -> dict[str, Any]:
    """Plan for one line of a person file; whatever it holds, the answer is a result or an error."""
    data, wrong = json_lines.parsed(line, MOST_BYTES, "a person takes a few kB")
    if wrong is not None:
        return wrong
    known = json_lines.id_of(data)
    try:
        return plan_json(data) | {"id": known}
    except PersonError as error:
        return {"id": known, "error": str(error)}
    except (ArithmeticError, ValueError) as error:
        return {"id": known, "error": f"no week can be made of these numbers ({error})"}


def plan_json(data: Any) -> dict[str, Any]:
    """Plan a week for a parsed person; PersonError with a sentence where it is none."""
    wrong = json_lines.complaint("person", data)
    if wrong is not None:
        raise PersonError(wrong)
    person = person_of(known_of(data), rules())
    said = [f"{c.name}: {c.words}" for c in person.cautions]
    found: dict[str, Any] = {
        "id": None, "sessions": [], "fell_out": [], "cautions": said, "referred": _referred(data),
    }  # fmt: skip
    if not person.cleared:
        said.append("Passive work at the end of range waits for a doctor or physiotherapist.")
    if found["referred"]:
        said.append("The same place hurt again: have it looked at by a doctor or physiotherapist.")
    try:
        week = plan(drills(), person)
    except NoPlan as error:
        # What forbids a session altogether is a caution that was said already.
        return found if error.by_caution else found | {"cautions": [*said, str(error)]}
    return found | {
        "sessions": [_session(s) for s in week.sessions],
        "fell_out": [{"drill": d, "reason": why} for d, why in sorted(week.fell_out.items())],
    }


# ---- in ---------------------------------------------------------------------------------


def known_of(data: Mapping[str, Any]) -> Known:
    """What a file tells of somebody; PersonError where it tells what there is not."""
    today = _day("today", data["today"])
    minutes = {DAYS.index(day): float(m) for day, m in data["days"].items()}
    answers = _answers(data.get("screening") or {})
    goals = tuple(data.get("goals") or ())
    _known("goals", goals, [p.id for p in catalogue().poses])
    own = data.get("props")
    owned = frozenset(own if own is not None else ("mat", "wall")) | {"mat"}
    _known("props", owned, [p.id for p in props()])
    log = data.get("log") or []
    return Known(
        year=today.year,
        minutes=max(minutes.values()),
        days=tuple(sorted(minutes)),
        by_day=minutes,
        styles=chosen_schools(_schools(data.get("schools") or {})),
        cleared=all(a.cleared for a in answers.values()),
        level=data.get("level") or 1,
        birth_year=data.get("birth_year"),
        may_be_young=may_be_young(data.get("birth_year"), today.year),
        props=owned,
        answers=answers,
        hurts=frozenset(
            Hurt(p["place"], p.get("kind") or "ache", returning=days > PAIN_DAYS)
            for days, p in _pains(data, today)
            if days <= PAIN_DAYS + RETURN_DAYS
        ),
        goals=tuple((g, side) for g in goals for side in sides(catalogue().pose(g), "left")),
        readings=_readings(data.get("readings") or []),
        facts=_facts(log, _pains(data, today)),
        practised=frozenset(e["drill"] for e in log[-MOST_LOG:]),
    )


def _pains(data: Mapping[str, Any], today: date) -> list[tuple[int, Mapping[str, Any]]]:
    """Pains up to today, each with how many days ago."""
    found = [
        ((today - _day(f"pain.{i}.on", p["on"])).days, p)
        for i, p in enumerate(data.get("pain") or [])
    ]
    return [(days, p) for days, p in found if days >= 0]


def _day(where: str, text: str) -> date:
    try:
        return date.fromisoformat(text[:10])
    except ValueError as error:
        raise PersonError(f"{where}: {text!r} is no date") from error


def _known(where: str, found: Iterable[str], known: Sequence[str]) -> None:
    for one in found:
        if one not in known:
            raise PersonError(f"{where}: there is no {one!r}")


def _schools(own: Mapping[str, str]) -> dict[str, str]:
    options = {s.id: s.options for s in schools()}
    _known("schools", own, list(options))
    for question, option in own.items():
        _known(f"schools.{question}", (option,), list(options[question]))
    return dict(own)


def _answers(found: Mapping[str, Mapping[str, Any]]) -> dict[str, Answer]:
    _known("screening", found, [q.id for q in screening_questions()])
    for question, one in found.items():
        _known(f"screening.{question}.allowed", one.get("allowed") or (), DIRECTIONS)
    return {
        q: Answer(bool(a.get("cleared")), tuple(a.get("allowed") or ()))
        for q, a in found.items()
        if a.get("yes")
    }


def _readings(rows: Sequence[Mapping[str, Any]]) -> list[SessionReading]:
    found = []
    for i, row in enumerate(rows):
        if row["pose"] not in catalogue():
            raise PersonError(f"readings.{i}: there is no pose {row['pose']!r}")
        families = catalogue().pose(row["pose"]).families
        wanted = row.get("measure") or families[0].family
        pose = catalogue().pose(row["pose"])
        known = wanted in {m.family for m in pose.charted}
        headline = pose.now(wanted) if known else None
        if headline is None:
            raise PersonError(f"readings.{i}: {row['pose']} has no measure {wanted!r}")
        sd = float(row.get("sd") or 0.0)
        apart = Z95 * DIFFERENCE * sd
        found.append(
            SessionReading(
                row["pose"], headline.family, headline.family_label, row["side"], row["mode"],
                float(row["value"]), headline.unit, Z95 * sd, apart, apart,
            )
        )  # fmt: skip
    return found


def _facts(
    log: Sequence[Mapping[str, Any]], pains: Sequence[tuple[int, Mapping[str, Any]]]
) -> Facts:
    """What the log tells the gates: how often in a row, newest first, a drill was easy; and how
    many days ago it hurt last where. The file names no side: any of the places it may be counts.
    """
    easy: dict[str, int] = {}
    broken: set[str] = set()
    for entry in sorted(log, key=lambda e: str(e["on"]), reverse=True):
        drill = entry["drill"]
        if drill not in broken:
            if entry.get("felt") == "easy":
                easy[drill] = easy.get(drill, 0) + 1
            else:
                broken.add(drill)
    hurt: dict[Place, float] = {}
    for days, pain in pains:
        for place, closed in CLOSES.items():
            if pain["place"] in closed:
                hurt[place] = min(days, hurt.get(place, days))
    return Facts(easy, pain_days=hurt, sessions=len({e["on"] for e in log}))


def _referred(data: Mapping[str, Any]) -> bool:
    """Whether one place hurt on several days lately, or anything tingled more than once."""
    found = _pains(data, _day("today", data["today"]))
    places = [(days, days, p["place"].split("_")[0]) for days, p in found]
    tingled = [(days, days, "tingling") for days, p in found if p.get("kind") == "tingling"]
    return bool(recurring([*places, *tingled]))


# ---- out --------------------------------------------------------------------------------


def _session(s: Session) -> dict[str, Any]:
    return {
        "day": DAYS[s.weekday],
        "total_s": round(s.total_s),
        "items": [_item(i) for i in s.items],
    }


def _item(i: Item) -> dict[str, Any]:
    left = right = 0.0
    for step in timeline.steps(i):
        if not step.worked:
            continue
        left += step.seconds if step.side in (None, "left") else 0.0
        right += step.seconds if step.side in (None, "right") else 0.0
    return {
        "drill": i.drill.id,
        "phase": i.drill.phase,
        "first": i.first,
        "left_s": round(left, 1),
        "right_s": round(right, 1),
        "reason": i.reason,
    }
