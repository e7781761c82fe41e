"""Practitioners. Every query says whose."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from dachi.store import moving
from dachi.store.database import Database
from dachi.store.rows import made, read_json, read_moment


@dataclass(frozen=True, kw_only=True)
class Practitioner:
    """A person measured; lengths in cm, None where nobody measured them.

    ``props`` they own; ``schools`` maps questions to the option chosen, where one was;
    ``breath_s`` is how long one breath of theirs takes.
    """

    id: int
    call_name: str
    birth_year: int | None
    height_cm: float | None
    thigh_cm: float | None
    shin_cm: float | None
    notes: str
    next_visit_at: str | None = None
    dominant_side: str = ""
    props: frozenset[str] = frozenset()
    schools: Mapping[str, str] = field(default_factory=dict)
    breath_s: float = 8.0
    email: str = ""
    #: Poses they came for.
    comes_for: frozenset[str] = frozenset()
    #: A name that nobody else has, here or elsewhere: pages name whom they are about by it.
    uid: str = ""

    @property
    def segments_cm(self) -> dict[str, float]:
        """Known segment lengths, for judging how far a limb points out of the plane."""
        known = {"thigh": self.thigh_cm, "shin": self.shin_cm}
        return {k: v for k, v in known.items() if v is not None}


@dataclass(frozen=True)
class Listed:
    """A practitioner with the dates that a list shows."""

    practitioner: Practitioner
    assessments: int
    last_at: str | None
    unmarked: int


def _practitioner(row: sqlite3.Row) -> Practitioner:
    return made(
        Practitioner, row, props=read_json(row["props"], frozenset[str], frozenset()),
        schools=read_json(row["schools"], dict[str, str], {}),
        comes_for=read_json(row["comes_for"], frozenset[str], frozenset()),
        next_visit_at=read_moment(row["next_visit_at"]),
    )  # fmt: skip


def plan_visit(db: Database, coach_id: int, practitioner_id: int, at: str | None) -> bool:
    """Say when the practitioner comes next (local time, ISO), or that nothing is planned."""
    cursor = db.execute(
        "UPDATE practitioner SET next_visit_at = ? WHERE id = ? AND coach_id = ?",
        (at, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


#: What a record holds, besides its id and the next visit.
_FIELDS = (
    "call_name", "birth_year", "height_cm", "thigh_cm", "shin_cm", "notes",
    "dominant_side", "props", "schools", "breath_s", "email", "comes_for",
)  # fmt: skip


def add(db: Database, coach_id: int, call_name: str, **fields: Any) -> int:
    """Add a practitioner and return the id; fields as in Practitioner."""
    found = _columns(fields | {"call_name": call_name})
    places = ", ".join("?" * (len(found) + 3))
    cursor = db.execute(
        f"INSERT INTO practitioner ({', '.join(found)}, coach_id, uid, created_at)"
        f" VALUES ({places})",
        (*found.values(), coach_id, moving.new_uid(), db.now()),
    )
    return int(cursor.lastrowid or 0)


def update(db: Database, coach_id: int, practitioner_id: int, **fields: Any) -> bool:
    """Change fields of a record; False where the coach has no such practitioner."""
    found = _columns(fields)
    cursor = db.execute(
        f"UPDATE practitioner SET {', '.join(f'{f} = ?' for f in found)}"
        " WHERE id = ? AND coach_id = ?",
        (*found.values(), practitioner_id, coach_id),
    )
    return cursor.rowcount == 1


def _columns(fields: Mapping[str, Any]) -> dict[str, Any]:
    unknown = set(fields) - set(_FIELDS)
    if unknown:
        raise TypeError(f"a practitioner has no {', '.join(sorted(unknown))}")
    found = dict(fields)
    for name in {"props", "comes_for"} & set(found):
        found[name] = json.dumps(sorted(found[name]))
    if "schools" in found:
        found["schools"] = json.dumps(dict(found["schools"]), sort_keys=True)
    return found


def get(db: Database, coach_id: int, practitioner_id: int) -> Practitioner | None:
    """Return one of the coach's practitioners."""
    row = db.execute(
        "SELECT * FROM practitioner WHERE id = ? AND coach_id = ?", (practitioner_id, coach_id)
    ).fetchone()
    return _practitioner(row) if row else None


def listing(db: Database, coach_id: int) -> list[Listed]:
    """Return the coach's practitioners with what is unfinished, last seen first."""
    rows = db.execute(
        "SELECT p.*,"
        " (SELECT count(*) FROM assessment a WHERE a.practitioner_id = p.id) AS assessments,"
        " (SELECT max(a.taken_at) FROM assessment a WHERE a.practitioner_id = p.id) AS last_at,"
        " (SELECT count(*) FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        "  WHERE a.practitioner_id = p.id AND t.deleted_at IS NULL AND t.marked = 0) AS unmarked"
        " FROM practitioner p WHERE p.coach_id = ? ORDER BY last_at DESC NULLS LAST, p.call_name",
        (coach_id,),
    )
    return [Listed(_practitioner(r), r["assessments"], r["last_at"], r["unmarked"]) for r in rows]


def everybodys_names(db: Database) -> list[str]:
    """Every name and address in the folder, whoever's they are: what a log must not tell."""
    rows = db.execute(
        "SELECT call_name AS name FROM practitioner UNION SELECT email FROM practitioner"
        " UNION SELECT name FROM coach UNION SELECT email FROM coach"
    )
    return [r["name"] for r in rows]
