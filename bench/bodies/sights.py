"""Pictures of bodies with their truth and what the network saw in them, looked at once.

Shared by what is fitted (``bench.bodies.network``, pictures from ``FIT_FROM`` on) and what is
reported (``bench.proposals``, pictures below).
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from dachi.core.catalogue.poses import Pose
from dachi.core.measuring import calibration
from dachi.core.measuring.calibration import CameraEstimate, Mat
from dachi.core.measuring.fuse import Fused
from dachi.core.measuring.measure import measure
from dachi.core.measuring.scene import Image, Scene, SceneError
from dachi.data import catalogue
from dachi.photos.stickers import decode
from dachi.studio.bench.seen_joints import Sighted, see

#: Outer hip to outer knee, as a share of the body's height.
THIGH = 0.25
#: Corners as clicked, px.
CORNER_SD = 2.0


@dataclass(frozen=True)
class Sight:
    """One picture: its truth, its pose, what was seen, seconds that took."""

    name: str
    told: dict[str, Any]
    pose: Pose
    seen: Sighted | None
    seconds: float

    @property
    def side(self) -> str:
        """The side as a sheet has it."""
        return self.told["side"] if self.pose.sides != "both" else "both"

    @property
    def image(self) -> Image:
        """The picture's size and focal length."""
        return Image(self.told["width"], self.told["height"], self.told["focal_35mm"])

    @property
    def cm_per_px(self) -> float:
        """At the middle of the mat."""
        camera = self.told["camera"]
        middle = np.array(camera["rotation"]) @ [0, 0, 30.0] + camera["translation"]
        return float(middle[2] / camera["focal_px"])

    @property
    def thigh_px(self) -> float:
        """About how long a thigh is at the mat's middle, px."""
        return float(THIGH * self.told["height_cm"]) / self.cm_per_px

    def mat(self) -> Mat:
        """The mat as its corners are clicked, each time the same."""
        rng = np.random.default_rng([3, int(self.name)])
        corners = {}
        for name, (x, y) in self.told["corners"].items():
            dx, dy = rng.normal(0, CORNER_SD / np.sqrt(2), 2)
            corners[name] = (x + float(dx), y + float(dy))
        length, width = self.told["mat"]
        return Mat(length, width, corners, corner_sd_px=CORNER_SD)

    def estimate(self) -> CameraEstimate:
        """The camera those corners tell."""
        im = self.image
        return calibration.solve_mat(
            self.mat(), self.pose.view, im.width, im.height, im.focal_35mm, CORNER_SD
        )


def sights(folder: Path) -> Iterator[Sight]:
    """Every picture of a folder; what was seen is kept beside it (NNN.seen.json)."""
    for file in sorted(f for f in folder.glob("*.json") if f.stem.isdigit()):
        picture = file.with_suffix(".jpg")
        if not picture.exists():
            continue
        told = json.loads(file.read_text())
        pose = catalogue().pose(told["pose"])
        kept = file.with_suffix(".seen.json")
        if not kept.exists():
            image = decode(picture.read_bytes())
            side = told["side"] if pose.sides != "both" else "both"
            began = time.perf_counter()
            seen = see(image, pose, side, pose.default_variant())
            took = time.perf_counter() - began
            body = {"joints": seen.joints, "apart": seen.apart} if seen else {}
            kept.write_text(json.dumps(body | {"seconds": took}))
        was = json.loads(kept.read_text())
        joints = {n: (x, y) for n, (x, y) in was.get("joints", {}).items()}
        seen = Sighted(joints, was["apart"], joints) if joints else None
        yield Sight(file.stem, told, pose, seen, was["seconds"])


def untouched(sight: Sight, body: Fused) -> tuple[float, float] | None:
    """Error and spread of the headline where every mark is left where it was seen, degrees."""
    pose = sight.pose
    names = [n for n in pose.required if n in body.marks]
    scene = Scene(
        pose.id, sight.side, "passive", sight.image, {n: body.marks[n] for n in names},
        mark_sds={n: body.sds[n] for n in names}, mat=sight.mat(), marked="eye",
    )  # fmt: skip
    try:
        found = measure(scene, catalogue()).headline
    except SceneError:
        return None
    return found.value - sight.told["truth"][found.id], found.sd
