"""Proposals to change a plan, open and decided."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import msgspec

from dachi.core.practising.progression import Adjustment, Proposal, ProposalKind
from dachi.store.database import Database

#: What was decided is not asked again within this many days.
ASK_AGAIN_DAYS = 14

_OWN = "SELECT id FROM practitioner WHERE id = ? AND coach_id = ?"


@dataclass(frozen=True)
class Offered:
    """A stored proposal."""

    id: int
    kind: ProposalKind
    subject: str
    text: str
    reason: str
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
    keys = {(p.kind, p.subject, p.text) for p in found}
    rows = db.execute(
        f"SELECT * FROM proposal WHERE practitioner_id IN ({_OWN}) AND (decided_at IS NULL"
        " OR decided_at > ?)",
        (practitioner_id, coach_id, since),
    ).fetchall()
    known = {(r["kind"], r["subject"], r["text"]) for r in rows}
    db.executemany(
        "DELETE FROM proposal WHERE id = ?",
        [
            (r["id"],)
            for r in rows
            if r["decided_at"] is None and (r["kind"], r["subject"], r["text"]) not in keys
        ],
    )
    db.executemany(
        "INSERT INTO proposal (practitioner_id, kind, subject, text, reason, change, made_at)"
        f" SELECT id, ?, ?, ?, ?, ?, ? FROM ({_OWN})",
        [
            (
                p.kind,
                p.subject,
                p.text,
                p.reason,
                msgspec.json.encode(p.change).decode(),
                db.now(),
                practitioner_id,
                coach_id,
            )
            for p in found
            if (p.kind, p.subject, p.text) not in known
        ],
    )


def of_practitioner(db: Database, coach_id: int, practitioner_id: int) -> list[Offered]:
    """Return proposals, open ones first, then the newest decided."""
    rows = db.execute(
        f"SELECT * FROM proposal WHERE practitioner_id IN ({_OWN})"
        " ORDER BY decided_at IS NOT NULL, CASE WHEN decided_at IS NULL THEN instr("
        " 'refer back ease easy_week advance hold', kind) ELSE 0 END,"
        " coalesce(decided_at, made_at) DESC, id DESC LIMIT 60",
        (practitioner_id, coach_id),
    )
    return [
        Offered(
            r["id"],
            ProposalKind(r["kind"]),
            r["subject"],
            r["text"],
            r["reason"],
            msgspec.json.decode(r["change"], type=Adjustment),
            r["made_at"],
            r["decided_at"],
            None if r["accepted"] is None else bool(r["accepted"]),
        )
        for r in rows
    ]


def decide(
    db: Database, coach_id: int, practitioner_id: int, proposal_id: int, accepted: bool
) -> bool:
    """Accept or decline an open proposal."""
    cursor = db.execute(
        "UPDATE proposal SET decided_at = ?, accepted = ? WHERE id = ? AND decided_at IS NULL"
        f" AND practitioner_id IN ({_OWN})",
        (db.now(), int(accepted), proposal_id, practitioner_id, coach_id),
    )
    return cursor.rowcount == 1
