"""The practice player on a private link, and the sessions it sends."""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping
from dataclasses import asdict, replace
from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dachi.core.catalogue.drills import Drill
from dachi.core.catalogue.schools import said_prop, with_stand_ins
from dachi.core.practising import timeline
from dachi.core.practising.programme import Item, NoPlan, barred, dose_for, refused
from dachi.core.practising.timeline import Step
from dachi.data import catalogue, chosen_schools, cues_under, props
from dachi.drawing.drills import drill_figures
from dachi.store import felt
from dachi.store.weeks import PlannedSession, Tuned
from dachi.studio.practice import practice_log, weeks
from dachi.web.own_page import Own, closed, own_of
from dachi.web.security import csrf, limiter

room = Blueprint("play", __name__)

MOST_LOG_BYTES = 200_000


@room.get("/me/<token>/play/<int:weekday>")
@limiter.limit("60 per minute")
def play(token: str, weekday: int) -> str | Response | tuple[str, int]:
    """The player, with everything it needs: once loaded it asks for nothing more."""
    own = own_of(token)
    if own is None:
        return closed()
    try:
        week = weeks.week_of(own.work, own.who)
    except NoPlan:
        return redirect(url_for("own.page", token=token))
    session = next((s for s in week.sessions if s.weekday == weekday), None)
    if session is None:
        return redirect(url_for("own.page", token=token))
    minutes = request.args.get("minutes", "")
    if minutes in ("5", "10", "15", "20", "30"):
        person = weeks.person_of(own.work, own.who)
        session = weeks.shorter(session, person, float(minutes))
    short = request.args.get("short") == "1"
    data, names = _player(own, session, short=short)
    figures = {n: drill_figures(weeks.drill_by_id()[n], catalogue()) for n in names}
    return render_template(
        "play.html",
        token=token,
        whose=own.mark,
        who=own.who,
        data=json.dumps(data),
        figures=figures,
        felt_kinds=felt.KINDS,
    )


def _player(own: Own, session: PlannedSession, *, short: bool) -> tuple[dict[str, Any], list[str]]:
    """What the player walks through, with easier and harder forms ready."""
    known = weeks.drill_by_id()
    styles = chosen_schools(own.who.schools)
    profile = weeks.profile_of(own.work, own.who.id)
    person = weeks.person_of(own.work, own.who)

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
            item = Item(swap, how, i.first or "left", "")
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
            for n in names
        },
        "breath_s": own.who.breath_s,
        "places": timeline.PLACES,
        "knee_parts": timeline.KNEE_PARTS,
        "kinds": timeline.KINDS,
        "stops": timeline.STOPS,
        "eases": {n: timeline.after_pain("dull", known[n], known)[1] for n in names},
        "stop_now": timeline.after_pain("sharp", known[names[0]], known)[1],
    }
    return data, names


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


@room.post("/me/<token>/log")
@csrf.exempt
@limiter.limit("60 per minute")
def log(token: str) -> tuple[Response, int]:
    """Take a session from the player. Sent again it is there once, with what was added."""
    own = own_of(token)
    if own is None:
        return _json({"problem": "This link was taken back. Ask your coach for a new one."}, 404)
    if (request.content_length or 0) > MOST_LOG_BYTES:
        return _json({"problem": "The log is too long."}, 413)
    try:
        found = practice_log.read_played(request.get_data(), own.work.now())
    except practice_log.LogProblem as error:
        return _json({"problem": f"The log could not be read ({error})."}, 422)
    if not practice_log.worth_keeping(found):
        return _json({"kept": found.once_key, "nothing": True}, 200)
    practice_log.keep(own.work, own.who, found, adding=True)
    return _json({"kept": found.once_key}, 200)


def _json(body: Mapping[str, Any], code: int) -> tuple[Response, int]:
    answer = Response(json.dumps(dict(body)), mimetype="application/json")
    answer.headers["Cache-Control"] = "no-store"
    return answer, code
