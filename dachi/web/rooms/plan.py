"""The plan of a practitioner: settings, the week, proposals, ladders."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

from flask import Blueprint, abort, flash, redirect, render_template, request, session, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.core.practising.programme import NoPlan, direction_target, missing, needing
from dachi.core.practising.progression import Adjustment, lengthened
from dachi.data import cautions, chosen_schools, props
from dachi.drawing.practice import wheel
from dachi.store import assessments
from dachi.store import proposals as offered_proposals
from dachi.store import weeks as stored_weeks
from dachi.store.weeks import PlannedWeek, Profile, Tuned
from dachi.studio.practice import proposals, weeks
from dachi.web.session import coach_id, db, own_practitioner, work

room = Blueprint("plan", __name__)

#: Minutes a session may have.
LENGTHS = ("5", "10", "15", "20", "30", "45", "60")


@room.get("/p/<int:pid>/plan")
@login_required
def page(pid: int) -> str:
    """The week, with the reason for each drill, what fell out, and what to change."""
    who = own_practitioner(pid)
    proposals.refresh(work(), who)
    profile = weeks.profile_of(work(), pid)
    problem, week = None, None
    try:
        week = weeks.week_of(work(), who)
    except NoPlan as error:
        problem = f"There is no plan: {error}."
    offered = offered_proposals.of_practitioner(db(), coach_id(), pid)
    styles = chosen_schools(who.schools)
    target = direction_target(profile.week_min)
    person = weeks.person_of(work(), who)
    last = stored_weeks.plan_before(db(), coach_id(), pid, weeks.monday(work().today()))
    shown = request.args.get("day", "")
    return render_template(
        "plan.html",
        who=who,
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        profile=profile,
        week=week,
        problem=problem,
        drills=weeks.drill_by_id(),
        weekdays=weeks.WEEKDAYS,
        today=work().today().weekday(),
        wheel=wheel(week.directions, target) if week else "",
        dose=lambda d: weeks.say_dose(d, styles["counting"], who.breath_s),
        open_proposals=[o for o in offered if o.decided_at is None],
        decided=[o for o in offered if o.decided_at is not None],
        cautions=cautions(),
        active={c.id for c in person.cautions},
        gentle=person.gentle,
        shown=int(shown) if shown in set("0123456") else _next_day(week, work().today().weekday()),
        since=weeks.changes(last, week) if last and week else {},
        last=last,
        lengths=LENGTHS,
        owned=[p for p in props() if p.id in who.props],
        lacking={d.id: missing(d, person.props) for d in weeks.drill_by_id().values()},
        wishes=stored_weeks.wishes(db(), coach_id(), pid),
        fell_out=_grouped(week.fell_out, person.props) if week else [],
        standings=weeks.standings(work(), who)[:2],
        saved=stored_weeks.profile(db(), coach_id(), pid) is not None,
    )


def _next_day(week: PlannedWeek | None, today: int) -> int | None:
    """The weekday of today's session, else of the next one."""
    days = [s.weekday for s in week.sessions] if week else []
    return min(days, key=lambda d: (d - today) % 7, default=None)


def _grouped(fell_out: Mapping[str, str], owned: Collection[str]) -> list[tuple[str, list[str]]]:
    """Drills that are not in the plan, by the reason; what would do for a missing prop."""
    known = weeks.drill_by_id()
    instead = {p.id: p.instead for p in props()}
    found: dict[str, list[str]] = {}
    for name, why in fell_out.items():
        lacking = missing(known[name], {*owned, "mat"}) if name in known else ()
        if lacking and why == needing(lacking):
            why += f"; {', '.join(instead[p] for p in lacking)} would do"
        found.setdefault(why, []).append(name)
    return sorted(found.items(), key=lambda f: -len(f[1]))


@room.post("/p/<int:pid>/plan/profile")
@login_required
def profile(pid: int) -> Response:
    """Say how somebody practises."""
    own_practitioner(pid)
    known = weeks.profile_of(work(), pid)
    level, minutes = request.form.get("level", ""), request.form.get("minutes", "")
    days = set("0123456") & set(request.form.getlist("weekday"))
    chosen = tuple(sorted(int(d) for d in days))
    own_lengths = {d: request.form.get(f"minutes-{d}", "") for d in range(7)}
    if level not in ("1", "2", "3") or minutes not in LENGTHS:
        flash("Choose a level and the minutes of a session.", "retake")
    elif not chosen:
        flash("Choose at least one day to practise on.", "retake")
    elif any(m not in ("", *LENGTHS) for m in own_lengths.values()):
        flash("Choose the minutes of each day from the list.", "retake")
    else:
        own = tuple(c.id for c in cautions() if c.id in request.form.getlist("caution"))
        tuned = Tuned() if request.form.get("untune") else known.tuned
        differ = {
            d: float(m) for d, m in own_lengths.items() if d in chosen and m not in ("", minutes)
        }
        found = Profile(
            int(level), float(minutes), chosen, own, tuned, differ,
            twice=bool(request.form.get("twice")), gentle=bool(request.form.get("gentle")),
        )  # fmt: skip
        stored_weeks.save_profile(db(), coach_id(), pid, found)
    return redirect(url_for("plan.page", pid=pid))


@room.post("/p/<int:pid>/plan/wish")
@login_required
def wish(pid: int) -> Response:
    """Keep, drop, swap or lengthen one thing on a day, or on every day (-1)."""
    who = own_practitioner(pid)
    name, act = request.form.get("drill", ""), request.form.get("act", "")
    day = request.form.get("weekday", "-1")
    known = weeks.drill_by_id()
    if name not in known or day not in ("-1", *"0123456"):
        abort(400)
    on = int(day)
    wishes = stored_weeks.wishes(db(), coach_id(), pid)
    longer = weeks.profile_of(work(), pid).tuned.longer
    try:
        before = weeks.week_of(work(), who)
    except NoPlan:
        before = None
    _change(pid, on, name, act)
    try:
        # What is changed on a day changes that day; the whole week only where that is asked.
        if on >= 0 and before is not None:
            after = weeks.with_day_anew(work(), who, before, on)
        else:
            after = weeks.week_of(work(), who)
    except NoPlan as error:
        db().again(keep=False)
        flash(f"Not changed: {error}.", "retake")
        return redirect(url_for("plan.page", pid=pid))
    if before is not None:
        session[f"plan-{pid}"] = {"wishes": wishes, "longer": dict(longer)}
        flash(weeks.say_changes(before, after), f"undo:{url_for('plan.undo', pid=pid)}")
    if on < 0:
        return redirect(url_for("plan.page", pid=pid))
    return redirect(url_for("plan.page", pid=pid, day=on, _anchor=f"day-{on}"))


def _change(pid: int, on: int, name: str, act: str) -> None:
    """Record what the coach wants changed; 400 where it is no change there is."""
    if act in ("keep", "drop", "free"):
        kind = None if act == "free" else act
        stored_weeks.wish(db(), coach_id(), pid, on, name, kind)
        if act == "free":
            stored_weeks.wish(db(), coach_id(), pid, -1, name, None)
    elif act == "swap":
        other = request.form.get("other", "")
        if other not in weeks.drill_by_id():
            abort(400)
        stored_weeks.wish(db(), coach_id(), pid, on, name, "drop")
        stored_weeks.wish(db(), coach_id(), pid, on, other, "keep")
    elif act == "longer":
        own = weeks.profile_of(work(), pid)
        factor = own.tuned.longer.get(name, 1.0)
        more = lengthened(weeks.drill_by_id()[name], own.level, factor)
        proposals.accept(work(), pid, Adjustment(longer={name: more}))
    else:
        abort(400)


@room.post("/p/<int:pid>/plan/undo")
@login_required
def undo(pid: int) -> Response:
    """Take the last change by hand back: the week is as it was."""
    who = own_practitioner(pid)
    kept = session.pop(f"plan-{pid}", None)
    if kept is None:
        flash("There is nothing to take back.", "retake")
        return redirect(url_for("plan.page", pid=pid))
    profile = weeks.profile_of(work(), pid)
    if dict(profile.tuned.longer) != kept["longer"]:
        tuned = replace(profile.tuned, longer=kept["longer"])
        stored_weeks.save_profile(db(), coach_id(), pid, replace(profile, tuned=tuned))
    weeks.put_back(work(), who, [(d, n, k) for d, n, k in kept["wishes"]])
    flash("Taken back.")
    return redirect(url_for("plan.page", pid=pid))


@room.post("/p/<int:pid>/proposals/<int:oid>")
@login_required
def decide(pid: int, oid: int) -> Response:
    """Accept a proposal, and do what it says, or leave things as they are."""
    own_practitioner(pid)
    offered = {o.id: o for o in offered_proposals.of_practitioner(db(), coach_id(), pid)}
    found = offered.get(oid) or abort(404)
    yes = request.form.get("accept") == "1"
    # What is decided now is not undone with a change made before.
    session.pop(f"plan-{pid}", None)
    if offered_proposals.decide(db(), coach_id(), pid, oid, yes) and yes:
        proposals.accept(work(), pid, found.change)
        flash(f"Done: {found.text}")
    return redirect(url_for("plan.page", pid=pid))


@room.get("/p/<int:pid>/ladders")
@login_required
def ladders(pid: int) -> str:
    """Where the practitioner stands towards each goal pose, and what opens the next rung."""
    who = own_practitioner(pid)
    return render_template(
        "ladders.html",
        who=who,
        visits=assessments.of_practitioner(db(), coach_id(), pid),
        standings=weeks.standings(work(), who),
        drills=weeks.drill_by_id(),
    )
