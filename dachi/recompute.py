"""Computing stored readings again from their marks, after the catalogue changed.

Work goes in batches, each in one transaction, and a marking's readings carry the
catalogue's version: what was done is not done again, however often the work is stopped.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from dachi.core.measure import measure
from dachi.core.scene import Result, Scene, SceneError
from dachi.data import catalogue
from dachi.store import markings, outdated
from dachi.store.database import connect, migrate, transaction
from dachi.web import digests
from dachi.web.scenes import scene_of

BATCH = 400


@dataclass(frozen=True)
class Recomputed:
    """How many markings were computed again, and how many could not be."""

    done: int
    failed: int


def recompute(
    folder: Path,
    *,
    everything: bool = False,
    progress: Callable[[int, int], None] = lambda done, total: None,
    workers: int = 2,
) -> Recomputed:
    """Bring every reading up to the present catalogue; ``everything`` redoes all of them."""
    db = connect(folder)
    try:
        migrate(db)
        wanted = outdated.ids(db, None if everything else catalogue().version)
        done = failed = 0
        touched: set[tuple[int, int, str]] = set()
        with ProcessPoolExecutor(workers) as pool:
            for ids in _batches(wanted, BATCH):
                jobs = list(_jobs(db, ids))
                results = list(pool.map(_measured, [scene for *_, scene in jobs], chunksize=25))
                with transaction(db):
                    for (marking_id, coach, person, pose, _), result in zip(
                        jobs, results, strict=True
                    ):
                        if result is None:
                            failed += 1
                            continue
                        markings.replace_readings(db, marking_id, result, catalogue().version)
                        touched.add((coach, person, pose))
                        done += 1
                progress(done + failed, len(wanted))
        for coach, person, pose in sorted(touched):
            with transaction(db):
                digests.refresh(db, coach, person, pose)
        return Recomputed(done, failed)
    finally:
        db.close()


def _batches(ids: list[int], size: int) -> Iterator[list[int]]:
    for i in range(0, len(ids), size):
        yield ids[i : i + size]


def _jobs(db: sqlite3.Connection, ids: list[int]) -> Iterator[tuple[int, int, int, str, Scene]]:
    """Marking, coach, practitioner, pose and scene of each marking that can be measured."""
    for stored in outdated.stored(db, ids):
        if stored.trial.pose in catalogue():
            scene = scene_of(
                stored.who, stored.photo, stored.trial, stored.position, stored.marking
            )
            yield stored.marking.id, stored.coach_id, stored.who.id, stored.trial.pose, scene


def _measured(scene: Scene) -> Result | None:
    try:
        return measure(scene, catalogue())
    except SceneError:
        return None
