"""Before the first photograph: consent, screening questions, clearance."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.phrases import day_of
from dachi.studio.record import acts
from dachi.studio.record.acts import LASTS
from dachi.studio.record.prepared import prepared
from dachi.web.session import clock, own_practitioner, work

room = Blueprint("prepare", __name__)


@room.get("/p/<int:pid>/prepare")
@login_required
def page(pid: int) -> str:
    """Consent and screening, with what they stop."""
    return _page(pid)


def _page(pid: int, typed: Mapping[str, str] | None = None, problem: str | None = None) -> str:
    """The page; a consent as it was ``typed`` where it could not be recorded."""
    who = own_practitioner(pid)
    return render_template(
        "prepare.html",
        who=who,
        found=prepared(work(), who),
        lasts=LASTS,
        visits=records.visits_of(work(), pid),
        today=clock().today().isoformat(),
        typed=typed,
        problem=problem,
    )


def _back(pid: int, problem: str | None = None) -> Response:
    if problem:
        flash(problem, "retake")
    return redirect(url_for("prepare.page", pid=pid))


def _day(name: str) -> date | None:
    """A posted date that is not in the future; None otherwise."""
    try:
        on = day_of(request.form.get(name, ""))
    except ValueError:
        return None
    return on if on <= clock().today() else None


@room.post("/p/<int:pid>/consent")
@login_required
def consent(pid: int) -> Response | tuple[str, int]:
    """Record a consent, or its withdrawal."""
    who, form = own_practitioner(pid), request.form.to_dict()
    on = _day("given_on")
    if on is None:
        return _page(pid, form, "Give the day of the consent; it cannot lie ahead."), 422
    try:
        if request.form.get("withdraw") == "1":
            acts.withdraw_consent(work(), pid, on)
        else:
            acts.give_consent(work(), who, on, form)
    except NotDone as error:
        return _page(pid, form, error.sentence), 422
    return _back(pid)


@room.post("/p/<int:pid>/screening")
@login_required
def screening(pid: int) -> Response:
    """Record the answers to the screening questions."""
    acts.answer_screening(work(), own_practitioner(pid).id, request.form.getlist("yes"))
    return _back(pid)


@room.post("/p/<int:pid>/clearance")
@login_required
def clearance(pid: int) -> Response:
    """Record that a doctor or physiotherapist gave clearance."""
    own_practitioner(pid)
    by, on = request.form.get("cleared_by", "").strip()[:120], _day("cleared_on")
    if on is None:
        return _back(pid, "Give the day of the clearance; it cannot lie ahead.")
    try:
        acts.clear(work(), pid, by, on, request.form.getlist("allowed"))
    except NotDone as error:
        return _back(pid, error.sentence)
    return _back(pid)
