"""The studio's own error, and marking a photograph again without seeing the first marks."""

from __future__ import annotations

import secrets

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.drawing import figure as figures
from dachi.studio import records
from dachi.studio.bench import drafts
from dachi.studio.bench.opening import blank, level_guess
from dachi.studio.records import SceneError
from dachi.studio.verdicts import steadiness
from dachi.web.bench_guard import at_bench
from dachi.web.bench_marks import shown
from dachi.web.jobs import freshened
from dachi.web.session import own_assessment, work

room = Blueprint("steadiness", __name__)


@room.get("/steadiness")
@login_required
def page() -> str:
    """What the studio's error is made of, pose by pose, and what would shrink it."""
    return render_template(
        "steadiness.html",
        left=freshened(),
        rows=steadiness.steady(work()),
        marked=len(records.marked_again(work())),
        again=records.to_mark_again(work()),
        instruments=steadiness.against_instruments(work()),
    )


@room.get("/method")
@login_required
def method() -> str:
    """How angles are found and when a change counts, in words to read to a practitioner."""
    return render_template("method.html")


@room.get("/t/<int:tid>/again")
@login_required
def again(tid: int) -> str | Response:
    """The bench with the first marks and readings out of sight."""
    at = at_bench(tid)
    said = _away(at.who.id)
    if said is None and not records.markings_of(work(), tid):
        said = "This photograph was not marked yet: mark it first."
    if said is not None:
        flash(said, "retake")
        return redirect(url_for("bench.page", tid=tid))
    marking, states, corners = blank(at)
    return render_template(
        "bench.html",
        blind=True,
        at=at,
        visit=own_assessment(at.trial.assessment_id),
        marks=shown(at, marking, states),
        corners=corners,
        level=level_guess(at), level_on=False,
        facing=None, ways=drafts.WAYS, marked=at.usual,
        history=[], seen=0, newest=0, theirs=False,
        once_key=secrets.token_urlsafe(12),
        guide=figures.guide(at.pose, at.trial.side, tuple(sorted(at.trial.variant.items()))),
        closeups=figures.closeups(at.pose, at.trial.side, tuple(sorted(at.trial.variant.items()))),
        sticker_colour=None, order=[], previous=None, following=None, overrule_reason="",
        stopped=None, places=[], next_shot=None, next_key="",
        result=None, problem=None, camera_words=None, corners_said=None, fan="", truth=None,
        second=None,
        guesses=tuple(m.label for m in at.pose.marks if m.id in states),
    )  # fmt: skip


def _away(pid: int) -> str | None:
    """Why a person's pictures are not shown any more."""
    consent = records.consent(work(), pid)
    if consent is not None and consent.withdrawn_on is not None:
        return "Consent was withdrawn: the picture is not shown any more."
    return None


@room.post("/t/<int:tid>/again/read")
@login_required
def read(tid: int) -> str | tuple[str, int]:
    """How many marks are still guesses; what they read is told afterwards."""
    at = at_bench(tid)
    try:
        _, guesses = drafts.read_form(request.form, at.pose)
    except SceneError as error:
        return render_template("parts/notice.html", kind="retake", sentence=str(error)), 422
    return render_template(
        "parts/reading.html",
        at=at, blind=True, result=None, problem=None, camera_words=None, corners_said=None,
        fan="", truth=None, second=None,
        guesses=tuple(drafts.label_of(g, at.pose) for g in drafts.in_order(at.pose, guesses)),
    )  # fmt: skip


@room.post("/t/<int:tid>/again")
@login_required
def keep(tid: int) -> Response:
    """Keep the second marks beside the first and say how far apart they read."""
    at = at_bench(tid)
    try:
        found = steadiness.mark_again(work(), at, request.form.to_dict())
    except SceneError as error:
        flash(f"Not kept: {error}.".replace("..", "."), "retake")
        return redirect(url_for("steadiness.again", tid=tid))
    for m in found:
        flash(f"{at.pose.name}, {m.words}. The first marks stay the ones that count.")
    return redirect(url_for("steadiness.page"))
