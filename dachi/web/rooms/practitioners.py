"""The practitioner's record."""

from __future__ import annotations

import json
import math
import re
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import login_required
from werkzeug.wrappers import Response

from dachi.errors import NotDone
from dachi.studio import records
from dachi.studio.bench.around import Around
from dachi.studio.lists import chosen_schools, props, schools
from dachi.studio.record import acts
from dachi.studio.visits import sheets as visits_of
from dachi.web.session import clock, own_practitioner, work

room = Blueprint("practitioners", __name__)

#: Field, words, lowest and highest believable value.
LENGTHS = (
    ("height_cm", "height", 90.0, 230.0),
    ("thigh_cm", "thigh length", 25.0, 65.0),
    ("shin_cm", "shin length", 22.0, 65.0),
)


@room.route("/practitioners/new", methods=["GET", "POST"])
@login_required
def new() -> str | Response | tuple[str, int]:
    """Add a practitioner."""
    if request.method == "GET":
        return render_template(
            "practitioner_form.html",
            who=None,
            values={"breath_s": "8"},
            problems={},
            own={"mat", "wall"},
            aimed=set(),
            chosen=chosen_schools({}),
            **_choices(),
        )
    values, problems = _read()
    if problems:
        page = render_template(
            "practitioner_form.html",
            who=None,
            values=request.form,
            problems=problems,
            own=values["props"],
            aimed=values["comes_for"],
            chosen=chosen_schools(values["schools"]),
            **_choices(),
        )
        return page, 422
    pid = acts.add_person(work(), values)
    return redirect(url_for("prepare.page", pid=pid))


@room.route("/p/<int:pid>/record", methods=["GET", "POST"])
@login_required
def record(pid: int) -> str | Response | tuple[str, int]:
    """Show and change a practitioner's record, with the list of assessments."""
    who = own_practitioner(pid)
    visits = records.visits_of(work(), pid)
    listed = records.people(work())
    others = [x.practitioner for x in listed if x.practitioner.id != pid]
    stored = {
        f: getattr(who, f)
        for f in (
            "call_name", "birth_year", "notes", "dominant_side", "breath_s", "email",
            *(name for name, *_ in LENGTHS),
        )
    }  # fmt: skip
    if request.method == "GET":
        shown = {
            k: "" if v is None else f"{v:g}" if isinstance(v, float) else v
            for k, v in stored.items()
        }
        return render_template(
            "practitioner_form.html",
            who=who,
            values=shown,
            was=json.dumps(shown),
            problems={},
            visits=visits,
            others=others,
            own=who.props,
            aimed=who.comes_for,
            chosen=chosen_schools(who.schools),
            learnt=Around(work(), pid).learnt(),
            **_choices(),
        )
    values, problems = _read()
    # What this form did not change stays as it is now, whatever it was when the form was opened.
    for name in _untouched():
        values.pop(name, None)
        problems.pop(name, None)
    if problems:
        page = render_template(
            "practitioner_form.html",
            was=request.form.get("was", ""),
            who=who,
            values=request.form,
            problems=problems,
            visits=visits,
            others=others,
            own=values["props"],
            aimed=values["comes_for"],
            chosen=chosen_schools(values["schools"]),
            **_choices(),
        )
        return page, 422
    try:
        acts.change_person(work(), pid, values)
        flash("Saved.")
    except NotDone as error:
        flash(f"Not saved. {error.sentence}", "retake")
    return redirect(url_for("practitioners.record", pid=pid))


def _untouched() -> set[str]:
    """Fields whose text is what it was when the form was opened."""
    try:
        was = json.loads(request.form.get("was", ""))
    except (ValueError, RecursionError):
        return set()
    if not isinstance(was, dict):
        return set()
    return {k for k, v in was.items() if k in request.form and request.form[k] == str(v)}


def _choices() -> dict[str, Any]:
    return {"props": props(), "schools": schools(), "aims": visits_of.may_come_for()}


def _read() -> tuple[dict[str, Any], dict[str, str]]:
    values: dict[str, Any] = {
        "call_name": " ".join(request.form.get("call_name", "").split())[:80],
        "notes": request.form.get("notes", "").strip()[:4000],
        "email": "".join(request.form.get("email", "").split())[:200],
    }
    if request.form.get("dominant_side", "") in ("", "left", "right"):
        values["dominant_side"] = request.form.get("dominant_side", "")
    values["comes_for"] = set(request.form.getlist("aim")) & {
        p.id for p in visits_of.may_come_for()
    }
    values["props"] = {p.id for p in props() if p.id in request.form.getlist("props")}
    values["schools"] = {
        s.id: request.form[f"school-{s.id}"]
        for s in schools()
        if request.form.get(f"school-{s.id}") in s.options
    }
    problems: dict[str, str] = {}
    if not values["call_name"]:
        problems["call_name"] = "Say what to call them."
    if values["email"] and not re.fullmatch(r"[^@\s<>,;]+@[^@\s<>,;]+", values["email"]):
        problems["email"] = "This does not look like an address: leave it empty or correct it."
    year, problem = _number("birth_year", "birth year", 1900, clock().today().year)
    values["birth_year"] = None if year is None else int(year)
    if problem:
        problems["birth_year"] = problem
    for name, label, low, high in LENGTHS:
        values[name], problem = _number(name, label, low, high)
        if problem:
            problems[name] = problem
    values["breath_s"], problem = _number("breath_s", "breath", 3, 30)
    if problem:
        problems["breath_s"] = problem
    if values["breath_s"] is None:
        values["breath_s"] = 8.0
    return values, problems


def _number(name: str, label: str, low: float, high: float) -> tuple[float | None, str | None]:
    text = request.form.get(name, "").strip().replace(",", ".")
    if not text:
        return None, None
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        return None, f"The {label} must be a number."
    if not low <= value <= high:
        return None, f"The {label} should lie between {low:g} and {high:g}."
    return value, None
