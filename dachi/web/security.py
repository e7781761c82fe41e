"""Sign-in, CSRF, rate limits and headers."""

from __future__ import annotations

import functools
import html
import ipaddress
import os
import socket
from urllib.parse import urlsplit

from flask import Flask, Response, redirect, render_template, request, url_for
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from flask_login import LoginManager, current_user
from flask_wtf.csrf import CSRFError, CSRFProtect
from secure import (
    ContentSecurityPolicy,
    CrossOriginOpenerPolicy,
    PermissionsPolicy,
    ReferrerPolicy,
    Secure,
    XContentTypeOptions,
    XFrameOptions,
)
from werkzeug.wrappers import Response as BaseResponse

from dachi.web.session import load_user

limiter = Limiter(get_remote_address, storage_uri="memory://")
csrf = CSRFProtect()

_HEADERS = Secure(
    csp=ContentSecurityPolicy()
    .default_src("'self'")
    .script_src("'self'")
    .style_src("'self'")
    .img_src("'self'", "data:", "blob:")
    .object_src("'none'")
    .base_uri("'none'")
    .form_action("'self'")
    .frame_ancestors("'none'"),
    coop=CrossOriginOpenerPolicy().same_origin(),
    permissions=PermissionsPolicy().geolocation().microphone(),
    referrer=ReferrerPolicy().same_origin(),
    xcto=XContentTypeOptions().nosniff(),
    xfo=XFrameOptions().deny(),
)
_TRUSTED = ("localhost", "127.0.0.1", "::1")


def guard(app: Flask) -> None:
    """Attach sign-in, CSRF protection, rate limits and security headers."""
    manager = LoginManager(app)
    manager.user_loader(load_user)
    manager.unauthorized_handler(ask_to_sign_in)
    manager.session_protection = "basic"
    csrf.init_app(app)
    app.before_request(_by_a_name_of_ours)
    app.register_error_handler(CSRFError, _stale_form)
    limiter.init_app(app)
    app.after_request(_add_headers)


def _by_a_name_of_ours() -> tuple[str, int] | None:
    """Answer only under names that are this machine's: a foreign name that was bent to its
    address (DNS rebinding) gets nothing.
    """
    name = (urlsplit(f"//{request.host}").hostname or "").rstrip(".")
    own = {*_TRUSTED, *(h.strip().lower() for h in os.environ.get("DACHI_HOSTS", "").split(","))}
    if name in own or _is_address(name) or name in _names():
        return None
    return f"This is not a name of this Dachi: {html.escape(name)}.", 421


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


@functools.lru_cache(1)
def _names() -> frozenset[str]:
    """The machine's own name, alone and as its local network says it."""
    name = socket.gethostname().lower()
    return frozenset({name, name.split(".")[0], f"{name.split('.')[0]}.local"})


def _add_headers(response: Response) -> Response:
    for name, value in _HEADERS.header_items():
        response.headers[name] = value
    if not request.is_secure and urlsplit(request.host_url).hostname not in _TRUSTED:
        # Browsers heed this one only from trustworthy origins and complain elsewhere.
        response.headers.pop("Cross-Origin-Opener-Policy", None)
    # Signed in or on a private link: what is shown of people stays in no cache.
    said = response.headers.get("Cache-Control", "public")
    if request.endpoint != "static" and "public" in said:
        response.headers["Cache-Control"] = "private, no-store"
    return response


def wants_fragment() -> bool:
    """Whether script asked for a piece of a page rather than a person for a page."""
    return bool(request.headers.get("X-Fragment") or request.headers.get("HX-Request"))


def ask_to_sign_in() -> BaseResponse | tuple[str, int]:
    """Send a person to the sign-in page, or tell script that the session is over."""
    if wants_fragment():
        return render_template("parts/signed_out.html"), 401
    back = request.full_path.rstrip("?") if request.method == "GET" else safe_path(request.referrer)
    return redirect(url_for("accounts.sign_in", next=back))


def _stale_form(error: CSRFError) -> BaseResponse | tuple[str, int]:
    if not current_user.is_authenticated and request.endpoint != "accounts.sign_in":
        return ask_to_sign_in()
    sentence = "This page was open too long to be trusted. Reload it and try again; marks are kept."
    if wants_fragment():
        return render_template("parts/notice.html", kind="retake", sentence=sentence), 400
    return render_template("error.html", sentence=sentence, code=400), 400


def safe_path(address: str | None) -> str:
    """Return the path of an address on this site, else the first page."""
    parts = urlsplit(address or "")
    path = parts.path or "/"
    if not path.startswith("/") or path.startswith("//") or "\\" in path:
        return url_for("today.page")
    return f"{path}?{parts.query}" if parts.query else path
