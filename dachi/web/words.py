"""How dates, readings and states are said on a page."""

from __future__ import annotations

from datetime import datetime

from flask import Flask, request

from dachi.core import verdicts
from dachi.data import catalogue
from dachi.drawing.drills import drill_figures
from dachi.drawing.figure import glyph
from dachi.drawing.overlay import degrees

STATUS_WORDS = {
    "unmarked": "to mark",
    "ok": "valid",
    "watch": "valid, look again",
    "retake": "take it again",
}
STATUS_SIGNS = {"unmarked": "○", "ok": "✓", "watch": "!", "retake": "↺"}


def day(moment: str | None) -> str:
    """``24 Nov 2026`` from an ISO date or time; a dash where there is none."""
    if not moment:
        return "–"
    at = datetime.fromisoformat(moment)
    return f"{at.day} {at:%b %Y}"


def clock(moment: str | None) -> str:
    """``24 Nov 2026, 09:30``."""
    if not moment:
        return "–"
    return f"{day(moment)}, {datetime.fromisoformat(moment):%H:%M}"


def pose_name(pose_id: str) -> str:
    """Name of a pose; its id where the catalogue no longer has it."""
    return catalogue().pose(pose_id).name if pose_id in catalogue() else pose_id


def install(app: Flask) -> None:
    """Make the filters and the theme known to the templates."""
    app.jinja_env.filters.update(
        day=day,
        clock=clock,
        reading=degrees,
        pose_name=pose_name,
        glyph=glyph,
        figures=lambda drill: drill_figures(drill, catalogue()),
        minutes=lambda seconds: f"{max(1, round(seconds / 60))} min",
        amount=verdicts.plain,
        signed=verdicts.signed,
        status_word=STATUS_WORDS.__getitem__,
        status_sign=STATUS_SIGNS.__getitem__,
    )

    @app.context_processor
    def theme() -> dict[str, object]:
        chosen = request.cookies.get("theme", "light")
        return {"theme": chosen if chosen in ("light", "dark") else "light"}
