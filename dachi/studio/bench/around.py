"""Everything that is kept around a person's photographs and that reading them needs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache, partial

from dachi.core.catalogue.poses import Pose
from dachi.core.measuring.bones import Bone, Learnt, learn
from dachi.core.measuring.cards import Sighting
from dachi.core.measuring.scene import Point
from dachi.data import catalogue
from dachi.store import accounts, assessments, markings, photos, positions, practitioners
from dachi.store.assessments import Assessment, Trial
from dachi.store.markings import Marking
from dachi.store.photos import Photo
from dachi.store.positions import Position
from dachi.store.practitioners import Practitioner
from dachi.studio.bench import corner_cards
from dachi.studio.work import Work


@dataclass(frozen=True)
class Lent:
    """The mat's corners as other photographs from the same camera place have them.

    ``trial`` is the newest of them, ``shots`` how many they are the mean of; ``sds`` is empty
    where they were marked by hand, ``by_cards`` where corner cards tell them.
    """

    trial: Trial
    corners: Mapping[str, Point]
    shots: int = 1
    sds: Mapping[str, float] = field(default_factory=dict)
    by_cards: bool = False


@dataclass(frozen=True, kw_only=True)
class Surroundings:
    """Everything around one trial that measuring and marking it need.

    ``usual`` is how marks are set where a marking does not say; ``cards`` what corner cards in
    this photograph tell of its camera, ``lending`` what other photographs from its place tell
    where it tells nothing itself. ``segments_cm`` are lengths of bones: a tape's, else what shots
    of visits before taught.
    """

    trial: Trial
    photo: Photo
    who: Practitioner
    pose: Pose
    position: Position
    visit: Assessment
    usual: str = "eye"
    #: Another photograph of the same hold, its surroundings and its marks.
    beside: tuple[Surroundings, Marking] | None = None
    cards: Sighting | None = None
    lending: Callable[[], Lent | None] = lambda: None
    segments_cm: Mapping[str, float] = field(default_factory=dict)

    @cached_property
    def lent(self) -> Lent | None:
        """What other photographs from its place tell of the camera; looked for when it is asked."""
        return self.lending()

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the photograph, px."""
        return self.photo.width, self.photo.height

    @property
    def by_cards(self) -> bool:
        """Whether cards in this very photograph tell its camera."""
        return self.cards is not None and self.cards.corners is not None


@dataclass(frozen=True)
class Shots:
    """What one assessment has: its trials, and by their ids photographs, places, newest marks."""

    trials: list[Trial]
    photos: Mapping[int, Photo]
    positions: Mapping[int, Position]
    newest: Mapping[int, Marking]


#: When an assessment was, a marking of it, and the lengths it tells as they are kept.
BoneRows = tuple[tuple[str, int, str], ...]


@lru_cache(256)
def _learnt_of(rows: BoneRows, before: str | None) -> dict[str, Learnt]:
    """What kept lengths have taught, of visits before a time or of all; asked again and again."""
    own = sorted((m, at, text) for at, m, text in rows)
    return learn(markings.read_bones(text) for _, at, text in own if before is None or at < before)


class Around:
    """A person's photographs with all that is around them, each assessment read once.

    KeyError where somebody is not the coach's.
    """

    def __init__(self, work: Work, practitioner_id: int) -> None:
        who = practitioners.get(work.db, work.coach, practitioner_id)
        if who is None:
            raise KeyError(practitioner_id)
        coach = accounts.by_id(work.db, work.coach)
        self.work, self.who = work, who
        self.usual = coach.usual_marked if coach is not None else "eye"
        self._shots: dict[int, Shots] = {}
        self._learnt: dict[str, dict[str, Learnt]] = {}

    @cached_property
    def visits(self) -> dict[int, Assessment]:
        """The person's assessments by id, the earliest first."""
        found = assessments.of_practitioner(self.work.db, self.work.coach, self.who.id)
        return {v.id: v for v in reversed(found)}

    def shots(self, assessment_id: int) -> Shots:
        """What one of the assessments has."""
        if assessment_id not in self._shots:
            asked = (self.work.db, self.work.coach, assessment_id)
            self._shots[assessment_id] = Shots(
                assessments.trials(*asked), photos.of_assessment(*asked),
                positions.of_assessment(*asked), markings.newest_of(*asked),
            )  # fmt: skip
        return self._shots[assessment_id]

    # ---- lengths ------------------------------------------------------------------------

    @cached_property
    def _kept_bones(self) -> BoneRows:
        return tuple(markings.bones(self.work.db, self.work.coach, self.who.id))

    @cached_property
    def _bones(self) -> dict[int, tuple[str, dict[str, Bone]]]:
        """Lengths as they are told meanwhile: of more than what is kept."""
        return {m: (at, markings.read_bones(text)) for at, m, text in self._kept_bones}

    def told(self, marking_id: int, at: str, bones: Mapping[str, Bone]) -> None:
        """A marking of an assessment at a time was read again: its lengths are these now."""
        self._bones.pop(marking_id, None)
        if bones:
            self._bones[marking_id] = (at, dict(bones))
        self._learnt = {}

    def learnt(self, before: str | None = None) -> dict[str, Learnt]:
        """Lengths that marked shots have taught, of visits ``before`` a time or of all."""
        if "_bones" not in self.__dict__:
            return _learnt_of(self._kept_bones, before)
        key = before or ""
        if key not in self._learnt:
            own = sorted(self._bones.items())
            self._learnt[key] = learn(
                bones for _, (at, bones) in own if before is None or at < before
            )
        return self._learnt[key]

    # ---- one trial ----------------------------------------------------------------------

    def of(self, trial: Trial) -> Surroundings:
        """What is kept around one of the person's trials; KeyError where its pose is gone."""
        here = self.shots(trial.assessment_id)
        photo, position = here.photos[trial.photo_id], here.positions[trial.position_id or 0]
        pose, visit = catalogue().pose(trial.pose), self.visits[trial.assessment_id]
        lengths = {n: round(b.cm, 1) for n, b in self.learnt(visit.taken_at).items()}
        cards = corner_cards.sighting(photo, position, pose)
        told = cards is not None and cards.corners is not None
        return Surroundings(
            trial=trial,
            photo=photo,
            who=self.who,
            pose=pose,
            position=position,
            visit=visit,
            # The simulated camera's marks lie at joints: it has no skin over them.
            usual="joint" if photo.truth is not None else self.usual,
            beside=self._beside(trial, here),
            cards=cards,
            lending=(lambda: None) if told else partial(self._lent, trial, here, pose),
            segments_cm=lengths | self.who.segments_cm,
        )

    def _lent(self, trial: Trial, here: Shots, pose: Pose) -> Lent | None:
        """What other shots of a trial's place tell of the camera: by cards, else by hand."""
        own, position = here.photos[trial.photo_id], here.positions[trial.position_id or 0]
        others = {
            t.id: t
            for t in reversed(here.trials)
            if t.position_id == trial.position_id and t.id != trial.id
        }
        for t in others.values():
            photo = here.photos[t.photo_id]
            found = corner_cards.sighting(photo, position, pose)
            same = (photo.width, photo.height) == (own.width, own.height)
            if same and found is not None and found.corners is not None:
                return Lent(t, found.corners, sds=found.corner_sds_px, by_cards=True)
        marked = [t for t in position.others_of(trial.id) if t in others]
        if not marked:
            return None
        corners, shots = position.pooled(trial.id, None)
        return Lent(others[marked[0]], corners or {}, shots)

    def _beside(self, trial: Trial, here: Shots) -> tuple[Surroundings, Marking] | None:
        """The other photograph of a trial's hold, where it is there, marked and fits still."""
        other = next((t for t in fitting(trial, here.trials) if t.id == trial.held_with), None)
        if other is None or other.id not in here.newest:
            return None
        # Its own second photograph is not asked for: one hold has two.
        alone = _by_itself(other)
        return self.of(alone), here.newest[other.id]


def _by_itself(trial: Trial) -> Trial:
    return Trial(**{**trial.__dict__, "held_with": None})


def fitting(trial: Trial, others: list[Trial]) -> list[Trial]:
    """Of other shots of an assessment those that may show the same hold from elsewhere."""
    poses = {p.id for p in catalogue().beside(trial.pose)}
    return [
        t
        for t in others
        if t.pose in poses and t.id != trial.id and t.read_from is None and not t.deleted
        and (t.side == trial.side or "both" in (t.side, trial.side)) and t.mode == trial.mode
    ]  # fmt: skip


def surroundings(work: Work, trial: Trial) -> Surroundings:
    """What is kept around one of the coach's trials; KeyError where its pose is gone."""
    return Around(work, trial.practitioner_id).of(trial)
