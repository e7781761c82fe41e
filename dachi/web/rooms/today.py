"""The first page: who comes, who is due, what changed, and one thing to do for each."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta

from flask import Blueprint, jsonify, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.store import digests, practitioners
from dachi.store.digests import Seen
from dachi.web.session import coach_id, db
from dachi.web.words import day

room = Blueprint("today", __name__)

NEWS_DAYS, COMING_DAYS, DUE_SOON_DAYS, PAIN_DAYS = 21, 7, 3, 7
#: People named in one group before the rest is folded away.
SHOWN = 12


@dataclass(frozen=True)
class Entry:
    """A person with the reason to be on the page and the one thing to do."""

    who: Seen
    reasons: tuple[tuple[str, str], ...]
    action: str
    address: str


@room.get("/")
@login_required
def page() -> str:
    """Everybody with something to do, each once, under the most pressing reason."""
    today = date.today()
    since = (today - timedelta(days=NEWS_DAYS)).isoformat()
    hurt = (today - timedelta(days=PAIN_DAYS)).isoformat()
    people = digests.today(db(), coach_id(), since, hurt)
    groups: dict[str, list[Entry]] = {
        "hurt": [],
        "coming": [],
        "marking": [],
        "changed": [],
        "due": [],
        "new": [],
    }
    for who in people:
        entry, group = _entry(who, today)
        if group:
            groups[group].append(entry)
    groups["coming"].sort(key=lambda e: e.who.next_visit_at or "")
    groups["changed"].sort(key=lambda e: e.who.last_at or "", reverse=True)
    groups["due"].sort(key=lambda e: e.who.retest_on or "")
    return render_template(
        "today.html",
        people=people,
        today=today,
        groups=[
            ("It hurt in practice", groups["hurt"]),
            ("Coming", groups["coming"]),
            ("Photographs to mark", groups["marking"]),
            ("What changed", groups["changed"]),
            ("Due for a look", groups["due"]),
            ("Not measured yet", groups["new"]),
        ],
        shown=SHOWN,
        person=url_for("progress.page", pid=0).removesuffix("0"),
    )


def _entry(who: Seen, today: date) -> tuple[Entry, str | None]:
    """The person's reasons, most pressing first, with the group the first one belongs to."""
    reasons: list[tuple[str, str]] = []
    group = None
    action = "New assessment"
    address: str | None = None
    if who.pain:
        reasons.append(("pain", f"pain in the {who.pain[0]} logged on {day(who.pain[1])}"))
        group, action, address = "hurt", "Look at the plan", url_for("plan.page", pid=who.id)
    if who.next_visit_at:
        at = datetime.fromisoformat(who.next_visit_at)
        away = (at.date() - today).days
        if 0 <= away <= COMING_DAYS:
            when = {0: "today", 1: "tomorrow"}.get(away, f"on {at:%A}")
            reasons.append(("coming", f"comes {when} at {at:%H:%M}"))
            group = group or "coming"
            if who.consent_missing:
                reasons.append(("watch", "consent to photographs is not recorded"))
    if who.unmarked:
        plural = "s" if who.unmarked != 1 else ""
        reasons.append(("watch", f"{who.unmarked} photograph{plural} to mark"))
        if group is None:
            group = "marking"
            action = "Go on marking"
            address = url_for("bench.page", tid=who.first_unmarked or 0)
    for n in who.news[:3]:
        reasons.append((str(n["kind"]), str(n["text"])))
    if who.news and group is None:
        group, action = "changed", "See progress"
        first = who.news[0]
        address = url_for("progress.page", pid=who.id, pose=first["pose"], measure=first["family"])
    if who.retest_on and who.retest_on <= (today + timedelta(days=DUE_SOON_DAYS)).isoformat():
        reasons.append(("due", f"a new look can show something since {day(who.retest_on)}"))
        group = group or "due"
    if not who.assessments and group is None:
        reasons.append(("due", "a first assessment sets what later ones are compared with"))
        group = "new"
    if group and address is None:
        # Nothing is photographed before consent: that is where the day begins.
        if who.consent_missing:
            action = "Prepare"
        room_name = "prepare.page" if who.consent_missing else "assessments.new"
        address = url_for(room_name, pid=who.id)
    return Entry(who, tuple(reasons), action, address or ""), group


@room.get("/jump")
@login_required
def jump() -> str | Response:
    """Answer the jump field: practitioners whose name holds what was typed."""
    wanted = request.args.get("q", "").strip().casefold()
    found = [
        {"name": p.practitioner.call_name, "at": url_for("progress.page", pid=p.practitioner.id)}
        for p in practitioners.listing(db(), coach_id())
        if wanted and wanted in p.practitioner.call_name.casefold()
    ]
    if request.headers.get("HX-Request"):
        return render_template("parts/jump.html", found=found[:8], wanted=wanted)
    return jsonify(found)
