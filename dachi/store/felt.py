"""What coach and practitioner felt, one tap each; kept beside readings and never mixed in."""

from __future__ import annotations

from dachi.store.database import Database

#: What may be felt: the question, and answers in words.
KINDS: dict[str, tuple[str, dict[str, str]]] = {
    "tighter": (
        "Tighter today",
        {"left": "left", "right": "right", "alike": "both alike"},
    ),
    "catch": (
        "A circle of the hip catches",
        {
            "none": "nowhere",
            "left front": "left, front", "left out": "left, outward", "left back": "left, back",
            "right front": "right, front", "right out": "right, outward",
            "right back": "right, back",
        },
    ),
    "start": ("At the start", {"stiff": "stiff", "usual": "as usual", "easy": "easy"}),
    "again": (
        "The same movement at the end",
        {"freer": "freer", "same": "the same", "tighter": "tighter"},
    ),
}  # fmt: skip

_OWN_VISIT = (
    "SELECT a.id, a.practitioner_id FROM assessment a JOIN practitioner p"
    " ON p.id = a.practitioner_id WHERE p.coach_id = ? AND a.id = ?"
)
_OWN_LOG = (
    "SELECT l.id, l.practitioner_id FROM practice_log l JOIN practitioner p"
    " ON p.id = l.practitioner_id WHERE p.coach_id = ? AND l.id = ?"
)


def known(kind: str, answer: str) -> bool:
    """Whether a question has such an answer; an empty one takes it back."""
    return kind in KINDS and (answer == "" or answer in KINDS[kind][1])


def at_visit(db: Database, coach_id: int, assessment_id: int, kind: str, answer: str) -> None:
    """Keep what was felt at a visit; the same tap again takes it back."""
    _keep(db, _OWN_VISIT, "assessment_id", coach_id, assessment_id, kind, answer)


def at_session(db: Database, coach_id: int, log_id: int, kind: str, answer: str) -> None:
    """Keep what was felt in a practised session."""
    _keep(db, _OWN_LOG, "log_id", coach_id, log_id, kind, answer)


def _keep(
    db: Database, own: str, column: str, coach_id: int, at: int, kind: str, answer: str
) -> None:
    if not known(kind, answer):
        raise ValueError(f"{kind} {answer}")
    db.execute(
        f"DELETE FROM felt WHERE kind = ? AND {column} IN (SELECT id FROM ({own}))",
        (kind, coach_id, at),
    )
    if answer:
        db.execute(
            f"INSERT INTO felt (practitioner_id, {column}, kind, answer, saved_at)"
            f" SELECT practitioner_id, id, ?, ?, ? FROM ({own})",
            (kind, answer, db.now(), coach_id, at),
        )


def of_visit(db: Database, coach_id: int, assessment_id: int) -> dict[str, str]:
    """Return what was felt at a visit, by kind."""
    rows = db.execute(
        f"SELECT kind, answer FROM felt WHERE assessment_id IN (SELECT id FROM ({_OWN_VISIT}))",
        (coach_id, assessment_id),
    )
    return {r["kind"]: r["answer"] for r in rows}


def of_practitioner(
    db: Database, coach_id: int, practitioner_id: int
) -> list[tuple[str, dict[str, str]]]:
    """Return the days (ISO) on which anything was felt and what, newest first."""
    rows = db.execute(
        "SELECT coalesce(a.taken_at, l.started_at) AS at, f.kind, f.answer FROM felt f"
        " JOIN practitioner p ON p.id = f.practitioner_id"
        " LEFT JOIN assessment a ON a.id = f.assessment_id"
        " LEFT JOIN practice_log l ON l.id = f.log_id AND l.removed_at IS NULL"
        " WHERE p.coach_id = ? AND p.id = ? AND coalesce(a.taken_at, l.started_at) IS NOT NULL"
        " ORDER BY at DESC, f.id",
        (coach_id, practitioner_id),
    )
    found: dict[str, dict[str, str]] = {}
    for r in rows:
        found.setdefault(r["at"], {})[r["kind"]] = r["answer"]
    return list(found.items())


def say(found: dict[str, str]) -> str:
    """What was felt in one line; empty where nothing was."""
    parts = []
    for kind, (question, answers) in KINDS.items():
        if kind in found:
            parts.append(f"{question.lower()}: {answers[found[kind]]}")
    said = "; ".join(parts)
    return f"Felt: {said}." if said else ""
