"""The practitioner's own page, opened by a private link: today, charts, photographs, data."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from flask import Blueprint, abort, redirect, render_template, request, send_file, url_for
from werkzeug.wrappers import Response

from dachi.core.programme import NoPlan
from dachi.data import catalogue, chosen_schools
from dachi.drawing import practice as drawings
from dachi.store import assessments, digests, photos, practice
from dachi.web import plans, proposals, shown, takeout
from dachi.web.calendars import calendar_of
from dachi.web.owner import Own, closed, own_of
from dachi.web.practised import by_week, heights, sitting
from dachi.web.rooms import pictures
from dachi.web.security import csrf, limiter
from dachi.web.session import db
from dachi.web.words import day

room = Blueprint("own", __name__)


@room.get("/me/<token>")
@limiter.limit("120 per minute")
def page(token: str) -> str | tuple[str, int]:
    """Today's session, what was done, own charts in kind words."""
    own = own_of(token)
    if own is None:
        return closed()
    today = datetime.now()
    week, problem = None, None
    try:
        week = plans.week_of(own.coach, own.who)
    except NoPlan:
        problem = "There is no plan just now: ask your coach."
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
    return render_template(
        "own.html",
        token=token,
        whose=own.mark,
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
        charts=heights(own.coach, own.who, log, drawings.SLIM),
        minutes_chart=drawings.weeks(by_week(log, planned), drawings.SLIM) if log else "",
        photos=_photos(own) if shown.to_themselves(own.coach, own.who.id) else [],
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
    grown: list[str] = []
    holds: dict[str, list[str]] = {}
    rests: dict[str, list[str]] = {}
    for d in digests.of_practitioner(db(), own.coach, own.who.id):
        if d.pose not in catalogue():
            continue
        name = catalogue().pose(d.pose).name.lower()
        for f in d.body["families"]:
            if f["unit"] != "deg":
                continue
            for line in f["lines"]:
                change = line["first"]
                if line["mode"] != "passive" or not change:
                    continue
                if change["verdict"] == "real gain":
                    side = f"{line['side']} " if line["side"] != "both" else ""
                    size = abs(round(change["change"]))
                    grown.append(f"Your {side}{name} has {size}° more room than at the start.")
                else:
                    steady = change["verdict"] == "no change we could detect"
                    (holds if steady else rests).setdefault(name, []).append(line["side"])
    return [
        *grown,
        *_together("Holding steady: {}.", holds),
        *_together("Resting a little, as they may: {}. Your coach sees it too.", rests),
    ]


def _together(sentence: str, found: Mapping[str, list[str]]) -> list[str]:
    """One sentence for several poses; a side is named where only one of them is meant."""
    words = [
        name if len(set(sides)) != 1 or sides[0] == "both" else f"{name} ({sides[0]})"
        for name, sides in found.items()
    ]
    return [sentence.format(", ".join(words))] if words else []


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
    own = own_of(token) or abort(404)
    shows = photos.shows(db(), photo_id)
    if shows is None or shows.practitioner_id != own.who.id:
        abort(404)
    if not shown.to_themselves(own.coach, own.who.id):
        abort(404)
    found = photos.get(db(), own.coach, photo_id) or abort(404)
    return pictures.shared(own.coach, found, "preview")


@room.post("/me/<token>/soreness")
@csrf.exempt
@limiter.limit("60 per minute")
def soreness(token: str) -> Response | tuple[str, int]:
    """How sore the day after was."""
    own = own_of(token)
    if own is None:
        return closed()
    level, log_id = request.form.get("soreness", ""), request.form.get("log", "")
    if level.isdecimal() and int(level) <= 10 and log_id.isdecimal():
        practice.set_soreness(db(), own.coach, own.who.id, int(log_id), int(level))
        proposals.refresh(own.coach, own.who)
    return redirect(url_for("own.page", token=token, thanks=1))


# ---------------------------------------------------------------- calendar and data


@room.get("/me/<token>/calendar.ics")
@limiter.limit("60 per minute")
def feed(token: str) -> Response:
    """The calendar as a feed and as a file."""
    own = own_of(token) or abort(404)
    answer = Response(calendar_of(own.coach, own.who), mimetype="text/calendar")
    answer.headers["Content-Disposition"] = 'inline; filename="practice.ics"'
    answer.headers["Cache-Control"] = "private, max-age=900"
    return answer


@room.get("/me/<token>/data.zip")
@limiter.limit("10 per minute")
def download(token: str) -> Response:
    """Their data as plain files."""
    own = own_of(token) or abort(404)
    answer = send_file(
        takeout.bundle(own.coach, own.who), mimetype="application/zip", as_attachment=True,
        download_name="my-practice.zip",
    )  # fmt: skip
    answer.headers["Cache-Control"] = "no-store"
    return answer
