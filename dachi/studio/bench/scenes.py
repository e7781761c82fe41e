"""What is measured of a photograph: the whole input of a reading, and its fingerprint."""

from __future__ import annotations

import hashlib
from dataclasses import replace

import msgspec

from dachi.core.measuring.scene import Image, PhotoView, Scene
from dachi.store.markings import Marking
from dachi.studio import versions
from dachi.studio.bench.around import Surroundings
from dachi.studio.bench.corners import corners_for


def scene_of(at: Surroundings, marking: Marking) -> Scene:
    """Assemble what ``measure`` needs from what is stored.

    Without any corners that count (``corners_for``) the level line, then the plain picture.
    """
    found = corners_for(at, marking)
    way = marking.marked or at.usual
    ways = {n: "eye" if n in marking.seen else "sticker" for n in marking.mark_sds}
    return Scene(
        id=str(at.trial.id),
        pose=at.trial.pose,
        side=at.trial.side,
        mode=at.trial.mode,
        variant=at.trial.variant,
        image=Image(at.photo.width, at.photo.height, at.photo.focal_35mm),
        marks=marking.marks,
        mark_sds=marking.mark_sds,
        mat=found.mat if found is not None else None,
        level=marking.level,
        facing=marking.facing,
        segments_cm=at.segments_cm,
        prop_cm=at.trial.prop_cm,
        marked="sticker" if way == "standing" else way,
        sticker_put="standing" if way == "standing" else "in_pose",
        marked_by_mark={} if way == "joint" else ways,
    )


def _view(at: Surroundings, s: Scene) -> PhotoView:
    return PhotoView(at.pose.view, s.image, s.marks, s.mat, s.level, s.facing, s.mark_sds)


def whole(at: Surroundings, scene: Scene) -> Scene:
    """The scene with another photograph of the same hold, where there is one."""
    if at.beside is None:
        return scene
    other, marking = at.beside
    views = (_view(at, scene), _view(other, scene_of(other, marking)))
    return replace(scene, views=views, marks={}, mat=None, level=None, facing=None, mark_sds={})


def made_from(scene: Scene) -> str:
    """A fingerprint of the rules and of everything they are given, the trial's number left out."""
    text = msgspec.json.encode(replace(scene, id=""), order="deterministic")
    return f"{versions.measuring()}:{hashlib.sha256(text).hexdigest()[:16]}"
