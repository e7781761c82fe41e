"""Erasing people, visits and photographs everywhere, and saying what backups still hold."""

from __future__ import annotations

import shutil
from collections.abc import Collection, Iterable
from pathlib import Path

from dachi.clock import Clock
from dachi.data import catalogue
from dachi.photos.ingest import path_of
from dachi.simulation import outbox
from dachi.store import accounts, erasing, practitioners, summaries
from dachi.store.database import COPIES, Database
from dachi.store.erasing import Gone
from dachi.studio.phrases import say_day
from dachi.studio.practice import reminders
from dachi.studio.record import keeping
from dachi.studio.work import Work

#: For how long deleted trials come back on a word, days, before they go for good: a coach's choice.
PUT_AWAY_DAYS = (7, 30, 90, 365)


def person(work: Work, pid: int) -> str | None:
    """Erase a person at once and everywhere here; what backups hold, None where not the coach's."""
    who = practitioners.get(work.db, work.coach, pid)
    gone = erasing.practitioner(work.db, work.coach, pid)
    if who is None or gone is None:
        return None
    # Errors are pooled over a coach's people: the others' verdicts are derived again.
    summaries.mark_stale(work.db, work.coach, [p.id for p in catalogue().poses])
    letters = [
        x.name
        for x in outbox.letters(reminders.box(work), 100_000)
        if (who.email and who.email in x.to) or who.call_name in f"{x.to} {x.subject} {x.text}"
    ]
    _clear(work, gone, letters)
    return backups_still_hold(work)


def visit(work: Work, aid: int) -> str | None:
    """Erase a visit with its photographs and readings."""
    return _some(work, erasing.assessment(work.db, work.coach, aid))


def shot(work: Work, tid: int) -> str | None:
    """Erase one photograph with what was read from it."""
    return _some(work, erasing.trial(work.db, work.coach, tid))


def photographs(work: Work, pid: int) -> str | None:
    """Erase every photograph of a person, as after consent was taken back; the record stays."""
    if practitioners.get(work.db, work.coach, pid) is None:
        return None
    return _some(work, erasing.photographs(work.db, work.coach, pid))


def _some(work: Work, gone: Gone | None) -> str | None:
    if gone is None:
        return None
    summaries.mark_stale(work.db, work.coach, [p.id for p in catalogue().poses])
    _clear(work, gone, ())
    return backups_still_hold(work)


def _clear(work: Work, gone: Gone, letters: Collection[str]) -> None:
    """Commit, then remove files, and write database and copies anew without what is gone."""
    work.db.end(keep=True)
    remove_pictures(work.folder, gone.pictures)
    for name in letters:
        (reminders.box(work) / name).unlink(missing_ok=True)
    erasing.compact(work.db)
    anew(work.folder, work.db.clock)
    work.db.begin(write=False)


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
        db.begin(write=True)
        gone = erasing.put_away(db, coach.id, db.clock.stamp(coach.put_away_days))
        db.end(keep=True)
        if gone is not None:
            remove_pictures(folder, gone.pictures)
            shots += gone.rows.get("trial", 0)
    return shots


def old_faces(folder: Path) -> None:
    """Hidden versions under names of an earlier Dachi, which do not tell whose they are."""
    home = folder / "cache" / "faces"
    if any("-" not in p.stem for p in home.glob("*/*.jpg")):
        shutil.rmtree(home, ignore_errors=True)
