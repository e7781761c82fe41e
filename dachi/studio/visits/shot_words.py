"""Whether a photograph can be used for its place, while the person is still there."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.cards import Sighting
from dachi.core.measuring.recognise import Likeness
from dachi.data import catalogue
from dachi.photos.quality import blur_px, light
from dachi.studio.bench.seen_joints import Sighted, joint_of

#: The lighter parts of a picture are no lighter: nothing can be marked; it is hard to.
DARK, DIM = 0.16, 0.3
#: Blur of the body's edges, px of 1000: marks are lost; they are harder. A phone's usual is 2.
BLURRED, SOFT = 4.0, 3.0
#: A joint this near the picture's edge, or beyond, is cut off, as a share of its longer side.
EDGE = 0.008
#: A camera lower than this share of what a pose asks for sees a floor pose too flatly.
TOO_LOW = 0.55
#: Poses that ask for a camera no higher are not judged by it.
LOW_CAMERA_CM = 70.0


class Use(StrEnum):
    """What a concern means for a photograph."""

    RETAKE = "retake"
    WATCH = "watch"


@dataclass(frozen=True)
class Concern:
    """What is wrong with a photograph for its place, and what to do."""

    use: Use
    words: str


def concerns(
    image: NDArray[np.uint8],
    pose: Pose,
    side: str,
    joints: Sighted | None,
    sighting: Sighting | None,
    seen: Likeness | None = None,
    *,
    cards_used: bool = False,
) -> list[Concern]:
    """Everything wrong with an RGB picture for a pose and side, the worst first.

    ``joints`` are what was seen of the person, None where nobody was; ``seen`` the place of the
    sheet that the picture shows for certain, looked for without knowing which it should be;
    ``cards_used`` says that other shots of the visit show cards.
    """
    found = [*_of_light(image)]
    if joints is None:
        if not found:
            words = "Nobody can be made out: the whole person in the picture, nothing in between."
            found.append(Concern(Use.RETAKE, words))
    else:
        found += _of_body(image, pose, side, joints)
    if seen is not None and seen.pose != pose.id:
        name = catalogue().pose(seen.pose).name.lower()
        found.append(Concern(Use.WATCH, f"Looks like the {name}: is it the {pose.name.lower()}?"))
    elif seen is not None and seen.side not in ("", side):
        words = f"Looks like the {seen.side} side: this place is for the {side}."
        found.append(Concern(Use.RETAKE, words))
    if cards_used and sighting is None:
        words = "No corner card is in sight: step back, or turn them towards the camera."
        found.append(Concern(Use.WATCH, words))
    if sighting is not None and sighting.estimate is not None:
        height, wanted = sighting.estimate.camera.height_cm, pose.camera.height_cm
        if wanted > LOW_CAMERA_CM and height < TOO_LOW * wanted:
            words = f"The camera stood {height:.0f} cm up: for this pose about {wanted:.0f}."
            found.append(Concern(Use.RETAKE, words))
    return sorted(found, key=lambda c: c.use is not Use.RETAKE)


def _of_light(image: NDArray[np.uint8]) -> list[Concern]:
    bright = light(image)
    if bright < DARK:
        return [Concern(Use.RETAKE, "Too dark: more light, from behind the camera.")]
    return [Concern(Use.WATCH, "Rather dark: more light helps the marks.")] if bright < DIM else []


def _of_body(image: NDArray[np.uint8], pose: Pose, side: str, seen: Sighted) -> list[Concern]:
    found = []
    height, width = image.shape[:2]
    wanted = {joint for m in pose.marks if not m.optional and (joint := joint_of(m.body, side))}
    rim = EDGE * max(width, height)
    cut = sorted(
        j.replace(".", " ")
        for j in wanted
        if any(
            not (rim < look[j][0] < width - rim and rim < look[j][1] < height - rim)
            for look in (seen.joints, seen.roughly)
        )
    )
    if cut:
        words = f"Cut off at the edge: {', '.join(cut)}. Step back or turn the phone."
        found.append(Concern(Use.RETAKE, words))
    at = np.array(list(seen.joints.values()))
    reach = 0.1 * float(np.ptp(at, axis=0).max())
    low, high = at.min(axis=0) - reach, at.max(axis=0) + reach
    blur = blur_px(image, (float(low[0]), float(low[1]), float(high[0]), float(high[1])))
    if blur > BLURRED:
        found.append(Concern(Use.RETAKE, "Blurred: hold still, wipe the lens, touch to focus."))
    elif blur > SOFT:
        found.append(Concern(Use.WATCH, "A little blurred: marks will be less sure."))
    return found
