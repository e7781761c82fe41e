"""Proposals to change a plan, open and decided."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import msgspec

from dachi.core.practising.progression import Adjustment, Proposal, ProposalKind, Why
from dachi.store.database import Database
from dachi.store.rows import PERSON, made

#: What was decided is not asked again within this many days.
ASK_AGAIN_DAYS = 14


@dataclass(frozen=True, kw_only=True)
class Offered:
    """A stored proposal."""

    id: int
    kind: ProposalKind
    why: Why
    subject: str
    about: Mapping[str, str | float]
    change: Adjustment
    made_at: str
    decided_at: str | None
    accepted: bool | None


def offer(db: Database, coach_id: int, practitioner_id: int, found: Sequence[Proposal]) -> None:
    """Put new proposals beside the open ones; what was decided lately is not asked again.

    Open ones that no longer hold are taken away.
    """
    now = datetime.fromisoformat(db.now())
    since = (now - timedelta(days=ASK_AGAIN_DAYS)).isoformat(timespec="milliseconds")
    wanted = {(p.kind, p.why, p.subject, _text(p.change)): p for p in found}
    rows = db.execute(
        f"SELECT * FROM proposal WHERE practitioner_id IN {PERSON} AND (decided_at IS NULL"
        " OR decided_at > ?)",
        (practitioner_id, coach_id, since),
    ).fetchall()
    known = {(r["kind"], r["why"], r["subject"], r["change"]): r for r in rows}
    gone = [k for k, r in known.items() if r["decided_at"] is None and k not in wanted]
    db.executemany("DELETE FROM proposal WHERE id = ?", [(known[k]["id"],) for k in gone])
    db.executemany(
        "INSERT INTO proposal (practitioner_id, kind, why, subject, about, change, made_at)"
        f" SELECT id, ?, ?, ?, ?, ?, ? FROM {PERSON}",
        [
            (
                p.kind, p.why, p.subject, json.dumps(p.about, sort_keys=True), key[3], db.now(),
                practitioner_id, coach_id,
            )
            for key, p in wanted.items()
            if key not in known
        ],
    )  # fmt: skip


def _text(change: Adjustment) -> str:
    return msgspec.json.encode(change, order="deterministic").decode()


def of_practitioner(db: Database, coach_id: int, practitioner_id: int) -> list[Offered]:
    """Return proposals, open ones first by what presses most, then the newest decided."""
    rows = db.execute(
        f"SELECT * FROM proposal WHERE practitioner_id IN {PERSON}"
        " ORDER BY decided_at IS NOT NULL, coalesce(decided_at, made_at) DESC, id DESC LIMIT 60",
        (practitioner_id, coach_id),
    )
    found = [
        made(
            Offered,
            r,
            kind=ProposalKind(r["kind"]),
            why=Why(r["why"]),
            about=json.loads(r["about"]),
            change=msgspec.json.decode(r["change"], type=Adjustment),
            accepted=None if r["accepted"] is None else bool(r["accepted"]),
        )
        for r in rows
    ]
    order = tuple(ProposalKind)
    return [
        *sorted((o for o in found if o.decided_at is None), key=lambda o: order.index(o.kind)),
        *(o for o in found if o.decided_at is not None),
    ]


def decide(
    db: Database, coach_id: int, practitioner_id: int, proposal_id: int, accepted: bool
) -> bool:
    """Accept or decline an open proposal."""
    cursor = db.execute(
        "UPDATE proposal SET decided_at = ?, accepted = ? WHERE id = ? AND decided_at IS NULL"
        f" AND practitioner_id IN {PERSON}",
        (db.now(), int(accepted), proposal_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1
