"""Which leg a caution closes, how strict its kind is, what conditions bring: tables from the page.

Each row is what a physiotherapist would say of a drill done on one side, not what the data says.
"""

import unittest

from dachi.core.assessing.permission import shot_refused
from dachi.core.catalogue.cautions import Answer, Caution, brought_by, stopped
from dachi.core.catalogue.hurts import KINDS, NO_LEG, PLACES, Hurt, Stage
from dachi.core.practising.allowed import closed_sides, only_side
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import NoPlan, Person
from dachi.data import cautions, demands_of_pose, drills, props, red_flags

BY_ID = {d.id: d for d in drills()}
BOTH, LEFT, RIGHT, NEITHER = {"left", "right"}, {"left"}, {"right"}, set()


def closed(answers: dict[str, Answer], hurts: tuple[Hurt, ...], drill: str, **more) -> set[str]:
    found = brought_by(cautions(), answers, hurts, **more)
    return {side for c in found for side in c.closes(BY_ID[drill])}


#: Where it hurts, the drill, and the sides on which it may not be done.
HURTS: list[tuple[Hurt, str, set[str]]] = [
    # A hamstring is pulled on the leg that is raised, or in front.
    (Hurt("thigh_back", "ache", "left"), "raise-up", LEFT), (Hurt("thigh_back", "ache", "right"), "raise-up", RIGHT),
    (Hurt("thigh_back"), "raise-up", BOTH), (Hurt("thigh_back", "ache", "left"), "half-split-fold", LEFT),
    (Hurt("thigh_back", "ache", "left"), "seated-fold-blanket", BOTH), (Hurt("thigh_back", "ache", "left"), "bridge-squeeze", NEITHER),
    # The front of the thigh is pulled on the leg behind, in a hang on the leg that hangs.
    (Hurt("thigh_front", "ache", "left"), "low-lunge-reach", RIGHT), (Hurt("thigh_front", "ache", "left"), "lizard", RIGHT),
    (Hurt("thigh_front", "ache", "left"), "hang-straight", LEFT), (Hurt("thigh_front", "ache", "left"), "side-heel-seat", LEFT),
    # In a split either leg is at an end, each at its own.
    (Hurt("thigh_back", "ache", "left"), "goal-front-split", LEFT), (Hurt("thigh_front", "ache", "left"), "goal-front-split", RIGHT),
    # Kneeling in a lunge is on the leg behind.
    (Hurt("knee_front", "ache", "left"), "low-lunge-reach", RIGHT), (Hurt("knee_front", "ache", "left"), "lunge-half-split", RIGHT),
    (Hurt("knee_inner", "ache", "left"), "raise-out", LEFT), (Hurt("knee_inner", "ache", "left"), "figure-four", LEFT),
    (Hurt("knee_inner", "ache", "left"), "wide-seated-fold", BOTH), (Hurt("knee_inner", "ache", "left"), "half-pigeon-seat", BOTH),
    # Lying on the side that hurts: the one under, whichever leg works.
    (Hurt("hip_side", "ache", "left"), "side-leg-lift", RIGHT), (Hurt("hip_side", "ache", "left"), "adductor-lift", LEFT),
    (Hurt("hip_side", "ache", "left"), "figure-four", LEFT), (Hurt("hip_side", "ache", "left"), "knees-dropped", LEFT),
    (Hurt("groin", "ache", "left"), "adductor-lift", LEFT), (Hurt("groin", "ache", "left"), "standing-knee-open", LEFT),
    (Hurt("groin", "ache", "left"), "squat-forearm", BOTH), (Hurt("groin", "ache", "left"), "happy-baby", BOTH),
    (Hurt("sit_bone", "ache", "left"), "leg-swing", BOTH), (Hurt("sit_bone", "ache", "left"), "lizard", LEFT),
    (Hurt("sit_bone", "ache", "left"), "cross-reach", LEFT), (Hurt("sit_bone", "ache", "left"), "wide-knee-rest", BOTH),
    (Hurt("sit_bone", "ache", "left"), "heel-dig", NEITHER),
    (Hurt("hip_front", "pinch", "right"), "lying-twist", RIGHT), (Hurt("hip_back", "ache", "right"), "lying-twist", RIGHT),
    (Hurt("hip_front", "ache", "left"), "seated-fold-blanket", BOTH), (Hurt("hip_front", "ache", "left"), "raise-up", NEITHER),
    # The spine and the whole body have no side.
    (Hurt("low_back", "ache"), "lying-twist", BOTH), (Hurt("low_back", "ache"), "mermaid-twist", BOTH),
    (Hurt("low_back", "sharp"), "lizard", BOTH), (Hurt("low_back", "sharp"), "cross-reach", BOTH), (Hurt("low_back", "sharp"), "knees-sway", BOTH),
    (Hurt("elsewhere", "tingling", "left"), "raise-up", LEFT), (Hurt("foot", "tingling", "left"), "raise-out", LEFT),
    (Hurt("foot", "tingling", "left"), "leg-swing", LEFT), (Hurt("foot", "tingling", "left"), "wall-straddle", BOTH),
    (Hurt("elsewhere", "dizzy"), "standing-knee-open", BOTH), (Hurt("elsewhere", "dizzy"), "dog-open-knee", BOTH),
    (Hurt("elsewhere", "dizzy"), "pyramid", BOTH), (Hurt("elsewhere", "dizzy"), "figure-four", NEITHER),
    (Hurt("elsewhere", "sharp"), "raise-up", BOTH), (Hurt("elsewhere", "ache"), "raise-up", NEITHER),
    (Hurt("shoulder"), "split-lift-out", BOTH), (Hurt("neck"), "dog-open-knee", BOTH), (Hurt("head"), "split-lift-out", BOTH),
    # A cramp, a leg asleep and a strong stretch close nothing.
    (Hurt("thigh_back", "cramp", "left"), "raise-up", NEITHER), (Hurt("foot", "asleep", "left"), "raise-up", NEITHER),
    (Hurt("thigh_back", "stretch", "left"), "raise-up", NEITHER), (Hurt("knee_inner", "stretch", "left"), "figure-four", LEFT),
    # What is sharp closes from the first pull on, an ache only its end.
    (Hurt("groin", "sharp", "left"), "lizard", LEFT), (Hurt("groin", "sharp", "left"), "both-knees-circle", BOTH), (Hurt("groin", "ache", "left"), "both-knees-circle", NEITHER),
    (Hurt("thigh_front", "sharp", "left"), "lunge-knee-tap", RIGHT), (Hurt("thigh_front", "ache", "left"), "lunge-knee-tap", NEITHER),
    (Hurt("thigh_back", "sharp", "left"), "strap-circles", LEFT), (Hurt("thigh_back", "ache", "left"), "strap-circles", NEITHER),
]  # fmt: skip

#: Answers, the drill, and the sides on which it may not be done.
CONDITIONS: list[tuple[dict[str, Answer], str, set[str]]] = [
    ({"hip_replacement": Answer(side="left")}, "raise-up", LEFT), ({"hip_replacement": Answer(side="left")}, "figure-four", BOTH),
    ({"hip_replacement": Answer(side="left")}, "low-lunge-reach", RIGHT), ({"hip_replacement": Answer(side="left")}, "side-leg-lift", NEITHER),
    ({"hip_replacement": Answer(side="left")}, "standing-knee-open", BOTH), ({"hip_replacement": Answer(side="left")}, "leg-swing", BOTH),
    ({"hip_replacement": Answer(side="left")}, "goal-deep-squat", BOTH), ({"hip_replacement": Answer(side="left")}, "low-bridge", NEITHER),
    ({"hip_replacement": Answer(True, ("flexion",), "left")}, "raise-up", NEITHER),
    ({"hip_replacement": Answer(True, ("flexion", "adduction"), "left")}, "raise-across", LEFT),
    ({"hip_replacement": Answer(True, ("extension", "external_rotation"), "left")}, "goal-off-centre-split", BOTH),
    ({"knee": Answer(True, part="meniscus", side="left")}, "figure-four", LEFT), ({"knee": Answer(True, part="ligament", side="left")}, "raise-out", LEFT),
    ({"knee": Answer(True, part="ligament", side="left")}, "internal-hold", LEFT), ({"knee": Answer(True, part="ligament", side="left")}, "knees-together-feet-wide", BOTH),
    ({"knee": Answer(True, part="kneecap", side="left")}, "low-lunge-reach", RIGHT), ({"knee": Answer(True, part="kneecap", side="left")}, "figure-four", NEITHER),
    ({"knee": Answer(True, part="back", side="left")}, "raise-up", LEFT), ({"knee": Answer(True, side="left")}, "mermaid-twist", BOTH),
    ({"labrum": Answer(True, side="left")}, "lying-twist", LEFT), ({"labrum": Answer(True, side="left")}, "pyramid", LEFT), ({"labrum": Answer(True, side="left")}, "raise-up", NEITHER),
    ({"labrum": Answer(side="left")}, "raise-up", LEFT), ({"arthritis": Answer(True, side="right")}, "raise-across", RIGHT),
    ({"arthritis": Answer(True)}, "goal-deep-squat", BOTH), ({"dysplasia": Answer(True, side="left")}, "low-lunge-reach", RIGHT),
    ({"disc": Answer(True)}, "squat-supported", BOTH), ({"disc": Answer(True)}, "leg-swing", BOTH), ({"disc": Answer(True)}, "hang-straight", NEITHER),
    ({"stenosis": Answer(True)}, "hang-straight", BOTH), ({"spondylolisthesis": Answer(True)}, "goal-front-split", BOTH), ({"spine_inflamed": Answer(True)}, "lunge-lean-back", BOTH),
    ({"muscle_tear": Answer(side="left", part="thigh_back", stage=1)}, "strap-circles", LEFT), ({"muscle_tear": Answer(side="left", part="thigh_back", stage=2)}, "strap-circles", NEITHER),
    ({"muscle_tear": Answer(side="left", part="thigh_back", stage=2)}, "raise-up", LEFT), ({"muscle_tear": Answer(side="left", part="thigh_back", stage=3)}, "raise-up", LEFT),
    ({"muscle_tear": Answer(True, side="left", part="thigh_back", stage=3)}, "raise-up", NEITHER), ({"muscle_tear": Answer(side="left", part="thigh_back")}, "heel-dig", NEITHER),
    ({"pubic": Answer()}, "lizard", BOTH), ({"pubic": Answer()}, "side-lunge", BOTH), ({"sacroiliac": Answer()}, "mermaid-twist", BOTH), ({"sacroiliac": Answer()}, "ninety-lift-back", BOTH),
    ({"pregnancy": Answer(True, weeks=12)}, "side-lying-open", NEITHER), ({"pregnancy": Answer(True, weeks=12)}, "flat-rest", NEITHER), ({"pregnancy": Answer(True, weeks=24)}, "flat-rest", BOTH),
    ({"pregnancy": Answer(True, weeks=24)}, "block-step-through", BOTH), ({"pregnancy": Answer(True, weeks=24)}, "step-through", BOTH), ({"pregnancy": Answer(True)}, "flat-rest", BOTH),
    ({"pregnancy": Answer(True, weeks=24)}, "raise-up", BOTH), ({"pregnancy": Answer(True, weeks=24)}, "split-draw", BOTH), ({"pregnancy": Answer(True, weeks=24)}, "side-lying-open", NEITHER),
    ({"after_birth": Answer(True, weeks=3)}, "low-bridge", NEITHER), ({"after_birth": Answer(True, weeks=3)}, "squat-forearm", BOTH), ({"after_birth": Answer(True, weeks=9)}, "raise-up", BOTH),
    ({"after_birth": Answer(True, weeks=20)}, "raise-up", NEITHER), ({"after_birth": Answer(True, weeks=20)}, "split-lift-out", BOTH),
    ({"over_mobile": Answer()}, "raise-up", BOTH), ({"over_mobile": Answer()}, "half-split-press", NEITHER),
    ({"falls": Answer()}, "leg-swing", BOTH), ({"falls": Answer()}, "standing-knee-open", BOTH), ({"falls": Answer()}, "standing-side-lift", NEITHER), ({"falls": Answer()}, "sit-to-stand", NEITHER),
    ({"blood_pressure": Answer()}, "dog-open-knee", BOTH), ({"blood_pressure": Answer()}, "split-draw", BOTH), ({"hernia": Answer()}, "squat-forearm", BOTH),
    ({"osteoporosis": Answer(True)}, "happy-baby", BOTH), ({"osteoporosis": Answer(True)}, "hang-across", BOTH), ({"steroids": Answer(True)}, "pyramid", BOTH),
    ({"joint_inflamed": Answer(True, part="knee", side="left")}, "side-heel-seat", LEFT), ({"joint_inflamed": Answer(True, part="hip", side="left")}, "figure-four", BOTH), ({"joint_inflamed": Answer(True, part="hip", side="left")}, "ankle-circle", NEITHER),
    ({"blood_thinning": Answer(True)}, "raise-up", BOTH), ({"tendon_medicine": Answer(True)}, "leg-swing", BOTH), ({"tendon_medicine": Answer(True)}, "half-split-press", BOTH),
    ({"growth": Answer()}, "kneeling-thigh", BOTH), ({"growth": Answer()}, "raise-up", BOTH), ({"knees_hyperextend": Answer()}, "pyramid", BOTH), ({"knees_hyperextend": Answer()}, "raise-up", NEITHER),
    ({"diabetes": Answer()}, "leg-swing", BOTH), ({"clot": Answer(True)}, "figure-four", NEITHER),
    # Two conditions: the union.
    ({"knee": Answer(True, part="kneecap", side="left"), "hip_replacement": Answer(True, (), "right")}, "low-lunge-reach", BOTH),
]  # fmt: skip


class Legs(unittest.TestCase):
    def test_where_it_hurts(self) -> None:
        for hurt, drill, sides in HURTS:
            with self.subTest(hurt, drill=drill):
                self.assertEqual(closed({}, (hurt,), drill), sides)

    def test_conditions(self) -> None:
        for answers, drill, sides in CONDITIONS:
            with self.subTest(answers, drill=drill):
                self.assertEqual(closed(answers, (), drill), sides)

    def test_a_leg_is_never_wider_than_both(self) -> None:
        """What one leg closes both legs close; both sides together are what an unsaid one closes."""
        for place in PLACES:
            for kind in KINDS:
                either = closed_by(place, kind, "")
                left, right = closed_by(place, kind, "left"), closed_by(place, kind, "right")
                for d in BY_ID:
                    self.assertEqual(
                        left[d] | right[d], either[d], (place, kind, d, left[d], right[d])
                    )
                    mirrored = {{"left": "right", "right": "left"}[s] for s in left[d]}
                    self.assertEqual(mirrored, right[d], (place, kind, d))
                    if place in NO_LEG and kind != "tingling":
                        self.assertEqual(left[d], either[d])

    def test_sharp_is_no_milder_than_an_ache(self) -> None:
        stricter = 0
        for place in PLACES:
            ache, sharp = closed_by(place, "ache", "left"), closed_by(place, "sharp", "left")
            for d in BY_ID:
                self.assertLessEqual(ache[d], sharp[d], (place, d))
                stricter += ache[d] < sharp[d]
        self.assertGreater(stricter, 60)

    def test_coming_back_is_half_the_dose_and_the_other_leg_whole(self) -> None:
        hurt = Hurt("thigh_back", "ache", "left", Stage.MIDDLE)
        found = brought_by(cautions(), {}, (hurt,))
        someone = Person(level=2, props=frozenset(p.id for p in props()), cautions=found)
        self.assertEqual(only_side(BY_ID["raise-up"], someone), "right")
        self.assertEqual(set(closed_sides(BY_ID["raise-up"], someone)), {"left"})
        from dachi.core.practising.worth import dose_for

        free = Person(level=2, props=someone.props)
        right, usual = (dose_for(BY_ID["raise-up"], p) for p in (someone, free))
        self.assertEqual((right.sides, right.side_s), (1, usual.side_s))
        back = Person(
            level=2, props=someone.props,
            cautions=brought_by(cautions(), {}, (Hurt("thigh_back", "ache", "left", Stage.END),)),
        )  # fmt: skip
        self.assertIsNone(only_side(BY_ID["raise-up"], back))
        self.assertEqual(dose_for(BY_ID["raise-up"], back).side_s, usual.side_s / 2)

    def test_shots_of_the_other_side(self) -> None:
        found = brought_by(cautions(), {}, (Hurt("thigh_back", "ache", "left"),))
        for pose, side, passive, shut in (
            ("supine-leg-raise", "left", True, True), ("supine-leg-raise", "right", True, False),
            ("supine-leg-raise", "left", False, False), ("front-split", "left", True, True),
            ("front-split", "right", True, False), ("low-lunge", "left", True, False),
            ("straddle", "both", True, True), ("supine-leg-raise", "", True, True),
        ):  # fmt: skip
            said = shot_refused(demands_of_pose(pose), found, passive=passive, side=side)
            self.assertEqual(said is not None, shut, (pose, side, passive))
        # A lunge is named by the leg behind, as a drill's front of the thigh is on it.
        front = brought_by(cautions(), {}, (Hurt("thigh_front", "ache", "left"),))
        for side, shut in (("left", True), ("right", False)):
            said = shot_refused(demands_of_pose("low-lunge"), front, passive=True, side=side)
            self.assertEqual(said is not None, shut)


def closed_by(place: str, kind: str, side: str) -> dict[str, set[str]]:
    found = brought_by(cautions(), {}, (Hurt(place, kind, side),))
    return {d.id: {s for c in found for s in c.closes(d)} for d in drills()}


class Entries(unittest.TestCase):
    """Every drill that is done on a side says at its entry which leg does what."""

    #: What a drill is about, and the leg that the demands load there: a word of that leg's part.
    WORDS = (
        ("raise-up", "left leg is raised"), ("hang-straight", "left leg hangs"), ("side-leg-lift", "left leg is on top"),
        ("adductor-lift", "lie on the left side"), ("standing-knee-open", "stand on the right leg"), ("half-split-fold", "left leg straight in front"),
        ("low-lunge-reach", "right leg behind"), ("figure-four", "left ankle lies on the right knee"), ("knees-dropped", "drop to the right side"),
        ("butterfly-half", "left leg is long"), ("ninety-lift-back", "left shin behind"), ("ninety-lift-front", "left shin in front"),
    )  # fmt: skip

    def test_words(self) -> None:
        for name, words in self.WORDS:
            self.assertIn(words, BY_ID[name].said_side("left"))

    def test_either_side_is_the_other_ones_mirror(self) -> None:
        swap = {"left": "right", "right": "left"}
        for d in drills():
            if d.sides != "each":
                continue
            left, right = d.said_side("left"), d.said_side("right")
            mirrored = " ".join(
                next((w.replace(a, swap[a]) for a in swap if w.strip(",;") == a), w)
                for w in left.split()
            )
            self.assertEqual(mirrored, right, d.id)
            self.assertNotEqual(left, right, d.id)


class Ages(unittest.TestCase):
    def test_by_age(self) -> None:
        for age, drill, sides in (
            ((15, 16), "raise-up", BOTH), ((16, 17), "raise-up", BOTH), ((16, 17), "butterfly-reclined", NEITHER),
            ((17, 18), "leg-swing", BOTH), ((18, 19), "leg-swing", NEITHER), ((9, 9), "butterfly-reclined", BOTH),
            ((16, 17), "half-split-press", BOTH), ((30, 31), "leg-swing", NEITHER), ((65, 66), "leg-swing", BOTH), ((63, 64), "leg-swing", NEITHER),
            ((74, 75), "standing-knee-open", NEITHER),
        ):  # fmt: skip
            self.assertEqual(closed({}, (), drill, age=age), sides, (age, drill))

    def test_long_squats(self) -> None:
        from dachi.core.practising.worth import dose_for

        for age, most in (((30, 31), 150.0), ((74, 75), 60.0)):
            found = brought_by(cautions(), {}, age=age)
            someone = Person(level=3, minutes=45, gentle=True, props=frozenset({"mat", "block"}), cautions=found)  # fmt: skip
            for name in ("squat-supported", "goal-deep-squat"):
                self.assertLessEqual(dose_for(BY_ID[name], someone).hold_s, most)


class Stops(unittest.TestCase):
    def test_every_sign_stops_every_plan(self) -> None:
        for flag in red_flags():
            found = stopped([flag.id], red_flags())
            someone = Person(cautions=found)
            with self.assertRaises(NoPlan) as raised:
                plan(drills(), someone)
            self.assertTrue(raised.exception.by_caution)
            self.assertIn(flag.words, str(raised.exception))
            for pose in ("butterfly", "standing-knee-raise"):
                said = shot_refused(demands_of_pose(pose), found, passive=False)
                self.assertIsNotNone(said)
        self.assertEqual(stopped(["gone"], red_flags()), ())

    def test_one_caution_of_each_leg(self) -> None:
        """Two pains of one leg bring one caution, the stricter; the same on both legs is one."""

        def of(*hurts: Hurt) -> list[Caution]:
            return [c for c in brought_by(cautions(), {}, hurts) if c.id == "groin"]

        ache, sharp = Hurt("groin", "ache", "left"), Hurt("groin", "sharp", "left")
        (one,) = of(ache, sharp)
        self.assertEqual(one.blocks, of(sharp)[0].blocks)
        (both,) = of(ache, Hurt("groin", "ache", "right"))
        self.assertEqual(both.side, "")
        self.assertEqual(
            {c.side for c in of(sharp, Hurt("groin", "ache", "right"))}, {"left", "right"}
        )
        self.assertEqual([c.side for c in of(Hurt("groin"), ache)], [""])
        self.assertEqual({c.side for c in of(Hurt("groin"), sharp)}, {"", "left"})
        (fresh,) = of(ache, Hurt("groin", "ache", "left", Stage.END))
        self.assertEqual(dict(fresh.half), {})


if __name__ == "__main__":
    unittest.main()
