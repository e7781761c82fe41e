"""What the bench opens with, and keeping what is accepted there."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from dachi.core.body.pinhole import CORNERS
from dachi.core.measuring.fuse import Fused
from dachi.core.measuring.measure import camera_of
from dachi.core.measuring.scene import Point, SceneError
from dachi.core.rules import Z95
from dachi.data import catalogue, together
from dachi.store import markings
from dachi.store.markings import Marking
from dachi.studio.bench import drafts, seen_joints, starting_marks
from dachi.studio.bench.around import Around, Surroundings
from dachi.studio.bench.corners import corners_for, corners_said, outlined, to_agree
from dachi.studio.bench.drafts import Corner
from dachi.studio.bench.reading import read
from dachi.studio.bench.scenes import scene_of
from dachi.studio.bench.seen_joints import Question
from dachi.studio.work import Work

#: So many marks left where the program put them are asked about once.
ASKED_FROM, UNTOUCHED_PX = 3, 1.0
#: Marks as they were seen are looked at, all of them, where they read no better than within so many
#: degrees, for 95 %.
WIDE_DEG = 10.0


class Unsure(SceneError):
    """A marking that is kept when it is accepted once more; the message says what is odd."""

    code = "unsure"


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
    found = Marking(marks=_inside(required, at.size), mark_sds=sds, facing=facing, seen=sure)
    return found, {k: "seen" if k in sure else "guess" for k in required}


def _wide(at: Surroundings, body: Fused) -> bool:
    """Whether marks left as they were seen would read more widely than WIDE_DEG."""
    names = [n for n in at.pose.required if n in body.marks]
    sds = {n: body.sds[n] for n in names}
    seen = Marking(marks={n: body.marks[n] for n in names}, mark_sds=sds, seen=tuple(names))
    found = read(at, seen, set()).result
    return found is not None and any(
        r.headline and r.unit == "deg" and Z95 * r.sd > WIDE_DEG for r in found.readings
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


def seen_words(at: Surroundings, marking: Marking) -> str | None:
    """That marks are where the program saw them, and what that does to the reading."""
    labels = [m.label for m in at.pose.marks if m.id in marking.seen]
    if not labels:
        # Looked at, and no joint of anybody seen: the marks lie where the pose usually has them.
        if at.photo.joints == {} and not at.trial.marked and not at.photo.truth:
            return "Nobody was made out in this picture: every mark is only a guess of the pose."
        return None
    named = "every mark" if set(at.pose.required) <= set(marking.seen) else ", ".join(labels)
    return f"Seen by the program, not yet touched: {named}. The interval allows for it."


def body_seen(at: Surroundings) -> Fused | None:
    """The body behind the joints that were seen in a photograph, through its camera."""
    if not at.photo.joints:
        return None
    scene = scene_of(at, Marking(marks={}))
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


def accepted(around: Around, at: Surroundings, form: Mapping[str, str]) -> Marking:
    """A posted marking as it is to be kept.

    Raises SceneError with a sentence where something is still a guess, and Unsure where it may be
    nobody's and that was not said yet.
    """
    marking, guesses = drafts.read_form(form, at.pose)
    left = [drafts.label_of(g, at.pose) for g in drafts.in_order(at.pose, guesses)]
    if left:
        raise SceneError(
            f"still at the starting guess: {', '.join(left)}. Move each onto its place, or "
            "confirm it with the space bar"
        )
    if form.get("sure") != "1":
        _ask_once(around, at, marking)
    found = corners_for(at, marking)
    lender = found.lent_by.id if found is not None and found.lent_by is not None else None
    return replace(marking, marked=marking.marked or at.usual, lent_from=lender)


def _ask_once(around: Around, at: Surroundings, marking: Marking) -> None:
    """Raise Unsure where a marking may be nobody's: untouched guesses, another camera's corners."""
    if marking.corners is not None and (said := corners_said(at, marking)) is not None:
        raise Unsure(f"{said}. Accept again to keep it so.")
    here = around.shots(at.trial.assessment_id)
    if (said := to_agree(at, marking, here)) is not None:
        raise Unsure(said)
    if at.trial.id in here.newest or body_seen(at) is not None:
        # Marks that were seen in this very photograph, and confirmed one by one, are somebody's.
        return
    work = around.work
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


def blank(at: Surroundings) -> tuple[Marking, dict[str, str], ShownCorners]:
    """What the bench opens with where nothing may be seen of what was marked before."""
    guess = starting_marks.guess_marks(at.pose, at.trial.side, *at.size)
    marking = Marking(marks={k: v for k, v in guess.items() if k in at.pose.required})
    corners = _corners(starting_marks.guess_corners(at.pose, *at.size), "guess")
    return marking, dict.fromkeys(marking.marks, "guess"), ShownCorners(corners, on=False)


@dataclass(frozen=True)
class ShownCorners:
    """The mat's corners as the bench shows them.

    ``on``: they are this photograph's own (or will be, once no corner is a guess). Else they are
    where they would start: at the outline that is seen here, where others have them (``lent``,
    drawn), or where a camera as the pose asks for it would see them.
    """

    corners: list[Corner]
    on: bool
    lent: bool = False
    outline: bool = False
    shots: int = 1


def shown_corners(at: Surroundings, marking: Marking, draft: Mapping[str, str]) -> ShownCorners:
    """The mat's corners as the bench first shows them."""
    drawn = drafts.corners_of(draft)
    found = corners_for(at, marking)
    if drawn:
        return ShownCorners(list(drawn.values()), on=True, shots=found.shots if found else 1)
    if found is not None and found.own:
        return ShownCorners(_corners(marking.corners or {}, "placed"), on=True, shots=found.shots)
    if found is not None:
        lent = found.lent_by is not None
        return ShownCorners(
            _corners(found.mat.corners, "guess"), on=False, lent=lent, shots=found.shots
        )
    if (seen := outlined(at)) is not None:
        return ShownCorners(_corners(seen.corners, "guess"), on=False, outline=True)
    guess = starting_marks.guess_corners(at.pose, *at.size)
    return ShownCorners(_corners(guess, "guess"), on=False)


def _corners(found: Mapping[str, Point], state: str) -> list[Corner]:
    return [Corner(name, *found[name], state) for name in CORNERS]
