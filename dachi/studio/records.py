"""Records as they are kept: everything a page reads that needs no more than whose it is.

Each is a function of the store, asked with a ``Work``: ``records.trial(work, 7)``. What is worked
out of records, and everything that changes them, has functions of its own elsewhere in the studio.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from dachi.clock import Clock
from dachi.core.assessing.runsheet import Slot as Slot
from dachi.core.catalogue.poses import Measure as Measure
from dachi.core.catalogue.poses import Pose as Pose
from dachi.core.measuring.scene import Reading as Reading
from dachi.core.measuring.scene import SceneError as SceneError
from dachi.core.practising.programme import NoPlan as NoPlan
from dachi.store import (
    accounts,
    assessments,
    day_states,
    felt,
    goals,
    happenings,
    invitations,
    markings,
    messages,
    phone_links,
    photos,
    positions,
    practice_log,
    practitioners,
    preparation,
    private_links,
    remarks,
    run_sheets,
    sessions,
    signing,
    summaries,
    today,
    unsorted_photos,
    weeks,
)
from dachi.store.accounts import MIN_PASSWORD as MIN_PASSWORD
from dachi.store.accounts import Coach as Coach
from dachi.store.assessments import Assessment as Assessment
from dachi.store.assessments import Trial as Trial
from dachi.store.database import Conflict as Conflict
from dachi.store.database import Database, connect
from dachi.store.database import DiskFull as DiskFull
from dachi.store.day_states import DayState as DayState
from dachi.store.markings import Marking as Marking
from dachi.store.messages import Message as Message
from dachi.store.photos import Photo as Photo
from dachi.store.practitioners import Practitioner as Practitioner
from dachi.store.today import Begun as Begun
from dachi.store.today import Seen as Seen
from dachi.store.weeks import PlannedSession as PlannedSession
from dachi.store.weeks import PlannedWeek as PlannedWeek
from dachi.store.weeks import Tuned as Tuned
from dachi.studio.work import Work

FELT_KINDS, NOTE_KINDS, INVITED_DAYS = felt.KINDS, goals.KINDS, invitations.DAYS

P = ParamSpec("P")
T = TypeVar("T")


def _own(read: Callable[Concatenate[Database, int, P], T]) -> Callable[Concatenate[Work, P], T]:
    """A function of the store, of the coach whose records a ``Work`` opens."""

    def ask(work: Work, /, *args: P.args, **more: P.kwargs) -> T:
        return read(work.db, work.coach, *args, **more)

    return ask


person = _own(practitioners.get)
people = _own(practitioners.listing)
words_with = _own(messages.of_practitioner)

visit = _own(assessments.get)
visits_of = _own(assessments.of_practitioner)
trial = _own(assessments.trial)
trials = _own(assessments.trials)
put_away = _own(assessments.put_away)
without_photograph = _own(assessments.without_photograph)
signings = _own(signing.history)
agreed_last = _own(signing.agreed_last)
state = _own(day_states.of_assessment)
last_state = _own(day_states.newest)
first_sides = _own(run_sheets.first_sides)
phone_link = _own(phone_links.live)
tray = _own(unsorted_photos.of_assessment)

photo = _own(photos.get)
people_on = _own(photos.people_on)
use_of = _own(photos.use_of)
draft = _own(markings.draft)
markings_of = _own(markings.history)
readings = _own(markings.readings)
headlines = _own(markings.headlines)
begun_by_cards = _own(positions.begun_by_cards)
marked_again = _own(remarks.of_coach)
to_mark_again = _own(remarks.unseen)

goals_of = _own(goals.of_practitioner)
notes_of = _own(goals.notes_of)
felt_at = _own(felt.of_visit)
felt_by = _own(felt.of_practitioner)
measured = _own(summaries.poses)
derived_at = _own(summaries.stamp)
begun = _own(today.begun)

consent = _own(preparation.consent)
screening = _own(preparation.screening)

sessions_practised = _own(practice_log.entries)
profile = _own(weeks.profile)
week_before = _own(weeks.plan_before)
private_link = _own(private_links.live)

happened = _own(happenings.of_coach)
signed_in = _own(sessions.of_coach)
invited = _own(invitations.open_ones)

# Of the whole copy, whoever asks.
any_coach = accounts.any_coach
coach = accounts.by_id
coaches = accounts.everybody
behind_invitation = invitations.behind
behind_private_link = private_links.behind
behind_phone_link = phone_links.behind
session_number = sessions.number_of

known_feeling = felt.known
say_felt = felt.say


def everybodys_names(folder: Path, clock: Clock) -> list[str]:
    """Every name and address in a data folder, whoever's they are: what a log must not tell."""
    with closing(connect(folder, clock)) as db:
        return practitioners.everybodys_names(db)
