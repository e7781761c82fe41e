"""Corner cards to print, and how they are laid."""

from __future__ import annotations

from flask import Blueprint, Response, abort, render_template, request
from flask_login import login_required

from dachi.drawing import card_sheets
from dachi.drawing.paper import SIZES
from dachi.studio.lists import FONTS

room = Blueprint("cards", __name__)


@room.get("/cards")
@login_required
def page() -> str:
    """What the cards are for, how to print and lay them."""
    return render_template("cards.html")


@room.get("/cards.pdf")
@login_required
def sheets() -> Response:
    """The four cards on A4 or Letter."""
    size = request.args.get("paper", "a4")
    if size not in SIZES:
        abort(404)
    return Response(
        card_sheets.draw(FONTS, size), mimetype="application/pdf",
        headers={"Content-Disposition": f'inline; filename="corner-cards-{size}.pdf"'},
    )  # fmt: skip
