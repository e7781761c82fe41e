"""``python -m dachi``: serve, demo, backup, restore, check, account, measure, judge, plan."""

from __future__ import annotations

import argparse
import contextlib
import errno
import json
import os
import socket
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dachi.clock import Clock
from dachi.errors import Told
from dachi.interchange.json_lines import FOLDER, FORMATS, lines_of
from dachi.store.database import StoreError

if TYPE_CHECKING:
    from flask import Flask

#: Photographs come in whole, several at once, bytes.
LARGEST_BODY = 64 * 1024 * 1024
#: Connections that say nothing are let go soon, and many of them keep nobody out.
LISTENING: dict[str, Any] = {
    "max_request_body_size": LARGEST_BODY, "channel_timeout": 30, "cleanup_interval": 10,
    "connection_limit": 600, "asyncore_use_poll": True,
}  # fmt: skip


def main(argv: list[str] | None = None) -> int:
    """Run a command; return the exit status (2 for unusable arguments or surroundings)."""
    parser = argparse.ArgumentParser(prog="dachi", description=__doc__)
    commands = parser.add_subparsers(dest="command", required=True)
    for name, about in (
        ("serve", "start the application on the data folder"),
        ("demo", "start it on a fresh copy of the made-up studio"),
    ):
        sub = commands.add_parser(name, help=about)
        sub.add_argument("--port", type=int, default=None, help="default: PORT or 8765")
        sub.add_argument("--host", default="127.0.0.1")
        sub.add_argument(
            "--door", type=int, default=None,
            help="port for phones in the local network; default: the next one, 0 for none",
        )  # fmt: skip
        sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var")
    sub = commands.add_parser("measure", help="read scenes (JSON Lines), write results")
    sub.add_argument("file", help="a file of scenes, or - for standard input")
    sub = commands.add_parser("judge", help="read histories (JSON Lines), write verdicts")
    sub.add_argument("file", help="a file of histories, or - for standard input")
    sub = commands.add_parser("plan", help="read persons (JSON Lines), write weeks of practice")
    sub.add_argument("file", help="a file of persons, or - for standard input")
    sub = commands.add_parser("schema", help="print the JSON Schema of a format")
    sub.add_argument("name", choices=FORMATS)
    sub = commands.add_parser(
        "recompute", help="compute every stored reading again after the catalogue changed"
    )
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var")
    sub.add_argument("--all", action="store_true", help="also those of the present catalogue")
    sub = commands.add_parser("backup", help="write the whole record into one file")
    sub.add_argument("file", type=Path, nargs="?", help="default: dachi-DAY-TIME.zip here")
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var/data")
    sub = commands.add_parser("restore", help="put a backup into an empty data folder")
    sub.add_argument("file", type=Path)
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var/data")
    sub.add_argument("--try", dest="dry", action="store_true", help="only say what it would do")
    sub = commands.add_parser("check", help="is the record all there, and whole?")
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var/data")
    sub.add_argument(
        "--heal", type=Path, default=None,
        help="put lost pictures back from a backup file or a folder of the originals",
    )  # fmt: skip
    for name, about in (
        ("export", "write people with their photographs into a file for another Dachi"),
        ("import", "take people in from such a file, all or nothing"),
    ):
        sub = commands.add_parser(name, help=about)
        sub.add_argument("file", type=Path)
        sub.add_argument("--coach", required=True, help="address of the account")
        sub.add_argument("--data", type=Path, default=None)
        if name == "import":
            sub.add_argument("--beside", action="store_true", help="even who is here already")
    sub = commands.add_parser("account", help="give a coach a new password; ends their sessions")
    sub.add_argument("email")
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var/data")
    args = parser.parse_args(argv)
    if args.command == "account":
        return _account(args)
    if args.command in ("export", "import"):
        return _move(args)
    if args.command in ("backup", "restore", "check"):
        return _keep(args)
    if args.command == "recompute":
        return _recompute(args)
    if args.command == "measure":
        return _measure(args.file)
    if args.command == "judge":
        return _judge(args.file)
    if args.command == "plan":
        return _plan(args.file)
    if args.command == "schema":
        sys.stdout.write((FOLDER / f"{args.name}.schema.json").read_text("utf-8"))
        return 0
    try:
        return _serve(args, demo=args.command == "demo")
    except StoreError as error:
        print(f"dachi: {error}", file=sys.stderr)
        return 2


def _measure(name: str) -> int:
    """Measure a scene file; 0 when every scene was measured, 1 when any was not."""
    from dachi.data import catalogue
    from dachi.interchange.scenes import MOST_BYTES, measure_line

    known = catalogue()
    return _answered(name, MOST_BYTES, lambda line: measure_line(line, known))


def _judge(name: str) -> int:
    """Judge a history file; 0 when every history was judged, 1 when any was not."""
    from dachi.data import catalogue, scatter_priors
    from dachi.interchange.histories import MOST_BYTES, judge_line

    known, priors = catalogue(), scatter_priors()
    return _answered(name, MOST_BYTES, lambda line: judge_line(line, known, priors))


def _plan(name: str) -> int:
    """Plan weeks for a person file; 0 when every person was read, 1 when any was not."""
    from dachi.interchange.persons import MOST_BYTES, plan_line

    return _answered(name, MOST_BYTES, plan_line)


def _answered(name: str, most: int, answer: Callable[[bytes], dict[str, Any]]) -> int:
    """Answer a file of JSON Lines line by line; 1 where any answer is an error."""
    try:
        source = sys.stdin.buffer if name == "-" else open(name, "rb")  # noqa: SIM115
    except OSError as error:
        print(f"dachi: {name} cannot be read ({error.strerror}).", file=sys.stderr)
        return 2
    failed = False
    with source:
        try:
            for line in lines_of(source, most):
                result = answer(line)
                failed |= "error" in result
                sys.stdout.write(_as_line(result))
            sys.stdout.flush()
        except BrokenPipeError:
            # Whoever read the answers has heard enough.
            _hush()
            return 1
        except OSError as error:
            _hush()
            print(f"dachi: the answers cannot be written ({error.strerror}).", file=sys.stderr)
            return 2
    return 1 if failed else 0


def _as_line(result: dict[str, Any]) -> str:
    """A result as a line of JSON; half a character in an id goes back as it came, escaped."""
    text = json.dumps(result, ensure_ascii=False)
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        text = json.dumps(result)
    return text + "\n"


def _hush() -> None:
    """Let what is still buffered go nowhere, so that leaving does not fail on it again."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _keep(args: argparse.Namespace) -> int:
    """Backup, restore, check; 2 and a sentence where it cannot be done, 1 where not all is well."""
    from dachi.studio import keeping

    folder = (args.data or Path(os.environ.get("DACHI_DATA") or "var/data")).expanduser().absolute()
    try:
        if args.command == "backup":
            return _backup(folder, args.file)
        if args.command == "restore":
            return _restore(args.file, folder, dry=args.dry)
        if not (folder / "dachi.sqlite3").exists():
            raise keeping.KeepingProblem(f"there is no database in {folder}")
        return _check(folder, args.heal)
    except Told as error:
        print(f"dachi: {str(error).rstrip('.')}.", file=sys.stderr)
        return 2


def _account(args: argparse.Namespace) -> int:
    """A new password for a coach who lost theirs, printed once."""
    import secrets

    from dachi.store import accounts, happenings, sessions
    from dachi.store.database import FILE, connect, migrate, transaction

    folder = (args.data or Path(os.environ.get("DACHI_DATA") or "var/data")).expanduser().absolute()
    try:
        if not (folder / FILE).exists():
            raise StoreError(f"There is no database in {folder}.")
        db = connect(folder, Clock())
        migrate(db)
        with contextlib.closing(db), transaction(db):
            coach = accounts.by_email(db, args.email)
            if coach is None:
                raise StoreError(f"There is no account with the address {args.email}.")
            password = secrets.token_urlsafe(12)
            accounts.set_password(db, coach.id, password)
            sessions.end_all(db, coach.id)
            happenings.note(db, coach.id, "got a new password from the command line")
    except Told as error:
        print(f"dachi: {error}", file=sys.stderr)
        return 2
    print(f"The new password of {coach.email}: {password}")
    return 0


def _move(args: argparse.Namespace) -> int:
    """People of a coach into a file, or out of one."""
    from dachi.store import accounts
    from dachi.store.database import FILE, connect, migrate, transaction
    from dachi.studio import moving
    from dachi.studio.work import Work

    folder = (args.data or Path(os.environ.get("DACHI_DATA") or "var/data")).expanduser().absolute()
    try:
        if not (folder / FILE).exists():
            raise StoreError(f"There is no database in {folder}.")
        db = connect(folder, Clock())
        migrate(db)
        with contextlib.closing(db), transaction(db):
            coach = accounts.by_email(db, args.coach)
            if coach is None:
                raise StoreError(f"There is no account with the address {args.coach}.")
            work = Work(db, folder, coach.id)
            if args.command == "import":
                done = moving.receive(work, args.file, beside=args.beside)
                same = f"; here already, just so: {', '.join(done.same)}" if done.same else ""
                print(f"{len(done.people)} people were taken in{same}.")
                return 0
            if args.file.exists():
                raise StoreError(f"{args.file} is there already: name another file.")
            with args.file.open("xb") as out:
                lost = moving.send(work, moving.everybody(work), out)
            print(f"{args.file}: everybody of {coach.email}.")
            return 1 if lost else 0
    except (Told, OSError) as error:
        print(f"dachi: {str(error).rstrip('.')}.", file=sys.stderr)
        return 2


def _backup(folder: Path, to: Path | None) -> int:
    from dachi.studio import keeping

    clock = Clock()
    made = keeping.backup(
        folder, to or Path(f"dachi-{clock.local():%Y-%m-%d-%H%M}.zip").absolute(), clock
    )
    print(f"{made.path}: the database and {made.photos} pictures, {made.bytes / 1e6:.1f} MB.")
    if made.bad:
        print(
            f"dachi: {len(made.bad)} pictures were lost or damaged already and are not in it; "
            "`python -m dachi check` names them.",
            file=sys.stderr,
        )
    return 1 if made.bad else 0


def _restore(source: Path, folder: Path, *, dry: bool) -> int:
    from dachi.studio import keeping

    about = keeping.offered(source)
    what = f"{about.counts.get('photos', 0)} pictures and the database of {about.made_at[:16]}"
    if dry:
        print(f"{source} holds {what}; it would be put into {folder}, which must be empty.")
        return 0
    keeping.restore(source, folder)
    print(f"{what[0].upper()}{what[1:]} were put into {folder}. Start with DACHI_DATA={folder}.")
    return 0


def _check(folder: Path, heal: Path | None) -> int:
    from dachi.studio import keeping

    found = keeping.check(folder, heal)
    for words in found.database:
        print(f"database: {words}")
    for what, names in (
        ("lost", found.lost), ("damaged", found.damaged), ("without a record", found.unknown),
    ):  # fmt: skip
        for name in names:
            print(f"picture {what}: {name}")
    if found.healed:
        print(f"{len(found.healed)} pictures were put right.")
    if found.database:
        print("Put the newest whole copy of the database back: copies/ has one of each day.")
    elif found.whole:
        print(f"The database and {found.photos} pictures are whole.")
    return 0 if found.whole else 1


def _recompute(args: argparse.Namespace) -> int:
    """Recompute readings from their marks; stopped and started again, it goes on."""
    from dachi.studio.recompute import recompute

    folder = args.data or Path(os.environ.get("DACHI_DATA") or "var/data")
    if not (folder / "dachi.sqlite3").exists():
        print(f"dachi: there is no database in {folder}.", file=sys.stderr)
        return 2

    def say(done: int, total: int) -> None:
        print(f"\r{done} of {total} markings", end="", file=sys.stderr, flush=True)

    try:
        found = recompute(folder, Clock(), everything=args.all, progress=say)
    except KeyboardInterrupt:
        print("\nStopped; the same command goes on from here.", file=sys.stderr)
        return 1
    print(file=sys.stderr)
    print(
        f"{found.done} markings computed again; {found.failed} could not be and stay as they are."
    )
    return 0


def _serve(args: argparse.Namespace, *, demo: bool) -> int:
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
    bring_up_to_date(folder, clock)
    if demo:
        from dachi.demo import ACCOUNT, PASSWORD, fill

        print("Filling the demo studio; half a minute the first time.", flush=True)
        fill(folder, clock)
        print(f"Demo account: {ACCOUNT}   password: {PASSWORD}")
    print(f"Dachi is open at http://{args.host}:{port}/   (data in {folder}; Ctrl-C closes it)")
    sys.stdout.flush()
    from waitress import serve

    threading.Thread(target=_look_after, args=(folder, clock), daemon=True).start()
    settle()
    _open_door(app, port + 1 if args.door is None else args.door)
    serve(app, host=args.host, port=port, threads=8, **LISTENING)
    return 0


def _look_after(folder: Path, clock: Clock) -> None:
    """Once an hour: what was put away long ago goes, and today's copy is made."""
    from dachi.store.database import connect
    from dachi.studio import erasing, keeping

    while True:
        try:
            db = connect(folder, clock)
            erasing.purge(folder, db)
            db.close()
            erasing.old_faces(folder)
            keeping.daily_copy(folder, clock)
        except (Told, OSError) as error:
            print(f"dachi: {error}", file=sys.stderr)
        time.sleep(3600)


def _sweep(folder: Path, clock: Clock) -> None:
    """Put picture files that no record knows aside, and say what was not or put back."""
    from dachi.photos import strays
    from dachi.store import photos
    from dachi.store.database import connect

    db = connect(folder, clock)
    swept = strays.sweep(folder, photos.known_hashes(db), now=clock.seconds())
    db.close()
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
        outside = create_server(Door(app), host="0.0.0.0", port=door, threads=4, **LISTENING)
        threading.Thread(target=outside.run, daemon=True).start()


def bring_up_to_date(folder: Path, clock: Clock) -> None:
    """Derive again what earlier rules derived: all of a chart by one rule."""
    from dachi.store import outdated
    from dachi.store.database import connect
    from dachi.studio import versions
    from dachi.studio.recompute import recompute

    db = connect(folder, clock)
    old = sum(len(ids) for ids in outdated.ids(db, versions.measuring()).values())
    db.close()
    if old:
        print(f"How poses are measured has changed: {old} markings are read again.", flush=True)
    found = recompute(folder, clock)
    if found.failed:
        print(f"{found.failed} could not be, and stay as they are.", flush=True)


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
