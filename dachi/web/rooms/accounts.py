"""Signing in and out, the account and its record, the first account, the theme."""

from __future__ import annotations

import math

from flask import (
    Blueprint,
    abort,
    current_app,
    flash,
    make_response,
    redirect,
    render_template,
    request,
    url_for,
)
from flask_login import current_user, login_required, logout_user
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.record import health, letting_in
from dachi.studio.record.erasing import PUT_AWAY_DAYS
from dachi.studio.records import MIN_PASSWORD, Conflict
from dachi.web.fields import whole
from dachi.web.patience import Patience
from dachi.web.security import limiter, safe_path
from dachi.web.session import clock, current_coach, db, let_in, work

room = Blueprint("accounts", __name__)


@room.route("/sign-in", methods=["GET", "POST"])
def sign_in() -> str | Response | tuple[str, int]:
    """Ask for address and password; with no account yet, make the first."""
    if not records.any_coach(db()):
        return redirect(url_for("accounts.first"))
    back = safe_path(request.args.get("next"))
    if request.method == "GET":
        return _sign_in("", None)
    email, source = request.form.get("email", ""), request.remote_addr or ""
    patience: Patience = current_app.extensions["patience"]
    now = clock().ticks()
    if wait := patience.wait(email, source, now):
        problem = f"Too many wrong guesses: wait {math.ceil(wait)} s, then try again."
        return _sign_in(email, problem), 429
    coach = letting_in.check_password(db(), email, request.form.get("password", ""))
    patience.guessed(email, source, now, right=coach is not None)
    if coach is None:
        problem = "Address and password do not fit together."
        return _sign_in(email, problem), 422
    let_in(coach, request.user_agent.string)
    return redirect(back)


def _sign_in(email: str, problem: str | None) -> str:
    plain = not request.is_secure and not _from_here()
    studio = current_app.config.get("STUDIO")
    return render_template("sign_in.html", email=email, problem=problem, plain=plain, studio=studio)


def _from_here() -> bool:
    """Whether a request comes from the machine itself."""
    return request.remote_addr in ("127.0.0.1", "::1", None)


@room.post("/sign-out")
@login_required
def sign_out() -> Response:
    """End the session, also for whoever copied its cookie."""
    letting_in.end_session(work(), current_user.number)
    logout_user()
    return redirect(url_for("accounts.sign_in"))


@room.get("/account")
@login_required
def account() -> str:
    """Password, sessions, what happened, and how the record is doing."""
    return _account(None)


def _account(problem: str | None) -> str:
    return render_template(
        "account.html",
        problem=problem,
        sessions=records.signed_in(work()),
        own=current_user.number,
        happened=records.happened(work()),
        health=health.lines(work()),
        versions=health.versions(work()),
        least=MIN_PASSWORD,
        kept_days=current_coach().put_away_days,
        me=current_coach(),
        day_choices=PUT_AWAY_DAYS,
    )


@room.post("/account/password")
@login_required
def password() -> Response | tuple[str, int]:
    """Change the password; every other session ends."""
    old, new = request.form.get("old", ""), request.form.get("new", "")
    patience: Patience = current_app.extensions["patience"]
    source, now = request.remote_addr or "", clock().ticks()
    coach = current_coach()
    if wait := patience.wait(coach.email, source, now):
        return _account(f"Too many wrong guesses: wait {math.ceil(wait)} s, then try again."), 429
    right = letting_in.check_password(db(), coach.email, old) is not None
    patience.guessed(coach.email, source, now, right=right)
    if not right:
        return _account("The present password is another one. Nothing was changed."), 422
    if len(new) < MIN_PASSWORD:
        return _account(f"Use at least {MIN_PASSWORD} characters. Nothing was changed."), 422
    ended = letting_in.change_password(work(), new, current_user.number)
    others = f", and {ended} other session{'s' if ended > 1 else ''} ended" if ended else ""
    flash(f"The password is changed{others}.")
    return redirect(url_for("accounts.account"))


@room.post("/account/deleted")
@login_required
def deleted() -> Response:
    """Choose for how long deleted photographs are kept."""
    days = request.form.get("days", "")
    try:
        letting_in.keep_deleted(work(), days)
        flash(f"Deleted photographs are kept for {days} days.")
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("accounts.account"))


@room.post("/account/mat")
@login_required
def mat() -> Response:
    """Say how large the studio's mat is."""
    try:
        letting_in.keep_mat(
            work(), request.form.get("length_cm", ""), request.form.get("width_cm", "")
        )
        flash("The mat's size is kept: new photographs are read by it.")
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(safe_path(request.referrer))


@room.post("/account/sessions")
@login_required
def end_sessions() -> Response:
    """End one session, or every other one."""
    one = whole(request.form.get("session", ""))
    if one is not None:
        letting_in.end_session(work(), one)
    else:
        letting_in.end_others(work(), current_user.number)
    flash("Ended.")
    return redirect(url_for("accounts.account"))


@room.route("/welcome", methods=["GET", "POST"])
@limiter.limit("20/hour", methods=["POST"])
def first() -> str | Response | tuple[str, int]:
    """Create the first coach account of an empty data folder."""
    if records.any_coach(db()):
        return redirect(url_for("accounts.sign_in"))
    if not _from_here():
        # Whoever is first owns the copy: not whoever on the Wi-Fi is quickest.
        abort(403, "Make the first account on the machine that Dachi runs on.")
    if request.method == "GET":
        return render_template("first.html", values={}, problem=None)
    values = {k: request.form.get(k, "").strip() for k in ("name", "email")}
    password = request.form.get("password", "")
    problem = None
    if not values["name"]:
        problem = "Say what practitioners call you."
    elif "@" not in values["email"]:
        problem = "The address needs an @: it is only used to sign in."
    elif len(password) < MIN_PASSWORD:
        problem = f"Use at least {MIN_PASSWORD} characters; a few words in a row are good."
    if problem:
        return render_template("first.html", values=values, problem=problem), 422
    try:
        coach = letting_in.first_coach(db(), values["email"], values["name"], password)
    except Conflict as error:
        return render_template("first.html", values=values, problem=str(error)), 409
    let_in(coach, request.user_agent.string)
    flash(f"Welcome, {coach.name}.")
    return redirect(url_for("today.page"))


@room.post("/theme")
def theme() -> Response:
    """Keep the chosen theme in a cookie and go back."""
    chosen = "dark" if request.form.get("theme") == "dark" else "light"
    answer = make_response(redirect(safe_path(request.referrer)))
    answer.set_cookie("theme", chosen, max_age=31_536_000, httponly=True, samesite="Lax")
    return answer
