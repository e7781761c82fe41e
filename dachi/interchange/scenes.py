"""The scene file: JSON Lines in, JSON Lines out, each checked against its published schema."""

from __future__ import annotations

import math
from typing import Any

from dachi.core.body.pinhole import CORNERS
from dachi.core.catalogue.poses import Catalogue
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.measure import measure
from dachi.core.measuring.scene import (
    Image,
    PhotoView,
    Result,
    Scene,
    SceneError,
)
from dachi.interchange import json_lines
from dachi.interchange.json_lines import complaint

#: A scene takes a few kB; a longer line is something else.
MOST_BYTES = 1 << 20


def scene_from_json(data: Any) -> Scene:
    """Build a scene from parsed JSON; SceneError with a sentence where it is none."""
    wrong = complaint("scene", data)
    if wrong is not None:
        raise SceneError(wrong)
    views = tuple(_view(f"views.{i}", v) for i, v in enumerate(data.get("views") or ()))
    first = views[0] if views else _view("", data)
    return Scene(
        id="" if data.get("id") is None else str(data["id"]),
        pose=data["pose"],
        view=None if views else data.get("view"),
        side=data["side"],
        mode=data["mode"],
        variant=data.get("variant") or {},
        image=first.image,
        marks={} if views else first.marks,
        mat=None if views else first.mat,
        level=None if views else first.level,
        views=views,
        mark_sd_px=data.get("mark_sd_px"),
        mark_sds={} if views else first.mark_sds,
        facing=None if views else first.facing,
        segments_cm=data.get("segments_cm") or {},
        prop_cm=data.get("prop_cm"),
        marked=data.get("marked") or "eye",
        sticker_put=data.get("sticker_put") or "in_pose",
        marked_by_mark=data.get("marked_by_mark") or {},
    )


def _view(where: str, data: Any) -> PhotoView:
    """What one photograph has of its own; ``where`` it stands in the data, for sentences."""
    at = f"{where}." if where else ""
    image, mat, level = data["image"], data.get("mat"), data.get("level")
    found = None
    if mat is not None:
        if mat["width_cm"] > mat["length_cm"]:
            raise SceneError(
                f"{at}mat.length_cm is the longer side of the mat: swap length and width"
            )
        corners = {c: _point(f"{at}mat.corners.{c}", mat["corners"][c]) for c in CORNERS}
        found = Mat(
            mat["length_cm"],
            mat["width_cm"],
            corners,
            mat.get("corner_sd_px"),
            mat.get("corner_sds_px"),
        )
    ends = None
    if level is not None and mat is None:
        a, b = (_point(f"{at}level", p) for p in level)
        ends = (a, b)
    return PhotoView(
        data.get("view") or "",
        Image(image["width"], image["height"], image.get("focal_35mm")),
        {k: _point(f"{at}marks.{k}", p) for k, p in data["marks"].items()},
        found,
        ends,
        data.get("facing"),
        data.get("mark_sds_px") or {},
    )


def _point(where: str, pair: list[float]) -> tuple[float, float]:
    x, y = float(pair[0]), float(pair[1])
    if not (math.isfinite(x) and math.isfinite(y)):
        raise SceneError(f"{where} is not a position in the picture")
    return x, y


def scene_to_json(scene: Scene) -> dict[str, Any]:
    """A scene as JSON data, ready for another program."""
    found: dict[str, Any] = {
        "format": "dachi-scene",
        "version": 1,
        "id": scene.id,
        "pose": scene.pose,
        "side": scene.side,
        "mode": scene.mode,
        "variant": dict(scene.variant),
        "segments_cm": dict(scene.segments_cm),
        "marked": scene.marked,
    }
    optional = {
        "mark_sd_px": scene.mark_sd_px,
        "marked_by_mark": dict(scene.marked_by_mark) or None,
        "sticker_put": scene.sticker_put if "sticker" in scene.ways else None,
        "prop_cm": scene.prop_cm,
    }
    found |= {k: v for k, v in optional.items() if v is not None}
    if scene.views:
        return found | {"views": [_view_to_json(v) for v in scene.views]}
    return found | _view_to_json(
        PhotoView(
            scene.view or "", scene.image, scene.marks, scene.mat, scene.level, scene.facing,
            scene.mark_sds,
        )
    )  # fmt: skip


def _view_to_json(view: PhotoView) -> dict[str, Any]:
    image: dict[str, Any] = {"width": view.image.width, "height": view.image.height}
    if view.image.focal_35mm is not None:
        image["focal_35mm"] = view.image.focal_35mm
    found: dict[str, Any] = {"image": image, "marks": {k: list(p) for k, p in view.marks.items()}}
    optional = {
        "view": view.view or None,
        "facing": view.facing,
        "mark_sds_px": dict(view.mark_sds) or None,
        "level": [list(p) for p in view.level] if view.level else None,
    }
    found |= {k: v for k, v in optional.items() if v is not None}
    if view.mat is not None:
        found["mat"] = {
            "length_cm": view.mat.length_cm,
            "width_cm": view.mat.width_cm,
            "corners": {k: list(p) for k, p in view.mat.corners.items()},
        }
        if view.mat.corner_sd_px is not None:
            found["mat"]["corner_sd_px"] = view.mat.corner_sd_px
        if view.mat.corner_sds_px is not None:
            found["mat"]["corner_sds_px"] = dict(view.mat.corner_sds_px)
    return found


def result_to_json(result: Result, scene_id: Any) -> dict[str, Any]:
    """A result as JSON data; ``scene_id`` is given back as it came."""
    found: dict[str, Any] = {
        "id": scene_id,
        "method": result.method,
        "pose": result.pose,
        "measures": [
            {
                "id": r.id,
                "label": r.label,
                "unit": r.unit,
                "value": round(r.value, 3),
                "sd": round(r.sd, 3),
                "low": round(r.low, 3),
                "high": round(r.high, 3),
                "sd_change": round(r.sd if r.sd_change is None else r.sd_change, 3),
                "headline": r.headline,
                "apparent": r.apparent,
            }
            for r in result.readings
        ],
        "checks": [
            {
                "id": c.id,
                "label": c.label,
                "value": round(c.value, 3),
                "sd": round(c.sd, 3),
                "unit": c.unit,
                "limit": c.limit,
                "status": c.status,
                "message": c.message,
            }
            for c in result.checks
        ],
        "warnings": list(result.warnings),
    }
    if result.bones:
        found["lengths"] = {
            n: {"cm": round(b.cm, 2), "sd": round(b.sd, 2)} for n, b in result.bones.items()
        }
    if result.body:
        found["body"] = [
            {"id": a.name, "value": round(a.value, 2), "sd": round(a.sd, 2), "seen": a.seen}
            for a in result.body
        ]
    if result.camera is not None:
        c = result.camera
        found["camera"] = {
            "yaw_deg": round(c.yaw_deg, 2),
            "pitch_deg": round(c.pitch_deg, 2),
            "roll_deg": round(c.roll_deg, 2),
            "height_cm": round(c.height_cm, 1),
            "distance_cm": round(c.distance_cm, 1),
        }
    return found


def measure_json(data: Any, catalogue: Catalogue) -> dict[str, Any]:
    """Measure parsed JSON; whatever it holds, the answer is a result or an error."""
    scene_id = json_lines.id_of(data)
    try:
        return result_to_json(measure(scene_from_json(data), catalogue), scene_id)
    except SceneError as error:
        return {"id": scene_id, "error": str(error)}
    except (ArithmeticError, ValueError) as error:
        # Numbers so extreme that the arithmetic gives out: still an answer, not a crash.
        return {"id": scene_id, "error": f"the numbers cannot be measured ({error})"}


def measure_line(line: bytes, catalogue: Catalogue) -> dict[str, Any]:
    """Measure one line of a scene file."""
    data, wrong = json_lines.parsed(line, MOST_BYTES, "a scene takes a few kB")
    return wrong or measure_json(data, catalogue)
