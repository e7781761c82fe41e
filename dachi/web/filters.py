"""Filters by which templates say dates, readings and states."""

from __future__ import annotations

from flask import Flask, request

from dachi.core.judging import wording
from dachi.data import catalogue
from dachi.drawing.drills import drill_figures
from dachi.drawing.figure import glyph
from dachi.drawing.overlay import degrees
from dachi.studio.phrases import STATUS_SIGNS, STATUS_WORDS, pose_name, say_day, say_moment

#: What tells browsers and systems apart in what they say of themselves; the first that fits.
_BROWSERS = (
    ("Edg/", "Edge"),
    ("Firefox/", "Firefox"),
    ("Chrome/", "Chrome"),
    ("Safari/", "Safari"),
)
_SYSTEMS = (
    ("Android", "Android"), ("iPhone", "iPhone"), ("iPad", "iPad"), ("Windows", "Windows"),
    ("Mac OS", "macOS"), ("Linux", "Linux"),
)  # fmt: skip


def browser(agent: str) -> str:
    """A browser by name and system, as far as its own words tell."""
    name = next((n for sign, n in _BROWSERS if sign in agent), "a browser")
    system = next((n for sign, n in _SYSTEMS if sign in agent), "")
    return f"{name} on {system}" if system else name


def install(app: Flask) -> None:
    """Make the filters and the theme known to the templates."""
    app.jinja_env.filters.update(
        day=say_day,
        clock=say_moment,
        reading=degrees,
        pose_name=pose_name,
        glyph=glyph,
        figures=lambda drill: drill_figures(drill, catalogue()),
        minutes=lambda seconds: f"{max(1, round(seconds / 60))} min",
        amount=wording.plain,
        browser=browser,
        signed=wording.signed,
        status_word=STATUS_WORDS.__getitem__,
        status_sign=STATUS_SIGNS.__getitem__,
    )

    @app.context_processor
    def theme() -> dict[str, object]:
        chosen = request.cookies.get("theme", "light")
        return {"theme": chosen if chosen in ("light", "dark") else "light"}
