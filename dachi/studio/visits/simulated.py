"""Photographs of a posed figure by the simulated camera, filed as any other."""

from __future__ import annotations

import math
import secrets
from collections.abc import Mapping

from dachi.core.body.figure import Body
from dachi.simulation.camera import Shot, photograph
from dachi.store.assessments import Assessment
from dachi.store.practitioners import Practitioner
from dachi.studio.visits import intake
from dachi.studio.visits.intake import Incoming, Refused
from dachi.studio.work import Work


def photograph_figure(
    work: Work, visit: Assessment, who: Practitioner, form: Mapping[str, str], once_key: str | None
) -> int:
    """Photograph a figure posed as a form says and put it in its place; the trial.

    Raises Refused, Conflict and OSError, each with a sentence.
    """
    place = intake.place_of(form, who)
    if problem := intake.refusal(work, visit, who, place.mode, figure=True):
        raise Refused(problem)
    figure = place.pose.figure
    shot = Shot(
        side=place.side,
        value=_within(form, "angle", figure.low, figure.high),
        yaw_deg=_within(form, "yaw", -45, 45),
        height_cm=_within(form, "height", 15, 200),
        scatter_deg=_within(form, "scatter", 0, 12),
        stickers=form.get("stickers") == "on",
        body=Body(who.height_cm or 170.0),
        outfit=who.id,
        seed=secrets.randbelow(2**31),
    )
    with work.db.unlocked():
        data, truth = photograph(place.pose, shot, work.now().replace(microsecond=0))
    key = f"{once_key}-0" if once_key else None
    return intake.send(work, visit, who, place, Incoming(data, truth), key)


def _within(form: Mapping[str, str], name: str, low: float, high: float) -> float:
    try:
        value = float(form.get(name, ""))
    except ValueError as error:
        raise Refused(f"The simulated camera needs a number for {name}.") from error
    if not (math.isfinite(value) and low <= value <= high):
        raise Refused(f"The simulated camera takes {name} from {low:g} to {high:g}.")
    return value
