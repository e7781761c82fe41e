"""Compensations as sentences: is this shot valid, and what to say if not."""

from __future__ import annotations

import math
from collections.abc import Mapping

from dachi.core.catalogue.poses import Check, agrees
from dachi.core.measuring.scene import CheckResult
from dachi.core.rules import ONE_SIDED_Z95, Z95

#: How far (standard deviations) above its limit a compensation must lie to send a shot back.
KNOWN_SD = 0.3
#: A compensation below its limit is pointed at where so many standard deviations more would pass
#: it, and it is at least this share of it.
UNSURE_SD, LEAST_SHARE = ONE_SIDED_Z95, 1.0 / 3.0
#: A compensation this much over its limit must show; where even that is hidden, it is said.
BLIND_SHARE = 1.5


def applies(check: Check, variant: Mapping[str, str]) -> bool:
    """Whether the check holds for this variant (``when`` names variants it needs)."""
    return agrees(check.when, variant)


def judge(check: Check, value: float, sd: float) -> CheckResult:
    """Compare one compensation with its limit.

    Clearly over the limit is the check's severity; hardly above it, within one standard deviation
    below (and above half of it), or not surely below is ``watch``. A magnitude is first
    freed of what error alone adds to it: |x| of a level pelvis is never 0.
    """
    if check.formula.size_only:
        value = math.sqrt(max(value * value - sd * sd, 0.0))
    shown = max(value, 0.0)
    over = value > check.limit
    if over:
        # Sent back for what is known; what may be error is only pointed at.
        # What is known no better than its limit must stand out of its whole spread.
        apart = KNOWN_SD if sd <= check.limit else 1.0
        known = value - apart * sd > check.limit
        status, message = check.severity if known else "watch", check.over
    elif _unsure(check, value, sd):
        status = "watch"
        near = value + sd > check.limit
        message = (
            f"{check.ok} Close to the limit of {{limit}}."
            if near
            else f"{check.ok} More than {{limit}} cannot be ruled out from this photograph: look."
        )
    else:
        status, message = "ok", check.ok
        if UNSURE_SD * sd > BLIND_SHARE * check.limit:
            message += " These marks tell it no better than ± {spread}: look as well."
    unit = "°" if check.unit == "deg" else " cm" if check.unit == "cm" else ""
    text = message.format(
        value=f"{shown:.0f}{unit}", limit=f"{check.limit:g}{unit}", spread=f"{Z95 * sd:.0f}{unit}"
    )
    if status == "retake":
        text = f"Take it again: {text}"
    return CheckResult(check.id, check.label, value, sd, check.unit, check.limit, status, text)


def _unsure(check: Check, value: float, sd: float) -> bool:
    """Whether a compensation below its limit is pointed at: near it, or not surely below."""
    if value + sd > check.limit and value > check.limit / 2:
        return True
    # What would only be pointed at anyway is not pointed at for error alone, but where error has
    # already been taken off its size.
    far = value + UNSURE_SD * sd > check.limit and value > LEAST_SHARE * check.limit
    return far and (check.severity == "retake" or check.formula.size_only)


def judge_figure_match(pose_name: str, misfit: float, limit: float) -> CheckResult | None:
    """Say when the marks do not form the pose at all (see ``figure_match``)."""
    if misfit <= limit:
        return None
    return CheckResult(
        id="pose_fit",
        label="marks against the pose's figure",
        value=min(misfit, 9.0),
        sd=0.0,
        unit="ratio",
        limit=limit,
        status="retake",
        message=f"Take it again: the marks do not form the pose ({pose_name}). If the photograph "
        "shows another pose, move it to that one; if not, look whether each mark is on its joint.",
    )
