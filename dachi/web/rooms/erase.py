"""Erasing for good: a person, their photographs, a visit, a shot."""

from __future__ import annotations

from flask import Blueprint, abort, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.studio import records
from dachi.studio.record import erasing
from dachi.web.jobs import finish_erasing
from dachi.web.session import (
    current_coach,
    own_assessment,
    own_practitioner,
    own_trial,
    work,
)

room = Blueprint("erase", __name__)


@room.get("/p/<int:pid>/erase")
@login_required
def page(pid: int) -> str:
    """What would go, and what backups still hold."""
    who = own_practitioner(pid)
    visits = records.visits_of(work(), pid)
    shots = {v.id: len(records.trials(work(), v.id)) for v in visits}
    return render_template(
        "erase.html",
        who=who,
        visits=visits,
        shots=shots,
        backups=erasing.backups_still_hold(work()),
        days=current_coach().put_away_days,
    )


def _gone(what: str, held: str, about: str = "") -> None:
    """Say what was erased, and whether all of it is gone from files and copies already."""
    later = " Files and copies are being cleared of it: Today says so until they are."
    rest = "" if finish_erasing(about) else later
    flash(f"{what}{rest} {held}")


def _typed(name: str) -> bool:
    return request.form.get("name", "").strip().casefold() == name.strip().casefold()


@room.post("/p/<int:pid>/erase")
@login_required
def person(pid: int) -> Response:
    """Erase the person; their name has to be typed."""
    who = own_practitioner(pid)
    if not _typed(who.call_name):
        flash(
            f"Nothing was erased: type “{who.call_name}” to erase everything of theirs.", "retake"
        )
        return redirect(url_for("erase.page", pid=pid))
    held = erasing.person(work(), pid) or abort(404)
    _gone("Everything of theirs is erased here.", held, who.uid)
    return redirect(url_for("today.page"))


@room.post("/p/<int:pid>/erase/photographs")
@login_required
def photographs(pid: int) -> Response:
    """Erase every photograph of the person; the name has to be typed."""
    who = own_practitioner(pid)
    if not _typed(who.call_name):
        flash(f"Nothing was erased: type “{who.call_name}” to erase the photographs.", "retake")
    else:
        held = erasing.photographs(work(), pid) or abort(404)
        said = f"Every photograph of {who.call_name} is erased here, with what was read."
        _gone(said, held, who.uid)
    return redirect(url_for("erase.page", pid=pid))


@room.post("/a/<int:aid>/erase")
@login_required
def visit(aid: int) -> Response:
    """Erase a visit with its photographs and readings."""
    found = own_assessment(aid)
    pid = found.practitioner_id
    held = erasing.visit(work(), aid) or abort(404)
    said = "The visit is erased here, with its photographs and readings."
    _gone(said, held, found.person_uid)
    return redirect(url_for("erase.page", pid=pid))


@room.post("/t/<int:tid>/erase")
@login_required
def shot(tid: int) -> Response:
    """Erase one photograph with what was read from it."""
    trial = own_trial(tid)
    held = erasing.shot(work(), tid) or abort(404)
    said = "The photograph is erased here, with what was read from it."
    _gone(said, held, trial.person_uid)
    return redirect(url_for("assessments.sheet", aid=trial.assessment_id, pose=trial.pose))
