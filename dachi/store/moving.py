"""People's records as plain rows, out of one database and into another.

Rows are numbered anew within what is moved, so that the same record gives the same text
wherever it lies.
"""

from __future__ import annotations

import secrets
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from dachi.store import erasing, preparation
from dachi.store.database import Conflict, Database

Row = dict[str, Any]
Tables = dict[str, list[Row]]

#: What is moved, each after what it refers to.
MOVED = (
    "practitioner", "assessment", "photo", "camera_position", "trial", "marking", "reading",
    "check_result", "draft", "goal", "annotation", "consent", "screening", "assessment_state",
    "sheet_line", "assessment_event", "tray", "second_opinion", "head_region",
    "practice_profile", "practice_wish", "practice_log", "practice_pain", "felt", "remark",
    "proposal", "week_plan",
)  # fmt: skip
#: What stays: accounts, keys and links, what is derived again.
LEFT = (
    "coach", "coach_session", "happening", "invitation", "private_link", "phone_link",
    "pose_summary", "scatter_evidence", "erasure",
)  # fmt: skip
#: What is moved although it is derived: it may have been derived again since.
DERIVED = ("reading", "check_result", "proposal", "week_plan")
_DERIVED = {"marking": ("made_from", "bones")}
#: Keys that only mean something to whoever sent the row.
_FORGOTTEN = {"assessment": "once_key", "trial": "once_key", "marking": "once_key"}


@dataclass
class Loaded:
    """What came in: ids of new people, and call names of those that were here just so."""

    people: list[int] = field(default_factory=list)
    same: list[str] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.people or self.same)


def dump(db: Database, coach_id: int, people: Sequence[int]) -> Tables:
    """Return every row of some of a coach's people, of nobody else's; nothing without any."""
    found: Tables = {}
    ranks: dict[str, dict[int, int]] = {}
    for table in MOVED:
        refers = _refers(db, table)
        rows = db.execute(f"SELECT * FROM {table} ORDER BY rowid").fetchall()
        if table == "practitioner":
            rows = [r for r in rows if r["id"] in set(people) and r["coach_id"] == coach_id]
            if not rows:
                return {}
        elif table == "photo":
            shown = _shown(db, ranks)
            rows = [r for r in rows if r["id"] in shown]
        else:
            rows = [r for r in rows if _belongs(table, r, refers, ranks)]
        keys = rows[0].keys() if rows else []
        if "id" in keys:
            ranks[table] = {r["id"]: n for n, r in enumerate(rows, 1)}
        found[table] = [_plain(table, r, refers, ranks) for r in rows]
    return found


def _within(table: str, column: str, other: str) -> bool:
    """Whether a column names another row of its own table: one that may come later."""
    return table == other and column != "id"


def _shown(db: Database, ranks: Mapping[str, Mapping[int, int]]) -> set[int]:
    visits = ranks.get("assessment", {})
    rows = db.execute(
        "SELECT assessment_id, photo_id FROM trial UNION SELECT assessment_id, photo_id FROM tray"
    )
    return {r["photo_id"] for r in rows if r["assessment_id"] in visits}


def _refers(db: Database, table: str) -> dict[str, str]:
    """Columns of a table that refer to another, and to which."""
    return {r["from"]: r["table"] for r in db.execute(f"PRAGMA foreign_key_list({table})")}


def _belongs(
    table: str,
    row: Mapping[str, Any] | sqlite3.Row,
    refers: Mapping[str, str],
    ranks: Mapping[str, Mapping[int, int]],
) -> bool:
    own = {c: t for c, t in refers.items() if not _within(table, c, t) and c in row.keys()}  # noqa: SIM118
    return all(row[c] is None or row[c] in ranks.get(t, {}) for c, t in own.items())


def _plain(
    table: str, row: sqlite3.Row, refers: Mapping[str, str], ranks: Mapping[str, Mapping[int, int]]
) -> Row:
    found: Row = {}
    for key in row.keys():  # noqa: SIM118 - a row is no mapping
        if key in ("coach_id", _FORGOTTEN.get(table)):
            continue
        if key == "id":
            found[key] = ranks[table][row["id"]]
        elif key in refers and row[key] is not None:
            found[key] = ranks[refers[key]].get(row[key])
        else:
            found[key] = row[key]
    return found


def load(
    db: Database, coach_id: int, tables: Mapping[str, Sequence[Row]], *, beside: bool
) -> Loaded:
    """Take people in for a coach, within the open transaction.

    Who is here already, just so, is left alone. Raises Conflict where one is here and
    differs (``beside`` takes them in once more instead), or where a row is not right.
    """
    done = Loaded()
    own: dict[str, dict[int, int]] = {t: {} for t in MOVED}
    skipped = _known(db, coach_id, tables, done, beside=beside)
    for table in MOVED:
        refers = _refers(db, table)
        columns = {r["name"] for r in db.execute(f"PRAGMA table_info({table})")}
        later: list[tuple[str, int, int]] = []
        for row in tables.get(table, ()):
            if table == "practitioner" and row.get("id") in skipped:
                continue
            try:
                _take(db, coach_id, table, dict(row), refers, columns, own, done, beside=beside)
            except (sqlite3.Error, TypeError, OverflowError) as error:
                raise Conflict(f"A row of {table} cannot be taken in: {error}.") from error
            later += [
                (c, own[table][int(row["id"])], int(row[c]))
                for c, t in refers.items()
                if _within(table, c, t) and row.get(c) is not None and row["id"] in own[table]
            ]
        for column, number, other in later:
            db.execute(
                f"UPDATE {table} SET {column} = ? WHERE id = ?", (own[table].get(other), number)
            )
    return done


def _known(
    db: Database,
    coach_id: int,
    tables: Mapping[str, Sequence[Row]],
    done: Loaded,
    *,
    beside: bool,
) -> set[int]:
    """People that are here already; Conflict where one differs from what comes."""
    skipped: set[int] = set()
    for person in tables.get("practitioner", ()):
        row = db.execute(
            "SELECT id, call_name FROM practitioner WHERE coach_id = ? AND uid = ?",
            (coach_id, str(person.get("uid", ""))),
        ).fetchone()
        if row is None or beside:
            continue
        here, there = dump(db, coach_id, [row["id"]]), only(db, tables, int(person["id"]))
        if _facts(here) != _facts(there):
            raise Conflict(
                f"{row['call_name']} is here already, and what comes differs. Take it in beside, "
                "and merge the two, or erase the one here first. Nothing was taken in."
            )
        skipped.add(int(person["id"]))
        done.same.append(str(row["call_name"]))
    return skipped


def _facts(tables: Mapping[str, Sequence[Row]]) -> Tables:
    """Rows without what is derived of them."""
    return {
        name: [{k: v for k, v in row.items() if k not in _DERIVED.get(name, ())} for row in rows]
        for name, rows in tables.items()
        if name not in DERIVED
    }


def _take(
    db: Database,
    coach_id: int,
    table: str,
    row: Row,
    refers: Mapping[str, str],
    columns: Iterable[str],
    own: dict[str, dict[int, int]],
    done: Loaded,
    *,
    beside: bool,
) -> None:
    number = row.pop("id", None)
    unknown = set(row) - set(columns)
    if unknown:
        raise Conflict(f"A row of {table} has {sorted(unknown)[0]!r}, which is not known here.")
    for column, other in refers.items():
        if other == "coach":
            row["coach_id"] = coach_id
        elif _within(table, column, other):
            row[column] = None
        elif row.get(column) is not None:
            if row[column] not in own[other]:
                # It belongs to somebody who is here already.
                return
            row[column] = own[other][row[column]]
    if table == "practitioner":
        taken = db.execute(
            "SELECT 1 FROM practitioner WHERE coach_id = ? AND uid = ?", (coach_id, row.get("uid"))
        ).fetchone()
        if beside and taken:
            row["uid"] = new_uid()
    if table == "photo":
        known = db.execute(
            "SELECT id FROM photo WHERE coach_id = ? AND source_sha256 = ?",
            (coach_id, row.get("source_sha256")),
        ).fetchone()
        if known:
            own[table][int(number)] = known["id"]
            return
    verb = "INSERT OR IGNORE" if table == "head_region" else "INSERT"
    names = list(row)
    cursor = db.execute(
        f"{verb} INTO {table} ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})",
        [row[n] for n in names],
    )
    if number is not None:
        own[table][int(number)] = int(cursor.lastrowid or 0)
    if table == "practitioner":
        done.people.append(int(cursor.lastrowid or 0))


def only(db: Database, tables: Mapping[str, Sequence[Row]], person: int) -> Tables:
    """Of moved rows those of one person, numbered as if they had been moved alone."""
    refers = {t: _refers(db, t) for t in MOVED}
    ranks: dict[str, dict[int, int]] = {}
    found: Tables = {}
    visits: set[int] = set()
    for table in MOVED:
        rows = list(tables.get(table, ()))
        if table == "practitioner":
            rows = [r for r in rows if r.get("id") == person]
        elif table == "photo":
            shown = {
                r["photo_id"]
                for t in ("trial", "tray")
                for r in tables.get(t, ())
                if r["assessment_id"] in visits
            }
            rows = [r for r in rows if r["id"] in shown]
        else:
            rows = [r for r in rows if _belongs(table, r, refers[table], ranks)]
        if rows and "id" in rows[0]:
            ranks[table] = {r["id"]: n for n, r in enumerate(rows, 1)}
        if table == "assessment":
            visits = set(ranks.get(table, {}))
        found[table] = [
            {
                k: ranks[table][v]
                if k == "id"
                else ranks[refers[table][k]].get(v)
                if k in refers[table] and v is not None
                else v
                for k, v in r.items()
            }
            for r in rows
        ]
    return found


def new_uid() -> str:
    """A name for a person that no other has."""
    return secrets.token_hex(8)


def merge(db: Database, coach_id: int, keep: int, other: int) -> bool:
    """Make one person of two: what ``other`` has goes to ``keep``, who wins where both say.

    A withdrawn consent of either stands for both, and so does a question either answered yes to.
    False where either is not the coach's.
    """
    own = "SELECT id FROM practitioner WHERE id IN (?, ?) AND coach_id = ?"
    if keep == other or len(db.execute(own, (keep, other, coach_id)).fetchall()) != 2:
        return False
    consents = [preparation.consent(db, coach_id, one) for one in (keep, other)]
    withdrawn = max((c.withdrawn_on for c in consents if c and c.withdrawn_on), default=None)
    asked = [preparation.screening(db, coach_id, one) for one in (keep, other)]
    tables = [
        r["name"]
        for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
    ]
    for table in tables:
        for column, to in _refers(db, table).items():
            if to == "practitioner":
                db.execute(
                    f"UPDATE OR IGNORE {table} SET {column} = ? WHERE {column} = ?", (keep, other)
                )
    for table in ("pose_summary", "scatter_evidence"):
        db.execute(f"DELETE FROM {table} WHERE practitioner_id IN (?, ?)", (keep, other))
    if withdrawn is not None:
        preparation.withdraw_consent(db, coach_id, keep, withdrawn)
    one, two = (set(s.yes if s else ()) for s in asked)
    if asked[0] and asked[1] and one != two:
        answered_on = max(s.answered_on for s in asked if s)
        preparation.answer_screening(
            db, coach_id, keep, answered_on=answered_on, yes=sorted(one | two)
        )
    for column in ("birth_year", "height_cm", "thigh_cm", "shin_cm", "next_visit_at"):
        db.execute(
            f"UPDATE practitioner SET {column} = coalesce({column},"
            f" (SELECT {column} FROM practitioner WHERE id = ?)) WHERE id = ?",
            (other, keep),
        )
    erasing.practitioner(db, coach_id, other)
    return True
