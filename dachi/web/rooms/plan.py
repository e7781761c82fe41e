"""The plan of a practitioner: settings, the week, proposals, ladders."""

from __future__ import annotations

from flask import Blueprint, abort, flash, redirect, render_template, request, session, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.lists import Drill, cautions, gates, props
from dachi.studio.practice import acts, minding, proposals, weeks
from dachi.studio.practice.acts import LENGTHS, Habit
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.records import NoPlan, PlannedWeek, Practitioner
from dachi.studio.verdicts import conclusions
from dachi.web.session import own_practitioner, work

room = Blueprint("plan", __name__)


@room.get("/p/<int:pid>/plan")
@login_required
def page(pid: int) -> str:
    """The week, with the reason for each drill, what fell out, and what to change."""
    who = own_practitioner(pid)
    own = Practising(work(), who)
    problem, week = None, None
    try:
        week = weeks.week_of(own)
    except NoPlan as error:
        problem = f"There is no plan: {error}."
    said = proposals.of_practitioner(work(), pid)
    today = work().today()
    last = records.week_before(work(), pid, weeks.monday(today))
    shown = request.args.get("day", "")
    return render_template(
        "plan.html",
        who=who,
        visits=records.visits_of(work(), pid),
        profile=own.profile,
        week=week,
        problem=problem,
        drills=drill_by_id(),
        weekdays=weeks.WEEKDAYS,
        today=today.weekday(),
        wheel=weeks.wheel_of(own, week) if week else "",
        dose=lambda d: weeks.say_dose(d, own.known.styles["counting"], who.breath_s),
        open_proposals=[p for p in said if p.offered.decided_at is None],
        decided=[p for p in said if p.offered.decided_at is not None],
        cautions=cautions(),
        active={c.id for c in own.person.cautions},
        gentle=own.person.gentle,
        shown=int(shown) if shown in set("0123456") else _next_day(week, today.weekday()),
        since=weeks.changes(last, week) if last and week else {},
        last=last,
        lengths=LENGTHS,
        owned=[p for p in props() if p.id in who.props],
        lacking=weeks.lacking(own),
        advice=conclusions.advise(work(), who, own),
        wishes=own.wishes,
        fell_out=weeks.fallen_out(own, week) if week else [],
        standings=own.standings[:2],
        closed_ladders=own.closed_ladders,
        back=minding.coming_back(own),
        overruled=own.overruled,
        gate_words={g: x.words for g, x in gates().items()},
        event=own.event,
        notes=own.notes,
        thin=weeks.thin(own, week, LENGTHS) if week else {},
        planned={(s.weekday, i.drill) for s in week.sessions for i in s.items} if week else set(),
        saved=records.profile(work(), pid) is not None,
    )


def _next_day(week: PlannedWeek | None, today: int) -> int | None:
    """The weekday of today's session, else of the next one."""
    days = [s.weekday for s in week.sessions] if week else []
    return min(days, key=lambda d: (d - today) % 7, default=None)


@room.post("/p/<int:pid>/plan/profile")
@login_required
def profile(pid: int) -> Response:
    """Say how somebody practises."""
    who, form = own_practitioner(pid), request.form
    said = Habit(
        level=form.get("level", ""),
        minutes=form.get("minutes", ""),
        weekdays=form.getlist("weekday"),
        by_day={d: form.get(f"minutes-{d}", "") for d in range(7)},
        cautions=form.getlist("caution"),
        untune=bool(form.get("untune")),
        twice=bool(form.get("twice")),
        gentle=bool(form.get("gentle")),
    )
    try:
        acts.say_habit(work(), who, said)
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("plan.page", pid=pid))


@room.post("/p/<int:pid>/plan/wish")
@login_required
def wish(pid: int) -> Response:
    """Keep, drop, swap or lengthen one thing on a day, or on every day (-1): what to do, the day,
    the drill and, to swap it, the other one, as one text.
    """
    who = own_practitioner(pid)
    act, day, drill, other, *_ = [*request.form.get("do", "").split(), "", "", "", ""]
    if day not in ("-1", *"0123456"):
        abort(400)
    on = int(day)
    try:
        before, after = acts.change_week(work(), who, act, drill, on, other)
    except KeyError:
        abort(400)
    except NotDone as error:
        flash(f"Not changed: {str(error).rstrip('.')}.", "retake")
        return redirect(url_for("plan.page", pid=pid))
    if before is not None:
        session[f"plan-{pid}"] = {"wishes": before.wishes, "longer": dict(before.longer)}
        undo = f"undo:{url_for('plan.undo', pid=pid)}"
        flash(weeks.say_changes(before.week, after), undo)
    if on < 0:
        return redirect(url_for("plan.page", pid=pid))
    return redirect(url_for("plan.page", pid=pid, day=on, _anchor=f"day-{on}"))


@room.get("/p/<int:pid>/plan/<int:weekday>/<drill_id>/other")
@login_required
def other(pid: int, weekday: int, drill_id: str) -> str:
    """Search a drill to stand in another's place on a day; what is closed says why."""
    who = own_practitioner(pid)
    known = drill_by_id()
    if drill_id not in known or not 0 <= weekday <= 6:
        abort(404)
    return _search(who, weekday, known[drill_id])


def _search(who: Practitioner, weekday: int, drill: Drill | None) -> str:
    """The search for a drill in another's place, or to add."""
    wanted = request.args.get("q", "").strip()[:80]
    own = Practising(work(), who)
    return render_template(
        "plan_other.html",
        who=who,
        visits=records.visits_of(work(), who.id),
        drill=drill,
        weekday=weekday,
        weekdays=weeks.WEEKDAYS,
        q=wanted,
        found=weeks.in_place_of(own, drill, wanted),
        may_open={d.id for d in minding.to_open(own)},
        one_sided=minding.one_sided(own),
    )


@room.post("/p/<int:pid>/plan/quiet")
@login_required
def quiet(pid: int) -> Response:
    """Say that a place is quiet, not yet, or that a clinician has seen it."""
    said = request.form.get("answer", "")
    try:
        minding.answer(
            work(), own_practitioner(pid), request.form.get("key", ""), said,
            request.form.get("by", ""),
        )  # fmt: skip
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("plan.page", pid=pid, _anchor="back"))


@room.post("/p/<int:pid>/plan/overrule")
@login_required
def overrule(pid: int) -> Response:
    """Open a drill or gate, or shut a gate, with a reason; or let the rule act again."""
    who, form = own_practitioner(pid), request.form
    what, name = form.get("what", ""), form.get("name", "")
    try:
        if what == "lift":
            minding.lift(work(), who, name)
        else:
            minding.overrule(work(), who, what, name, form.get("reason", ""))
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(
        url_for("plan.ladders" if form.get("from") == "ladders" else "plan.page", pid=pid)
    )


@room.post("/p/<int:pid>/plan/event")
@login_required
def event(pid: int) -> Response:
    """Say what somebody prepares for and when."""
    form = request.form
    try:
        minding.prepare_for(work(), own_practitioner(pid), form.get("on", ""), form.get("what", ""))
    except NotDone as error:
        flash(error.sentence, "retake")
    return redirect(url_for("plan.page", pid=pid))


@room.post("/p/<int:pid>/plan/note")
@login_required
def note(pid: int) -> Response:
    """Say something of a drill to this person."""
    who, form = own_practitioner(pid), request.form
    try:
        acts.note_drill(work(), who, form.get("drill", ""), form.get("text", ""))
    except KeyError:
        abort(400)
    day = form.get("day", "")
    anchor = f"day-{day}" if day in set("0123456") else None
    return redirect(url_for("plan.page", pid=pid, day=day if anchor else None, _anchor=anchor))


@room.get("/p/<int:pid>/plan/<int:weekday>/add")
@login_required
def add(pid: int, weekday: int) -> str:
    """Search a drill to put into a day by hand; what is closed says why."""
    who = own_practitioner(pid)
    if not 0 <= weekday <= 6:
        abort(404)
    return _search(who, weekday, None)


@room.post("/p/<int:pid>/plan/undo")
@login_required
def undo(pid: int) -> Response:
    """Take the last change by hand back: the week is as it was."""
    who = own_practitioner(pid)
    kept = session.pop(f"plan-{pid}", None)
    if kept is None:
        flash("There is nothing to take back.", "retake")
        return redirect(url_for("plan.page", pid=pid))
    acts.undo_change(work(), who, [(d, n, k) for d, n, k in kept["wishes"]], kept["longer"])
    flash("Taken back.")
    return redirect(url_for("plan.page", pid=pid))


@room.post("/p/<int:pid>/proposals/<int:oid>")
@login_required
def decide(pid: int, oid: int) -> Response:
    """Accept a proposal, and do what it says, or leave things as they are."""
    who = own_practitioner(pid)
    try:
        done = acts.decide(work(), who, oid, yes=request.form.get("accept") == "1")
    except KeyError:
        abort(404)
    # What is decided now is not undone with a change made before.
    session.pop(f"plan-{pid}", None)
    if done:
        flash(f"Done: {done}")
    return redirect(url_for("plan.page", pid=pid))


@room.get("/p/<int:pid>/ladders")
@login_required
def ladders(pid: int) -> str:
    """Where the practitioner stands towards each goal pose, and what opens the next rung."""
    who = own_practitioner(pid)
    return render_template(
        "ladders.html",
        who=who,
        visits=records.visits_of(work(), pid),
        standings=(own := Practising(work(), who)).standings,
        drills=drill_by_id(),
        overruled={o.name: o for o in own.overruled},
        closed_ladders=own.closed_ladders,
    )
