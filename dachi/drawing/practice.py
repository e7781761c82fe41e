"""Drawings of practice: the wheel of directions, weeks of minutes, prop heights beside range."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from dachi.core.catalogue.drills import DIRECTIONS
from dachi.drawing.axes import Scale, nice_ticks, number, tag, text, title
from dachi.drawing.axes import points as pairs

SIZE = 260.0


def wheel(seconds: Mapping[str, float], target_s: float) -> str:
    """The six directions as sectors that fill towards their share of the week.

    A sector reaches the rim at twice its target; the ring half way is the target.
    """
    c, rim = SIZE / 2, SIZE / 2 - 34
    parts = [tag("circle", class_="w-rim", cx=c, cy=c, r=rim)]
    words = []
    for i, direction in enumerate(DIRECTIONS):
        share = min(seconds.get(direction, 0.0) / max(target_s, 1.0) / 2.0, 1.0)
        a, b = (math.radians(60 * i - 90 + d) for d in (-27, 27))
        r = max(rim * math.sqrt(share), 2.0)
        x0, y0 = c + r * math.cos(a), c + r * math.sin(a)
        x1, y1 = c + r * math.cos(b), c + r * math.sin(b)
        rim_way = f"A{number(r)} {number(r)} 0 0 1 {number(x1)} {number(y1)}"
        path = f"M{number(c)} {number(c)} L{number(x0)} {number(y0)} {rim_way} Z"
        hole = share < 0.5
        name = direction.replace("_", " ")
        minutes = seconds.get(direction, 0.0) / 60
        words.append(f"{name} {minutes:.0f} min")
        parts.append(
            tag(
                "path",
                title(f"{name}: {minutes:.1f} min a week"),
                class_="w-hole" if hole else "w-full",
                d=path,
            )
        )
        mid = math.radians(60 * i - 90)
        lx, ly = c + (rim + 9) * math.cos(mid), c + (rim + 15) * math.sin(mid)
        anchor = ("middle", "start", "start", "middle", "end", "end")[i]
        lines = name.split()
        for k, word in enumerate(lines):
            y = ly + 4 + 13 * (k - (len(lines) - 1) / 2)
            parts.append(text(word, class_="w-word", x=lx, y=y, text_anchor=anchor))
    parts.append(tag("circle", class_="w-target", cx=c, cy=c, r=rim * math.sqrt(0.5)))
    return tag(
        "svg", "".join(parts), xmlns="http://www.w3.org/2000/svg",
        viewBox=f"-40 0 {number(SIZE + 80)} {number(SIZE)}", class_="wheel", role="img",
        aria_label="Minutes a week in each direction: " + ", ".join(words),
    )  # fmt: skip


#: Widths of charts beside a column and on a phone, in units of their text.
WIDE, SLIM = 560.0, 350.0


def weeks(rows: Sequence[tuple[str, float, int, int]], width: float = WIDE) -> str:
    """Minutes practised week by week: (label, minutes, sessions done, sessions planned)."""
    height, left, bottom = 194.0, 34.0, 34.0
    most = max([m for _, m, _, _ in rows], default=0.0)
    ticks = nice_ticks(0.0, max(most, 10.0), 4)
    up = Scale(0.0, ticks[-1], height - bottom, 14.0)
    parts = []
    for t in ticks:
        parts.append(tag("line", class_="p-grid", x1=left, x2=width - 4, y1=up(t), y2=up(t)))
        parts.append(text(f"{t:g}", class_="p-word", x=left - 6, y=up(t) + 4, text_anchor="end"))
    step = (width - left - 8) / max(len(rows), 1)
    for i, (label, minutes, done, planned) in enumerate(rows):
        x = left + 4 + i * step
        bar = min(step * 0.66, 34.0)
        words = f"Week of {label}: {minutes:.0f} minutes, {done} of {planned} sessions"
        parts.append(
            tag(
                "rect", title(words), class_="p-bar", x=x + (step - bar) / 2, y=up(minutes),
                width=bar, height=max(height - bottom - up(minutes), 0.0), rx=2.0,
            )
        )  # fmt: skip
        parts.append(
            text(
                f"{done}/{planned}",
                class_="p-word",
                x=x + step / 2,
                y=height - 18,
                text_anchor="middle",
            )
        )
        if i % max(1, round(len(rows) * 130 / width)) == 0:
            parts.append(
                text(label, class_="p-soft", x=x + step / 2, y=height - 1, text_anchor="middle")
            )
    total = sum(m for _, m, _, _ in rows)
    return _framed(
        parts,
        width,
        height,
        f"Minutes of practice in the last {len(rows)} weeks: {total:.0f} in all",
    )


def soreness(points: Sequence[tuple[float, int]], limit: int, width: float = WIDE) -> str:
    """How sore the day after was, session by session: (day, 0 to 10), with the limit drawn.

    Dots above the limit are filled.
    """
    height, left = 110.0, 34.0
    days = [d for d, _ in points]
    across = Scale(min(days), max(max(days), min(days) + 1), left + 8, width - 10)
    up = Scale(0.0, 10.0, height - 10, 10.0)
    parts = []
    for t in (0, 5, 10):
        parts.append(
            tag("line", class_="p-grid", x1=left, x2=width - 4, y1=up(float(t)), y2=up(float(t)))
        )
        parts.append(
            text(str(t), class_="p-word", x=left - 6, y=up(float(t)) + 4, text_anchor="end")
        )
    line = up(float(limit))
    parts.append(tag("line", class_="p-limit", x1=left, x2=width - 4, y1=line, y2=line))
    for d, v in points:
        kind = "p-sore p-over" if v > limit else "p-sore"
        parts.append(
            tag("circle", title(f"{v} of 10"), class_=kind, cx=across(d), cy=up(float(v)), r=4.5)
        )
    over = sum(v > limit for _, v in points)
    return _framed(
        parts, width, height,
        f"Soreness the day after {len(points)} sessions, newest {points[-1][1]} of 10; {over} over "
        f"{limit}",
    )  # fmt: skip


def heights(
    name: str,
    props: Sequence[tuple[float, float]],
    ranges: Sequence[tuple[float, float]],
    dates: tuple[str, str],
    width: float = WIDE,
) -> str:
    """Prop heights (day, cm) falling beside the range (day, degrees), one time scale."""
    height = 200.0
    days = [d for d, _ in (*props, *ranges)]
    across = Scale(min(days), max(max(days), min(days) + 1), 40.0, width - 44)
    parts = []
    tops = nice_ticks(0.0, max([v for _, v in props], default=1.0), 4)
    cm = Scale(0.0, tops[-1], height - 28, 14.0)
    for t in tops:
        parts.append(tag("line", class_="p-grid", x1=40.0, x2=width - 44, y1=cm(t), y2=cm(t)))
        unit = " cm" if t == tops[-1] else ""
        parts.append(text(f"{t:g}{unit}", class_="p-cm", x=34, y=cm(t) + 4, text_anchor="end"))
    where = [(across(d), cm(v)) for d, v in props]
    stairs = [
        p
        for (x, y), (nx, _) in zip(where, [*where[1:], where[-1]], strict=True)
        for p in ((x, y), (nx, y))
    ]
    parts.append(tag("polyline", class_="p-prop", points=pairs(stairs)))
    for (_, v), (x, y) in zip(props, where, strict=True):
        box = {"x": x - 3.5, "y": y - 3.5, "width": 7.0, "height": 7.0}
        parts.append(tag("rect", title(f"{v:g} cm"), class_="p-step", **box))
    if ranges:
        parts += _rings(ranges, across, (height - 28, 14.0), width - 38)
    parts.append(text(dates[0], class_="p-soft", x=40, y=height - 6))
    parts.append(text(dates[1], class_="p-soft", x=width - 44, y=height - 6, text_anchor="end"))
    words = f"{name}: support from {props[0][1]:g} to {props[-1][1]:g} cm"
    if ranges:
        words += f", range from {ranges[0][1]:.0f}° to {ranges[-1][1]:.0f}°"
    return _framed(parts, width, height, words)


def _rings(
    ranges: Sequence[tuple[float, float]], across: Scale, ends: tuple[float, float], words_x: float
) -> list[str]:
    """The range as a line of rings with its own scale on the right."""
    values = [v for _, v in ranges]
    ticks = nice_ticks(min(values) - 2, max(values) + 2, 4)
    deg = Scale(ticks[0], ticks[-1], *ends)
    spots = [(across(d), deg(v)) for d, v in ranges]
    return [
        *(text(f"{t:g}°", class_="p-deg", x=words_x, y=deg(t) + 4) for t in ticks),
        tag("polyline", class_="p-range", points=pairs(spots)),
        *(
            tag("circle", title(f"{v:.0f}°"), class_="p-ring", cx=x, cy=y, r=4.5)
            for v, (x, y) in zip(values, spots, strict=True)
        ),
    ]


def _framed(parts: Sequence[str], width: float, height: float, words: str) -> str:
    return tag(
        "svg", title(words) + "".join(parts), xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(width)} {number(height)}", class_="p-chart", role="img",
        aria_label=words,
    )  # fmt: skip


#: Where the row of each leg lies, and what it is called.
_LEGS = (("left", "left leg"), ("right", "right leg"), ("", "elsewhere"))


def pains(by_leg: Mapping[str, Sequence[tuple[float, float]]], days: tuple[str, str]) -> str:
    """How strong pain was, a row for each leg: (share of the time, 0 to 10) as bars upwards."""
    width, row, left = SLIM, 46.0, 84.0
    parts, words = [], []
    for n, (leg, name) in enumerate(_LEGS):
        base = 8.0 + row * (n + 1)
        parts.append(tag("line", class_="p-grid", x1=left, x2=width - 4, y1=base, y2=base))
        parts.append(text(name, class_="p-word", x=left - 6, y=base - 4, text_anchor="end"))
        for at, level in by_leg[leg]:
            x = left + at * (width - left - 10)
            parts.append(
                tag(
                    "rect", title(f"{name}: {level:.0f} of 10"), class_=f"p-pain p-{leg or 'both'}",
                    x=x, y=base - 3.6 * max(level, 0.6), width=4.0, height=3.6 * max(level, 0.6),
                )
            )  # fmt: skip
        if by_leg[leg]:
            most = max(level for _, level in by_leg[leg])
            words.append(f"{name} {len(by_leg[leg])} times, at most {most:.0f} of 10")
    end = 8.0 + row * len(_LEGS) + 16
    parts.append(text(days[0], class_="p-word", x=left, y=end, text_anchor="start"))
    parts.append(text(days[1], class_="p-word", x=width - 4, y=end, text_anchor="end"))
    return tag(
        "svg", "".join(parts), xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(width)} {number(end + 8)}", class_="pain-course", role="img",
        aria_label="How strong pain was: " + ("; ".join(words) or "none"),
    )  # fmt: skip
