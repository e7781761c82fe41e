"""How a phone or tablet comes to trust this studio's certificate; the worker that keeps pages."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, abort, current_app, render_template, send_from_directory

from dachi.web import tls

room = Blueprint("trust", __name__)


def _authority() -> Path:
    found = current_app.config.get("AUTHORITY")
    if found is None:
        abort(404, "This Dachi has no certificate of its own making: it was not started for it.")
    path: Path = found
    return path


@room.get("/trust")
def page() -> str:
    """Steps for each kind of device, and the fingerprint to compare."""
    return render_template(
        "trust.html",
        fingerprint=tls.fingerprint(_authority()),
        secure=current_app.config.get("STUDIO", ""),
    )


@room.get("/trust/dachi.crt")
def certificate() -> Response:
    """The authority's certificate, as devices take it in."""
    return Response(tls.as_der(_authority()), mimetype="application/x-x509-ca-cert")


@room.get("/sw.js")
def worker() -> Response:
    """The service worker, for pages behind private links; it never keeps photographs."""
    answer = send_from_directory(current_app.static_folder or "", "sw.js")
    answer.headers["Cache-Control"] = "no-cache"
    return answer
