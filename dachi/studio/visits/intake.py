"""Taking a photograph in for an assessment, whoever sends it: sheet, phone, folder, simulation."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from dachi.core.assessing import permission
from dachi.core.assessing.runsheet import Slot, sides
from dachi.core.catalogue.poses import Pose
from dachi.data import catalogue, variant_under
from dachi.errors import NotDone, Told
from dachi.photos import ingest, stickers
from dachi.photos.ingest import Taken, heal, path_of, source_digest, take_in, whole
from dachi.photos.ingest import TooMany as TooMany
from dachi.photos.stickers import Colour, Found
from dachi.store import accounts, assessments, markings, photos, positions, preparation
from dachi.store.assessments import Assessment
from dachi.store.photos import NewPhoto, Photo, Use
from dachi.store.practitioners import Practitioner
from dachi.studio.acting import acting
from dachi.studio.bench import corner_cards, drafts, starting_marks
from dachi.studio.bench.around import Around, Surroundings
from dachi.studio.bench.opening import body_seen
from dachi.studio.phrases import say_day, shot_name
from dachi.studio.visits.allowed import allowed
from dachi.studio.work import Work

#: Who made a draft that nobody has touched.
PROGRAM = "the program"


class Refused(NotDone):
    """A photograph that is not taken in; the message is for the person."""

    code = "refused"


class AlreadyThere(Refused):
    """These very bytes are kept already. The message names whose photograph it is: to a coach
    only. ``elsewhere`` says whether it belongs to another assessment than the one asked for.
    """

    code = "already-there"

    def __init__(self, double: Use, elsewhere: bool) -> None:
        super().__init__(already(double))
        self.double, self.elsewhere = double, elsewhere

    @property
    def discreet(self) -> str:
        """The same for whoever holds one person's link: nothing of anybody else."""
        if self.elsewhere:
            return "This photograph was sent before. Nothing was added: take a new one."
        d = self.double
        return f"This photograph was sent before, as {shot_name(d)}. Nothing was added."


@dataclass(frozen=True)
class Place:
    """Where on the sheet a photograph goes, and how the pose was done."""

    pose: Pose
    side: str
    mode: str
    number: int
    variant: Mapping[str, str]

    @property
    def slot(self) -> Slot:
        """The place without its variant."""
        return Slot(self.pose.id, self.side, self.mode, self.number)


def place_of(form: Mapping[str, str], who: Practitioner) -> Place:
    """Read a place from a form; Refused where it names none there is."""
    pose_id = form.get("pose", "")
    if pose_id not in catalogue():
        raise Refused("There is no such pose.")
    pose = catalogue().pose(pose_id)
    side, mode, number = form.get("side", ""), form.get("mode", ""), form.get("number", "1")
    if side not in sides(pose, "left") or mode not in pose.modes or number not in list("123456789"):
        raise Refused(f"{pose.name} has no such side, mode or trial.")
    variant = usual_variant(pose, who)
    for v in pose.variants:
        if form.get(f"variant-{v.id}") in v.options:
            variant[v.id] = form[f"variant-{v.id}"]
    return Place(pose, side, mode, int(number), variant)


def usual_variant(pose: Pose, who: Practitioner) -> dict[str, str]:
    """How this person does the pose, by their schools and the pose's defaults."""
    found = pose.default_variant()
    for name, option in variant_under(pose.id, who.schools).items():
        if any(v.id == name and option in v.options for v in pose.variants):
            found[name] = option
    return found


def closed(visit: Assessment) -> str | None:
    """Why nothing may change any more, None while the assessment is open."""
    if visit.signed_off_at is None:
        return None
    return "This assessment is signed off. Reopen it under Review to change anything."


def refusal(
    work: Work,
    visit: Assessment,
    who: Practitioner,
    mode: str,
    pose: Pose | None = None,
    side: str = "",
    *,
    figure: bool = False,
) -> str | None:
    """Why a photograph in a mode may not be taken now, as a sentence; None where it may.

    Of a ``pose`` and a ``side``, where they are meant already.

    A simulated ``figure`` shows nobody and needs no consent.
    """
    problem = closed(visit)
    if problem is None and not figure:
        consent = preparation.consent(work.db, work.coach, who.id)
        problem = permission.photograph_refused(consent, who.birth_year, work.today().isoformat())
    # What may not be shown of a body is not staged of it either.
    if problem is None and pose is not None and (not figure or mode == "passive"):
        return allowed(work, who.id).refused(pose, mode, side)
    if problem is None and mode == "passive":
        problem = permission.passive_refused(preparation.screening(work.db, work.coach, who.id))
    return problem


def already(double: Use) -> str:
    """That these very bytes are there, and where."""
    return (
        f"This very photograph is already there: {double.call_name}, {shot_name(double)} on "
        f"{say_day(double.assessed_at)}. Nothing was added."
    )


@dataclass(frozen=True)
class Incoming:
    """A picture that comes in: its bytes, and of a simulated one the truth."""

    data: bytes
    truth: Mapping[str, Any] | None = None

    @property
    def origin(self) -> str:
        """Where it is from, as stored."""
        return "upload" if self.truth is None else "simulated"


@contextmanager
def turn(work: Work) -> Iterator[None]:
    """One's turn to take a photograph in; nobody's records wait for it, and nothing of it is in
    memory before. TooMany where too many wait already.
    """
    with ExitStack() as held:
        with work.db.unlocked():
            held.enter_context(ingest.turn())
        yield


def store(work: Work, incoming: Incoming) -> NewPhoto:
    """Check and keep a picture's file; what is to be recorded of it. Raises PhotoError, OSError."""
    with work.db.unlocked():
        return described(take_in(incoming.data, work.folder), incoming)


def described(taken: Taken, incoming: Incoming) -> NewPhoto:
    """What is recorded of a picture that was taken in."""
    return NewPhoto(
        sha256=taken.sha256,
        source_sha256=taken.source_sha256,
        width=taken.width,
        height=taken.height,
        focal_35mm=taken.focal_35mm,
        taken_at=taken.taken_at.isoformat() if taken.taken_at else None,
        origin=incoming.origin,
        truth=incoming.truth,
    )


def put(
    work: Work, visit: Assessment, place: Place, photo: int | NewPhoto, once_key: str | None = None
) -> int:
    """Put a stored photograph in its place, and look at it; return the trial. Raises Conflict."""
    with acting(work, visit.practitioner_id):
        trial_id = added(work, visit, place, photo, once_key)
    look_over(work, trial_id)
    return trial_id


def added(
    work: Work, visit: Assessment, place: Place, photo: int | NewPhoto, once_key: str | None = None
) -> int:
    """Within a command: a photograph's record, and its trial. Raises Conflict."""
    photo_id = photo if isinstance(photo, int) else photos.add(work.db, work.coach, photo)
    stored = photos.get(work.db, work.coach, photo_id)
    if stored is None:
        raise Refused("There is no such photograph.")
    position = positions.for_photo(
        work.db, work.coach, visit.id, place.pose.view, place.pose.setup,
        (stored.width, stored.height),
    )  # fmt: skip
    return assessments.add_trial(
        work.db, work.coach, visit.id, photo_id, place.slot, variant=place.variant,
        once_key=once_key, position_id=position,
    )  # fmt: skip


def send(
    work: Work,
    visit: Assessment,
    who: Practitioner,
    place: Place,
    incoming: Incoming,
    once_key: str | None,
) -> int:
    """Take one picture in and put it in its place; sent twice, it is there once.

    Raises Refused, PhotoError, Conflict and OSError, each with a sentence.
    """
    if problem := refusal(
        work, visit, who, place.mode, place.pose, place.side, figure=incoming.truth is not None
    ):
        raise Refused(problem)
    if once_key and photos.under_key(work.db, work.coach, visit.id, once_key) not in (
        None, source_digest(incoming.data),
    ):  # fmt: skip
        raise Refused(
            "Another photograph was sent under this key. Nothing was added: send it anew."
        )
    if double := photos.use_of(work.db, work.coach, source_digest(incoming.data)):
        trial = assessments.trial(work.db, work.coach, double.trial_id)
        same = trial is not None and place.slot == trial.slot
        if same and once_key and double.assessment_id == visit.id:
            return int(double.trial_id)
        if trial is not None:
            _heal(work, trial.photo_id, incoming.data)
        raise AlreadyThere(double, double.assessment_id != visit.id)
    if assessments.trial_at(work.db, work.coach, visit.id, place.slot):
        raise Refused(
            f"Trial {place.number} of {place.side} {place.mode} already has a photograph. Delete "
            "it first, or choose another trial."
        )
    return put(work, visit, place, store(work, incoming), once_key)


def _heal(work: Work, photo_id: int, data: bytes) -> None:
    """What was lost or damaged on disk is whole again once the original is sent."""
    photo = photos.get(work.db, work.coach, photo_id)
    if photo is not None and not whole(work.folder, photo.sha256):
        with work.db.unlocked():
            heal(work.folder, photo.sha256, data)


def look_for_stickers(
    work: Work, at: Surroundings, colour: Colour, image: NDArray[np.uint8] | None = None
) -> Found:
    """Find stickers of a colour, named by the body seen in the picture, else the pose's layout."""
    body = body_seen(at) if at.photo.joints else None
    with work.db.unlocked():
        if image is None:
            image = _decoded(work, at.photo)
        dots = stickers.find_dots(image, colour)
        if body is not None:
            return stickers.assign_near(dots, body.marks, body.sds, at.pose.required)
        layouts = starting_marks.layouts(at.pose, at.trial, at.photo)
        return stickers.assign(dots, layouts, at.pose.required)


def _decoded(work: Work, photo: Photo) -> NDArray[np.uint8]:
    return stickers.decode(path_of(work.folder, photo.sha256, "photo").read_bytes())


def _notice_a_move(around: Around, at: Surroundings) -> None:
    """Where the cards say that the camera was moved, a new place begins with this shot."""
    here, work = around.shots(at.visit.id), around.work
    others = [
        here.photos[t.photo_id]
        for t in reversed(here.trials)
        if t.position_id == at.position.id and t.id != at.trial.id
    ]
    if corner_cards.moved(at.photo, at.position, at.pose, others):
        size = (at.position.mat_length_cm, at.position.mat_width_cm)
        new = positions.start(
            work.db, work.coach, at.visit.id, at.position.view, size, at.position.setup
        )
        positions.move_trial(work.db, work.coach, at.trial.id, new)


def look_over(work: Work, trial_id: int) -> None:
    """Look at once for corner cards and, where the studio has a colour, stickers: the bench
    opens with the camera known and the marks on.
    """
    trial = assessments.trial(work.db, work.coach, trial_id)
    if trial is None:
        return
    at = Around(work, trial.practitioner_id).of(trial)
    try:
        with work.db.unlocked():
            image = _decoded(work, at.photo)
            found = (
                None if at.photo.truth else corner_cards.look(image, at.photo, at.position, at.pose)
            )
    except (Told, OSError, cv2.error):
        return
    if found is not None:
        with acting(work, at.who.id):
            photos.set_cards(work.db, work.coach, at.photo.id, found)
            around = Around(work, at.who.id)
            _notice_a_move(around, around.of(trial))
    _try_stickers(work, trial_id, image)


def _try_stickers(work: Work, trial_id: int, image: NDArray[np.uint8]) -> None:
    """Propose marks where stickers of the studio's colour are, unless somebody has begun."""
    coach = accounts.by_id(work.db, work.coach)
    trial = assessments.trial(work.db, work.coach, trial_id)
    if coach is None or trial is None or not coach.sticker_colour or trial.marked:
        return
    if markings.draft(work.db, work.coach, trial_id):
        return
    at = Around(work, trial.practitioner_id).of(trial)
    try:
        found = look_for_stickers(work, at, Colour.from_text(coach.sticker_colour), image)
    except (Told, ValueError, OSError, np.linalg.LinAlgError):
        return
    if found.marks:
        guess = starting_marks.guess_marks(at.pose, trial.side, *at.size)
        body = drafts.guess_form({k: v for k, v in guess.items() if k in at.pose.required})
        body = drafts.with_stickers(body, found) | {"made": PROGRAM}
        with acting(work):
            markings.save_draft(work.db, work.coach, trial_id, body)


def untouched(draft: Mapping[str, str] | None) -> bool:
    """Whether no coach has had a hand in a draft yet."""
    return not draft or draft.get("made") == PROGRAM


def unwritten(error: OSError) -> str:
    """That a photograph could not be kept, and what to do."""
    why = error.strerror or str(error)
    return f"The photograph could not be written ({why}). Free some space first."
