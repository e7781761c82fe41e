"""Erasing people, visits and photographs everywhere, and saying what backups still hold."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Callable, Iterable
from contextlib import closing
from pathlib import Path

from dachi import unfinished
from dachi.clock import Clock
from dachi.core.words import Happened
from dachi.photos.ingest import path_of
from dachi.simulation import outbox
from dachi.simulation.outbox import Letter
from dachi.store import accounts, assessments, erasing, erasures, happenings, photos, practitioners
from dachi.store.database import COPIES, Database, connect
from dachi.store.erasing import Gone
from dachi.store.practitioners import Practitioner
from dachi.studio.acting import acting
from dachi.studio.phrases import say_day
from dachi.studio.practice import reminders
from dachi.studio.record import keeping
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: For how long deleted trials come back on a word, days, before they go for good: a coach's choice.
PUT_AWAY_DAYS = (7, 30, 90, 365)
#: More letters than a coach ever has.
MOST_LETTERS = 100_000


def person(work: Work, pid: int) -> str | None:
    """Erase a person at once; what backups hold, None where not the coach's.

    The rows are gone with this; what lies in files and copies is written down and goes with
    ``finish``, now or after the next start.
    """
    who = practitioners.get(work.db, work.coach, pid)
    letters = _letters_about(work, who) if who is not None else []
    with acting(work):
        gone = erasing.practitioner(work.db, work.coach, pid)
        if who is None or gone is None:
            return None
        erasures.begin(work.db, work.coach, uid=who.uid, pictures=gone.pictures, letters=letters)
        # Errors are pooled over a coach's people: the others' verdicts are derived again.
        summaries.stale_from_now(work)
        happenings.note(work.db, work.coach, Happened.ERASED)
    return backups_still_hold(work)


def letters_gone(work: Work, who: Practitioner) -> None:
    """Within a command: letters about somebody whose record goes elsewhere go too."""
    if letters := _letters_about(work, who):
        erasures.begin(work.db, work.coach, letters=letters)


def _letters_about(work: Work, who: Practitioner) -> list[str]:
    """Letters of a person: by the name nobody else has, old ones by the address."""

    def theirs(letter: Letter) -> bool:
        if letter.about:
            return letter.about == who.uid
        return bool(who.email) and letter.to.strip().casefold() == who.email.strip().casefold()

    return [x.name for x in outbox.letters(reminders.box(work), MOST_LETTERS) if theirs(x)]


def visit(work: Work, aid: int) -> str | None:
    """Erase a visit with its photographs and readings."""
    found = assessments.get(work.db, work.coach, aid)
    whose = found.practitioner_id if found is not None else 0
    return _some(work, whose, Happened.VISIT_ERASED, erasing.assessment, aid)


def shot(work: Work, tid: int) -> str | None:
    """Erase one photograph with what was read from it."""
    found = assessments.trial(work.db, work.coach, tid)
    whose = found.practitioner_id if found is not None else 0
    return _some(work, whose, Happened.SHOT_ERASED, erasing.trial, tid)


def photographs(work: Work, pid: int) -> str | None:
    """Erase every photograph of a person, as after consent was taken back; the record stays."""
    return _some(work, pid, Happened.PHOTOGRAPHS_ERASED, erasing.photographs, pid)


def _some(
    work: Work,
    pid: int,
    kind: Happened,
    erase: Callable[[Database, int, int], Gone | None],
    row: int,
) -> str | None:
    if practitioners.get(work.db, work.coach, pid) is None:
        return None
    with acting(work, pid):
        gone = erase(work.db, work.coach, row)
        if gone is None:
            return None
        erasures.begin(work.db, work.coach, pictures=gone.pictures)
        summaries.stale_from_now(work)
        happenings.note(work.db, work.coach, kind, pid)
    return backups_still_hold(work)


# ---- what lies in files ----------------------------------------------------------------------

#: One at a time: the database is written anew.
_FINISHING = threading.Lock()


def waiting(work: Work) -> int:
    """How many of the coach's erasures are not finished yet."""
    return erasures.waiting(work.db, work.coach)


def finish(folder: Path, clock: Clock) -> bool:
    """Remove every trace of what was erased from files, copies and the database's free pages.

    Every step may be cut short and is done again then; whether all is finished now. Raises
    OSError and Told where something cannot be done: it stays written down.
    """
    with _FINISHING, closing(connect(folder, clock)) as db:
        # What is erased meanwhile is finished too.
        while found := erasures.all_open(db):
            known = photos.known_hashes(db)
            for one in found:
                # The same picture may have come in again since.
                remove_pictures(folder, (x for x in one.pictures if x not in known))
                for name in one.letters:
                    (reminders.box_of(folder, one.coach_id) / name).unlink(missing_ok=True)
            unfinished.sweep(folder, known)
            ids = [one.id for one in found]
            with db.savepoint():
                erasures.cleared(db, ids)
            if not erasing.compact(db):
                return False
            anew(folder, clock)
            with db.savepoint():
                erasures.done(db, ids)
    return True


def remove_pictures(folder: Path, hashes: Iterable[str]) -> None:
    """Remove pictures in every form: stored, previews, faces hidden, put aside."""
    for sha in hashes:
        for kind in ("photo", "preview", "thumb"):
            path_of(folder, sha, kind).unlink(missing_ok=True)
        for path in (
            *(folder / "cache" / "faces" / sha[:2]).glob(f"{sha}-*"),
            *(folder / "strays").glob(f"{sha}*"),
        ):
            path.unlink(missing_ok=True)


def anew(folder: Path, clock: Clock) -> None:
    """Copies of the database made before now go; one is made of what there is."""
    for path in (folder / COPIES).glob("*.sqlite3"):
        path.unlink(missing_ok=True)
    keeping.daily_copy(folder, clock)


def backups_still_hold(work: Work) -> str:
    """What lies outside the data folder and cannot be reached from here, as a sentence."""
    last = keeping.last_backup(work.folder)
    if last is None:
        return "No backup was ever written by this program, so nothing is left of it elsewhere."
    return (
        f"Backups still hold it until you delete them: the last, “{last['name']}”, was written on "
        f"{say_day(last['made_at'])}."
    )


def purge(folder: Path, db: Database) -> int:
    """Let go for good what was put away longer ago than each coach says; how many shots."""
    shots = 0
    for coach in accounts.everybody(db):
        with db.savepoint():
            gone = erasing.put_away(db, coach.id, db.clock.stamp(coach.put_away_days))
            if gone is not None:
                erasures.begin(db, coach.id, pictures=gone.pictures)
                shots += gone.rows.get("trial", 0)
    return shots


def old_faces(folder: Path) -> None:
    """Hidden versions under names of an earlier Dachi, which do not tell whose they are."""
    home = folder / "cache" / "faces"
    if any("-" not in p.stem for p in home.glob("*/*.jpg")):
        shutil.rmtree(home, ignore_errors=True)
