"""The practitioner's own page, opened by a private link: today, charts, photographs, data."""

from __future__ import annotations

import contextlib
from datetime import datetime
from typing import Any

from flask import Blueprint, abort, redirect, render_template, request, send_file, url_for
from werkzeug.wrappers import Response

from dachi.drawing import practice as drawings
from dachi.drawing import small_charts
from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.lists import Happened, catalogue, chosen_schools
from dachi.studio.phrases import say_day
from dachi.studio.practice import acts, cautions, minding, weeks
from dachi.studio.practice.calendars import calendar_of
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.practice.practice_history import by_week, heights, sitting
from dachi.studio.record import export, picture_privacy
from dachi.studio.records import Message, NoPlan, PlannedSession, PlannedWeek
from dachi.studio.verdicts import conclusions, tiles
from dachi.studio.verdicts.kind_words import kind_words
from dachi.studio.verdicts.then_and_now import then_and_now
from dachi.studio.verdicts.tiles import Tile
from dachi.web.fields import whole
from dachi.web.own_page import Own, closed, noted, own_of
from dachi.web.security import csrf, limiter
from dachi.web.serving import shared

room = Blueprint("own", __name__)

#: A phone's screen holds few charts before it is scrolled for nothing.
MOST_TILES = 6


@room.get("/me/<token>")
@limiter.limit("120 per minute")
def page(token: str) -> str | tuple[str, int]:
    """Today's session, what was done, own charts in kind words."""
    own = own_of(token)
    if own is None:
        return closed()
    noted(own, Happened.OWN_PAGE)
    today = own.work.now()
    week, problem = None, None
    practising = Practising(own.work, own.who)
    try:
        week = weeks.week_of(practising)
    except NoPlan:
        stopped = [c.words for c in practising.person.cautions if c.no_session]
        problem = " ".join(stopped) or "There is no plan just now: ask your coach."
    log = practising.log
    ask = next(
        (
            e for e in log[:1]
            if e.soreness is None and 0.4 < cautions.days_since(e.started_at, today) < 4
        ),
        None,
    )  # fmt: skip
    planned = practising.profile.week_sessions
    styles = chosen_schools(own.who.schools)
    seen = picture_privacy.to_themselves(own.work, own.who.id)
    found = practising.summaries
    kept = practising.goals
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
        drills=drill_by_id(),
        weekdays=weeks.WEEKDAYS,
        dose=lambda d: weeks.say_dose(d, styles["counting"], own.who.breath_s),
        log=log[:12],
        weeks=by_week(log, planned, today.date()),
        ask=ask,
        quiet=[c for c in minding.coming_back(practising) if c.asks][:2],
        tell=minding.to_tell(practising)[:1],
        since=minding.after_words(),
        sentences=kind_words(own.work, own.who)[:8],
        words=_words(own),
        advice=conclusions.advise(own.work, own.who, practising),
        charts=heights(own.work, own.who, log, drawings.SLIM),
        minutes_chart=drawings.weeks(by_week(log, planned, today.date()), drawings.SLIM)
        if log
        else "",
        photos=_photos(own) if seen else [],
        pair=then_and_now(own.work, own.who) if seen else None,
        tiles=[t for t in tiles.tiles(found, kept) if t.drawing and not _set_up(t)][:MOST_TILES],
        patterns=small_charts.patterns(),
        sitting=sitting(log),
        visit=own.who.next_visit_at,
        thanks=request.args.get("thanks"),
        less=[n for n in (5, 10, 15, 20, 30) if session and 60 * n < session.seconds - 60],
    )


def _words(own: Own) -> list[Message]:
    """The last words with the coach; what the coach wrote is read by opening the page."""
    found = records.words_with(own.work, own.who.id, 4)
    acts.have_read(own.work, own.who, "coach")
    return found


@room.post("/me/<token>/words")
@csrf.exempt
@limiter.limit("12 per minute")
def write(token: str) -> Response | tuple[str, int]:
    """A few words to the coach."""
    own = own_of(token)
    if own is None:
        return closed()
    with contextlib.suppress(NotDone):
        acts.write(own.work, own.who, "practitioner", request.form.get("text", ""))
    return redirect(url_for("own.page", token=token, thanks=1))


@room.get("/me/<token>/until")
@limiter.limit("120 per minute")
def until(token: str) -> str | tuple[str, int]:
    """What was agreed, what to practise on which days, and when to come again: to print or send."""
    own = own_of(token)
    if own is None:
        return closed()
    practising = Practising(own.work, own.who)
    week = None
    with contextlib.suppress(NoPlan):
        week = weeks.week_of(practising)
    return render_template(
        "until.html",
        token=token,
        who=own.who,
        week=week,
        weekdays=weeks.WEEKDAYS,
        drills=drill_by_id(),
        dose=lambda d: weeks.say_dose(d, practising.known.styles["counting"], own.who.breath_s),
        agreed=records.agreed_last(own.work, own.who.id),
        advice=conclusions.advise(own.work, own.who, practising),
        visit=own.who.next_visit_at,
    )


def _set_up(tile: Tile) -> bool:
    """Whether a measure is how the pose was set up: a coach's matter."""
    return tile.pose.likeness is not None and tile.pose.likeness.measure == tile.family


@room.get("/me/<token>/method")
@limiter.limit("120 per minute")
def method(token: str) -> str | tuple[str, int]:
    """How angles are found and when a change counts, in plain words."""
    return render_template("own_method.html", token=token) if own_of(token) else closed()


def _next(week: PlannedWeek | None, today: datetime) -> tuple[PlannedSession | None, str]:
    """The session of today, else the next one, and when that is."""
    if week is None or not week.sessions:
        return None, ""

    def away(s: PlannedSession) -> int:
        return (s.weekday - today.weekday()) % 7

    first = min(week.sessions, key=away)
    names = {0: "today", 1: "tomorrow"}
    return first, names.get(away(first), f"on {weeks.WEEKDAYS[first.weekday]}")


def _photos(own: Own) -> list[dict[str, Any]]:
    """The newest valid photographs of the person, where they agreed to be shown them."""
    found = []
    for visit in records.visits_of(own.work, own.who.id)[:3]:
        for t in records.trials(own.work, visit.id):
            if (
                t.valid
                and not t.read_from
                and t.number == 1
                and t.mode == "passive"
                and t.pose in catalogue()
            ):
                words = catalogue().pose(t.pose).named(t.side)
                found.append({"id": t.photo_id, "words": words, "on": say_day(visit.taken_at)})
    return found[:12]


@room.get("/me/<token>/photo/<int:photo_id>.jpg")
@limiter.limit("240 per minute")
def photo(token: str, photo_id: int) -> Response:
    """One of the person's own photographs, as their consent says."""
    own = own_of(token) or abort(404)
    # Only what is there: not what was deleted.
    if own.who.id not in records.people_on(own.work, photo_id):
        abort(404)
    if not picture_privacy.to_themselves(own.work, own.who.id):
        abort(404)
    found = records.photo(own.work, photo_id) or abort(404)
    return shared(own.work, found, "preview")


@room.post("/me/<token>/soreness")
@csrf.exempt
@limiter.limit("60 per minute")
def soreness(token: str) -> Response | tuple[str, int]:
    """How sore the day after was."""
    own = own_of(token)
    if own is None:
        return closed()
    level, log_id = whole(request.form.get("soreness", "")), whole(request.form.get("log", ""))
    if level is not None and level <= 10 and log_id is not None:
        acts.say_soreness(own.work, own.who, log_id, level)
    return redirect(url_for("own.page", token=token, thanks=1))


@room.post("/me/<token>/quiet")
@csrf.exempt
@limiter.limit("60 per minute")
def quiet(token: str) -> Response | tuple[str, int]:
    """Whether a place is quiet."""
    own = own_of(token)
    if own is None:
        return closed()
    if (said := request.form.get("answer", "")) in ("quiet", "not_yet"):
        with contextlib.suppress(NotDone):
            minding.answer(own.work, own.who, request.form.get("key", ""), said)
    return redirect(url_for("own.page", token=token, thanks=1))


@room.post("/me/<token>/pain")
@csrf.exempt
@limiter.limit("60 per minute")
def pain(token: str) -> Response | tuple[str, int]:
    """More of a pain that was tapped: how strong, whether it spreads, what it did since."""
    own = own_of(token)
    if own is None:
        return closed()
    log_id = whole(request.form.get("log", ""))
    if log_id is not None:
        with contextlib.suppress(NotDone):
            minding.tell_more(own.work, own.who, log_id, request.form)
    return redirect(url_for("own.page", token=token, thanks=1))


# ---------------------------------------------------------------- calendar and data


@room.get("/me/<token>/calendar.ics")
@limiter.limit("60 per minute")
def feed(token: str) -> Response:
    """The calendar as a feed and as a file."""
    own = own_of(token) or abort(404)
    answer = Response(calendar_of(own.work, own.who), mimetype="text/calendar")
    answer.headers["Content-Disposition"] = 'inline; filename="practice.ics"'
    answer.headers["Cache-Control"] = "private, max-age=900"
    return answer


@room.get("/me/<token>/data.zip")
@limiter.limit("10 per minute")
def download(token: str) -> Response:
    """Their data as plain files."""
    own = own_of(token) or abort(404)
    answer = send_file(
        export.bundle(own.work, own.who), mimetype="application/zip", as_attachment=True,
        download_name="my-practice.zip",
    )  # fmt: skip
    answer.headers["Cache-Control"] = "no-store"
    noted(own, Happened.OWN_DATA)
    return answer
