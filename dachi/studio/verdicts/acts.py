"""Goals and notes: what a person wants, and what happened meanwhile."""

from __future__ import annotations

from datetime import date

from dachi.core.catalogue.poses import Pose
from dachi.core.words import Place
from dachi.store import doubts, goals
from dachi.store.doubts import Said
from dachi.store.practitioners import Practitioner
from dachi.studio.acting import acting
from dachi.studio.practice import acts as practice
from dachi.studio.records import Assessment
from dachi.studio.verdicts import questions
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: What a goal may be, in the measure's unit.
LEAST_GOAL, MOST_GOAL = -60.0, 240.0
MOST_NOTE = 300


def set_goal(
    work: Work, who: Practitioner, pose: Pose, side: str, mode: str, target: float, due: date | None
) -> None:
    """Set a goal on a side, or on each, by a date if one is given. Raises Refused, Conflict."""
    measure = pose.families[0]
    if not LEAST_GOAL <= target <= MOST_GOAL:
        raise Refused(f"A {measure.family_label} of {target:g} is not believable.")
    if due is not None and due <= work.today():
        raise Refused("The goal's date lies in the past: choose a later one.")
    if mode not in pose.modes:
        mode = next(iter(pose.modes))
    sides = ("both",) if pose.sides == "both" and not measure.side else ("left", "right")
    with acting(work, who.id):
        for one in sides:
            if side in (one, "each", "both", "") or one == "both":
                goals.add(
                    work.db, work.coach, who.id, pose=pose.id, family=measure.family, side=one,
                    mode=mode, target=target, due_on=due.isoformat() if due is not None else None,
                    took_over=measure.follows,
                )  # fmt: skip


def say(work: Work, visit: Assessment, key: str, answer: str) -> None:
    """Keep what a coach says of a visit that looks like a slip; nothing takes it back.

    Raises Refused.
    """
    asked = questions.asked_by(visit, key)
    known = [s for s in Said if s.value == answer]
    if asked is None or (answer and not known):
        raise Refused("That is not asked here any more: load the page again.")
    if known and known[0] not in questions.ANSWERS[asked[1]]:
        raise Refused("That is no answer to this question.")
    with acting(work, visit.practitioner_id):
        doubts.say(work.db, work.coach, asked, known[0] if known else None)


def close_goal(work: Work, goal_id: int) -> int | None:
    """Put a goal away; whose it was, None where there is none."""
    with acting(work):
        pid = goals.close(work.db, work.coach, goal_id)
        if pid is not None:
            with acting(work, pid):
                return pid
    return None


def add_note(
    work: Work, who: Practitioner, on: date, kind: str, text: str, place: Place | None
) -> bool:
    """Note an injury, a holiday, a change of plan: charts show it. Whether it was pain as well.

    Raises Refused.
    """
    if kind not in goals.KINDS or not text:
        raise Refused("Say in a few words what happened.")
    hurts = kind == "injury" and place is not None
    with acting(work, who.id):
        goals.annotate(work.db, work.coach, who.id, on.isoformat(), kind, text[:MOST_NOTE])
        if hurts and place is not None:
            practice.note_pain(work, who, place, on)
    return hurts


def remove_note(work: Work, note_id: int) -> int | None:
    """Take a note out of the charts; whose it was, None where there is none."""
    with acting(work):
        return goals.remove_annotation(work.db, work.coach, note_id)
