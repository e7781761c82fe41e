"""What was practised: log, adherence, prop heights, soreness and pain; the private link."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, timedelta
from typing import Any

from flask import (
    Blueprint,
    abort,
    current_app,
    flash,
    redirect,
    render_template,
    request,
    send_file,
    url_for,
)
from flask_login import login_required
from itsdangerous import URLSafeSerializer
from werkzeug.wrappers import Response

from dachi.core.practice import SITTING_S, direction_seconds, sitting_rung
from dachi.devices import outbox
from dachi.drawing import practice as drawings
from dachi.store import assessments, digests, markings, practice
from dachi.store.practice import Entry
from dachi.store.practitioners import Practitioner
from dachi.web import plans
from dachi.web.rooms.phone import outside_address, qr
from dachi.web.session import coach_id, data_folder, db, own_practitioner
from dachi.web.words import day

room = Blueprint("practise", __name__)

WEEKS = 12


@room.get("/p/<int:pid>/practice")
@login_required
def page(pid: int) -> str:
    """The log of a practitioner, drawn and listed."""
    who = own_practitioner(pid)
    log = practice.log(db(), coach_id(), pid)
    known = plans.drill_by_id()
    nonce = practice.link(db(), coach_id(), pid)
    address = private_address(nonce) if nonce else None
    pains = pain_map(log)
    return render_template(
        "practice.html",
        who=who,
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        log=log[:40],
        count=len(log),
        drills=known,
        weeks=drawings.weeks(by_week(log, len(plans.profile_of(coach_id(), pid).weekdays))),
        wheel=drawings.wheel(_directions(log), _directions_target(coach_id(), pid)),
        heights=heights(coach_id(), who, log),
        pains=pains,
        pain_drawing=drawings.pain_map({p["place"]: p["times"] for p in pains}) if pains else "",
        sitting=sitting(log),
        address=address,
        code=qr(address) if address else "",
    )


def by_week(log: Sequence[Entry], planned: int) -> list[tuple[str, float, int, int]]:
    """Minutes and sessions of the last weeks, oldest first, from the first that has any."""
    today = date.today()
    monday = today - timedelta(days=today.weekday())
    rows = []
    for w in range(WEEKS - 1, -1, -1):
        start = monday - timedelta(days=7 * w)
        end = start + timedelta(days=7)
        own = [e for e in log if start.isoformat() <= e.started_at[:10] < end.isoformat()]
        rows.append(
            (f"{start.day} {start:%b}", sum(e.seconds for e in own) / 60, len(own), planned)
        )
    first = next((i for i, r in enumerate(rows) if r[2]), len(rows) - 1)
    return rows[min(first, len(rows) - 4) :]


def _directions(log: Sequence[Entry]) -> dict[str, float]:
    """Seconds a week in each direction over the last four weeks."""
    since = (date.today() - timedelta(days=28)).isoformat()
    known = plans.drill_by_id()
    total: dict[str, float] = {}
    for e in log:
        if e.started_at[:10] >= since:
            done = {str(d["drill"]): float(d.get("seconds", 0)) for d in e.done}
            for k, v in direction_seconds(done, known).items():
                total[k] = total.get(k, 0.0) + v / 4
    return total


def _directions_target(coach: int, pid: int) -> float:
    from dachi.core.programme import DIRECTION_SHARE

    profile = plans.profile_of(coach, pid)
    return DIRECTION_SHARE * 60 * profile.minutes * len(profile.weekdays)


def heights(coach: int, who: Practitioner, log: Sequence[Entry]) -> list[tuple[str, str]]:
    """A chart for every drill whose support was logged at least twice."""
    known = plans.drill_by_id()
    found: dict[str, list[tuple[float, float]]] = {}
    for e in reversed(log):
        at = datetime.fromisoformat(e.started_at[:19]).timestamp() / 86400
        for d in e.done:
            if d.get("prop_cm") is not None:
                found.setdefault(str(d["drill"]), []).append((at, float(d["prop_cm"])))
    charts = []
    for name, props in found.items():
        drill = known.get(name)
        if drill is None or len(props) < 2:
            continue
        pose = drill.goal or drill.figure.pose
        ranges = _passive(coach, who.id, pose) if pose else []
        ranges = [r for r in ranges if r[0] >= props[0][0] - 60]
        days = [d for d, _ in (*props, *ranges)]
        dates = tuple(
            day(datetime.fromtimestamp(x * 86400).isoformat()) for x in (min(days), max(days))
        )
        charts.append(
            (drill.name, drawings.heights(drill.name, props, ranges, (dates[0], dates[1])))
        )
    return charts


def _passive(coach: int, pid: int, pose: str) -> list[tuple[float, float]]:
    """Mean passive headline of each assessment of a pose: (day, degrees)."""
    found: dict[float, list[float]] = {}
    for row in markings.charted(db(), coach, pid, pose, ()):
        if row.mode == "passive" and row.status != "retake":
            at = datetime.fromisoformat(row.taken_at).timestamp() / 86400
            found.setdefault(at, []).append(row.value)
    return [(d, sum(v) / len(v)) for d, v in sorted(found.items())]


def pain_map(log: Sequence[Entry]) -> list[dict[str, Any]]:
    """Places where it hurt: how often, when last, at what."""
    known = plans.drill_by_id()
    found: dict[str, dict[str, Any]] = {}
    for e in log:
        for drill, place, kind in e.pains:
            row = found.setdefault(
                place, {"place": place, "times": 0, "last": e.started_at, "at": []}
            )
            row["times"] += 1
            name = known[drill].name if drill in known else drill
            if name not in row["at"]:
                row["at"].append(f"{name} ({kind})")
    return sorted(found.values(), key=lambda r: -r["times"])


def sitting(log: Sequence[Entry]) -> dict[str, Any] | None:
    """The longest crossed sit, and the next time on its ladder."""
    known = plans.drill_by_id()
    best = max(
        (
            float(d.get("hold_s") or d.get("seconds", 0))
            for e in log
            for d in e.done
            if d["drill"] in known and known[str(d["drill"])].sitting
        ),
        default=None,
    )
    if best is None:
        return None
    at = sitting_rung(best)
    return {"best": best, "times": SITTING_S, "at": at}


@room.post("/p/<int:pid>/link")
@login_required
def link(pid: int) -> Response:
    """Make the private link, make it anew, or take it back."""
    own_practitioner(pid)
    if request.form.get("act") == "revoke":
        practice.revoke_link(db(), coach_id(), pid)
        flash("The link is taken back: it opens nothing any more.")
    else:
        practice.make_link(db(), coach_id(), pid)
    return redirect(url_for("practise.page", pid=pid, _anchor="own"))


def signer() -> URLSafeSerializer:
    """Signs the private link."""
    return URLSafeSerializer(current_app.secret_key or "", salt="own page")


def private_address(nonce: str) -> str:
    """Address of the practitioner's own page."""
    return f"{outside_address()}{url_for('own.page', token=signer().dumps(nonce))}"


@room.post("/p/<int:pid>/remind")
@login_required
def remind(pid: int) -> Response:
    """Write a reminder into the outbox: practice, the coming visit, or a due look."""
    who = own_practitioner(pid)
    if not who.email:
        flash("There is no address in the record yet.", "retake")
        return redirect(url_for("practise.page", pid=pid))
    nonce = practice.link(db(), coach_id(), pid)
    page = f"\n\nYour page: {private_address(nonce)}" if nonce else ""
    due = min(
        (d.retest_on for d in digests.of_practitioner(db(), coach_id(), pid) if d.retest_on),
        default=None,
    )
    subject, text = _reminder(who, request.form.get("kind", ""), due)
    from dachi.web.rooms.own import calendar_of

    try:
        outbox.send(
            data_folder(), who.email, subject, f"Hello {who.call_name},\n\n{text}{page}\n",
            [("practice.ics", calendar_of(coach_id(), who))],
        )  # fmt: skip
        flash(f"Written to the outbox: “{subject}”.")
    except (ValueError, OSError) as error:
        flash(f"The message was not written: {error}.", "retake")
    return redirect(url_for("practise.page", pid=pid))


def _reminder(who: Practitioner, kind: str, due: str | None) -> tuple[str, str]:
    """Subject and words of a reminder."""
    if kind == "visit" and who.next_visit_at:
        when = f"{day(who.next_visit_at)} at {who.next_visit_at[11:16]}"
        return (
            f"See you on {day(who.next_visit_at)}",
            f"we meet on {when}. Come as you are; we warm up together first.",
        )
    if kind == "look" and due:
        return (
            "Time for another look",
            f"from {day(due)} on a new look can show what the weeks have changed. Say when it "
            "suits you.",
        )
    return (
        "Your practice this week",
        "your sessions for this week are ready. Short ones that happen are worth more than long "
        "ones that do not.",
    )


@room.get("/outbox")
@login_required
def letters() -> str:
    """The simulated mail outbox: what would have been sent."""
    return render_template("outbox.html", letters=outbox.letters(data_folder()))


@room.get("/outbox/<name>")
@login_required
def letter(name: str) -> Response:
    """One message as a standard .eml file."""
    path = outbox.path_of(data_folder(), name) or abort(404)
    return send_file(path, mimetype="message/rfc822", as_attachment=True, download_name=name)
