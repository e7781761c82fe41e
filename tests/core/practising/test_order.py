"""The order of a session, as tables worked out by hand."""

import unittest

from dachi.core.practising.order import arranged
from dachi.data import drills, ladders
from tests.core.practising.made_up import drill

BY_ID = {d.id: d for d in drills()}
REST = drill("rest", "rest", sides="both")
ARRIVE = drill("arrive", "settle", sides="both")
LEG = drill("leg", lengthens=("hamstrings",))
THIGH = drill("thigh", lengthens=("hip_flexors",), level=2)
PRESS = drill("press", "strength", lengthens=("hamstrings",), reps=(5, 5, 5))
LIFT = drill("lift", "strength", strengthens=("hip_flexors",), reps=(5, 5, 5))
TURN = drill("turn", "strength", strengthens=("inward_rotators",), reps=(5, 5, 5))


class Order(unittest.TestCase):
    def test_schools(self) -> None:
        given = [REST, THIGH, TURN, LEG, LIFT, PRESS, ARRIVE]
        for school, wanted in (
            ("mixed", "arrive turn press leg lift thigh rest"),
            ("engaged", "arrive press leg lift thigh turn rest"),
            ("yielding", "arrive turn lift press leg thigh rest"),
        ):
            with self.subTest(school):
                self.assertEqual([d.id for d in arranged(given, school)], wanted.split())

    def test_engaged_holds_come_before_what_is_yielded_to(self) -> None:
        """Found: an active butterfly after three passive holds, with “engaged first”."""
        own = ["butterfly-reclined", "figure-four", "raise-up", "butterfly-upright"]
        found = [d.id for d in arranged([BY_ID[n] for n in own])]
        active = found.index("butterfly-upright")
        self.assertLess(active, found.index("butterfly-reclined"))
        self.assertEqual(found[active + 1], "butterfly-reclined")

    def test_the_lunge_is_the_last_hold_before_a_split(self) -> None:
        names = [
            "low-lunge-reach",
            "raise-block",
            "half-split-fold",
            "split-draw",
            "goal-front-split",
        ]
        for school in ("mixed", "engaged", "yielding"):
            found = [d.id for d in arranged([BY_ID[n] for n in names], school)]
            self.assertEqual(found[-2:], ["low-lunge-reach", "goal-front-split"], school)
        without = [d.id for d in arranged([BY_ID[n] for n in names[:-1]], "mixed")]
        self.assertNotEqual(without[-1], "low-lunge-reach")

    def test_preparations_keep_their_usual_order(self) -> None:
        for ladder in ladders():
            own = [BY_ID[n] for n in ladder.prepares]
            for phase in {d.phase for d in own}:
                usual = [d.id for d in own if d.phase == phase]
                given = sorted((d for d in own if d.phase == phase), key=lambda d: d.id)
                found = [d.id for d in arranged(given, "mixed", ladder.prepares)]
                if phase not in ("hold", "strength"):
                    self.assertEqual(found, usual)
                self.assertEqual(sorted(found), sorted(usual))

    def test_nothing_is_lost_or_doubled(self) -> None:
        for school in ("mixed", "engaged", "yielding"):
            found = arranged(drills(), school, ladders()[0].prepares)
            self.assertEqual(sorted(d.id for d in found), sorted(BY_ID))


if __name__ == "__main__":
    unittest.main()
