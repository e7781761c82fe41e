"""A phone as the camera: the code to scan, the page it opens, and what the phone sends."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for
from flask_login import login_required
from itsdangerous import BadSignature, URLSafeSerializer
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.lists import catalogue, cues_under
from dachi.studio.phrases import shot_name
from dachi.studio.records import Assessment, DiskFull, Practitioner, Slot, Trial
from dachi.studio.visits import acts, intake
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.intake import AlreadyThere, Incoming, Refused
from dachi.studio.work import Work
from dachi.web import keys
from dachi.web.jobs import see_waiting
from dachi.web.private_links import only_here, outside_address, qr, trusted_address
from dachi.web.security import csrf, limiter
from dachi.web.session import clock, db, own_assessment, own_practitioner, work, work_for

room = Blueprint("phone", __name__)


@dataclass(frozen=True)
class PhoneDoor:
    """What a working link opens."""

    work: Work
    visit: Assessment
    who: Practitioner
    expires_at: str


def _signer() -> URLSafeSerializer:
    return URLSafeSerializer(keys.signing(), salt="phone capture")


@room.get("/a/<int:aid>/phone")
@login_required
def offer(aid: int) -> str:
    """Show the code that opens this assessment on a phone."""
    visit = own_assessment(aid)
    nonce = records.phone_link(work(), aid, _now())
    link = None
    if nonce:
        row = records.behind_phone_link(db(), nonce)
        link = f"{outside_address()}{url_for('phone.capture', token=_signer().dumps(nonce))}"
    return render_template(
        "phone_offer.html",
        visit=visit,
        who=own_practitioner(visit.practitioner_id),
        link=link,
        code=qr(link) if link else "",
        trusted=trusted_address(link) if link else None,
        until=row.expires_at if nonce and row else None,
        only_here=link is not None and only_here(link),
        closed=intake.closed(visit),
    )


@room.post("/a/<int:aid>/phone")
@login_required
def let_in(aid: int) -> Response:
    """Make a link for a phone, or take every link back."""
    visit = own_assessment(aid)
    acts.let_phone_in(work(), visit, close=request.form.get("act") == "close")
    return redirect(url_for("phone.offer", aid=aid))


def _now() -> str:
    return clock().local().isoformat(timespec="seconds")


# ---------------------------------------------------------------- on the phone


def _door(token: str) -> PhoneDoor | tuple[str, int]:
    """What a link opens, or the sentence and status why it opens nothing."""
    try:
        nonce = _signer().loads(token)
    except BadSignature:
        return "This link is not right: it may have been cut short. Scan the code again.", 404
    row = records.behind_phone_link(db(), nonce) if isinstance(nonce, str) else None
    if row is None:
        return "This link is not known here. Scan the code again.", 404
    if row.revoked_at is not None or row.expires_at <= _now():
        return (
            "This link has ended. Ask for a new code on the assessment's page; photographs still "
            "waiting on this phone are sent once it is open.",
            410,
        )
    theirs = work_for(row.coach_id)
    visit = records.visit(theirs, row.assessment_id)
    who = records.person(theirs, visit.practitioner_id) if visit else None
    if visit is None or who is None:
        return "This assessment is gone.", 404
    return PhoneDoor(theirs, visit, who, row.expires_at)


@room.get("/c/<token>")
@limiter.limit("60 per minute")
def capture(token: str) -> str | tuple[str, int]:
    """The capture page: which shot is next, how to set it up, one large button."""
    door = _door(token)
    if isinstance(door, tuple):
        return render_template("phone_end.html", sentence=door[0]), door[1]
    if problem := intake.refusal(door.work, door.visit, door.who, "active"):
        return render_template("phone_end.html", sentence=problem), 410
    state = _state(door)
    poses = [catalogue().pose(p) for p in dict.fromkeys(s["pose"] for s in state["order"])]
    return render_template(
        "phone.html", who=door.who, visit=door.visit, poses=poses, token=token,
        data=json.dumps(state),
    )  # fmt: skip


@room.get("/c/<token>/state")
@limiter.limit("120 per minute")
def state(token: str) -> tuple[Response, int] | Response:
    """What is still to photograph and what should be taken again, as data."""
    door = _door(token)
    if isinstance(door, tuple):
        return _json({"problem": door[0]}, door[1])
    return _json(_state(door))


def _state(door: PhoneDoor) -> dict[str, Any]:
    own = records.trials(door.work, door.visit.id)
    stations = visits.stations(door.work, door.visit, own)
    order, again = [], []
    for s in stations:
        for r in s.rows:
            for n in r.numbers:
                slot = _slot(Slot(s.pose.id, r.line.side, r.line.mode, n), door.who)
                trial = r.cells.get(n)
                order.append(slot | {"taken": trial is not None})
                if trial is not None and trial.asks_again:
                    again.append(slot["words"])
    return {
        "order": order, "again": again, "until": door.expires_at, "aid": door.visit.id,
        "last": _last(door, own),
    }  # fmt: skip


def _last(door: PhoneDoor, own: list[Trial]) -> dict[str, Any] | None:
    """The newest photograph of the sheet and whether it can be used, once that was looked at."""
    newest = max((t for t in own if t.read_from is None), key=lambda t: t.photo_id, default=None)
    photo = records.photo(door.work, newest.photo_id) if newest else None
    if newest is None or photo is None or newest.marked:
        return None
    slot = _slot(newest.slot, door.who)
    return {
        "trial": newest.id,
        "words": slot["words"],
        "looked": photo.said is not None,
        "said": [list(x) for x in photo.said or ()],
    }


@room.post("/c/<token>/replace")
@csrf.exempt
@limiter.limit("60 per minute")
def replace(token: str) -> tuple[Response, int] | Response:
    """Put the newest photograph away while it is unmarked: its place is free again.

    On the laptop it can be brought back.
    """
    door = _door(token)
    if isinstance(door, tuple):
        return _json({"problem": door[0]}, door[1])
    last = _last(door, records.trials(door.work, door.visit.id))
    wanted = request.form.get("trial", "")
    if last is None or str(last["trial"]) != wanted:
        return _json({"problem": "That photograph is not the newest any more."} | _state(door), 409)
    newest = records.trial(door.work, last["trial"])
    try:
        if newest is not None:
            acts.delete_shot(door.work, newest)
    except NotDone as error:
        return _json({"problem": error.sentence, "code": error.code}, 409)
    return _json(_state(door))


def _slot(slot: Slot, who: Practitioner) -> dict[str, Any]:
    pose = catalogue().pose(slot.pose)
    return {
        "pose": slot.pose,
        "name": pose.name,
        "side": slot.side,
        "leg": pose.said_side(slot.side),
        "mode": slot.mode,
        "number": slot.number,
        "words": shot_name(slot),
        "say": " ".join([pose.say, *cues_under(pose.id, who.schools)]),
        "how": pose.modes[slot.mode],
        "camera": f"{pose.camera.height_cm:g} cm up, {pose.camera.distance_cm:g} cm away, "
        f"{pose.camera.stand}",
        "hold": pose.hold_s,
    }


@room.post("/c/<token>/photo")
@csrf.exempt
@limiter.limit("240 per minute")
def receive(token: str) -> tuple[Response, int] | Response:
    """Take one photograph from the phone. The signed link is what allows it."""
    door = _door(token)
    if isinstance(door, tuple):
        return _json({"problem": door[0]}, door[1])
    sent = request.files.get("photo")
    once = request.form.get("once_key", "")[:64]
    try:
        if sent is None or not once:
            raise Refused("No photograph arrived: take it again.")
        place = intake.place_of(request.form, door.who)
        with intake.turn(door.work):
            trial_id = intake.send(
                door.work, door.visit, door.who, place, Incoming(sent.read()), f"ph-{once}"
            )
        see_waiting(door.work.coach)
    except DiskFull as error:
        return _json({"problem": str(error), "code": error.code}, 507)
    except intake.TooMany as error:
        # The phone keeps it and sends it again.
        return _json({"problem": error.sentence, "code": error.code}, 503)
    except AlreadyThere as error:
        return _json({"problem": error.discreet, "code": error.code}, 422)
    except NotDone as error:
        return _json({"problem": str(error), "code": error.code}, 422)
    except OSError as error:
        return _json({"problem": intake.unwritten(error)}, 507)
    return _json({"trial": trial_id} | _state(door))


def _json(body: dict[str, object], code: int = 200) -> tuple[Response, int]:
    answer = Response(json.dumps(body), mimetype="application/json")
    answer.headers["Cache-Control"] = "no-store"
    return answer, code
