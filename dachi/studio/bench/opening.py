"""What the bench opens with, and keeping what is accepted there."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.fuse import Fused
from dachi.core.measuring.measure import camera_of
from dachi.core.measuring.scene import Point, SceneError
from dachi.data import catalogue, together
from dachi.store import accounts, markings
from dachi.store.markings import Marking
from dachi.studio.bench import drafts, seen_joints, starting_marks
from dachi.studio.bench.markings import (
    Surroundings,
    corners_said,
    keep,
    read,
    renew_holds,
    scene_of,
)
from dachi.studio.bench.seen_joints import Question
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: So many marks left where the program put them are asked about once.
ASKED_FROM, UNTOUCHED_PX = 3, 1.0
#: Marks as they were seen are looked at, all of them, where they read no better than within so many
#: degrees, for 95 %.
WIDE_DEG, SURE = 10.0, 1.96


class Unsure(SceneError):
    """A marking that is kept when it is accepted once more; the message says what is odd."""


def opening(
    work: Work, at: Surroundings, *, drafted: bool = True
) -> tuple[Marking, dict[str, str]]:
    """What the bench opens with, and the state of each mark.

    The draft (where one is wanted), the last marking, the marks of a like shot, or a guess.
    """
    draft = markings.draft(work.db, work.coach, at.trial.id) if drafted else None
    if draft:
        try:
            marking, guesses = drafts.read_form(draft, at.pose)
            return marking, {k: "guess" if k in guesses else "placed" for k in marking.marks}
        except SceneError:
            pass
    history = markings.history(work.db, work.coach, at.trial.id)
    if history:
        return history[0], dict.fromkeys(history[0].marks, "placed")
    return start(work, at)


def start(work: Work, at: Surroundings) -> tuple[Marking, dict[str, str]]:
    """Where the program puts marks by itself, and the state of each.

    Seen in the picture, with their spread, doubtful ones as guesses, and all of them where the
    reading would be too wide to be of use; where nobody was seen, those of a like shot or where
    marks usually lie.
    """
    like = _like(work, at)
    marks = starting_marks.guess_marks(at.pose, at.trial.side, *at.size)
    facing, body = None, body_seen(at)
    if like is not None:
        before, width, height = like
        marks |= starting_marks.scaled(before.marks, (width, height), at.size)
        facing = before.facing
    seen = body.certain() if body else {}
    if body and _wide(at, body):
        seen = {}
    every = marks | (body.marks if body else {})
    required = {k: v for k, v in every.items() if k in at.pose.required}
    sure = tuple(k for k in required if k in seen)
    sds = {k: round(body.sds[k], 2) for k in required if k in body.sds} if body else {}
    found = Marking(_inside(required, at.size), sds, facing=facing, seen=sure)
    return found, {k: "seen" if k in sure else "guess" for k in required}


def _wide(at: Surroundings, body: Fused) -> bool:
    """Whether marks left as they were seen would read more widely than WIDE_DEG."""
    names = [n for n in at.pose.required if n in body.marks]
    sds = {n: body.sds[n] for n in names}
    seen = Marking({n: body.marks[n] for n in names}, sds, seen=tuple(names))
    found = read(at, seen, set()).result
    return found is not None and any(
        r.headline and r.unit == "deg" and SURE * r.sd > WIDE_DEG for r in found.readings
    )


def followed(at: Surroundings, marking: Marking, guesses: set[str]) -> dict[str, Point]:
    """Where marks nobody has set yet lie, px, given those that somebody has."""
    body = body_seen(at)
    if body is None:
        return {}
    rest = (guesses | set(marking.seen)) & set(marking.mark_sds) & set(body.marks)
    known = {n: p for n, p in marking.marks.items() if n not in guesses | set(marking.seen)}
    lie = _inside(body.given(known, together().get(at.pose.id)), at.size)
    return {n: p for n, p in lie.items() if n in rest}


def _inside(marks: Mapping[str, Point], size: tuple[int, int]) -> dict[str, Point]:
    width, height = size
    return {
        n: (round(min(max(x, 2.0), width - 2.0), 1), round(min(max(y, 2.0), height - 2.0), 1))
        for n, (x, y) in marks.items()
    }


def outlined(at: Surroundings) -> Mat | None:
    """The mat where its outline stands out by itself, not yet confirmed."""
    found = at.photo.outline
    if not found:
        return None
    return Mat(
        at.position.mat_length_cm, at.position.mat_width_cm,
        {n: (x, y) for n, (x, y, _) in found.items()},
        corner_sds_px={n: sd for n, (_, _, sd) in found.items()},
    )  # fmt: skip


def seen_words(at: Surroundings, marking: Marking) -> str | None:
    """That marks are where the program saw them, and what that does to the reading."""
    labels = [m.label for m in at.pose.marks if m.id in marking.seen]
    if not labels:
        return None
    named = "every mark" if set(at.pose.required) <= set(marking.seen) else ", ".join(labels)
    return f"Seen by the program, not yet touched: {named}. The interval allows for it."


def body_seen(at: Surroundings) -> Fused | None:
    """The body behind the joints that were seen in a photograph, through its camera."""
    if not at.photo.joints:
        return None
    scene = scene_of(at, Marking({}))
    if scene.mat is None and at.photo.outline:
        # Enough to say where marks lie; a reading asks for the corners themselves.
        scene = replace(scene, mat=outlined(at))
    try:
        estimate = camera_of(scene, catalogue())
    except SceneError:
        estimate = None
    return seen_joints.body_of(
        Question(
            at.pose, at.trial.side, at.pose.chosen(at.trial.variant), scene.image,
            dict(at.photo.joints), at.photo.apart, estimate, at.segments_cm, at.trial.prop_cm,
        )
    )  # fmt: skip


def _like(work: Work, at: Surroundings) -> tuple[Marking, int, int] | None:
    found = markings.last_marks(
        work.db, work.coach, at.who.id, at.trial.pose, at.trial.side, at.trial.position_id
    )
    return found[:3] if found else None


def accept(
    work: Work, at: Surroundings, form: Mapping[str, str], once_key: str | None, seen: int | None
) -> None:
    """Keep a posted marking with its readings.

    ``seen`` is the number of the marking the person was looking at. Raises SceneError and
    Conflict with a sentence; then nothing is kept.
    """
    marking, guesses = drafts.read_form(form, at.pose)
    left = [m.label for m in at.pose.marks if m.id in guesses]
    if left:
        raise SceneError(
            f"still at the starting guess: {', '.join(left)}. Move each onto its joint, or "
            "confirm it with the space bar"
        )
    if form.get("sure") != "1":
        _ask_once(work, at, marking)
    keep(work, at, marking, once_key=once_key, seen=seen)
    if at.photo.truth is None and marking.marked not in ("", "joint", at.usual):
        accounts.keep_usual_marked(work.db, work.coach, marking.marked)
    summaries.refresh(work, at.who.id, at.trial.pose)
    renew_holds(work, at.trial)


def _ask_once(work: Work, at: Surroundings, marking: Marking) -> None:
    """Raise Unsure where a marking may be nobody's: untouched guesses, another camera's corners."""
    if (said := corners_said(at, marking)) is not None:
        raise Unsure(f"{said}. Accept again to keep it so.")
    if markings.history(work.db, work.coach, at.trial.id) or body_seen(at) is not None:
        # Marks that were seen in this very photograph, and confirmed one by one, are somebody's.
        return
    guessed = start(work, at)[0].marks
    # Somebody who lies still between two shots of a kind leaves most marks in place, not all.
    enough = len(at.pose.required) if _like(work, at) else ASKED_FROM
    still = [
        m.label
        for m in at.pose.marks
        if m.id in guessed
        and m.id in marking.marks
        and m.id not in marking.mark_sds
        and math.dist(guessed[m.id], marking.marks[m.id]) < UNTOUCHED_PX
    ]
    if len(still) >= enough:
        raise Unsure(
            f"{', '.join(still)}: still exactly where the program put them. Are they on the joints "
            "of this photograph? If so, accept again."
        )


def level_guess(at: Surroundings) -> tuple[Point, Point]:
    """Where a level line starts: along the lower part of the picture, px."""
    width, height = at.size
    y = round(height * 0.88, 1)
    return (round(width * 0.15, 1), y), (round(width * 0.85, 1), y)
