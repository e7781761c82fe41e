"""What the first page asks of everybody at once: visits, pain, what is unmarked, due and new."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from dachi.store.database import Database
from dachi.store.rows import read_moment
from dachi.store.summaries import News, read_news


@dataclass(frozen=True)
class Seen:
    """A practitioner as Today shows one.

    ``looks``: of each pose the ISO day of its last look and of the next that can show something.
    """

    id: int
    call_name: str
    next_visit_at: str | None
    assessments: int
    last_at: str | None
    first_unmarked: int | None
    unmarked: int
    looks: tuple[tuple[str, str | None], ...]
    news: tuple[News, ...]
    pain: tuple[str, str] | None = None
    consent_missing: bool = False
    wrote: str = ""
    #: The newest visit of which something is asked that nobody answered, and how much.
    asked: tuple[int, int] | None = None


def everybody(db: Database, coach_id: int, news_since: str, pain_since: str) -> list[Seen]:
    """Return the coach's people by name; dates are ISO."""
    unmarked = _unmarked(db, coach_id)
    news = _news(db, coach_id, news_since)
    looks = _looks(db, coach_id)
    pain = _pain(db, coach_id, pain_since)
    agreed = _agreed(db, coach_id)
    wrote = _wrote(db, coach_id)
    asked = _asked(db, coach_id, news_since)
    rows = db.execute(
        "SELECT p.id, p.call_name, p.next_visit_at,"
        " (SELECT count(*) FROM assessment a WHERE a.practitioner_id = p.id) AS assessments,"
        " (SELECT max(a.taken_at) FROM assessment a WHERE a.practitioner_id = p.id) AS last_at"
        " FROM practitioner p WHERE p.coach_id = ? ORDER BY p.call_name COLLATE NOCASE",
        (coach_id,),
    )
    found = []
    for r in rows:
        first, count = unmarked.get(r["id"], (None, 0))
        found.append(
            Seen(
                r["id"], r["call_name"], read_moment(r["next_visit_at"]), r["assessments"],
                r["last_at"], first, count, tuple(looks.get(r["id"], ())),
                tuple(news.get(r["id"], ())), pain.get(r["id"]), r["id"] not in agreed,
                wrote.get(r["id"], ""), asked.get(r["id"]),
            )
        )  # fmt: skip
    return found


def _unmarked(db: Database, coach_id: int) -> dict[int, tuple[int, int]]:
    rows = db.execute(
        "SELECT a.practitioner_id, min(t.id) AS first, count(*) AS count FROM trial t"
        " JOIN assessment a ON a.id = t.assessment_id"
        " JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE p.coach_id = ? AND t.deleted_at IS NULL AND t.marked = 0"
        " GROUP BY a.practitioner_id",
        (coach_id,),
    )
    return {r["practitioner_id"]: (r["first"], r["count"]) for r in rows}


def _news(db: Database, coach_id: int, since: str) -> dict[int, list[News]]:
    found: dict[int, list[News]] = {}
    for r in db.execute(
        "SELECT d.practitioner_id, d.news FROM pose_summary d JOIN practitioner p"
        " ON p.id = d.practitioner_id WHERE p.coach_id = ? AND d.news_on >= ?",
        (coach_id, since),
    ):
        found.setdefault(r["practitioner_id"], []).extend(read_news(r["news"]))
    return found


def _asked(db: Database, coach_id: int, since: str) -> dict[int, tuple[int, int]]:
    rows = db.execute(
        "SELECT d.practitioner_id, d.assessment_id, count(*) AS count FROM doubt d"
        " JOIN practitioner p ON p.id = d.practitioner_id"
        " JOIN assessment a ON a.id = d.assessment_id"
        " LEFT JOIN doubt_answer s ON s.assessment_id = d.assessment_id AND s.what = d.what"
        " AND s.pose = d.pose AND s.side = d.side AND s.mode = d.mode"
        " WHERE p.coach_id = ? AND a.taken_at >= ? AND s.id IS NULL"
        " GROUP BY d.practitioner_id, d.assessment_id ORDER BY d.day",
        (coach_id, since),
    )
    return {r["practitioner_id"]: (r["assessment_id"], r["count"]) for r in rows}


def _looks(db: Database, coach_id: int) -> dict[int, list[tuple[str, str | None]]]:
    found: dict[int, list[tuple[str, str | None]]] = {}
    for r in db.execute(
        "SELECT d.practitioner_id, d.retest_on, d.looked_on FROM pose_summary d"
        " JOIN practitioner p ON p.id = d.practitioner_id WHERE p.coach_id = ?",
        (coach_id,),
    ):
        looks = found.setdefault(r["practitioner_id"], [])
        looks.append((r["looked_on"] or "", r["retest_on"]))
    return found


def _pain(db: Database, coach_id: int, since: str) -> dict[int, tuple[str, str]]:
    rows = db.execute(
        "SELECT l.practitioner_id, x.place, l.started_at FROM practice_pain x"
        " JOIN practice_log l ON l.id = x.log_id JOIN practitioner p ON p.id = l.practitioner_id"
        " WHERE p.coach_id = ? AND l.started_at >= ? AND l.removed_at IS NULL"
        " ORDER BY l.started_at",
        (coach_id, since),
    )
    return {r["practitioner_id"]: (r["place"], r["started_at"]) for r in rows}


def _agreed(db: Database, coach_id: int) -> set[int]:
    rows = db.execute(
        "SELECT c.practitioner_id FROM consent_now c JOIN practitioner p"
        " ON p.id = c.practitioner_id WHERE p.coach_id = ? AND c.withdrawn_on IS NULL"
        " AND (c.until IS NULL OR c.until >= ?)",
        (coach_id, db.clock.today().isoformat()),
    )
    return {r["practitioner_id"] for r in rows}


def _wrote(db: Database, coach_id: int) -> dict[int, str]:
    """The newest words of each person that the coach has not read."""
    rows = db.execute(
        "SELECT m.practitioner_id, m.text FROM message m JOIN practitioner p"
        " ON p.id = m.practitioner_id WHERE p.coach_id = ? AND m.by_whom = 'practitioner'"
        " AND m.read_at IS NULL ORDER BY m.id",
        (coach_id,),
    )
    return {r["practitioner_id"]: r["text"] for r in rows}


class Begun(NamedTuple):
    """How far a coach's first measurement has come: the first person, assessment and photograph
    (ids, None where there is none), whether anybody consented, and whether anything was read.
    """

    person: int
    consented: bool
    assessment: int | None
    photograph: int | None
    read: bool


def begun(db: Database, coach_id: int) -> Begun | None:
    """Return how far a coach has come; None before the first person.

    The newest assessment and the first unmarked shot count.
    """
    person, consented, assessment, photograph, read = db.execute(
        "SELECT (SELECT min(p.id) FROM practitioner p WHERE p.coach_id = :me),"
        " EXISTS (SELECT 1 FROM consent c JOIN practitioner p ON p.id = c.practitioner_id"
        "  WHERE p.coach_id = :me),"
        " (SELECT max(a.id) FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
        "  WHERE p.coach_id = :me),"
        " (SELECT min(t.id) FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        "  JOIN practitioner p ON p.id = a.practitioner_id"
        "  WHERE p.coach_id = :me AND t.deleted_at IS NULL AND t.marked = 0),"
        " EXISTS (SELECT 1 FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        "  JOIN practitioner p ON p.id = a.practitioner_id"
        "  WHERE p.coach_id = :me AND t.marked = 1)",
        {"me": coach_id},
    ).fetchone()
    if person is None:
        return None
    return Begun(person, bool(consented), assessment, photograph, bool(read))
