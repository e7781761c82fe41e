"""Computing stored readings again from their marks, after the rules or the catalogue changed.

Work goes in batches, each in one transaction: new readings, and the word that the summaries
resting on them are stale. Whatever the moment it is stopped at, what was done is not done
again, and nobody is shown a summary of readings that are gone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from dachi.clock import Clock
from dachi.core.measuring.measure import measure
from dachi.core.measuring.scene import Result, Scene, SceneError
from dachi.data import catalogue
from dachi.store import assessments, markings, outdated
from dachi.store import summaries as stored
from dachi.store.database import connect, migrate, transaction
from dachi.store.markings import Marking
from dachi.studio import versions
from dachi.studio.bench.markings import Surroundings, scene_of, surroundings, whole
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

BATCH = 400


@dataclass(frozen=True)
class Recomputed:
    """How many markings were computed again, how many could not be, and summaries renewed."""

    done: int
    failed: int
    summaries: int


@dataclass(frozen=True)
class _Job:
    marking_id: int
    pose: str
    scene: Scene


def recompute(
    folder: Path,
    clock: Clock,
    *,
    everything: bool = False,
    progress: Callable[[int, int], None] = lambda done, total: None,
    workers: int = 2,
    batch: int = BATCH,
) -> Recomputed:
    """Bring readings and summaries up to the present rules; ``everything`` redoes all readings."""
    db = connect(folder, clock)
    try:
        migrate(db)
        wanted = outdated.ids(db, None if everything else versions.measuring())
        total = sum(len(ids) for ids in wanted.values())
        done = failed = 0
        with ProcessPoolExecutor(workers if total else 1) as pool:
            for coach, ids in wanted.items():
                work = Work(db, folder, coach)
                for some in _batches(ids, batch):
                    jobs = list(_jobs(work, some))
                    scenes = [j.scene for j in jobs]
                    results = list(pool.map(_measured, scenes, chunksize=25))
                    kept = _keep(work, jobs, results)
                    done, failed = done + kept, failed + len(jobs) - kept
                    progress(done + failed, total)
        renewed = 0
        for coach in outdated.coaches(db):
            with transaction(db):
                renewed += summaries.freshen(Work(db, folder, coach))
        return Recomputed(done, failed, renewed)
    finally:
        db.close()


def _batches(ids: Sequence[int], size: int) -> Iterator[Sequence[int]]:
    for i in range(0, len(ids), size):
        yield ids[i : i + size]


def _jobs(work: Work, ids: Sequence[int]) -> Iterator[_Job]:
    """The scene of each marking that can be measured."""
    around: dict[int, Surroundings] = {}
    for marking_id in ids:
        marking = markings.get(work.db, work.coach, marking_id)
        if marking is None:
            continue
        at = around.get(marking.trial_id) or _around(work, marking)
        if at is not None:
            around[marking.trial_id] = at
            yield _Job(marking_id, at.pose.id, whole(at, scene_of(at, marking)))


def _around(work: Work, marking: Marking) -> Surroundings | None:
    trial = assessments.trial(work.db, work.coach, marking.trial_id)
    if trial is None or trial.pose not in catalogue():
        return None
    return surroundings(work, trial)


def _keep(work: Work, jobs: Sequence[_Job], results: Sequence[Result | None]) -> int:
    """Put a batch's readings in their places; how many there were."""
    kept = 0
    with transaction(work.db):
        touched = set()
        for job, result in zip(jobs, results, strict=True):
            if result is not None:
                markings.replace_readings(
                    work.db, work.coach, job.marking_id, result, versions.measuring()
                )
                touched.add(job.pose)
                kept += 1
        stored.mark_stale(work.db, work.coach, touched)
    return kept


def _measured(scene: Scene) -> Result | None:
    try:
        return measure(scene, catalogue())
    except SceneError:
        return None
