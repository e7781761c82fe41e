"""Charts the size of a word: a measure's weeks with its reserve, a goal as a distance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from dachi.drawing.axes import Scale, points, tag, title

PANEL_WIDTH, HEIGHT, GAP, RIM = 122.0, 58.0, 10.0, 5.0
#: The least degrees (or cm) a panel spans: smaller moves must not look like leaps.
LEAST_SPAN = 24.0
BAR_WIDTH, BAR_HEIGHT = 300.0, 18.0


@dataclass(frozen=True)
class Course:
    """One side and mode over the weeks: days and values, the newest last."""

    side: str
    mode: str
    course: Sequence[tuple[float, float]]


def patterns() -> str:
    """Hatchings that all small charts of a page share; put once on it."""
    made = "".join(
        tag(
            "pattern",
            tag("line", class_=f"c-hatch c-{side}", x1=0, y1=0, x2=0, y2=5),
            id=f"small-{side}", width=5, height=5, patternUnits="userSpaceOnUse",
            patternTransform="rotate(45)",
        )
        for side in ("left", "right", "both")
    )  # fmt: skip
    return tag("svg", tag("defs", made), class_="small-patterns", width=0, height=0,
               aria_hidden="true", focusable="false")  # fmt: skip


def draw(lines: Sequence[Course], heading: str, targets: Mapping[str, float]) -> str:
    """A panel for each side on one scale, as SVG; ``heading`` says the same in words."""
    sides = list(dict.fromkeys(x.side for x in lines)) or ["both"]
    values = [v for x in lines for _, v in x.course] + list(targets.values())
    days = [d for x in lines for d, _ in x.course]
    low, high = min(values), max(values)
    middle, half = (low + high) / 2, max(high - low, LEAST_SPAN) / 2 * 1.08
    up = Scale(middle - half, middle + half, HEIGHT - RIM, RIM)
    total = 2 * PANEL_WIDTH + GAP
    width = total if len(sides) == 1 else PANEL_WIDTH
    out = []
    for i, side in enumerate(sides):
        x0 = i * (PANEL_WIDTH + GAP)
        across = Scale(min(days), max(max(days), min(days) + 7.0), x0 + RIM, x0 + width - RIM)
        out.append(tag("rect", class_="s-panel", x=x0, y=0.0, width=width, height=HEIGHT, rx=4))
        if side in targets:
            y = up(targets[side])
            out.append(tag("line", class_="c-target", x1=x0, x2=x0 + width, y1=y, y2=y))
        out.append(_panel([x for x in lines if x.side == side], side, across, up))
    return tag(
        "svg", title(heading) + "".join(out), xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {total:g} {HEIGHT:g}", class_="small-chart", role="img", aria_label=heading,
    )  # fmt: skip


def _panel(lines: Sequence[Course], side: str, across: Scale, up: Scale) -> str:
    by_mode = {x.mode: x.course for x in lines}
    out = []
    if "active" in by_mode and "passive" in by_mode:
        active = dict(by_mode["active"])
        pairs = [(d, active[d], v) for d, v in by_mode["passive"] if d in active]
        if len(pairs) > 1:
            there = [(across(d), up(a)) for d, a, _ in pairs]
            back = [(across(d), up(p)) for d, _, p in reversed(pairs)]
            out.append(
                tag("polygon", points=points(there + back), fill=f"url(#small-{side})",
                    class_="c-reserve")
            )  # fmt: skip
    for mode, course in by_mode.items():
        kind = f"c-{side} c-{mode}"
        level = up(course[0][1])
        path = [(across(d), up(v)) for d, v in course]
        if len(path) > 1:
            out.append(
                tag("line", class_=f"c-baseline {kind}", x1=path[0][0], x2=across.at_high,
                    y1=level, y2=level)
            )  # fmt: skip
            out.append(tag("polyline", points=points(path), class_=f"c-line {kind}"))
        x, y = path[-1]
        out.append(tag("circle", class_=f"c-ring {kind}", cx=x, cy=y, r=3.4))
    return tag("g", "".join(out))


def distance(first: float, now: float, half: float, target: float, heading: str, side: str) -> str:
    """How far from the first value to the goal: the way gone, today's interval, the way left."""
    ends = sorted((first, target))
    room = max(ends[1] - ends[0], 1.0) * 0.08
    low, high = min(ends[0], now) - room, max(ends[1], now) + room
    along = Scale(low, high, 6.0, BAR_WIDTH - 6.0)
    if target < first:
        # The goal lies to the right, whichever way its numbers run.
        along = Scale(low, high, BAR_WIDTH - 6.0, 6.0)
    y = BAR_HEIGHT / 2
    start, here, goal = along(first), along(now), along(target)
    ends = sorted(min(max(along(v), 2.0), BAR_WIDTH - 2.0) for v in (now - half, now + half))
    body = (
        tag("line", class_="d-way", x1=start, x2=goal, y1=y, y2=y)
        + tag("line", class_=f"d-gone c-{side}", x1=start, x2=here, y1=y, y2=y)
        + tag("rect", class_=f"d-give c-{side}", x=ends[0], y=y - 6, width=ends[1] - ends[0],
              height=12, rx=3)
        + tag("circle", class_=f"d-now c-{side}", cx=here, cy=y, r=5)
        + tag("line", class_="d-goal", x1=goal, x2=goal, y1=1.0, y2=BAR_HEIGHT - 1)
    )  # fmt: skip
    return tag(
        "svg", title(heading) + body, xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {BAR_WIDTH:g} {BAR_HEIGHT:g}", class_="distance", role="img",
        aria_label=heading,
    )  # fmt: skip
