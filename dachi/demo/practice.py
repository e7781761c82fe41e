"""Weeks of practice for the made-up studio, dated back from today."""

from __future__ import annotations

import sqlite3
from datetime import datetime, timedelta
from typing import Any

from dachi.store import practice, practitioners
from dachi.store.practice import Profile

#: Who practises: level, minutes, weekdays, props at home, answers to schools, weeks of log.
HABITS: dict[str, dict[str, Any]] = {
    "Runa": {
        "profile": Profile(2, 20.0, (0, 2, 4, 6)),
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
        "profile": Profile(1, 15.0, (1, 3, 5)),
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
        "pain": (1, ("figure-four", "left knee", "knee")),
    },
}  # fmt: skip


def add(db: sqlite3.Connection, coach_id: int, pid: int, name: str, today: datetime) -> None:
    """Give a person of the demo a profile, what they own, and a log."""
    habit = HABITS.get(name)
    if habit is None:
        return
    practitioners.update(
        db, coach_id, pid, props=habit["props"], schools=habit["schools"],
        email=f"{name.lower()}@driftholm.example",
    )  # fmt: skip
    practice.save_profile(db, coach_id, pid, habit["profile"])
    days = habit["profile"].weekdays
    monday = today - timedelta(days=today.weekday(), weeks=habit["weeks"] - 1)
    monday = monday.replace(hour=0, minute=0, second=0, microsecond=0)
    dates = [
        monday + timedelta(weeks=w, days=d, hours=7, minutes=40)
        for w in range(habit["weeks"])
        for d in days
    ]
    past = [d for d in dates if d.date() < today.date()]
    for i, at in enumerate(past):
        if i in habit["missed"]:
            continue
        week = (at - monday).days // 7
        done = []
        for drill, seconds in habit["drills"]:
            row: dict[str, Any] = {"drill": drill, "seconds": seconds}
            if drill in habit["heights"]:
                row["prop_cm"] = habit["heights"][drill][week]
            if drill in habit["easy"] and len(past) - i <= 4:
                row["felt"] = "easy"
            done.append(row)
        last = len(past) - 1 - i
        hurt = habit.get("pain")
        pains = [hurt[1]] if hurt is not None and hurt[0] == last else []
        log_id = practice.add_log(
            db, coach_id, pid, once_key=f"demo-{i}", started_at=at.isoformat(timespec="seconds"),
            seconds=sum(d["seconds"] for d in done), felt="right", finished=not pains, done=done,
            pains=pains, notes="Slept badly." if i == 4 else "",
        )  # fmt: skip
        if last > 0:
            practice.set_soreness(db, coach_id, pid, log_id, habit["sore"][i % len(habit["sore"])])
    practice.make_link(db, coach_id, pid)
