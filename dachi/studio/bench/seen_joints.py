"""Marks proposed for a photograph: joints a network saw, judged by the pose they should form."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.body.anatomy import other_side
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.calibration import CameraEstimate
from dachi.core.measuring.fuse import SIDES, Fused, fuse
from dachi.core.measuring.recognise import likenesses
from dachi.core.measuring.scene import Image
from dachi.data import FOLDER, habits
from dachi.photos import landmarks
from dachi.photos.landmarks import Crop, Joints
from dachi.studio.alike import Alike

Array = NDArray[np.float64]

MODEL = FOLDER / "models" / "body_landmarks.tflite"
#: What an unsure network adds to the misfit of what it saw.
UNSURE = 0.15
#: How often a body is laid behind joints and they are looked at again as it lies.
AGAIN = 2


def joint_of(body: str, side: str) -> str | None:
    """The joint a mark stands for, None for a place that is none."""
    owner, _, part = body.partition(".")
    # Of a pose with both sides alike the right one is marked.
    own = side if side in SIDES else "right"
    whose = {"side": own, "other": other_side(own)}.get(owner, owner)
    part = part.split(".")[0]
    return f"{whose}.{part}" if part in landmarks.POINTS and whose in SIDES else None


@dataclass(frozen=True)
class Sighted:
    """Joints seen in a picture, px, and how far apart or faintly looks saw each, px.

    ``roughly`` is where a first look saw them: of a body that is cut off it says more.
    """

    joints: Joints
    apart: Mapping[str, float]
    roughly: Joints


def see_anybody(image: NDArray[np.uint8], places: Sequence[tuple[Pose, str]]) -> Joints | None:
    """Joints of whoever is in an RGB picture, roughly, in one of several poses on a side."""
    height, width = image.shape[:2]

    def judge(joints: Joints, presence: float) -> float:
        return likenesses(joints, places, (width, height))[0].misfit + UNSURE * (1.0 - presence)

    starts = [Crop(width / 2, height / 2, max(width, height), a) for a in (0.0, 90.0, -90.0)]
    return landmarks.find(image, starts, judge, MODEL) if places else None


def see(
    image: NDArray[np.uint8],
    pose: Pose,
    side: str,
    variant: Mapping[str, str],
    roughly: Joints | None = None,
) -> Sighted | None:
    """Joints of whoever is in the pose in an RGB picture: seen roughly, a body laid behind them,
    and looked at again as that body lies. Left and right are told by the body.
    """
    roughly = roughly or see_anybody(image, [(pose, side)])
    if roughly is None:
        return None
    size = Image(image.shape[1], image.shape[0])
    found = Sighted(roughly, {}, roughly)
    for _ in range(AGAIN):
        body = fuse(pose, side, variant, size, found.joints, None, spreads_px=found.apart)
        if body is None:
            break
        found = Sighted(*landmarks.closer(image, body.centres, MODEL), roughly)
    return found


def where_is(image: NDArray[np.uint8], sighted: Sighted) -> NDArray[np.bool_]:
    """Where the person who was seen is in the RGB picture, (height, width)."""
    return landmarks.silhouette(image, sighted.joints, MODEL)


@dataclass(frozen=True)
class Question:
    """Everything that says where a body lies behind joints that were seen (see ``fuse``)."""

    pose: Pose
    side: str
    variant: Mapping[str, str]
    image: Image
    joints: Joints
    apart: Mapping[str, float]
    estimate: CameraEstimate | None
    segments_cm: Mapping[str, float]
    prop_cm: float | None


@lru_cache(256)
def _fused(key: Alike[Question]) -> Fused | None:
    asked = key.thing
    return fuse(
        asked.pose, asked.side, asked.variant, asked.image, asked.joints, asked.estimate,
        spreads_px=asked.apart, segments_cm=asked.segments_cm, prop_cm=asked.prop_cm,
        habits=habits(),
    )  # fmt: skip


def body_of(asked: Question) -> Fused | None:
    """The body behind joints that were seen; the same question is answered once."""
    return _fused(Alike(asked))
