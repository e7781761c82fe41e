"""Before the first photograph: consent, screening questions, clearance."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.phrases import day_of
from dachi.studio.practice import minding
from dachi.studio.record import acts, asking
from dachi.studio.record.acts import LASTS
from dachi.studio.record.prepared import prepared
from dachi.studio.verdicts.handover import handover as written
from dachi.web.session import clock, own_practitioner, work

room = Blueprint("prepare", __name__)


@room.get("/p/<int:pid>/prepare")
@login_required
def page(pid: int) -> str:
    """Consent and screening, with what they stop."""
    return _page(pid)


def _page(
    pid: int,
    typed: Mapping[str, str] | None = None,
    problem: str | None = None,
    told: Any = None,
    problem_asked: str | None = None,
) -> str:
    """The page; a consent as it was ``typed``, answers as they were ``told``, where they could not
    be recorded.
    """
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
        told=told,
        problem_asked=problem_asked,
        sides=asking.SIDE_WORDS,
        stages=asking.STAGE_WORDS,
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
def screening(pid: int) -> Response | tuple[str, int]:
    """Record the answers to the screening questions."""
    own_practitioner(pid)
    try:
        told = asking.read(request.form.to_dict(), request.form.getlist)
    except NotDone as error:
        return _page(pid, told=request.form, problem_asked=error.sentence), 422
    acts.answer_screening(work(), pid, told)
    return _back(pid)


@room.get("/p/<int:pid>/handover")
@login_required
def handover(pid: int) -> str:
    """One page for a doctor or physiotherapist, to print."""
    who = own_practitioner(pid)
    return render_template(
        "handover.html",
        who=who,
        visits=records.visits_of(work(), pid),
        today=clock().today().isoformat(),
        found=written(work(), who),
    )


@room.post("/p/<int:pid>/seen")
@login_required
def seen(pid: int) -> Response:
    """A clinician has seen them: the signs that stop every plan are lowered."""
    try:
        minding.seen(work(), own_practitioner(pid), request.form.get("by", ""))
    except NotDone as error:
        return _back(pid, error.sentence)
    return _back(pid)


@room.post("/p/<int:pid>/clearance")
@login_required
def clearance(pid: int) -> Response:
    """Record that a doctor or physiotherapist gave clearance."""
    own_practitioner(pid)
    by, on = request.form.get("cleared_by", "").strip()[:120], _day("cleared_on")
    if on is None:
        return _back(pid, "Give the day of the clearance; it cannot lie ahead.")
    until, asked = request.form.get("until", "").strip(), request.form.get("question", "")
    try:
        acts.clear(
            work(), pid, by, on, request.form.getlist("allowed"), [asked] if asked else None,
            day_of(until) if until else None,
        )  # fmt: skip
    except ValueError:
        return _back(pid, "Give the last day of the clearance, or leave it empty.")
    except NotDone as error:
        return _back(pid, error.sentence)
    return _back(pid)
