"""What other rules derived, whoever's it is: upkeep of the whole folder."""

from __future__ import annotations

from dachi.store.database import Database


def people(db: Database, version: str | None) -> dict[int, dict[int, int]]:
    """How many newest markings of each person, by coach, other rules have read; all where None.

    Those who were here last come first.
    """
    rows = db.execute(
        "SELECT p.coach_id, p.id, count(*) AS markings FROM practitioner p"
        " JOIN assessment a ON a.practitioner_id = p.id"
        " JOIN trial t ON t.assessment_id = a.id AND t.deleted_at IS NULL AND t.read_from IS NULL"
        " JOIN marking m ON m.trial_id = t.id"
        " AND m.number = (SELECT max(number) FROM marking WHERE trial_id = t.id)"
        " WHERE ? IS NULL OR substr(m.made_from, 1, length(?)) <> ?"
        " GROUP BY p.id ORDER BY p.coach_id, max(a.taken_at) DESC, p.id",
        (version, version, version),
    )
    found: dict[int, dict[int, int]] = {}
    for r in rows:
        found.setdefault(r["coach_id"], {})[r["id"]] = r["markings"]
    return found


def coaches(db: Database) -> list[int]:
    """Ids of every coach of the folder."""
    return [r["id"] for r in db.execute("SELECT id FROM coach ORDER BY id")]
