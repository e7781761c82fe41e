"""A person who goes on with another coach of the same copy."""

from __future__ import annotations

from dachi.data import catalogue
from dachi.store import accounts, erasing, moving, practitioners
from dachi.store import summaries as stored
from dachi.studio.record.moving import MovingProblem
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work


def hand_over(work: Work, pid: int, to: int) -> tuple[str, int]:
    """Give a person with all of theirs to another coach; their call name and new id. Links end.

    Raises MovingProblem where the person is not the coach's or the other cannot take them.
    """
    who = practitioners.get(work.db, work.coach, pid)
    other = accounts.by_id(work.db, to)
    if who is None:
        raise MovingProblem("There is no such person among yours")
    if other is None or other.closed_at is not None or to == work.coach:
        raise MovingProblem("Choose another coach whose account is open")
    tables = moving.dump(work.db, work.coach, [pid])
    done = moving.load(work.db, to, tables, beside=True)
    # Pictures stay where they are: the other's rows name them now.
    erasing.practitioner(work.db, work.coach, pid)
    for coach in (work.coach, to):
        stored.mark_stale(work.db, coach, [p.id for p in catalogue().poses])
    summaries.refresh_all(Work(work.db, work.folder, to), done.people)
    return who.call_name, done.people[0]
