"""What other devices in the local network may reach: pages opened by a private link, no more."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

#: Capture by phone, the practitioner's own page and calendar, and what their pages load.
OPEN = ("/c/", "/me/", "/static/")


class Door:
    """A WSGI application that lets only private links through; coaches stay on this machine."""

    def __init__(self, inside: Callable[..., Iterable[bytes]]) -> None:
        self._inside = inside

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        if str(environ.get("PATH_INFO", "")).startswith(OPEN):
            return self._inside(environ, start)
        start("404 Not Found", [("Content-Type", "text/plain; charset=utf-8")])
        return [b"This address is for private links only. Scan the code again."]
