"""Markings whose readings other rules computed, whoever's they are: upkeep of the whole folder."""

from __future__ import annotations

from dachi.store.database import Database


def ids(db: Database, made_from: str | None) -> dict[int, list[int]]:
    """Ids of markings with readings made from something else, by coach; of all where None.

    A person's markings stand together.
    """
    rows = db.execute(
        "SELECT DISTINCT p.coach_id, p.id, r.marking_id FROM reading r"
        " JOIN marking m ON m.id = r.marking_id JOIN trial t ON t.id = m.trial_id"
        " JOIN assessment a ON a.id = t.assessment_id JOIN practitioner p"
        " ON p.id = a.practitioner_id WHERE t.read_from IS NULL AND (? IS NULL OR r.made_from <> ?)"
        " ORDER BY p.coach_id, p.id, r.marking_id",
        (made_from, made_from),
    )
    found: dict[int, list[int]] = {}
    for r in rows:
        found.setdefault(r["coach_id"], []).append(r["marking_id"])
    return found


def coaches(db: Database) -> list[int]:
    """Ids of every coach of the folder."""
    return [r["id"] for r in db.execute("SELECT id FROM coach ORDER BY id")]
