"""The person file: somebody in, the week to practise out; through the planner of the pages."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from typing import Any

from dachi.core.assessing.permission import may_be_young
from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.cautions import Answer, Hurt, brought_by
from dachi.core.catalogue.drills import DIRECTIONS
from dachi.core.catalogue.schools import with_stand_ins
from dachi.core.judging.limiters import SessionReading, limiters
from dachi.core.practising import needs as needing
from dachi.core.practising import timeline
from dachi.core.practising.ladders import Facts, answer, locked, stand
from dachi.core.practising.needs import SideRange
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import Item, NoPlan, Person, Session
from dachi.data import (
    catalogue,
    cautions,
    chosen_schools,
    drills,
    gates,
    ladders,
    limiter_rules,
    props,
    schools,
    screening_questions,
)
from dachi.interchange import json_lines

MOST_BYTES = 1 << 20
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
#: Pain bears on the week for so long; so often at one place, a clinician should look.
PAIN_DAYS, REFER_DAYS, REFER_FROM = 14, 28, 2
#: 95 % of a level, and of the difference of two values of one visit, from a reading's sd.
LEVEL, DIFFERENCE = 1.96, 1.96 * 1.2


class PersonError(ValueError):
    """A person that cannot be planned for; the sentence says why."""


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
    person = person_of(data)
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
        return found | {"cautions": list(dict.fromkeys([*said, str(error)]))}
    return found | {
        "sessions": [_session(s) for s in week.sessions],
        "fell_out": [{"drill": d, "reason": why} for d, why in sorted(week.fell_out.items())],
    }


# ---- in ---------------------------------------------------------------------------------


def person_of(data: Mapping[str, Any]) -> Person:
    """Everything the planner looks at."""
    today = _day("today", data["today"])
    minutes = {DAYS.index(day): float(m) for day, m in data["days"].items()}
    styles = chosen_schools(_schools(data.get("schools") or {}))
    answers = _answers(data.get("screening") or {})
    readings = _readings(data.get("readings") or [])
    goals = tuple(data.get("goals") or ())
    _known("goals", goals, [p.id for p in catalogue().poses])
    own = data.get("props")
    owned = frozenset(own if own is not None else ("mat", "wall")) | {"mat"}
    _known("props", owned, [p.id for p in props()])
    facts = _facts(data.get("log") or [])
    ranges = _ranges(readings)
    wants = needing.from_limiters(_held(goals, readings)) + needing.from_reserves(ranges)
    wants += needing.from_short(ranges)
    standings = [stand(x, gates(), readings, facts, catalogue()) for x in ladders()]
    aims, prepares = needing.from_goals(
        [(g, catalogue().pose(g).name.lower()) for g in goals],
        ladders(),
        {d.id: d for d in drills()},
    )
    shut = {
        g: f"{a.gate.words} ({a.because})"
        for g, gate in gates().items()
        if not (a := answer(gate, readings, facts, catalogue())).open
    }
    hurts = {
        h
        for i, p in enumerate(data.get("pain") or [])
        if 0 <= (today - _day(f"pain.{i}.on", p["on"])).days <= PAIN_DAYS
        for h in (Hurt(p["place"], p.get("kind") or "ache"),)
    }
    found = brought_by(
        cautions(), answers, hurts, may_be_young=may_be_young(data.get("birth_year"), today.year)
    )
    return Person(
        level=data.get("level") or 1,
        minutes=max(minutes.values()),
        by_day=minutes,
        gentle=needing.gentle(data.get("birth_year"), today.year, ranges),
        days=tuple(sorted(minutes)),
        props=with_stand_ins(owned, props()),
        cautions=found,
        cleared=all(a.cleared for a in answers.values()),
        school=styles["lengthen"],
        needs=needing.merged([*wants, *aims]),
        prepares=prepares,
        rung=needing.on_the_rung(goals, standings),
        goals=goals,
        tight=needing.tighter(ranges),
        shut=shut,
        styles=styles,
        locked=locked(ladders(), gates(), readings, facts, catalogue()),
        known=frozenset(e["drill"] for e in (data.get("log") or [])[-60:]),
    )


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
        headline = next((m for m in families if m.family == wanted), None)
        if headline is None:
            raise PersonError(f"readings.{i}: {row['pose']} has no measure {wanted!r}")
        sd = float(row.get("sd") or 0.0)
        found.append(
            SessionReading(
                row["pose"], headline.family, headline.family_label, row["side"], row["mode"],
                float(row["value"]), headline.unit, LEVEL * sd, DIFFERENCE * sd,
            )
        )  # fmt: skip
    return found


def _facts(log: Sequence[Mapping[str, Any]]) -> Facts:
    """What the log tells the gates: how often in a row, newest first, a drill was easy."""
    easy: dict[str, int] = {}
    broken: set[str] = set()
    for entry in sorted(log, key=lambda e: str(e["on"]), reverse=True):
        drill = entry["drill"]
        if drill not in broken:
            if entry.get("felt") == "easy":
                easy[drill] = easy.get(drill, 0) + 1
            else:
                broken.add(drill)
    return Facts(easy, sessions=len({e["on"] for e in log}))


def _held(goals: Sequence[str], readings: Sequence[SessionReading]) -> list[Any]:
    """What likely holds the goals back, one for each side."""
    found = []
    for goal in goals:
        pose = catalogue().pose(goal)
        for side in ("both",) if pose.sides == "both" else ("left", "right"):
            for one in limiters(goal, side, readings, limiter_rules(), catalogue())[:1]:
                found.append((pose.name, one))
    return found


def _ranges(readings: Sequence[SessionReading]) -> list[SideRange]:
    sides: dict[tuple[str, str, str], dict[str, SessionReading]] = {}
    for r in readings:
        sides.setdefault((r.pose, r.family, r.side), {})[r.mode] = r
    found = []
    for (pose, family, side), modes in sides.items():
        headline = next(m for m in catalogue().pose(pose).families if m.family == family)
        if headline.leg == "other" and side != "both":
            side = other_side(side)
        if headline.motion and headline.unit == "deg":
            active, passive = modes.get("active"), modes.get("passive")
            found.append(
                SideRange(
                    pose, headline.motion, side, active.value if active else None,
                    passive.value if passive else None, max(m.within for m in modes.values()),
                    headline.better == "higher",
                )
            )  # fmt: skip
    return found


def _referred(data: Mapping[str, Any]) -> bool:
    """Whether one place hurt on several days lately, or anything tingled more than once."""
    today = _day("today", data["today"])
    days: dict[str, set[str]] = {}
    for i, p in enumerate(data.get("pain") or []):
        if 0 <= (today - _day(f"pain.{i}.on", p["on"])).days <= REFER_DAYS:
            place = "tingling" if p.get("kind") == "tingling" else p["place"].split("_")[0]
            days.setdefault(place, set()).add(p["on"][:10])
    return any(len(found) >= REFER_FROM for found in days.values())


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
