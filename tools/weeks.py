"""Writes docs/weeks.md: the weeks of twenty described people, and what was thought reading them."""

from __future__ import annotations

import json
from pathlib import Path

from dachi.data import drills
from dachi.interchange.persons import plan_json

DOCS = Path(__file__).parents[1] / "docs"
OUT, PEOPLE = DOCS / "weeks.md", DOCS / "people" / "described.jsonl"

HEAD = """# Twenty people and their weeks

Made-up people, as a person file describes them ([described.jsonl](people/described.jsonl)),
planned by `python -m dachi plan` and read drill by drill as a physiotherapist would: what was wrong
and what it changed stands under each. One day of each week is shown. Seconds are left / right.
`python -m tools.weeks` writes this page anew; a test compares it.
"""


def page() -> str:
    """The whole page."""
    names = {d.id: d.name for d in drills()}
    parts = [HEAD]
    for line in PEOPLE.read_text("utf-8").splitlines():
        person = json.loads(line)
        week = plan_json(person)
        days = ", ".join(f"{s['day']} {s['total_s'] / 60:.0f} min" for s in week["sessions"])
        parts.append(
            f"\n## {person['id'].capitalize()}\n\n{person['about']} Week: {days or 'none'}.\n"
        )
        parts += [f"\n> {words}\n" for words in week["cautions"]]
        if not week["sessions"]:
            parts += [f"\n- {words}" for words in person["read"]]
            parts.append("\n")
            continue
        shown = week["sessions"][0]
        parts.append(f"\n| {shown['day']} | s | why |\n| --- | --- | --- |\n")
        for i in shown["items"]:
            left, right = i["left_s"], i["right_s"]
            seconds = f"{left:.0f}" if i["first"] is None else f"{left:.0f} / {right:.0f}"
            parts.append(f"| {names[i['drill']]} | {seconds} | {i['reason']} |\n")
        parts += [f"\n- {words}" for words in person["read"]]
        parts.append("\n")
    return "".join(parts)


if __name__ == "__main__":
    OUT.write_text(page(), "utf-8")
