"""The assessment on one page, made to be turned towards the practitioner; signing off."""

from __future__ import annotations

import math
from dataclasses import dataclass

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core import verdicts
from dachi.core.catalogue import Measure, Pose
from dachi.core.series import Gain, Series, SessionValue, asymmetries, gain, reserves
from dachi.data import catalogue
from dachi.store import days, markings
from dachi.store.assessments import Assessment
from dachi.web import sheets
from dachi.web.digests import judged, label_of
from dachi.web.rooms import compare
from dachi.web.session import coach_id, db, own_assessment, own_practitioner

room = Blueprint("review", __name__)


@dataclass(frozen=True)
class Now:
    """One side and mode today, against the last time and the first."""

    side: str
    mode: str
    today: SessionValue
    last: Gain | None
    first: Gain | None

    @property
    def detectable(self) -> float:
        """The change that could have been told from chance today."""
        found = self.last or self.first
        return found.mdc if found is not None else self.today.mdc


@dataclass(frozen=True)
class Part:
    """One measure of a pose in this assessment."""

    pose: Pose
    measure: Measure
    label: str
    rows: tuple[Now, ...]
    left_out: int
    reserve: tuple[str, ...]
    asymmetry: str
    pairs: tuple[tuple[Now, tuple[compare.Shown, ...]], ...]


@room.get("/a/<int:aid>/review")
@login_required
def page(aid: int) -> str:
    """Today against last and first, left against right, active against passive."""
    visit = own_assessment(aid)
    own = sheets.all_trials(coach_id(), visit)
    parts = []
    for pose_id in dict.fromkeys(t.pose for t in own):
        if pose_id in catalogue():
            parts += _parts(visit, catalogue().pose(pose_id))
    return render_template(
        "review.html",
        visit=visit,
        who=own_practitioner(visit.practitioner_id),
        parts=parts,
        unmarked=[t for t in own if t.status == "unmarked"],
        retake=[t for t in own if t.status == "retake" and not t.overruled],
        events=days.events(db(), coach_id(), aid),
        state=days.state(db(), coach_id(), aid),
        size=(compare.WIDTH, compare.HEIGHT),
    )


def _parts(visit: Assessment, pose: Pose) -> list[Part]:
    pid = visit.practitioner_id
    rows = markings.charted(db(), coach_id(), pid, pose.id, tuple(pose.alike))
    found = []
    for measure in pose.families:
        series = judged(db(), coach_id(), pid, pose, measure.family, rows=rows)
        now = _now(visit, series)
        out = sum(t.assessment_id == visit.id for line in series.lines for t in line.left_out)
        if not now and not out:
            continue
        found.append(
            Part(
                pose,
                measure,
                label_of(db(), coach_id(), pose, measure, series),
                now,
                out,
                tuple(
                    f"{side.capitalize() + ': ' if side != 'both' else ''}"
                    f"{verdicts.say_reserve(r, measure.unit)}"
                    for side in series.sides
                    for r in reserves(series, side)
                    if r.assessment_id == visit.id
                ),
                next(
                    (
                        verdicts.describe_asymmetry(a, measure.unit)
                        for a in asymmetries(series, series.main_mode)
                        if a.assessment_id == visit.id
                    ),
                    "",
                ),
                tuple(
                    (n, _pictures(n, pose, measure.family))
                    for n in now
                    if n.mode == series.main_mode and measure.fan is not None
                ),
            )
        )
    return found


def _now(visit: Assessment, series: Series) -> tuple[Now, ...]:
    found = []
    for line in series.lines:
        at = next((i for i, s in enumerate(line.sessions) if s.assessment_id == visit.id), None)
        if at is None:
            continue
        today = line.sessions[at]
        before = line.sessions[:at]
        found.append(
            Now(
                line.side,
                line.mode,
                today,
                gain(before[-1], today, series.better) if before else None,
                gain(before[0], today, series.better) if len(before) > 1 else None,
            )
        )
    order = {"left": 0, "right": 1, "both": 2}
    return tuple(sorted(found, key=lambda n: (order[n.side], n.mode)))


def _pictures(now: Now, pose: Pose, family: str) -> tuple[compare.Shown, ...]:
    """The photographs of the first time (or the last) and of today, aligned."""
    earlier = now.first or now.last
    sessions = [*([earlier.earlier] if earlier else []), now.today]
    return tuple(_typical(s, pose, now.side, family) for s in sessions)


def _typical(session: SessionValue, pose: Pose, side: str, family: str) -> compare.Shown:
    """The photograph whose reading is nearest to what its session counts as."""
    found = [compare.shown(t, pose, side, family) for t in session.trial_ids]
    return min(found, key=lambda s: abs((math.inf if s.value is None else s.value) - session.value))


@room.post("/a/<int:aid>/sign-off")
@login_required
def sign_off(aid: int) -> Response:
    """Close the assessment; phones are shut out with it."""
    visit = own_assessment(aid)
    if days.sign_off(db(), coach_id(), visit.id):
        days.close_phones(db(), coach_id(), visit.id)
        flash("Signed off. Nothing in this assessment changes until it is reopened.")
    return redirect(url_for("review.page", aid=aid))


@room.post("/a/<int:aid>/reopen")
@login_required
def reopen(aid: int) -> Response:
    """Open a closed assessment again, with a reason that is kept."""
    visit = own_assessment(aid)
    reason = request.form.get("reason", "").strip()[:300]
    if not reason:
        flash("Say why it is reopened: the reason is kept with the assessment.", "retake")
    elif days.reopen(db(), coach_id(), visit.id, reason):
        flash("Reopened.")
    return redirect(url_for("review.page", aid=aid))
