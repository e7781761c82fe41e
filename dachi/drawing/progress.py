"""The chart across weeks: a panel for each side, active and passive with their reserve."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from dachi.core.judging.series import Line, Series, SessionValue
from dachi.drawing.axes import Scale, nice_ticks, number, points, tag, text, title

PANEL_WIDTH, PANEL_HEIGHT = 520.0, 340.0
#: Sessions of a line that are drawn in full; older ones are small dots without links.
IN_FULL = 30
LEFT_MARGIN, TOP_MARGIN, BOTTOM_MARGIN, GAP = 46.0, 40.0, 40.0, 26.0


@dataclass(frozen=True)
class ChartLayout:
    """Where the panels lie: one scale upwards, one scale across for each side."""

    up: Scale
    across: dict[str, Scale]
    width: float
    height: float


@dataclass(frozen=True)
class Note:
    """Something that happened on a day (same scale as trials), drawn into the chart."""

    day: float
    kind: str
    text: str


@dataclass(frozen=True)
class Legend:
    """What rings say and where they lead.

    ``trial_link`` gives the address a ring opens, ``dates`` words for each assessment,
    ``photo_link`` the picture shown beside a ring's numbers.
    """

    trial_link: Callable[[int], str]
    dates: Mapping[int, str]
    photo_link: Callable[[int], str] | None = None
    unit: str = "°"


def layout(series: Series, target: float | None = None) -> ChartLayout:
    """Fit both panels to one degree scale and one time scale."""
    values = [t.value for line in series.lines for t in (*line.trials, *line.left_out)]
    for line in series.lines:
        for s in line.sessions[-IN_FULL:]:
            values += [s.value - s.mdc / 2, s.value + s.mdc / 2]
    values += [target] if target is not None else []
    days = [t.day for line in series.lines for t in (*line.trials, *line.left_out)]
    low, high = (min(values), max(values)) if values else (0.0, 90.0)
    ticks = nice_ticks(low - 2, high + 4)
    first, last = (min(days), max(days)) if days else (0.0, 7.0)
    pad = max((last - first) * 0.06, 3.0)
    sides = series.sides or ("left", "right")
    width = LEFT_MARGIN + len(sides) * PANEL_WIDTH + (len(sides) - 1) * GAP + 8
    up = Scale(ticks[0], ticks[-1], TOP_MARGIN + PANEL_HEIGHT, TOP_MARGIN)
    across = {}
    for i, side in enumerate(sides):
        x0 = LEFT_MARGIN + i * (PANEL_WIDTH + GAP)
        across[side] = Scale(first - pad, last + pad, x0, x0 + PANEL_WIDTH)
    return ChartLayout(up, across, width, TOP_MARGIN + PANEL_HEIGHT + BOTTOM_MARGIN)


def draw(
    series: Series,
    heading: str,
    words: Legend,
    target: float | None = None,
    notes: Sequence[Note] = (),
    style: str = "",
) -> str:
    """Return the chart as SVG text; ``style`` is put into a drawing that must stand alone."""
    place = layout(series, target)
    body = [_hatch(side) for side in place.across]
    for side, across in place.across.items():
        body.append(_panel(side, across, place, series, words.unit))
        body += [_note(n, across, place.up) for n in notes]
        active, passive = series.line(side, "active"), series.line(side, "passive")
        if active and passive:
            body.append(_reserve(side, active, passive, across, place.up))
        for line in (passive, active) if side != "both" else (active, passive):
            if line is not None:
                body.append(_line(line, across, place.up, words))
        if target is not None:
            y = place.up(target)
            body.append(
                tag("line", class_="c-target", x1=across.at_low, x2=across.at_high, y1=y, y2=y)
                + text(f"goal {target:g}{words.unit}", class_="c-note", x=across.at_high - 4,
                       y=y - 5, text_anchor="end")
            )  # fmt: skip
    return tag(
        "svg",
        title(heading) + (tag("style", style) if style else "") + "".join(body),
        xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(place.width)} {number(place.height)}",
        class_="chart",
        role="group",
        aria_label=heading,
    )


def _hatch(side: str) -> str:
    stripe = tag("line", class_=f"c-hatch c-{side}", x1=0, y1=0, x2=0, y2=7)
    return tag(
        "defs",
        tag(
            "pattern",
            stripe,
            id=f"reserve-{side}",
            width=7,
            height=7,
            patternUnits="userSpaceOnUse",
            patternTransform="rotate(45)",
        ),
    )


def _note(note: Note, across: Scale, up: Scale) -> str:
    """A thin rule on the day with its word at the top."""
    if not across.data_low <= note.day <= across.data_high:
        return ""
    x = across(note.day)
    return tag(
        "g",
        title(note.text)
        + tag("line", class_=f"c-rule c-rule-{note.kind}", x1=x, x2=x, y1=up.at_high, y2=up.at_low)
        + text(note.kind, class_="c-note", x=x + 3, y=up.at_high + 11),
    )


def _panel(side: str, across: Scale, place: ChartLayout, series: Series, unit: str) -> str:
    up = place.up
    out = []
    first_panel = across.at_low == LEFT_MARGIN
    for tick in nice_ticks(up.data_low, up.data_high):
        if not up.data_low <= tick <= up.data_high:
            continue
        y = up(tick)
        out.append(tag("line", class_="c-grid", x1=across.at_low, x2=across.at_high, y1=y, y2=y))
        if first_panel:
            label = f"{tick:g}{unit}"
            out.append(
                text(label, class_="c-tick", x=across.at_low - 8, y=y + 4, text_anchor="end")
            )
    start = min((s.day for line in series.lines for s in line.sessions), default=across.data_low)
    weeks = [
        w
        for w in nice_ticks(0, max((across.data_high - start) / 7, 1))
        if w == int(w) and start + 7 * w <= across.data_high
    ]
    bottom = up.at_low
    for week in weeks:
        x = across(start + 7 * week)
        out.append(tag("line", class_="c-grid", x1=x, x2=x, y1=bottom, y2=bottom + 5))
        label = "first" if week == 0 else f"week {week:g}"
        out.append(text(label, class_="c-tick", x=x, y=bottom + 20, text_anchor="middle"))
    letter = {"left": "L", "right": "R", "both": ""}[side]
    name = {"left": "left", "right": "right", "both": "both sides"}[side]
    out.append(
        tag("line", class_="c-axis", x1=across.at_low, x2=across.at_high, y1=bottom, y2=bottom)
    )
    if letter:
        out.append(text(letter, class_=f"c-letter c-{side}", x=across.at_low + 4, y=26))
    out.append(text(name, class_="c-side", x=across.at_low + (26 if letter else 4), y=26))
    return tag("g", "".join(out), class_="c-panel", aria_hidden="true")


def _reserve(side: str, active: Line, passive: Line, across: Scale, up: Scale) -> str:
    by_id = {s.assessment_id: s for s in active.sessions}
    pairs = [(by_id[p.assessment_id], p) for p in passive.sessions if p.assessment_id in by_id]
    if len(pairs) < 2:
        return ""
    lower = [(across(a.day), up(a.value)) for a, _ in pairs]
    upper = [(across(p.day), up(p.value)) for _, p in reversed(pairs)]
    return tag(
        "polygon",
        points=points(lower + upper),
        fill=f"url(#reserve-{side})",
        class_="c-reserve",
    )


def _line(line: Line, across: Scale, up: Scale, words: Legend) -> str:
    out = []
    kind = f"c-{line.side} c-{line.mode}"
    if line.baseline is not None:
        level = up(line.baseline.value)
        out.append(
            tag(
                "line",
                class_=f"c-baseline {kind}",
                x1=across(line.sessions[0].day),
                x2=across.at_high,
                y1=level,
                y2=level,
            )
        )
        path = [(across(s.day), up(s.value)) for s in line.sessions]
        out.append(tag("polyline", points=points(path), class_=f"c-line {kind}"))
        x, y = path[-1]
        out.append(text(line.mode, class_=f"c-mode {kind}", x=x - 10, y=y - 9, text_anchor="end"))
    recent = {s.assessment_id for s in line.sessions[-IN_FULL:]}
    for t in line.trials:
        if t.assessment_id not in recent:
            continue
        out.append(tag("circle", class_=f"c-dot {kind}", cx=across(t.day), cy=up(t.value), r=2.4))
    for t in line.left_out:
        why = "taken again" if not t.valid else "other conditions or set-up"
        dot = tag(
            "circle", class_=f"c-hollow {kind}", cx=across(t.day), cy=up(t.value), r=3.4
        ) + title(f"{t.value:.0f}{words.unit} left out: {why}")
        out.append(tag("a", dot, href=words.trial_link(t.trial_id), aria_label=f"left out: {why}"))
    older = line.sessions[:-IN_FULL]
    if older:
        # Ten years are over a thousand rings: the old ones are one drawing, and the table links.
        spots = "".join(f"M{number(across(s.day))} {number(up(s.value))}h0" for s in older)
        out.append(tag("path", class_=f"c-old {kind}", d=spots))
    for s in line.sessions[-IN_FULL:]:
        out.append(_ring(s, kind, across(s.day), up, words))
    return tag("g", "".join(out))


def _ring(s: SessionValue, kind: str, x: float, up: Scale, words: Legend) -> str:
    """A session's ring; whiskers reach half the MDC, so that two that miss each other differ."""
    y, unit = up(s.value), words.unit
    trials = f"mean of {s.count} trials" if s.count > 1 else "one trial"
    side = f"{s.side} " if s.side != "both" else ""
    size = f"{s.value:.0f}{unit} ± {s.half:.0f}{unit}"
    said = f"{side}{s.mode}, {words.dates.get(s.assessment_id, '')}: {size}, {trials}"
    top, bottom = up(s.value + s.mdc / 2), up(s.value - s.mdc / 2)
    shape = (
        title(said)
        + tag("line", class_=f"c-whisker {kind}", x1=x, x2=x, y1=top, y2=bottom)
        + tag("line", class_=f"c-whisker {kind}", x1=x - 4, x2=x + 4, y1=top, y2=top)
        + tag("line", class_=f"c-whisker {kind}", x1=x - 4, x2=x + 4, y1=bottom, y2=bottom)
        + tag("circle", class_="c-touch", cx=x, cy=y, r=14.0)
        + tag("circle", class_=f"c-ring {kind}", cx=x, cy=y, r=6.0, data_value=number(s.value))
    )
    first = s.trial_ids[0]
    photo = words.photo_link(first) if words.photo_link else None
    href = words.trial_link(first)
    return tag("a", shape, href=href, class_="c-session", aria_label=said, data_photo=photo)


def legend(modes: Sequence[str], better: str = "higher") -> str:
    """A line of words explaining rings, dots and hatching."""
    both = "active" in modes and "passive" in modes
    words = ["A ring is an assessment, faint dots its trials"]
    if better == "lower":
        words[0] = f"Lower is more range. {words[0]}"
    words.append("two whiskers that miss each other differ by more than chance")
    if both:
        words.append("hatching is the reserve, passive beyond active")
    words.append("hollow dots are left out")
    return "; ".join(words) + "."
