"""Corner cards in a photograph: looked for once as it comes in, and the camera they tell."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.poses import Pose
from dachi.core.measuring import cards
from dachi.core.measuring.cards import Ground, Sighting
from dachi.photos import cards as codes
from dachi.store.photos import Codes, Photo
from dachi.store.positions import Position

#: Corners this near each other are the same camera's, whatever their spread says, px.
LEAST_MOVE_PX = 4.0


def look(
    image: NDArray[np.uint8], photo: Photo, position: Position, pose: Pose
) -> Mapping[str, Codes]:
    """The codes in an RGB picture, those far off where the others say, as they are kept."""
    found = codes.find_all(image, _ground(position), pose.view, photo.focal_35mm)
    return codes.told(found)


def _ground(position: Position) -> Ground:
    return Ground(position.mat_length_cm, position.mat_width_cm)


def sighting(photo: Photo, position: Position, pose: Pose) -> Sighting | None:
    """What the cards in a photograph tell of its camera; None where none are in it."""
    if not photo.cards:
        return None
    return _read(
        _frozen(photo.cards), _ground(position), pose.view, (photo.width, photo.height),
        photo.focal_35mm,
    )  # fmt: skip


def moved(photo: Photo, position: Position, pose: Pose, others: Iterable[Photo]) -> float:
    """How far the mat's corners lie from those that other shots' cards tell, px; 0 within reason.

    Beyond it the camera was moved between them.
    """
    own = sighting(photo, position, pose)
    if own is None or own.corners is None:
        return 0.0
    for other in others:
        there = sighting(other, position, pose)
        if there is None or there.corners is None:
            continue
        gaps = {name: math.dist(at, there.corners[name]) for name, at in own.corners.items()}
        room = {
            name: 4.0 * math.hypot(own.corner_sds_px[name], there.corner_sds_px[name])
            for name in gaps
        }
        if all(gaps[n] > room[n] + LEAST_MOVE_PX for n in gaps):
            return max(gaps.values())
        return 0.0
    return 0.0


Frozen = tuple[tuple[int, tuple[tuple[float, float], ...]], ...]


def _frozen(found: Mapping[int, Codes]) -> Frozen:
    return tuple((card, tuple((x, y) for x, y in at)) for card, at in sorted(found.items()))


@lru_cache(512)
def _read(
    found: Frozen, ground: Ground, view: str, size: tuple[int, int], focal_35mm: float | None
) -> Sighting:
    points = {card: np.array(at) for card, at in found}
    return cards.read_cards(points, ground, view, size, focal_35mm)


def words(found: Sighting, *, lent: bool = False) -> str:
    """What the cards tell, for the strip beside the photograph."""
    if lent:
        return (
            "The camera is known from the cards of another photograph from this place, if it "
            "was not moved in between."
        )
    if found.corners is None:
        return found.problem or ""
    named = [str(c) for c in found.seen]
    text = f"The camera is known from cards {', '.join(named[:-1])} and {named[-1]}."
    return " ".join([text, *found.said])
