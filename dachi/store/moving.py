"""People's records as plain rows, out of one database and into another.

Rows are numbered anew within what is moved, so that the same record gives the same text
wherever it lies.
"""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Collection, Iterable, Mapping, Sequence
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
    "proposal", "week_plan", "message", "doubt_answer",
    "pain_answer", "overrule", "coming_event", "drill_note",
)  # fmt: skip
#: What stays: accounts, keys and links, what is derived again.
LEFT = (
    "coach", "coach_session", "happening", "invitation", "private_link", "phone_link",
    "pose_summary", "scatter_evidence", "erasure", "doubt",
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
    own = db.execute(
        "SELECT id FROM practitioner WHERE coach_id = ? AND id IN (SELECT value FROM json_each(?))",
        (coach_id, json.dumps(list(people))),
    ).fetchall()
    if not own:
        return {}
    asked = json.dumps([r["id"] for r in own])
    for table in MOVED:
        refers = _refers(db, table)
        rows = db.execute(
            f"SELECT * FROM {table} WHERE {_whose(db, table)} ORDER BY rowid", {"people": asked}
        ).fetchall()
        keys = rows[0].keys() if rows else []
        if "id" in keys:
            ranks[table] = {r["id"]: n for n, r in enumerate(rows, 1)}
        found[table] = [_plain(table, r, refers, ranks) for r in rows]
    return found


_WHOSE: dict[str, str] = {}


def _whose(db: Database, table: str) -> str:
    """The condition under which a table's rows are those of ``:people`` (a JSON list of ids):
    from rows that belong to rows that belong to them, each found by an index.
    """
    if table not in _WHOSE:
        if table == "practitioner":
            found = "id IN (SELECT value FROM json_each(:people))"
        elif table == "photo":
            visits = f"(SELECT id FROM assessment WHERE {_whose(db, 'assessment')})"
            found = (
                f"id IN (SELECT photo_id FROM trial WHERE assessment_id IN {visits} UNION"
                f" SELECT photo_id FROM tray WHERE assessment_id IN {visits})"
            )
        else:
            # What only names another row does not say whose it is.
            refers = {
                r["from"]: r["table"]
                for r in db.execute(f"PRAGMA foreign_key_list({table})")
                if r["table"] in MOVED and r["on_delete"] != "SET NULL"
            }
            # Whose a row is, the first it belongs to says: a person before a visit before a trial.
            column = min(
                (c for c, t in refers.items() if not _within(table, c, t)),
                key=lambda c: (refers[c] in ("photo", "camera_position"), MOVED.index(refers[c])),
            )
            other = refers[column]
            name = "id" if other != table else column
            found = f"{column} IN (SELECT {name} FROM {other} WHERE {_whose(db, other)})"
        _WHOSE[table] = found
    return _WHOSE[table]


def _within(table: str, column: str, other: str) -> bool:
    """Whether a column names another row of its own table: one that may come later."""
    return table == other and column != "id"


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
    differs (``beside`` takes them in once more instead), or where a row is not right: then the
    message names it.
    """
    done = Loaded()
    own: dict[str, dict[int, int]] = {t: {} for t in MOVED}
    skipped = _known(db, coach_id, tables, done, beside=beside)
    #: Rows of whoever is here already: what belongs to them is passed over too.
    passed: dict[str, set[int]] = {t: set() for t in MOVED} | {"practitioner": skipped}
    for table in MOVED:
        refers = _refers(db, table)
        columns = {r["name"] for r in db.execute(f"PRAGMA table_info({table})")}
        later: list[tuple[str, int, int]] = []
        for number, row in enumerate(tables.get(table, ())):
            place = f"tables.{table}[{number}]"
            if table == "practitioner" and row.get("id") in skipped:
                continue
            if row.get("id") in own[table]:
                raise Conflict(f"{place}: another row has its id.")
            if _passed(table, row, refers, passed):
                if "id" in row:
                    passed[table].add(int(row["id"]))
                continue
            if lost := _lost(table, row, refers, own):
                raise Conflict(f"{place}.{lost}")
            try:
                _take(db, coach_id, table, dict(row), refers, columns, own, done, beside=beside)
            except (sqlite3.Error, TypeError, OverflowError, UnicodeError) as error:
                raise Conflict(f"{place} cannot be taken in: {error}.") from error
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


def _lost(
    table: str, row: Row, refers: Mapping[str, str], own: Mapping[str, Mapping[int, int]]
) -> str | None:
    """What a row refers to that is not there; None where all of it is."""
    for column, other in refers.items():
        value = row.get(column)
        if other == "coach" or value is None or _within(table, column, other):
            continue
        if value not in own[other]:
            return f"{column}: there is no {other} {value} in the file."
    return None


def _passed(
    table: str, row: Row, refers: Mapping[str, str], passed: Mapping[str, Collection[int]]
) -> bool:
    """Whether a row belongs to somebody who is here already."""
    return any(
        row.get(c) in passed[t]
        for c, t in refers.items()
        if t in passed and not _within(table, c, t) and row.get(c) is not None
    )


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
        if not _same(here, there):
            raise Conflict(
                f"{row['call_name']} is here already, and what comes differs. Take it in beside, "
                "and merge the two, or erase the one here first. Nothing was taken in."
            )
        skipped.add(int(person["id"]))
        done.same.append(str(row["call_name"]))
    return skipped


def _same(here: Mapping[str, Sequence[Row]], there: Mapping[str, Sequence[Row]]) -> bool:
    """Whether two records say the same, beside what is derived; a schema may lack a column."""
    for name in MOVED:
        if name in DERIVED:
            continue
        own, other = here.get(name, ()), there.get(name, ())
        if len(own) != len(other):
            return False
        out = set(_DERIVED.get(name, ()))
        for one, two in zip(own, other, strict=True):
            if any(one[k] != two[k] for k in (one.keys() & two.keys()) - out):
                return False
    return True


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
    for table in ("pose_summary", "scatter_evidence", "doubt"):
        db.execute(f"DELETE FROM {table} WHERE practitioner_id IN (?, ?)", (keep, other))
    if withdrawn is not None:
        preparation.withdraw_consent(db, coach_id, keep, withdrawn)
    one, two = (set(s.yes if s else ()) for s in asked)
    if asked[0] and asked[1] and one != two:
        answered_on = max(s.answered_on for s in asked if s)
        # What was told of a condition in either record is told of both.
        told = {q: a for s in reversed(asked) if s for q, a in s.told().items()}
        preparation.answer_screening(
            db, coach_id, keep, answered_on=answered_on, yes=sorted(one | two), details=told,
            flags=sorted({f for s in asked if s for f in s.flags}),
        )  # fmt: skip
    for column in ("birth_year", "height_cm", "thigh_cm", "shin_cm", "next_visit_at"):
        db.execute(
            f"UPDATE practitioner SET {column} = coalesce({column},"
            f" (SELECT {column} FROM practitioner WHERE id = ?)) WHERE id = ?",
            (other, keep),
        )
    erasing.practitioner(db, coach_id, other)
    return True
