"""The fan of a measure drawn over its photograph, in the photograph's own pixels."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from dachi.core.measuring.angle_fans import drawn_fan
from dachi.core.measuring.scene import FanDrawing, LaidFan, Reading
from dachi.core.rules import Z95
from dachi.drawing.axes import points, tag, text


def fans(
    laid: Iterable[LaidFan],
    readings: Sequence[Reading],
    sides: Mapping[str, str],
    longer_px: float,
) -> str:
    """Return an SVG group with each headline fan; sizes follow the picture's longer side.

    ``sides`` says which side each measure belongs to.
    """
    by_id = {r.id: r for r in readings}
    unit = longer_px / 1600.0
    out = []
    for one in laid:
        reading, fan = by_id.get(one.measure), drawn_fan(one)
        if fan is None or reading is None or not reading.headline:
            continue
        out.append(tag("g", _fan(fan, reading, unit), class_=f"fan-{sides[fan.measure]}"))
    return tag("g", "".join(out), class_="fan", aria_hidden="true")


def _fan(fan: FanDrawing, reading: Reading, unit: float) -> str:
    (vx, vy), (zx, zy), (lx, ly) = fan.vertex, fan.zero_end, fan.line_end
    wedge = points([fan.vertex, *fan.rim])
    ticks = "".join(
        tag("line", class_="fan-tick", x1=a[0], y1=a[1], x2=b[0], y2=b[1], stroke_width=1.6 * unit)
        for a, b in fan.ticks
    )
    x, y = fan.label_at
    return (
        tag("polygon", points=wedge, class_="fan-wedge")
        + tag("polygon", points=points(list(fan.soft)), class_="fan-soft")
        + tag(
            "line",
            class_="fan-zero",
            x1=vx,
            y1=vy,
            x2=zx,
            y2=zy,
            stroke_width=2.0 * unit,
            stroke_dasharray=f"{8 * unit:.1f} {6 * unit:.1f}",
        )
        + tag("line", class_="fan-line", x1=vx, y1=vy, x2=lx, y2=ly, stroke_width=3.2 * unit)
        + tag("polyline", points=points(list(fan.rim)), class_="fan-rim", stroke_width=2.2 * unit)
        + ticks
        + text(
            degrees(reading),
            class_="fan-number",
            x=x,
            y=y,
            font_size=44 * unit,
            stroke_width=7 * unit,
            text_anchor="middle",
            dominant_baseline="middle",
        )
    )


def degrees(reading: Reading) -> str:
    """A reading as printed: whole units with the half width of its 95 % interval."""
    unit = {"deg": "°", "cm": " cm", "ratio": ""}[reading.unit]
    half = max(1, round(Z95 * reading.sd))
    if reading.unit == "ratio":
        return f"{reading.value:.2f} ± {Z95 * reading.sd:.2f}"
    whole = round(reading.value)
    return f"{'−' if whole < 0 else ''}{abs(whole)}{unit} ± {half}{unit}"
