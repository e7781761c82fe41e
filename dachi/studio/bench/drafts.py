"""A marking as the bench posts it and as a draft keeps it."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from dachi.core.body.pinhole import CORNERS
from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.scene import Point, SceneError
from dachi.photos.stickers import Found
from dachi.store.markings import Marking
from dachi.studio.bench import starting_marks

#: How marks may have been set, in words.
WAYS = {
    "eye": "by eye",
    "palpated": "felt for",
    "sticker": "stickers, put on in the pose",
    "standing": "stickers, put on standing",
    "joint": "at the joints' centres",
}


def read_form(form: Mapping[str, str], pose: Pose) -> tuple[Marking, set[str]]:
    """Read a posted marking and the marks and corners still at their starting guess.

    A mat of which a corner is a guess is not yet this photograph's: the marking has none.
    Raises SceneError naming a coordinate that is not a number.
    """
    marks: dict[str, Point] = {}
    guesses: set[str] = set()
    sds: dict[str, float] = {}
    seen: list[str] = []
    for m in pose.marks:
        point = _point(form, f"mark-{m.id}", m.label)
        if point is None or form.get(f"mark-{m.id}-state") == "absent":
            continue
        marks[m.id] = point
        state = form.get(f"mark-{m.id}-state", "placed")
        if state == "guess":
            guesses.add(m.id)
        sd = _number(form.get(f"mark-{m.id}-sd"), m.label)
        if state in ("sticker", "seen"):
            sds[m.id] = sd or 1.0
        elif state == "guess" and sd:
            # It may yet be taken as it was seen.
            sds[m.id] = sd
        if state == "seen":
            seen.append(m.id)
    corners = None
    if form.get("mat") == "on":
        found = {c: _point(form, f"corner-{c}", c.replace("_", " ")) for c in CORNERS}
        unset = {f"corner-{c}" for c in CORNERS if form.get(f"corner-{c}-state") == "guess"}
        guesses |= unset
        if all(found.values()) and not unset:
            corners = {c: p for c, p in found.items() if p is not None}
    level = None
    if form.get("level") == "on":
        a, b = _point(form, "level-a", "level line"), _point(form, "level-b", "level line")
        level = (a, b) if a and b else None
    facing = form.get("facing") or None
    marking = Marking(
        marks=marks,
        mark_sds=sds,
        level=level,
        corners=corners,
        facing=facing if facing in ("left", "right") else None,
        author="seen" if seen else "sticker" if sds else "hand",
        overrule_reason=form.get("overrule_reason", "").strip()[:500],
        marked=marked if (marked := form.get("marked", "")) in WAYS else "",
        seen=tuple(seen),
    )
    return marking, guesses


@dataclass(frozen=True)
class Corner:
    """A corner of the mat where the bench shows it, px; a guess until somebody has set it."""

    name: str
    x: float
    y: float
    state: str

    @property
    def label(self) -> str:
        """The corner in words."""
        return self.name.replace("_", " ")


def corners_of(form: Mapping[str, str]) -> dict[str, Corner]:
    """Corners as a posted form has them; none where the mat is off or one is nowhere."""
    found = {}
    for c in CORNERS if form.get("mat") == "on" else ():
        point = _point(form, f"corner-{c}", c)
        if point is None:
            return {}
        state = "guess" if form.get(f"corner-{c}-state") == "guess" else "placed"
        found[c] = Corner(c, *point, state)
    return found


def in_order(pose: Pose, guesses: Collection[str]) -> list[str]:
    """Marks and corners that are guesses, in the order the bench goes through them."""
    names = [*(m.id for m in pose.marks), *(f"corner-{c}" for c in CORNERS)]
    return [n for n in names if n in guesses]


def label_of(guess: str, pose: Pose) -> str:
    """What a mark or corner that is still a guess is called."""
    name = guess.removeprefix("corner-")
    return f"mat corner {name.replace('_', ' ')}" if name != guess else pose.mark(guess).label


def _point(form: Mapping[str, str], name: str, label: str) -> Point | None:
    x, y = _number(form.get(f"{name}-x"), label), _number(form.get(f"{name}-y"), label)
    return (x, y) if x is not None and y is not None else None


def _number(text: str | None, label: str) -> float | None:
    if text is None or not text.strip():
        return None
    try:
        value = float(text.replace(",", "."))
    except ValueError as error:
        raise SceneError(f"the position of {label} is not a number: {text[:20]!r}") from error
    if not math.isfinite(value):
        raise SceneError(f"the position of {label} is not a number: {text[:20]!r}")
    return value


def at_places(form: Mapping[str, str], marks: Mapping[str, Point]) -> dict[str, str]:
    """A posted form with some marks elsewhere, each in the state it has."""
    body = dict(form)
    for name, (x, y) in marks.items():
        body |= {f"mark-{name}-x": f"{x:.2f}", f"mark-{name}-y": f"{y:.2f}"}
    return body


def guess_form(marks: Mapping[str, Point]) -> dict[str, str]:
    """Marks as the bench's form posts them, each still a guess."""
    return at_places({f"mark-{name}-state": "guess" for name in marks}, marks)


def form_of(marking: Marking, states: Mapping[str, str]) -> dict[str, str]:
    """Marks, each in its state, as the bench's form posts them."""
    body = guess_form(marking.marks)
    for name, state in states.items():
        body[f"mark-{name}-state"] = state
        if name in marking.mark_sds:
            body[f"mark-{name}-sd"] = f"{marking.mark_sds[name]:.2f}"
    return body


def corner_form(
    pose: Pose, side: str, corners: Mapping[str, Point], size: tuple[int, int]
) -> dict[str, str]:
    """A picture's own corners with the pose's marks still to place, as the bench posts them."""
    guess = starting_marks.guess_marks(pose, side, *size)
    body = guess_form({k: v for k, v in guess.items() if k in pose.required}) | {"mat": "on"}
    for name, (x, y) in corners.items():
        body |= {f"corner-{name}-x": f"{x:.2f}", f"corner-{name}-y": f"{y:.2f}"}
        body[f"corner-{name}-state"] = "placed"
    return body


def with_stickers(form: Mapping[str, str], found: Found) -> dict[str, str]:
    """A posted form with the stickers' places filled in.

    Doubtful ones are left as guesses, which a coach must confirm or move one by one.
    """
    body = dict(form)
    for name, (x, y) in found.marks.items():
        body[f"mark-{name}-x"], body[f"mark-{name}-y"] = f"{x:.2f}", f"{y:.2f}"
        sure = name not in found.doubtful
        body[f"mark-{name}-sd"] = f"{found.sds[name]:.2f}" if sure else ""
        body[f"mark-{name}-state"] = "sticker" if sure else "guess"
    return body


def say_stickers(pose: Pose, found: Found) -> str:
    """What was found, what was not, and what to look at."""

    def named(ids: Iterable[str]) -> str:
        return ", ".join(pose.mark(i).label for i in ids)

    if not found.marks:
        return "No stickers of that colour form this pose: pick the colour again, or mark by hand."
    parts = [f"{len(found.marks)} sticker{'s' if len(found.marks) != 1 else ''} found."]
    if found.missing:
        parts.append(f"Not found: {named(found.missing)}; place by hand.")
    if found.doubtful:
        parts.append(f"Could be another's dot: {named(found.doubtful)}; look and confirm.")
    if found.spare:
        parts.append(
            f"{found.spare} more spot{'s' if found.spare != 1 else ''} of that colour left alone."
        )
    if not (found.missing or found.doubtful):
        parts.append("Look them over, then accept.")
    return " ".join(parts)
