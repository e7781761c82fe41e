"""Markings, the readings and checks derived from them, and drafts."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from dachi.core.measuring.bones import Bone
from dachi.core.measuring.scene import CheckResult, LaidFan, Reading, Result
from dachi.store.assessments import STATUS
from dachi.store.database import Conflict, Database
from dachi.store.rows import MARKING, NEWEST, TRIAL, VISIT, made, values

Point = tuple[float, float]


@dataclass(frozen=True, kw_only=True)
class Marking:
    """Marks on one trial's photo as a person left them. Pixels of the stored picture.

    ``marked`` says how they were set; nothing where that has not been said. ``seen`` are marks
    left where the program saw them. ``lent_from`` is the trial whose mat corners somebody agreed
    to here; ``made_from`` what its readings were made from (rules and whole input), empty before.
    """

    marks: Mapping[str, Point]
    mark_sds: Mapping[str, float] = field(default_factory=dict)
    level: tuple[Point, Point] | None = None
    corners: Mapping[str, Point] | None = None
    facing: str | None = None
    author: str = "hand"
    overrule_reason: str = ""
    marked: str = ""
    id: int = 0
    trial_id: int = 0
    number: int = 0
    created_at: str = ""
    seen: tuple[str, ...] = ()
    lent_from: int | None = None
    made_from: str = ""
    #: The name of the coach whose hand it was, as it was then.
    marker: str = field(default="", compare=False)


class Charted(NamedTuple):
    """One headline reading with what a series needs to know of its trial.

    ``variant`` is the stored JSON text, keys sorted, so that equal variants are equal.
    """

    trial_id: int
    assessment_id: int
    taken_at: str
    warmth: str
    pose: str
    side: str
    mode: str
    variant: str
    number: int
    measure: str
    value: float
    sd: float
    method: str
    status: str
    overruled: bool
    prop_cm: float | None
    marked: str
    sd_change: float | None
    marker: str


def save(
    db: Database,
    coach_id: int,
    trial_id: int,
    marking: Marking,
    *,
    once_key: str | None = None,
    seen: int | None = None,
) -> int:
    """Add a marking and drop the draft; return its id. What it reads is derived after.

    ``seen`` is the number of the marking the person was looking at: Conflict where
    somebody saved another in between. The same ``once_key`` again changes nothing.
    """
    if (
        db.execute(f"SELECT 1 WHERE ? IN {TRIAL}", (trial_id, trial_id, coach_id)).fetchone()
        is None
    ):
        raise Conflict("There is no such photograph.")
    if once_key:
        row = db.execute(
            "SELECT id FROM marking WHERE trial_id = ? AND once_key = ?", (trial_id, once_key)
        ).fetchone()
        if row:
            return int(row["id"])
    (last,) = db.execute(
        "SELECT coalesce(max(number), 0) FROM marking WHERE trial_id = ?", (trial_id,)
    ).fetchone()
    if seen is not None and seen != last:
        raise Conflict(
            "Somebody marked this photograph while you did: look at theirs, then keep yours or "
            "theirs."
        )
    cursor = db.execute(
        "INSERT INTO marking (trial_id, number, marks, mark_sds, level, corners, facing, author,"
        " overrule_reason, marked, once_key, created_at, seen, lent_from, marker)"
        f" SELECT {', '.join('?' * 14)}, coalesce(nullif(?, ''), name) FROM coach WHERE id = ?",
        (
            trial_id, last + 1, _dump(marking.marks), _dump(marking.mark_sds),
            _dump(marking.level) if marking.level else None,
            _dump(marking.corners) if marking.corners else None,
            marking.facing, marking.author, marking.overrule_reason, marking.marked or "eye",
            once_key, db.now(), _dump(sorted(marking.seen)), marking.lent_from, marking.marker,
            coach_id,
        ),
    )  # fmt: skip
    db.execute("UPDATE trial SET marked = 1 WHERE id = ?", (trial_id,))
    db.execute("DELETE FROM draft WHERE trial_id = ?", (trial_id,))
    return int(cursor.lastrowid or 0)


def keep_readings(
    db: Database, coach_id: int, marking_id: int, result: Result | None, made_from: str
) -> None:
    """Put readings and checks in the place of a marking's old ones, and what they were made from.

    Without a result the old ones stay: nothing can be read of that input.
    """
    bones = {n: (b.cm, b.sd, b.repeats) for n, b in result.bones.items()} if result else {}
    cursor = db.execute(
        f"UPDATE marking SET made_from = ?, bones = iif(?, ?, bones) WHERE id IN {MARKING}",
        (made_from, result is not None, _dump(bones) if bones else None, marking_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such marking.")
    if result is None:
        return
    db.execute("DELETE FROM reading WHERE marking_id = ?", (marking_id,))
    db.execute("DELETE FROM check_result WHERE marking_id = ?", (marking_id,))
    fans = {f.measure: _kept_fan(f) for f in result.fans}
    db.executemany(
        "INSERT INTO reading (marking_id, measure, label, unit, value, sd, low, high, headline,"
        f" method, sd_change, fan) VALUES {values(12)}",
        [
            (
                marking_id, r.id, r.label, r.unit, r.value, r.sd, r.low, r.high, int(r.headline),
                result.method, r.sd_change, fans.get(r.id),
            )
            for r in result.readings
        ],
    )  # fmt: skip
    db.executemany(
        "INSERT INTO check_result (marking_id, check_id, label, value, sd, unit, limit_value,"
        f" status, message) VALUES {values(9)}",
        [
            (marking_id, c.id, c.label, c.value, c.sd, c.unit, c.limit, c.status, c.message)
            for c in result.checks
        ],
    )


def _dump(value: Any) -> str:
    return json.dumps(value, sort_keys=True)


def _points(text: str | None) -> dict[str, Point]:
    return {k: (float(x), float(y)) for k, (x, y) in json.loads(text or "{}").items()}


def _from_row(row: sqlite3.Row) -> Marking:
    """Read a marking from its row."""
    level = json.loads(row["level"]) if row["level"] else None
    return made(
        Marking,
        row,
        marks=_points(row["marks"]),
        mark_sds=json.loads(row["mark_sds"]),
        level=((level[0][0], level[0][1]), (level[1][0], level[1][1])) if level else None,
        corners=_points(row["corners"]) if row["corners"] else None,
        seen=tuple(json.loads(row["seen"])),
    )


def history(db: Database, coach_id: int, trial_id: int) -> list[Marking]:
    """Return every marking of a trial, newest first."""
    rows = db.execute(
        f"SELECT * FROM marking WHERE trial_id IN {TRIAL} ORDER BY number DESC",
        (trial_id, coach_id),
    )
    return [_from_row(r) for r in rows]


def newest_of(db: Database, coach_id: int, assessment_id: int) -> dict[int, Marking]:
    """Return the newest marking of each trial of an assessment, put away or not, by trial."""
    rows = db.execute(
        "SELECT m.* FROM trial t JOIN marking m ON m.trial_id = t.id"
        f" AND m.number = {NEWEST.format('t')} WHERE t.assessment_id IN {VISIT}",
        (assessment_id, coach_id),
    )
    return {r["trial_id"]: _from_row(r) for r in rows}


_OF_NEWEST = (
    f" JOIN marking m ON m.id = x.marking_id WHERE m.trial_id IN {TRIAL}"
    " AND m.number = (SELECT max(number) FROM marking WHERE trial_id = m.trial_id)"
)


def readings(db: Database, coach_id: int, trial_id: int) -> list[Reading]:
    """Return the readings of a trial's newest marking."""
    rows = db.execute("SELECT x.* FROM reading x" + _OF_NEWEST, (trial_id, coach_id))
    return [
        made(Reading, r, id=r["measure"], headline=bool(r["headline"]), apparent=False)
        for r in rows
    ]


def _kept_fan(fan: LaidFan) -> str:
    numbers = (*fan.to_px, *fan.line_end, fan.radius_cm, fan.zero, fan.sweep, fan.spread)
    # Eight digits are a thousandth of a pixel.
    return json.dumps([float(f"{n:.8g}") for n in numbers])


def fans(db: Database, coach_id: int, trial_id: int) -> list[LaidFan]:
    """Return the fans of a trial's newest marking; none of readings that were made without."""
    rows = db.execute(
        f"SELECT x.measure, x.fan FROM reading x{_OF_NEWEST} AND x.fan IS NOT NULL",
        (trial_id, coach_id),
    )
    found = []
    for r in rows:
        n = json.loads(r["fan"])
        found.append(LaidFan(r["measure"], tuple(n[:9]), (n[9], n[10]), *n[11:]))
    return found


def headlines(db: Database, coach_id: int, assessment_id: int) -> dict[int, Reading]:
    """Return the main reading of each marked trial of an assessment."""
    rows = db.execute(
        "SELECT r.*, t.id AS trial FROM trial t JOIN marking m ON m.trial_id = t.id"
        f" AND m.number = {NEWEST.format('t')} JOIN reading r ON r.marking_id = m.id"
        f" AND r.headline = 1 WHERE t.assessment_id IN {VISIT} ORDER BY r.rowid DESC",
        (assessment_id, coach_id),
    )
    return {
        r["trial"]: made(Reading, r, id=r["measure"], headline=True, apparent=False) for r in rows
    }


def checks(db: Database, coach_id: int, trial_id: int) -> list[CheckResult]:
    """Return the checks of a trial's newest marking."""
    rows = db.execute("SELECT x.* FROM check_result x" + _OF_NEWEST, (trial_id, coach_id))
    return [made(CheckResult, r, id=r["check_id"], limit=r["limit_value"]) for r in rows]


def charted(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    pose: str | None = None,
    also: Sequence[str] = (),
) -> list[Charted]:
    """Return every headline reading of a practitioner (of one pose), oldest first.

    ``also`` names further measures to return beside the headlines.
    """
    more = f" OR r.measure IN ({', '.join('?' * len(also))})" if also else ""
    # A pose that is named is looked up; asking for all leaves the condition out.
    own, asked = ("", ()) if pose is None else (" AND t.pose = ?", (pose,))
    cursor = db.cursor()
    # Years of readings are thousands of rows: plain tuples in the order of the fields.
    cursor.row_factory = None
    rows = cursor.execute(
        "SELECT t.id, a.id, a.taken_at, a.warmth, t.pose, t.side, t.mode, t.variant, t.number,"
        " r.measure, r.value, r.sd, r.method,"
        f" {STATUS},"
        " m.overrule_reason <> '', t.prop_cm, m.marked, r.sd_change, m.marker"
        " FROM practitioner p JOIN assessment a ON a.practitioner_id = p.id"
        " JOIN trial t ON t.assessment_id = a.id AND t.deleted_at IS NULL"
        f" JOIN marking m ON m.trial_id = t.id AND m.number = {NEWEST.format('t')}"
        f" JOIN reading r ON r.marking_id = m.id AND (r.headline = 1{more})"
        f" WHERE p.coach_id = ? AND p.id = ?{own} ORDER BY a.taken_at, t.id",
        (*also, coach_id, practitioner_id, *asked),
    )
    return list(map(Charted._make, rows))


#: Shots that teach lengths, the newest: more tell nothing new, and who grows was shorter before.
MOST_TAUGHT = 120


def bones(db: Database, coach_id: int, practitioner_id: int) -> list[tuple[str, int, str]]:
    """Return the lengths that a practitioner's marked shots tell, in the order of the shots:
    when the shot's assessment was, its marking and the stored lengths (see ``read_bones``).
    """
    rows = db.execute(
        "SELECT a.taken_at, m.id, m.bones FROM practitioner p"
        " JOIN assessment a ON a.practitioner_id = p.id"
        " JOIN trial t ON t.assessment_id = a.id AND t.deleted_at IS NULL"
        f" JOIN marking m ON m.trial_id = t.id AND m.number = {NEWEST.format('t')}"
        " WHERE p.coach_id = ? AND p.id = ? AND m.bones IS NOT NULL ORDER BY t.id DESC LIMIT ?",
        (coach_id, practitioner_id, MOST_TAUGHT),
    )
    return [(r["taken_at"], r["id"], r["bones"]) for r in reversed(rows.fetchall())]


def read_bones(text: str) -> dict[str, Bone]:
    """The lengths of one shot as they are stored."""
    return {n: Bone(*b) for n, b in json.loads(text).items()}


def measured_poses(db: Database, coach_id: int, practitioner_id: int) -> dict[str, int]:
    """Return the poses a practitioner has markings of, with how many trials."""
    rows = db.execute(
        "SELECT t.pose, count(*) AS trials FROM practitioner p"
        " JOIN assessment a ON a.practitioner_id = p.id"
        " JOIN trial t ON t.assessment_id = a.id AND t.deleted_at IS NULL"
        " WHERE p.coach_id = ? AND p.id = ? AND t.marked = 1 GROUP BY t.pose",
        (coach_id, practitioner_id),
    )
    return {r["pose"]: r["trials"] for r in rows}


def save_draft(db: Database, coach_id: int, trial_id: int, body: Mapping[str, Any]) -> None:
    """Keep where the rings were last left."""
    db.execute(
        f"INSERT INTO draft (trial_id, body, updated_at) SELECT id, ?, ? FROM {TRIAL}"
        " WHERE true ON CONFLICT (trial_id)"
        " DO UPDATE SET body = excluded.body, updated_at = excluded.updated_at",
        (_dump(body), db.now(), trial_id, coach_id),
    )


def drop_draft(db: Database, coach_id: int, trial_id: int) -> None:
    """Forget an unfinished marking."""
    db.execute(f"DELETE FROM draft WHERE trial_id IN {TRIAL}", (trial_id, coach_id))


def draft(db: Database, coach_id: int, trial_id: int) -> dict[str, Any] | None:
    """Return the draft of a trial, if it has one."""
    row = db.execute(
        f"SELECT body FROM draft WHERE trial_id IN {TRIAL}", (trial_id, coach_id)
    ).fetchone()
    return dict(json.loads(row["body"])) if row else None


def last_marks(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    pose: str,
    side: str,
    position_id: int | None,
) -> tuple[Marking, int, int, bool] | None:
    """Return the newest marking of the same pose and side with its picture's size, px, and whether
    it was taken from the same camera position.

    One from there is preferred: there the marks lie nearest.
    """
    row = db.execute(
        "SELECT m.*, ph.width, ph.height, t.position_id IS ? AS same_place"
        " FROM marking m JOIN trial t ON t.id = m.trial_id"
        " JOIN assessment a ON a.id = t.assessment_id JOIN practitioner p"
        " ON p.id = a.practitioner_id JOIN photo ph ON ph.id = t.photo_id"
        " WHERE p.coach_id = ? AND p.id = ? AND t.pose = ? AND t.side = ?"
        " AND t.read_from IS NULL AND t.deleted_at IS NULL"
        " ORDER BY t.position_id IS ? DESC, m.id DESC LIMIT 1",
        (position_id, coach_id, practitioner_id, pose, side, position_id),
    ).fetchone()
    if row is None:
        return None
    return _from_row(row), row["width"], row["height"], bool(row["same_place"])
