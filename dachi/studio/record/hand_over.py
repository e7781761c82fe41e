"""A person who goes on with another coach of the same copy."""

from __future__ import annotations

from dachi.core.words import Happened
from dachi.store import accounts, erasing, happenings, moving, practitioners
from dachi.studio.acting import acting
from dachi.studio.record.erasing import letters_gone
from dachi.studio.record.moving import MovingProblem
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work


def hand_over(work: Work, pid: int, to: int, by: int | None = None) -> tuple[str, int]:
    """Give a person with all of theirs to another coach; their call name and new id. Links end.

    ``by`` is the owner who does it for a coach whose account is closed.

    Raises MovingProblem where the person is not the coach's or the other cannot take them.
    """
    who = practitioners.get(work.db, work.coach, pid)
    other = accounts.by_id(work.db, to)
    if who is None:
        raise MovingProblem("There is no such person among yours")
    if other is None or other.closed_at is not None or to == work.coach:
        raise MovingProblem("Choose another coach whose account is open")
    there = Work(work.db, work.folder, to)
    with acting(work):
        tables = moving.dump(work.db, work.coach, [pid])
        done = moving.load(work.db, to, tables, beside=True)
        # Pictures stay where they are: the other's rows name them now.
        erasing.practitioner(work.db, work.coach, pid)
        letters_gone(work, who)
        for one in (work, there):
            summaries.stale_from_now(one)
        summaries.anew(there, done.people)
        giver = accounts.by_id(work.db, work.coach)
        # The person's name stands in nothing that would outlive their record.
        happenings.note(work.db, work.coach, Happened.HANDED_OVER, detail=other.name)
        came = giver.name if giver is not None else ""
        happenings.note(work.db, to, Happened.CAME_FROM, done.people[0], came)
        if by is not None and by != work.coach:
            between = f"from {came} to {other.name}"
            happenings.note(work.db, by, Happened.HANDED_BETWEEN, detail=between)
    return who.call_name, done.people[0]
