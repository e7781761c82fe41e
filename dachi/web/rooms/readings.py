"""Readings from a table: chosen, mapped, looked over, taken in."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import Told
from dachi.interchange import readings
from dachi.interchange.readings import NEEDED, TAKEN_IN, TableError
from dachi.store import assessments, happenings
from dachi.studio.record import readings_in
from dachi.web.session import coach_id, db, own_practitioner, work

room = Blueprint("readings", __name__)

#: Rows and faults that are shown before anything is taken in.
SHOWN, MOST_FAULTS = 8, 40


def _page(pid: int, problem: str | None = None, **more: object) -> str:
    return render_template(
        "readings_in.html",
        who=own_practitioner(pid),
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        problem=problem,
        needed=NEEDED,
        wanted=TAKEN_IN,
        shown=SHOWN,
        most=MOST_FAULTS,
        sds=readings_in.USUAL_SD,
        **more,
    )


@room.get("/p/<int:pid>/readings")
@login_required
def page(pid: int) -> str:
    """Choose a table."""
    return _page(pid)


@room.post("/p/<int:pid>/readings")
@login_required
def look(pid: int) -> str | Response | tuple[str, int]:
    """Show what a table holds, by a mapping that can be changed; take it in when that is said."""
    who = own_practitioner(pid)
    sent = request.files.get("table")
    new = sent is not None and bool(sent.filename)
    try:
        if new and sent is not None:
            text = readings.decoded(sent.stream.read(readings.MOST_BYTES + 1))
        else:
            text = request.form.get("text", "")
        if not text:
            raise TableError("Choose a file first")
        table = readings.read(text)
        mapping = table.guess() if new else _mapping(len(table.columns))
        checked = readings_in.check(table, mapping, work().now())
        if request.form.get("act") == "take" and checked.good:
            done = readings_in.take_in(work(), who, checked)
            happenings.note(db(), coach_id(), f"{done.taken} readings came from a table", pid)
            flash(_said(done))
            return redirect(url_for("progress.page", pid=pid))
    except Told as error:
        db().again(keep=False)
        return _page(pid, f"{str(error).rstrip('.')}."), 422
    return _page(pid, table=table, mapping=mapping, checked=checked, text=text)


def _mapping(columns: int) -> dict[str, int]:
    found = {}
    for name in TAKEN_IN:
        at = request.form.get(f"column-{name}", "")
        if at.isdecimal() and len(at) < 5 and int(at) < columns:
            found[name] = int(at)
    return found


def _said(done: readings_in.Done) -> str:
    words = [f"{done.taken} reading{'s were' if done.taken != 1 else ' was'} taken in"]
    if done.there:
        words.append(f"{done.there} were here already")
    if done.wrong:
        lines = ", ".join(str(n) for n, _ in done.wrong[:10])
        words.append(f"{len(done.wrong)} were left out (lines {lines})")
    return "; ".join(words) + "."
