"""A photograph filed with the wrong person goes to the one it shows; nothing is left behind."""

from __future__ import annotations

from dachi.store import assessments, practitioners, unsorted_photos
from dachi.store.assessments import Assessment
from dachi.studio.acting import acting
from dachi.studio.phrases import say_day
from dachi.studio.record import erasing
from dachi.studio.visits import intake
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: So many visits of other people are offered, the newest first.
MOST = 20


def offered(work: Work, pid: int) -> list[tuple[Assessment, str]]:
    """Open visits of other people: the visit, and whose and when in words."""
    found = []
    for visit in assessments.open_of_others(work.db, work.coach, pid, MOST):
        who = practitioners.get(work.db, work.coach, visit.practitioner_id)
        if who is not None:
            found.append((visit, f"{who.call_name}, {say_day(visit.taken_at)}"))
    return found


def _receiver(work: Work, aid: int) -> Assessment:
    """The visit that takes photographs in. Raises Refused where it may not."""
    visit = assessments.get(work.db, work.coach, aid)
    who = practitioners.get(work.db, work.coach, visit.practitioner_id) if visit else None
    if visit is None or who is None:
        raise Refused("Choose whose photograph it is.")
    if problem := intake.refusal(work, visit, who, "active"):
        raise Refused(problem)
    return visit


def move_shot(work: Work, tid: int, aid: int) -> Assessment:
    """A photograph with a place goes into another person's tray; marks and readings of it are
    erased. The visit it is in now. Raises Refused.
    """
    visit, trial = _receiver(work, aid), assessments.trial(work.db, work.coach, tid)
    if trial is None:
        raise Refused("There is no such photograph.")
    here = assessments.get(work.db, work.coach, trial.assessment_id)
    if here is not None and (problem := intake.closed(here)):
        raise Refused(problem)
    name = f"photograph-{trial.photo_id}.jpg"
    with acting(work, trial.practitioner_id, visit.practitioner_id):
        unsorted_photos.add(work.db, work.coach, visit.id, trial.photo_id, name)
        erasing.shot(work, tid)
    return visit


def move_tray(work: Work, here: Assessment, aid: int) -> int:
    """Everything in a visit's tray goes into another person's; how many. Raises Refused."""
    visit = _receiver(work, aid)
    with acting(work):
        waiting = unsorted_photos.of_assessment(work.db, work.coach, here.id)
        for one in waiting:
            unsorted_photos.add(work.db, work.coach, visit.id, one.photo_id, one.name)
        unsorted_photos.take(work.db, work.coach, here.id, [w.photo_id for w in waiting])
    return len(waiting)
