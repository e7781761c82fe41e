"""Corner cards on photographs of bodies: ``python -m bench.cards [FOLDER]`` (var/pictures).

The folder is made by ``python -m bench.bodies.pictures FOLDER``. A card is in sight where all its
corners lie in the picture and its code reads as printed where it truly lies (a foot or a hand may
cover it); cards lie a few millimetres from their places, as people lay them. Each picture is then
made worse in one way after another.
"""

from __future__ import annotations

import json
import sys
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from bench.bodies.mesh import Array
from dachi.core.body.pinhole import CORNERS
from dachi.core.measuring import cards
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.cards import Ground, Sighting
from dachi.core.measuring.measure import measure
from dachi.core.measuring.scene import Image, Scene, SceneError
from dachi.data import catalogue
from dachi.photos.cards import PIXEL_BLURS, find_all, likeness
from dachi.photos.stickers import decode

#: A code is covered where less than this of its cells can be read: see ``photos.cards``.
SEEN = 0.72
CLICK_PX = 2.0
LARGER = 2.5

Picture = NDArray[np.uint8]


def look(image: Picture, told: dict[str, Any]) -> tuple[dict[int, Array], Sighting]:
    """What the program finds in a picture and makes of it, as it does when one comes in."""
    ground, size = Ground(*told["mat"]), (image.shape[1], image.shape[0])
    found = find_all(image, ground, told["view"], told["focal_35mm"])
    return found, cards.read_cards(found, ground, told["view"], size, told["focal_35mm"])


def in_sight(image: Picture, told: dict[str, Any]) -> set[int]:
    """Cards whose every corner is in the picture and that nothing covers."""
    grey = np.asarray(cv2.cvtColor(image, cv2.COLOR_RGB2GRAY), dtype=np.uint8)
    found = set()
    for card, at in told["cards"].items():
        points = np.array(at)
        inside = (points > 2).all() and (points < np.array(image.shape[1::-1]) - 2).all()
        if inside and likeness(grey, points, int(card), PIXEL_BLURS[:1]) > SEEN:
            found.add(int(card))
    return found


def angle_error(told: dict[str, Any], mat: Mat, rng: np.random.Generator) -> float | None:
    """How far a headline is off with the true marks (joints as they are) and a mat's corners."""
    marks = {n: tuple(p) for n, p in told["marks"].items()}
    scene = Scene(
        told["pose"], told["side"], "passive",
        Image(told["width"], told["height"], told["focal_35mm"]), marks, mat=mat,
        facing=told["facing"], marked="eye", mark_sd_px=0.5,
    )  # fmt: skip
    pose = catalogue().pose(told["pose"])
    scene = replace(scene, variant=pose.default_variant())
    try:
        result = measure(scene, catalogue())
    except SceneError:
        return None
    name, value = next(iter(told["truth"].items()))
    return result.reading(name).value - float(value)


def blurred(image: Picture) -> Picture:
    """As a hand shakes, or a lens misses, by 2 px more."""
    return np.asarray(cv2.GaussianBlur(image, (0, 0), 2.0), dtype=np.uint8)


def grained(image: Picture) -> Picture:
    """As in a dark room."""
    grain = np.random.default_rng(8).normal(0, 12, image.shape)
    return np.asarray(np.clip(image + grain, 0, 255), dtype=np.uint8)


def packed(image: Picture) -> Picture:
    """Through JPEG at 60."""
    return decode(
        cv2.imencode(".jpg", image[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 60])[1].tobytes()
    )


def large(image: Picture) -> Picture:
    """At 12 megapixels, with their grain."""
    up = cv2.resize(image, None, fx=LARGER, fy=LARGER, interpolation=cv2.INTER_CUBIC)
    grain = np.random.default_rng(8).normal(0, 6, up.shape)
    return np.asarray(np.clip(up + grain, 0, 255), dtype=np.uint8)


WORSE: dict[str, Callable[[Picture], Picture]] = {
    "blurred by 2 px": blurred, "grain of 12": grained, "JPEG 60": packed, "12 megapixels": large,
}  # fmt: skip


def enlarged(told: dict[str, Any], by: float) -> dict[str, Any]:
    """The truth of a picture that is so many times as large."""
    more = dict(told)
    for key in ("corners", "marks", "cards"):
        more[key] = {n: (by * np.array(p)).tolist() for n, p in told[key].items()}
    return more | {"width": round(by * told["width"]), "height": round(by * told["height"])}


def main(argv: list[str] | None = None) -> None:
    folder = Path((argv or ["var/pictures"])[0])
    run(folder, "as they are", None)
    for title, worse in WORSE.items():
        run(folder, title, worse)


def run(folder: Path, title: str, worse: Callable[[Picture], Picture] | None) -> None:
    """Look at every picture of a folder, made worse in a way, and print what came of it."""
    rng = np.random.default_rng(4)
    shots, counts, apart, over, took, by_hand, by_cards = 0, Counter[str](), [], [], [], [], []
    for file in sorted(folder.glob("*.json")):
        picture = file.with_suffix(".jpg")
        if not picture.exists():
            continue
        told = json.loads(file.read_text())
        image = decode(picture.read_bytes())
        sight = in_sight(image, told)
        if worse is not None:
            before = image.shape[1]
            image = worse(image)
            told = enlarged(told, image.shape[1] / before)
        began = time.perf_counter()
        found, seen = look(image, told)
        took.append(time.perf_counter() - began)
        shots += 1
        enough = "three or more" if len(sight) >= 3 else "two" if len(sight) == 2 else "fewer"
        counts[f"{enough}: pictures"] += 1
        counts["found where none lie"] += bool(set(found) - {int(c) for c in told["cards"]})
        if seen.corners is None:
            continue
        truth = np.array([told["corners"][n] for n in CORNERS])
        off = np.array([seen.corners[n] for n in CORNERS]) - truth
        sd = np.array([seen.corner_sds_px[n] for n in CORNERS])
        counts[f"{enough}: camera"] += 1
        wrong = bool((np.linalg.norm(off, axis=1) > 4 * np.maximum(sd, 1.0)).any())
        counts["wrong without a word"] += wrong and not seen.said
        if len(sight) >= 3:
            apart.append(np.linalg.norm(off, axis=1).mean())
            over.append(off / sd[:, None])
            length, width = (float(x) for x in told["mat"])
            clicked = truth + rng.normal(0, CLICK_PX, (4, 2))
            hand = Mat(
                length, width, dict(zip(CORNERS, map(tuple, clicked), strict=True)), CLICK_PX
            )
            card = Mat(length, width, seen.corners, corner_sds_px=seen.corner_sds_px)
            pair = [angle_error(told, mat, rng) for mat in (hand, card)]
            if None not in pair:
                by_hand.append(abs(pair[0] or 0.0))
                by_cards.append(abs(pair[1] or 0.0))
    print(f"{title}: {shots} photographs")
    for name in sorted(counts):
        print(f"  {name:28} {counts[name]}")
    if apart:
        z = np.concatenate(over)
        median, most = np.median(apart), np.percentile(apart, 90)
        rms = np.sqrt(np.mean(z**2))
        print(f"  corners off {median:.2f} px (median), {most:.2f} (90 %); over spread {rms:.2f}")
        print(
            f"  headline off with true marks: corners clicked at {CLICK_PX:g} px "
            f"{np.mean(by_hand):.2f}, cards {np.mean(by_cards):.2f} degrees ({len(by_hand)} shots)"
        )
    print(f"  {1e3 * np.median(took):.0f} ms a picture, longest {1e3 * max(took):.0f}")


if __name__ == "__main__":
    main(sys.argv[1:])
