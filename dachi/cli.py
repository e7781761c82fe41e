"""``python -m dachi``: serve, demo, backup, restore, check, account, measure, judge, plan."""

from __future__ import annotations

import argparse
import contextlib
import itertools
import json
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dachi.clock import Clock
from dachi.errors import Told
from dachi.interchange.json_lines import FOLDER, FORMATS, lines_of
from dachi.store.database import StoreError

if TYPE_CHECKING:
    from dachi.store.accounts import Coach
    from dachi.store.copies import ComesBack
    from dachi.store.database import Database


#: Names said of what a backup brings back.
MOST_NAMED = 12


def main(argv: list[str] | None = None) -> int:
    """Run a command; return the exit status (2 for unusable arguments or surroundings).

    What it writes is for its owner's eyes only. Interrupted, it says so and leaves nothing half
    done.
    """
    os.umask(0o077)
    said = sys.argv[1:] if argv is None else argv
    # A server is built to be killed at any moment; whatever writes a file takes it away first.
    alone = threading.current_thread() is threading.main_thread() and not {"serve", "demo"} & set(
        said[:1]
    )
    before = signal.signal(signal.SIGTERM, _stop) if alone else None
    try:
        return _run(argv)
    except KeyboardInterrupt:
        print("dachi: stopped. What was not finished was taken away again.", file=sys.stderr)
        return 130
    finally:
        if alone:
            signal.signal(signal.SIGTERM, before)


def _stop(*_: object) -> None:
    """Told to end: what is open is closed as after Ctrl-C."""
    raise KeyboardInterrupt


def _run(argv: list[str] | None) -> int:
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
        sub.add_argument(
            "--studio", type=int, nargs="?", const=-1, default=0, metavar="PORT",
            help="open every page, encrypted, to the studio's own devices; default port: the third",
        )  # fmt: skip
        sub.add_argument("--cert", type=Path, default=None, help="own certificate for --studio")
        sub.add_argument("--key", type=Path, default=None, help="its key")
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
    sub.add_argument("--yes", action="store_true", help="without asking about what comes back")
    sub.add_argument("--end-links", action="store_true", help="private links do not work again")
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
    sub = commands.add_parser("key", help="have a new key sign sessions and links")
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var/data")
    sub.add_argument(
        "--only", action="store_true", help="old keys end: everybody signs in, links are made anew"
    )
    sub = commands.add_parser("account", help="give a coach a new password; ends their sessions")
    sub.add_argument("email")
    sub.add_argument("--data", type=Path, default=None, help="default: DACHI_DATA or ./var/data")
    args = parser.parse_args(argv)
    if args.command == "account":
        return _account(args)
    if args.command == "key":
        return _key(args)
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
        from dachi import start

        return start.serve(args, demo=args.command == "demo")
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
    from dachi.interchange.histories import MOST_BYTES

    return _answered(name, MOST_BYTES, _judged, spread=True)


def _judged(line: bytes) -> dict[str, Any]:
    from dachi.data import catalogue, scatter_priors
    from dachi.interchange.histories import judge_line

    return judge_line(line, catalogue(), scatter_priors())


#: Lines that are answered at a time where all processors share the work, and from how many on.
BATCH, WORTH_IT = 64, 32


def _answers(
    lines: Iterator[bytes], answer: Callable[[bytes], dict[str, Any]], spread: bool
) -> Iterator[dict[str, Any]]:
    """Answers in the order of the lines; with ``spread`` all processors share many of them."""
    first = list(itertools.islice(lines, WORTH_IT))
    if not spread or len(first) < WORTH_IT or (os.cpu_count() or 1) < 2:
        yield from map(answer, itertools.chain(first, lines))
        return
    with ProcessPoolExecutor() as pool:
        while first:
            yield from pool.map(answer, first, chunksize=4)
            first = list(itertools.islice(lines, BATCH))


def _plan(name: str) -> int:
    """Plan weeks for a person file; 0 when every person was read, 1 when any was not."""
    from dachi.interchange.persons import MOST_BYTES, plan_line

    return _answered(name, MOST_BYTES, plan_line)


def _answered(
    name: str, most: int, answer: Callable[[bytes], dict[str, Any]], *, spread: bool = False
) -> int:
    """Answer a file of JSON Lines line by line; 1 where any answer is an error."""
    try:
        source = sys.stdin.buffer if name == "-" else open(name, "rb")  # noqa: SIM115
    except OSError as error:
        print(f"dachi: {name} cannot be read ({error.strerror}).", file=sys.stderr)
        return 2
    failed = False
    with source:
        try:
            for result in _answers(lines_of(source, most), answer, spread):
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
    from dachi.studio.record import keeping

    folder = (args.data or Path(os.environ.get("DACHI_DATA") or "var/data")).expanduser().absolute()
    try:
        if args.command == "backup":
            return _backup(folder, args.file)
        if args.command == "restore":
            return _restore(args, folder)
        if not (folder / "dachi.sqlite3").exists():
            raise keeping.KeepingProblem(f"there is no database in {folder}")
        return _check(folder, args.heal)
    except Told as error:
        print(f"dachi: {str(error).rstrip('.')}.", file=sys.stderr)
        return 2


@contextlib.contextmanager
def _coach_of(data: Path | None, email: str) -> Iterator[tuple[Database, Path, Coach]]:
    """A data folder's database, and the coach of an address; StoreError."""
    from dachi.store import accounts
    from dachi.store.database import FILE, connect, migrate

    folder = (data or Path(os.environ.get("DACHI_DATA") or "var/data")).expanduser().absolute()
    if not (folder / FILE).exists():
        raise StoreError(f"There is no database in {folder}.")
    db = connect(folder, Clock())
    migrate(db)
    with contextlib.closing(db):
        coach = accounts.by_email(db, email)
        if coach is None:
            raise StoreError(f"There is no account with the address {email}.")
        yield db, folder, coach


def _key(args: argparse.Namespace) -> int:
    """A new key, used from the next start on."""
    from dachi.store.database import FILE
    from dachi.web import keys

    folder = (args.data or Path(os.environ.get("DACHI_DATA") or "var/data")).expanduser().absolute()
    try:
        if not (folder / FILE).exists():
            raise StoreError(f"There is no database in {folder}.")
        count = keys.rotate(folder, only=args.only)
    except (Told, OSError) as error:
        print(f"dachi: {error}", file=sys.stderr)
        return 2
    old = "No old key is read any more." if count == 1 else f"{count - 1} old ones are still read."
    print(f"A new key signs from the next start on. {old}")
    return 0


def _account(args: argparse.Namespace) -> int:
    """A new password for a coach who lost theirs, printed once."""
    import secrets

    from dachi.core.words import Happened
    from dachi.store import accounts, happenings, sessions

    try:
        with _coach_of(args.data, args.email) as (db, _, coach):
            password = secrets.token_urlsafe(12)
            with db.savepoint():
                accounts.set_password(db, coach.id, password)
                sessions.end_all(db, coach.id)
                happenings.note(db, coach.id, Happened.PASSWORD_BY_COMMAND)
    except Told as error:
        print(f"dachi: {error}", file=sys.stderr)
        return 2
    print(f"The new password of {coach.email}: {password}")
    return 0


def _move(args: argparse.Namespace) -> int:
    """People of a coach into a file, or out of one."""
    from dachi.studio.record import moving
    from dachi.studio.work import Work
    from dachi.unfinished import unfinished

    try:
        with _coach_of(args.data, args.coach) as (db, folder, coach):
            work = Work(db, folder, coach.id)
            if args.command == "import":
                done = moving.receive(work, args.file, beside=args.beside)
                same = f"; here already, just so: {', '.join(done.same)}" if done.same else ""
                print(f"{len(done.people)} people were taken in{same}.")
                return 0
            if args.file.exists():
                raise StoreError(f"{args.file} is there already: name another file.")
            part = args.file.with_name(f".part-{os.getpid()}-{args.file.name}")
            db.begin(write=False)
            with unfinished(folder, part):
                with part.open("xb") as out:
                    lost = moving.send(work, moving.everybody(work), out)
                os.replace(part, args.file)
            print(f"{args.file}: everybody of {coach.email}.")
            return 1 if lost else 0
    except (Told, OSError) as error:
        print(f"dachi: {str(error).rstrip('.')}.", file=sys.stderr)
        return 2


def _backup(folder: Path, to: Path | None) -> int:
    from dachi.studio.record import keeping

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


def _restore(args: argparse.Namespace, folder: Path) -> int:
    from dachi.studio.record import keeping

    source: Path = args.file
    about = keeping.offered(source)
    what = f"{about.counts.get('photos', 0)} pictures and the database of {about.made_at[:16]}"
    if args.dry:
        print(f"{source} holds {what}; it would be put into {folder}, which must be empty.")
        return 0

    def agreed(back: ComesBack) -> bool:
        print(_coming(back))
        if args.yes:
            return True
        if not sys.stdin.isatty():
            print("dachi: nothing was written. Say --yes if that is right.", file=sys.stderr)
            return False
        return input("Is that right? Type yes: ").strip().casefold() == "yes"

    if keeping.restore(source, folder, agreed, end_links=args.end_links) is None:
        return 2
    print(f"{what[0].upper()}{what[1:]} were put into {folder}. Start with DACHI_DATA={folder}.")
    return 0


def _coming(back: ComesBack) -> str:
    """What an older state of a record brings back, in lines."""

    def some(names: Sequence[str]) -> str:
        more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
        return ", ".join(names[:MOST_NAMED]) + more if names else "nobody"

    return (
        f"With this backup come back, as they were then:\n"
        f"  people, also those who were erased since: {some(back.people)}\n"
        f"  private links that work again: {some(back.links)}\n"
        f"  consents, also those that were withdrawn since: {some(back.consents)}\n"
        f"  accounts with the passwords of then: {some(back.coaches)}\n"
        "Whoever was signed in signs in again, and phones are let in anew."
    )


def _check(folder: Path, heal: Path | None) -> int:
    from dachi.studio.record import keeping

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
