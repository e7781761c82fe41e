"""Drills, doses, gates, ladders, timelines and proposals, as tables of cases."""

import unittest
from dataclasses import replace

from dachi.core.catalogue.cautions import Answer, brought_by
from dachi.core.catalogue.drills import DIRECTIONS, PHASES, build_drills
from dachi.core.catalogue.hurts import Hurt
from dachi.core.catalogue.problems import CatalogueError
from dachi.core.judging.limiters import SessionReading
from dachi.core.practising.dose import dose
from dachi.core.practising.ladders import Facts, answer, locked, proven, stand
from dachi.core.practising.needs import SideRange, from_reserves, tighter
from dachi.core.practising.programme import Item
from dachi.core.practising.progression import (
    Adjustment,
    Course,
    Done,
    Logged,
    ProposalKind,
    Why,
    propose,
)
from dachi.core.practising.timeline import after_pain, direction_seconds, sitting_rung, steps
from dachi.core.words import PainKind, Place
from dachi.data import catalogue, cautions, drills, gates, ladders
from dachi.drawing.drills import drill_figures

BY_ID = {d.id: d for d in drills()}


class Catalogue(unittest.TestCase):
    def test_it_is_whole(self) -> None:
        self.assertGreaterEqual(len(drills()), 60)
        self.assertEqual({d.phase for d in drills()}, set(PHASES))
        for direction in DIRECTIONS:
            own = [d for d in drills() if direction in d.directions]
            self.assertTrue(
                {"hold", "strength"} <= {d.phase for d in own} or direction == "adduction",
                direction,
            )
        for d in drills():
            with self.subTest(d.id):
                self.assertTrue(d.cue and d.feel and d.not_feel and d.cheats)
                easier, seen = d.easier, {d.id}
                while easier is not None:
                    self.assertNotIn(easier, seen, "easier forms go round in a circle")
                    seen.add(easier)
                    easier = BY_ID[easier].easier

    def test_every_figure_is_drawn(self) -> None:
        for d in drills():
            with self.subTest(d.id):
                found = drill_figures(d, catalogue())
                self.assertEqual(len(found), 2 if d.figure.to or d.figure.to_pose else 1)
                for svg in found:
                    self.assertIn('<path class="g-', svg)
                    self.assertNotIn("nan", svg)
                if len(found) == 2:
                    self.assertNotEqual(*found)

    def test_mistakes_in_the_data_are_named(self) -> None:
        good = {
            "id": "x", "name": "X", "phase": "hold", "position": "lying", "sides": "both",
            "mode": "passive", "directions": ["flexion"], "seconds": [20, 30, 40], "cue": "c",
            "feel": "f", "not_feel": "n", "cheats": [], "figure": {"base": "supine"},
        }  # fmt: skip
        bases = {"supine": {"posture": "supine", "joints": {}}}
        self.assertEqual(len(build_drills([good], bases, catalogue(), ["mat"], [])), 1)
        for change, words in (
            ({"phase": "dance"}, "dance"),
            ({"seconds": [20]}, "three levels"),
            ({"reps": [1, 2, 3]}, "three levels"),
            ({"demands": {}}, "a table of their own"),
            ({"requires": ["jetpack"]}, "jetpack"),
            ({"gate": ["none"]}, "none"),
            ({"easier": "y"}, "no drill 'y'"),
            ({"figure": {"base": "cloud"}}, "cloud"),
            ({"surprise": 1}, "surprise"),
            ({"level": "two"}, "Expected `int`, got `str` - at `..level`"),
            ({"cheats": "leaning"}, "Expected `array`, got `str` - at `..cheats`"),
            ({"goal": "moonwalk"}, "moonwalk"),
            ({"figure": {"base": "supine", "joints": {"each.elbow": 4}}}, "no joint 'each.elbow'"),
            ({"figure": {"base": "supine", "colour": 1}}, "colour"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CatalogueError, words):
                build_drills([good | change], bases, catalogue(), ["mat"], [])
        with self.assertRaisesRegex(CatalogueError, "two drills are called"):
            build_drills([good, good], bases, catalogue(), ["mat"], [])


class Doses(unittest.TestCase):
    def test_table(self) -> None:
        for drill, level, minutes, more, side_s, total_work in (
            ("raise-up", 2, 20, {}, 60, 120),
            ("raise-up", 2, 20, {"tight": "left"}, 60, 140),
            ("raise-up", 2, 20, {"easy": True}, 60, 120),
            ("raise-up", 3, 20, {"longer": 1.25}, 95, 190),
            ("flat-rest", 1, 10, {}, 60, 60),
            ("flat-rest", 1, 20, {}, 120, 120),
            ("lift-straight", 1, 20, {}, 25, 50),
            ("lift-straight", 1, 20, {"tight": "right"}, 25, 60),
            ("butterfly-upright", 2, 20, {"tight": "left"}, 60, 60),
            ("goal-half-lotus", 2, 20, {}, 15, 30),
        ):
            with self.subTest(drill, **more):
                found = dose(BY_ID[drill], level, minutes, **more)
                self.assertEqual((found.side_s, found.work_s), (side_s, total_work))

    def test_what_grows_never_shrinks(self) -> None:
        for d in drills():
            works = [dose(d, level, 30).side_s for level in (1, 2, 3)]
            self.assertEqual(works, sorted(works), d.id)
            self.assertGreaterEqual(dose(d, 1, 30).side_s, 10)

    def test_circles_go_as_often_each_way(self) -> None:
        for d in drills():
            if d.both_ways:
                for longer in (1.0, 1.25):
                    self.assertEqual(dose(d, 2, 20, longer=longer).reps % 2, 0)

    def test_breaths(self) -> None:
        hold = dose(BY_ID["raise-up"], 2, 20)
        self.assertEqual([hold.breaths(s) for s in (6, 8, 30)], [10, 8, 3])


class Timelines(unittest.TestCase):
    def test_sides(self) -> None:
        d = BY_ID["raise-up"]
        found = steps(Item(d, dose(d, 2, 20, tight="right"), "right", ""))
        self.assertEqual(
            [(s.kind, s.side, s.seconds, s.extra) for s in found[1:]],
            [
                ("hold", "right", 30, False),
                ("ease", "right", 8, False),
                ("hold", "right", 30, False),
                ("change", "left", 6, False),
                ("hold", "left", 30, False),
                ("ease", "left", 8, False),
                ("hold", "left", 30, False),
                ("change", "right", 6, True),
                ("hold", "right", 20, True),
            ],
        )

    def test_pain(self) -> None:
        for kind, words in (
            ("knee", "knee"),
            ("sharp", "ends the session"),
            ("numb", "tingling"),
            ("pinch", "front of the hip"),
        ):
            said, then = after_pain(kind, BY_ID["pigeon-upright"], BY_ID)
            self.assertIn(words, said)
            self.assertIn("Stop here", then)
        said, then = after_pain("dull", BY_ID["pigeon-upright"], BY_ID)
        self.assertIn("90/90 fold", then)

    def test_sums(self) -> None:
        self.assertEqual(direction_seconds({"raise-up": 60, "gone": 5}, BY_ID), {"flexion": 60})
        for seconds, rung in ((5, -1), (10, 0), (59, 2), (60, 3), (5000, 7)):
            self.assertEqual(sitting_rung(seconds), rung)


def reading(
    pose: str, family: str, side: str, value: float, mode: str = "passive"
) -> SessionReading:
    return SessionReading(pose, family, family, side, mode, value)


class Gates(unittest.TestCase):
    def test_table(self) -> None:
        def raise_(side: str, v: float, mode: str = "passive") -> SessionReading:
            return reading("supine-leg-raise", "leg_line", side, v, mode)

        for gate, readings, facts, expected, words in (
            ("supine-80", [], Facts(), False, "not measured yet"),
            ("supine-80", [raise_("left", 84)], Facts(), False, "right not measured"),
            ("supine-80", [raise_("left", 84), raise_("right", 79)], Facts(), False, "79°"),
            ("supine-80", [raise_("left", 84), raise_("right", 80)], Facts(), True, "84°"),
            ("supine-80", [raise_("left", 90, "active"), raise_("right", 90, "active")], Facts(), False, "not measured"),
            ("rise-15", [reading("butterfly", "thigh_rise", "left", 9), reading("butterfly", "thigh_rise", "right", 14)], Facts(), True, "9°"),
            ("rise-15", [reading("butterfly", "thigh_rise", "left", 9), reading("butterfly", "thigh_rise", "right", 16)], Facts(), False, "16°"),
            ("figure-four-easy", [], Facts(easy={"figure-four": 1}), False, "1 of 2"),
            ("figure-four-easy", [], Facts(easy={"figure-four": 2}), False, "for 0 of 14 days"),
            ("figure-four-easy", [], Facts(easy={"figure-four": 2}, since={"figure-four": 13}), False, "for 13 of 14 days"),
            ("figure-four-easy", [], Facts(easy={"figure-four": 2}, since={"figure-four": 14}), True, "2 of 2"),
            ("figure-four-easy", [], Facts(easy={"figure-four": 2}, since={"figure-four": 40}, short=frozenset({"figure-four"})), False, "less than its dose"),
            ("figure-four-easy", [], Facts(opened={"figure-four-easy": "seen in class"}), True, "opened by the coach: seen in class"),
            ("supine-80", [raise_("left", 84), raise_("right", 84)], Facts(shut={"supine-80": "not this year"}), False, "shut by the coach"),
            ("split-prop-10", [], Facts(), False, "no height"),
            ("split-prop-10", [], Facts(prop_cm={"goal-front-split": 9}), True, "9 cm"),
            ("knees-quiet", [], Facts(), True, "no knee pain"),
            ("knees-quiet", [], Facts(pain_days={Place.LEFT_KNEE: 3}), False, "3 days ago"),
            ("knees-quiet", [], Facts(pain_days={Place.LEFT_KNEE: 40}), True, "40 days"),
            ("knees-quiet", [], Facts(pain_days={Place.LOW_BACK: 1}), True, "no knee pain"),
        ):  # fmt: skip
            with self.subTest(gate, words=words):
                found = answer(gates()[gate], readings, facts, catalogue())
                self.assertEqual(found.open, expected)
                self.assertIn(words, found.because)

    def test_a_knee_sends_the_lotus_back_a_rung(self) -> None:
        ladder = next(x for x in ladders() if x.id == "lotus")
        known = [reading("butterfly", "thigh_rise", s, 8) for s in ("left", "right")]
        done = {"goal-crossed-seat": 3, "goal-half-lotus": 2}
        quiet = Facts(easy=done, since=dict.fromkeys(done, 30.0))
        high = stand(ladder, gates(), known, quiet, catalogue())
        self.assertEqual(high.at, len(ladder.rungs) - 1)
        hurt = Facts(quiet.easy, {}, {Place.RIGHT_KNEE: 2}, since=quiet.since)
        low = stand(ladder, gates(), known, hurt, catalogue())
        self.assertEqual(low.at, 0)
        self.assertIn("no knee pain logged for four weeks", low.next_step)

    def test_a_measured_split_proves_the_rungs_below_it(self) -> None:
        """162° in the photograph is not “on rung 2 because no half split was photographed”."""
        split = reading("front-split", "leg_split", "left", 162)
        short = [reading("low-lunge", "hip_extension", s, 4) for s in ("left", "right")]
        found = proven(ladders(), gates(), [split, *short], Facts(), catalogue())
        self.assertEqual(set(found), {"supine-80", "half-split-70", "lunge-10"})
        self.assertIn("162°", found["half-split-70"])
        self.assertEqual(proven(ladders(), gates(), [reading("front-split", "leg_split", "left", 140)], Facts(), catalogue()), {})  # fmt: skip
        # Control is not proven by length, nor a quiet knee by anything.
        active = reading("front-split", "leg_split", "left", 179)
        self.assertNotIn("split-control", proven(ladders(), gates(), [replace(active, mode="active")], Facts(), catalogue()))  # fmt: skip
        far = proven(ladders(), gates(), [active], Facts(), catalogue())
        self.assertNotIn("supine-active-60", far)
        self.assertIn("split-150", far)
        shin = [reading("pigeon", "shin_angle", s, 20) for s in ("left", "right")]
        pigeon = proven(ladders(), gates(), shin, Facts(), catalogue())
        self.assertEqual(set(pigeon), {"figure-four-easy", "ninety-easy"})
        ladder = next(x for x in ladders() if x.id == "front-split")
        raised = [reading("supine-leg-raise", "leg_line", s, 70, "active") for s in ("left", "right")]  # fmt: skip
        at = stand(ladder, gates(), [split, *short, *raised], Facts(proven=found), catalogue())
        self.assertEqual(ladder.rungs[at.at].name, "Supported split, high props")
        coach = Facts(proven=found, shut={"supine-80": "not this year"})
        self.assertEqual(stand(ladder, gates(), [split], coach, catalogue()).at, 0)

    def test_a_supported_split_waits_for_no_rung(self) -> None:
        waiting = locked(ladders(), gates(), [], Facts(), catalogue())
        self.assertNotIn("goal-front-split", waiting)
        self.assertIn("split-lift-out", waiting)

    def test_rungs_ask_for_no_less_than_the_ones_below(self) -> None:
        for ladder in ladders():
            for rung in ladder.rungs:
                for name in rung.drills:
                    self.assertIn(name, BY_ID)


class WhatTheWeekIsFor(unittest.TestCase):
    def test_reserves_and_sides(self) -> None:
        wide = SideRange("supine-leg-raise", "flexion", "left", 50, 85, 6)
        self.assertEqual(
            [(n.kind, n.name) for n in from_reserves([wide])], [("strengthen", "hip_flexors")]
        )
        narrow = SideRange("straddle", "abduction", "both", 108, 110, 6)
        self.assertEqual(
            [(n.kind, n.name) for n in from_reserves([narrow])], [("direction", "abduction")]
        )
        right = SideRange("supine-leg-raise", "flexion", "right", 50, 102, 6)
        self.assertEqual(tighter([wide, right]), {"flexion": "left"})
        near = SideRange("supine-leg-raise", "flexion", "right", 50, 91, 6)
        self.assertEqual(tighter([wide, near]), {})
        unsure = SideRange("supine-leg-raise", "flexion", "right", 50, 96, 15)
        self.assertEqual(
            tighter([SideRange("supine-leg-raise", "flexion", "left", 50, 85, 15), unsure]), {}
        )

    def test_cautions(self) -> None:
        for yes, pains, expected in (
            ({}, (), []),
            ({"disc": Answer()}, (), ["uncleared", "disc"]),
            ({}, (Hurt("knee_inner"), Hurt("low_back")), ["knee_pain", "knee_inside", "low_back"]),
            (
                {"pregnancy": Answer()},
                (Hurt("groin"),),
                ["uncleared", "pregnancy", "pregnancy_later", "unhealed", "groin"],
            ),
            ({"pregnancy": Answer(cleared=True, weeks=20)}, (), ["pregnancy", "pregnancy_later"]),
            ({"pregnancy": Answer(cleared=True, weeks=15)}, (), ["pregnancy"]),
            # A strong stretch is no harm but in a knee; tingling is nerve whatever the place.
            ({}, (Hurt("thigh_back", "stretch"),), []),
            ({}, (Hurt("knee_back", "stretch"),), ["knee_pain", "knee_behind"]),
            ({}, (Hurt("elsewhere", "tingling"),), ["tingling"]),
            ({}, (Hurt("elsewhere", "ache"),), []),
            ({}, (Hurt("sit_bone", "tingling"),), ["hamstring", "sit_bone", "tingling"]),
        ):
            self.assertEqual([c.id for c in brought_by(cautions(), yes, pains)], expected)
        self.assertEqual([c.id for c in brought_by(cautions(), {}, age=(9, 9))], ["young"])


def session(ago: float, felt: str = "right", drill: str = "raise-up", **more: object) -> Logged:
    prop = more.pop("prop_cm", None)
    return Logged(ago, felt, (Done(drill, felt, prop),), **more)  # type: ignore[arg-type]


class Proposals(unittest.TestCase):
    def ask(self, log: list[Logged], **more: object) -> list[tuple[str, str]]:
        settings: dict[str, object] = {"planned_two_weeks": 0, "minutes": 20} | more
        return [(p.kind, p.subject) for p in propose(log, BY_ID, Course(**settings))]  # type: ignore[arg-type]

    def test_table(self) -> None:
        easy = [session(d, "easy") for d in (1, 3, 5)]
        low = [session(d, "easy", "goal-front-split", prop_cm=14.0) for d in (1, 3)]
        held = {"longer": {"goal-front-split": 1.25}}
        knee = session(
            1, drill="pigeon-upright", pains=(("pigeon-upright", Place.LEFT_KNEE, PainKind.KNEE),)
        )
        for log, more, expected in (
            ([], {}, []),
            ([session(1)], {}, [("hold", "plan")]),
            (easy, {}, [("advance", "raise-up")]),
            (easy[:2], {}, [("hold", "plan")]),
            (easy, {"longer": {"raise-up": 2.0}}, [("advance", "raise-up")]),
            (easy, {"longer": {"raise-up": 2.0}, "open_to": {"raise-up"}}, [("hold", "plan")]),
            (easy, {"open_to": set()}, [("hold", "plan")]),
            (low, held | {"gains": {"front-split": True}}, [("advance", "goal-front-split")]),
            (low, {"gains": {"front-split": True}}, [("hold", "plan")]),
            (low, held | {"gains": {"front-split": False}}, [("hold", "plan")]),
            (low, held | {"gains": {"front-split": True}, "firm": True}, [("hold", "plan")]),
            ([knee, *easy], {}, [("back", "pigeon-upright")]),
            ([knee, session(9, pains=(("raise-up", Place.LEFT_KNEE, PainKind.DULL),))], {}, [("back", "pigeon-upright"), ("refer", "left_knee")]),
            # One session, tapped twice: that is once in four weeks, no reason to send anybody on.
            ([session(1, drill="pigeon-upright", pains=(("pigeon-upright", Place.LEFT_KNEE, PainKind.KNEE),) * 2), *easy], {}, [("back", "pigeon-upright")]),
            # Three that hardly began are none of eight.
            ([session(d, counts=False) for d in (1, 4, 8, 11)], {"planned_two_weeks": 8}, [("ease", "minutes")]),
            ([session(1, soreness=5), *easy], {}, [("ease", "plan")]),
            ([session(1, "easy", soreness=3), *easy], {}, [("advance", "raise-up")]),
            ([session(d, hard=True) for d in (1, 8, 15)], {}, [("easy_week", "plan")]),
            ([session(d, hard=True) for d in (1, 8)], {}, [("hold", "plan")]),
            ([session(d, hard=True, soreness=5) for d in (1, 8, 15)], {}, [("ease", "plan")]),
            ([session(2)], {"planned_two_weeks": 8}, [("ease", "minutes")]),
            ([session(d) for d in (1, 4, 8, 11)], {"planned_two_weeks": 8}, [("hold", "plan")]),
        ):  # fmt: skip
            with self.subTest(expected, n=len(log)):
                self.assertEqual(self.ask(log, **more), expected)

    def test_load_grows_when_length_has(self) -> None:
        easy = [session(d, "easy") for d in (1, 3, 5)]
        for factor, key in ((1.0, "longer"), (1.95, "longer"), (2.0, "stepped")):
            (found,) = propose(easy, BY_ID, Course(0, 20, longer={"raise-up": factor}))
            plain = Adjustment()
            changed = [
                k for k in ("longer", "stepped") if getattr(found.change, k) != getattr(plain, k)
            ]
            self.assertEqual(changed, [key])
        self.assertEqual(found.change.stepped, {"raise-up": BY_ID["raise-up"].harder})

    def test_a_lower_support_starts_with_the_usual_hold(self) -> None:
        for at, firm, lower in ((14.0, False, 12.0), (3.0, False, 2.0), (14.0, True, 8.0)):
            low = [session(d, "easy", "goal-front-split", prop_cm=at) for d in (1, 3, 5)]
            held, gained = {"goal-front-split": 1.56}, {"front-split": True}
            (found,) = propose(low, BY_ID, Course(0, 20, gained, held, firm=firm))
            wanted = Adjustment(
                longer={"goal-front-split": 1.0}, prop_cm={"goal-front-split": lower}
            )
            self.assertEqual(found.change, wanted)

    def test_a_drill_that_is_hard_three_times_is_eased(self) -> None:
        def hard(drill: str, *felt: str, **course: object) -> list[tuple[Why, Adjustment]]:
            log = [session(1 + n, f, drill) for n, f in enumerate(felt)]
            found = propose(log, BY_ID, Course(planned_two_weeks=0, minutes=20.0, **course))  # type: ignore[arg-type]
            return [(p.why, p.change) for p in found if p.why in (Why.HARD, Why.HARD_NO_EASIER)]

        self.assertEqual(hard("pyramid", "hard", "hard", "hard"), [(Why.HARD, Adjustment(eased=("pyramid",)))])  # fmt: skip
        self.assertEqual(hard("pyramid", "hard", "hard", "right"), [])
        self.assertEqual(hard("raise-up", "hard", "hard", "hard"), [(Why.HARD_NO_EASIER, Adjustment(longer={"raise-up": 0.75}))])  # fmt: skip
        # What is closed is not offered; what is short already is not shortened for ever.
        self.assertEqual(hard("pyramid", "hard", "hard", "hard", safe=()), [(Why.HARD_NO_EASIER, Adjustment(longer={"pyramid": 0.75}))])  # fmt: skip
        self.assertEqual(hard("raise-up", "hard", "hard", "hard", longer={"raise-up": 0.6}), [])

    def test_what_serves_the_limiter_grows_first_and_one_of_a_tissue(self) -> None:
        """The pancake athlete's leg lift came before her own fold, by the alphabet."""
        names = ("adductor-lift", "wide-seated-fold", "lift-straight", "raise-up")
        log = [Logged(float(d), "easy", tuple(Done(n, "easy") for n in names)) for d in (1, 2, 3)]
        needed = {"wide-seated-fold": 3.0, "lift-straight": 1.8}
        found = propose(log, BY_ID, Course(planned_two_weeks=0, minutes=20.0, needed=needed))
        self.assertEqual([p.subject for p in found][:2], ["wide-seated-fold", "lift-straight"])
        self.assertNotIn("raise-up", [p.subject for p in found], "hamstrings grow in the fold")
        guarded = Course(planned_two_weeks=0, minutes=20.0, needed=needed, guarded=("wide-seated-fold",))  # fmt: skip
        self.assertNotIn("wide-seated-fold", [p.subject for p in propose(log, BY_ID, guarded)])

    def test_an_easy_week_left_lying_holds_growth_up_no_longer(self) -> None:
        log = [session(d, "easy", hard=True) for d in (1, 8, 15)]
        for left, grows in ((False, False), (True, True)):
            found = propose(log, BY_ID, Course(planned_two_weeks=0, minutes=20.0, easy_left=left))
            self.assertIn(ProposalKind.EASY_WEEK, [p.kind for p in found])
            self.assertEqual(ProposalKind.ADVANCE in [p.kind for p in found], grows)

    def test_a_support_goes_down_where_its_ladder_lets_it(self) -> None:
        low = [session(d, "easy", "goal-front-split", prop_cm=14.0) for d in (1, 3)]
        held, gained = {"goal-front-split": 1.56}, {"front-split": True}
        for waits, lower in (((), True), (("goal-front-split",), False)):
            found = propose(low, BY_ID, Course(0, 20, gained, held, waits=waits))
            self.assertEqual(any(p.why is Why.EASY_AT_HEIGHT for p in found), lower)

    def test_one_thing_of_a_tissue_grows_at_a_time(self) -> None:
        log = [
            Logged(
                d,
                "easy",
                (
                    Done("raise-up", "easy"),
                    Done("figure-four", "easy"),
                    Done("lift-straight", "easy"),
                ),
            )
            for d in (1, 2, 3)
        ]
        self.assertEqual(len(self.ask(log)), 3)
        more = [Logged(d, "easy", (Done("raise-up", "easy"), Done("raise-loop", "easy"))) for d in (1, 2, 3)]  # fmt: skip
        self.assertEqual(len(self.ask(more)), 1)
