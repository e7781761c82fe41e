"""How dates, poses and states are said."""

from __future__ import annotations

from datetime import datetime

from dachi.data import catalogue

STATUS_WORDS = {
    "unmarked": "to mark",
    "ok": "valid",
    "watch": "valid, look again",
    "retake": "take it again",
}
STATUS_SIGNS = {"unmarked": "○", "ok": "✓", "watch": "!", "retake": "↺"}


def moment_of(text: str) -> datetime:
    """A moment as a form or a record has it, on the wall clock; ValueError where it is none."""
    at = datetime.fromisoformat(text)
    return at if at.tzinfo is None else at.astimezone().replace(tzinfo=None)


def say_day(moment: str | None) -> str:
    """``24 Nov 2026`` from an ISO date or time; a dash where there is none."""
    if not moment:
        return "–"
    at = datetime.fromisoformat(moment)
    return f"{at.day} {at:%b %Y}"


def say_moment(moment: str | None) -> str:
    """``24 Nov 2026, 09:30``."""
    if not moment:
        return "–"
    return f"{say_day(moment)}, {datetime.fromisoformat(moment):%H:%M}"


def pose_name(pose_id: str) -> str:
    """Name of a pose; its id where the catalogue no longer has it."""
    return catalogue().pose(pose_id).name if pose_id in catalogue() else pose_id
