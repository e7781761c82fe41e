"""Renders the demo's pictures once: ``python -m dachi.demo.build``. Minutes of work.

Every figure is posed by the scenario below plus scatter from a fixed seed; the marks
stored beside a picture are its true landmarks with the error of a careful click.
"""

from __future__ import annotations

import json
import sys
import zlib
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from dachi.core.body.figure import Body
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue
from dachi.demo import FOLDER, STUDIO
from dachi.simulation.camera import Shot, photograph, set_up, sidecar

CLICK_SD_PX, CORNER_SD_PX = 2.0, 1.3
#: Day of everybody's newest visit; pictures carry times counted back from it.
LAST_DAY = datetime(2026, 11, 23, 18, 15)
COLD_COSTS_DEG = 6.0
TRIAL_SD_DEG = 1.6


@dataclass(frozen=True)
class Course:
    """A measured range at the first and the last visit, degrees, and the trials a visit."""

    side: str
    mode: str
    first: float
    last: float
    trials: int = 1


@dataclass(frozen=True)
class Visit:
    """Days before the newest day, state, notes and the poses photographed (None: all)."""

    days_ago: int
    warmth: str = "warm"
    notes: str = ""
    only: tuple[str, ...] | None = None


@dataclass(frozen=True)
class MadeUpPerson:
    """One made-up practitioner with their photographed history."""

    name: str
    record: dict[str, Any]
    girth: float
    outfit: int
    visits: tuple[Visit, ...]
    courses: dict[str, tuple[Course, ...]]
    #: Shots with something to say: (days ago, pose, side, mode, trial) -> extra joint angles.
    slips: dict[tuple[int, str, str, str, int], dict[str, float]]
    #: Goals: pose, measure, side, mode, target, days from now. Notes: days ago, kind, words.
    goals: tuple[tuple[str, str, str, str, float, int], ...] = ()
    notes: tuple[tuple[int, str, str], ...] = ()
    next_in_days: int | None = None
    #: How far days differ; what a visit is off its course by: (days ago, pose, side, mode) -> deg.
    day_sd: float = 0.0
    steps: dict[tuple[int, str, str, str], float] = field(default_factory=dict)
    #: Pain at a visit: days ago -> place -> 0 to 10.
    pains: dict[int, dict[str, int]] = field(default_factory=dict)


RAISE, SPLIT, FLY, PIGEON = "supine-leg-raise", "front-split", "butterfly", "pigeon"
STRADDLE, LUNGE, HALF = "straddle", "low-lunge", "half-split"

PEOPLE = (
    MadeUpPerson(
        name="Runa",
        record={
            "birth_year": 1994,
            "height_cm": 168.0,
            "notes": "Aerial silks, twice a week. Wants an even front split by spring.",
        },
        girth=0.98,
        outfit=1,
        visits=(
            Visit(84, notes="First visit. Slept well."),
            Visit(70, only=(RAISE,)),
            Visit(56, notes="Hard bouldering session the day before."),
            Visit(42, "cold", "Came straight in from the cold, no warm-up.", (RAISE,)),
            Visit(28),
            Visit(14, only=(RAISE,)),
            Visit(1, notes="Says the left strap hold feels easier."),
        ),
        courses={
            RAISE: (
                Course("left", "active", 61, 68, 2),
                Course("left", "passive", 74, 88, 2),
                Course("right", "active", 68, 71, 2),
                Course("right", "passive", 83, 87, 2),
            ),
            FLY: (Course("both", "active", 17, 14), Course("both", "passive", 12, 8)),
            STRADDLE: (Course("both", "active", 98, 104), Course("both", "passive", 112, 119)),
            LUNGE: (Course("left", "passive", 31, 34), Course("right", "passive", 24, 26)),
            PIGEON: (
                Course("left", "passive", 38, 31),
                Course("right", "passive", 33, 30),
            ),
            SPLIT: (
                Course("left", "active", 138, 147),
                Course("left", "passive", 148, 161),
                Course("right", "active", 141, 144),
                Course("right", "passive", 154, 158),
            ),
        },
        slips={(28, RAISE, "left", "active", 1): {"other.hip_flexion": 11.0}},
        goals=(
            (SPLIT, "split_angle", "left", "passive", 168.0, 120),
            (SPLIT, "split_angle", "right", "passive", 168.0, 120),
            (RAISE, "hip_flexion", "left", "passive", 92.0, 70),
        ),
        notes=(
            (49, "holiday", "Ten days at sea, no practice."),
            (35, "plan", "Lunge holds doubled on the right."),
        ),
        next_in_days=13,
    ),
    MadeUpPerson(
        name="Ilo",
        record={
            "birth_year": 1987,
            "height_cm": 178.0,
            "notes": "Boulders four times a week. Stiff hips; wants to sit on the floor.",
        },
        girth=1.04,
        outfit=0,
        visits=(
            Visit(66, notes="First visit. Stiff after a week of driving."),
            Visit(45),
            Visit(24, notes="Practised five days a week."),
            Visit(3, notes="Knees come down on their own now."),
        ),
        courses={
            RAISE: (
                Course("left", "active", 52, 57),
                Course("left", "passive", 63, 71),
                Course("right", "active", 54, 60),
                Course("right", "passive", 66, 74),
            ),
            FLY: (Course("both", "active", 25, 20, 2), Course("both", "passive", 22, 13, 2)),
            STRADDLE: (Course("both", "active", 82, 85), Course("both", "passive", 91, 99)),
            PIGEON: (
                Course("left", "passive", 56, 47),
                Course("right", "passive", 58, 55),
            ),
            SPLIT: (
                Course("left", "passive", 117, 126),
                Course("right", "passive", 120, 127),
            ),
        },
        slips={(24, SPLIT, "right", "passive", 1): {"side.knee_flexion": 17.0}},
        goals=(
            (FLY, "thigh_rise", "left", "passive", 8.0, 60),
            (FLY, "thigh_rise", "right", "passive", 8.0, 60),
        ),
        notes=((52, "injury", "Tweaked the left knee on a heel hook; eased off for a week."),),
        next_in_days=1,
    ),
    # A drop for a reason, a plateau, a first sign, and a goal that one more look has to tell of.
    MadeUpPerson(
        name="Isk",
        record={
            "birth_year": 1990,
            "height_cm": 173.0,
            "notes": "Trapeze. Pulled something at the back of the left thigh this week.",
        },
        girth=1.0,
        outfit=2,
        visits=(
            Visit(100, notes="First visit."),
            Visit(79),
            Visit(58, notes="New shifts at work, less sleep."),
            Visit(37),
            Visit(16),
            Visit(2, notes="Felt it go on a drop three days ago."),
        ),
        courses={
            RAISE: (
                Course("left", "passive", 70, 78, 2),
                Course("right", "passive", 79, 79, 2),
            ),
            HALF: (Course("left", "passive", 58, 58, 2), Course("right", "passive", 61, 61, 2)),
            FLY: (Course("both", "passive", 21, 19),),
        },
        slips={},
        goals=((RAISE, "hip_flexion", "right", "passive", 78.0, 60),),
        notes=((5, "injury", "Pulled the back of the left thigh on a drop."),),
        next_in_days=12,
        day_sd=1.2,
        steps={
            (2, RAISE, "left", "passive"): -17.0,
            (2, HALF, "right", "passive"): 10.0,
        },
        pains={2: {"back of the left thigh": 5}},
    ),
)


#: People who have not been measured yet, so that lists look like a studio's.
NEWCOMERS = ("Tavi", "Merel", "Oona")


def build() -> None:
    """Render every picture that is missing and write the studio file."""
    FOLDER.mkdir(exist_ok=True)
    jobs: list[tuple[str, str, Shot, datetime]] = []
    studio: dict[str, Any] = {"people": [_person(p, jobs) for p in PEOPLE]}
    studio["people"] += [
        {"call_name": name, "record": {}, "visits": [], "goals": [], "notes": [],
         "next_in_days": 0 if name == "Merel" else None}
        for name in NEWCOMERS
    ]  # fmt: skip
    wanted = {name for name, *_ in jobs}
    for old in FOLDER.glob("*.jpg"):
        if old.name not in wanted:
            old.unlink()
    todo = [j for j in jobs if not (FOLDER / j[0]).exists()]
    print(f"{len(jobs)} pictures, {len(todo)} to render")
    with ProcessPoolExecutor(2) as pool:
        for i, name in enumerate(pool.map(_render, todo), start=1):
            print(f"\r{i}/{len(todo)} {name}", end="", file=sys.stderr)
    STUDIO.write_text(json.dumps(studio, separators=(",", ":")), "utf-8")
    size = sum(f.stat().st_size for f in FOLDER.glob("*.jpg"))
    print(f"\n{size / 1e6:.1f} MB")


def _render(job: tuple[str, str, Shot, datetime]) -> str:
    name, pose, shot, at = job
    data, _ = photograph(catalogue().pose(pose), shot, at)
    (FOLDER / name).write_bytes(data)
    return name


def _person(person: MadeUpPerson, jobs: list[tuple[str, str, Shot, datetime]]) -> dict[str, Any]:
    body = Body(person.record["height_cm"], person.girth)
    record = person.record | {f"{k}_cm": round(v, 1) for k, v in body.segments_cm.items()}
    first = max(v.days_ago for v in person.visits)
    visits = []
    for visit in person.visits:
        share = (first - visit.days_ago) / first
        rng = np.random.default_rng(zlib.crc32(f"{person.name}-{visit.days_ago}".encode()))
        shots: list[dict[str, Any]] = []
        for pose in catalogue().poses:
            if pose.id in person.courses and (visit.only is None or pose.id in visit.only):
                shots += _shots(person, visit, pose, share, body, rng, len(shots), jobs)
        visits.append(
            {
                "days_ago": visit.days_ago,
                "hour": LAST_DAY.hour,
                "warmth": visit.warmth,
                "notes": visit.notes,
                "pain": person.pains.get(visit.days_ago, {}),
                "shots": shots,
            }
        )
    return {
        "call_name": person.name,
        "record": record,
        "visits": visits,
        "goals": [
            dict(zip(("pose", "family", "side", "mode", "target", "in_days"), g, strict=True))
            for g in person.goals
        ],
        "notes": [dict(zip(("days_ago", "kind", "text"), n, strict=True)) for n in person.notes],
        "next_in_days": person.next_in_days,
    }


def _shots(
    person: MadeUpPerson,
    visit: Visit,
    pose: Pose,
    share: float,
    body: Body,
    rng: np.random.Generator,
    taken: int,
    jobs: list[tuple[str, str, Shot, datetime]],
) -> list[dict[str, Any]]:
    """All trials of one pose from one camera position; the first shot has the mat's corners."""
    found: list[dict[str, Any]] = []
    yaw, roll = float(rng.uniform(-12, 12)), float(rng.normal(0, 0.8))
    courses = person.courses[pose.id]
    higher = pose.headline.better == "higher"
    days = {c: float(rng.normal(0, person.day_sd)) if person.day_sd else 0.0 for c in courses}
    for number in range(1, max(c.trials for c in courses) + 1):
        for c in courses:
            if number > c.trials:
                continue
            value = c.first + (c.last - c.first) * share**0.8 + float(rng.normal(0, TRIAL_SD_DEG))
            value += days[c] + person.steps.get((visit.days_ago, pose.id, c.side, c.mode), 0.0)
            if visit.warmth == "cold":
                value += -COLD_COSTS_DEG if higher else COLD_COSTS_DEG
            shot = Shot(
                side=c.side,
                value=round(min(max(value, pose.figure.low), pose.figure.high), 2),
                yaw_deg=round(yaw, 2),
                roll_deg=round(roll, 2),
                scatter_deg=2.0,
                outfit=person.outfit,
                body=body,
                seed=int(rng.integers(2**31)),
            )
            slip = person.slips.get((visit.days_ago, pose.id, c.side, c.mode, number))
            if slip:
                shot = replace(shot, extra=slip)
            name = f"{person.name.lower()}-{visit.days_ago:03d}-{pose.id}"
            name += f"-{c.side}-{c.mode}-{number}.jpg"
            at = LAST_DAY - timedelta(days=visit.days_ago - 1)
            at += timedelta(minutes=2 * (taken + len(found)))
            jobs.append((name, pose.id, shot, at))
            found.append(_entry(pose, c, number, name, shot, at, rng, not found))
    return found


def _entry(
    pose: Pose,
    course: Course,
    number: int,
    name: str,
    shot: Shot,
    at: datetime,
    rng: np.random.Generator,
    with_corners: bool,
) -> dict[str, Any]:
    truth = sidecar(pose, shot, set_up(pose, shot), at)

    def click(point: list[float], sd: float) -> list[float]:
        return [round(float(v + rng.normal(0, sd)), 1) for v in point]

    marks = {k: click(truth["marks_px"][k], CLICK_SD_PX) for k in pose.required}
    corners = {k: click(p, CORNER_SD_PX) for k, p in truth["corners_px"].items()}
    return {
        "pose": pose.id,
        "side": course.side,
        "mode": course.mode,
        "number": number,
        "file": name,
        "truth": truth,
        "marks": marks,
        "corners": corners if with_corners else None,
    }


if __name__ == "__main__":
    build()
