"""A visit from opening it to signing it off: each a command."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from dachi.core.assessing import runsheet
from dachi.core.assessing.runsheet import SheetLine
from dachi.data import catalogue
from dachi.photos.ingest import source_digest
from dachi.store import (
    assessments,
    day_states,
    felt,
    goals,
    phone_links,
    photos,
    practitioners,
    run_sheets,
    signing,
    unsorted_photos,
)
from dachi.store.assessments import Assessment, Trial
from dachi.store.database import Conflict
from dachi.store.day_states import DayState
from dachi.store.practitioners import Practitioner
from dachi.studio.acting import acting
from dachi.studio.phrases import moment_of
from dachi.studio.visits import intake, sheets
from dachi.studio.visits.intake import Incoming, Refused
from dachi.studio.work import Work

#: How long a phone's link works.
PHONE_LASTS = timedelta(hours=3)


def lately(work: Work, pid: int, taken_at: str, but: int | None = None) -> Assessment | None:
    """The visit within the week before, whose repetition would tell the day's scatter."""
    try:
        at = moment_of(taken_at)
    except ValueError:
        return None
    for v in assessments.of_practitioner(work.db, work.coach, pid):
        gap = at - moment_of(v.taken_at)
        if v.id != but and timedelta(hours=12) <= gap <= timedelta(days=7):
            return v
    return None


def open_visit(
    work: Work, pid: int, at: datetime, warmth: str, notes: str, state: DayState, *,
    still: bool, aims: Sequence[str], once_key: str,
) -> int:  # fmt: skip
    """Open an assessment with its sheet; the same ``once_key`` again is the same one."""
    taken_at = at.isoformat(timespec="minutes")
    with acting(work, pid):
        aid = assessments.add(
            work.db, work.coach, pid, taken_at=taken_at, warmth=warmth, notes=notes,
            once_key=once_key,
        )  # fmt: skip
        if day_states.of_assessment(work.db, work.coach, aid) is None:
            again = still and lately(work, pid, taken_at, aid) is not None
            assessments.set_still(work.db, work.coach, aid, again)
            day_states.save(work.db, work.coach, aid, state)
            lines = sheets.new_lines(work, pid, [a for a in aims if a in catalogue()])
            run_sheets.save(work.db, work.coach, aid, lines)
    return aid


def change_visit(
    work: Work, visit: Assessment, at: datetime, warmth: str, notes: str, state: DayState, *,
    still: bool, revision: int,
) -> None:  # fmt: skip
    """Change date, warmth, notes and that day's state. Conflict where another device was first."""
    taken_at = at.isoformat(timespec="minutes")
    with acting(work, visit.practitioner_id):
        signing.claim(work.db, work.coach, visit.id, revision)
        assessments.update(
            work.db, work.coach, visit.id, taken_at=taken_at, warmth=warmth, notes=notes
        )
        again = still and lately(work, visit.practitioner_id, taken_at, visit.id) is not None
        assessments.set_still(work.db, work.coach, visit.id, again)
        day_states.save(work.db, work.coach, visit.id, state)


def feel(work: Work, visit: Assessment, kind: str, answer: str) -> None:
    """Keep what was felt, one tap; the same tap again takes it back. Raises Refused."""
    _open(visit)
    if felt.known(kind, answer):
        with acting(work):
            was = felt.of_visit(work.db, work.coach, visit.id).get(kind)
            felt.at_visit(work.db, work.coach, visit.id, kind, "" if was == answer else answer)


def _open(visit: Assessment) -> None:
    """Refused where an assessment is signed off."""
    if problem := intake.closed(visit):
        raise Refused(problem)


# ---- the sheet ---------------------------------------------------------------------------


def change_lines(
    work: Work, visit: Assessment, revision: int, act: str, pose_id: str | None,
    *, poses: Sequence[str] = (), side: str = "", mode: str = "", trials: str = "",
) -> tuple[SheetLine, ...]:  # fmt: skip
    """Change the sheet: which poses, one earlier, later or dropped, trials of a row.

    Raises Refused and Conflict; then nothing is changed.
    """
    _open(visit)
    own = sheets.all_trials(work, visit)
    now = sheets.lines_of(work, visit, own)
    pose = catalogue().pose(pose_id) if pose_id is not None else None
    with acting(work):
        signing.claim(work.db, work.coach, visit.id, revision)
        if act == "choose":
            now = sheets.chosen(work, visit, now, {t.pose for t in own}, poses)
        elif act == "open":
            now = sheets.with_rows(now, sheets.opened_since(work, visit))
        elif pose is None:
            raise Refused("There is no such change of a sheet.")
        elif act in ("up", "down"):
            now = runsheet.move(now, pose.id, -1 if act == "up" else 1)
        elif act == "drop":
            if any(t.pose == pose.id for t in own):
                raise Conflict("This pose has photographs: delete those first, then drop it.")
            now = tuple(x for x in now if x.pose != pose.id)
        elif act == "beside":
            for other in catalogue().beside(pose.id):
                now = runsheet.with_beside(now, pose, other)
        elif act == "trials" and trials.isdecimal():
            now = runsheet.with_trials(now, (pose.id, side, mode), int(trials))
        run_sheets.save(work.db, work.coach, visit.id, now)
    return now


# ---- photographs -------------------------------------------------------------------------


def delete_shot(work: Work, trial: Trial) -> bool:
    """Put a photograph away; False where it was already. Raises Refused, SceneError."""
    with acting(work, trial.practitioner_id):
        visit = assessments.get(work.db, work.coach, trial.assessment_id)
        if visit is not None:
            _open(visit)
        return assessments.delete_trial(work.db, work.coach, trial.id)


def restore_shot(work: Work, trial: Trial) -> None:
    """Bring a photograph back. Raises Refused, Conflict where its place was taken since."""
    with acting(work, trial.practitioner_id):
        visit = assessments.get(work.db, work.coach, trial.assessment_id)
        if visit is not None:
            _open(visit)
        assessments.restore_trial(work.db, work.coach, trial.id)


def into_tray(work: Work, visit: Assessment, data: bytes, name: str) -> None:
    """Keep a photograph until it is sorted onto the sheet. Raises Refused, PhotoError, OSError."""
    if double := photos.use_of(work.db, work.coach, source_digest(data)):
        raise Refused(intake.already(double))
    new = intake.store(work, Incoming(data))
    with acting(work):
        photo_id = photos.add(work.db, work.coach, new)
        unsorted_photos.add(work.db, work.coach, visit.id, photo_id, name)


def place_from_tray(
    work: Work, visit: Assessment, who: Practitioner, photo_id: int, chosen: str
) -> None:
    """Put a photograph of the tray in a place (``Slot.key``). Raises Refused, Conflict."""
    parts = dict(zip(("pose", "side", "mode", "number"), chosen.split("|"), strict=False))
    where = intake.place_of(parts, who)
    if problem := intake.refusal(work, visit, who, where.mode, where.pose, where.side):
        raise Refused(problem)
    with acting(work, who.id):
        trial_id = intake.added(work, visit, where, photo_id)
        unsorted_photos.take(work.db, work.coach, visit.id, [photo_id])
    intake.look_over(work, trial_id)


def empty_tray(work: Work, visit: Assessment) -> int:
    """Leave what is in the tray out of an assessment; how many photographs.

    They stay with it, out of sight, as long as deleted ones do, and go with it.
    """
    with acting(work):
        return unsorted_photos.leave_out(work.db, work.coach, visit.id)


def refill_tray(work: Work, visit: Assessment) -> int:
    """Bring back what was left out of the tray last; how many photographs. Raises Refused."""
    _open(visit)
    with acting(work):
        return unsorted_photos.bring_back(work.db, work.coach, visit.id)


# ---- phones and signing ------------------------------------------------------------------


def let_phone_in(work: Work, visit: Assessment, *, close: bool) -> None:
    """Make a link for a phone, those before ended; or only end them."""
    with acting(work):
        phone_links.revoke(work.db, work.coach, visit.id)
        if not close and intake.closed(visit) is None:
            until = (work.now() + PHONE_LASTS).isoformat(timespec="seconds")
            phone_links.make(work.db, work.coach, visit.id, until)


def sign_off(work: Work, visit: Assessment, agreed: str, next_at: datetime | None) -> bool:
    """Close an assessment with what was agreed; phones are shut out. False: it was closed."""
    pid = visit.practitioner_id
    with acting(work, pid):
        if not signing.sign_off(work.db, work.coach, visit.id, agreed[:300]):
            return False
        if agreed:
            # Agreed at the visit, whenever somebody gets round to signing it.
            on = visit.taken_at[:10]
            goals.annotate(work.db, work.coach, pid, on, "plan", agreed[:300])
        if next_at is not None:
            at = next_at.isoformat(timespec="minutes")
            practitioners.plan_visit(work.db, work.coach, pid, at)
        phone_links.revoke(work.db, work.coach, visit.id)
    return True


def reopen(work: Work, visit: Assessment, reason: str) -> bool:
    """Open a closed assessment again, with a reason that is kept. Raises Refused."""
    if not reason:
        raise Refused("Say why it is reopened: the reason is kept with the assessment.")
    with acting(work):
        return signing.reopen(work.db, work.coach, visit.id, reason[:300])
