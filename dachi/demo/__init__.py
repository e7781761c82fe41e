"""The made-up studio: a coach at a small bouldering and aerial hall on an invented harbour."""

from __future__ import annotations

import json
import shutil
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from dachi.core.measure import measure
from dachi.data import catalogue
from dachi.demo import practice as practising
from dachi.photos.ingest import take_in
from dachi.store import (
    accounts,
    assessments,
    days,
    goals,
    markings,
    photos,
    positions,
    practitioners,
    preparation,
)
from dachi.store.database import connect, transaction
from dachi.store.days import State
from dachi.store.markings import Marking
from dachi.web import digests, scenes
from dachi.web.taking import recorded

ACCOUNT, PASSWORD = "wenna@driftholm.example", "harbour-at-low-tide"
FOLDER = Path(__file__).parent / "pictures"
STUDIO = FOLDER / "studio.json"


def fill(folder: Path, *, today: datetime | None = None) -> None:
    """Fill an empty data folder with the studio; a folder that has a coach is left alone.

    The demo's pictures and marks are read from the package; every reading is computed.
    """
    db = connect(folder)
    try:
        if accounts.any_coach(db):
            return
        studio = json.loads(STUDIO.read_text("utf-8"))
        with transaction(db):
            coach = accounts.add(db, ACCOUNT, "Wenna", PASSWORD)
            people = [
                _add_person(db, folder, coach.id, person, today or datetime.now())
                for person in studio["people"]
            ]
            digests.refresh_all(db, coach.id, people)
    finally:
        db.close()


def _add_person(
    db: Any, folder: Path, coach_id: int, person: dict[str, Any], today: datetime
) -> int:
    pid = practitioners.add(db, coach_id, person["call_name"], **person["record"])
    if person["visits"]:
        first = max(v["days_ago"] for v in person["visits"])
        asked = (today - timedelta(days=first)).date().isoformat()
        preparation.give_consent(db, coach_id, pid, given_on=asked, scope="show")
        preparation.answer_screening(db, coach_id, pid, answered_on=asked, yes=[])
    for visit in person["visits"]:
        at = (today - timedelta(days=visit["days_ago"])).replace(
            hour=visit["hour"], minute=15, second=0, microsecond=0
        )
        aid = assessments.add(
            db,
            coach_id,
            pid,
            taken_at=at.isoformat(timespec="minutes"),
            warmth=visit["warmth"],
            notes=visit["notes"],
        )
        days.save_state(
            db,
            coach_id,
            aid,
            State(
                sleep_h=7.5,
                hard_training="yesterday" if "the day before" in visit["notes"] else "",
                warm_up_min=8.0 if visit["warmth"] == "warm" else 0.0,
            ),
        )  # fmt: skip
        for shot in visit["shots"]:
            _add_shot(db, folder, coach_id, pid, aid, shot)
    _add_plans(db, coach_id, pid, person, today)
    practising.add(db, coach_id, pid, person["call_name"], today)
    return pid


def _add_plans(db: Any, coach_id: int, pid: int, person: dict[str, Any], today: datetime) -> None:
    """Goals, notes and the next visit, dated from today."""

    def on(days: int) -> datetime:
        return today + timedelta(days=days)

    for g in person["goals"]:
        goals.add(
            db, coach_id, pid, pose=g["pose"], family=g["family"], side=g["side"],
            mode=g["mode"], target=g["target"], due_on=on(g["in_days"]).date().isoformat(),
        )  # fmt: skip
    for n in person["notes"]:
        goals.annotate(
            db, coach_id, pid, on(-n["days_ago"]).date().isoformat(), n["kind"], n["text"]
        )
    if person["next_in_days"] is not None:
        at = on(person["next_in_days"]).replace(hour=18, minute=0, second=0, microsecond=0)
        practitioners.plan_visit(db, coach_id, pid, at.isoformat(timespec="minutes"))


def _add_shot(
    db: Any, folder: Path, coach_id: int, pid: int, aid: int, shot: dict[str, Any]
) -> None:
    taken = take_in((FOLDER / shot["file"]).read_bytes(), folder)
    truth = shot["truth"]
    photo_id = recorded(db, coach_id, taken, "simulated", truth)
    pose = catalogue().pose(shot["pose"])
    tid = assessments.add_trial(
        db,
        coach_id,
        aid,
        photo_id,
        pose=pose.id,
        side=shot["side"],
        mode=shot["mode"],
        variant=pose.default_variant() | shot.get("variant", {}),
        number=shot["number"],
        position_id=positions.for_photo(db, aid, pose.view, pose.setup, taken.width, taken.height),
    )
    if shot["marks"] is None:
        return
    marking = Marking(
        {k: (p[0], p[1]) for k, p in shot["marks"].items()},
        corners={k: (p[0], p[1]) for k, p in shot["corners"].items()} if shot["corners"] else None,
    )
    who = practitioners.get(db, coach_id, pid)
    photo = photos.get(db, coach_id, photo_id)
    trial = assessments.trial(db, coach_id, tid)
    assert who is not None and photo is not None and trial is not None
    position = positions.get(db, coach_id, trial.position_id or 0)
    assert position is not None
    result = measure(scenes.scene_of(who, photo, trial, position, marking), catalogue())
    markings.save(db, coach_id, tid, marking, result, catalogue().version)


def reset(folder: Path) -> None:
    """Remove a demo data folder."""
    shutil.rmtree(folder, ignore_errors=True)
