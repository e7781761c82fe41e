"""Files that are not finished yet: written down by where they are, and swept after a kill."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import secrets
import shutil
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

#: Within the data folder: a note for each file being written, and rooms for temporary ones.
HOME = "unfinished"
#: Within a folder that is being filled: held by whoever fills it.
LOCK = ".lock"


def remove(path: Path) -> None:
    """Take a file or folder away, if it is there."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        with contextlib.suppress(FileNotFoundError):
            path.unlink()


def _begun(home: Path) -> tuple[str, Path, int]:
    """A note that is locked before it can be taken for one that somebody left behind."""
    while True:
        name = secrets.token_hex(8)
        note = home / f"{name}.new"
        handle = os.open(note, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            # A sweep was quicker, and has taken it for one of a killed process.
            os.close(handle)
            continue
        return name, note, handle


@contextmanager
def _noted(folder: Path, paths: Iterable[Path], *, pictures: bool) -> Iterator[None]:
    """Have it written down, as long as this process lives, that paths are unfinished."""
    home = folder / HOME
    home.mkdir(mode=0o700, parents=True, exist_ok=True)
    name, note, handle = _begun(home)
    try:
        told = {"pictures": pictures, "paths": [os.fspath(p.absolute()) for p in paths]}
        with os.fdopen(os.dup(handle), "w", encoding="utf-8", errors="surrogateescape") as out:
            json.dump(told, out)
        os.fsync(handle)
        known = home / f"{name}.note"
        os.rename(note, known)
        note = known
        yield
    finally:
        note.unlink(missing_ok=True)
        os.close(handle)


@contextmanager
def unfinished(folder: Path, path: Path) -> Iterator[Path]:
    """Whatever becomes of the block, ``path`` (anywhere) is gone after it unless it was renamed.

    Where this process is killed, ``sweep`` of the data folder removes it.
    """
    with _noted(folder, [path], pictures=False):
        try:
            yield path
        finally:
            remove(path)


@contextmanager
def arriving(
    folder: Path, pictures: Iterable[Path], known: Callable[[], Collection[str]]
) -> Iterator[None]:
    """Pictures that are put in place before any record knows them: those that none knows when the
    block is over, or after a kill, are gone. ``known`` are the hashes that records name.
    """
    paths = list(pictures)
    with _noted(folder, paths, pictures=True):
        try:
            yield
        finally:
            _unknown_gone(paths, known())


def _unknown_gone(paths: Iterable[Path], known: Collection[str]) -> int:
    gone = 0
    for path in paths:
        if path.name.split(".")[0] not in known and path.exists():
            remove(path)
            gone += 1
    return gone


@contextmanager
def room(folder: Path) -> Iterator[Path]:
    """An empty folder for temporary files within the data folder, gone afterwards."""
    with unfinished(folder, folder / HOME / f"room-{secrets.token_hex(8)}") as path:
        path.mkdir(mode=0o700)
        yield path


@contextmanager
def beside(folder: Path) -> Iterator[Path]:
    """An empty folder next to one, to be filled and renamed to it; gone if that did not happen."""
    path = folder.with_name(f".restore-{folder.name}-{secrets.token_hex(8)}")
    folder.parent.mkdir(parents=True, exist_ok=True)
    path.mkdir(mode=0o700)
    handle = os.open(path / LOCK, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield path
    finally:
        os.close(handle)
        remove(path)


def sweep_beside(folder: Path) -> int:
    """Remove what killed processes left next to a folder (see ``beside``); how many folders."""
    gone = 0
    for left in folder.parent.glob(f".restore-{folder.name}-*"):
        with contextlib.suppress(OSError):
            handle = os.open(left / LOCK, os.O_RDWR | os.O_CREAT, 0o600)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                remove(left)
                gone += 1
            finally:
                os.close(handle)
    return gone


def sweep(folder: Path, known: Collection[str]) -> int:
    """Remove what killed processes left unfinished; how many files and folders.

    What somebody is still writing stays, and so do pictures that records know by their hash.
    """
    gone = 0
    for note in (folder / HOME).glob("*.new"):
        # Killed before it was a note: nothing it would have told of was begun.
        with contextlib.suppress(OSError):
            handle = os.open(note, os.O_RDWR)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                note.unlink(missing_ok=True)
            finally:
                os.close(handle)
    for note in (folder / HOME).glob("*.note"):
        try:
            handle = os.open(note, os.O_RDWR)
        except FileNotFoundError:
            continue
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            text = note.read_text("utf-8", "surrogateescape")
            told = json.loads(text)
            paths = [Path(p) for p in told["paths"]]
            gone += _unknown_gone(paths, known if told["pictures"] else ())
            note.unlink(missing_ok=True)
        except (OSError, ValueError, KeyError):
            # It is being written, or lies where nothing can be removed just now.
            continue
        finally:
            os.close(handle)
    return gone
