"""The person file: somebody in, the week to practise out; through the planner of the pages."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

from dachi.core.assessing.permission import ages
from dachi.core.assessing.runsheet import sides
from dachi.core.catalogue.cautions import Answer
from dachi.core.catalogue.drills import DIRECTIONS
from dachi.core.catalogue.hurts import CLOSES, STRONG
from dachi.core.judging.limiters import SessionReading
from dachi.core.practising import timeline
from dachi.core.practising.ladders import Facts
from dachi.core.practising.person import Known, before_event, person_of
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import Item, NoPlan, Person, Session, Week, Wishes
from dachi.core.practising.progression import recurring
from dachi.core.practising.returning import (
    Pained,
    Return,
    Said,
    fresh_dizziness,
    minded,
    returns,
    stops,
)
from dachi.core.practising.worth import served
from dachi.core.rules import DIFFERENCE, PAIN_DAYS, Z95
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
    newer = isinstance(data, dict) and data.get("version") == 2
    wrong = json_lines.complaint("person2" if newer else "person", data)
    if wrong is not None:
        raise PersonError(wrong)
    hurting = _hurting(data)
    person = person_of(known_of(data, hurting), rules())
    said = [f"{c.said}: {c.words}" for c in person.cautions]
    said += [
        f"{r.place.replace('_', ' ')}{f', {r.side}' if r.side else ''}: {r.next_step}."
        for r in hurting.returns
    ]
    found: dict[str, Any] = {
        "id": None, "sessions": [], "fell_out": [], "cautions": said,
        "referred": _referred(data) or hurting.refers,
    }  # fmt: skip
    if found["referred"] and not hurting.stops:
        said.append("The same place hurt again: have it looked at by a doctor or physiotherapist.")
    try:
        week = plan(drills(), person, _wishes(data))
    except NoPlan as error:
        # What forbids a session altogether is a caution that was said already.
        return found if error.by_caution else found | {"cautions": [*said, str(error)]}
    notes = (data.get("coach") or {}).get("notes") or {}
    sessions = [_session(s, person, notes) for s in week.sessions]
    if not newer:
        sessions = [_as_version_1(s) for s in sessions]
    found |= {
        "sessions": sessions,
        "fell_out": [{"drill": d, "reason": why} for d, why in sorted(week.fell_out.items())],
    }
    return found | {"changed": _changed(data, week)} if newer else found


# ---- in ---------------------------------------------------------------------------------


@dataclass(frozen=True)
class Hurting:
    """What a file tells of somebody's pain, and what follows."""

    pains: tuple[Pained, ...]
    returns: tuple[Return, ...]
    stops: tuple[str, ...]

    @property
    def refers(self) -> bool:
        """Whether a clinician has to look first, at a place or at all."""
        return bool(self.stops) or any(r.referred for r in self.returns)


def _hurting(data: Mapping[str, Any]) -> Hurting:
    today = _day("today", data["today"])
    pains, said = [], []
    for i, p in enumerate(data.get("pain") or []):
        days = float((today - _day(f"pain.{i}.on", p["on"])).days)
        if days < 0:
            continue
        side = p.get("side") if p.get("side") in ("left", "right") else ""
        if since := p.get("quiet_since"):
            # It hurt until then; that it is quiet is what was answered.
            days = max(0.0, min(days, float((today - _day(f"pain.{i}.quiet_since", since)).days)))
            said.append(Said(0.0, p["place"], side or ""))
        kind = p.get("kind") or "ache"
        strong = kind in ("ache", "pinch") and (p.get("level") or 0) >= STRONG
        pains.append(
            Pained(
                days_ago=days, place=p["place"], kind="sharp" if strong else kind, side=side or "",
                level=p.get("level"), spreads=bool(p.get("spreads")), after=p.get("after") or "",
                drill=p.get("drill") or "",
            )
        )  # fmt: skip
    days_of = {e["on"] for e in data.get("log") or [] if not e.get("skipped")}
    sessions = [float((today - _day("log.on", on)).days) for on in days_of]
    flags = tuple(data.get("red_flags") or ())
    return Hurting(tuple(pains), returns(pains, sessions, said), stops(pains, flags, said))


def known_of(data: Mapping[str, Any], hurting: Hurting) -> Known:
    """What a file tells of somebody; PersonError where it tells what there is not."""
    today = _day("today", data["today"])
    minutes = {DAYS.index(day): float(m) for day, m in data["days"].items()}
    screening = data.get("screening") or {}
    answers = _answers(screening, today)
    goals = tuple(data.get("goals") or ())
    _known("goals", goals, [p.id for p in catalogue().poses])
    own = data.get("props")
    owned = frozenset(own if own is not None else ("mat", "wall")) | {"mat"}
    _known("props", owned, [p.id for p in props()])
    log = [e for e in data.get("log") or [] if not e.get("skipped")]
    coach = _by_hand(data)
    before = before_event(_days_to(data, today), today.weekday())
    return Known(
        year=today.year,
        minutes=max(minutes.values()),
        days=tuple(sorted(minutes)),
        by_day=minutes,
        styles=chosen_schools(_schools(data.get("schools") or {})),
        cleared=True,
        level=data.get("level") or 1,
        birth_year=data.get("birth_year"),
        age=ages(data.get("birth_year"), today.year),
        props=owned,
        answers=answers,
        hurts=frozenset(
            [*(h for r in hurting.returns for h in r.hurts), *fresh_dizziness(hurting.pains)]
        ),
        goals=tuple((g, side) for g in goals for side in sides(catalogue().pose(g), "left")),
        readings=_readings(data.get("readings") or []),
        facts=replace(_facts(log, hurting.pains, today), opened=coach["gates"], shut=coach["shut"]),
        practised=frozenset(e["drill"] for e in log[-MOST_LOG:]),
        hurt=frozenset(
            p.drill for p in hurting.pains if p.drill and p.days_ago <= PAIN_DAYS and p.hurt.harmful
        ),
        easy_week=bool(data.get("easy_week")),
        quiet_days=_visits(data, today) | before.eve,
        soft_days=before.soft,
        nothing_new=before.nothing_new,
        stops=hurting.stops,
        referred=frozenset(h for r in hurting.returns if r.referred for h in r.hurts),
        minded=minded(hurting.pains, "cramp") | minded(hurting.pains, "asleep"),
        opened=coach["drills"],
        not_loose="over_mobile" in screening and not screening["over_mobile"].get("yes"),
        hold_s=data.get("hold_s"),
    )


def _days_to(data: Mapping[str, Any], today: date) -> int | None:
    event = data.get("event")
    return (_day("event.on", event["on"]) - today).days if event else None


def _visits(data: Mapping[str, Any], today: date) -> frozenset[int]:
    """The weekdays of assessments within a week of today, and of their eves."""
    found: set[int] = set()
    for i, on in enumerate(data.get("assessment_on") or []):
        away = (_day(f"assessment_on.{i}", on) - today).days
        found |= {(today.weekday() + n) % 7 for n in (away - 1, away) if 0 <= n < 7}
    return frozenset(found)


def _by_hand(data: Mapping[str, Any]) -> dict[str, dict[str, str]]:
    """What a coach opened and shut, each with the reason; PersonError for what there is not."""
    coach = data.get("coach") or {}
    found: dict[str, dict[str, str]] = {"gates": {}, "drills": {}, "shut": {}}
    known = [d.id for d in drills()]
    for i, one in enumerate(coach.get("opened") or []):
        where = f"coach.opened.{i}"
        if ("gate" in one) == ("drill" in one):
            raise PersonError(f"{where}: name a gate or a drill")
        if "gate" in one:
            _known(where, (one["gate"],), list(rules().gates))
            found["gates"][one["gate"]] = one["why"]
        else:
            _known(where, (one["drill"],), known)
            found["drills"][one["drill"]] = one["why"]
    for i, one in enumerate(coach.get("shut") or []):
        _known(f"coach.shut.{i}", (one["gate"],), list(rules().gates))
        found["shut"][one["gate"]] = one["why"]
    _known("coach.added", (a["drill"] for a in coach.get("added") or []), known)
    _known("coach.notes", coach.get("notes") or {}, known)
    return found


def _wishes(data: Mapping[str, Any]) -> Wishes:
    added = (data.get("coach") or {}).get("added") or []
    return Wishes(kept=frozenset((DAYS.index(a["day"]), a["drill"]) for a in added))


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


def _answers(found: Mapping[str, Mapping[str, Any]], today: date) -> dict[str, Answer]:
    _known("screening", found, [q.id for q in screening_questions()])
    answers = {}
    for question, one in found.items():
        _known(f"screening.{question}.allowed", one.get("allowed") or (), DIRECTIONS)
        if not one.get("yes"):
            continue
        until = one.get("until") or ""
        over = bool(until) and _day(f"screening.{question}.until", until) < today
        approach = one.get("approach") if one.get("approach") != "unknown" else None
        answers[question] = Answer(
            cleared=bool(one.get("cleared")) and not over,
            allowed=tuple(one.get("allowed") or ()),
            side=one["side"] if one.get("side") in ("left", "right") else "",
            part=one.get("part") or one.get("place") or approach or "",
            stage=one.get("stage"),
            weeks=one.get("weeks"),
            since=one.get("since") or "",
            by=one.get("by") or "",
            until=until,
        )
    return answers


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


def _facts(log: Sequence[Mapping[str, Any]], pains: Sequence[Pained], today: date) -> Facts:
    """What the log tells the gates: how often in a row, newest first, a drill was easy; and how
    many days ago it hurt last where. Where no side was said, any of the places it may be counts.
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
    for pain in pains:
        for place, closed in CLOSES.items():
            if pain.place in closed and pain.hurt.harmful and place.side in ("", pain.side):
                hurt[place] = min(pain.days_ago, hurt.get(place, pain.days_ago))
    since: dict[str, float] = {}
    for i, entry in enumerate(log):
        days = float((today - _day(f"log.{i}.on", entry["on"])).days)
        since[entry["drill"]] = max(days, since.get(entry["drill"], 0.0))
    return Facts(easy, pain_days=hurt, sessions=len({e["on"] for e in log}), since=since)


def _referred(data: Mapping[str, Any]) -> bool:
    """Whether one place hurt on several days lately, or anything tingled more than once."""
    today = _day("today", data["today"])
    found = [
        ((today - _day(f"pain.{i}.on", p["on"])).days, p)
        for i, p in enumerate(data.get("pain") or [])
    ]
    past = [(days, p) for days, p in found if days >= 0]
    places = [
        (days, days, (p["place"].split("_")[0], p.get("side") or ""))
        for days, p in past
        if p.get("kind") not in ("cramp", "asleep")
    ]
    tingled = [(days, days, ("tingling", "")) for days, p in past if p.get("kind") == "tingling"]
    return bool(recurring([*places, *tingled]))


# ---- out --------------------------------------------------------------------------------


def _session(s: Session, person: Person, notes: Mapping[str, str]) -> dict[str, Any]:
    quiet = {"quiet": True} if s.weekday in person.quiet_days else {}
    return {
        "day": DAYS[s.weekday],
        "total_s": round(s.total_s),
        "items": [_item(i, person, notes) for i in s.items],
    } | quiet


def _as_version_1(session: dict[str, Any]) -> dict[str, Any]:
    older = ("drill", "phase", "first", "left_s", "right_s", "reason")
    items = [{k: i[k] for k in older} for i in session["items"]]
    return {"day": session["day"], "total_s": session["total_s"], "items": items}


def _item(i: Item, person: Person, notes: Mapping[str, str]) -> dict[str, Any]:
    left = right = 0.0
    for step in timeline.steps(i):
        if not step.worked:
            continue
        left += step.seconds if step.side in (None, "left") else 0.0
        right += step.seconds if step.side in (None, "right") else 0.0
    found: dict[str, Any] = {
        "drill": i.drill.id,
        "phase": i.drill.phase,
        "first": i.first,
        "left_s": round(left, 1),
        "right_s": round(right, 1),
        "reason": i.reason,
        "why": [f"{n.kind}:{n.name}" for n in person.needs if served(i.drill, n)],
    }
    if i.drill.id in notes:
        found["note"] = notes[i.drill.id]
    return found | ({"kept_by_coach": True} if i.kept else {})


def _changed(data: Mapping[str, Any], week: Week) -> list[dict[str, Any]]:
    """What was practised in the last seven days and is not planned now, and what is new: why."""
    today = _day("today", data["today"])
    lately = {
        e["drill"]
        for e in data.get("log") or []
        if not e.get("skipped") and 0 < (today - _day("log.on", e["on"])).days <= 7
    }
    if not lately:
        return []
    now = {i.drill.id: i.reason for s in week.sessions for i in s.items}
    gone = [
        {"drill": d, "from": "practised", "to": None, "why": week.fell_out.get(d, "not planned")}
        for d in sorted(lately - set(now))
    ]
    new = [
        {"drill": d, "from": None, "to": "planned", "why": now[d]}
        for d in sorted(set(now) - lately)
    ]
    return gone + new
