"""The practice player on a private link, and the sessions it sends."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dachi.drawing.body import pointing
from dachi.studio.practice import acts, player, practice_log
from dachi.studio.practice.person import Practising
from dachi.studio.records import FELT_KINDS, NoPlan
from dachi.web.own_page import closed, own_of
from dachi.web.security import csrf, limiter

room = Blueprint("play", __name__)

MOST_LOG_BYTES = 200_000


@room.get("/me/<token>/play/<int:weekday>")
@limiter.limit("60 per minute")
def play(token: str, weekday: int) -> str | Response | tuple[str, int]:
    """The player, with everything it needs: once loaded it asks for nothing more."""
    own = own_of(token)
    if own is None:
        return closed()
    practising = Practising(own.work, own.who)
    try:
        session = player.session_on(practising, weekday, request.args.get("minutes", ""))
    except NoPlan:
        session = None
    if session is None:
        return redirect(url_for("own.page", token=token))
    short = request.args.get("short") == "1"
    data, names = player.player(practising, session, short=short)
    return render_template(
        "play.html",
        token=token,
        whose=own.mark,
        who=own.who,
        data=json.dumps(data),
        figures=player.figures(names),
        body=pointing(),
        felt_kinds=FELT_KINDS,
    )


@room.post("/me/<token>/log")
@csrf.exempt
@limiter.limit("60 per minute")
def log(token: str) -> tuple[Response, int]:
    """Take a session from the player. Sent again it is there once, with what was added."""
    own = own_of(token)
    if own is None:
        return _json({"problem": "This link was taken back. Ask your coach for a new one."}, 404)
    if (request.content_length or 0) > MOST_LOG_BYTES:
        return _json({"problem": "The log is too long."}, 413)
    try:
        found = practice_log.read_played(request.get_data(), own.work.now())
    except practice_log.LogProblem as error:
        return _json({"problem": f"The log could not be read ({error})."}, 422)
    if not practice_log.worth_keeping(found):
        return _json({"kept": found.once_key, "nothing": True}, 200)
    acts.log_session(own.work, own.who, found, adding=True)
    return _json({"kept": found.once_key}, 200)


def _json(body: Mapping[str, Any], code: int) -> tuple[Response, int]:
    answer = Response(json.dumps(dict(body)), mimetype="application/json")
    answer.headers["Cache-Control"] = "no-store"
    return answer, code
