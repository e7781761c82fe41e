"""What a coach does to a photograph: each a command, all of it or nothing."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import IO

from dachi.core.body.pinhole import CORNERS
from dachi.core.measuring.figure_match import Region
from dachi.core.measuring.scene import Point, Reading
from dachi.interchange import coco
from dachi.photos import stickers
from dachi.photos.ingest import path_of
from dachi.photos.stickers import Colour, ColourError, Found
from dachi.simulation import inclinometer
from dachi.store import accounts, assessments, markings, photos, positions, second_opinions
from dachi.store.assessments import Trial
from dachi.store.markings import Marking
from dachi.store.second_opinions import Opinion
from dachi.studio.acting import acting
from dachi.studio.bench import drafts
from dachi.studio.bench.around import Around, Surroundings, fitting
from dachi.studio.bench.opening import accepted, followed
from dachi.studio.visits import intake
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: A head that is pointed at is hidden to so much of the picture's longer side around it.
HEAD_SHARE = 0.075
#: What a mat may measure, cm.
LEAST_MAT_CM, MOST_MAT_CM = 40.0, 400.0
HIGHEST_PROP_CM = 150.0


def accept(
    work: Work, at: Surroundings, form: Mapping[str, str], once_key: str | None, seen: int | None
) -> None:
    """Keep a posted marking; what it reads is derived with it.

    ``seen`` is the number of the marking the person was looking at. Raises SceneError (Unsure
    where it is asked about once) and Conflict with a sentence; then nothing is kept.
    """
    with acting(work, at.who.id):
        around = Around(work, at.who.id)
        marking = accepted(around, at, form)
        markings.save(work.db, work.coach, at.trial.id, marking, once_key=once_key, seen=seen)
        if at.photo.truth is None and marking.marked not in ("joint", at.usual):
            accounts.keep_usual_marked(work.db, work.coach, marking.marked)


def keep(work: Work, at: Surroundings, marking: Marking, seen: int | None = None) -> None:
    """Keep a marking as it is, without a question. Raises SceneError and Conflict."""
    with acting(work, at.who.id):
        said = marking if marking.marked else Marking(**{**marking.__dict__, "marked": at.usual})
        markings.save(work.db, work.coach, at.trial.id, said, seen=seen)


def keep_draft(work: Work, trial_id: int, form: Mapping[str, str]) -> None:
    """Keep where rings were last left."""
    with acting(work):
        markings.save_draft(work.db, work.coach, trial_id, form)


def rest(
    work: Work, at: Surroundings, form: Mapping[str, str], marking: Marking, guesses: set[str]
) -> dict[str, Point]:
    """Keep rings that came to rest as a draft; where those that nobody has set follow to, px."""
    moved = followed(at, marking, guesses)
    keep_draft(work, at.trial.id, drafts.at_places(form, moved))
    return moved


def drop_draft(work: Work, trial_id: int) -> None:
    """Forget an unfinished marking for the one that is kept."""
    with acting(work):
        markings.drop_draft(work.db, work.coach, trial_id)


def find_stickers(
    work: Work, at: Surroundings, form: Mapping[str, str], spot: tuple[str, str]
) -> Found:
    """Look for stickers, their colour taken where ``spot`` (x, y, as posted) points, and propose
    them as marks in a draft. Raises ColourError and OSError with a sentence.
    """
    coach = accounts.by_id(work.db, work.coach)
    saved = coach.sticker_colour if coach is not None else None
    picked = _spot(at, *spot) if all(spot) else None
    if picked is None and any(spot):
        raise ColourError("Pick the sticker's colour within the photograph.")
    if picked is None and saved is None:
        raise ColourError("Pick the sticker's colour on the photograph first.")
    if picked:
        path = path_of(work.folder, at.photo.sha256, "photo")
        with work.db.unlocked():
            colour = stickers.pick_colour(stickers.decode(path.read_bytes()), *picked)
    else:
        colour = Colour.from_text(saved or "")
    found = intake.look_for_stickers(work, at, colour)
    with acting(work):
        if picked:
            accounts.keep_sticker_colour(work.db, work.coach, colour.text())
        markings.save_draft(work.db, work.coach, at.trial.id, drafts.with_stickers(form, found))
    return found


def _spot(at: Surroundings, x: str, y: str) -> Point | None:
    """A posted point, None where it is none of the photograph's."""
    try:
        point = (float(x), float(y))
    except ValueError:
        return None
    inside = all(
        math.isfinite(v) and 0 <= v <= most for v, most in zip(point, at.size, strict=True)
    )
    return point if inside else None


def take_coco(work: Work, at: Surroundings, stream: IO[bytes]) -> int:
    """Take marks from a COCO keypoint file as a starting guess; how many. Raises CocoError."""
    text = stream.read(coco.MOST_BYTES + 1)
    found = coco.marks_for(text, at.pose, at.photo.width, at.photo.height)
    keep_draft(work, at.trial.id, drafts.guess_form(found))
    return len(found)


def camera_moved(work: Work, at: Surroundings, form: Mapping[str, str]) -> bool:
    """From this photograph on the camera stands elsewhere; whether its own corners stay.

    What another photograph lent is left behind, and so are guesses.
    """
    own = [c for c in drafts.corners_of(form).values() if c.state != "guess"]
    with acting(work, at.who.id):
        if len(own) == len(CORNERS):
            markings.save_draft(work.db, work.coach, at.trial.id, form)
        size = (at.position.mat_length_cm, at.position.mat_width_cm)
        new = positions.start(
            work.db, work.coach, at.visit.id, at.position.view, size, at.position.setup
        )
        for trial in assessments.trials(work.db, work.coach, at.visit.id):
            if trial.id >= at.trial.id and trial.position_id == at.position.id:
                positions.move_trial(work.db, work.coach, trial.id, new)
    return len(own) == len(CORNERS)


def camera_same(work: Work, at: Surroundings) -> None:
    """The camera had not moved since the photograph before: share its corners.

    Raises Refused where there is none of this view and size.
    """
    here = Around(work, at.who.id).shots(at.visit.id)
    for trial in reversed([t for t in here.trials if t.id < at.trial.id]):
        position = here.positions.get(trial.position_id or 0)
        if position is None or position.id == at.position.id or position.view != at.position.view:
            continue
        photo = here.photos[trial.photo_id]
        if (photo.width, photo.height) == at.size:
            with acting(work, at.who.id):
                positions.move_trial(work.db, work.coach, at.trial.id, position.id)
            return
    raise Refused("There is no earlier photograph of this view and size to share corners with.")


def may_stand_beside(work: Work, trial: Trial) -> list[Trial]:
    """Marked shots of the same assessment that may show a trial's hold."""
    own = assessments.trials(work.db, work.coach, trial.assessment_id)
    return [t for t in fitting(trial, own) if t.marked]


def headline(work: Work, trial_id: int) -> Reading | None:
    """The main reading of a trial as it is kept."""
    found = markings.readings(work.db, work.coach, trial_id)
    return next((r for r in found if r.headline), None)


def read_together(work: Work, trial: Trial, other: str) -> tuple[Reading | None, Reading | None]:
    """Read a trial together with another photograph of its hold, or (empty) by itself again.

    The reading before and after. Raises Refused, and SceneError where the two cannot be read.
    """
    chosen = next((t for t in may_stand_beside(work, trial) if str(t.id) == other), None)
    if other and chosen is None:
        raise Refused("Choose a marked photograph of the same hold from the other direction.")
    before = headline(work, trial.id)
    with acting(work, trial.practitioner_id):
        assessments.hold_with(
            work.db, work.coach, trial.id, chosen.id if chosen is not None else None
        )
    return before, headline(work, trial.id)


def say_how(work: Work, at: Surroundings, form: Mapping[str, str]) -> None:
    """How the pose was done; only trials done alike are compared. Raises Refused, SceneError."""
    text = form.get("prop_cm", "").strip()
    prop = _number(text) if text else None
    if text and (prop is None or not 0 <= prop <= HIGHEST_PROP_CM):
        raise Refused(
            f"Give the support's height in centimetres, 0 to {HIGHEST_PROP_CM:.0f}, or leave it "
            "empty."
        )
    variant = dict(at.trial.variant)
    for v in at.pose.variants:
        chosen = form.get(f"variant-{v.id}", "")
        if chosen in v.options:
            variant[v.id] = chosen
    with acting(work, at.who.id):
        assessments.set_details(work.db, work.coach, at.trial.id, variant, prop)


def _number(text: str) -> float | None:
    try:
        found = float(text.replace(",", "."))
    except ValueError:
        return None
    return found if math.isfinite(found) else None


def mat_of(length: str, width: str) -> tuple[float, float]:
    """A mat's length and width, cm, as somebody writes them. Raises Refused."""
    long, wide = _number(length), _number(width)
    if long is None or wide is None or not LEAST_MAT_CM <= wide <= long <= MOST_MAT_CM:
        raise Refused(
            f"A mat is {LEAST_MAT_CM:.0f} to {MOST_MAT_CM:.0f} cm long and at least "
            f"{LEAST_MAT_CM:.0f} cm wide; length first."
        )
    return long, wide


def mat_size(work: Work, at: Surroundings, length: str, width: str) -> None:
    """How large the mat is at a camera place. Raises Refused, SceneError."""
    long, wide = mat_of(length, width)
    with acting(work, at.who.id):
        positions.set_mat(work.db, work.coach, at.position.id, long, wide)


def second_instrument(work: Work, at: Surroundings, text: str, *, simulated: bool) -> None:
    """Keep another instrument's angle; the simulated one reads the figure's true angle."""
    device, angle = "Inclinometer", _number(text)
    if simulated and at.photo.truth:
        values = at.photo.truth["true_values"]
        true = values.get(at.pose.headline_for(at.trial.variant).id)
        device = "Simulated inclinometer"
        angle = inclinometer.reading(float(true), at.trial.id) if true is not None else None
    if angle is None or not -180 <= angle <= 360:
        raise Refused("Give the other instrument's angle in degrees.")
    with acting(work):
        found = Opinion(device, angle, inclinometer.SD_DEG)
        second_opinions.give(work.db, work.coach, at.trial.id, found)


def hide_head(work: Work, at: Surroundings, x: str, y: str) -> None:
    """Where the head is: a spot, and the rim around it. Raises Refused outside the picture."""
    spot = _spot(at, x, y)
    if spot is None:
        raise Refused("Point at the head on the photograph.")
    with acting(work):
        region = Region(*spot, HEAD_SHARE * max(at.size))
        photos.set_head(work.db, work.coach, at.photo.id, region)


def move(work: Work, at: Surroundings, parts: Mapping[str, str], form: Mapping[str, str]) -> str:
    """The photograph shows another shot: put it there; marks of the same joints go along.

    A sentence of what became of it. Raises Refused, Conflict and SceneError: then it is where
    it was, and so is everything else.
    """
    with acting(work, at.who.id):
        place = intake.place_of(parts, at.who)
        if (place.mode, place.pose.id, place.side) != (at.trial.mode, at.trial.pose, at.trial.side):
            # What may not be taken may not be filed as taken either.
            drawn = at.photo.truth is not None
            why = intake.refusal(
                work, at.visit, at.who, place.mode, place.pose, place.side, figure=drawn
            )
            if why:
                raise Refused(why)
        corners = _own_corners(work, at, form)
        variant = at.trial.variant if place.pose.id == at.trial.pose else place.variant
        position_id = at.position.id
        if place.pose.view != at.position.view:
            # The same picture, the mat named by its other edge: a place of its own.
            size = (at.position.mat_length_cm, at.position.mat_width_cm)
            position_id = positions.start(
                work.db, work.coach, at.visit.id, place.pose.view, size, place.pose.setup
            )
        assessments.move_trial(work.db, work.coach, at.trial.id, place.slot, variant, position_id)
        marked = bool(markings.history(work.db, work.coach, at.trial.id))
        if corners and not marked:
            kept = drafts.corner_form(place.pose, place.side, corners, at.size)
            markings.save_draft(work.db, work.coach, at.trial.id, kept)
    then = ", its marks with it." if marked else ": mark it."
    return f"Moved to {place.pose.name}, {place.side} {place.mode}, trial {place.number}{then}"


def _own_corners(
    work: Work, at: Surroundings, form: Mapping[str, str]
) -> Mapping[str, Point] | None:
    """The mat's corners as marked on this very picture, saved or just posted."""
    history = markings.history(work.db, work.coach, at.trial.id)
    if history and history[0].corners:
        return history[0].corners
    return drafts.read_form(form, at.pose)[0].corners
