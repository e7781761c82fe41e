"""Proposed marks on photographs of bodies: ``python -m bench.proposals [FOLDER]`` (var/pictures).

The folder is made by ``python -m bench.bodies.pictures FOLDER``. Errors are shares of the thigh's
length as the camera sees it, against the very points on the skin that a pose asks for; beside
them where marks would start without looking.
"""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from dachi.data import catalogue
from dachi.photos import landmarks
from dachi.photos.stickers import decode
from dachi.studio import starting_marks
from dachi.studio.seen_joints import joint_of, marks_of, see

#: Outer hip to outer knee, as a share of the body's height.
THIGH = 0.25


def thigh_px(told: dict[str, Any]) -> float:
    """About how long a thigh is at the mat's middle, px."""
    camera = told["camera"]
    middle = np.array(camera["rotation"]) @ [0, 0, 30.0] + camera["translation"]
    return float(THIGH * told["height_cm"] * camera["focal_px"] / middle[2])


def main(argv: list[str] | None = None) -> None:
    folder = Path((argv or ["var/pictures"])[0])
    seen: dict[tuple[str, str], list[float]] = {}
    blind: dict[tuple[str, str], list[float]] = {}
    took, nobody, exchanged, shots = [], 0, 0, 0
    for file in sorted(folder.glob("*.json")):
        picture = file.with_suffix(".jpg")
        if not picture.exists():
            continue
        told = json.loads(file.read_text())
        image = decode(picture.read_bytes())
        pose = catalogue().pose(told["pose"])
        size, variant = (image.shape[1], image.shape[0]), pose.default_variant()
        began = time.perf_counter()
        joints = see(image, pose, told["side"], variant)
        took.append(time.perf_counter() - began)
        shots += 1
        if joints is None:
            nobody += 1
            continue
        other = landmarks.swapped(joints)
        gaps = [
            sum(np.hypot(*(np.subtract(j[n], told["joints"][n]))) for n in j if n in told["joints"])
            for j in (joints, other)
        ]
        exchanged += gaps[1] < 0.8 * gaps[0]
        proposed = marks_of(joints, pose, told["side"], variant, size)
        guessed = starting_marks.guess_marks(pose, told["side"], *size)
        for m in pose.marks:
            part = (joint_of(m.body, told["side"]) or "").partition(".")[2] or "other"
            if m.id not in told["marks"] or m.id not in proposed:
                continue
            for found, into in ((proposed, seen), (guessed, blind)):
                off = np.hypot(*np.subtract(found[m.id], told["marks"][m.id])) / thigh_px(told)
                into.setdefault((pose.id, part), []).append(float(off))
    print(f"{shots} photographs, nobody seen in {nobody}, left and right exchanged in {exchanged}")
    parts = sorted({p for _, p in seen})
    print(f"{'of the thigh':20} {'seen, median':>13} {'90 %':>6} {'blind':>15} {'90 %':>6}")
    for part in parts:
        own, without = (
            np.concatenate([v for (_, p), v in rows.items() if p == part]) for rows in (seen, blind)
        )
        print(
            f"{part:20} {np.median(own):13.3f} {np.percentile(own, 90):6.2f}"
            f" {np.median(without):15.3f} {np.percentile(without, 90):6.2f}  ({len(own)})"
        )
    for pose_id in dict.fromkeys(p for p, _ in seen):
        words = [
            f"{part} {np.median(seen[pose_id, part]):.2f}"
            for part in parts
            if (pose_id, part) in seen
        ]
        print(f"  {pose_id:20} {', '.join(words)}")
    print(f"  {np.median(took):.2f} s a picture, longest {max(took):.2f}")


if __name__ == "__main__":
    main(sys.argv[1:])
