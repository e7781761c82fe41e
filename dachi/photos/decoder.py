"""Reading pictures in processes of their own, each with a limit of time and of memory.

A file of a few hundred kilobytes can take a decoder minutes or gigabytes. Here it takes a process
of the lowest priority, which is ended when it has had enough; pages are answered meanwhile.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

import msgspec

from dachi.photos import decoded
from dachi.photos.decoded import Decoded, PhotoError

#: A photograph of 80 megapixels takes some eight seconds on a small machine.
LIMIT_S = 30.0
#: What a process may take at most, bytes: an 80-megapixel picture twice over, and the libraries.
LIMIT_BYTES = 2 << 30
#: Nothing that is asked or answered is longer, bytes.
MOST_BYTES = 1 << 28
#: So many idle processes are kept; large pictures are read one at a time.
KEPT = 2
_LARGE = threading.Lock()
#: Where this program lies: the process finds it wherever it is begun.
HERE = str(Path(__file__).parents[2])

TOO_LONG = (
    "The picture takes longer to read than any photograph does. Save it anew as a plain JPEG."
)
TOO_MUCH = "The picture takes more memory to read than a photograph does. Send a smaller size."


class _Asked(msgspec.Struct):
    """What is to be done with the picture that follows."""

    what: str
    profile: bool


class _Worker:
    """A process that reads one picture after the other."""

    def __init__(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "dachi.photos.decoder"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
            env=os.environ | {"PYTHONPATH": os.pathsep.join(p for p in (HERE, *sys.path) if p)},
        )  # fmt: skip
        assert self.process.stdin is not None and self.process.stdout is not None
        self.to: IO[bytes] = self.process.stdin
        self.back: IO[bytes] = self.process.stdout

    def ask(self, what: str, data: bytes, kind: Any, *, profile: bool = False) -> Any:
        """Have something done within the time there is for it; what it comes to.

        PhotoError says what became of it; EOFError or OSError where the process ended.
        """
        ended = threading.Event()

        def stop() -> None:
            ended.set()
            self.process.kill()

        watch = threading.Timer(LIMIT_S, stop)
        watch.daemon = True
        watch.start()
        try:
            _write(self.to, msgspec.msgpack.encode(_Asked(what, profile)))
            _write(self.to, data)
            head = _read(self.back)
            if head:
                raise PhotoError(head.decode("utf-8"))
            # Read as what it should be and nothing else: a picture may have taken the process over.
            return msgspec.msgpack.decode(_read(self.back), type=kind)
        except (EOFError, OSError, msgspec.DecodeError) as error:
            self.end()
            raise PhotoError(TOO_LONG if ended.is_set() else TOO_MUCH) from error
        finally:
            watch.cancel()

    def end(self) -> None:
        """End the process, whatever it does."""
        self.process.kill()
        for pipe in (self.to, self.back):
            with contextlib.suppress(OSError):
                pipe.close()
        self.process.wait()


_IDLE: list[_Worker] = []
_LOCK = threading.Lock()


def decode(data: bytes, *, profile: bool = False) -> Decoded:
    """Check and normalise a photograph (see ``decoded.decode``). Raises PhotoError."""
    with _worker() as worker:
        large = worker.ask("is_large", data, bool)
        with _LARGE if large else contextlib.nullcontext():
            found: Decoded = worker.ask("decode", data, Decoded, profile=profile)
            if large:
                # What it took is not given back while it lives.
                worker.end()
    return found


def small(stored: bytes) -> tuple[bytes, bytes]:
    """Preview and thumbnail of a stored picture. Raises PhotoError."""
    with _worker() as worker:
        found: tuple[bytes, bytes] = worker.ask("small", stored, tuple[bytes, bytes])
    return found


@contextlib.contextmanager
def _worker() -> Iterator[_Worker]:
    """A process that waits for something to do, or a new one."""
    with _LOCK:
        worker = _IDLE.pop() if _IDLE else None
    if worker is None or worker.process.poll() is not None:
        worker = _Worker()
    try:
        yield worker
    except PhotoError:
        _keep(worker)
        raise
    except BaseException:
        worker.end()
        raise
    _keep(worker)


def _keep(worker: _Worker) -> None:
    with _LOCK:
        if len(_IDLE) < KEPT and worker.process.poll() is None:
            _IDLE.append(worker)
            return
    worker.end()


def let_go() -> None:
    """End the processes that wait for something to do."""
    with _LOCK:
        idle, _IDLE[:] = list(_IDLE), []
    for worker in idle:
        worker.end()


#: Of the process that this one was forked from: not ours to talk to, nor to end.
_INHERITED: list[_Worker] = []


def _forked() -> None:
    _INHERITED.extend(_IDLE)
    _IDLE.clear()


atexit.register(let_go)
if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forked)


def _write(pipe: IO[bytes], body: bytes) -> None:
    pipe.write(len(body).to_bytes(8, "big"))
    pipe.write(body)
    pipe.flush()


def _read(pipe: IO[bytes]) -> bytes:
    """What the other end wrote; EOFError where it has ended."""
    head = pipe.read(8)
    size = int.from_bytes(head, "big")
    if len(head) < 8 or size > MOST_BYTES:
        raise EOFError
    body = pipe.read(size)
    if len(body) < size:
        raise EOFError
    return body


def main(source: IO[bytes], answers: IO[bytes]) -> None:
    """Do what is asked, one thing after the other, until nobody asks any more."""
    while True:
        try:
            asked = msgspec.msgpack.decode(_read(source), type=_Asked)
            data = _read(source)
        except EOFError:
            return
        problem, found = "", b""
        try:
            match asked.what:
                case "decode":
                    done: object = decoded.decode(data, profile=asked.profile)
                case "small":
                    done = decoded.small(data)
                case _:
                    done = decoded.is_large(data)
            found = msgspec.msgpack.encode(done)
        except PhotoError as error:
            problem = str(error)
        except MemoryError:
            problem = TOO_MUCH
        _write(answers, problem.encode("utf-8"))
        if not problem:
            _write(answers, found)


def _limit() -> None:
    """As little of the machine as there is beside everything else, and no more memory than that."""
    with contextlib.suppress(ImportError, OSError, ValueError, AttributeError):
        os.nice(10)
        import resource

        most = int(os.environ.get("DACHI_DECODE_BYTES", LIMIT_BYTES))
        resource.setrlimit(resource.RLIMIT_AS, (most, most))


if __name__ == "__main__":
    _limit()
    # What a library prints is no answer.
    own = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    with contextlib.suppress(KeyboardInterrupt, BrokenPipeError):
        main(sys.stdin.buffer, own)
