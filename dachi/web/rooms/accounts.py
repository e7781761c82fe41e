"""Signing in and out, the first account, the theme."""

from __future__ import annotations

from flask import Blueprint, flash, make_response, redirect, render_template, request, url_for
from flask_login import login_required, login_user, logout_user
from werkzeug.wrappers import Response

from dachi.store import accounts
from dachi.store.database import Conflict
from dachi.web.security import limiter, safe_path
from dachi.web.session import SignedIn, db

room = Blueprint("accounts", __name__)


@room.route("/sign-in", methods=["GET", "POST"])
@limiter.limit("10/minute", methods=["POST"])
@limiter.limit("60/hour", methods=["POST"])
def sign_in() -> str | Response | tuple[str, int]:
    """Ask for address and password; with no account yet, make the first."""
    if not accounts.any_coach(db()):
        return redirect(url_for("accounts.first"))
    back = safe_path(request.args.get("next"))
    if request.method == "GET":
        return render_template("sign_in.html", email="", problem=None)
    email = request.form.get("email", "")
    coach = accounts.check_password(db(), email, request.form.get("password", ""))
    if coach is None:
        problem = "Address and password do not fit together."
        return render_template("sign_in.html", email=email, problem=problem), 422
    login_user(SignedIn(coach), remember=False)
    return redirect(back)


@room.post("/sign-out")
@login_required
def sign_out() -> Response:
    """End the session."""
    logout_user()
    return redirect(url_for("accounts.sign_in"))


@room.route("/welcome", methods=["GET", "POST"])
@limiter.limit("20/hour", methods=["POST"])
def first() -> str | Response | tuple[str, int]:
    """Create the first coach account of an empty data folder."""
    if accounts.any_coach(db()):
        return redirect(url_for("accounts.sign_in"))
    if request.method == "GET":
        return render_template("first.html", values={}, problem=None)
    values = {k: request.form.get(k, "").strip() for k in ("name", "email")}
    password = request.form.get("password", "")
    problem = None
    if not values["name"]:
        problem = "Say what practitioners call you."
    elif "@" not in values["email"]:
        problem = "The address needs an @: it is only used to sign in."
    elif len(password) < accounts.MIN_PASSWORD:
        problem = f"Use at least {accounts.MIN_PASSWORD} characters; a few words in a row are good."
    if problem:
        return render_template("first.html", values=values, problem=problem), 422
    try:
        coach = accounts.add(db(), values["email"], values["name"], password)
    except Conflict as error:
        return render_template("first.html", values=values, problem=str(error)), 409
    login_user(SignedIn(coach))
    flash(f"Welcome, {coach.name}. Add the first person you work with.")
    return redirect(url_for("practitioners.new"))


@room.post("/theme")
def theme() -> Response:
    """Keep the chosen theme in a cookie and go back."""
    chosen = "dark" if request.form.get("theme") == "dark" else "light"
    answer = make_response(redirect(safe_path(request.referrer)))
    answer.set_cookie("theme", chosen, max_age=31_536_000, httponly=True, samesite="Lax")
    return answer
