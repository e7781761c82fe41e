"""The four corner cards as a PDF: each sheet carries its code, its number and where it goes."""

from __future__ import annotations

import io
from pathlib import Path

from fpdf import FPDF

from dachi.core.measuring.cards import CARDS, CODE_CM, CODES, MARGIN_CM
from dachi.drawing.paper import INK, SIZES, SOFT

#: Which way each card's mat corner points, as its reader sees it; where it lies.
PLACES = {
    1: ("right", "at the left end of one long side"),
    2: ("left", "at the right end of the same long side"),
    3: ("right", "at the left end of the other long side, seen from there"),
    4: ("left", "at the right end of the other long side, seen from there"),
}
RULER_CM = 10


def draw(fonts: Path, size: str = "a4") -> bytes:
    """Return four pages as PDF. ``size`` is one of ``paper.SIZES``."""
    paper = FPDF(format=SIZES[size], unit="mm")
    paper.add_font("sans", "", fonts / "SourceSans3-Regular.ttf")
    paper.add_font("sans", "B", fonts / "SourceSans3-Bold.ttf")
    paper.set_title("Corner cards")
    paper.set_lang("en")
    paper.set_auto_page_break(False)
    for card in CARDS:
        paper.add_page()
        _card(paper, card)
    out = io.BytesIO()
    paper.output(out)
    return out.getvalue()


def _card(paper: FPDF, card: int) -> None:
    touches, where = PLACES[card]
    margin, code = 10 * MARGIN_CM, 10 * CODE_CM
    left = paper.w - margin - code if touches == "right" else margin
    top = paper.h - margin - code
    cell = code / 6
    paper.set_fill_color(0, 0, 0)
    paper.rect(left, top, code, code, style="F")
    paper.set_fill_color(255, 255, 255)
    for i, row in enumerate(CODES[card]):
        for j, white in enumerate(row):
            if white == "1":
                # White cells overlap by a hair, so that no printer draws seams between them.
                x, y = left + cell * (j + 1), top + cell * (i + 1)
                paper.rect(x - 0.02, y - 0.02, cell + 0.04, cell + 0.04, style="F")
    paper.set_text_color(*INK)
    paper.set_font("sans", "B", 96)
    paper.set_xy(left, 14)
    paper.cell(34, 36, str(card))
    paper.set_font("sans", "B", 15)
    paper.set_xy(left + 34, 17)
    paper.multi_cell(78, 6.5, f"Card {card}: {where}.", align="L")
    paper.set_font("sans", "", 11)
    paper.set_x(left + 34)
    paper.multi_cell(
        78, 5,
        f"Lay it on the floor, its {touches} edge against the mat's short end, its lower edge in "
        "line with the long side. The code lies flat and nothing covers it.", align="L",
    )  # fmt: skip
    _plan(paper, card, left + code - 52, 18)
    _ruler(paper, left, top - 12)
    _corner(paper, touches)


def _plan(paper: FPDF, card: int, x: float, y: float) -> None:
    """The mat from above with this card filled; its reader stands at the bottom."""
    wide, deep, w, h = 30.0, 15.0, 5.0, 7.0
    paper.set_draw_color(*INK)
    paper.set_line_width(0.4)
    paper.rect(x + w + 1, y, wide, deep)
    paper.set_font("sans", "B", 8)
    # As the card's own reader sees them: cards 3 and 4 are read from the other long side.
    numbers = (1, 2, 3, 4) if card in (1, 2) else (3, 4, 1, 2)
    spots = ((x, y + deep - h), (x + w + 2 + wide, y + deep - h), (x + w + 2 + wide, y), (x, y))
    for number, (a, b) in zip(numbers, spots, strict=True):
        own = number == card
        paper.set_fill_color(*(INK if own else (255, 255, 255)))
        paper.rect(a, b, w, h, style="DF")
        paper.set_text_color(*((255, 255, 255) if own else INK))
        paper.set_xy(a, b)
        paper.cell(w, h, str(number), align="C")
    paper.set_text_color(*SOFT)
    paper.set_font("sans", "", 8)
    paper.set_xy(x, y + deep + 1)
    paper.cell(wide + 2 * w + 2, 4, "the mat from above; you stand below", align="C")


def _ruler(paper: FPDF, x: float, y: float) -> None:
    """A line to measure: a page printed to fit is smaller than it should be."""
    paper.set_draw_color(*SOFT)
    paper.set_line_width(0.3)
    length = 10.0 * RULER_CM
    paper.line(x, y, x + length, y)
    for end in (x, x + length):
        paper.line(end, y - 2, end, y + 2)
    paper.set_text_color(*SOFT)
    paper.set_font("sans", "", 8.5)
    paper.set_xy(x, y + 0.5)
    paper.cell(
        length, 5, f"exactly {RULER_CM} cm: print at 100 %, not “to fit the page”", align="C"
    )


def _corner(paper: FPDF, touches: str) -> None:
    """A wedge in the paper's corner that goes to the mat's corner."""
    tip = paper.w if touches == "right" else 0.0
    way = -1.0 if touches == "right" else 1.0
    paper.set_fill_color(*SOFT)
    paper.polygon([(tip, paper.h), (tip + way * 13, paper.h), (tip, paper.h - 13)], style="F")
    paper.set_text_color(*SOFT)
    paper.set_font("sans", "", 8.5)
    paper.set_xy(20 if touches == "left" else paper.w - 110, paper.h - 13)
    paper.cell(90, 5, "the mat's corner comes here", align="L" if touches == "left" else "R")
