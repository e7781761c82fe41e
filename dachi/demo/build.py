"""Renders the demo's pictures once: ``python -m dachi.demo.build``. Minutes of work.

Every figure is posed by the scenario below plus scatter from a fixed seed; the marks
stored beside a picture are its true landmarks with the error of a careful click.
"""

from __future__ import annotations

import json
import sys
import zlib
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from dachi.core.figure import Body
from dachi.data import catalogue
from dachi.demo import FOLDER, STUDIO
from dachi.devices.camera import Shot, photograph

CLICK_SD_PX, CORNER_SD_PX = 2.0, 1.3
START = datetime(2026, 8, 31, 18, 15)

#: For each pose: (side, mode) -> headline degrees at the first and the last visit.
Course = dict[tuple[str, str], tuple[float, float]]

PEOPLE: list[dict[str, Any]] = [
    {
        "call_name": "Runa",
        "record": {
            "birth_year": 1994,
            "height_cm": 168.0,
            "notes": "Aerial silks, twice a week. Wants an even front split by spring.",
        },
        "girth": 0.98,
        "outfit": 1,
        "visits": [
            (84, "warm", "First visit. Slept well.", "all"),
            (70, "warm", "", "raise"),
            (56, "warm", "Hard bouldering session the day before.", "all"),
            (42, "cold", "Came straight in from the cold, no warm-up.", "raise"),
            (28, "warm", "", "all"),
            (14, "warm", "", "raise"),
            (1, "warm", "Says the left strap hold feels easier.", "all"),
        ],
        "courses": {
            "supine-leg-raise": {
                ("left", "active"): (61, 68),
                ("left", "passive"): (74, 88),
                ("right", "active"): (68, 71),
                ("right", "passive"): (83, 87),
            },
        },
    },
]

#: What a visit photographs, by the word in its row.
PROGRAMMES = {"all": None, "raise": ("supine-leg-raise",)}


def build() -> None:
    """Render every picture that is missing and write the studio file."""
    FOLDER.mkdir(exist_ok=True)
    jobs: list[tuple[str, str, Shot, datetime]] = []
    studio = {"people": [_person(p, jobs) for p in PEOPLE]}
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


def _person(person: dict[str, Any], jobs: list[tuple[str, str, Shot, datetime]]) -> dict[str, Any]:
    body = Body(person["record"]["height_cm"], person["girth"])
    record = dict(person["record"])
    record |= {f"{k}_cm": round(v, 1) for k, v in body.segments_cm.items()}
    visits = []
    first = max(days for days, *_ in person["visits"])
    for days_ago, warmth, notes, programme in person["visits"]:
        key = f"{person['call_name'].lower()}-{first - days_ago:03d}"
        rng = np.random.default_rng(zlib.crc32(key.encode()))
        share = (first - days_ago) / first
        yaw = float(rng.uniform(-12, 12))
        shots: list[dict[str, Any]] = []
        for pose_id, course in person["courses"].items():
            poses = PROGRAMMES[programme]
            if poses is not None and pose_id not in poses:
                continue
            shots += _shots(person, key, pose_id, course, share, warmth, yaw, body, rng, jobs)
        visits.append(
            {"days_ago": days_ago, "hour": 18, "warmth": warmth, "notes": notes, "shots": shots}
        )
    return {"call_name": person["call_name"], "record": record, "visits": visits}


def _shots(
    person: dict[str, Any],
    key: str,
    pose_id: str,
    course: Course,
    share: float,
    warmth: str,
    yaw: float,
    body: Body,
    rng: np.random.Generator,
    jobs: list[tuple[str, str, Shot, datetime]],
) -> list[dict[str, Any]]:
    """Two trials of each side and mode; the first shot of a camera position has the corners."""
    pose = catalogue().pose(pose_id)
    found: list[dict[str, Any]] = []
    roll = float(rng.normal(0, 0.8))
    for number in (1, 2):
        for (side, mode), (start, end) in course.items():
            value = start + (end - start) * share**0.8 + float(rng.normal(0, 1.6))
            value -= 6.0 if warmth == "cold" else 0.0
            name = f"{key}-{pose_id}-{side}-{mode}-{number}.jpg"
            shot = Shot(
                side=side,
                value=round(value, 2),
                yaw_deg=round(yaw, 2),
                roll_deg=round(roll, 2),
                scatter_deg=2.0,
                outfit=person["outfit"],
                body=body,
                seed=int(rng.integers(2**31)),
            )
            if name.startswith("runa-028") and name.endswith("left-active-1.jpg"):
                # One attempt with the resting thigh lifting, so that a check has something to say.
                shot = replace(shot, extra={"other.hip_flexion": 11.0})
            at = START + timedelta(days=round(84 * share), minutes=2 * len(found))
            jobs.append((name, pose_id, shot, at))
            found.append(_entry(pose_id, side, mode, number, name, shot, at, rng, not found))
    assert pose.id == pose_id
    return found


def _entry(
    pose_id: str,
    side: str,
    mode: str,
    number: int,
    name: str,
    shot: Shot,
    at: datetime,
    rng: np.random.Generator,
    with_corners: bool,
) -> dict[str, Any]:
    from dachi.devices.camera import set_up, sidecar

    pose = catalogue().pose(pose_id)
    truth = sidecar(pose, shot, set_up(pose, shot), at)

    def click(point: list[float], sd: float) -> list[float]:
        return [round(float(v + rng.normal(0, sd)), 1) for v in point]

    marks = {k: click(truth["marks_px"][k], CLICK_SD_PX) for k in pose.required}
    corners = (
        {k: click(p, CORNER_SD_PX) for k, p in truth["corners_px"].items()}
        if with_corners
        else None
    )
    return {
        "pose": pose_id,
        "side": side,
        "mode": mode,
        "number": number,
        "file": name,
        "truth": truth,
        "marks": marks,
        "corners": corners,
    }


if __name__ == "__main__":
    build()
