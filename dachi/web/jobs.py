"""Work that takes longer than a page should: one at a time, in the background, with progress."""

from __future__ import annotations

import logging
import queue
import secrets
import threading
import time
from collections.abc import Callable, Hashable
from concurrent.futures import Future, wait
from contextlib import closing
from dataclasses import dataclass

from flask import current_app

from dachi.errors import Told
from dachi.store import database
from dachi.studio.duties import Duties
from dachi.studio.record import erasing
from dachi.studio.verdicts import summaries
from dachi.studio.visits import recognised
from dachi.studio.work import Work
from dachi.web.session import clock, coach_id, data_folder, db, work

#: Results wait so long to be fetched, seconds, and so many are kept.
KEPT_S, MOST = 900.0, 20
#: An answer waits so long for what it began, s.
SHORT_S = 2.0


@dataclass
class Job:
    """What is being made of a person (``about``, their uid): ``done`` of ``total`` steps, then
    ``result``, or why not.
    """

    coach: int
    name: str
    total: int
    about: str = ""
    done: int = 0
    result: bytes | None = None
    problem: str | None = None
    at: float = 0.0


class Lane:
    """One thing after the other in a thread that nobody waits for when the program ends."""

    def __init__(self, name: str) -> None:
        self._waiting: queue.SimpleQueue[tuple[Future[None], Callable[[], object]]] = (
            queue.SimpleQueue()
        )
        self._name = name
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()

    def submit(self, act: Callable[[], object]) -> Future[None]:
        """Have something done when its turn comes."""
        done: Future[None] = Future()
        self._waiting.put((done, act))
        with self._lock:
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name=self._name, daemon=True)
                self._thread.start()
        return done

    def _work(self) -> None:
        while True:
            done, act = self._waiting.get()
            try:
                act()
            except BaseException as error:
                done.set_exception(error)
            else:
                done.set_result(None)


class Jobs:
    """Jobs by a name that cannot be guessed, for the coach who asked."""

    def __init__(self) -> None:
        self._pool = Lane("dachi-job")
        self._slow = Lane("dachi-slow")
        #: Nobody waits for verdicts or marks to have what they erased gone.
        self._soon = Lane("dachi-soon")
        self._busy: set[Hashable] = set()
        self._jobs: dict[str, Job] = {}
        self._lock = threading.Lock()

    def start(
        self,
        coach: int,
        name: str,
        total: int,
        make: Callable[[Callable[[int], None]], bytes],
        *,
        about: str = "",
    ) -> str:
        """Begin to make something; ``make`` is handed a function that says how far it is."""
        job, key = Job(coach, name, total, about, at=time.monotonic()), secrets.token_urlsafe(12)
        with self._lock:
            now = time.monotonic()
            fresh = [(k, j) for k, j in self._jobs.items() if now - j.at < KEPT_S]
            self._jobs = dict(fresh[-MOST + 1 :]) | {key: job}
        self._pool.submit(lambda: self._run(job, make))
        return key

    def of(self, coach: int, key: str) -> Job | None:
        """A coach's own job; None where there is none, or no longer."""
        with self._lock:
            job = self._jobs.get(key)
        return job if job is not None and job.coach == coach else None

    def forget(self, about: str) -> None:
        """Let go of everything that was made, or is being made, of a person."""
        with self._lock:
            self._jobs = {k: j for k, j in self._jobs.items() if j.about != about}

    def once(
        self, name: Hashable, act: Callable[[], object], *, soon: bool = False
    ) -> Future[None] | None:
        """Do something in the background, unless just that is being done already."""
        with self._lock:
            if name in self._busy:
                return None
            self._busy.add(name)

        def run() -> None:
            try:
                act()
            except (Told, OSError) as error:
                logging.getLogger("dachi").warning("%s: %s", name, error)
            except Exception:
                logging.getLogger("dachi").exception("while doing %s", name)
            finally:
                with self._lock:
                    self._busy.discard(name)

        return (self._soon if soon else self._slow).submit(run)

    def _run(self, job: Job, make: Callable[[Callable[[int], None]], bytes]) -> None:
        def progress(done: int) -> None:
            job.done = done

        try:
            job.result = make(progress)
        except Told as error:
            job.problem = f"{str(error).rstrip('.')}."
        except Exception:
            logging.getLogger("dachi").exception("while making %s", job.name)
            job.problem = "It could not be made; the log has the details."


def _apart(name: str, coach: int, act: Callable[[Work], object], *, soon: bool = False) -> None:
    """Do something for a coach in the background, on a connection of its own."""
    jobs: Jobs = current_app.extensions["jobs"]
    folder, at = data_folder(), clock()

    def run() -> None:
        with closing(database.connect(folder, at)) as own:
            act(Work(own, folder, coach))

    jobs.once((name, coach), run, soon=soon)


def finish_erasing(about: str = "") -> bool:
    """See to what lies in files of what this request erased; whether that is finished already.

    What was made of the person meanwhile is forgotten. The request changes nothing after this.
    """
    if about:
        current_app.extensions["jobs"].forget(about)
    # What is to be kept is kept now: the database is written anew beside this request.
    db().end(keep=True)
    going = _finish_erasing()
    if going is not None:
        # Of a small studio it is done before anybody looks.
        wait([going], timeout=None if current_app.testing else SHORT_S)
    db().begin(write=False)
    return not erasing.waiting(work())


def _finish_erasing() -> Future[None] | None:
    jobs: Jobs = current_app.extensions["jobs"]
    folder, at = data_folder(), clock()
    return jobs.once("erasing", lambda: erasing.finish(folder, at), soon=True)


def erasing_left() -> int:
    """How many of the coach's erasures are not finished; they are gone on with."""
    left = erasing.waiting(work())
    if left:
        _finish_erasing()
    return left


def freshened() -> int:
    """How many of the coach's summaries are to be derived again; it is done in the background."""
    left = summaries.stale(work())
    if left:
        _apart("verdicts of coach", coach_id(), summaries.freshen_all)
    return left


def reading_left() -> int:
    """How many photographs of the folder are to be read again by the present rules."""
    duties: Duties | None = current_app.extensions.get("duties")
    return duties.to_read if duties is not None else 0


def renewing(person: int) -> int:
    """How many verdicts of a person are to be worked out again; theirs come before all others."""
    left = len(summaries.stale_of(work(), person))
    if left:
        _apart(
            f"verdicts of {person}", coach_id(), lambda w: summaries.freshen(w, person), soon=True
        )
    return left


def see_waiting(coach: int) -> None:
    """Have the joints of new photographs of a coach's looked for in the background.

    Where that was cut short, the next page that wants them begins again.
    """
    if current_app.config["PROPOSE"]:
        _apart("marks of coach", coach, recognised.look_at_all)
