"""Reading stored photographs again after the rules or the catalogue changed.

One person after another, each in one transaction: whatever the moment it is stopped at, what was
done is not done again, and nobody is shown a summary of readings that are gone.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

from dachi.clock import Clock
from dachi.core.measuring.scene import Result, Scene, SceneError
from dachi.store import outdated
from dachi.store.database import connect, migrate
from dachi.studio import versions
from dachi.studio.renew import Measuring, measured, one_by_one, read_ahead, renew
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work


@dataclass(frozen=True)
class Recomputed:
    """How many photographs were read again, how many could not be, and summaries renewed."""

    done: int
    failed: int
    summaries: int


#: So many are read sooner than a process is started for them.
FEW = 60


def _behind() -> None:
    """Pages are answered before."""
    with contextlib.suppress(OSError, AttributeError):
        os.nice(10)


def _pool(workers: int) -> ProcessPoolExecutor:
    # Threads answer pages meanwhile: a fork of them could wait for a lock that nobody holds.
    return ProcessPoolExecutor(workers, get_context("spawn"), _behind)


def _in(pool: ProcessPoolExecutor) -> Measuring:
    def by(scenes: Sequence[Scene]) -> Sequence[Result | SceneError]:
        return list(pool.map(measured, scenes, chunksize=4))

    return by


def recompute(
    folder: Path,
    clock: Clock,
    *,
    everything: bool = False,
    progress: Callable[[int, int], None] = lambda done, total: None,
    workers: int = 2,
) -> Recomputed:
    """Bring readings and summaries up to the present rules; ``everything`` redoes all readings."""
    db = connect(folder, clock)
    try:
        migrate(db)
        wanted = outdated.people(db, None if everything else versions.measuring())
        total = sum(sum(people.values()) for people in wanted.values())
        progress(0, total)
        done = failed = gone_over = renewed = 0
        with ExitStack() as held:
            by: Measuring = one_by_one
            if total > FEW:
                by = _in(held.enter_context(_pool(workers)))
            for coach, people in wanted.items():
                work = Work(db, folder, coach)
                for person, count in people.items():
                    # Nobody waits while it is measured: only for what it comes to being kept.
                    ahead = read_ahead(work, person, by, everything=everything)
                    with db.savepoint():
                        found = renew(work, person, strict=False, everything=everything, by=ahead)
                        summaries.stale_from_now(work)
                    done, failed = done + found.read, failed + found.failed
                    gone_over += count
                    progress(gone_over, total)
        for coach in outdated.coaches(db):
            renewed += summaries.freshen_all(Work(db, folder, coach))
        return Recomputed(done, failed, renewed)
    finally:
        db.close()
