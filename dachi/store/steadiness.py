"""How a coach's readings usually are: their own spread and how many are taken."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec

from dachi.store.database import Database


class _Line(msgspec.Struct):
    """What is asked of a line of a summary; the rest of it is passed over."""

    mode: str
    count: int
    trial: int


class _Family(msgspec.Struct):
    family: str
    lines: list[_Line]


@dataclass(frozen=True)
class Usual:
    """Spreads of readings that are new at each shot, trials a session, and people measured."""

    sds: tuple[float, ...]
    counts: tuple[int, ...]
    people: int


#: Spreads of readings are looked up for so many newest lines of a pose, family and mode.
MOST_SPREADS = 60


def usual(db: Database, coach_id: int) -> dict[tuple[str, str, str], Usual]:
    """Return what is usual by pose, family and mode, from the newest session of every line."""
    rows = db.execute(
        "SELECT d.practitioner_id, d.pose, d.body FROM pose_summary d"
        " JOIN practitioner p ON p.id = d.practitioner_id WHERE p.coach_id = ?"
        " ORDER BY d.updated_at DESC",
        (coach_id,),
    )
    found: dict[tuple[str, str, str], list[tuple[int, int, int]]] = {}
    for r in rows:
        for f in msgspec.json.decode(r["body"], type=list[_Family]):
            for x in f.lines:
                row = (r["practitioner_id"], x.count, x.trial)
                found.setdefault((r["pose"], f.family, x.mode), []).append(row)
    asked = [trial for own in found.values() for _, _, trial in own[:MOST_SPREADS]]
    sds = _spreads(db, asked)
    return {
        key: Usual(
            tuple(sds.get(trial, 0.0) for _, _, trial in own[:MOST_SPREADS]),
            tuple(count for _, count, _ in own),
            len({person for person, _, _ in own}),
        )
        for key, own in found.items()
    }


def _spreads(db: Database, trials: Sequence[int]) -> dict[int, float]:
    """The spread that is new at each shot, of the newest marking of each trial."""
    if not trials:
        return {}
    rows = db.execute(
        "SELECT m.trial_id, coalesce(max(r.sd_change), max(0.8 * r.sd)) AS sd"
        " FROM reading r JOIN marking m ON m.id = r.marking_id"
        " WHERE r.headline = 1 AND m.number ="
        " (SELECT max(number) FROM marking x WHERE x.trial_id = m.trial_id)"
        f" AND m.trial_id IN ({', '.join('?' * len(trials))}) GROUP BY m.trial_id",
        trials,
    )
    return {r["trial_id"]: r["sd"] for r in rows}
