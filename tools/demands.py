"""Writes docs/demands.md: what every drill and pose asks of the body, as it was reviewed."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from dachi.core.catalogue.demands import Demands, Level
from dachi.data import catalogue, cautions, demands_of_pose, drills

OUT = Path(__file__).parents[1] / "docs" / "demands.md"
WORDS = {
    "flex_bent": "hip bent", "flex_straight": "hip bent, knee straight", "ext": "hip back",
    "abd": "out", "add": "across", "er": "turned out", "ir": "turned in",
    "pinch": "front-of-hip fold",
    "ext_er": "back and turned out", "knee_end": "knee bend", "knee_twist": "knee twist",
    "kneel": "kneecap", "knee_back": "knee pushed straight", "ham_end": "hamstring",
    "ham_origin": "sit bone", "groin": "groin", "nerve": "nerve", "ankle_pointed": "foot pointed",
    "ankle_pulled": "foot pulled up", "lever": "long lever", "spine_round": "rounded",
    "spine_arch": "arched", "spine_twist": "twisted", "pelvis_asym": "uneven pelvis",
    "on_back": "on the back", "on_front": "on the front", "belly": "belly pressed",
    "balance": "balance", "head_low": "head low", "wrists": "wrists", "strain": "strain",
    "knee_valgus": "knee pulled open", "con_add": "adductors work", "con_flex": "hip flexors work",
    "con_ham": "hamstrings work", "con_outer": "outer hip works",
    "press_side": "side of the hip pressed", "press_sit": "sit bone pressed", "fall": "fall",
    "breath_held": "breath held", "ballistic": "swing",
}  # fmt: skip
SIGNS = {Level.SOME: "", Level.END: " **end**", Level.LOADED: " **loaded**"}


def table() -> str:
    """The whole page."""
    rows = [
        "# What drills and poses ask of the body",
        "",
        "Reviewed drill by drill; `python -m tools.demands` writes it from",
        "`dachi/data/demands.csv`.",
        "A word alone is some of it, **end** the end of the range, **loaded** weight or pull",
        "there. Own leg: the one a side names.",
        "",
        "| drill | own leg | other leg | body | closed by |",
        "|---|---|---|---|---|",
    ]
    for d in drills():
        closed = ", ".join(c.id for c in cautions() if c.forbidden(d))
        rows.append(f"| {d.name} | {_cells(d.demands)} | {closed} |")
    rows += ["", "| pose | own leg | other leg | body |", "|---|---|---|---|"]
    rows += [f"| {p.name} | {_cells(demands_of_pose(p.id))} |" for p in catalogue().poses]
    return "\n".join(rows) + "\n"


def _cells(found: Demands) -> str:
    own, other, body = (_said(x) for x in (found.own, found.other, found.body))
    return f"{own} | {'the same' if own == other and own != '–' else other} | {body}"


def _said(found: Mapping[str, Level]) -> str:
    return ", ".join(f"{WORDS[n]}{SIGNS[v]}" for n, v in found.items() if v) or "–"


if __name__ == "__main__":
    OUT.write_text(table(), "utf-8")
