"""The made-up studio: a coach at a small bouldering and aerial hall on an invented harbour."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from dachi.clock import Clock
from dachi.core import words
from dachi.core.assessing.runsheet import Slot
from dachi.data import catalogue
from dachi.demo import practice
from dachi.photos.ingest import take_in
from dachi.store import (
    accounts,
    assessments,
    day_states,
    goals,
    photos,
    positions,
    practitioners,
    preparation,
    run_sheets,
)
from dachi.store.database import connect
from dachi.store.day_states import DayState
from dachi.store.markings import Marking
from dachi.studio.acting import acting
from dachi.studio.bench import acts
from dachi.studio.bench.around import surroundings
from dachi.studio.practice import acts as practice_acts
from dachi.studio.record import readings_in
from dachi.studio.verdicts import summaries
from dachi.studio.visits import intake
from dachi.studio.visits import sheets as visits
from dachi.studio.visits.intake import Incoming, Place
from dachi.studio.work import Work

ACCOUNT, PASSWORD = "wenna@driftholm.example", "harbour-at-low-tide"
FOLDER = Path(__file__).parent / "pictures"
STUDIO = FOLDER / "studio.json"


#: Who came today and whose photographs, with corner cards, wait to be marked.
WAITING, PHOTOGRAPHS = "Tavi", Path(__file__).parent / "waiting"


#: Who came with readings another coach had written down, and the table: weeks ago, by whom.
WITH_A_TABLE, TABLE = "Bryn", Path(__file__).parent / "table.csv"


def fill(folder: Path, clock: Clock) -> None:
    """Fill an empty data folder with the studio; a folder that has a coach is left alone.

    The demo's pictures and marks are read from the package; every reading is computed.
    """
    db = connect(folder, clock)
    try:
        if accounts.any_coach(db):
            return
        studio = json.loads(STUDIO.read_text("utf-8"))
        with db.savepoint():
            coach = accounts.add(db, ACCOUNT, "Wenna", PASSWORD)
            work = Work(db, folder, coach.id)
            people = [_add_person(work, person) for person in studio["people"]]
            summaries.anew(work, people)
        _add_from_table(work)
        practice_acts.renew_weeks(work)
        for waiting in photos.unseen(work.db, work.coach):
            intake.look_over(work, waiting.trial)
    finally:
        db.close()


def _add_person(work: Work, person: dict[str, Any]) -> int:
    pid = practitioners.add(work.db, work.coach, person["call_name"], **person["record"])
    with acting(work, pid):
        _add_all(work, pid, person)
    return pid


def _add_all(work: Work, pid: int, person: dict[str, Any]) -> None:
    db, coach, today = work.db, work.coach, work.now()
    if person["visits"]:
        first = max(v["days_ago"] for v in person["visits"])
        asked = (today - timedelta(days=first)).date().isoformat()
        preparation.give_consent(db, coach, pid, given_on=asked, scope="show")
        preparation.answer_screening(
            db, coach, pid, answered_on=asked, yes=person.get("screening", [])
        )
        if person.get("cleared"):
            by, allowed = person["cleared"]
            preparation.clear(db, coach, pid, by=by, on=asked, allowed=allowed)
    for visit in person["visits"]:
        _add_visit(work, pid, visit)
    if person["call_name"] == WAITING:
        _add_waiting(work, pid)
    _add_plans(work, pid, person)
    practice.add(work, pid, person["call_name"])


def _add_visit(work: Work, pid: int, visit: dict[str, Any]) -> None:
    at = (work.now() - timedelta(days=visit["days_ago"])).replace(
        hour=visit["hour"], minute=15, second=0, microsecond=0
    )
    aid = assessments.add(
        work.db, work.coach, pid, taken_at=at.isoformat(timespec="minutes"),
        warmth=visit["warmth"], notes=visit["notes"],
    )  # fmt: skip
    state = DayState(
        pain={words.Place(p): level for p, level in visit.get("pain", {}).items()},
        sleep_h=7.5,
        hard_training="yesterday" if "the day before" in visit["notes"] else "",
        warm_up_min=8.0 if visit["warmth"] == "warm" else 0.0,
    )
    day_states.save(work.db, work.coach, aid, state)
    for shot in visit["shots"]:
        _add_shot(work, aid, shot)


def _add_from_table(work: Work) -> None:
    """Somebody measured by one coach, then by another: a slip to ask about, a loss from a best."""
    with acting(work):
        pid = practitioners.add(work.db, work.coach, WITH_A_TABLE, birth_year=1988)
    rows = [line.split(",", 1) for line in TABLE.read_text("utf-8").splitlines()]
    at = {weeks: work.now() - timedelta(weeks=int(weeks)) for weeks in {r[0] for r in rows[1:]}}
    days = {weeks: f"{then:%Y-%m-%d} 18:00" for weeks, then in at.items()}
    text = "\n".join([f"taken_at,{rows[0][1]}", *(f"{days[w]},{rest}" for w, rest in rows[1:])])
    _, table = readings_in.table_of(text)
    who = practitioners.get(work.db, work.coach, pid)
    assert who is not None
    readings_in.take_in(work, who, readings_in.check(table, table.guess(), work.now()))
    asked = (work.now() - timedelta(weeks=2)).date().isoformat()
    preparation.give_consent(work.db, work.coach, pid, given_on=asked, scope="measure")
    preparation.answer_screening(work.db, work.coach, pid, answered_on=asked, yes=[])


def _add_waiting(work: Work, pid: int) -> None:
    """A first visit, photographed an hour ago: cards are found as they come in, marks are not."""
    db, coach, now = work.db, work.coach, work.now()
    today = now.date().isoformat()
    practitioners.update(db, coach, pid, comes_for={"front-split"}, birth_year=1999)
    preparation.give_consent(db, coach, pid, given_on=today, scope="show")
    preparation.answer_screening(db, coach, pid, answered_on=today, yes=[])
    at = (now - timedelta(hours=1)).isoformat(timespec="minutes")
    aid = assessments.add(
        db, coach, pid, taken_at=at, warmth="warm", notes="First visit. Dances twice a week."
    )
    run_sheets.save(db, coach, aid, visits.new_lines(work, pid))
    visit = assessments.get(db, coach, aid)
    assert visit is not None
    for file in sorted(PHOTOGRAPHS.glob("*.jpg")):
        pose_id, _, side = file.stem.rpartition("-")
        pose = catalogue().pose(pose_id)
        place = Place(pose, side, "passive", 1, pose.default_variant())
        incoming = Incoming(file.read_bytes())
        taken = intake.described(take_in(incoming.data, work.folder), incoming)
        intake.added(work, visit, place, taken)


def _add_plans(work: Work, pid: int, person: dict[str, Any]) -> None:
    """Goals, notes and the next visit, dated from today."""

    def on(days: int) -> datetime:
        return work.now() + timedelta(days=days)

    for g in person["goals"]:
        goals.add(
            work.db, work.coach, pid, pose=g["pose"], family=g["family"], side=g["side"],
            mode=g["mode"], target=g["target"], due_on=on(g["in_days"]).date().isoformat(),
        )  # fmt: skip
    for n in person["notes"]:
        date = on(-n["days_ago"]).date().isoformat()
        goals.annotate(work.db, work.coach, pid, date, n["kind"], n["text"])
    if person["next_in_days"] is not None:
        at = on(person["next_in_days"]).replace(hour=18, minute=0, second=0, microsecond=0)
        practitioners.plan_visit(work.db, work.coach, pid, at.isoformat(timespec="minutes"))


def _add_shot(work: Work, aid: int, shot: dict[str, Any]) -> None:
    incoming = Incoming((FOLDER / shot["file"]).read_bytes())
    taken = take_in(incoming.data, work.folder)
    pose = catalogue().pose(shot["pose"])
    side, mode = shot["side"], shot["mode"]
    trial_id = assessments.add_trial(
        work.db, work.coach, aid,
        photos.add(work.db, work.coach, intake.described(taken, incoming)),
        Slot(pose.id, side, mode, shot["number"]),
        variant=pose.default_variant() | shot.get("variant", {}),
        position_id=positions.for_photo(
            work.db, work.coach, aid, pose.view, pose.setup, (taken.width, taken.height)
        ),
    )  # fmt: skip
    if shot["marks"] is None:
        return
    marking = Marking(
        marks={k: (p[0], p[1]) for k, p in shot["marks"].items()},
        corners={k: (p[0], p[1]) for k, p in shot["corners"].items()} if shot["corners"] else None,
    )
    trial = assessments.trial(work.db, work.coach, trial_id)
    assert trial is not None
    acts.keep(work, surroundings(work, trial), marking)
