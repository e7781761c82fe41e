"""Weeks that spare: easy ones, days of a visit, sides that hurt or lost range, pain at every door."""

import random
import unittest
from dataclasses import replace

from dachi.core.catalogue.cautions import brought_by
from dachi.core.catalogue.demands import Level
from dachi.core.catalogue.hurts import CLOSES, Hurt, Stage, hurts_of
from dachi.core.catalogue.poses import Catalogue
from dachi.core.judging.limiters import SessionReading
from dachi.core.practising.person import Known, person_of
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import NoPlan, Week
from dachi.core.practising.progression import Course, Done, Logged, ProposalKind, Why, propose
from dachi.core.words import PainKind, Place
from dachi.data import catalogue, cautions, chosen_schools, drills, rules
from tests.core.practising.test_programme import somebody

KNOWN = {d.id: d for d in drills()}
#: As the safety page has it: an easy week holds no more than so much of a usual one's end range.
EASY_MOST = 0.7


def end_seconds(week: Week, days: frozenset[int] = frozenset(range(7))) -> float:
    return sum(
        i.dose.work_s
        for s in week.sessions
        for i in s.items
        if s.weekday in days and i.drill.passive_end
    )


class EasyWeeks(unittest.TestCase):
    def test_end_of_range_and_time_are_cut(self) -> None:
        rng, held = random.Random(23), 0
        for n in range(14):
            person = replace(somebody(rng), easy_week=False, quiet_days=frozenset())
            try:
                usual = plan(drills(), person)
                easy = plan(drills(), replace(person, easy_week=True))
            except NoPlan:
                continue
            with self.subTest(n):
                self.assertLessEqual(end_seconds(easy), EASY_MOST * end_seconds(usual) + 1e-6)
                long = sum(i.dose.total_s for s in usual.sessions for i in s.items)
                short = sum(i.dose.total_s for s in easy.sessions for i in s.items)
                self.assertLess(short, long + (1 if person.minutes < 12 else 0))
            held += end_seconds(usual) > 0
        self.assertGreater(held, 5)

    def test_a_visit_and_its_eve_hold_nothing_at_the_end(self) -> None:
        rng, held = random.Random(5), 0.0
        for n in range(10):
            person = replace(somebody(rng), easy_week=False, quiet_days=frozenset())
            days = frozenset(rng.sample(sorted(set(person.days)), 1))
            try:
                free = plan(drills(), person)
                spared = plan(drills(), replace(person, quiet_days=days))
            except NoPlan:
                continue
            held += end_seconds(free, days)
            with self.subTest(n):
                self.assertEqual(end_seconds(spared, days), 0.0)
                strong = [i for s in spared.sessions if s.weekday in days for i in s.items if i.drill.strong]  # fmt: skip
                self.assertEqual(strong, [])
        self.assertGreater(held, 0.0)


def measured(left: float, right: float) -> tuple[SessionReading, ...]:
    """A leg raise of either side, passive."""
    return tuple(
        SessionReading("supine-leg-raise", "leg_line", "x", side, "passive", value, within=4.0, mdc=6.0)
        for side, value in (("left", left), ("right", right))
    )  # fmt: skip


def known(**more: object) -> Known:
    said = {
        "year": 2028, "minutes": 30.0, "days": (0, 2, 4), "styles": chosen_schools({}),
        "cleared": True, "birth_year": 1990, "props": frozenset(["mat", "wall", "block", "strap"]),
        "readings": measured(55.0, 78.0),
    }  # fmt: skip
    return Known(**(said | more))  # type: ignore[arg-type]


class ExtraRounds(unittest.TestCase):
    """A guarded leg is not a short leg."""

    def tight(self, **more: object) -> dict[str, str]:
        return dict(person_of(known(**more), rules()).tight)

    def setUp(self) -> None:
        self.assertIsInstance(catalogue(), Catalogue)
        self.usual = self.tight()
        self.assertEqual(set(self.usual.values()), {"left"})

    def test_by_where_it_hurts(self) -> None:
        for place in Place:
            for kind in PainKind:
                sore = hurts_of(place, kind)
                harm = kind not in (PainKind.CRAMP, PainKind.ASLEEP) and (
                    kind is not PainKind.STRETCH or place.is_knee
                )
                trunk = ("low_back", "wrist", "shoulder", "neck", "head", "elsewhere")
                leg = harm and any(h.place not in trunk for h in sore)
                other = bool(sore) and all(h.side == "right" for h in sore)
                with self.subTest(place, kind=kind):
                    wanted = self.usual if not leg or other else {}
                    self.assertEqual(self.tight(hurts=frozenset(sore)), wanted)

    def test_by_range_that_was_lost(self) -> None:
        for lost, kept in ((("flexion", "left"), False), (("flexion", "right"), True), (("extension", "left"), True)):  # fmt: skip
            with self.subTest(lost):
                self.assertEqual(bool(self.tight(lost=frozenset([lost]))), kept)

    def test_a_place_that_names_no_side_may_be_either(self) -> None:
        self.assertEqual(self.tight(hurts=frozenset([Hurt("groin")])), {})


class ComingBack(unittest.TestCase):
    def test_the_end_comes_last(self) -> None:
        """What is fresh closes all that coming back closes, which is ends and nothing else; at last
        nothing is closed, and what was is done at half the dose.
        """
        opened = ends = 0
        for place in Place:
            for kind in PainKind:
                fresh = hurts_of(place, kind)
                then = [replace(h, stage=Stage.MIDDLE) for h in fresh]
                last = [replace(h, stage=Stage.END) for h in fresh]
                first, later, end = (brought_by(cautions(), {}, h) for h in (fresh, then, last))
                for d in drills():
                    now = frozenset(s for c in first for s in c.closes(d))
                    back = frozenset(s for c in later for s in c.closes(d))
                    self.assertLessEqual(back, now, (place, kind, d.id))
                    opened += now > back
                    ends += bool(back)
                    if kind is not PainKind.DIZZY:
                        self.assertEqual(
                            frozenset(s for c in end for s in c.closes(d)), frozenset()
                        )
                        half = frozenset(s for c in end for s in c.halves(d))
                        # What closes passive ends anywhere halves nothing: nobody said where.
                        self.assertTrue(
                            half == now or place is Place.ELSEWHERE, (place, kind, d.id)
                        )
                for c in later:
                    self.assertTrue(all(level >= Level.END for level in c.blocks.values()))
        self.assertGreater(opened, 100)
        self.assertGreater(ends, 100)


class Again(unittest.TestCase):
    def test_a_side_and_none_said_are_one_place_two_sides_are_two(self) -> None:
        left, right, either = Place.LEFT_GROIN, Place.RIGHT_GROIN, Place.GROIN
        for places, referred in (
            ((left, left), {left}), ((left, right), set()), ((left, either), {left}),
            ((either, either), {either}), ((either, Place.LOW_BACK), set()),
            ((Place.LEFT_KNEE_INNER, Place.LEFT_KNEE_BACK), {Place.LEFT_KNEE}),
        ):  # fmt: skip
            log = [
                Logged(float(n), None, (), pains=(("lizard", p, PainKind.DULL),), on=f"2028-01-0{9 - n}")
                for n, p in enumerate(places)
            ]  # fmt: skip
            told = propose(log, KNOWN, Course(planned_two_weeks=0, minutes=20.0))
            found = {Place(p.subject) for p in told if p.kind is ProposalKind.REFER}
            with self.subTest(places):
                self.assertEqual(found, referred)


class Back(unittest.TestCase):
    def test_an_easier_drill_is_offered_where_the_pain_leaves_it_open(self) -> None:
        """Drill by place by kind: what is offered in its place is never closed by that very pain."""
        offered = closed = 0
        for drill in (d for d in drills() if d.easier):
            for place in CLOSES:
                for kind in PainKind:
                    brought = brought_by(cautions(), {}, hurts_of(place, kind))
                    safe = [d.id for d in drills() if not any(c.forbidden(d) for c in brought)]
                    log = [Logged(1.0, None, (Done(drill.id, None),), pains=((drill.id, place, kind),), on="2028-01-01")]  # fmt: skip
                    told = propose(log, KNOWN, Course(planned_two_weeks=0, minutes=20.0, safe=safe))
                    (one,) = [p for p in told if p.kind in (ProposalKind.BACK, ProposalKind.EASE)]
                    if one.why is Why.HURT:
                        offered += 1
                        self.assertIn(one.about["easier"], safe, (drill.id, place, kind))
                    else:
                        closed += drill.easier not in safe
        self.assertGreater(offered, 100)
        self.assertGreater(closed, 100)


if __name__ == "__main__":
    unittest.main()
