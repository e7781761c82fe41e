"""Whom which drill harms: tables written from what a physiotherapist would say, not from the data.

Each row names drills that a caution must close, and some that it must leave: a caution that closes
everything is obeyed by no one.
"""

import random
import unittest
from unittest import mock

from dachi.core.assessing.permission import shot_refused
from dachi.core.catalogue.cautions import Answer, brought_by, build_cautions
from dachi.core.catalogue.demands import NAMES, Level, read_demands
from dachi.core.catalogue.hurts import HARMFUL, KINDS, PLACES, Hurt, hurts_of
from dachi.core.catalogue.problems import CatalogueError
from dachi.core.practising.allowed import barred
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import NoPlan, Person
from dachi.core.words import SAID, PainKind, Place
from dachi.data import (
    FOLDER,
    catalogue,
    cautions,
    demands_of_pose,
    drills,
    props,
    screening_questions,
)
from tests import slow
from tools.demands import OUT, table

BY_ID = {d.id: d for d in drills()}
PIGEONS = {"pigeon-press", "pigeon-upright", "pigeon-folded", "goal-pigeon"}
SQUATS = {"squat-shift", "squat-forearm", "squat-supported", "goal-deep-squat"}
SPLITS = {"split-draw", "split-lift-out", "goal-front-split", "goal-off-centre-split"}
LOTUS = {"quarter-lotus-fold", "thigh-fold", "goal-half-lotus", "goal-full-lotus"}
KNEELING = {
    "lunge-half-split",
    "kneeling-circle",
    "half-split-press",
    "half-split-fold",
    "low-lunge-reach",
    "lunge-lean-back",
    "lizard",
}
NINETY = {"ninety-lift-back", "ninety-lift-front", "ninety-rise", "ninety-switch"}
FOLDS = {
    "wide-fold-circle",
    "wide-seated-fold",
    "pyramid",
    "seated-fold-blanket",
    "pigeon-folded",
    "roll-over-legs",
    "wide-seat-circle",
}
RAISES = {"raise-up", "raise-block", "raise-folded", "raise-traction", "raise-loop"}
GENTLE = {"lying-arrival", "knees-sway", "heel-toe-walk", "low-bridge"}

#: Answers, pains, drills that must be closed, drills that must be left.
TABLE = [
    ({"hip_replacement": Answer()}, (), PIGEONS | SQUATS | SPLITS | LOTUS | NINETY | RAISES | KNEELING
     | {"wide-knee-rest", "knees-hug", "raise-across", "raise-out", "butterfly-reclined", "happy-baby", "figure-four",
        "knees-sway", "heel-toe-walk", "adductor-lift", "leg-swing", "standing-knee-open"}, {"lying-arrival", "low-bridge"}),
    # Cleared, nothing allowed by name: still no end of range.
    ({"hip_replacement": Answer(True)}, (), {"raise-across", "knees-hug", "raise-up", "goal-straddle"}, GENTLE),
    ({"hip_replacement": Answer(True, ("flexion",))}, (),
     {"raise-across", "knees-hug", "hang-across", "cross-reach", "goal-off-centre-split", "raise-out", "hang-straight"}, GENTLE | {"raise-up"}),
    ({"hip_replacement": Answer(True, ("flexion", "abduction"))}, (), {"raise-across", "knees-hug", "cross-reach"}, {"raise-up", "raise-out"}),
    ({"labrum": Answer(True)}, (), PIGEONS | SQUATS | LOTUS | FOLDS | {"figure-four", "lying-twist", "ninety-lift-back", "ninety-rise", "raise-across", "cross-reach", "knees-hug", "lizard"}, GENTLE | {"raise-up"}),
    ({}, (Hurt("hip_front", "pinch"),), PIGEONS | SQUATS | LOTUS | {"ninety-lift-back", "raise-across", "cross-reach", "lizard"}, GENTLE | {"raise-up", "low-lunge-reach"}),
    ({}, (Hurt("knee_front"),), KNEELING | SQUATS | {"kneeling-thigh", "wide-knee-rest", "side-heel-seat", "step-through"}, GENTLE | {"raise-up"}),
    ({}, (Hurt("knee_inner"),), PIGEONS | LOTUS | NINETY | {"mermaid-twist", "cradle-rock", "figure-four", "half-pigeon-seat", "goal-crossed-seat", "butterfly-upright", "goal-butterfly"}, {"raise-up", "low-bridge"}),
    ({}, (Hurt("knee_outer", "sharp"),), PIGEONS | LOTUS | NINETY | {"mermaid-twist", "kneeling-thigh", "side-heel-seat"}, {"raise-up", "low-bridge"}),
    ({}, (Hurt("knee_back"),), RAISES | {"pyramid", "half-split-fold", "seated-fold-blanket", "goal-front-split", "goal-straddle", "squat-supported", "side-heel-seat"}, GENTLE),
    # A knee of which nobody said the part.
    ({}, [Hurt(h.place) for h in hurts_of(Place.LEFT_KNEE)], PIGEONS | SQUATS | LOTUS | NINETY | KNEELING | {"butterfly-upright", "mermaid-twist", "raise-out", "wall-straddle", "wide-seat-circle"}, GENTLE),
    ({}, (Hurt("thigh_back"),), SPLITS | RAISES | {"leg-swing", "wall-straddle", "half-split-press", "half-split-fold", "pyramid", "lunge-half-split", "wide-seated-fold", "goal-straddle", "goal-standing-raise"}, GENTLE | {"bridge-squeeze", "butterfly-upright"}),
    ({}, (Hurt("sit_bone", "sharp"),), SPLITS | RAISES | {"leg-swing", "wall-straddle", "half-split-press", "half-split-fold", "pyramid", "seated-fold-blanket"}, {"bridge-squeeze"}),
    ({}, (Hurt("elsewhere", "tingling"),), FOLDS | RAISES | {"raise-across", "butterfly-half", "goal-front-split", "lying-twist"}, GENTLE),
    ({"disc": Answer(True)}, (), SQUATS - {"squat-shift", "squat-forearm"} | FOLDS | {"leg-swing", "strap-circles", "lift-straight", "raise-out", "wall-straddle", "half-split-press", "knees-hug"} | RAISES | {"raise-across", "butterfly-half", "half-split-fold", "lying-twist", "cross-reach"}, GENTLE | {"hang-straight"}),
    ({}, (Hurt("low_back"),), FOLDS | {"hang-straight", "hang-out", "low-lunge-reach", "kneeling-thigh", "lift-straight", "goal-front-split"}, GENTLE),
    ({"osteoporosis": Answer(True)}, (), FOLDS | {"knees-hug", "happy-baby", "hang-across", "raise-across", "leg-swing", "standing-knee-open", "mermaid-twist", "lying-twist", "cross-reach", "half-split-fold", "quarter-lotus-fold"}, GENTLE | {"raise-up"}),
    ({"pregnancy": Answer(True)}, (), {"flat-rest", "knees-up-rest", "wide-seated-fold", "pigeon-folded", "mermaid-twist", "lying-twist", "goal-straddle", "goal-front-split", "wide-knee-rest", "split-draw", "side-lunge", "raise-up"},
     {"left-side-rest", "knees-sway", "side-leg-lift", "low-bridge"}),
    ({"pregnancy": Answer()}, (), SPLITS | RAISES | {"flat-rest", "butterfly-upright", "squat-forearm"}, {"left-side-rest", "side-leg-lift"}),
    ({"surgery": Answer()}, (), SPLITS | RAISES | PIGEONS | SQUATS | LOTUS, GENTLE),
    ({"blood_thinning": Answer()}, (), RAISES | {"raise-out", "raise-across"}, GENTLE | {"low-lunge-reach"}),
    ({}, (Hurt("groin"),), {"adductor-lift", "standing-knee-open", "happy-baby", "bridge-squeeze", "goal-straddle", "wide-seated-fold", "side-lunge", "wall-straddle", "butterfly-reclined", "raise-out", "squat-forearm"}, GENTLE | {"raise-up"}),
    ({}, (Hurt("ankle"),), {"squat-shift", "goal-deep-squat", "kneeling-thigh", "pyramid", "wide-knee-rest"}, GENTLE),
    ({}, (Hurt("thigh_front"),), {"kneeling-thigh", "side-heel-seat", "low-lunge-reach", "goal-front-split", "hang-straight"}, GENTLE | {"raise-up"}),
]  # fmt: skip


def person(answers, hurts, **more) -> Person:
    found = brought_by(
        cautions(), answers, hurts, age=(0, 15) if more.pop("young", False) else (40, 41)
    )
    return Person(level=3, props=frozenset(p.id for p in props()), cautions=found, **more)


class WhomItHarms(unittest.TestCase):
    def test_table(self) -> None:
        for answers, hurts, closed, left in TABLE:
            someone = person(answers, hurts)
            with self.subTest(answers=answers, hurts=hurts):
                self.assertEqual({n for n in closed if barred(BY_ID[n], someone) is None}, set())
                self.assertEqual(
                    {n: barred(BY_ID[n], someone) for n in left if barred(BY_ID[n], someone)}, {}
                )

    def test_a_strong_stretch_closes_nothing_but_in_a_knee(self) -> None:
        for place in PLACES:
            found = brought_by(cautions(), {}, (Hurt(place, "stretch"),))
            self.assertEqual(bool(found), place.startswith("knee"), place)

    def test_every_place_and_kind_is_heard(self) -> None:
        """Any pain but a stretch closes something, wherever it is; elsewhere tingling does."""
        for place in PLACES:
            for kind in KINDS:
                found = brought_by(cautions(), {}, (Hurt(place, kind),))
                harmful = kind in HARMFUL and (place != "elsewhere" or kind != "ache")
                if harmful:
                    self.assertTrue(found, (place, kind))
                if kind == "tingling":
                    self.assertIn("tingling", [c.id for c in found])

    def test_every_question_brings_something(self) -> None:
        for q in screening_questions():
            for cleared in (False, True):
                found = brought_by(cautions(), {q.id: Answer(cleared)})
                # A tear that was cleared is no tear any more.
                self.assertEqual(bool(found), not cleared or q.id != "muscle_tear", q.id)

    def test_age(self) -> None:
        """Nobody who may be under sixteen is brought to the end of passive range at home."""
        someone = person({}, (), young=True)
        self.assertEqual(
            {d.id for d in drills() if d.passive_end and barred(d, someone) is None}, set()
        )
        self.assertIsNone(barred(BY_ID["butterfly-upright"], someone))

    def test_what_a_pointed_place_closes(self) -> None:
        knee = {"knee_inner", "knee_outer", "knee_front", "knee_back"}
        for place, kind, found in (
            (Place.LEFT_KNEE, PainKind.DULL, knee), (Place.LEFT_KNEE_INNER, PainKind.KNEE, {"knee_inner"}),
            (Place.RIGHT_KNEE_FRONT, PainKind.KNEE, {"knee_front"}), (Place.LEFT_KNEE_OUTER, PainKind.DULL, {"knee_outer"}),
            (Place.LEFT_KNEE_BACK, PainKind.KNEE, {"knee_back"}), (Place.LEFT_THIGH_BACK, PainKind.SHARP, {"thigh_back"}),
            (Place.HIP_BACK, PainKind.DULL, {"hip_back"}), (Place.RIGHT_HIP, PainKind.PINCH, {"hip_front"}),
            (Place.HIP_FRONT, PainKind.PINCH, {"hip_front"}), (Place.THIGH_FRONT, PainKind.DULL, {"thigh_front"}),
            (Place.GROIN, PainKind.NUMB, {"groin"}), (Place.ANKLE_FOOT, PainKind.DULL, {"ankle", "foot"}),
            (Place.ELSEWHERE, PainKind.NUMB, {"elsewhere"}), (Place.LOW_BACK, PainKind.DIZZY, {"elsewhere"}),
            (Place.SIT_BONE, PainKind.SHARP, {"sit_bone"}), (Place.WRIST, PainKind.DULL, {"wrist"}),
        ):  # fmt: skip
            self.assertEqual({h.place for h in hurts_of(place, kind)}, found, place)
        self.assertEqual({h.kind for h in hurts_of(Place.GROIN, PainKind.NUMB)}, {"tingling"})
        # Whatever is pointed at closes something, and its words are nobody else's.
        self.assertEqual({p for p in Place if not hurts_of(p)}, set())
        self.assertEqual(len({p.said for p in Place}), len(Place))

    def test_wording_decides_nothing(self) -> None:
        """Every place in other words: what is closed stays closed."""
        before = {p: hurts_of(p) for p in Place}
        with mock.patch.dict(SAID, {p: f"zone {n}" for n, p in enumerate(Place)}):
            self.assertEqual({p: hurts_of(p) for p in Place}, before)


class Weeks(unittest.TestCase):
    @slow("weeks for every caution")
    def test_nothing_slips_through_the_planner(self) -> None:
        """Random people with answers, pains and age: no planned drill is one that is closed."""
        rng = random.Random(14)
        planned = 0
        for _ in range(60):
            answers = {
                q.id: Answer(
                    rng.random() < 0.5, tuple(rng.sample(["flexion", "abduction", "extension"], 1))
                )
                for q in screening_questions()
                if rng.random() < 0.15 and q.id != "fever"
            }
            hurts = [Hurt(rng.choice(PLACES), rng.choice(KINDS)) for _ in range(rng.randint(0, 2))]
            someone = person(
                answers, hurts, young=rng.random() < 0.2, cleared=rng.random() < 0.7,
                minutes=rng.choice([10, 20, 30]), days=(0, 3),
            )  # fmt: skip
            try:
                week = plan(drills(), someone)
            except NoPlan:
                continue
            planned += 1
            for item in (i for s in week.sessions for i in s.items):
                self.assertIsNone(barred(item.drill, someone), (item.drill.id, answers, hurts))
        self.assertGreater(planned, 50)


class Shots(unittest.TestCase):
    def refused(self, pose: str, answers, hurts=(), *, passive: bool = True) -> bool:
        found = brought_by(cautions(), answers, hurts)
        return shot_refused(demands_of_pose(pose), found, passive=passive) is not None

    def test_table(self) -> None:
        for pose, answers, hurts, passive, closed in (
            ("pigeon", {}, hurts_of(Place.LEFT_KNEE), True, True), ("pigeon", {}, hurts_of(Place.LEFT_KNEE), False, True),
            ("supine-leg-raise", {}, hurts_of(Place.LEFT_KNEE), True, True),
            ("supine-leg-raise", {}, (Hurt("knee_front"),), True, False),
            ("supine-leg-raise", {}, (Hurt("thigh_back"),), True, True),
            ("supine-leg-raise", {}, (Hurt("thigh_back"),), False, False),
            ("front-split", {}, (Hurt("thigh_back"),), False, True),
            ("low-lunge", {}, (Hurt("knee_front"),), True, True),
            ("butterfly", {}, (Hurt("thigh_back"),), True, False),
            ("leg-raise-across", {"hip_replacement": Answer(True, ("adduction", "flexion"))}, (), True, True),
            ("supine-leg-raise", {"hip_replacement": Answer(True, ("flexion",))}, (), True, False),
            ("forward-fold", {"osteoporosis": Answer()}, (), True, True),
            ("deep-squat", {"labrum": Answer()}, (), False, True),
        ):  # fmt: skip
            with self.subTest(pose=pose, answers=answers, hurts=hurts, passive=passive):
                self.assertEqual(self.refused(pose, answers, hurts, passive=passive), closed)


class TheTable(unittest.TestCase):
    def setUp(self) -> None:
        self.text = (FOLDER / "demands.csv").read_text("utf-8")
        self.ids = [d.id for d in drills()]
        self.poses = [p.id for p in catalogue().poses]

    def test_a_missing_answer_is_an_error(self) -> None:
        lines = self.text.splitlines()
        row = lines[1].split(",")
        for changed, words in (
            (lines[:-1], "missing"), ([*lines, lines[1]], "twice"), (["what,knee", *lines[1:]], "vocabulary"),
            ([lines[0], ",".join(row[:-1]), *lines[2:]], "answers are asked for"),
            ([lines[0], ",".join([*row[:-1], "x"]), *lines[2:]], "ballistic is 'x'"),
            ([lines[0], ",".join([row[0], "e", *row[2:]]), *lines[2:]], "flex_bent is 'e'"),
            ([*lines, ",".join(["flying", *row[1:]])], "there is no flying"), ([], "vocabulary"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CatalogueError, words):
                read_demands("\n".join(changed), self.ids, self.poses)

    def test_what_is_lengthened_is_brought_to_its_end(self) -> None:
        """The catalogue's own words against the table: a hold that lengthens asks for its end."""
        asked = {
            "hamstrings": ("ham_end",), "hip_flexors": ("ext",), "adductors": ("groin", "abd", "ham_end"),
            "quadriceps": ("knee_end", "ext"), "calves": ("ankle_pulled",),
            "outer_hip": ("er", "add", "ir", "pinch"), "abductors": ("add",),
        }  # fmt: skip
        for d in drills():
            if d.phase not in ("hold", "goal"):
                continue
            for tissue in d.lengthens:
                if tissue in asked:
                    most = max(d.demands.most(n) for n in asked[tissue])
                    self.assertGreaterEqual(most, Level.END, (d.id, tissue))

    def test_the_review_in_docs_is_the_table(self) -> None:
        self.assertEqual(OUT.read_text("utf-8"), table(), "python -m tools.demands")

    def test_mistakes_in_cautions_are_named(self) -> None:
        good = {"id": "x", "name": "X", "words": "w"}
        for change, words in (
            ({"blocks": {"elbow": "end"}}, "elbow"), ({"blocks": {"er": "much"}}, "much"),
            ({"places": ["elbow"]}, "elbow"), ({"kinds": ["odd"]}, "odd"), ({"when": "later"}, "later"),
        ):  # fmt: skip
            with self.assertRaisesRegex(CatalogueError, words):
                build_cautions([good | change])
        (ends,) = build_cautions([good | {"ends": True, "blocks": {"er": "some"}}])
        self.assertEqual(ends.blocks["er"], Level.SOME)
        self.assertEqual(ends.blocks["ext"], Level.END)
        self.assertLess(set(ends.blocks), set(NAMES))
