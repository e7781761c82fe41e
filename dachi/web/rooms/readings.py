"""Readings from a table: chosen, mapped, looked over, taken in."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.record import readings_in
from dachi.studio.record.readings_in import NEEDED, TAKEN_IN
from dachi.web.fields import whole
from dachi.web.session import own_practitioner, work

room = Blueprint("readings", __name__)

#: Rows and faults that are shown before anything is taken in.
SHOWN, MOST_FAULTS = 8, 40


def _page(pid: int, problem: str | None = None, **more: object) -> str:
    return render_template(
        "readings_in.html",
        who=own_practitioner(pid),
        visits=records.visits_of(work(), pid),
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
        sheet = sent.stream if new and sent is not None else request.form.get("text", "")
        text, table = readings_in.table_of(sheet)
        mapping = table.guess() if new else _mapping(len(table.columns))
        checked = readings_in.check(table, mapping, work().now())
        if request.form.get("act") == "take" and checked.good:
            done = readings_in.take_in(work(), who, checked)
            flash(_said(done))
            return redirect(url_for("progress.page", pid=pid))
    except NotDone as error:
        return _page(pid, f"{str(error).rstrip('.')}."), 422
    return _page(pid, table=table, mapping=mapping, checked=checked, text=text)


def _mapping(columns: int) -> dict[str, int]:
    found = {}
    for name in TAKEN_IN:
        at = whole(request.form.get(f"column-{name}", ""))
        if at is not None and at < columns:
            found[name] = at
    return found


def _said(done: readings_in.Done) -> str:
    words = [f"{done.taken} reading{'s were' if done.taken != 1 else ' was'} taken in"]
    if done.there:
        words.append(f"{done.there} were here already")
    if done.wrong:
        lines = ", ".join(str(n) for n, _ in done.wrong[:10])
        words.append(f"{len(done.wrong)} were left out (lines {lines})")
    return "; ".join(words) + "."
