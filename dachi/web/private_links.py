"""What other devices in the local network may reach: pages opened by a private link, no more."""

from __future__ import annotations

import io
import socket
from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import urlsplit

import segno
from flask import current_app, request, url_for
from itsdangerous import URLSafeSerializer

from dachi.web import keys

#: Capture by phone, the practitioner's own page and calendar, and what their pages load.
OPEN = ("/c/", "/me/", "/static/", "/trust", "/sw.js")


class Door:
    """A WSGI application that lets only private links through; coaches stay on this machine."""

    def __init__(self, inside: Callable[..., Iterable[bytes]]) -> None:
        self._inside = inside

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        if str(environ.get("PATH_INFO", "")).startswith(OPEN):
            return self._inside(environ, start)
        start("404 Not Found", [("Content-Type", "text/plain; charset=utf-8")])
        return [b"This address is for private links only. Scan the code again."]


def own_signer() -> URLSafeSerializer:
    """Signs the private link."""
    return URLSafeSerializer(keys.signing(), salt="own page")


def private_address(nonce: str) -> str:
    """Address of the practitioner's own page."""
    return f"{outside_address()}{url_for('own.page', token=own_signer().dumps(nonce))}"


def until_address(nonce: str) -> str:
    """Address of a practitioner's page until next time."""
    return f"{outside_address()}{url_for('own.until', token=own_signer().dumps(nonce))}"


def qr(link: str) -> str:
    """The link as an SVG code, dark on light in either theme."""
    out = io.BytesIO()
    segno.make(link, error="m").save(
        out, kind="svg", border=3, omitsize=True, dark="#24211c", light="#fffdf8", xmldecl=False,
        svgclass="qr", title="Code of the link",
    )  # fmt: skip
    return out.getvalue().decode("utf-8")


def outside_address() -> str:
    """Where other devices on the local network reach this program."""
    if current_app.config.get("STUDIO_OWN"):
        return str(current_app.config["STUDIO"])
    port = current_app.config.get("DOOR_PORT")
    if port is None:
        return request.host_url.rstrip("/")
    return f"http://{own_address()}:{port}"


def trusted_address(link: str) -> str | None:
    """The encrypted form of a private link, for devices that trust this studio's certificate;
    None where nothing answers encrypted, or every link is.
    """
    studio = current_app.config.get("STUDIO")
    if not studio or current_app.config.get("STUDIO_OWN"):
        return None
    return f"{studio}/{link.split('/', 3)[3]}"


def only_here(link: str) -> bool:
    """Whether an address means this very machine, and nothing on anybody else's."""
    return (urlsplit(link).hostname or "") in ("127.0.0.1", "localhost", "::1")


def own_address() -> str:
    """This machine's address on the local network; nothing is sent to find it out."""
    probe = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        probe.connect(("10.255.255.255", 9))
        return str(probe.getsockname()[0])
    except OSError:
        return "127.0.0.1"
    finally:
        probe.close()
