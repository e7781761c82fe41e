"""The range of a hip in six directions around a circle: active filled, passive outlined."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from dachi.core.body.anatomy import HIP_REFERENCES
from dachi.drawing.axes import number, tag, text, title

#: Direction, its word, and the range that fills the circle, degrees. The outward directions of
#: either hip point away from the middle of the pair.
DIRECTIONS: tuple[tuple[str, str, float], ...] = (
    ("flexion", "flexion", 140.0),
    ("abduction", "abduction", 80.0),
    ("external_rotation", "rotation out", 60.0),
    ("extension", "extension", 60.0),
    ("internal_rotation", "rotation in", 60.0),
    ("adduction", "adduction", 45.0),
)
RADIUS, MIDDLE, WIDTH, HEIGHT = 92.0, 188.0, 376.0, 250.0


@dataclass(frozen=True)
class DrawnRange:
    """Degrees in one direction; None where never measured. ``before`` is last time's passive."""

    active: float | None = None
    passive: float | None = None
    before: float | None = None
    source: str = ""


def draw(side: str, ranges: Mapping[str, DrawnRange]) -> str:
    """Return the circle of one side as SVG; directions never measured stay dotted."""
    cy = HEIGHT / 2
    out = [tag("circle", class_="h-rim", cx=MIDDLE, cy=cy, r=RADIUS)]
    said = []
    for i, (name, word, full) in enumerate(DIRECTIONS):
        # The left hip mirrors the right: outward is to the outside of the page's pair.
        turn = 60.0 * i if side == "right" else -60.0 * i
        found = ranges.get(name, DrawnRange())
        out.append(_sector(turn, found, full, cy, f"h-{side}"))
        reference = HIP_REFERENCES.get(name)
        if reference is not None and name not in ("flexion",):
            r = RADIUS * min(reference.mean_deg / full, 1.0)
            note = f"{word}: adults about {reference.mean_deg:g}° ({reference.source})"
            out.append(_arc(turn, r, 10.0, cy, "h-reference", note))
        shown = found.passive if found.passive is not None else found.active
        value = f"{shown:.0f}°" if shown is not None else ""
        x, y = _at(turn, RADIUS + 18, cy)
        anchor = "middle" if abs(x - MIDDLE) < 30 else "start" if x > MIDDLE else "end"
        kind = "h-label" if shown is not None else "h-label h-unknown"
        # Beside the circle the value stands under its word: together they reach over the edge.
        beside = anchor != "middle" and value
        label = word if beside else f"{word} {value}".strip()
        out.append(text(label, class_=kind, x=x, y=y + 4, text_anchor=anchor))
        if beside:
            out.append(text(value, class_=kind, x=x, y=y + 22, text_anchor=anchor))
        parts = [
            f"{mode} {value:.0f}°"
            for mode, value in (("active", found.active), ("passive", found.passive))
            if value is not None
        ]
        said.append(f"{word} {', '.join(parts) if parts else 'not measured'}")
    heading = f"{side.capitalize()} hip: {'; '.join(said)}."
    letter = text(side[0].upper(), class_=f"h-letter h-{side}", x=14, y=26)
    return tag(
        "svg",
        title(heading) + "".join(out) + letter,
        xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(WIDTH)} {number(HEIGHT)}",
        class_="hip-circle",
        role="img",
        aria_label=heading,
    )


def radius_of(value: float, full: float) -> float:
    """Where on its spoke a range ends: areas would flatter, so the radius is in proportion."""
    return RADIUS * max(0.0, min(value / full, 1.0))


def _at(turn_deg: float, radius: float, cy: float) -> tuple[float, float]:
    a = math.radians(turn_deg)
    return MIDDLE + radius * math.sin(a), cy - radius * math.cos(a)


def _wedge(turn: float, radius: float, cy: float) -> str:
    (x0, y0), (x1, y1) = _at(turn - 24, radius, cy), _at(turn + 24, radius, cy)
    points = (MIDDLE, cy, x0, y0, radius, radius, x1, y1)
    return "M{} {} L{} {} A{} {} 0 0 1 {} {} Z".format(*(number(v) for v in points))


def _arc(turn: float, radius: float, half: float, cy: float, kind: str, note: str = "") -> str:
    (x0, y0), (x1, y1) = _at(turn - half, radius, cy), _at(turn + half, radius, cy)
    d = "M{} {} A{} {} 0 0 1 {} {}".format(*(number(v) for v in (x0, y0, radius, radius, x1, y1)))
    return tag("path", title(note) if note else "", class_=kind, d=d)


def _sector(turn: float, found: DrawnRange, full: float, cy: float, kind: str) -> str:
    if found.active is None and found.passive is None:
        x, y = _at(turn, RADIUS, cy)
        return tag("line", class_="h-spoke", x1=MIDDLE, y1=cy, x2=x, y2=y)
    out = ""
    if found.active is not None:
        d = _wedge(turn, radius_of(found.active, full), cy)
        out += tag("path", class_=f"h-active {kind}", d=d)
    if found.passive is not None:
        d = _wedge(turn, radius_of(found.passive, full), cy)
        out += tag("path", class_=f"h-passive {kind}", d=d)
    if found.before is not None:
        out += _arc(turn, radius_of(found.before, full), 24.0, cy, "h-before", "last time")
    return out
