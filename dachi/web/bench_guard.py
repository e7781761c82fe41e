"""Who may change a photograph's marks, and what surrounds them."""

from __future__ import annotations

from flask import abort, flash, redirect, request, url_for
from flask_login import current_user
from werkzeug.wrappers import Response

from dachi.studio import records
from dachi.studio.bench.around import Surroundings, surroundings
from dachi.studio.phrases import known_pose, say_day
from dachi.studio.records import Trial
from dachi.studio.visits import intake
from dachi.web.session import own_assessment, own_trial, work


def at_bench(tid: int) -> Surroundings:
    """Everything around one of the coach's trials; 404 where it is not theirs, or of no pose that
    is known here (it came from elsewhere, or the catalogue has lost it).
    """
    trial = own_trial(tid)
    if not known_pose(trial.pose):
        abort(404, f"A pose called “{trial.pose[:40]}” is not known to this Dachi.")
    return surroundings(work(), trial)


def stopped(trial: Trial) -> str | None:
    """Why nothing can be changed on this photograph, None where it can."""
    if trial.read_from is not None:
        return (
            f"This was read elsewhere and taken in from {trial.read_from}: nothing can be marked."
        )
    consent = records.consent(work(), trial.practitioner_id)
    if consent is not None and consent.withdrawn_on is not None:
        return (
            f"Consent to photographs was withdrawn on {say_day(consent.withdrawn_on)}: the picture "
            "is not shown any more. What was read from it stays."
        )
    closed = intake.closed(own_assessment(trial.assessment_id))
    if closed is None and trial.deleted:
        return "This photograph was deleted and counts for nothing. Bring it back to go on with it."
    return closed


def keep_closed() -> Response | None:
    """A signed-off assessment and a photograph without consent are left as they are."""
    tid = (request.view_args or {}).get("tid")
    if request.method != "POST" or tid is None or not current_user.is_authenticated:
        return None
    sentence = stopped(own_trial(tid))
    if sentence is None or request.endpoint == "bench.read":
        return None
    flash(f"Not saved: {sentence}", "retake")
    return redirect(url_for("bench.page", tid=tid))
