"""Starting the application: ports, the door for private links, the studio's encrypted one."""

from __future__ import annotations

import argparse
import errno
import os
import socket
import sys
import threading
import time
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dachi.clock import Clock
from dachi.errors import Told

if TYPE_CHECKING:
    from flask import Flask

    from dachi.studio.duties import Duties

#: Photographs come in whole, several at once, bytes.
LARGEST_BODY = 64 * 1024 * 1024
#: More than photographs ever wait in (see ``photos.ingest``): pages are answered meanwhile.
THREADS = 24
#: Connections that say nothing are let go soon, and many of them keep nobody out.
LISTENING: dict[str, Any] = {
    "max_request_body_size": LARGEST_BODY, "channel_timeout": 30, "cleanup_interval": 10,
    "connection_limit": 600, "asyncore_use_poll": True,
}  # fmt: skip


def serve(args: argparse.Namespace, *, demo: bool) -> int:
    port = args.port if args.port is not None else _port()
    if port is None:
        print("dachi: PORT must be a number from 1 to 65535.", file=sys.stderr)
        return 2
    problem = _cannot_listen(args.host, port)
    if problem:
        print(f"dachi: {problem}", file=sys.stderr)
        return 2
    default = "var/demo" if demo else "var/data"
    folder = args.data or Path(os.environ.get("DACHI_DATA") or default)
    from dachi.photos import strays
    from dachi.store.database import open_folder
    from dachi.studio.duties import Duties
    from dachi.web.app import create_app, settle
    from dachi.web.logs import keep_log

    folder = open_folder(folder)
    try:
        strays.hold(folder)
    except strays.InUse as error:
        print(f"dachi: {error}", file=sys.stderr)
        return 2
    clock = Clock()
    app = create_app(folder, clock)
    keep_log(folder, clock)
    _sweep(folder, clock)
    if demo:
        from dachi.demo import ACCOUNT, PASSWORD, fill

        print("Filling the demo studio; half a minute the first time.", flush=True)
        fill(folder, clock)
        print(f"Demo account: {ACCOUNT}   password: {PASSWORD}")
    print(f"Dachi is open at http://{args.host}:{port}/   (data in {folder}; Ctrl-C closes it)")
    sys.stdout.flush()
    import waitress

    duties = Duties(folder, clock, looking=os.environ.get("DACHI_PROPOSE", "1") != "0")
    app.extensions["duties"] = duties
    settle()
    _open_door(app, port + 1 if args.door is None else args.door)
    if args.studio and (problem := _open_studio(app, args, port, folder, clock)):
        print(f"dachi: {problem}", file=sys.stderr)
        return 2
    if args.host not in ("127.0.0.1", "localhost", "::1"):
        print(
            "dachi: every page is open to the network in the clear: whoever is on the same Wi-Fi "
            "can read along. --studio opens them encrypted.",
            file=sys.stderr,
        )
    # Nobody waits for it: pages say what is being worked out again.
    threading.Thread(target=_look_after, args=(duties,), daemon=True).start()
    waitress.serve(app, host=args.host, port=port, threads=THREADS, **LISTENING)
    print("Dachi is closed.", flush=True)
    # What is done behind pages is done again after the next start: nobody waits for it to end.
    os._exit(0)


def _look_after(duties: Duties) -> None:
    """Do every duty once an hour."""
    while duties.folder.exists():
        duties.once()
        time.sleep(3600)


def _sweep(folder: Path, clock: Clock) -> None:
    """Clear away what was being written, put picture files that no record knows aside, and say
    what was not or was put back.
    """
    from dachi import unfinished
    from dachi.photos import strays
    from dachi.store import erasures, photos
    from dachi.store.database import connect

    with closing(connect(folder, clock)) as db:
        known = photos.known_hashes(db)
        # What is being erased goes by itself: it is nobody's stray.
        going = {sha for one in erasures.all_open(db) for sha in one.pictures}
    unfinished.sweep(folder, known)
    unfinished.sweep_beside(folder)
    swept = strays.sweep(folder, known | going, now=clock.seconds())
    if swept.left_alone:
        print(f"dachi: {swept.left_alone}", file=sys.stderr)
    if swept.brought_back:
        print(f"{swept.brought_back} picture files were put back where records look for them.")


def _open_door(app: Flask, door: int) -> None:
    """Answer private links from the local network too, on a port of their own (0: not)."""
    from waitress.server import create_server

    from dachi.web.private_links import Door

    if door and (problem := _cannot_listen("0.0.0.0", door)):
        print(f"dachi: phones cannot come in: {problem} Or name one with --door.", file=sys.stderr)
    elif door:
        app.config["DOOR_PORT"] = door
        outside = create_server(Door(app), host="0.0.0.0", port=door, threads=THREADS, **LISTENING)
        threading.Thread(target=outside.run, daemon=True).start()


def _open_studio(
    app: Flask, args: argparse.Namespace, port: int, folder: Path, clock: Clock
) -> str | None:
    """Answer everything encrypted for the studio's other devices; why it cannot be, else None."""
    from dachi.web import tls
    from dachi.web.private_links import own_address

    at = port + 2 if args.studio == -1 else args.studio
    if problem := _cannot_listen("0.0.0.0", at):
        return f"{problem} Or name another with --studio."
    if (args.cert is None) != (args.key is None):
        return "A certificate goes with its key: give both --cert and --key."
    try:
        if args.cert is not None:
            found = tls.own(args.cert, args.key)
            name = tls.names_in(args.cert)[0]
        else:
            name = own_address()
            found = tls.self_made(folder, tls.names_of_here(name), clock.read())
    except (Told, OSError, IndexError) as error:
        return f"{str(error).rstrip('.')}."
    app.config.update(
        STUDIO=f"https://{name}:{at}", STUDIO_OWN=args.cert is not None,
        AUTHORITY=found.authority,
    )  # fmt: skip
    tls.listen(app, found, at, most=LARGEST_BODY)
    print(f"Encrypted, for the studio's devices: https://{name}:{at}/")
    if found.authority is not None:
        print("  each device trusts it once: see /trust there. Its fingerprint:")
        print(f"  {tls.fingerprint(found.authority)}")
    return None


def _port() -> int | None:
    text = os.environ.get("PORT", "8765")
    return int(text) if text.isdecimal() and 1 <= int(text) <= 65535 else None


def _cannot_listen(host: str, port: int) -> str | None:
    """Try the port before anything is written."""
    probe = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        probe.bind((host, port))
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            return f"port {port} is taken by another program. Choose another with PORT={port + 1}."
        return f"port {port} cannot be opened ({error.strerror}). Choose another with PORT=8765."
    finally:
        probe.close()
    return None
