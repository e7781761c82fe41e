"""Assessments and their trials. Every query says whose."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass

from dachi.core.assessing.runsheet import Slot
from dachi.core.words import Status
from dachi.store.database import Conflict, Database
from dachi.store.rows import NEWEST, TRIAL, VISIT, made

#: Trials of a row that can have a photograph.
MOST_TRIALS = 9


@dataclass(frozen=True, kw_only=True)
class Assessment:
    """One visit with measurements. ``taken_at`` is local time, ISO to the minute."""

    id: int
    practitioner_id: int
    taken_at: str
    warmth: str
    notes: str
    revision: int = 0
    signed_off_at: str | None = None
    still: bool = False
    #: The person's name that nobody else has.
    person_uid: str = ""


@dataclass(frozen=True, kw_only=True)
class Trial:
    """One photographed attempt; ``status`` as its newest marking's checks have it.

    ``read_from`` says where its readings are from, where they are not from its photograph,
    ``held_with`` the trial whose photograph shows the same hold from elsewhere.
    """

    id: int
    assessment_id: int
    practitioner_id: int
    photo_id: int
    sha256: str
    position_id: int | None
    pose: str
    side: str
    mode: str
    variant: Mapping[str, str]
    number: int
    status: Status
    overruled: bool
    deleted: bool
    prop_cm: float | None = None
    read_from: str | None = None
    held_with: int | None = None
    person_uid: str = ""

    @property
    def valid(self) -> bool:
        """Whether its readings enter the series."""
        return self.status.counts(overruled=self.overruled)

    @property
    def asks_again(self) -> bool:
        """Whether a check asks for another photograph."""
        return self.status.asks_again(overruled=self.overruled)

    @property
    def marked(self) -> bool:
        """Whether somebody has marked it."""
        return self.status is not Status.UNMARKED

    @property
    def slot(self) -> Slot:
        """Where it stands on its sheet."""
        return Slot(self.pose, self.side, self.mode, self.number)


_ASSESSMENT = (
    "SELECT a.*, p.uid AS person_uid FROM assessment a"
    " JOIN practitioner p ON p.id = a.practitioner_id WHERE p.coach_id = ?"
)

#: A marking's status by its checks, worst first of what they say; ok without any.
STATUS = (
    "coalesce((SELECT status FROM check_result c WHERE c.marking_id = m.id"
    " ORDER BY c.status = 'retake' DESC, c.status = 'watch' DESC LIMIT 1), 'ok')"
)
_TRIAL = (
    "SELECT t.*, a.practitioner_id, p.uid AS person_uid, ph.sha256,"
    " t.deleted_at IS NOT NULL AS deleted,"
    " coalesce(m.overrule_reason, '') <> '' AS overruled,"
    f" CASE WHEN m.id IS NULL THEN 'unmarked' ELSE {STATUS} END AS status"
    " FROM trial t JOIN assessment a ON a.id = t.assessment_id"
    " JOIN practitioner p ON p.id = a.practitioner_id"
    " JOIN photo ph ON ph.id = t.photo_id"
    f" LEFT JOIN marking m ON m.trial_id = t.id AND m.number = {NEWEST.format('t')}"
    " WHERE p.coach_id = ?"
)


def _assessment(row: sqlite3.Row) -> Assessment:
    return made(Assessment, row, still=bool(row["still"]))


def _trial(row: sqlite3.Row) -> Trial:
    return made(
        Trial, row, variant=json.loads(row["variant"]), status=Status(row["status"]),
        overruled=bool(row["overruled"]), deleted=bool(row["deleted"]),
    )  # fmt: skip


def still(db: Database, coach_id: int, practitioner_id: int) -> set[int]:
    """Return the assessments since whose predecessor nothing was practised."""
    rows = db.execute(
        "SELECT a.id FROM assessment a JOIN practitioner p ON p.id = a.practitioner_id"
        " WHERE p.coach_id = ? AND p.id = ? AND a.still = 1",
        (coach_id, practitioner_id),
    )
    return {r["id"] for r in rows}


def add(
    db: Database,
    coach_id: int,
    practitioner_id: int,
    *,
    taken_at: str,
    warmth: str,
    notes: str = "",
    once_key: str | None = None,
) -> int:
    """Add an assessment; the same ``once_key`` again returns the first one's id."""
    if once_key:
        row = db.execute(_ASSESSMENT + " AND a.once_key = ?", (coach_id, once_key)).fetchone()
        if row:
            return int(row["id"])
    cursor = db.execute(
        "INSERT INTO assessment (practitioner_id, taken_at, warmth, notes, once_key, created_at)"
        " SELECT id, ?, ?, ?, ?, ? FROM practitioner WHERE id = ? AND coach_id = ?",
        (taken_at, warmth, notes, once_key, db.now(), practitioner_id, coach_id),
    )
    if cursor.rowcount != 1:
        raise Conflict("There is no such practitioner.")
    return int(cursor.lastrowid or 0)


def update(
    db: Database,
    coach_id: int,
    assessment_id: int,
    *,
    taken_at: str,
    warmth: str,
    notes: str,
) -> bool:
    """Change date, warmth and notes."""
    cursor = db.execute(
        "UPDATE assessment SET taken_at = ?, warmth = ?, notes = ? WHERE id IN " + VISIT,
        (taken_at, warmth, notes, assessment_id, coach_id),
    )
    return cursor.rowcount == 1


def set_still(db: Database, coach_id: int, assessment_id: int, still: bool) -> None:
    """Say whether nothing was practised since the visit before."""
    db.execute(
        "UPDATE assessment SET still = ? WHERE id IN " + VISIT,
        (int(still), assessment_id, coach_id),
    )


def get(db: Database, coach_id: int, assessment_id: int) -> Assessment | None:
    """Return one assessment."""
    row = db.execute(_ASSESSMENT + " AND a.id = ?", (coach_id, assessment_id)).fetchone()
    return _assessment(row) if row else None


def of_practitioner(db: Database, coach_id: int, practitioner_id: int) -> list[Assessment]:
    """Return a practitioner's assessments, newest first."""
    rows = db.execute(
        _ASSESSMENT + " AND a.practitioner_id = ? ORDER BY a.taken_at DESC, a.id DESC",
        (coach_id, practitioner_id),
    )
    return [_assessment(r) for r in rows]


def open_of_others(
    db: Database, coach_id: int, practitioner_id: int, most: int
) -> list[Assessment]:
    """Return open assessments of the coach's other people, newest first."""
    rows = db.execute(
        _ASSESSMENT + " AND a.practitioner_id <> ? AND a.signed_off_at IS NULL"
        " ORDER BY a.taken_at DESC, a.id DESC LIMIT ?",
        (coach_id, practitioner_id, most),
    )
    return [_assessment(r) for r in rows]


def add_trial(
    db: Database,
    coach_id: int,
    assessment_id: int,
    photo_id: int,
    slot: Slot,
    *,
    variant: Mapping[str, str],
    once_key: str | None = None,
    position_id: int | None = None,
) -> int:
    """Add a trial. Conflict where its place is taken or none, or the assessment is not theirs."""
    if once_key:
        row = db.execute(_TRIAL + " AND t.once_key = ?", (coach_id, once_key)).fetchone()
        if row:
            return int(row["id"])
    if get(db, coach_id, assessment_id) is None:
        raise Conflict("There is no such assessment.")
    _free(db, coach_id, assessment_id, slot, "Delete it first, or choose another trial.")
    cursor = db.execute(
        "INSERT INTO trial (assessment_id, photo_id, position_id, pose, side, mode, variant,"
        " number, once_key, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            assessment_id, photo_id, position_id, slot.pose, slot.side, slot.mode,
            json.dumps(dict(variant), sort_keys=True), slot.number, once_key, db.now(),
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def _free(db: Database, coach_id: int, assessment_id: int, slot: Slot, then: str) -> None:
    """Conflict where a place of the sheet is taken, or beyond the last there is."""
    if not 1 <= slot.number <= MOST_TRIALS:
        raise Conflict(
            f"A row has {MOST_TRIALS} trials at most: there is no trial {slot.number} of "
            f"{slot.side} {slot.mode}."
        )
    if trial_at(db, coach_id, assessment_id, slot) is not None:
        raise Conflict(
            f"Trial {slot.number} of {slot.side} {slot.mode} already has a photograph. {then}"
        )


def read_elsewhere(db: Database, coach_id: int, trial_id: int, source: str) -> None:
    """Keep that a trial's readings came from somewhere else."""
    db.execute(
        "UPDATE trial SET read_from = ? WHERE id IN " + TRIAL,
        (source, trial_id, coach_id),
    )


def hold_with(db: Database, coach_id: int, trial_id: int, other: int | None) -> bool:
    """Say which other trial shows the same hold from elsewhere; None for none."""
    cursor = db.execute(
        "UPDATE trial SET held_with = ? WHERE id IN " + TRIAL,
        (other, trial_id, coach_id),
    )
    return cursor.rowcount == 1


def without_photograph(db: Database, coach_id: int, practitioner_id: int) -> set[int]:
    """Ids of a practitioner's trials that were read elsewhere."""
    rows = db.execute(
        "SELECT t.id FROM trial t JOIN assessment a ON a.id = t.assessment_id JOIN practitioner p"
        " ON p.id = a.practitioner_id WHERE p.coach_id = ? AND p.id = ?"
        " AND t.read_from IS NOT NULL",
        (coach_id, practitioner_id),
    )
    return {r["id"] for r in rows}


def trial(db: Database, coach_id: int, trial_id: int) -> Trial | None:
    """Return one trial, deleted or not."""
    row = db.execute(_TRIAL + " AND t.id = ?", (coach_id, trial_id)).fetchone()
    return _trial(row) if row else None


def trials(db: Database, coach_id: int, assessment_id: int) -> list[Trial]:
    """Return the undeleted trials of an assessment in the order they were taken."""
    rows = db.execute(
        _TRIAL + " AND t.assessment_id = ? AND t.deleted_at IS NULL ORDER BY t.id",
        (coach_id, assessment_id),
    )
    return [_trial(r) for r in rows]


def trial_at(db: Database, coach_id: int, assessment_id: int, slot: Slot) -> Trial | None:
    """Return the undeleted trial in a place of the sheet."""
    row = db.execute(
        _TRIAL + " AND t.assessment_id = ? AND t.pose = ? AND t.side = ? AND t.mode = ?"
        " AND t.number = ? AND t.deleted_at IS NULL",
        (coach_id, assessment_id, slot.pose, slot.side, slot.mode, slot.number),
    ).fetchone()
    return _trial(row) if row else None


def move_trial(
    db: Database,
    coach_id: int,
    trial_id: int,
    slot: Slot,
    variant: Mapping[str, str],
    position_id: int,
) -> None:
    """Say that a photograph shows another shot; Conflict where the place is taken.

    Marks of another pose name other joints: they are put away, and come back when the
    photograph is moved back to where they belong. The other side's are the same joints.
    """
    old = trial(db, coach_id, trial_id)
    if old is None:
        raise Conflict("There is no such photograph.")
    if old.slot != slot or old.deleted:
        _free(db, coach_id, old.assessment_id, slot, "Choose another place.")
    db.execute(
        "UPDATE trial SET pose = ?, side = ?, mode = ?, number = ?, variant = ?,"
        " position_id = ? WHERE id = ?",
        (
            slot.pose, slot.side, slot.mode, slot.number,
            json.dumps(dict(variant), sort_keys=True), position_id, trial_id,
        ),
    )  # fmt: skip
    if old.pose != slot.pose:
        _put_markings_away(db, old)
        _take_markings_back(db, old, slot)
        db.execute(
            "UPDATE trial SET marked = EXISTS (SELECT 1 FROM marking WHERE trial_id = trial.id)"
            " WHERE id = ?",
            (trial_id,),
        )


def _put_markings_away(db: Database, old: Trial) -> None:
    """Hand a trial's markings to a deleted copy of what it was."""
    cursor = db.execute(
        "INSERT INTO trial (assessment_id, photo_id, position_id, pose, side, mode, variant,"
        " number, created_at, deleted_at, prop_cm, marked) SELECT assessment_id, photo_id, ?, ?, ?,"
        " ?, ?, ?, created_at, ?, prop_cm, 1 FROM trial WHERE id = ? AND marked = 1",
        (
            old.position_id, old.pose, old.side, old.mode,
            json.dumps(dict(old.variant), sort_keys=True), old.number, db.now(), old.id,
        ),
    )  # fmt: skip
    if cursor.rowcount == 1:
        _hand_over(db, old.id, int(cursor.lastrowid or 0))
    for table in ("draft", "second_opinion"):
        db.execute(f"DELETE FROM {table} WHERE trial_id = ?", (old.id,))


def _take_markings_back(db: Database, old: Trial, slot: Slot) -> None:
    """Give a trial the markings that the same photograph was given as this pose."""
    row = db.execute(
        "SELECT id FROM trial WHERE assessment_id = ? AND photo_id = ? AND pose = ?"
        " AND deleted_at IS NOT NULL AND marked = 1 ORDER BY deleted_at DESC, id DESC LIMIT 1",
        (old.assessment_id, old.photo_id, slot.pose),
    ).fetchone()
    if row is not None:
        _hand_over(db, row["id"], old.id)
        db.execute("UPDATE trial SET marked = 0 WHERE id = ?", (row["id"],))


def _hand_over(db: Database, one: int, other: int) -> None:
    for table in ("marking", "second_opinion"):
        db.execute(f"UPDATE {table} SET trial_id = ? WHERE trial_id = ?", (other, one))


def put_away(db: Database, coach_id: int, assessment_id: int) -> list[Trial]:
    """Deleted trials whose photograph is nowhere else in the assessment, newest first."""
    rows = db.execute(
        _TRIAL + " AND t.assessment_id = ? AND t.deleted_at IS NOT NULL AND NOT EXISTS"
        " (SELECT 1 FROM trial o WHERE o.photo_id = t.photo_id AND o.assessment_id ="
        "  t.assessment_id AND (o.deleted_at IS NULL OR o.id > t.id))"
        " ORDER BY t.deleted_at DESC, t.id DESC",
        (coach_id, assessment_id),
    )
    return [_trial(r) for r in rows]


def delete_trial(db: Database, coach_id: int, trial_id: int) -> bool:
    """Put a trial away; ``restore_trial`` brings it back."""
    cursor = db.execute(
        "UPDATE trial SET deleted_at = ? WHERE deleted_at IS NULL AND id IN " + TRIAL,
        (db.now(), trial_id, coach_id),
    )
    return cursor.rowcount == 1


def restore_trial(db: Database, coach_id: int, trial_id: int) -> bool:
    """Bring a deleted trial back. Conflict where its place has been taken since."""
    old = trial(db, coach_id, trial_id)
    if old is None or not old.deleted:
        return False
    if trial_at(db, coach_id, old.assessment_id, old.slot) is not None:
        raise Conflict("Another photograph has taken this trial's place: delete that one first.")
    db.execute("UPDATE trial SET deleted_at = NULL WHERE id = ?", (trial_id,))
    return True


def set_details(
    db: Database,
    coach_id: int,
    trial_id: int,
    variant: Mapping[str, str],
    prop_cm: float | None,
) -> bool:
    """Say how the pose was done: its variant and the height of what supported it, cm."""
    cursor = db.execute(
        "UPDATE trial SET variant = ?, prop_cm = ? WHERE id IN " + TRIAL,
        (json.dumps(dict(variant), sort_keys=True), prop_cm, trial_id, coach_id),
    )
    return cursor.rowcount == 1
