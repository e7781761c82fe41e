"""The application factory."""

from __future__ import annotations

import gc
import html
import logging
import os
import sqlite3
from contextlib import closing
from datetime import timedelta
from pathlib import Path

from flask import Flask, Response, make_response, render_template, request
from flask.sessions import SecureCookieSessionInterface
from werkzeug.exceptions import HTTPException

from dachi import reserve
from dachi.clock import Clock
from dachi.errors import Told
from dachi.store import database
from dachi.store.database import Busy, Damaged, DiskTrouble, disk_trouble, told_of
from dachi.web import filters, keys, packing
from dachi.web.fields import Id
from dachi.web.jobs import Jobs, renewing
from dachi.web.patience import Patience
from dachi.web.rooms import (
    accounts,
    assessments,
    backups,
    bench,
    cards,
    coaches,
    compare,
    drills,
    erase,
    letters,
    moving,
    myself,
    own,
    phone,
    pictures,
    plan,
    play,
    practise,
    practitioners,
    prepare,
    progress,
    readings,
    report,
    review,
    shots,
    steadiness,
    today,
    trust,
    unsorted,
    uploads,
)
from dachi.web.security import guard, wants_fragment
from dachi.web.session import data_folder, end_request, finish_request, form_keys

MAX_UPLOAD = 55 * 1024 * 1024


def create_app(folder: Path, clock: Clock, *, testing: bool = False) -> Flask:
    """Build the application on a data folder, creating and migrating it as needed.

    Raises StoreError with a sentence where the folder cannot be used.
    """
    app = Flask("dachi.web")
    app.config.update(
        CLOCK=clock,
        TESTING=testing,
        MAX_CONTENT_LENGTH=MAX_UPLOAD,
        MAX_FORM_MEMORY_SIZE=2 * 1024 * 1024,
        PERMANENT_SESSION_LIFETIME=timedelta(hours=14),
        SESSION_COOKIE_NAME="dachi",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=3600,
        # Joints are looked for as photographs come in; DACHI_PROPOSE=0 leaves it to the hand.
        PROPOSE=not testing and os.environ.get("DACHI_PROPOSE", "1") != "0",
    )
    app.session_interface = _Sessions()
    app.url_map.converters["int"] = Id
    guard(app)
    filters.install(app)
    app.jinja_env.globals["form_keys"] = form_keys
    app.jinja_env.globals["renewing"] = renewing
    packing.install(app)
    open_on(app, folder)
    for room in (
        accounts,
        steadiness,
        today,
        practitioners,
        assessments,
        bench,
        shots,
        progress,
        cards,
        coaches,
        compare,
        prepare,
        pictures,
        phone,
        unsorted,
        uploads,
        readings,
        report,
        review,
        plan,
        play,
        practise,
        drills,
        erase,
        letters,
        moving,
        myself,
        backups,
        own,
        trust,
    ):
        app.register_blueprint(room.room)
    app.before_request(_make_room)
    app.after_request(_finish)
    app.teardown_request(end_request)
    app.register_error_handler(HTTPException, _say)
    app.register_error_handler(Told, _tell)
    app.register_error_handler(DiskTrouble, _no_room)
    app.register_error_handler(Damaged, _broken)
    app.register_error_handler(Busy, _busy)
    app.register_error_handler(sqlite3.Error, _stored)
    app.register_error_handler(OSError, _disk)
    app.register_error_handler(RecursionError, _too_deep)
    app.register_error_handler(Exception, _apologise)
    return app


def open_on(app: Flask, folder: Path) -> None:
    """Serve a data folder, created and migrated as needed; nothing of another one stays behind.

    Raises StoreError with a sentence where the folder cannot be used.
    """
    folder = database.open_folder(folder)
    with closing(database.connect(folder, app.config["CLOCK"])) as db:
        database.migrate(db)
    found = keys.read(folder)
    app.config.update(
        FOLDER=folder, KEYS=found, SECRET_KEY=found[-1], SECRET_KEY_FALLBACKS=found[:-1]
    )
    app.extensions["jobs"] = Jobs()
    app.extensions["patience"] = Patience()


class _Sessions(SecureCookieSessionInterface):
    """A session that began encrypted is never sent in the clear."""

    def get_cookie_secure(self, app: Flask) -> bool:
        """Whether the browser may send the cookie encrypted only."""
        return request.is_secure


def settle() -> None:
    """Spare long-lived objects from every garbage collection; call once before serving."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 100)


SENTENCES = {
    400: "The request could not be understood. Go back, reload the page and try again.",
    403: "This is not open to you.",
    404: "There is no such page, or it belongs to somebody else.",
    405: "That cannot be done here.",
    413: "The file is too large: photographs up to 50 MB are taken.",
    429: "Too many attempts. Wait a minute, then try again.",
}


def _say(error: HTTPException) -> tuple[str, int] | Response:
    code = error.code or 500
    if code < 400 and error.response is not None:
        return error.response  # type: ignore[return-value]
    told = error.description if error.description != type(error).description else None
    sentence = told or SENTENCES.get(code, error.description or "Something went wrong.")
    return _page(sentence, code)


#: What makes room on a full disk, and what comes before it.
MAKES_ROOM = {
    "accounts.sign_in", "erase.person", "erase.photographs", "erase.visit", "erase.shot",
}  # fmt: skip


def _make_room() -> None:
    """On a full disk, give the room that was put by to whoever signs in or erases."""
    if request.method == "POST" and request.endpoint in MAKES_ROOM and reserve.give(data_folder()):
        logging.getLogger("dachi").warning("the disk is full: the room that was put by is given")


def _finish(response: Response) -> Response:
    """Keep what the request wrote before its answer leaves; a disk may be full only now."""
    try:
        return finish_request(response)
    except DiskTrouble as error:
        return make_response(_no_room(error))
    except Damaged as error:
        return make_response(_broken(error))
    except Busy as error:
        return make_response(_busy(error))


def _tell(error: Told) -> tuple[str, int]:
    """What no room has said better: the sentence itself, with nothing changed."""
    return _page(error.sentence, 422)


def _busy(error: Busy) -> tuple[str, int]:
    """Somebody else is writing for long: the same again in a moment may well do.

    What was filled in is kept on the page, to be sent again.
    """
    fields = list(request.form.items(multi=True)) if request.method == "POST" else []
    secret = any("password" in k or k in ("old", "new") for k, _ in fields)
    if not fields or secret or request.files or wants_fragment():
        return _page(error.sentence, 503)
    return render_template(
        "error.html", sentence=error.sentence, code=503, again=fields, address=request.full_path
    ), 503


def _stored(error: sqlite3.Error) -> tuple[str, int]:
    """What the database met while rows were read."""
    told = told_of(error)
    if isinstance(told, DiskTrouble):
        return _no_room(told)
    if isinstance(told, Damaged):
        return _broken(told)
    return _busy(told) if isinstance(told, Busy) else _apologise(error)


def _apologise(error: Exception) -> tuple[str, int]:
    logging.getLogger("dachi").exception("while answering %s", request.path, exc_info=error)
    return _page(
        "Something went wrong here, and nothing was half-saved. The log has the details.", 500
    )


def _too_deep(_: RecursionError) -> tuple[str, int]:
    """What is nested ten thousand deep was made to be."""
    return _page(SENTENCES[400], 400)


def _no_room(error: DiskTrouble) -> tuple[str, int]:
    """A full or unwritable disk is said as such, and its own status."""
    logging.getLogger("dachi").error("%s (while answering %s)", error, request.path)
    return _page(str(error).rstrip(".") + ".", 507)


def _broken(error: Damaged) -> tuple[str, int]:
    """A damaged database is said as such: nothing else helps."""
    logging.getLogger("dachi").error("the database is damaged (while answering %s)", request.path)
    # Every page asks the database who is there: this one asks nothing.
    words = html.escape(str(error).rstrip(".") + ".")
    return f"<!doctype html><title>Dachi</title><main><h1>Dachi</h1><p>{words}</p></main>", 503


def _disk(error: OSError) -> tuple[str, int]:
    """A failed write that no room has said better."""
    found = disk_trouble(error)
    return _no_room(found) if found is not None else _apologise(error)


def _page(sentence: str, code: int) -> tuple[str, int]:
    if request.headers.get("HX-Request") or request.headers.get("X-Fragment"):
        return render_template("parts/notice.html", kind="retake", sentence=sentence), code
    return render_template("error.html", sentence=sentence, code=code), code
