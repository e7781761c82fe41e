"""Several coaches on one copy: the owner invites, resets, closes; people are handed over."""

from __future__ import annotations

from flask import Blueprint, abort, current_app, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.record import letting_in
from dachi.studio.record.hand_over import hand_over
from dachi.studio.records import INVITED_DAYS, MIN_PASSWORD, Coach, Conflict
from dachi.studio.work import Work
from dachi.web.fields import whole
from dachi.web.jobs import finish_erasing
from dachi.web.private_links import only_here
from dachi.web.security import limiter
from dachi.web.session import current_coach, data_folder, db, let_in, work

room = Blueprint("coaches", __name__)


@room.get("/account/coaches")
@login_required
def page() -> str:
    """Who works on this copy; what an owner may do about it."""
    return _page()


def _page(link: str | None = None, about: str = "") -> str:
    me = current_coach()
    coaches = records.coaches(db())
    people = {c.id: records.people(Work(db(), data_folder(), c.id)) for c in coaches}
    return render_template(
        "coaches.html",
        me=me,
        coaches=coaches,
        counts={c: len(own) for c, own in people.items()},
        own=people[me.id],
        left={c.id: people[c.id] for c in coaches if c.closed_at} if me.owner else {},
        waiting=records.invited(work()),
        link=link,
        only_here=link is not None and only_here(link),
        about=about,
        days=INVITED_DAYS,
    )


def _owner() -> Coach:
    me = current_coach()
    if not me.owner:
        abort(403, "Only the owner of this copy lets coaches in, resets and closes.")
    return me


def _number(name: str) -> int:
    """A posted id; 0, which is nobody's, where it is none."""
    return whole(request.form.get(name, "")) or 0


def _other() -> Coach:
    return records.coach(db(), _number("coach")) or abort(404)


@room.post("/account/coaches/invite")
@login_required
def invite() -> str | Response:
    """Make the link by which a coach joins; it is shown this once."""
    _owner()
    name = " ".join(request.form.get("name", "").split())[:60]
    try:
        token = letting_in.invite(work(), name)
    except NotDone as error:
        flash(error.sentence, "retake")
        return redirect(url_for("coaches.page"))
    return _page(_address(token), f"{name} joins by this link")


@room.post("/account/coaches/reset")
@login_required
def reset() -> str:
    """Make the link by which a coach who lost their password chooses another."""
    _owner()
    other = _other()
    token = letting_in.reset(work(), other)
    return _page(_address(token), f"{other.name} chooses a new password by this link")


def _address(token: str) -> str:
    # Where their own device reaches it, if anything does.
    base = current_app.config.get("STUDIO") or request.host_url.rstrip("/")
    return f"{base}{url_for('coaches.join', token=token)}"


@room.post("/account/coaches/take-back")
@login_required
def take_back() -> Response:
    """Take a link back that nobody has used."""
    _owner()
    if letting_in.take_back(work(), _number("invitation")):
        flash("The link is taken back.")
    return redirect(url_for("coaches.page"))


@room.post("/account/coaches/close")
@login_required
def close() -> Response:
    """Close a coach's account, or open it again; their people stay theirs until handed over."""
    _owner()
    other = _other()
    closed = request.form.get("act") != "open"
    if letting_in.close(work(), other, closed=closed):
        flash(f"{other.name}’s account is {'closed' if closed else 'open again'}.")
    return redirect(url_for("coaches.page"))


@room.post("/account/coaches/hand-over")
@login_required
def give() -> Response:
    """Hand a person over: one's own, or, for the owner, one of a coach whose account is closed."""
    me = current_coach()
    source = me.id
    if request.form.get("from", ""):
        left = records.coach(db(), _number("from"))
        if not me.owner or left is None or left.closed_at is None:
            abort(404)
        source = left.id
    person, to = _number("person"), _number("to")
    try:
        if not person or not to:
            raise Conflict("Choose a person, and the coach they go on with.")
        name, _ = hand_over(Work(db(), data_folder(), source), person, to, me.id)
    except NotDone as error:
        flash(f"{str(error).rstrip('.')}. Nothing was changed.", "retake")
        return redirect(url_for("coaches.page"))
    finish_erasing()
    other = records.coach(db(), to) or abort(404)
    flash(
        f"{name} goes on with {other.name}. Private links have ended: {other.name} makes new ones."
    )
    return redirect(url_for("coaches.page"))


@room.route("/join/<token>", methods=["GET", "POST"])
@limiter.limit("30 per hour", methods=["POST"])
def join(token: str) -> str | Response | tuple[str, int]:
    """The page behind an invitation: an own account, or a new password."""
    found = records.behind_invitation(db(), token)
    if found is None:
        sentence = "This link was used already, taken back, or is older than a week."
        return render_template("error.html", sentence=sentence, code=404), 404
    old = records.coach(db(), found.for_coach) if found.for_coach is not None else None
    values = {"name": found.name, "email": ""}
    if request.method == "GET":
        return render_template("join.html", values=values, old=old, problem=None)
    values = {k: request.form.get(k, "").strip() for k in values}
    password = request.form.get("password", "")
    problem = None
    if len(password) < MIN_PASSWORD:
        problem = f"Use at least {MIN_PASSWORD} characters; a few words in a row are good."
    elif old is None and not values["name"]:
        problem = "Say what practitioners call you."
    elif old is None and "@" not in values["email"]:
        problem = "The address needs an @: it is only used to sign in."
    if problem:
        return render_template("join.html", values=values, old=old, problem=problem), 422
    try:
        coach = letting_in.join(db(), token, values["email"], values["name"], password)
    except Conflict as error:
        return render_template("join.html", values=values, old=old, problem=str(error)), 409
    let_in(coach, request.user_agent.string)
    flash(f"Welcome, {coach.name}.")
    return redirect(url_for("today.page"))
