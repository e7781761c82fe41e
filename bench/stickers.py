"""Stickers on rendered photographs: how many are found, how exactly, and named how well."""

from __future__ import annotations

import time
from concurrent.futures import ProcessPoolExecutor
from datetime import datetime
from pathlib import Path

import cv2
import numpy as np

from dachi.core.body.staging import seen_over_range
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue
from dachi.photos.stickers import MarkLayout, assign, decode, find_dots, pick_colour
from dachi.simulation.camera import Shot, photograph, set_up, stickers

PICTURES = 200
FOLDER = Path("var/bench-stickers")
SIZE = (1600, 1200)


def shot(number: int) -> tuple[Pose, Shot]:
    """One of the random shots: every pose in turn, sunlit or shaded, three outfits."""
    rng = np.random.default_rng([77, number])
    poses = catalogue().poses
    pose = poses[number % len(poses)]
    return pose, Shot(
        side="both" if pose.sides == "both" else str(rng.choice(["left", "right"])),
        value=float(rng.uniform(pose.figure.low, pose.figure.high)),
        yaw_deg=float(rng.uniform(-15, 15)),
        roll_deg=float(rng.normal(0, 1)),
        scatter_deg=3.0,
        stickers=True,
        sun=float(rng.integers(2)),
        outfit=int(rng.integers(3)),
        width=SIZE[0],
        height=SIZE[1],
        seed=number,
    )


def render(number: int) -> None:
    path = FOLDER / f"{number:03d}.jpg"
    if not path.exists():
        pose, wanted = shot(number)
        path.write_bytes(photograph(pose, wanted, datetime(2026, 11, 24))[0])


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    print(f"rendering {PICTURES} photographs (kept in {FOLDER}; ten minutes the first time)")
    with ProcessPoolExecutor(2) as pool:
        list(pool.map(render, range(PICTURES)))
    visible = found = named = silent = doubted = 0
    errors, seconds, wide = [], [], []
    for number in range(PICTURES):
        pose, wanted = shot(number)
        stage = set_up(pose, wanted)
        image = decode((FOLDER / f"{number:03d}.jpg").read_bytes())
        seen = {k: s for k, (_, s) in stickers(stage, wanted).items() if k in pose.required}
        inside = {
            k: s for k, s in seen.items()
            if 0 < stage.marks_px[k][0] < SIZE[0] and 0 < stage.marks_px[k][1] < SIZE[1]
        }  # fmt: skip
        # A coach picks the colour on a dot that shows.
        clear = max(inside, key=lambda k: inside[k])
        colour = pick_colour(image, *stage.marks_px[clear])
        spread = seen_over_range(pose, wanted.side, SIZE)
        layouts = [MarkLayout(tuple(m), np.array(list(m.values()))) for m in spread]
        start = time.perf_counter()
        dots = find_dots(image, colour)
        result = assign(dots, layouts, pose.required)
        seconds.append(time.perf_counter() - start)
        places = np.array([(d.x, d.y) for d in dots]).reshape(-1, 2)
        for name in (k for k, share in inside.items() if share > 0.5):
            visible += 1
            gap = np.hypot(*(places - stage.marks_px[name]).T)
            if len(gap) and gap.min() < 5:
                found += 1
                errors.append(float(gap.min()))
        for name, place in result.marks.items():
            right = np.hypot(*(np.array(place) - stage.marks_px[name])) < 8
            named += right
            doubted += right and name in result.doubtful
            silent += not right and name not in result.doubtful
        if number < 20:
            big = cv2.resize(image, (4000, 3000), interpolation=cv2.INTER_CUBIC)
            data = cv2.imencode(".jpg", cv2.cvtColor(big, cv2.COLOR_RGB2BGR))[1].tobytes()
            start = time.perf_counter()
            assign(find_dots(decode(data), colour), layouts, pose.required)
            wide.append(time.perf_counter() - start)
    print(f"visible stickers found: {found} of {visible}, {100 * found / visible:.1f} % (aim 98 %)")
    print(
        f"centroid error at 1600 px: median {np.median(errors):.2f} px (aim 1), "
        f"p95 {np.percentile(errors, 95):.2f} px"
    )
    print(
        f"named rightly: {named}, of these {doubted} with a doubt; "
        f"named wrongly without a warning: {silent} (aim 0)"
    )
    print(
        f"time: median {1000 * np.median(seconds):.0f} ms at 1600 px, "
        f"{1000 * np.median(wide):.0f} ms on 12 MP with decoding (aim 300 ms)"
    )


if __name__ == "__main__":
    main()
