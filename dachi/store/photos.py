"""Photographs as rows; the pictures themselves lie in the data folder by hash."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from dachi.core.measuring.figure_match import Region
from dachi.store.database import Database
from dachi.store.rows import PHOTO, made

Codes = list[list[float]]


@dataclass(frozen=True, kw_only=True)
class Photo:
    """A stored photograph. ``truth`` is the simulated camera's sidecar."""

    id: int
    sha256: str
    width: int
    height: int
    focal_35mm: float | None
    taken_at: str | None
    origin: str
    truth: Mapping[str, Any] | None
    #: Corners of the codes of corner cards by card, px; None where none were looked for.
    cards: Mapping[int, Codes] | None = None
    #: Joints that were seen in it, px; None where nobody looked yet.
    joints: Mapping[str, tuple[float, float]] | None = None
    #: What is wrong with it for its place (kind, sentence); None where nobody looked yet.
    said: tuple[tuple[str, str], ...] | None = None
    #: How far apart or faintly several looks saw each joint, px.
    apart: Mapping[str, float] = field(default_factory=dict)
    #: How many of its marks want a look; None where nobody looked yet.
    doubtful: int | None = None
    #: The mat's corners (x, y, spread), px, where its outline stands out; None: nobody looked yet.
    outline: Mapping[str, tuple[float, float, float]] | None = None
    #: Joints seen roughly while it lay in the tray, px.
    glimpsed: Mapping[str, tuple[float, float]] = field(default_factory=dict)


def _read(text: str | None) -> Any:
    """Stored JSON; None where nothing was kept."""
    return json.loads(text) if text else None


def _photo(row: sqlite3.Row) -> Photo:
    cards, joints, said = _read(row["cards"]), _read(row["joints"]), _read(row["said"])
    outline = _read(row["outline"])
    return made(
        Photo,
        row,
        truth=_read(row["truth"]),
        cards={int(k): at for k, at in cards.items()} if cards is not None else None,
        joints={k: (at[0], at[1]) for k, at in joints.items()} if joints is not None else None,
        said=tuple((k, w) for k, w in said) if said is not None else None,
        apart={k: at[2] for k, at in (joints or {}).items() if len(at) > 2},
        outline={k: (x, y, sd) for k, (x, y, sd) in outline.items()}
        if outline is not None
        else None,
        glimpsed={k: (x, y) for k, (x, y) in (_read(row["glimpsed"]) or {}).items()},
    )


@dataclass(frozen=True, kw_only=True)
class NewPhoto:
    """A picture that was taken in, to be recorded; hashes of what is kept and of what came."""

    sha256: str
    source_sha256: str
    width: int
    height: int
    focal_35mm: float | None
    taken_at: str | None
    origin: str
    truth: Mapping[str, Any] | None = None


def add(db: Database, coach_id: int, new: NewPhoto) -> int:
    """Record a stored picture, or return the row it already has."""
    row = db.execute(
        "SELECT id FROM photo WHERE coach_id = ? AND source_sha256 = ?",
        (coach_id, new.source_sha256),
    ).fetchone()
    if row:
        return int(row["id"])
    cursor = db.execute(
        "INSERT INTO photo (coach_id, sha256, source_sha256, width, height, focal_35mm,"
        " taken_at, origin, truth, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            coach_id, new.sha256, new.source_sha256, new.width, new.height, new.focal_35mm,
            new.taken_at, new.origin,
            json.dumps(new.truth) if new.truth is not None else None, db.now(),
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def of_assessment(db: Database, coach_id: int, assessment_id: int) -> dict[int, Photo]:
    """Every photograph of an assessment's trials, put away or not, by id."""
    rows = db.execute(
        "SELECT * FROM photo WHERE coach_id = ? AND id IN"
        " (SELECT photo_id FROM trial WHERE assessment_id = ?)",
        (coach_id, assessment_id),
    )
    return {r["id"]: _photo(r) for r in rows}


def get(db: Database, coach_id: int, photo_id: int) -> Photo | None:
    """Return one of the coach's photographs."""
    row = db.execute(
        "SELECT * FROM photo WHERE id = ? AND coach_id = ?", (photo_id, coach_id)
    ).fetchone()
    return _photo(row) if row else None


def set_joints(
    db: Database,
    coach_id: int,
    photo_id: int,
    found: Mapping[str, tuple[float, float]],
    said: Sequence[tuple[str, str]] = (),
    apart: Mapping[str, float] | None = None,
) -> bool:
    """Keep the joints seen in a photograph, how far looks at them lay apart, and what is wrong
    with it (kind, sentence).

    False where the coach has no such photograph.
    """
    told = {k: [round(x, 1), round(y, 1)] for k, (x, y) in found.items()}
    for name, px in (apart or {}).items():
        told[name].append(round(px, 1))
    cursor = db.execute(
        f"UPDATE photo SET joints = ?, said = ? WHERE id IN {PHOTO}",
        (json.dumps(told), json.dumps(list(said)), photo_id, coach_id),
    )
    return cursor.rowcount == 1


def set_doubtful(db: Database, coach_id: int, photo_id: int, count: int) -> None:
    """Keep how many of a photograph's marks want a look."""
    db.execute(f"UPDATE photo SET doubtful = ? WHERE id IN {PHOTO}", (count, photo_id, coach_id))


def set_outline(
    db: Database, coach_id: int, photo_id: int, found: Mapping[str, tuple[float, float, float]]
) -> None:
    """Keep the mat's outline in a photograph, nothing where none stands out."""
    told = {k: [round(v, 2) for v in at] for k, at in found.items()}
    db.execute(
        f"UPDATE photo SET outline = ? WHERE id IN {PHOTO}",
        (json.dumps(told), photo_id, coach_id),
    )


@dataclass(frozen=True)
class Waiting:
    """A photograph nobody has looked at, and what it should show."""

    photo: Photo
    pose: str
    side: str
    variant: Mapping[str, str]
    trial: int


def unseen(db: Database, coach_id: int) -> list[Waiting]:
    """Photographs of open assessments without marks in which joints were not looked for, the
    newest first; simulated ones know theirs.
    """
    rows = db.execute(
        "SELECT ph.*, t.id AS trial_id, t.pose, t.side, t.variant"
        " FROM photo ph JOIN trial t ON t.photo_id = ph.id"
        " JOIN assessment a ON a.id = t.assessment_id WHERE ph.coach_id = ? AND ph.joints IS NULL"
        " AND ph.truth IS NULL AND t.deleted_at IS NULL AND t.marked = 0"
        " AND t.read_from IS NULL AND a.signed_off_at IS NULL ORDER BY t.id DESC",
        (coach_id,),
    )
    return [
        Waiting(_photo(r), r["pose"], r["side"], json.loads(r["variant"]), r["trial_id"])
        for r in rows
    ]


@dataclass(frozen=True, kw_only=True)
class Use:
    """Where a photograph stands: whose it is, in which assessment, as which shot."""

    trial_id: int
    assessment_id: int
    practitioner_id: int
    pose: str
    side: str
    mode: str
    number: int
    call_name: str
    assessed_at: str


def use_of(db: Database, coach_id: int, source_sha256: str) -> Use | None:
    """Return the undeleted trial that already shows these very bytes, if any."""
    row = db.execute(
        "SELECT t.id AS trial_id, t.assessment_id, a.practitioner_id, t.pose, t.side, t.mode,"
        " t.number, pr.call_name, a.taken_at AS assessed_at"
        " FROM photo ph JOIN trial t ON t.photo_id = ph.id AND t.deleted_at IS NULL"
        " JOIN assessment a ON a.id = t.assessment_id"
        " JOIN practitioner pr ON pr.id = a.practitioner_id"
        " WHERE ph.coach_id = ? AND ph.source_sha256 = ? LIMIT 1",
        (coach_id, source_sha256),
    ).fetchone()
    return made(Use, row) if row else None


def set_cards(db: Database, coach_id: int, photo_id: int, found: Mapping[str, Codes]) -> bool:
    """Keep the codes found in a photograph; False where the coach has no such photograph."""
    cursor = db.execute(
        f"UPDATE photo SET cards = ? WHERE id IN {PHOTO}", (json.dumps(found), photo_id, coach_id)
    )
    return cursor.rowcount == 1


def head(db: Database, coach_id: int, photo_id: int) -> Region | None:
    """Return where the coach said the head is, px of the stored photograph."""
    row = db.execute(
        f"SELECT * FROM head_region WHERE photo_id IN {PHOTO}", (photo_id, coach_id)
    ).fetchone()
    return Region(row["x"], row["y"], row["radius"]) if row else None


def set_head(db: Database, coach_id: int, photo_id: int, region: Region) -> bool:
    """Keep where the head is; False where the coach has no such photograph."""
    cursor = db.execute(
        f"INSERT INTO head_region (photo_id, x, y, radius) SELECT id, ?, ?, ? FROM {PHOTO}"
        " WHERE true ON CONFLICT (photo_id) DO UPDATE SET x = excluded.x, y = excluded.y,"
        " radius = excluded.radius",
        (region.x, region.y, region.radius, photo_id, coach_id),
    )
    return cursor.rowcount == 1


@dataclass(frozen=True)
class Shows:
    """Whom and what a photograph shows, as far as its newest use tells."""

    practitioner_id: int
    trial_id: int | None


def shows(db: Database, coach_id: int, photo_id: int) -> Shows | None:
    """Return the practitioner (and trial) a photograph belongs to, trays included."""
    row = db.execute(
        "SELECT a.practitioner_id, t.id AS trial_id, t.deleted_at IS NULL AS live FROM trial t"
        f" JOIN assessment a ON a.id = t.assessment_id WHERE t.photo_id IN {PHOTO}"
        " UNION ALL SELECT a.practitioner_id, NULL, 0 FROM tray y"
        f" JOIN assessment a ON a.id = y.assessment_id WHERE y.photo_id IN {PHOTO}"
        " ORDER BY 3 DESC, 2 DESC NULLS LAST LIMIT 1",
        (photo_id, coach_id, photo_id, coach_id),
    ).fetchone()
    return Shows(row["practitioner_id"], row["trial_id"]) if row else None


def under_key(db: Database, coach_id: int, assessment_id: int, once_key: str) -> str | None:
    """Return the hash of the source that was sent under a key before; None where none was."""
    row = db.execute(
        "SELECT ph.source_sha256 FROM trial t JOIN photo ph ON ph.id = t.photo_id"
        " WHERE ph.coach_id = ? AND t.assessment_id = ? AND t.once_key = ?",
        (coach_id, assessment_id, once_key),
    ).fetchone()
    return row["source_sha256"] if row else None


def people_on(db: Database, coach_id: int, photo_id: int) -> set[int]:
    """Return everybody whose trials or trays hold a photograph: the same bytes may be of two."""
    rows = db.execute(
        "SELECT a.practitioner_id FROM trial t JOIN assessment a ON a.id = t.assessment_id"
        f" WHERE t.deleted_at IS NULL AND t.photo_id IN {PHOTO}"
        " UNION SELECT a.practitioner_id FROM tray y JOIN assessment a ON a.id = y.assessment_id"
        f" WHERE y.photo_id IN {PHOTO}",
        (photo_id, coach_id, photo_id, coach_id),
    )
    return {r["practitioner_id"] for r in rows}


def withheld(db: Database, coach_id: int) -> set[str]:
    """Return the hashes of pictures that show anybody whose consent is withdrawn."""
    # From the few who withdrew to their photographs, not through every photograph there is.
    shown = (
        "SELECT ph.sha256 FROM consent_now c CROSS JOIN assessment a"
        " ON a.practitioner_id = c.practitioner_id CROSS JOIN {} x ON x.assessment_id = a.id"
        " CROSS JOIN photo ph ON ph.id = x.photo_id"
        " WHERE c.withdrawn_on IS NOT NULL AND ph.coach_id = ?"
    )
    rows = db.execute(f"{shown.format('trial')} UNION {shown.format('tray')}", (coach_id, coach_id))
    return {r["sha256"] for r in rows}


def known_hashes(db: Database) -> set[str]:
    """Return the hash of every recorded picture of every coach."""
    return {r["sha256"] for r in db.execute("SELECT sha256 FROM photo")}
