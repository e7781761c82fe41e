"""One connection and one transaction a request; who is signed in."""

from __future__ import annotations

from pathlib import Path

from flask import Response, abort, current_app, g, request
from flask_login import UserMixin, current_user, login_user
from flask_wtf.csrf import generate_csrf
from markupsafe import Markup

from dachi.clock import Clock
from dachi.errors import Told
from dachi.store import database
from dachi.store.database import Database
from dachi.studio import records
from dachi.studio.record import letting_in
from dachi.studio.records import Assessment, Coach, Practitioner, Trial
from dachi.studio.work import Work


class SignedIn(UserMixin):  # type: ignore[misc]
    """A coach as Flask-Login wants one; the cookie names a session that can be ended."""

    def __init__(self, coach: Coach, token: str, number: int) -> None:
        self.coach, self.token, self.number = coach, token, number

    def get_id(self) -> str:
        """Return the text kept in the session."""
        return f"{self.coach.id}:{self.token}"


def load_user(text: str) -> SignedIn | None:
    """Return the coach a session belongs to, None once it was ended, wherever its cookie is."""
    number, _, token = text.partition(":")
    coach = records.coach(db(), int(number)) if number.isdecimal() else None
    if coach is None or coach.closed_at is not None:
        return None
    found = records.session_number(db(), coach.id, token)
    return SignedIn(coach, token, found) if found is not None else None


def let_in(coach: Coach, agent: str) -> None:
    """Begin a session of a coach who has shown who they are."""
    token, number = letting_in.begin_session(db(), coach, agent)
    login_user(SignedIn(coach, token, number), remember=False)


def data_folder() -> Path:
    """The data folder of the running application."""
    folder: Path = current_app.config["FOLDER"]
    return folder


def clock() -> Clock:
    """The application's clock."""
    found: Clock = current_app.config["CLOCK"]
    return found


def db() -> Database:
    """The request's connection, in its transaction: nothing is written but by commands.

    A request that posts holds the write lock from here on; any other only reads.
    """
    if "db" not in g:
        g.db = database.connect(data_folder(), clock())
        g.db.guard()
        g.db.begin(write=request.method == "POST")
    connection: Database = g.db
    return connection


def work() -> Work:
    """What the studio works with, for the coach who is signed in."""
    return work_for(coach_id())


def work_for(coach: int) -> Work:
    """What the studio works with, for the coach a private link belongs to."""
    return Work(db(), data_folder(), coach)


def finish_request(response: Response) -> Response:
    """Keep what the request's commands wrote before its answer leaves.

    A command that met a problem took itself back already; an error answer takes all of them back.
    """
    connection: Database | None = g.get("db")
    if connection is not None:
        try:
            connection.end(keep=response.status_code < 400)
        except Told:
            connection.end(keep=False)
            raise
    return response


def end_request(error: BaseException | None) -> None:
    """Close the connection; a transaction still open is rolled back."""
    connection: Database | None = g.pop("db", None)
    if connection is not None:
        connection.end(keep=False)
        connection.close()


def current_coach() -> Coach:
    """The signed-in coach."""
    coach: Coach = current_user.coach
    return coach


def coach_id() -> int:
    """Id of the signed-in coach."""
    return current_coach().id


def about(uid: str) -> None:
    """This request is about a person: its forms say so, and what one says must be so."""
    g.about = uid
    said = request.form.get("about", "") if request.method == "POST" else ""
    if said and said != uid:
        abort(
            409,
            "This page was about somebody else, who is not kept under this address any more. "
            "Nothing was changed: go back to Today and open the person from there.",
        )


def form_keys() -> Markup:
    """Fields of every form that writes: that it is ours, and whom it is about."""
    fields = [("csrf_token", generate_csrf())]
    if uid := g.get("about"):
        fields.append(("about", uid))
    one = Markup('<input type="hidden" name="{}" value="{}">')
    return Markup("").join(one.format(name, value) for name, value in fields)


def own_practitioner(practitioner_id: int) -> Practitioner:
    """Return the coach's practitioner or answer 404."""
    found = records.person(work(), practitioner_id) or abort(404)
    about(found.uid)
    return found


def own_assessment(assessment_id: int) -> Assessment:
    """Return the coach's assessment or answer 404."""
    found = records.visit(work(), assessment_id) or abort(404)
    about(found.person_uid)
    return found


def own_trial(trial_id: int) -> Trial:
    """Return the coach's trial or answer 404."""
    found = records.trial(work(), trial_id) or abort(404)
    about(found.person_uid)
    return found
