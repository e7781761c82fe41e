"""Before the first photograph: consent, screening questions, clearance."""

from __future__ import annotations

from datetime import date, timedelta

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.assessing import permission
from dachi.core.catalogue.drills import DIRECTIONS
from dachi.data import screening_questions
from dachi.store import assessments, happenings, preparation
from dachi.studio.phrases import day_of
from dachi.web.session import clock, coach_id, db, own_practitioner

room = Blueprint("prepare", __name__)

#: How long a consent holds before it is asked for again: words and days (0: until withdrawn).
LASTS = {"": ("until it is withdrawn", 0), "1": ("one year", 365), "2": ("two years", 730)}


@room.get("/p/<int:pid>/prepare")
@login_required
def page(pid: int) -> str:
    """Consent and screening, with what they stop."""
    who = own_practitioner(pid)
    consent = preparation.consent(db(), coach_id(), pid)
    screening = preparation.screening(db(), coach_id(), pid)
    questions = screening_questions()
    today = clock().today().isoformat()
    return render_template(
        "prepare.html",
        who=who,
        consent=consent,
        scopes=permission.SCOPES,
        lasts=LASTS,
        ends_soon=_ends_soon(consent),
        no_photograph=permission.photograph_refused(
            consent, who.birth_year, clock().today().isoformat()
        ),
        minor=permission.may_be_minor(who.birth_year, clock().today().year),
        screening=screening,
        questions=questions,
        no_passive=permission.passive_refused(screening),
        cautions=permission.cautions(screening, questions),
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        directions={d: d.replace("_", " ") for d in DIRECTIONS},
        today=today,
    )


def _ends_soon(consent: permission.Consent | None) -> bool:
    """Whether a consent that still holds is over within a month."""
    if consent is None or consent.withdrawn_on is not None:
        return False
    today, soon = clock().today(), clock().today() + timedelta(days=31)
    return not consent.ended(today.isoformat()) and consent.ended(soon.isoformat())


def _back(pid: int, problem: str | None = None) -> Response:
    if problem:
        flash(problem, "retake")
    return redirect(url_for("prepare.page", pid=pid))


def _day(name: str) -> str | None:
    """A posted date that is not in the future, ISO; None otherwise."""
    try:
        on = day_of(request.form.get(name, ""))
    except ValueError:
        return None
    return on.isoformat() if on <= clock().today() else None


@room.post("/p/<int:pid>/consent")
@login_required
def consent(pid: int) -> Response:
    """Record a consent, or its withdrawal."""
    who = own_practitioner(pid)
    on = _day("given_on")
    if on is None:
        return _back(pid, "Give the day of the consent; it cannot lie ahead.")
    if request.form.get("withdraw") == "1":
        preparation.withdraw_consent(db(), coach_id(), pid, on)
        happenings.note(db(), coach_id(), "consent to photographs was withdrawn", pid)
        return _back(pid)
    scope = request.form.get("scope", "")
    guardian = request.form.get("guardian", "").strip()[:120]
    if scope not in permission.SCOPES:
        return _back(pid, "Say what the photographs may be used for.")
    if permission.may_be_minor(who.birth_year, clock().today().year) and not guardian:
        return _back(pid, "They may be under age: name the guardian who consents.")
    faces = request.form.get("faces") == "1"
    lasts = request.form.get("lasts", "")
    if lasts not in LASTS:
        return _back(pid, "Say how long the consent holds.")
    until = (date.fromisoformat(on) + timedelta(days=LASTS[lasts][1])) if LASTS[lasts][1] else None
    preparation.give_consent(
        db(),
        coach_id(),
        pid,
        given_on=on,
        scope=scope,
        guardian=guardian,
        faces=faces,
        until=until.isoformat() if until else None,
    )
    happenings.note(db(), coach_id(), f"consent was given: {permission.SCOPES[scope]}", pid)
    return _back(pid)


@room.post("/p/<int:pid>/screening")
@login_required
def screening(pid: int) -> Response:
    """Record the answers to the screening questions."""
    own_practitioner(pid)
    known = [q.id for q in screening_questions()]
    yes = [q for q in request.form.getlist("yes") if q in known]
    preparation.answer_screening(
        db(), coach_id(), pid, answered_on=clock().today().isoformat(), yes=yes
    )
    return _back(pid)


@room.post("/p/<int:pid>/clearance")
@login_required
def clearance(pid: int) -> Response:
    """Record that a doctor or physiotherapist gave clearance."""
    own_practitioner(pid)
    by, on = request.form.get("cleared_by", "").strip()[:120], _day("cleared_on")
    if not by:
        return _back(pid, "Say who gave clearance.")
    if on is None:
        return _back(pid, "Give the day of the clearance; it cannot lie ahead.")
    allowed = [d for d in request.form.getlist("allowed") if d in DIRECTIONS]
    if not preparation.clear(db(), coach_id(), pid, by=by, on=on, allowed=allowed):
        return _back(pid, "Ask the screening questions first.")
    return _back(pid)
