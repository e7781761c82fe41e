"""Poses recognised on photographs of bodies: ``python -m bench.recognised [FOLDER]``.

The folder (var/pictures) is made by ``python -m bench.bodies.pictures FOLDER``. The sheet holds
the ten poses of those pictures, both sides. What is certain is put on its place, the rest asked
about.
"""

from __future__ import annotations

import json
import sys
import time
from collections import Counter
from pathlib import Path

import numpy as np

from dachi.core.measuring.recognise import certain, likenesses
from dachi.data import catalogue
from dachi.photos.stickers import decode
from dachi.studio.bench.seen_joints import see_anybody


def main(argv: list[str] | None = None) -> None:
    folder = Path((argv or ["var/pictures"])[0])
    files = [f for f in sorted(folder.glob("*.json")) if f.with_suffix(".jpg").exists()]
    told = [json.loads(f.read_text()) for f in files]
    poses = [catalogue().pose(p) for p in dict.fromkeys(t["pose"] for t in told)]
    places = [
        (p, s) for p in poses for s in (("left", "right") if p.sides != "both" else ("both",))
    ]
    every = Counter(t["pose"] for t in told)
    first, sure, sides = Counter[str](), Counter[str](), Counter[str]()
    wrong, took = [], []
    for file, t in zip(files, told, strict=True):
        image = decode(file.with_suffix(".jpg").read_bytes())
        size = (image.shape[1], image.shape[0])
        began = time.perf_counter()
        joints = see_anybody(image, places)
        took.append(time.perf_counter() - began)
        if joints is None:
            continue
        ranked = likenesses(joints, places, size)
        pose = catalogue().pose(t["pose"])
        true = (pose.id, t["side"] if pose.sides != "both" else "both")
        first[pose.id] += (ranked[0].pose, ranked[0].side) == true
        found = certain(ranked)
        if found is not None:
            sure[pose.id] += found.pose == pose.id
            sides[pose.id] += (found.pose, found.side) == true
            if found.pose != pose.id or found.side not in ("", true[1]):
                wrong.append(f"{file.stem}: {true} taken for {(found.pose, found.side)}")
    print(f"{'':20} {'shots':>6} {'first right':>12} {'certain of pose':>16} {'of side too':>12}")
    for name in every:
        print(f"{name:20} {every[name]:6} {first[name]:12} {sure[name]:16} {sides[name]:12}")
    sums = [sum(c.values()) for c in (first, sure, sides)]
    print(f"{'all':20} {len(files):6} {sums[0]:12} {sums[1]:16} {sums[2]:12}")
    print(f"certain and wrong: {len(wrong)}", *wrong, sep="\n  ")
    print(f"{np.median(took):.2f} s a picture, longest {max(took):.2f}")


if __name__ == "__main__":
    main(sys.argv[1:])
