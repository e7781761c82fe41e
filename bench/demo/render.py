"""Makes the demo's pictures: ``python -m bench.demo.render [WORKER OF]``; hours of two cores.

Everybody keeps one body, skin and clothes over the weeks, in one hall; light differs by
photograph, the camera by visit and pose. Poses are posed to the scenario's angles (true angles of
the body, by ``bench.bodies``), and the marks stored beside a picture are the skin points a coach
would set, with the error of a careful click. What is there is left alone; without arguments the
studio's file is written too.
"""

from __future__ import annotations

import io
import json
import sys
import zlib
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from PIL import Image

from bench.bodies.mesh import Array, Person, built
from bench.bodies.pictures import Room, render
from bench.bodies.pose import Posed
from bench.bodies.poses import MAKERS, Choice
from bench.bodies.shots import CLICKS, Shot, camera_for, heading_of, photograph, place, spot_of
from bench.bodies.truth import truth
from bench.demo.scenario import NEWCOMERS, PEOPLE, Course, MadeUpPerson, Visit
from dachi.core.body.pinhole import look_from
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue
from dachi.demo import FOLDER, STUDIO

CAREFUL = replace(CLICKS, mark_sd=2.5, corner_sd=1.6)
WIDTH = 1024
HOUR = 18
COLD_COSTS_DEG, TRIAL_SD_DEG = 6.0, 1.6
HALL = 11
#: What sets a pose's headline in its maker, and between what: name, low, high.
SETS = {
    "supine-leg-raise": ("value", 20, 130), "front-split": ("height", 9.0, 62.0),
    "half-split": ("tilt", -30, 85), "low-lunge": ("value", -5, 62),
    "deep-squat": ("flex", 78, 145), "butterfly": ("value", -12, 55),
    "straddle": ("value", 60, 178), "pigeon": ("value", -5, 80),
    "seated-rotation": ("turned", 0, 60),
}  # fmt: skip


@dataclass(frozen=True)
class Job:
    """One picture to be taken: its name, shot, and the seeds of clothes and light."""

    name: str
    shot: Shot
    looks: int
    light: int


def said(shot: Shot) -> float:
    """The headline of a shot, the mean of both sides where there are two."""
    return float(np.mean(list(truth(shot).values())))


def at_value(
    pose: Pose, who: Person, side: str, value: float, seed: int, slip: dict[str, float]
) -> Posed:
    """The body in the pose with its headline at a value, by bisection; scatter from the seed."""
    name, low, high = SETS[pose.id]

    def posed(x: float) -> Posed:
        rng = np.random.default_rng(seed)
        choice = Choice(side, heading_of(pose, side), **{name: x}, **slip)
        return place(pose, MAKERS[pose.id](who, rng, choice), rng)

    def miss(x: float) -> float:
        rng = np.random.default_rng(seed)
        return said(photograph(pose, side, posed(x), rng, CAREFUL, {})) - value

    below, above = miss(low), miss(high)
    if below * above > 0:
        return posed(low if abs(below) < abs(above) else high)
    for _ in range(14):
        middle = (low + high) / 2
        here = miss(middle)
        if abs(here) < 0.05:
            break
        low, high, below = (middle, high, here) if here * below > 0 else (low, middle, below)
    return posed(middle)


def shots_of(
    person: MadeUpPerson, who: Person, visit: Visit, pose: Pose, share: float
) -> list[tuple[Course, int, Shot]]:
    """All trials of one pose from one camera position."""
    rng = np.random.default_rng(zlib.crc32(f"{person.name}-{visit.days_ago}-{pose.id}".encode()))
    courses = person.courses[pose.id]
    higher = pose.headline.better == "higher"
    days = {c: float(rng.normal(0, person.day_sd)) if person.day_sd else 0.0 for c in courses}
    bodies = []
    for number in range(1, max(c.trials for c in courses) + 1):
        for c in (c for c in courses if number <= c.trials):
            value = c.first + (c.last - c.first) * share**0.8 + float(rng.normal(0, TRIAL_SD_DEG))
            value += days[c] + person.steps.get((visit.days_ago, pose.id, c.side, c.mode), 0.0)
            if visit.warmth == "cold":
                value += -COLD_COSTS_DEG if higher else COLD_COSTS_DEG
            slip = person.slips.get((visit.days_ago, pose.id, c.side, c.mode, number), {})
            side = "right" if c.side == "both" else c.side
            seed = int(rng.integers(2**31))
            bodies.append((c, number, side, at_value(pose, who, side, value, seed, slip)))
    look = look_from((0, -250, 60), 0, 0, 0, 26, 1600, 1200)
    spots: dict[str, Array] = {}
    for i, (_, _, side, posed) in enumerate(bodies):
        marks = [m for m in pose.marks if not m.optional]
        spots |= {f"{i}-{m.id}": spot_of(m, side, posed, look, CAREFUL) for m in marks}
        spots |= {f"{i}-{n}": c for n, c in posed.centres.items()}
    seen = camera_for(pose, spots, rng, yaw_sd=12.0)
    return [
        (c, number, photograph(pose, side, posed, rng, CAREFUL, {}, seen))
        for c, number, side, posed in bodies
    ]


def studio() -> tuple[dict[str, Any], list[Job]]:
    """The studio's file and every picture it names."""
    jobs: list[Job] = []
    people = [_person(p, jobs) for p in PEOPLE]
    people += [
        {"call_name": name, "record": {}, "visits": [], "goals": [], "notes": [],
         "next_in_days": 0 if name == "Merel" else None}
        for name in NEWCOMERS
    ]  # fmt: skip
    return {"people": people}, jobs


def _person(person: MadeUpPerson, jobs: list[Job]) -> dict[str, Any]:
    b = person.build
    who = built(b.gender, b.age, b.muscle, b.weight, b.height)
    first = max(v.days_ago for v in person.visits)
    visits = []
    for visit in person.visits:
        share = (first - visit.days_ago) / first
        shots: list[dict[str, Any]] = []
        for pose in catalogue().poses:
            if pose.id not in person.courses or (visit.only and pose.id not in visit.only):
                continue
            for i, (c, number, shot) in enumerate(shots_of(person, who, visit, pose, share)):
                name = f"{person.name.lower()}-{visit.days_ago:03d}-{pose.id}"
                name += f"-{c.side}-{c.mode}-{number}.jpg"
                jobs.append(Job(name, shot, b.looks, visit.days_ago * 31 + len(shots)))
                shots.append(_entry(c, number, name, shot, with_corners=i == 0))
        visits.append(
            {"days_ago": visit.days_ago, "hour": HOUR, "warmth": visit.warmth,
             "notes": visit.notes, "pain": person.pains.get(visit.days_ago, {}), "shots": shots}
        )  # fmt: skip
    return {
        "call_name": person.name,
        "record": person.record | {"height_cm": round(who.height)},
        "screening": list(person.screening),
        "cleared": list(person.cleared) if person.cleared else None,
        "visits": visits,
        "goals": [
            dict(zip(("pose", "family", "side", "mode", "target", "in_days"), g, strict=True))
            for g in person.goals
        ],
        "notes": [dict(zip(("days_ago", "kind", "text"), n, strict=True)) for n in person.notes],
        "next_in_days": person.next_in_days,
    }


def _entry(c: Course, number: int, name: str, shot: Shot, *, with_corners: bool) -> dict[str, Any]:
    assert shot.scene.mat is not None
    scale = WIDTH / shot.scene.image.width

    def px(points: dict[str, Any]) -> dict[str, list[float]]:
        return {n: [round(float(v) * scale, 1) for v in p] for n, p in points.items()}

    return {
        "pose": shot.scene.pose, "side": c.side, "mode": c.mode, "number": number, "file": name,
        "marks": px(dict(shot.scene.marks)),
        "corners": px(dict(shot.scene.mat.corners)) if with_corners else None,
        "true": {n: round(v, 2) for n, v in truth(shot).items()},
    }  # fmt: skip


def take(job: Job) -> None:
    """Render one picture, the focal length told as a phone tells it."""
    room = Room((), False, 0.6, 88, 0.4, 0.004, WIDTH, samples=14)
    rng = np.random.default_rng([55, job.light])
    data = render(job.shot, room, rng, hall=(HALL, job.looks))
    told = Image.Exif()
    told.get_ifd(0x8769)[41989] = int(job.shot.scene.image.focal_35mm or 26)
    with Image.open(io.BytesIO(data)) as image:
        image.save(FOLDER / job.name, "JPEG", quality=74, exif=told, optimize=True)


def main(argv: list[str]) -> int:
    """Without arguments the studio's file and all pictures; else every OF-th from WORKER on."""
    FOLDER.mkdir(exist_ok=True)
    found, jobs = studio()
    if not argv:
        wanted = {job.name for job in jobs}
        for old in FOLDER.glob("*.jpg"):
            if old.name not in wanted:
                old.unlink()
        STUDIO.write_text(json.dumps(found, separators=(",", ":")), "utf-8")
    worker, of = (int(a) for a in argv) if argv else (0, 1)
    for job in jobs[worker::of]:
        if not (FOLDER / job.name).exists():
            take(job)
            print(job.name, flush=True)
    return 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
