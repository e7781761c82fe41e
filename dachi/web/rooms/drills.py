"""The drill catalogue: browse, search, and a card to print."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from flask import Blueprint, abort, get_template_attribute, render_template, request
from flask_login import login_required

from dachi.studio.lists import (
    DIRECTIONS,
    PHASES,
    POSITIONS,
    TISSUES,
    Drill,
    cautions,
    drills,
    gates,
    props,
)
from dachi.studio.practice.person import drill_by_id

room = Blueprint("drills", __name__)

#: So many drills are drawn at once.
AT_ONCE = 30
FILTERS = ("phase", "direction", "tissue", "position", "prop", "school")


@room.get("/drills")
@login_required
def page() -> str:
    """Drills that match what was asked: words, and any of the filters."""
    asked = {f: request.args.get(f, "") for f in FILTERS}
    words = request.args.get("q", "").strip().casefold().split()
    found = [d for d in drills() if matches(d, asked) and all(w in d.searched for w in words)]
    groups = [(p, own) for p in PHASES if (own := [d for d in found if d.phase == p])]
    part = request.args.get("part", "")
    if part:
        macro = get_template_attribute("parts/drill_grid.html", "grid")
        return str(macro([d for d in found if d.phase == part]))
    return render_template(
        "parts/drill_list.html" if request.headers.get("HX-Request") else "drills.html",
        groups=groups,
        later=_later(groups),
        count=len(found),
        asked=asked,
        q=request.args.get("q", ""),
        choices={
            "phase": PHASES,
            "direction": DIRECTIONS,
            "tissue": TISSUES,
            "position": POSITIONS,
            "prop": [p.id for p in props()],
            "school": ["engaged", "yielding"],
        },
    )


def _later(groups: Sequence[tuple[str, list[Drill]]]) -> dict[str, bool]:
    """Which phases come when they are scrolled to: drawings are heavy, a hall's wireless slow."""
    found, so_far = {}, 0
    for phase, own in groups:
        so_far += len(own)
        found[phase] = so_far > AT_ONCE and phase != groups[0][0]
    return found


def matches(drill: Drill, asked: dict[str, str]) -> bool:
    """Whether a drill passes every filter that is set."""
    tests: dict[str, Callable[[str], bool]] = {
        "phase": lambda v: drill.phase == v,
        "direction": lambda v: v in drill.directions,
        "tissue": lambda v: v in (*drill.lengthens, *drill.strengthens),
        "position": lambda v: drill.position == v,
        "prop": lambda v: v in (*drill.requires, *drill.optional),
        "school": lambda v: not drill.schools or v in drill.schools,
    }
    return all(tests[k](v) for k, v in asked.items() if v)


@room.get("/drills/<drill_id>")
@login_required
def card(drill_id: str) -> str:
    """One drill on a card."""
    known = drill_by_id()
    drill = known.get(drill_id) or abort(404)
    return render_template(
        "drill.html",
        drill=drill,
        easier=known.get(drill.easier or ""),
        harder=known.get(drill.harder or ""),
        props={p.id: p for p in props()},
        gates=[gates()[g] for g in drill.gate],
        cautions=[c for c in cautions() if c.forbidden(drill)],
    )
