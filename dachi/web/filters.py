"""Filters by which templates say dates, readings and states."""

from __future__ import annotations

import re
from html import escape

from flask import Flask, request

from dachi.core.judging import wording
from dachi.data import catalogue
from dachi.drawing.drills import drill_figures
from dachi.drawing.figure import glyph
from dachi.drawing.overlay import degrees
from dachi.studio.phrases import (
    STATUS_SIGNS,
    STATUS_WORDS,
    moment_of,
    pose_name,
    say_day,
    say_moment,
)
from dachi.web.page_help import HELP

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


_SVG = re.compile(r'<svg[^>]*viewBox="([^"]+)"[^>]*>(?:<title>.*?</title>)?(.*)</svg>', re.S)


def symbol(svg: str, name: str) -> str:
    """A drawing kept once on a page, to be shown by ``shown_again`` wherever it is wanted."""
    found = _SVG.fullmatch(svg)
    assert found is not None
    return f'<symbol class="glyph" id="{escape(name)}" viewBox="{found[1]}">{found[2]}</symbol>'


def shown_again(svg: str, name: str) -> str:
    """A drawing that stands elsewhere on the page as a ``symbol``, without its words."""
    found = _SVG.fullmatch(svg)
    assert found is not None
    return (
        f'<svg viewBox="{found[1]}" class="glyph" aria-hidden="true">'
        f'<use href="#{escape(name)}"></use></svg>'
    )


def written(value: str | None, time: bool = False) -> str:
    """A date in a field: in one order for everybody; what is no date stays as it was typed."""
    try:
        at = moment_of(value or "").isoformat()
    except ValueError:
        return value or ""
    return say_moment(at) if time else say_day(at)


def install(app: Flask) -> None:
    """Make the filters and the theme known to the templates."""
    app.jinja_env.filters.update(
        day=say_day,
        clock=say_moment,
        written=written,
        reading=degrees,
        pose_name=pose_name,
        glyph=glyph,
        figures=lambda drill: drill_figures(drill, catalogue()),
        symbol=symbol,
        shown_again=shown_again,
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
        return {
            "theme": chosen if chosen in ("light", "dark") else "light",
            "page_help": HELP.get(request.endpoint or ""),
        }
