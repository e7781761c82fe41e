"""What is said of a photograph beside its marks: camera, mat, how it was done, where it belongs."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from flask import Blueprint, flash, redirect, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.drawing.overlay import degrees
from dachi.errors import NotDone
from dachi.studio.bench import acts
from dachi.studio.bench.around import Surroundings
from dachi.studio.record import wrong_person
from dachi.web.bench_guard import at_bench, keep_closed
from dachi.web.fields import whole
from dachi.web.jobs import finish_erasing
from dachi.web.session import work

room = Blueprint("shots", __name__)
room.before_request(keep_closed)

T = TypeVar("T")


def _done(tid: int, act: Callable[[Surroundings], T], say: Callable[[T], str | None]) -> Response:
    """Do something to a photograph, say what came of it, and go back to the bench."""
    at = at_bench(tid)
    try:
        told = say(act(at))
    except NotDone as error:
        flash(error.sentence, "retake")
    else:
        if told:
            flash(told)
    return redirect(url_for("bench.page", tid=tid))


def _silent(_: object) -> None:
    """What changed is seen on the bench itself."""


@room.post("/t/<int:tid>/camera-moved")
@login_required
def camera_moved(tid: int) -> Response:
    """From this photograph on the camera stands elsewhere: its corners start afresh."""
    return _done(
        tid,
        lambda at: acts.camera_moved(work(), at, request.form.to_dict()),
        lambda own: (
            "The camera was moved: from here on this photograph's own corners count."
            if own
            else "The camera was moved: mark the mat's corners again on this photograph."
        ),
    )


@room.post("/t/<int:tid>/camera-same")
@login_required
def camera_same(tid: int) -> Response:
    """The camera had not moved since the photograph before: share its corners."""
    return _done(
        tid,
        lambda at: acts.camera_same(work(), at),
        lambda _: "This photograph now shares the mat corners of the one before.",
    )


@room.post("/t/<int:tid>/held-with")
@login_required
def held_with(tid: int) -> Response:
    """Read the photograph together with another one of the same hold, or by itself again."""
    wanted = request.form.get("held-with", "")
    what = "Read together" if wanted else "Read by itself"
    return _done(
        tid,
        lambda at: acts.read_together(work(), at.trial, wanted),
        lambda r: f"{what}: {degrees(r[1])}, before {degrees(r[0])}." if r[0] and r[1] else None,
    )


@room.post("/t/<int:tid>/details")
@login_required
def details(tid: int) -> Response:
    """Say how the pose was done; only trials done alike are compared."""
    return _done(tid, lambda at: acts.say_how(work(), at, request.form), _silent)


@room.post("/t/<int:tid>/mat")
@login_required
def mat_size(tid: int) -> Response:
    """Say how large the mat is at this camera position."""
    length, width = (request.form.get(k, "") for k in ("length_cm", "width_cm"))
    return _done(tid, lambda at: acts.mat_size(work(), at, length, width), _silent)


@room.post("/t/<int:tid>/second")
@login_required
def second(tid: int) -> Response:
    """Keep another instrument's angle; the simulated one reads the figure's true angle."""
    text, simulated = request.form.get("second", ""), bool(request.form.get("simulate"))
    return _done(
        tid,
        lambda at: acts.second_instrument(work(), at, text, simulated=simulated),
        _silent,
    )


@room.post("/t/<int:tid>/head")
@login_required
def hide_head(tid: int) -> Response:
    """Say where the head is: a spot, and the rim a tenth of the picture around it."""
    x, y = (request.form.get(f"pick-{axis}", "") for axis in "xy")
    return _done(
        tid,
        lambda at: acts.hide_head(work(), at, x, y),
        lambda _: "The head is hidden there in everything that leaves the bench.",
    )


@room.post("/t/<int:tid>/person")
@login_required
def other_person(tid: int) -> Response:
    """The photograph shows somebody else: it goes into their tray, and nothing of it stays."""
    at = at_bench(tid)
    try:
        visit = wrong_person.move_shot(work(), tid, whole(request.form.get("whose", "")) or 0)
    except NotDone as error:
        flash(error.sentence, "retake")
        return redirect(url_for("bench.page", tid=tid))
    finish_erasing()
    flash(f"It is no longer {at.who.call_name}’s. Give it its place here.")
    return redirect(url_for("unsorted.page", aid=visit.id))


@room.post("/t/<int:tid>/move")
@login_required
def move(tid: int) -> Response:
    """The photograph shows another shot: put it there; marks of the same joints go along."""
    wanted = request.form.get("move-to", "").split("|")
    parts = dict(zip(("pose", "side", "mode", "number"), wanted, strict=False))
    return _done(tid, lambda at: acts.move(work(), at, parts, request.form), lambda said: said)
