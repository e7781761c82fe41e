"""Marks as COCO keypoints: one category a pose, one annotation a marked picture.

Keypoints are triples x, y, v in the category's order; v is 2 for a mark that was placed
and 0 (with x = y = 0) for one that was not. COCO counts pixels from the top-left corner,
as scenes do.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from dachi.core.catalogue.poses import Catalogue, Pose
from dachi.errors import NotDone

Point = tuple[float, float]
MOST_BYTES = 5 << 20


class CocoError(NotDone):
    """A file that holds no usable keypoints; the message is for the person."""

    code = "coco"


@dataclass(frozen=True)
class Marked:
    """One picture's marks, px, with what identifies it."""

    id: int
    file_name: str
    width: int
    height: int
    pose: str
    side: str
    mode: str
    marks: Mapping[str, Point]


def export(pictures: Iterable[Marked], catalogue: Catalogue) -> dict[str, Any]:
    """Return a COCO data set of the given pictures."""
    shown = list(pictures)
    poses = [p for p in catalogue.poses if any(m.pose == p.id for m in shown)]
    numbers = {p.id: i for i, p in enumerate(poses, start=1)}
    return {
        "info": {"description": "marks", "version": "1"},
        "images": [
            {"id": m.id, "file_name": m.file_name, "width": m.width, "height": m.height}
            for m in shown
        ],
        "categories": [_category(p, numbers[p.id]) for p in poses],
        "annotations": [
            _annotation(m, catalogue.pose(m.pose), numbers[m.pose], i)
            for i, m in enumerate(shown, start=1)
        ],
    }


def _category(pose: Pose, number: int) -> dict[str, Any]:
    ids = [m.id for m in pose.marks]
    bones = [
        [ids.index(m.parent) + 1, i + 1] for i, m in enumerate(pose.marks) if m.parent is not None
    ]
    return {
        "id": number,
        "name": pose.id,
        "supercategory": "pose",
        "keypoints": ids,
        "skeleton": bones,
    }


def _annotation(m: Marked, pose: Pose, category: int, number: int) -> dict[str, Any]:
    flat: list[float] = []
    for mark in pose.marks:
        x, y = m.marks.get(mark.id, (0.0, 0.0))
        flat += [round(x, 2), round(y, 2), 2 if mark.id in m.marks else 0]
    xs, ys = [p[0] for p in m.marks.values()], [p[1] for p in m.marks.values()]
    x, y = min(xs, default=0.0), min(ys, default=0.0)
    w, h = max(xs, default=0.0) - x, max(ys, default=0.0) - y
    return {
        "id": number,
        "image_id": m.id,
        "category_id": category,
        "keypoints": flat,
        "num_keypoints": len(m.marks),
        "bbox": [round(v, 2) for v in (x, y, w, h)],
        "area": round(w * h, 2),
        "iscrowd": 0,
        "attributes": {"side": m.side, "mode": m.mode},
    }


def marks_for(text: bytes, pose: Pose, width: int, height: int) -> dict[str, Point]:
    """Read the marks of one picture of a pose, scaled to its size, px.

    Takes the annotation whose category is the pose; where there are several, the one with
    most keypoints. Raises CocoError with a sentence.
    """
    if len(text) > MOST_BYTES:
        raise CocoError("The file is too large for the marks of one picture.")
    try:
        data = json.loads(text)
        categories = {c["id"]: c for c in data["categories"] if c.get("name") == pose.id}
        images = {i["id"]: i for i in data["images"]}
        fitting = [a for a in data["annotations"] if a["category_id"] in categories]
        if not fitting:
            raise CocoError(f"The file has no keypoints for {pose.name} (category {pose.id}).")
        best = max(fitting, key=lambda a: sum(v > 0 for v in a["keypoints"][2::3]))
        image = images[best["image_id"]]
        fx, fy = width / float(image["width"]), height / float(image["height"])
        names = categories[best["category_id"]]["keypoints"]
        flat = [float(v) for v in best["keypoints"]]
    except CocoError:
        raise
    except (ValueError, TypeError, KeyError, ZeroDivisionError, RecursionError) as error:
        raise CocoError("The file does not hold COCO keypoints.") from error
    known = {m.id for m in pose.marks}
    found: dict[str, Point] = {}
    for name, x, y, v in zip(names, flat[::3], flat[1::3], flat[2::3], strict=False):
        if name in known and v > 0 and math.isfinite(x) and math.isfinite(y):
            found[name] = (round(x * fx, 2), round(y * fy, 2))
    if not found:
        raise CocoError(f"None of the file's keypoints is a mark of {pose.name}.")
    return found
