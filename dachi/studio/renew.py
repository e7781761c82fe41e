"""Making again what is derived, wherever its rules or its input are others than it was made from.

Every command ends with ``renew`` for the people it may have concerned: nothing else has to
remember what hangs on what.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from dachi.core.measuring.measure import measure
from dachi.core.measuring.scene import Result, Scene, SceneError
from dachi.data import catalogue
from dachi.store import markings
from dachi.store.assessments import Trial
from dachi.studio.bench.around import Around
from dachi.studio.bench.scenes import made_from, scene_of, whole
from dachi.studio.phrases import shot_name
from dachi.studio.practice import proposals
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: Tables whose rows say what readings are made from (see ``bench.scenes``).
READ_FROM = frozenset(
    {"coach", "practitioner", "assessment", "photo", "camera_position", "trial", "marking"}
)

#: What measures scenes: a result each, or why there is none.
Measuring = Callable[[Sequence[Scene]], Sequence[Result | SceneError]]


def measured(scene: Scene) -> Result | SceneError:
    """A scene's readings, or the error that says why there are none."""
    try:
        return measure(scene, catalogue())
    except SceneError as error:
        return error


def one_by_one(scenes: Sequence[Scene]) -> list[Result | SceneError]:
    """Scenes measured here, one after the other."""
    return [measured(s) for s in scenes]


@dataclass(frozen=True)
class Renewed:
    """How many readings were made again, and how many could not be."""

    read: int = 0
    failed: int = 0


def renew(
    work: Work,
    practitioner_id: int,
    *,
    strict: bool = True,
    everything: bool = False,
    readings: bool = True,
    by: Measuring = one_by_one,
) -> Renewed:
    """Readings, verdicts and proposals of a person, as of now; ``readings`` as they are where not
    asked for.

    Raises SceneError naming the photograph that cannot be read any more; where not ``strict``
    its readings stay as they were. ``everything`` is read again, whatever it was made from.
    """
    try:
        around = Around(work, practitioner_id)
    except KeyError:
        # Erased, or handed over, by this very command.
        return Renewed()
    found = Renewed()
    if readings:
        found = _readings(around, strict=strict, everything=everything, by=by)
    summaries.renew(work, practitioner_id)
    proposals.renew(work, around.who)
    return found


@dataclass(frozen=True)
class _Due:
    trial: Trial
    marking_id: int
    scene: Scene
    made_from: str
    known: bool
    read_before: bool


def read_ahead(work: Work, practitioner_id: int, by: Measuring, *, everything: bool) -> Measuring:
    """Measure what ``renew`` will have to measure, while others may write; nothing is kept.

    What is handed to ``renew`` instead: it measures only what has changed meanwhile.
    """
    known: dict[str, Result | SceneError] = {}

    def remembered(scenes: Sequence[Scene]) -> list[Result | SceneError]:
        stamps = [made_from(s) for s in scenes]
        new = [s for s, stamp in zip(scenes, stamps, strict=True) if stamp not in known]
        found = iter(by(new) if new else ())
        known.update({stamp: next(found) for stamp in stamps if stamp not in known})
        return [known[stamp] for stamp in stamps]

    with contextlib.suppress(KeyError):
        around = Around(work, practitioner_id)
        _readings(around, strict=False, everything=everything, by=remembered, keep=False)
    return remembered


def _readings(
    around: Around, *, strict: bool, everything: bool, by: Measuring, keep: bool = True
) -> Renewed:
    """Visit by visit from the first: what one teaches of the bones is input of those after it."""
    work, read, failed = around.work, 0, 0
    for visit in around.visits.values():
        due = [d for d in _due(around, visit.id) if everything or not d.known]
        for one, result in zip(due, by([d.scene for d in due]) if due else (), strict=True):
            if isinstance(result, SceneError):
                if strict:
                    raise _naming(one, result)
                failed += 1
            kept = None if isinstance(result, SceneError) else result
            if keep:
                markings.keep_readings(work.db, work.coach, one.marking_id, kept, one.made_from)
            if kept is not None:
                around.told(one.marking_id, visit.taken_at, kept.bones)
                read += 1
    return Renewed(read, failed)


def _due(around: Around, assessment_id: int) -> list[_Due]:
    here = around.shots(assessment_id)
    found = []
    for trial in here.trials:
        marking = here.newest.get(trial.id)
        if marking is None or trial.read_from is not None or trial.pose not in catalogue():
            continue
        at = around.of(trial)
        scene = whole(at, scene_of(at, marking))
        stamp = made_from(scene)
        found.append(
            _Due(
                trial, marking.id, scene, stamp, stamp == marking.made_from, bool(marking.made_from)
            )
        )
    return found


def _naming(one: _Due, error: SceneError) -> SceneError:
    """The error, with the photograph it is about where that is not the one just marked."""
    return SceneError(f"{shot_name(one.trial)}: {error}") if one.read_before else error
