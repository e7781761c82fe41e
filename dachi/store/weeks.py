"""How practitioners practise: profile, what was changed by hand, planned weeks."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import msgspec

from dachi.core.practising.dose import Dose
from dachi.core.practising.programme import Need
from dachi.core.practising.timeline import Step
from dachi.store.database import Conflict, Database
from dachi.store.rows import PERSON, made

#: The version of a stored week's type: one of another version is planned anew.
FORMAT = 2
#: Plans kept of a person: what was in force weeks ago is looked up in them.
MOST_PLANS = 200


@dataclass(frozen=True)
class Tuned:
    """What accepted proposals changed.

    ``longer`` maps drills to a factor of their dose, ``prop_cm`` to the height of their
    support, ``stepped`` to their harder form; ``eased`` went back to their easier form;
    ``easy_until`` is the last day of an easy week, ISO.
    """

    longer: Mapping[str, float] = field(default_factory=dict)
    prop_cm: Mapping[str, float] = field(default_factory=dict)
    stepped: Mapping[str, str] = field(default_factory=dict)
    eased: tuple[str, ...] = ()
    easy_until: str | None = None


@dataclass(frozen=True, kw_only=True)
class Profile:
    """How somebody practises.

    ``by_day``: minutes of weekdays that differ from ``minutes``; ``twice``: the same session
    in the morning and in the evening; ``gentle``: longer and softer, whatever the age.
    """

    level: int = 1
    minutes: float = 20.0
    weekdays: tuple[int, ...] = (0, 2, 4, 6)
    cautions: tuple[str, ...] = ()
    tuned: Tuned = field(default_factory=Tuned)
    by_day: Mapping[int, float] = field(default_factory=dict)
    twice: bool = False
    gentle: bool = False

    @property
    def week_sessions(self) -> int:
        """Sessions planned in a week."""
        return len(self.weekdays) * (2 if self.twice else 1)

    @property
    def week_min(self) -> float:
        """Minutes planned in a week, each day's session counted once."""
        return sum(self.by_day.get(d, self.minutes) for d in self.weekdays)


@dataclass(frozen=True)
class PlannedItem:
    """A drill of a planned session with the steps the player walks through."""

    drill: str
    dose: Dose
    first: str | None
    reason: str
    kept: bool
    steps: tuple[Step, ...]


@dataclass(frozen=True)
class PlannedSession:
    """One planned day; ``weekday`` 0 is Monday."""

    weekday: int
    seconds: int
    hard: bool
    items: tuple[PlannedItem, ...]


@dataclass(frozen=True)
class PlannedWeek:
    """A week as it was planned. ``directions`` are seconds of work in each direction."""

    sessions: tuple[PlannedSession, ...]
    fell_out: Mapping[str, str]
    directions: Mapping[str, float]
    objective: float
    bound: float
    cautions: tuple[str, ...]
    cleared: bool
    easy_week: bool
    needs: tuple[Need, ...]
    made_at: str = ""


def profile(db: Database, coach_id: int, practitioner_id: int) -> Profile | None:
    """Return how somebody practises, None where nobody has said."""
    row = db.execute(
        f"SELECT * FROM practice_profile WHERE practitioner_id IN {PERSON}",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None:
        return None
    return made(
        Profile,
        row,
        weekdays=tuple(json.loads(row["weekdays"])),
        cautions=tuple(json.loads(row["cautions"])),
        tuned=msgspec.json.decode(row["tuned"], type=Tuned),
        by_day={int(day): minutes for day, minutes in json.loads(row["by_day"]).items()},
        twice=bool(row["twice"]),
        gentle=bool(row["gentle"]),
    )


def save_profile(db: Database, coach_id: int, practitioner_id: int, found: Profile) -> None:
    """Keep how somebody practises."""
    db.execute(
        "INSERT INTO practice_profile (practitioner_id, level, minutes, weekdays, cautions, tuned,"
        f" by_day, twice, gentle, saved_at) SELECT id, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM {PERSON}"
        " WHERE true"
        " ON CONFLICT (practitioner_id) DO UPDATE SET level = excluded.level,"
        " minutes = excluded.minutes, weekdays = excluded.weekdays, cautions = excluded.cautions,"
        " tuned = excluded.tuned, by_day = excluded.by_day, twice = excluded.twice,"
        " gentle = excluded.gentle, saved_at = excluded.saved_at",
        (
            found.level,
            found.minutes,
            json.dumps(sorted(found.weekdays)),
            json.dumps(sorted(found.cautions)),
            msgspec.json.encode(found.tuned, order="sorted").decode(),
            json.dumps(dict(found.by_day)),
            found.twice,
            found.gentle,
            db.now(),
            practitioner_id,
            coach_id,
        ),
    )


def wishes(db: Database, coach_id: int, practitioner_id: int) -> list[tuple[int, str, str]]:
    """Return (weekday, drill, kind) changed by hand."""
    rows = db.execute(
        f"SELECT * FROM practice_wish WHERE practitioner_id IN {PERSON} ORDER BY weekday, drill",
        (practitioner_id, coach_id),
    )
    return [(r["weekday"], r["drill"], r["kind"]) for r in rows]


def wish(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    weekday: int,
    drill: str,
    kind: str | None,
) -> None:
    """Keep or drop a drill on a day by hand; None takes the wish back."""
    db.execute(
        "DELETE FROM practice_wish WHERE weekday = ? AND drill = ?"
        f" AND practitioner_id IN {PERSON}",
        (weekday, drill, practitioner_id, coach_id),
    )
    if kind is not None:
        db.execute(
            "INSERT INTO practice_wish (practitioner_id, weekday, drill, kind)"
            f" SELECT id, ?, ?, ? FROM {PERSON}",
            (weekday, drill, kind, practitioner_id, coach_id),
        )


def plan(
    db: Database, coach_id: int, practitioner_id: int, made_from: str | None = None
) -> PlannedWeek | None:
    """Return the newest plan; where ``made_from`` is given, only one made from just that."""
    row = db.execute(
        f"SELECT * FROM week_plan WHERE practitioner_id IN {PERSON} ORDER BY id DESC LIMIT 1",
        (practitioner_id, coach_id),
    ).fetchone()
    if row is None or not row["digest"].startswith(f"{FORMAT}:"):
        return None
    if made_from is not None and row["digest"] != f"{FORMAT}:{made_from}":
        return None
    found = msgspec.json.decode(row["body"], type=PlannedWeek)
    return _dated(found, row["made_at"])


def earlier_plan(
    db: Database, coach_id: int, practitioner_id: int, made_from: str
) -> PlannedWeek | None:
    """Return the newest plan, of all there were, that was made from just this; None without."""
    row = db.execute(
        f"SELECT * FROM week_plan WHERE practitioner_id IN {PERSON} AND digest = ?"
        " ORDER BY id DESC LIMIT 1",
        (practitioner_id, coach_id, f"{FORMAT}:{made_from}"),
    ).fetchone()
    if row is None:
        return None
    return _dated(msgspec.json.decode(row["body"], type=PlannedWeek), row["made_at"])


def plan_before(
    db: Database, coach_id: int, practitioner_id: int, moment: str
) -> PlannedWeek | None:
    """Return the plan that was in force at a moment, ISO; None where there was none."""
    row = db.execute(
        f"SELECT * FROM week_plan WHERE practitioner_id IN {PERSON} AND made_at < ?"
        " ORDER BY id DESC LIMIT 1",
        (practitioner_id, coach_id, moment),
    ).fetchone()
    if row is None or not row["digest"].startswith(f"{FORMAT}:"):
        return None
    return _dated(msgspec.json.decode(row["body"], type=PlannedWeek), row["made_at"])


def save_plan(
    db: Database, coach_id: int, practitioner_id: int, made_from: str, found: PlannedWeek
) -> PlannedWeek:
    """Keep a plan and return it dated; the last ``MOST_PLANS`` stay. Conflict where not theirs."""
    dated = _dated(found, db.now())
    cursor = db.execute(
        "INSERT INTO week_plan (practitioner_id, digest, body, made_at)"
        f" SELECT id, ?, ?, ? FROM {PERSON}",
        (
            f"{FORMAT}:{made_from}", msgspec.json.encode(dated).decode(), dated.made_at,
            practitioner_id, coach_id,
        ),
    )  # fmt: skip
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")
    db.execute(
        "DELETE FROM week_plan WHERE practitioner_id = ? AND id <= (SELECT id FROM week_plan"
        " WHERE practitioner_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?)",
        (practitioner_id, practitioner_id, MOST_PLANS),
    )
    return dated


def _dated(found: PlannedWeek, made_at: str) -> PlannedWeek:
    return replace(found, made_at=made_at)


def note_drill(db: Database, coach_id: int, practitioner_id: int, drill: str, text: str) -> None:
    """Keep what a coach says to one person of a drill; an empty text takes it away."""
    db.execute(
        f"DELETE FROM drill_note WHERE drill = ? AND practitioner_id IN {PERSON}",
        (drill, practitioner_id, coach_id),
    )
    if text:
        db.execute(
            "INSERT INTO drill_note (practitioner_id, drill, text, said_at)"
            f" SELECT id, ?, ?, ? FROM {PERSON}",
            (drill, text, db.now(), practitioner_id, coach_id),
        )


def drill_notes(db: Database, coach_id: int, practitioner_id: int) -> dict[str, str]:
    """Return what a coach says to one person of drills, by drill."""
    rows = db.execute(
        f"SELECT drill, text FROM drill_note WHERE practitioner_id IN {PERSON}",
        (practitioner_id, coach_id),
    )
    return {r["drill"]: r["text"] for r in rows}
