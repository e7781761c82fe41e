"""The practice player on a private link, and the sessions it sends."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import asdict
from datetime import datetime
from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dachi.core import practice as practising
from dachi.core.dose import dose
from dachi.core.drills import Drill
from dachi.core.programme import Item, NoPlan, barred, refused
from dachi.data import catalogue, chosen_schools, cues_under
from dachi.drawing.drills import drill_figures
from dachi.store import practice
from dachi.web import plans, proposals
from dachi.web.owner import Own, closed, own_of
from dachi.web.practised import beginning
from dachi.web.security import csrf, limiter
from dachi.web.session import db

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
        week = plans.week_of(own.coach, own.who)
    except NoPlan:
        return redirect(url_for("own.page", token=token))
    session = next((s for s in week["sessions"] if s["weekday"] == weekday), None)
    if session is None:
        return redirect(url_for("own.page", token=token))
    minutes = request.args.get("minutes", "")
    if minutes in ("5", "10", "15", "20", "30"):
        person = plans.person_of(own.coach, own.who, datetime.now())
        session = plans.shorter(session, person, float(minutes))
    short = request.args.get("short") == "1"
    data, names = _player(own, session, short=short)
    figures = {n: drill_figures(plans.drill_by_id()[n], catalogue()) for n in names}
    return render_template(
        "play.html",
        token=token,
        whose=own.mark,
        who=own.who,
        data=json.dumps(data),
        figures=figures,
    )


def _player(
    own: Own, session: Mapping[str, Any], *, short: bool
) -> tuple[dict[str, Any], list[str]]:
    """What the player walks through, with easier and harder forms ready."""
    known = plans.drill_by_id()
    styles = chosen_schools(own.who.schools)
    profile = plans.profile_of(own.coach, own.who.id)
    person = plans.person_of(own.coach, own.who, datetime.now())
    items, names = [], []
    for i in session["items"]:
        if i["drill"] not in known:
            continue
        d = known[i["drill"]]
        others = {}
        for kind, other in (("easier", d.easier), ("harder", d.harder)):
            swap = known.get(other or "")
            # Going easier is never barred by a level or a gate.
            asks = barred if kind == "easier" else refused
            if swap is None or asks(swap, person) is not None:
                continue
            how = dose(swap, profile.level, profile.minutes)
            item = Item(swap, how, i["first"] or "left", "")
            others[kind] = {"drill": swap.id, "steps": [asdict(s) for s in practising.steps(item)]}
            names.append(swap.id)
        names.append(d.id)
        steps = [_shortened(s) for s in i["steps"]] if short else i["steps"]
        items.append({"drill": d.id, "steps": steps, "others": others, "reason": i["reason"]})
    names = list(dict.fromkeys(names))
    data = {
        "weekday": session["weekday"],
        "items": items,
        "drills": {n: _card(known[n], profile.tuned, own.who.schools) for n in names},
        "counting": styles["counting"],
        "breath_s": own.who.breath_s,
        "places": practising.PLACES,
        "kinds": practising.KINDS,
        "stops": practising.STOPS,
        "eases": {n: practising.after_pain("dull", known[n], known)[1] for n in names},
        "stop_now": practising.after_pain("sharp", known[names[0]], known)[1],
    }
    return data, names


def _card(d: Drill, tuned: Mapping[str, Any], own: Mapping[str, str]) -> dict[str, Any]:
    return {
        "name": d.name,
        "phase": d.phase,
        "cue": " ".join([d.cue, *cues_under(d.id, own)]),
        "feel": d.feel,
        "not_feel": d.not_feel,
        "prop": d.prop_height,
        "prop_cm": dict(tuned.get("prop_cm", {})).get(d.id),
        "sitting": d.sitting,
        "props": [*d.requires, *d.optional],
    }


def _shortened(step: Mapping[str, Any]) -> dict[str, Any]:
    """A step cut to a few seconds, for trying the player out."""
    found = dict(step)
    if found["kind"] == "reps":
        found["reps"] = min(found["reps"], 2)
        found["rep_s"] = min(found["rep_s"], 0.4)
        found["seconds"] = found["reps"] * found["rep_s"]
    else:
        found["seconds"] = min(found["seconds"], 0.8 if found["kind"] == "enter" else 1.5)
    return found


@room.post("/me/<token>/log")
@csrf.exempt
@limiter.limit("60 per minute")
def log(token: str) -> tuple[Response, int]:
    """Take a session from the player. Sent again it is there once."""
    own = own_of(token)
    if own is None:
        return _json({"problem": "This link was taken back. Ask your coach for a new one."}, 404)
    if (request.content_length or 0) > MOST_LOG_BYTES:
        return _json({"problem": "The log is too long."}, 413)
    try:
        body = json.loads(request.get_data(as_text=True))
        found = read_log(body)
    except (ValueError, KeyError, TypeError) as error:
        return _json({"problem": f"The log could not be read ({error})."}, 422)
    practice.add_log(db(), own.coach, own.who.id, **found)
    proposals.refresh(own.coach, own.who)
    return _json({"kept": found["once_key"]}, 200)


def read_log(body: Mapping[str, Any]) -> dict[str, Any]:
    """Check a session as the player sends it. Raises ValueError, KeyError or TypeError."""
    started = beginning(str(body["started_at"]))
    if body["felt"] not in practising.FELT:
        raise ValueError("it does not say how it felt")
    known = plans.drill_by_id()
    done = []
    for d in list(body["done"])[:80]:
        if d["drill"] not in known:
            continue
        row: dict[str, Any] = {
            "drill": d["drill"],
            "seconds": _number(d.get("seconds", 0), 0, 7200),
        }
        if d.get("felt") in practising.FELT:
            row["felt"] = d["felt"]
        for name, most in (("prop_cm", 150.0), ("layers", 20.0), ("hold_s", 7200.0)):
            if d.get(name) not in (None, ""):
                row[name] = _number(d[name], 0, most)
        for side in ("left", "right"):
            if d.get(side) is not None:
                row[side] = _number(d[side], 0, 7200)
        done.append(row)
    pains = []
    for p in list(body.get("pains", []))[:20]:
        if (
            p["drill"] in known
            and p["place"] in practising.PLACES
            and p["kind"] in practising.KINDS
        ):
            pains.append((str(p["drill"]), str(p["place"]), str(p["kind"])))
    return {
        "once_key": str(body["once_key"])[:64],
        "started_at": started.isoformat(timespec="seconds"),
        "seconds": _number(body["seconds"], 0, 86400),
        "felt": body["felt"],
        "finished": bool(body.get("finished")),
        "done": done,
        "notes": str(body.get("notes", ""))[:1000],
        "pains": pains,
    }


def _number(value: Any, low: float, high: float) -> float:
    found = float(value)
    if not (math.isfinite(found) and low <= found <= high):
        raise ValueError(f"{value!r} is out of bounds")
    return round(found, 2)


def _json(body: Mapping[str, Any], code: int) -> tuple[Response, int]:
    answer = Response(json.dumps(dict(body)), mimetype="application/json")
    answer.headers["Cache-Control"] = "no-store"
    return answer, code
