"""Who the demo's studio is made of: bodies, courses of their ranges, what went wrong when."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Build:
    """A body of the parametric model, each 0 to 1 (gender 0 is male), and the seed of its looks."""

    gender: float
    age: float
    muscle: float
    weight: float
    height: float
    looks: int


@dataclass(frozen=True)
class Course:
    """A measured range at the first and the last visit, degrees, and the trials a visit."""

    side: str
    mode: str
    first: float
    last: float
    trials: int = 1


@dataclass(frozen=True)
class Visit:
    """Days before the newest day, state, notes and the poses photographed (None: all)."""

    days_ago: int
    warmth: str = "warm"
    notes: str = ""
    only: tuple[str, ...] | None = None


@dataclass(frozen=True)
class MadeUpPerson:
    """One made-up practitioner with their photographed history."""

    name: str
    record: dict[str, Any]
    build: Build
    visits: tuple[Visit, ...]
    courses: dict[str, tuple[Course, ...]]
    #: Shots with something to say: (days ago, pose, side, mode, trial) -> what the body does.
    slips: dict[tuple[int, str, str, str, int], dict[str, float]]
    #: Goals: pose, measure, side, mode, target, days from now. Notes: days ago, kind, words.
    goals: tuple[tuple[str, str, str, str, float, int], ...] = ()
    notes: tuple[tuple[int, str, str], ...] = ()
    next_in_days: int | None = None
    #: How far days differ; what a visit is off its course by: (days ago, pose, side, mode) -> deg.
    day_sd: float = 0.0
    steps: dict[tuple[int, str, str, str], float] = field(default_factory=dict)
    #: What the screening was answered with, and who cleared it for what: (person, directions).
    screening: tuple[str, ...] = ()
    cleared: tuple[str, tuple[str, ...]] | None = None
    #: Pain at a visit: days ago -> place -> 0 to 10.
    pains: dict[int, dict[str, int]] = field(default_factory=dict)


RAISE, SPLIT, FLY, PIGEON = "supine-leg-raise", "front-split", "butterfly", "pigeon"
STRADDLE, LUNGE, HALF = "straddle", "low-lunge", "half-split"
ROTATION, SQUAT = "seated-rotation", "deep-squat"

PEOPLE = (
    MadeUpPerson(
        name="Runa",
        record={
            "birth_year": 1994,
            "notes": "Aerial silks, twice a week. Wants an even front split by spring.",
        },
        build=Build(0.95, 0.62, 0.55, 0.42, 0.45, 3),
        visits=(
            Visit(84, notes="First visit. Slept well."),
            Visit(70, only=(RAISE,)),
            Visit(56, notes="Hard bouldering session the day before."),
            Visit(42, "cold", "Came straight in from the cold, no warm-up.", (RAISE,)),
            Visit(28),
            Visit(14, only=(RAISE,)),
            Visit(1, notes="Says the left strap hold feels easier."),
        ),
        courses={
            RAISE: (
                Course("left", "active", 61, 68, 2),
                Course("left", "passive", 74, 88, 2),
                Course("right", "active", 68, 71, 2),
                Course("right", "passive", 83, 87, 2),
            ),
            FLY: (Course("both", "active", 17, 14), Course("both", "passive", 12, 8)),
            STRADDLE: (Course("both", "active", 98, 104), Course("both", "passive", 112, 119)),
            LUNGE: (Course("left", "passive", 31, 34), Course("right", "passive", 24, 26)),
            PIGEON: (
                Course("left", "passive", 38, 31),
                Course("right", "passive", 33, 30),
            ),
            SPLIT: (
                Course("left", "active", 138, 147),
                Course("left", "passive", 148, 161),
                Course("right", "active", 141, 144),
                Course("right", "passive", 154, 158),
            ),
        },
        slips={(28, RAISE, "left", "active", 1): {"rest_lift": 11.0}},
        goals=(
            (SPLIT, "leg_split", "left", "passive", 168.0, 120),
            (SPLIT, "leg_split", "right", "passive", 168.0, 120),
            (RAISE, "leg_line", "left", "passive", 92.0, 70),
        ),
        notes=(
            (49, "holiday", "Ten days at sea, no practice."),
            (35, "plan", "Lunge holds doubled on the right."),
        ),
        next_in_days=13,
    ),
    MadeUpPerson(
        name="Ilo",
        record={
            "birth_year": 1987,
            "notes": "Boulders four times a week. Stiff hips; wants to sit on the floor.",
        },
        build=Build(0.05, 0.68, 0.70, 0.52, 0.40, 63),
        visits=(
            Visit(66, notes="First visit. Stiff after a week of driving."),
            Visit(45),
            Visit(24, notes="Practised five days a week."),
            Visit(3, notes="Knees come down on their own now."),
        ),
        courses={
            RAISE: (
                Course("left", "active", 52, 57),
                Course("left", "passive", 63, 71),
                Course("right", "active", 54, 60),
                Course("right", "passive", 66, 74),
            ),
            FLY: (Course("both", "active", 25, 20, 2), Course("both", "passive", 22, 13, 2)),
            STRADDLE: (Course("both", "active", 82, 85), Course("both", "passive", 91, 99)),
            PIGEON: (
                Course("left", "passive", 56, 47),
                Course("right", "passive", 58, 55),
            ),
            SPLIT: (
                Course("left", "passive", 117, 126),
                Course("right", "passive", 120, 127),
            ),
        },
        slips={(24, SPLIT, "right", "passive", 1): {"knee_bend": 17.0}},
        goals=(
            (FLY, "thigh_rise", "left", "passive", 8.0, 60),
            (FLY, "thigh_rise", "right", "passive", 8.0, 60),
        ),
        notes=((52, "injury", "Tweaked the left knee on a heel hook; eased off for a week."),),
        next_in_days=1,
    ),
    # A drop for a reason, a plateau, a first sign, and a goal that one more look has to tell of.
    MadeUpPerson(
        name="Isk",
        record={
            "birth_year": 1990,
            "notes": "Trapeze. Pulled something at the back of the left thigh this week.",
        },
        build=Build(0.9, 0.64, 0.65, 0.45, 0.52, 77),
        visits=(
            Visit(100, notes="First visit."),
            Visit(79),
            Visit(58, notes="New shifts at work, less sleep."),
            Visit(37),
            Visit(16),
            Visit(2, notes="Felt it go on a drop three days ago."),
        ),
        courses={
            RAISE: (
                Course("left", "passive", 70, 78, 2),
                Course("right", "passive", 79, 79, 2),
            ),
            HALF: (Course("left", "passive", 58, 58, 2), Course("right", "passive", 61, 61, 2)),
            FLY: (Course("both", "passive", 21, 19),),
        },
        slips={},
        goals=((RAISE, "leg_line", "right", "passive", 78.0, 60),),
        notes=((5, "injury", "Pulled the back of the left thigh on a drop."),),
        next_in_days=12,
        day_sd=1.2,
        steps={
            (2, RAISE, "left", "passive"): -17.0,
            (2, HALF, "right", "passive"): 10.0,
        },
        pains={2: {"left_thigh_back": 5}},
    ),
    # Nearly at the split.
    MadeUpPerson(
        name="Fenna",
        record={"birth_year": 1999, "notes": "Hoop and contortion. Closing the last few degrees."},
        build=Build(0.97, 0.58, 0.5, 0.3, 0.44, 68),
        visits=(
            Visit(63, notes="First visit."),
            Visit(42),
            Visit(21),
            Visit(4, notes="Left foot forward feels close."),
        ),
        courses={
            RAISE: (Course("left", "passive", 110, 117), Course("right", "passive", 108, 112)),
            LUNGE: (Course("left", "passive", 42, 46), Course("right", "passive", 40, 44)),
            SPLIT: (
                Course("left", "active", 154, 164),
                Course("left", "passive", 165, 175),
                Course("right", "passive", 160, 168),
            ),
        },
        slips={},
        goals=(
            (SPLIT, "leg_split", "left", "passive", 178.0, 60),
            (SPLIT, "leg_split", "right", "passive", 178.0, 120),
        ),
        next_in_days=17,
    ),
    # The shape of the joint sets the limit: turned out as far as bones go, active like passive.
    MadeUpPerson(
        name="Corin",
        record={"birth_year": 1985, "notes": "Route setter. Knees have never gone down, they say."},
        build=Build(0.08, 0.74, 0.6, 0.62, 0.45, 97),
        visits=(
            Visit(75, notes="First visit."),
            Visit(50),
            Visit(25, notes="Practised faithfully."),
            Visit(6),
        ),
        courses={
            FLY: (Course("both", "active", 33, 32), Course("both", "passive", 30, 30)),
            ROTATION: (Course("left", "active", 23, 23), Course("right", "active", 25, 24)),
            SQUAT: (Course("both", "passive", 108, 111),),
        },
        slips={},
        goals=((FLY, "thigh_rise", "left", "passive", 15.0, 90),),
        next_in_days=20,
        day_sd=1.0,
    ),
    # A caution that shuts directions.
    MadeUpPerson(
        name="Halla",
        record={"birth_year": 1962, "notes": "Sea swimmer. New right hip two years ago."},
        build=Build(0.92, 0.92, 0.4, 0.6, 0.36, 44),
        visits=(
            Visit(61, notes="First visit; surgeon's letter seen."),
            Visit(31),
            Visit(3, notes="Puts on socks standing again."),
        ),
        courses={
            RAISE: (Course("left", "passive", 66, 73), Course("right", "passive", 61, 67)),
            FLY: (Course("both", "passive", 36, 31),),
        },
        slips={},
        goals=((RAISE, "leg_line", "right", "passive", 72.0, 80),),
        next_in_days=27,
        screening=("hip_replacement",),
        cleared=("the surgeon, in writing", ("flexion", "extension", "abduction")),
    ),
    # Seven weeks away, and what they cost.
    MadeUpPerson(
        name="Jory",
        record={"birth_year": 1992, "notes": "Deckhand; boulders between voyages."},
        build=Build(0.1, 0.64, 0.75, 0.48, 0.48, 67),
        visits=(
            Visit(112, notes="First visit."),
            Visit(91),
            Visit(70, notes="Last one before going to sea."),
            Visit(7, notes="Back from seven weeks at sea, no practice."),
        ),
        courses={
            RAISE: (Course("left", "passive", 76, 90), Course("right", "passive", 78, 91)),
            HALF: (Course("left", "passive", 70, 79), Course("right", "passive", 72, 80)),
            STRADDLE: (Course("both", "passive", 112, 126),),
        },
        slips={},
        goals=((RAISE, "leg_line", "left", "passive", 92.0, 90),),
        notes=((62, "holiday", "Seven weeks at sea."),),
        next_in_days=14,
        steps={
            (7, RAISE, "left", "passive"): -15.0, (7, RAISE, "right", "passive"): -14.0,
            (7, HALF, "left", "passive"): -10.0, (7, HALF, "right", "passive"): -9.0,
            (7, STRADDLE, "both", "passive"): -16.0,
        },
    ),
)  # fmt: skip


#: People who have not been measured yet, so that lists look like a studio's.
NEWCOMERS = ("Tavi", "Merel", "Oona")
