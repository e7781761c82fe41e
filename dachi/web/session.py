"""One connection and one transaction a request; who is signed in."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from flask import Response, abort, current_app, g, request
from flask_login import UserMixin, current_user

from dachi.store import accounts, assessments, database, practitioners
from dachi.store.accounts import Coach
from dachi.store.assessments import Assessment, Trial
from dachi.store.practitioners import Practitioner


class SignedIn(UserMixin):
    """A coach as Flask-Login wants one; the id carries the stamp that ends sessions."""

    def __init__(self, coach: Coach) -> None:
        self.coach = coach

    def get_id(self) -> str:
        """Return the text kept in the session."""
        return f"{self.coach.id}:{self.coach.stamp}"


def load_user(text: str) -> SignedIn | None:
    """Return the coach a session belongs to, None once its stamp is stale."""
    number, _, stamp = text.partition(":")
    coach = accounts.by_id(db(), int(number)) if number.isdecimal() else None
    return SignedIn(coach) if coach and coach.stamp == stamp else None


def data_folder() -> Path:
    """The data folder of the running application."""
    folder: Path = current_app.config["FOLDER"]
    return folder


def db() -> sqlite3.Connection:
    """The request's connection, in its transaction."""
    if "db" not in g:
        g.db = database.connect(data_folder())
        g.db.execute("BEGIN IMMEDIATE" if request.method == "POST" else "BEGIN")
    connection: sqlite3.Connection = g.db
    return connection


def read_only() -> None:
    """Answer a POST that writes nothing without taking the write lock."""
    if "db" in g:
        g.db.execute("ROLLBACK")
        g.db.execute("BEGIN")


def about_to_write() -> None:
    """Let a page that is only looked at keep something it has derived.

    What was read so far may have changed since; what is written must not depend on it.
    """
    if request.method != "POST":
        connection = db()
        connection.execute("COMMIT")
        connection.execute("BEGIN IMMEDIATE")


@contextmanager
def without_lock() -> Iterator[None]:
    """Let others write while this request does slow work that needs no database."""
    connection = db()
    connection.execute("COMMIT")
    try:
        yield
    finally:
        connection.execute("BEGIN IMMEDIATE")


def finish_request(response: Response) -> Response:
    """Commit before the answer leaves; an error answer changes nothing."""
    connection: sqlite3.Connection | None = g.get("db")
    if connection is not None and connection.in_transaction:
        connection.execute("COMMIT" if response.status_code < 400 else "ROLLBACK")
    return response


def end_request(error: BaseException | None) -> None:
    """Close the connection; a transaction still open is rolled back."""
    connection: sqlite3.Connection | None = g.pop("db", None)
    if connection is not None:
        if connection.in_transaction:
            connection.execute("ROLLBACK")
        connection.close()


def current_coach() -> Coach:
    """The signed-in coach."""
    coach: Coach = current_user.coach
    return coach


def coach_id() -> int:
    """Id of the signed-in coach."""
    return current_coach().id


def own_practitioner(practitioner_id: int) -> Practitioner:
    """Return the coach's practitioner or answer 404."""
    found = practitioners.get(db(), coach_id(), practitioner_id)
    return found or abort(404)


def own_assessment(assessment_id: int) -> Assessment:
    """Return the coach's assessment or answer 404."""
    found = assessments.get(db(), coach_id(), assessment_id)
    return found or abort(404)


def own_trial(trial_id: int) -> Trial:
    """Return the coach's trial or answer 404."""
    found = assessments.trial(db(), coach_id(), trial_id)
    return found or abort(404)
