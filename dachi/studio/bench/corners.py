"""Whose mat corners a photograph is read through: its own, or lent by others from its place.

Corners that another photograph lends are drawn on this one, compared with what is seen of the mat
here, and agreed to once for a pose and side before a reading is kept that rests on them.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.plausible import CORNER_SD_PX, corners_apart
from dachi.core.measuring.scene import Point
from dachi.store.assessments import Trial
from dachi.store.markings import Marking
from dachi.studio.bench.around import Shots, Surroundings
from dachi.studio.phrases import shot_name


def _corner_sd(at: Surroundings) -> float:
    return CORNER_SD_PX * max(at.size) / 1600.0


@dataclass(frozen=True)
class Corners:
    """The corners that count for a photograph, px, and the ``shots`` they are the mean of.

    ``own``: marked on it; ``lent_by`` the trial that lends them where they are not; neither where
    cards in the photograph tell them.
    """

    mat: Mat
    shots: int = 1
    own: bool = False
    lent_by: Trial | None = None


def corners_for(at: Surroundings, marking: Marking) -> Corners | None:
    """The corners that count, None where nothing tells the mat.

    Its own with those of shots from the same place that agree, else its own cards', else what
    is lent and does not lie beside the mat that is seen here.
    """
    size = (at.position.mat_length_cm, at.position.mat_width_cm)
    sd = _corner_sd(at)
    if marking.corners is not None:
        found, shots = at.position.pooled(
            at.trial.id, marking.corners, lambda a, b: not corners_apart(a, [b], sd)
        )
        mat = Mat(*size, found or {}, corner_sd_px=sd / math.sqrt(shots))
        return Corners(mat, shots, own=True)
    if at.cards is not None and at.cards.corners is not None:
        return Corners(Mat(*size, at.cards.corners, corner_sds_px=at.cards.corner_sds_px))
    lent = at.lent
    if lent is None or lent_apart(at):
        return None
    if lent.by_cards:
        mat = Mat(*size, lent.corners, corner_sds_px=lent.sds)
    else:
        mat = Mat(*size, lent.corners, corner_sd_px=sd / math.sqrt(lent.shots))
    return Corners(mat, lent.shots, lent_by=lent.trial)


def outlined(at: Surroundings) -> Mat | None:
    """The mat where its outline stands out by itself, not yet confirmed."""
    found = at.photo.outline
    if not found:
        return None
    return Mat(
        at.position.mat_length_cm, at.position.mat_width_cm,
        {n: (x, y) for n, (x, y, _) in found.items()},
        corner_sds_px={n: sd for n, (_, _, sd) in found.items()},
    )  # fmt: skip


def lent_apart(at: Surroundings) -> float:
    """How far lent corners lie from the mat that is seen here, px; 0 within reason or unseen."""
    seen = outlined(at)
    if at.lent is None or seen is None:
        return 0.0
    sd = math.hypot(_corner_sd(at), max((seen.corner_sds_px or {}).values(), default=0.0))
    return corners_apart(at.lent.corners, [seen.corners], sd)


def corners_said(at: Surroundings, marking: Marking) -> str | None:
    """That a photograph's corners are not those of the others from its camera place."""
    if marking.corners is None:
        gap = 0.0 if at.by_cards else lent_apart(at)
        if not gap or at.lent is None:
            return None
        off = _in_cm(at, at.lent.corners, gap)
        return (
            f"The mat corners of {_named(at)} lie {off} off the mat that is seen here: the camera "
            "was moved in between, or the mat was. They do not count here: mark this photograph's "
            "own"
        )
    others = at.position.others(at.trial.id)
    gap = corners_apart(marking.corners, others[:1], _corner_sd(at))
    if not gap:
        return None
    return (
        f"These mat corners lie {_in_cm(at, others[0], gap)} off those of the last photograph from "
        "here: was the camera moved in between? If so, say “camera moved”; if not, one of "
        "the two is marked wrongly. Until then each counts for its own photograph only"
    )


def _in_cm(at: Surroundings, corners: Mapping[str, tuple[float, float]], gap_px: float) -> str:
    """A gap on the picture as the floor has it, roughly: by the mat's outline, px and cm."""
    ring = [corners[n] for n in ("near_left", "near_right", "far_right", "far_left")]
    around = sum(math.dist(a, b) for a, b in zip(ring, [*ring[1:], ring[0]], strict=True))
    cm = 2 * (at.position.mat_length_cm + at.position.mat_width_cm) * gap_px / max(around, 1.0)
    return f"up to {max(cm, 1.0):.0f} cm"


def _named(at: Surroundings) -> str:
    """The photograph that lends its corners, in words."""
    assert at.lent is not None
    name = shot_name(at.lent.trial)
    own = f"{at.pose.name}, "
    return name.removeprefix(own) if at.lent.trial.pose == at.trial.pose else name


def lent_words(at: Surroundings, marking: Marking) -> str | None:
    """Whose corners are drawn on a photograph that has none of its own."""
    found = corners_for(at, marking)
    if found is None or found.lent_by is None:
        return None
    assert at.lent is not None
    if at.lent.by_cards:
        return f"The camera is known from the cards of {_named(at)}, drawn dotted here"
    more = f" and {found.shots - 1} more" if found.shots > 1 else ""
    return f"The mat's corners are those of {_named(at)}{more}, drawn dotted here"


def to_agree(at: Surroundings, marking: Marking, here: Shots) -> str | None:
    """What has to be agreed to before a reading that rests on lent corners is kept.

    Nothing where the mat seen here confirms them, where they come from a photograph of this pose
    and side, or where somebody has agreed before: on this photograph, or on another of this pose
    and side from this place.
    """
    found = corners_for(at, marking)
    if found is None or found.lent_by is None or outlined(at) is not None:
        return None
    for t in here.trials:
        same = (t.position_id, t.pose, t.side) == (at.position.id, at.trial.pose, at.trial.side)
        newest = here.newest.get(t.id)
        agreed = newest is not None and newest.lent_from is not None
        if same and (agreed or t.id == found.lent_by.id):
            return None
    return (
        f"{lent_words(at, marking)}: do they lie on the mat's corners of this photograph? If so, "
        "accept again; if not, mark its own, or say that the camera was moved."
    )


def points(found: Corners | None) -> dict[str, Point] | None:
    """The corners by name, px."""
    return dict(found.mat.corners) if found is not None else None
