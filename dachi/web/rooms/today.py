"""The first page: who is there, and one thing to do for each."""

from __future__ import annotations

from flask import Blueprint, jsonify, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.store import practitioners
from dachi.web.session import coach_id, db

room = Blueprint("today", __name__)


@room.get("/")
@login_required
def page() -> str:
    """List practitioners, those with unfinished photographs first."""
    people = practitioners.listing(db(), coach_id())
    people.sort(key=lambda p: p.unmarked == 0)
    return render_template("today.html", people=people)


@room.get("/jump")
@login_required
def jump() -> str | Response:
    """Answer the jump field: practitioners whose name holds what was typed."""
    wanted = request.args.get("q", "").strip().casefold()
    found = [
        {"name": p.practitioner.call_name, "at": url_for("progress.page", pid=p.practitioner.id)}
        for p in practitioners.listing(db(), coach_id())
        if wanted and wanted in p.practitioner.call_name.casefold()
    ]
    if request.headers.get("HX-Request"):
        return render_template("parts/jump.html", found=found[:8], wanted=wanted)
    return jsonify(found)
