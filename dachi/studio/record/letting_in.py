"""Coaches of a copy: coming in, inviting, resetting, closing, and what happened of it."""

from __future__ import annotations

from dachi.core.words import Happened
from dachi.store import accounts, happenings, invitations, sessions
from dachi.store.accounts import Coach
from dachi.store.database import Conflict, Database
from dachi.studio.acting import acting
from dachi.studio.bench.acts import mat_of
from dachi.studio.record.erasing import PUT_AWAY_DAYS
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work


def check_password(db: Database, email: str, password: str) -> Coach | None:
    """The coach whose address and password these are, None where they do not fit."""
    found, stronger = accounts.check_password(db, email, password)
    if found is not None and stronger:
        with db.savepoint():
            accounts.set_password(db, found.id, password)
    return found


def begin_session(db: Database, coach: Coach, agent: str) -> tuple[str, int]:
    """Begin a session of a coach who has shown who they are; its token and number."""
    with db.savepoint():
        token = sessions.begin(db, coach.id, agent)
        number = sessions.number_of(db, coach.id, token)
        assert number is not None
        happenings.note(db, coach.id, Happened.SIGNED_IN)
    return token, number


def end_session(work: Work, number: int) -> None:
    """End one of the coach's sessions, wherever its cookie is."""
    with acting(work):
        sessions.end(work.db, work.coach, number)


def end_others(work: Work, but: int) -> int:
    """End every session but one; how many ended."""
    with acting(work):
        return sessions.end_all(work.db, work.coach, but=but)


def first_coach(db: Database, email: str, name: str, password: str) -> Coach:
    """The first account of a copy, its owner's. Conflict where there is one already."""
    with db.savepoint():
        if accounts.any_coach(db):
            raise Conflict("There is an account already: sign in with it.")
        return accounts.add(db, email, name, password)


def change_password(work: Work, new: str, but: int) -> int:
    """Choose another password; every other session ends. How many did."""
    with acting(work):
        accounts.set_password(work.db, work.coach, new)
        ended = sessions.end_all(work.db, work.coach, but=but)
        happenings.note(work.db, work.coach, Happened.PASSWORD)
    return ended


def keep_deleted(work: Work, days: str) -> None:
    """For how long deleted photographs are kept. Raises Refused."""
    if days not in {str(d) for d in PUT_AWAY_DAYS}:
        raise Refused("Choose one of the times.")
    with acting(work):
        accounts.keep_put_away_days(work.db, work.coach, int(days))
        happenings.note(work.db, work.coach, Happened.KEPT_DAYS, detail=days)


def keep_mat(work: Work, length: str, width: str) -> None:
    """How large the studio's mat is: said once. Raises Refused."""
    long, wide = mat_of(length, width)
    with acting(work):
        accounts.keep_mat(work.db, work.coach, long, wide)


def invite(work: Work, name: str) -> str:
    """The token of a link by which a coach joins. Raises Refused, Conflict."""
    if not name:
        raise Refused("Say who is to join.")
    with acting(work):
        token = invitations.make(work.db, work.coach, name)
        happenings.note(work.db, work.coach, Happened.INVITED, detail=name)
    return token


def reset(work: Work, other: Coach) -> str:
    """The token of a link by which a coach who lost their password chooses another."""
    with acting(work):
        token = invitations.make(work.db, work.coach, other.name, other.id)
        happenings.note(work.db, work.coach, Happened.RESET_LINK, detail=other.name)
    return token


def take_back(work: Work, invitation: int) -> bool:
    """Take a link back that nobody has used."""
    with acting(work):
        return invitations.take_back(work.db, work.coach, invitation)


def close(work: Work, other: Coach, *, closed: bool) -> bool:
    """Close a coach's account, or open it again; False where it is the owner's."""
    with acting(work):
        if not accounts.close(work.db, other.id, closed=closed):
            return False
        if closed:
            sessions.end_all(work.db, other.id)
        kind = Happened.CLOSED if closed else Happened.OPENED
        happenings.note(work.db, work.coach, kind, detail=other.name)
    return True


def join(db: Database, token: str, email: str, name: str, password: str) -> Coach:
    """What is behind an invitation: an own account, or a new password.

    Raises Conflict where it was used a moment ago or the address is taken; then it works on.
    """
    found = invitations.behind(db, token)
    old = accounts.by_id(db, found.for_coach) if found and found.for_coach is not None else None
    with db.savepoint():
        if not invitations.use(db, token):
            raise Conflict("This link was used a moment ago.")
        if old is None:
            return accounts.add(db, email, name, password)
        accounts.set_password(db, old.id, password)
        sessions.end_all(db, old.id)
        happenings.note(db, old.id, Happened.PASSWORD_BY_LINK)
    return old
