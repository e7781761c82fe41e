"""Proposed marks on photographs of bodies: ``python -m bench.proposals [FOLDER]`` (var/pictures).

The folder is made by ``python -m bench.bodies.pictures FOLDER``. Errors are shares of the thigh's
length as the camera sees it, against the very points on the skin that a pose asks for: of the
network's joints alone, of the body laid behind them with and without the mat, and of where marks
would start without looking. Then which marks are doubted, and what is read where a photograph is
accepted untouched. Nothing here is fitted on these pictures (see ``bench.bodies.network``).
"""

from __future__ import annotations

import sys
from collections import defaultdict
from pathlib import Path

import numpy as np

from bench.bodies.network import WRONG
from bench.bodies.sights import Sight, sights, untouched
from dachi.core.body.anatomy import exchanged
from dachi.core.measuring.fuse import Fused, fuse
from dachi.core.measuring.scene import Point
from dachi.core.rules import Z95
from dachi.data import habits
from dachi.studio.bench import starting_marks
from dachi.studio.bench.opening import WIDE_DEG
from dachi.studio.bench.seen_joints import joint_of

WAYS = ("alone", "fused", "no mat", "blind")


def placed(sight: Sight) -> tuple[dict[str, dict[str, Point]], Fused | None]:
    """Marks by each way, and the body behind them through the mat's camera."""
    assert sight.seen is not None
    pose, side, variant = sight.pose, sight.side, sight.pose.default_variant()
    ways: dict[str, dict[str, Point]] = {
        "blind": starting_marks.guess_marks(pose, side, sight.image.width, sight.image.height),
        "alone": {
            m.id: sight.seen.joints[joint]
            for m in pose.marks
            if (joint := joint_of(m.body, sight.told["side"])) is not None
        },
    }
    bodies = [
        fuse(pose, side, variant, sight.image, sight.seen.joints, camera,
             spreads_px=sight.seen.apart, habits=habits())
        for camera in (sight.estimate(), None)
    ]  # fmt: skip
    for name, body in zip(("fused", "no mat"), bodies, strict=True):
        if body is not None:
            ways[name] = body.marks
    return ways, bodies[0]


def main(argv: list[str] | None = None) -> None:
    gaps: dict[tuple[str, str, str], list[float]] = defaultdict(list)
    doubts: list[tuple[bool, bool, bool]] = []
    read: dict[str, list[tuple[float, float, bool]]] = defaultdict(list)
    swapped = nobody = shots = unread = 0
    took = []
    for sight in sights(Path((argv or ["var/pictures"])[0])):
        shots += 1
        took.append(sight.seconds)
        if sight.seen is None:
            nobody += 1
            continue
        ways, body = placed(sight)
        found = untouched(sight, body) if body is not None else None
        wide = found is not None and Z95 * found[1] > WIDE_DEG
        for m in sight.pose.marks:
            part = (joint_of(m.body, sight.told["side"]) or "").partition(".")[2] or "other"
            if m.id not in sight.told["marks"]:
                continue
            for way in WAYS:
                if m.id in ways.get(way, {}):
                    off = np.subtract(ways[way][m.id], sight.told["marks"][m.id])
                    gap = float(np.hypot(*off)) / sight.thigh_px
                    gaps[way, sight.pose.id, part].append(gap)
                    if way == "fused" and body is not None and m.id in sight.pose.required:
                        doubted = m.id not in body.certain()
                        doubts.append((gap > WRONG, doubted, doubted or wide))
        if body is not None:
            right, wrong = (
                sum(np.hypot(*np.subtract(j[n], sight.told["joints"][n])) for n in j)
                for j in (body.centres, exchanged(body.centres))
            )
            swapped += wrong < 0.8 * right
            certain = set(sight.pose.required) <= set(body.certain())
            if found is None:
                unread += 1
            else:
                read[sight.pose.id].append((*found, certain))
    print(f"{shots} photographs, nobody seen in {nobody}, left and right exchanged in {swapped}")
    parts = sorted({p for _, _, p in gaps})
    print(f"{'of the thigh':14}" + "".join(f"{w + ', median':>16} {'90 %':>5}" for w in WAYS))
    for part in parts:
        row = []
        for way in WAYS:
            own = [g for (w, _, p), v in gaps.items() if (w, p) == (way, part) for g in v]
            row.append(f"{np.median(own):16.3f} {np.percentile(own, 90):5.2f}" if own else " " * 22)
        print(f"{part:14}" + "".join(row))
    print("by pose, fused (alone)")
    for pose_id in dict.fromkeys(p for _, p, _ in gaps):
        words = []
        for part in parts:
            mine, raw = (gaps.get((w, pose_id, part)) for w in ("fused", "alone"))
            if mine:
                beside = f" ({np.median(raw):.2f})" if raw else ""
                words.append(f"{part} {np.median(mine):.2f}{beside}")
        print(f"  {pose_id:18} {', '.join(words)}")
    wrong, doubted, asked = np.array(doubts).T
    print(
        f"{np.mean(wrong):.0%} of marks are wrong by more than {WRONG:.0%} of the thigh;"
        f" {np.mean(doubted[wrong]):.0%} of those are doubted, and {np.mean(doubted):.0%} of all;"
        f" with whole readings that are too wide {np.sum(asked[wrong])} of {wrong.sum()} are asked"
        f" about, and {np.mean(asked):.0%} of all"
    )
    print(f"accepted untouched ({unread} not read): mean error, interval holds, sd over rms")
    rows = {p: np.array(v) for p, v in read.items()}
    rows["all"] = np.concatenate(list(rows.values()))
    rows["all is certain"] = rows["all"][rows["all"][:, 2] > 0]
    for name, r in rows.items():
        if len(r):
            error, sd = r[:, 0], r[:, 1]
            holds = np.mean(np.abs(error) < 1.96 * sd)
            width = np.sqrt(np.mean(sd**2) / np.mean(error**2))
            print(f"  {name:18} {np.mean(np.abs(error)):5.1f} {holds:5.0%} {width:5.2f} ({len(r)})")
    print(f"{np.median(took):.2f} s a picture, longest {max(took):.2f}")


if __name__ == "__main__":
    main(sys.argv[1:])
