"""How dates, poses and states are said."""

from __future__ import annotations

import re
from datetime import date, datetime
from typing import Protocol

from dachi.data import catalogue


class Shown(Protocol):
    """A place of a sheet, or what was photographed for it."""

    @property
    def pose(self) -> str: ...
    @property
    def side(self) -> str: ...
    @property
    def mode(self) -> str: ...
    @property
    def number(self) -> int: ...


STATUS_WORDS = {
    "unmarked": "to mark",
    "ok": "valid",
    "watch": "valid, look again",
    "retake": "take it again",
}
STATUS_SIGNS = {"unmarked": "○", "ok": "✓", "watch": "!", "retake": "↺"}


_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
#: ``27 Nov 2026``, also with its weekday and a time. Months are words: 5/4 is two days.
_TIME = r"(?:[ ,at]+(\d{1,2})[:.](\d{2}))?"
_SAID = re.compile(
    r"(?:[a-z]{2,9}\.?,? +)?(\d{1,2})\.? +([a-z]{3,9})\.?,? +(\d{4})" + _TIME, re.IGNORECASE
)
#: ``31.10.2026 9:30``: with dots the day comes first everywhere; slashes could be either.
_DOTTED = re.compile(r"(\d{1,2})\. ?(\d{1,2})\. ?(\d{4})" + _TIME, re.IGNORECASE)


def moment_of(text: str) -> datetime:
    """A moment as somebody writes it or a record has it, on the wall clock.

    ISO dates, ``27 Nov 2026, 18:15`` and ``27.11.2026 18:15``; ValueError where it is none, or
    could be two.
    """
    if dotted := _DOTTED.fullmatch(text.strip()):
        day, month, year, hour, minute = (int(x or 0) for x in dotted.groups())
        return datetime(year, month, day, hour, minute)
    said = _SAID.fullmatch(text.strip())
    if said is None:
        at = datetime.fromisoformat(text.strip())
        return at if at.tzinfo is None else at.astimezone().replace(tzinfo=None)
    on, word, of, at_h, at_m = said.groups()
    number = next((i for i, m in enumerate(_MONTHS, 1) if word.lower().startswith(m)), 0)
    return datetime(int(of), number, int(on), int(at_h or 0), int(at_m or 0))


def day_of(text: str) -> date:
    """The day of a moment (see ``moment_of``); ValueError where it is none."""
    return moment_of(text).date()


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


def shot_name(shot: Shown) -> str:
    """A photograph by what it shows: ``Straddle, passive, trial 2``."""
    if known_pose(shot.pose):
        named = catalogue().pose(shot.pose).named(shot.side, shot.mode)
        return f"{named}, trial {shot.number}"
    side = "" if shot.side == "both" else f"{shot.side} "
    return f"{pose_name(shot.pose)}, {side}{shot.mode}, trial {shot.number}"


def known_pose(pose_id: str) -> bool:
    """Whether the catalogue has a pose."""
    return pose_id in catalogue()


def pose_name(pose_id: str) -> str:
    """Name of a pose; its id where the catalogue no longer has it."""
    return catalogue().pose(pose_id).name if known_pose(pose_id) else pose_id
