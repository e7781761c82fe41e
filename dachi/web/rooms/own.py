"""The practitioner's own page, opened by a private link: today, player, log, charts, data."""

from __future__ import annotations

import io
import json
import math
import zipfile
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import date, datetime
from typing import Any

from flask import Blueprint, abort, redirect, render_template, request, url_for
from itsdangerous import BadSignature
from werkzeug.wrappers import Response

from dachi.core import practice as practising
from dachi.core.dose import dose
from dachi.core.drills import Drill
from dachi.core.programme import Item, NoPlan
from dachi.data import catalogue, chosen_schools, cues_under
from dachi.drawing import practice as drawings
from dachi.drawing.drills import drill_figures
from dachi.interchange.calendar import Appointment, Practice, calendar
from dachi.store import assessments, days, digests, photos, practice, practitioners, preparation
from dachi.store.practitioners import Practitioner
from dachi.web import plans
from dachi.web.rooms import pictures
from dachi.web.rooms.practise import by_week, heights, signer, sitting
from dachi.web.security import csrf, limiter
from dachi.web.session import db
from dachi.web.words import day

room = Blueprint("own", __name__)

FELT = ("easy", "right", "hard")
PAIN_PLACES = (
    "left knee", "right knee", "front of the hip", "groin", "low back", "back of the thigh",
    "wrist", "somewhere else",
)  # fmt: skip
KINDS = {
    "sharp": "sharp or sudden", "knee": "in the knee", "pinch": "a pinch",
    "numb": "numb or tingling", "dizzy": "dizzy", "dull": "a dull ache, too much",
}  # fmt: skip
MOST_LOG_BYTES = 200_000


@dataclass(frozen=True)
class Own:
    """Whose page a link opens."""

    coach: int
    who: Practitioner


def _own(token: str) -> Own | None:
    try:
        nonce = signer().loads(token)
    except BadSignature:
        return None
    found = practice.behind_link(db(), nonce) if isinstance(nonce, str) else None
    if found is None:
        return None
    who = practitioners.get(db(), *found)
    return Own(found[0], who) if who is not None else None


def _closed() -> tuple[str, int]:
    sentence = "This link is not right, or it was taken back. Ask your coach for a new one."
    return render_template("phone_end.html", sentence=sentence), 404


@room.get("/me/<token>")
@limiter.limit("120 per minute")
def page(token: str) -> str | tuple[str, int]:
    """Today's session, what was done, own charts in kind words."""
    own = _own(token)
    if own is None:
        return _closed()
    today = datetime.now()
    week, problem = None, None
    try:
        week = plans.week_of(own.coach, own.who)
    except NoPlan:
        problem = "There is no plan just now. Your coach is told."
    log = practice.log(db(), own.coach, own.who.id)
    ask = next(
        (
            e for e in log[:1]
            if e.soreness is None and 0.4 < plans.days_since(e.started_at, today) < 4
        ),
        None,
    )  # fmt: skip
    planned = len(plans.profile_of(own.coach, own.who.id).weekdays)
    styles = chosen_schools(own.who.schools)
    session, when = _next(week, today)
    consent = preparation.consent(db(), own.coach, own.who.id)
    shown = consent is not None and consent.withdrawn_on is None and consent.scope != "measure"
    return render_template(
        "own.html",
        token=token,
        who=own.who,
        week=week,
        problem=problem,
        session=session,
        when=when,
        drills=plans.drill_by_id(),
        weekdays=plans.WEEKDAYS,
        dose=lambda d: plans.say_dose(d, styles["counting"], own.who.breath_s),
        log=log[:12],
        weeks=by_week(log, planned),
        ask=ask,
        sentences=_sentences(own)[:8],
        charts=heights(own.coach, own.who, log),
        minutes_chart=drawings.weeks(by_week(log, planned)) if log else "",
        photos=_photos(own) if shown else [],
        sitting=sitting(log),
        visit=own.who.next_visit_at,
        thanks=request.args.get("thanks"),
        less=[n for n in (5, 10, 15, 20, 30) if session and 60 * n < session["seconds"] - 60],
    )


def _next(week: Mapping[str, Any] | None, today: datetime) -> tuple[dict[str, Any] | None, str]:
    """The session of today, else the next one, and when that is."""
    sessions = list(week["sessions"]) if week else []
    if not sessions:
        return None, ""
    ahead = sorted(sessions, key=lambda s: (s["weekday"] - today.weekday()) % 7)
    away = (ahead[0]["weekday"] - today.weekday()) % 7
    names = {0: "today", 1: "tomorrow"}
    return ahead[0], names.get(away, f"on {plans.WEEKDAYS[ahead[0]['weekday']]}")


def _sentences(own: Own) -> list[str]:
    """What the measurements say, kindly: what grew, what holds, nothing compared with others."""
    grown, rest = [], []
    for d in digests.of_practitioner(db(), own.coach, own.who.id):
        if d.pose not in catalogue():
            continue
        name = catalogue().pose(d.pose).name.lower()
        for f in d.body["families"]:
            if f["unit"] != "deg":
                continue
            for line in f["lines"]:
                if line["mode"] != "passive" or not line["first"]:
                    continue
                side = f"{line['side']} " if line["side"] != "both" else ""
                change = line["first"]
                if change["verdict"] == "real gain":
                    size = abs(round(change["change"]))
                    grown.append(f"Your {side}{name} has {size}° more room than at the start.")
                elif change["verdict"] == "no change we could detect":
                    rest.append(f"Your {side}{name} holds where it was.")
                else:
                    rest.append(f"Your {side}{name} rests a little: your coach knows.")
    return [*grown, *rest]


def _photos(own: Own) -> list[dict[str, Any]]:
    """The newest valid photographs of the person, where they agreed to be shown them."""
    found = []
    for visit in assessments.of_practitioner(db(), own.coach, own.who.id)[:3]:
        for t in assessments.trials(db(), own.coach, visit.id):
            if t.valid and t.number == 1 and t.mode == "passive" and t.pose in catalogue():
                words = (
                    f"{catalogue().pose(t.pose).name}, {t.side}"
                    if t.side != "both"
                    else catalogue().pose(t.pose).name
                )
                found.append({"id": t.photo_id, "words": words, "on": day(visit.taken_at)})
    return found[:12]


@room.get("/me/<token>/photo/<int:photo_id>.jpg")
@limiter.limit("240 per minute")
def photo(token: str, photo_id: int) -> Response:
    """One of the person's own photographs, as their consent says."""
    own = _own(token) or abort(404)
    consent = preparation.consent(db(), own.coach, own.who.id)
    shows = photos.shows(db(), photo_id)
    if shows is None or shows.practitioner_id != own.who.id:
        abort(404)
    if consent is None or consent.withdrawn_on is not None or consent.scope == "measure":
        abort(404)
    found = photos.get(db(), own.coach, photo_id) or abort(404)
    return pictures.shared(own.coach, found, "preview")


# ---------------------------------------------------------------- the player


@room.get("/me/<token>/play/<int:weekday>")
@limiter.limit("60 per minute")
def play(token: str, weekday: int) -> str | Response | tuple[str, int]:
    """The player, with everything it needs: once loaded it asks for nothing more."""
    own = _own(token)
    if own is None:
        return _closed()
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
        "play.html", token=token, who=own.who, data=json.dumps(data), figures=figures
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
            if swap is None or _barred(swap, person, kind):
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
        "places": PAIN_PLACES,
        "kinds": KINDS,
        "stops": practising.STOPS,
        "eases": {n: practising.after_pain("dull", known[n], known)[1] for n in names},
        "stop_now": practising.after_pain("sharp", known[names[0]], known)[1],
    }
    return data, names


def _barred(drill: Drill, person: Any, kind: str) -> bool:
    from dachi.core.programme import refused

    why = refused(drill, person)
    # Going easier is never barred by a level or a gate, only by a caution, clearance or a prop.
    if (
        kind == "easier"
        and why is not None
        and (why.startswith("is for") or why.startswith("its gate"))
    ):
        return False
    return why is not None


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
    own = _own(token)
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
    plans.refresh_proposals(own.coach, own.who)
    return _json({"kept": found["once_key"]}, 200)


def read_log(body: Mapping[str, Any]) -> dict[str, Any]:
    """Check a session as the player sends it. Raises ValueError, KeyError or TypeError."""
    started = datetime.fromisoformat(str(body["started_at"])[:19])
    if not datetime(2020, 1, 1) <= started <= datetime.now().replace(hour=23, minute=59):
        raise ValueError("its date lies in the future or too far back")
    if body["felt"] not in FELT:
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
        if d.get("felt") in FELT:
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
        if p["drill"] in known and p["place"] in PAIN_PLACES and p["kind"] in KINDS:
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


@room.post("/me/<token>/soreness")
@csrf.exempt
@limiter.limit("60 per minute")
def soreness(token: str) -> Response | tuple[str, int]:
    """How sore the day after was."""
    own = _own(token)
    if own is None:
        return _closed()
    level, log_id = request.form.get("soreness", ""), request.form.get("log", "")
    if level.isdigit() and int(level) <= 10 and log_id.isdigit():
        practice.set_soreness(db(), own.coach, own.who.id, int(log_id), int(level))
        plans.refresh_proposals(own.coach, own.who)
    return redirect(url_for("own.page", token=token, thanks=1))


# ---------------------------------------------------------------- calendar and data


def calendar_of(coach: int, who: Practitioner) -> bytes:
    """Practice days, the next visit and the day a new look can show something."""
    profile = plans.profile_of(coach, who.id)
    stored = practice.plan(db(), coach, who.id)
    known = plans.drill_by_id()
    by_day = {s["weekday"]: s for s in stored[1]["sessions"]} if stored else {}
    practices = [
        Practice(
            d,
            round(profile.minutes),
            f"Practice, {profile.minutes:.0f} minutes",
            ", ".join(
                known[i["drill"]].name
                for i in by_day.get(d, {}).get("items", [])
                if i["drill"] in known
            ),
        )
        for d in profile.weekdays
    ]
    found = []
    if who.next_visit_at:
        found.append(
            Appointment("visit", datetime.fromisoformat(who.next_visit_at), "Visit to your coach")
        )
    due = min(
        (d.retest_on for d in digests.of_practitioner(db(), coach, who.id) if d.retest_on),
        default=None,
    )
    if due:
        found.append(
            Appointment(
                "look", date.fromisoformat(due[:10]), "A new look can show something from today",
                "Ask your coach for an assessment.",
            )
        )  # fmt: skip
    nonce = practice.link(db(), coach, who.id) or "none"
    return calendar(f"Practice of {who.call_name}", nonce[:8], practices, found, date.today())


@room.get("/me/<token>/calendar.ics")
@limiter.limit("60 per minute")
def feed(token: str) -> Response:
    """The calendar as a feed and as a file."""
    own = _own(token) or abort(404)
    answer = Response(calendar_of(own.coach, own.who), mimetype="text/calendar")
    answer.headers["Content-Disposition"] = 'inline; filename="practice.ics"'
    answer.headers["Cache-Control"] = "private, max-age=900"
    return answer


@room.get("/me/<token>/data.zip")
@limiter.limit("10 per minute")
def download(token: str) -> Response:
    """Everything kept about the person, as plain files."""
    own = _own(token) or abort(404)
    who, out = own.who, io.BytesIO()
    consent = preparation.consent(db(), own.coach, who.id)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as bundle:
        record = {
            "call_name": who.call_name, "birth_year": who.birth_year, "height_cm": who.height_cm,
            "thigh_cm": who.thigh_cm, "shin_cm": who.shin_cm, "dominant_side": who.dominant_side,
            "props": sorted(who.props), "schools": dict(who.schools),
            "consent": asdict(consent) if consent else None,
        }  # fmt: skip
        bundle.writestr("record.json", json.dumps(record, indent=2, ensure_ascii=False))
        log = [asdict(e) for e in practice.log(db(), own.coach, who.id, 5000)]
        bundle.writestr("practice.json", json.dumps(log, indent=2, ensure_ascii=False))
        ranges = [
            {"pose": d.pose, "families": d.body["families"]}
            for d in digests.of_practitioner(db(), own.coach, who.id)
        ]
        bundle.writestr("ranges.json", json.dumps(ranges, indent=2, ensure_ascii=False))
        visits = [
            {
                "taken_at": v.taken_at,
                "warmth": v.warmth,
                "state": asdict(state) if (state := days.state(db(), own.coach, v.id)) else None,
                "photographs": len(assessments.trials(db(), own.coach, v.id)),
            }
            for v in assessments.of_practitioner(db(), own.coach, who.id)
        ]
        bundle.writestr("visits.json", json.dumps(visits, indent=2, ensure_ascii=False))
        bundle.writestr("calendar.ics", calendar_of(own.coach, who))
    answer = Response(out.getvalue(), mimetype="application/zip")
    answer.headers["Content-Disposition"] = 'attachment; filename="my-practice.zip"'
    answer.headers["Cache-Control"] = "no-store"
    return answer
