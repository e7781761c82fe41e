"""Weeks of practice for the made-up studio, dated back from today."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from dachi.core.words import PainKind, Place
from dachi.store import practice_log, practitioners, private_links, weeks
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import Profile
from dachi.studio.work import Work

#: Who practises: level, minutes, weekdays, props at home, answers to schools, weeks of log.
HABITS: dict[str, dict[str, Any]] = {
    "Runa": {
        "profile": Profile(level=2, minutes=20.0, weekdays=(0, 2, 4, 6)),
        "props": {"mat", "block", "strap", "cushion", "towel", "wall"},
        "schools": {"lengthen": "mixed", "counting": "breaths"},
        "drills": (
            ("lying-arrival", 60), ("lying-knee-circle", 64), ("lunge-half-split", 96),
            ("half-split-press", 80), ("raise-up", 120), ("goal-front-split", 90),
            ("goal-crossed-seat", 60), ("knees-together-feet-wide", 45), ("flat-rest", 120),
        ),
        "heights": {"goal-front-split": (22, 20, 18, 16, 14, 14)},
        "weeks": 6,
        "missed": {3, 10, 15},
        "easy": {"goal-front-split", "raise-up"},
        "sore": (2, 1, 3, 2, 4, 1, 2, 1),
    },
    "Ilo": {
        "profile": Profile(level=1, minutes=15.0, weekdays=(1, 3, 5)),
        "props": {"mat", "strap", "cushion", "wall"},
        "schools": {"lengthen": "yielding", "resting_leg": "bent"},
        "drills": (
            ("lying-arrival", 60), ("knees-sway", 40), ("lift-straight", 50), ("raise-up", 80),
            ("figure-four", 90), ("low-bridge", 24), ("flat-rest", 120),
        ),
        "heights": {},
        "weeks": 3,
        "missed": {2},
        "easy": set(),
        "sore": (1, 2, 2),
        "pain": (1, ("figure-four", Place.LEFT_KNEE, PainKind.KNEE)),
    },
    "Fenna": {
        "profile": Profile(level=3, minutes=30.0, weekdays=(0, 1, 3, 5)),
        "props": {"mat", "block", "strap", "bolster", "cushion", "wall"},
        "schools": {"lengthen": "mixed", "split": "squared"},
        "drills": (
            ("lying-arrival", 60), ("lunge-half-split", 96), ("half-split-press", 120),
            ("raise-up", 120), ("goal-front-split", 180), ("flat-rest", 120),
        ),
        "heights": {"goal-front-split": (8, 7, 6, 6, 5, 4)},
        "weeks": 6,
        "missed": {8},
        "easy": {"raise-up"},
        "sore": (2, 3, 2, 1, 2),
    },
    "Halla": {
        "profile": Profile(level=1, minutes=15.0, weekdays=(1, 4)),
        "props": {"mat", "strap", "cushion", "wall"},
        "schools": {"lengthen": "yielding", "resting_leg": "bent"},
        "drills": (
            ("lying-arrival", 60), ("knees-sway", 40), ("raise-up", 80), ("low-bridge", 24),
            ("flat-rest", 120),
        ),
        "heights": {},
        "weeks": 4,
        "missed": {5},
        "easy": set(),
        "sore": (1, 0, 1, 1),
    },
}  # fmt: skip


def add(work: Work, pid: int, name: str) -> None:
    """Give a person of the demo a profile, what they own, and a log."""
    habit = HABITS.get(name)
    if habit is None:
        return
    db, coach, today = work.db, work.coach, work.now()
    practitioners.update(
        db, coach, pid, props=habit["props"], schools=habit["schools"],
        email=f"{name.lower()}@driftholm.example",
    )  # fmt: skip
    weeks.save_profile(db, coach, pid, habit["profile"])
    monday = today - timedelta(days=today.weekday(), weeks=habit["weeks"] - 1)
    monday = monday.replace(hour=0, minute=0, second=0, microsecond=0)
    dates = [
        monday + timedelta(weeks=w, days=d, hours=7, minutes=40)
        for w in range(habit["weeks"])
        for d in habit["profile"].weekdays
    ]
    past = [d for d in dates if d.date() < today.date()]
    for i, at in enumerate(past):
        if i in habit["missed"]:
            continue
        last = len(past) - 1 - i
        done = _done(habit, (at - monday).days // 7, lately=last < 4)
        hurt = habit.get("pain")
        pains = (Pain(*hurt[1]),) if hurt is not None and hurt[0] == last else ()
        entry = NewLogEntry(
            once_key=f"demo-{i}", started_at=at.isoformat(timespec="seconds"),
            seconds=sum(d.seconds for d in done), felt=Felt.RIGHT, finished=not pains, done=done,
            notes="Slept badly." if i == 4 else "", pains=pains,
        )  # fmt: skip
        log_id = practice_log.add(db, coach, pid, entry)
        if last > 0:
            sore = habit["sore"][i % len(habit["sore"])]
            practice_log.set_soreness(db, coach, pid, log_id, sore)
    private_links.make(db, coach, pid)


def _done(habit: dict[str, Any], week: int, *, lately: bool) -> tuple[DrillDone, ...]:
    """What was done in a session of a week; some of it has been easy lately."""
    return tuple(
        DrillDone(
            drill,
            seconds,
            Felt.EASY if lately and drill in habit["easy"] else None,
            habit["heights"][drill][week] if drill in habit["heights"] else None,
        )
        for drill, seconds in habit["drills"]
    )
