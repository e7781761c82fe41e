"""How a coach's readings usually are: their own spread and how many are taken."""

from __future__ import annotations

from dataclasses import dataclass

from dachi.store.database import Database


@dataclass(frozen=True)
class Usual:
    """Spreads of readings that are new at each shot, trials a session, and people measured."""

    sds: tuple[float, ...]
    counts: tuple[int, ...]
    people: int


def usual(db: Database, coach_id: int) -> dict[tuple[str, str, str], Usual]:
    """Return what is usual by pose, family and mode, from the newest session of every line."""
    rows = db.execute(
        "SELECT d.practitioner_id, d.pose, f.value ->> 'family' AS family,"
        " l.value ->> 'mode' AS mode, l.value ->> 'count' AS count, l.value ->> 'trial' AS trial"
        " FROM pose_summary d JOIN practitioner p ON p.id = d.practitioner_id,"
        " json_each(d.body) f, json_each(f.value, '$.lines') l WHERE p.coach_id = ?",
        (coach_id,),
    ).fetchall()
    sds = {
        r["trial_id"]: r["sd"]
        for r in db.execute(
            "SELECT m.trial_id, coalesce(max(r.sd_change), max(0.8 * r.sd)) AS sd"
            " FROM reading r JOIN marking m ON m.id = r.marking_id"
            " WHERE r.headline = 1 AND m.number ="
            " (SELECT max(number) FROM marking x WHERE x.trial_id = m.trial_id)"
            f" AND m.trial_id IN ({', '.join('?' * len(rows))}) GROUP BY m.trial_id",
            [r["trial"] for r in rows],
        )
    } if rows else {}  # fmt: skip
    found: dict[tuple[str, str, str], list[tuple[int, int, float]]] = {}
    for r in rows:
        row = (r["practitioner_id"], r["count"], sds.get(r["trial"], 0.0))
        found.setdefault((r["pose"], r["family"], r["mode"]), []).append(row)
    return {
        key: Usual(tuple(x[2] for x in own), tuple(x[1] for x in own), len({x[0] for x in own}))
        for key, own in found.items()
    }
