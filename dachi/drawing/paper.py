"""The report on paper: A4 or Letter, by a PDF library, with our own fonts and small charts."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from fpdf import FPDF
from fpdf.enums import MethodReturnValue, XPos, YPos

SIZES = {"a4": "A4", "letter": "Letter"}
Colour = tuple[int, int, int]
INK, SOFT, RULE, GO = (36, 33, 28), (93, 86, 75), (217, 208, 191), (13, 95, 82)
SIDES: dict[str, Colour] = {"left": (10, 100, 128), "right": (168, 74, 18), "both": (91, 74, 134)}
MARGIN = 17.0
CHART_WIDTH, CHART_HEIGHT = 82.0, 40.0


@dataclass(frozen=True)
class Dot:
    """A visit in a chart; ``half`` is half the interval by which visits are compared."""

    day: float
    value: float
    half: float


@dataclass(frozen=True)
class Course:
    """One side and mode across the visits."""

    side: str
    mode: str
    dots: tuple[Dot, ...]


@dataclass(frozen=True)
class Row:
    """One side and mode in words: today, the change since the first time, what it amounts to."""

    side: str
    mode: str
    today: str
    change: str
    stage: str
    shows_from: str


@dataclass(frozen=True)
class Picture:
    """A photograph as it may be shown (JPEG), cut to the drawing, and what stands under it."""

    jpeg: bytes
    words: str


@dataclass(frozen=True)
class Part:
    """One measure of a pose."""

    pose: str
    label: str
    unit: str
    rows: tuple[Row, ...]
    courses: tuple[Course, ...]
    first_day: str
    last_day: str
    sentences: tuple[str, ...] = ()
    pictures: tuple[Picture, ...] = ()


@dataclass(frozen=True)
class Report:
    """Everything a report says. ``facts`` are short lines under the heading."""

    heading: str
    facts: tuple[str, ...]
    news: tuple[str, ...]
    parts: tuple[Part, ...]
    held: tuple[str, ...]
    practise: tuple[str, ...]
    next: tuple[str, ...]
    method: tuple[str, ...]
    foot: str
    details: bool = False
    cautions: tuple[str, ...] = field(default=())


class _Paper(FPDF):
    """A page with a foot that says whose it is and its number."""

    foot = ""

    def footer(self) -> None:
        # No part of what is read aloud.
        self._out("/Artifact BMC")
        self.set_y(-12)
        self.set_font("sans", size=8)
        self.set_text_color(*SOFT)
        self.cell(0, 5, self.foot)
        self.set_x(self.l_margin)
        self.cell(0, 5, f"{self.page_no()} of {{nb}}", align="R")
        self._out("EMC")

    @contextmanager
    def tagged(self, kind: str, height: float, alt: str | None = None) -> Iterator[None]:
        """What is written within is read as ``kind`` (P, H1, H2, Figure): ISO 32000-1, 14.7.

        It begins a page where so much ``height`` (mm) does not fit: marked content may not run
        over one.
        """
        if self.will_page_break(height):
            self.add_page()
        mcid = self.struct_builder.next_mcid_for_page(self.page)
        _, parent = self.struct_builder.add_marked_content(
            page_number=self.page, struct_type=f"/{kind}", mcid=mcid, alt_text=alt
        )
        self.pages[self.page].struct_parents = parent
        self._set_min_pdf_version("1.4")
        self._out(f"/{kind} <</MCID {mcid}>> BDC")
        yield
        self._out("EMC")

    def tall(self, width: float, line: float, words: str) -> float:
        """How tall words become in a column, mm."""
        found = self.multi_cell(
            width, line, words, align="L", dry_run=True, output=MethodReturnValue.HEIGHT
        )
        assert isinstance(found, float | int)
        return float(found)


def draw(
    report: Report, fonts: Path, size: str = "a4", progress: Callable[[int], None] = lambda _: None
) -> bytes:
    """Return the report as PDF. ``size`` is one of ``SIZES``; ``progress`` hears finished parts."""
    paper = _Paper(format=SIZES[size], unit="mm")
    paper.add_font("sans", "", fonts / "SourceSans3-Regular.ttf")
    paper.add_font("sans", "B", fonts / "SourceSans3-Bold.ttf")
    paper.add_font("other", "", fonts / "DejaVuSans-Other.ttf")
    # Names in other alphabets, and signs the text face lacks.
    paper.set_fallback_fonts(["other"], exact_match=False)
    paper.foot = report.foot
    paper.set_title(report.heading)
    paper.set_lang("en")
    paper.set_creator("Dachi")
    paper.set_margins(MARGIN, MARGIN, MARGIN)
    paper.set_auto_page_break(True, 18)
    paper.add_page()
    _line(paper, report.heading, 20, "B", kind="H1")
    for fact in report.facts:
        _line(paper, fact, 10, colour=SOFT)
    if report.news:
        paper.ln(3)
        for words in report.news:
            _line(paper, words, 11.5, mark="•")
    for n, part in enumerate(report.parts, 1):
        _part(paper, part, report.details)
        progress(n)
    _list(paper, "Be careful with", report.cautions)
    _list(paper, "What likely holds back", report.held)
    _list(paper, "What to practise", report.practise)
    _list(paper, "When again", report.next)
    _list(paper, "How this was measured", report.method, 9.5, "")
    out = io.BytesIO()
    paper.output(out)
    return out.getvalue()


def _line(
    paper: _Paper, words: str, size: float, style: Any = "", *, colour: Colour = INK,
    mark: str = "", kind: str = "P",
) -> None:  # fmt: skip
    paper.set_font("sans", style, size)
    height = size * 0.46
    width = paper.epw - (5 if mark else 0)
    with paper.tagged(kind, paper.tall(width, height, words)):
        paper.set_font("sans", style, size)
        paper.set_text_color(*colour)
        if mark:
            paper.cell(5, height, mark)
        paper.multi_cell(0, height, words, align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)


def _heading(paper: _Paper, words: str, room: float) -> None:
    """A heading that takes what follows to the next page with it where ``room`` is short."""
    if paper.will_page_break(room):
        paper.add_page()
    paper.ln(4)
    paper.set_draw_color(*RULE)
    paper.line(paper.l_margin, paper.get_y(), paper.w - paper.r_margin, paper.get_y())
    paper.ln(2)
    _line(paper, words, 13, "B", kind="H2")
    paper.ln(0.8)


def _list(
    paper: _Paper, heading: str, lines: Sequence[str], size: float = 10.5, mark: str = "•"
) -> None:
    if not lines:
        return
    _heading(paper, heading, 24)
    for words in lines:
        _line(paper, words, size, mark=mark)
        paper.ln(0.6)


def _part(paper: _Paper, part: Part, details: bool) -> None:
    charted = any(len(c.dots) > 1 for c in part.courses)
    _heading(paper, f"{part.pose}: {part.label}", CHART_HEIGHT + 22)
    top = paper.get_y()
    width = paper.epw - (CHART_WIDTH + 4 if charted else 0)
    for row in part.rows:
        _row(paper, row, width, details)
    bottom = paper.get_y()
    if charted:
        # The heading took the room of a chart to its page with it.
        with paper.tagged("Figure", 0, _said(part)):
            _chart(paper, part, paper.w - paper.r_margin - CHART_WIDTH, top)
        bottom = max(bottom, top + CHART_HEIGHT + 5)
    paper.set_y(bottom + 1)
    for words in part.sentences:
        _line(paper, words, 10)
    if part.pictures:
        _pictures(paper, part.pictures)


def _row(paper: _Paper, row: Row, width: float, details: bool) -> None:
    name = f"{row.side} {row.mode}" if row.side != "both" else row.mode
    words = f"{row.change}{', ' + row.stage if row.stage else ''}" if row.change else "first time"
    if details and row.shows_from:
        words += f" (a change shows from {row.shows_from})"
    paper.set_font("sans", "B", 11.5)
    # Columns are as wide as what stands in them: "32 cm ± 11 cm" is longer than "87° ± 2°".
    today = max(24.0, paper.get_string_width(row.today) + 4)
    paper.set_font("sans", "", 10)
    rest = max(width - 27 - today, 30)
    with paper.tagged("P", paper.tall(rest, 5, words)):
        paper.set_text_color(*SIDES[row.side])
        paper.set_font("sans", "B", 10.5)
        paper.cell(27, 5, name)
        paper.set_text_color(*INK)
        paper.set_font("sans", "B", 11.5)
        paper.cell(today, 5, row.today)
        paper.set_font("sans", "", 10)
        paper.multi_cell(rest, 5, words, align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)


def _said(part: Part) -> str:
    """A chart in words, for whoever hears the report."""
    lines = [
        f"{c.side + ' ' if c.side != 'both' else ''}{c.mode} from {c.dots[0].value:.0f} to "
        f"{c.dots[-1].value:.0f}{part.unit} in {len(c.dots)} visits"
        for c in part.courses
    ]
    return f"{part.pose}, {part.first_day} to {part.last_day}: {'; '.join(lines)}."


def _chart(paper: _Paper, part: Part, x0: float, y0: float) -> None:
    """Visits as dots with the interval by which they are compared; passive full, active open."""
    dots = [d for c in part.courses for d in c.dots]
    low = min(d.value - d.half for d in dots)
    high = max(d.value + d.half for d in dots)
    first, last = min(d.day for d in dots), max(d.day for d in dots)
    step = next(s for s in (5, 10, 20, 50, 100, 1e9) if (high - low) / s <= 4)
    low, high = step * (low // step), step * (-(-high // step))
    left, foot = x0 + 9, y0 + CHART_HEIGHT

    def x(day: float) -> float:
        return left + 2 + (CHART_WIDTH - 13) * (day - first) / max(last - first, 1.0)

    def y(value: float) -> float:
        return foot - CHART_HEIGHT * (value - low) / max(high - low, 1e-9)

    paper.set_font("sans", "", 8)
    paper.set_text_color(*SOFT)
    paper.set_draw_color(*RULE)
    paper.set_line_width(0.15)
    tick = low
    while tick <= high + 1e-9:
        paper.line(left, y(tick), x0 + CHART_WIDTH, y(tick))
        paper.set_xy(x0, y(tick) - 2)
        paper.cell(8, 4, f"{tick:.0f}{part.unit}".replace("-", "−"), align="R")
        tick += step
    paper.set_xy(left, foot + 0.5)
    paper.cell(30, 4, part.first_day)
    paper.set_xy(x0 + CHART_WIDTH - 30, foot + 0.5)
    paper.cell(30, 4, part.last_day, align="R")
    for course in part.courses:
        colour = SIDES[course.side]
        paper.set_draw_color(*colour)
        solid = course.mode == "passive"
        paper.set_fill_color(*(colour if solid else (255, 255, 255)))
        paper.set_dash_pattern() if solid else paper.set_dash_pattern(1, 0.8)
        paper.set_line_width(0.3)
        for a, b in zip(course.dots, course.dots[1:], strict=False):
            paper.line(x(a.day), y(a.value), x(b.day), y(b.value))
        paper.set_dash_pattern()
        for d in course.dots:
            paper.set_line_width(0.2)
            paper.line(x(d.day), y(d.value - d.half), x(d.day), y(d.value + d.half))
            paper.set_line_width(0.3)
            paper.ellipse(x(d.day) - 0.9, y(d.value) - 0.9, 1.8, 1.8, style="DF")
    paper.set_line_width(0.2)


def _pictures(paper: _Paper, pictures: Sequence[Picture]) -> None:
    width = (paper.epw - 4) / 2
    height = width * 0.76
    if paper.will_page_break(height + 8):
        paper.add_page()
    paper.ln(1)
    top = paper.get_y()
    for n, picture in enumerate(pictures[:2]):
        x = paper.l_margin + n * (width + 4)
        paper.image(io.BytesIO(picture.jpeg), x, top, width, height, alt_text=picture.words)
        paper.set_xy(x, top + height + 0.5)
        paper.set_font("sans", "", 9.5)
        paper.set_text_color(*INK)
        paper.cell(width, 5, picture.words)
    paper.set_y(top + height + 6)
