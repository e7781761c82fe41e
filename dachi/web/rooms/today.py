"""The first page: who comes, who is due, what changed, and one thing to do for each."""

from __future__ import annotations

from flask import Blueprint, jsonify, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.studio import records
from dachi.studio.records import Begun, Seen
from dachi.studio.today import Action, Group, TodayEntry, today_page
from dachi.web.jobs import erasing_left, freshened, reading_left
from dachi.web.session import clock, current_coach, work

room = Blueprint("today", __name__)

#: People named in one group before the rest is folded away.
SHOWN = 12


@room.get("/")
@login_required
def page() -> str:
    """Everybody with something to do, each once, under the most pressing reason."""
    left = freshened()
    found = today_page(work())
    wanted = request.args.get("q", "").strip()[:80]
    only = next((g for g in Group if g.name.lower() == request.args.get("show")), None)
    first = () if wanted or only else found.first

    def named(who: Seen) -> bool:
        return wanted.casefold() in who.call_name.casefold()

    begun = records.begun(work())
    rest = [
        (g, [e for e in entries if e not in first and named(e.who)])
        for g, entries in found.groups
        if only in (None, g)
    ]
    return render_template(
        "today.html",
        everybody=len(found.people),
        people=[p for p in found.people if named(p)],
        today=clock().today(),
        first=first,
        groups=rest,
        counts=found.counts,
        wanted=wanted,
        only=only,
        address=_address,
        shown=SHOWN if only is None and not wanted else len(found.people),
        left=left,
        erasing=erasing_left(),
        reading=reading_left(),
        steps=[] if begun is not None and begun.read else _steps(begun),
        person=url_for("progress.page", pid=0).removesuffix("0"),
    )


def _steps(begun: Begun | None) -> list[dict[str, object]]:
    """The way to the first reading: what is done, and where the next is done."""
    pid = begun.person if begun else None
    aid, tid = (begun.assessment, begun.photograph) if begun else (None, None)
    return [
        {
            "words": "Lay out a mat, and say how large it is", "mat": True,
            "done": current_coach().mat_length_cm is not None,
            "why": "Its length and width tell where the camera stood: measure it once. Four "
            "printed cards beside its corners spare you marking them in every photograph.",
            "to": url_for("cards.page"), "act": "Print the cards", "aside": True,
        },
        {
            "words": "Add somebody", "done": pid is not None, "to": url_for("practitioners.new"),
            "why": "A name and what they come for. To measure yourself, the short way is one page.",
            "act": "Add a person", "myself": pid is None,
        },
        {
            "words": "Ask for consent", "done": begun is not None and begun.consented,
            "why": "Photographs wait for it; the screening decides which shots are offered.",
            "to": url_for("prepare.page", pid=pid) if pid else None, "act": "Consent and screening",
        },
        {
            "words": "Take one photograph", "done": tid is not None,
            "why": "The sheet says where to stand and how high to hold the phone. Without a "
            "camera at hand, the sheet's simulated one will do.",
            "to": url_for("assessments.sheet", aid=aid) if aid
            else url_for("assessments.new", pid=pid) if pid else None,
            "act": "To the sheet" if aid else "Open an assessment",
        },
        {
            "words": "Set the marks and accept", "done": begun is not None and begun.read,
            "why": "Drag each ring onto its joint. The angle appears as you drag, with its "
            "interval; Enter keeps it.",
            "to": url_for("bench.page", tid=tid) if tid else None, "act": "Mark it",
        },
    ]  # fmt: skip


def _address(entry: TodayEntry) -> str:
    """Where the one thing to do is done."""
    who = entry.who
    match entry.action:
        case Action.PLAN:
            return url_for("plan.page", pid=who.id)
        case Action.MARK:
            return url_for("bench.page", tid=who.first_unmarked or 0)
        case Action.PROGRESS:
            first = who.news[0]
            return url_for("progress.page", pid=who.id, pose=first.pose, measure=first.family)
        case Action.PREPARE:
            return url_for("prepare.page", pid=who.id)
        case Action.ASSESS:
            return url_for("assessments.new", pid=who.id)
        case Action.READ:
            return url_for("practise.page", pid=who.id, _anchor="words")
        case Action.REVIEW:
            visit = who.asked[0] if who.asked else 0
            return url_for("review.page", aid=visit, _anchor="questions")
        case Action.RECORD:
            return url_for("practitioners.record", pid=who.id)


@room.get("/jump")
@login_required
def jump() -> str | Response:
    """Answer the jump field: practitioners whose name holds what was typed."""
    wanted = request.args.get("q", "").strip().casefold()
    found = [
        {"name": p.practitioner.call_name, "at": url_for("progress.page", pid=p.practitioner.id)}
        for p in records.people(work())
        if wanted and wanted in p.practitioner.call_name.casefold()
    ]
    if request.headers.get("HX-Request"):
        return render_template("parts/jump.html", found=found[:8], wanted=wanted)
    return jsonify(found)
