"""The planner on catalogues so small that every week of them can be tried: quick enough to run often."""

import itertools
import random
import unittest
from dataclasses import replace

from dachi.core.practising.planner import plan
from dachi.core.practising.programme import Need, NoPlan, Person, Wishes
from dachi.core.practising.worth import worth
from dachi.data import drills
from tests.core.practising.made_up import drill
from tests.core.practising.test_programme import best_by_search, broken, somebody

ALWAYS = [
    drill("arrive", "settle", sides="both", directions=(), seconds=(60, 60, 60)),
    drill("circle", "mobilise", sides="both", directions=("abduction",), reps=(8, 8, 8), rep_s=5),
    drill("undo", "counter", sides="both", directions=("internal_rotation",), seconds=(40, 40, 40)),
    drill("rest", "rest", sides="both", directions=(), seconds=(60, 60, 60)),
]
LONG = drill("long", lengthens=("hamstrings",))
PRESS = drill(
    "press",
    "strength",
    directions=("extension",),
    strengthens=("glutes",),
    mode="active",
    reps=(6, 8, 10),
)
LIFT = drill(
    "lift",
    "strength",
    directions=("flexion",),
    strengthens=("glutes", "trunk"),
    mode="active",
    reps=(6, 8, 10),
)
LUNGE = drill("lunge", "flow", directions=("extension", "flexion"), mode="dynamic", reps=(6, 8, 10))
GOAL = drill("goal", "goal", directions=("flexion",), goal="pigeon")
WIDE = drill("wide", directions=("abduction",), lengthens=("adductors",), easier="narrow")
NARROW = drill("narrow", directions=("abduction",), lengthens=("adductors",), harder="wide")
EVERY = [*ALWAYS, LONG, PRESS, LIFT, LUNGE, GOAL, WIDE, NARROW]
HAMS = Need("lengthen", "hamstrings", 3.0, "they are short")


def ids(week) -> list[list[str]]:
    return [[i.drill.id for i in s.items] for s in week.sessions]


class Quick(unittest.TestCase):
    def test_against_every_week_there_is(self) -> None:
        rng = random.Random(5)
        for n in range(10):
            own = [*ALWAYS, *rng.sample(EVERY[4:], 4)]
            person = Person(
                level=rng.randint(1, 3), minutes=rng.choice([8, 11, 14, 19.9]), days=((0,), (2, 3), (1, 4))[n % 3],
                needs=(HAMS, Need("strengthen", "glutes", 2.0, "y"))[: rng.randint(0, 2)], goals=("pigeon",)[: n % 2],
                tight={"flexion": "left"} if n % 4 == 1 else {}, school=rng.choice(["engaged", "mixed"]),
            )  # fmt: skip
            with self.subTest(n, drills=[d.id for d in own]):
                best = best_by_search(own, person)
                try:
                    week = plan(own, person)
                except NoPlan:
                    self.assertEqual(best, -1e9)
                    continue
                chosen = [[i.drill for i in s.items] for s in week.sessions]
                self.assertAlmostEqual(week.objective, worth(person, chosen, own), places=6)
                self.assertLessEqual(week.objective, best + 1e-6)
                self.assertGreaterEqual(week.objective, best - 0.03 * abs(best))
                self.assertGreaterEqual(week.bound, best - 1e-6)
                self.assertLessEqual(week.bound, 1.6 * best)
                # What undoes what is asked of the whole catalogue: it has a test of its own below.
                self.assertEqual([w for w in broken(week, person) if "undone" not in w], [])

    def test_strength_rests_a_day(self) -> None:
        """Glutes on Monday leave Tuesday without; Sunday and Monday are neighbours too."""
        own = [*ALWAYS, PRESS, LIFT]
        glutes = (Need("strengthen", "glutes", 3.0, "weak"),)
        for days, worked in (
            ((0, 1), 1),
            ((0, 2), 2),
            ((0, 6), 1),
            ((1, 6), 2),
            ((0, 1, 2), 2),
            ((3,), 1),
            ((5, 6), 1),
        ):
            week = plan(own, Person(minutes=11, days=days, needs=glutes))
            self.assertEqual(sum(s.hard for s in week.sessions), worked, days)
            self.assertEqual([s.weekday for s in week.sessions], list(days))

    def test_a_visit_or_an_easy_week_is_no_time_for_strength(self) -> None:
        own = [*ALWAYS, PRESS, LONG]
        free = Person(minutes=11, days=(0, 3), needs=(Need("strengthen", "glutes", 3.0, "weak"),))
        self.assertEqual([s.hard for s in plan(own, free).sessions], [True, True])
        visit = Person(minutes=11, days=(0, 3), needs=free.needs, quiet_days=frozenset({3}))
        self.assertEqual([s.hard for s in plan(own, visit).sessions], [True, False])
        week = plan(own, Person(minutes=11, days=(0, 3), needs=free.needs, easy_week=True))
        self.assertEqual([s.hard for s in week.sessions], [False, False])
        self.assertEqual(week.fell_out["press"], "this is an easy week")

    def test_a_quarter_of_a_short_session_moves(self) -> None:
        rng = random.Random(8)
        seen = 0
        for n in range(12):
            person = replace(somebody(rng), minutes=15, by_day={}, easy_week=False, cautions=(), quiet_days=frozenset())  # fmt: skip
            for s in plan(drills(), person).sessions:
                moving = sum(i.dose.total_s for i in s.items if i.drill.phase in ("mobilise", "flow"))  # fmt: skip
                self.assertGreaterEqual(moving, 0.25 * 15 * 60 - 1e-6, n)
                seen += 1
        self.assertGreater(seen, 12)

    def test_no_session_has_more_than_seven_long_holds(self) -> None:
        rng = random.Random(9)
        for minutes in (45, 60, 90):
            person = replace(somebody(rng), minutes=minutes, by_day={}, easy_week=False, cautions=())  # fmt: skip
            for s in plan(drills(), person).sessions:
                self.assertLessEqual(sum(i.drill.phase == "hold" for i in s.items), 7)

    def test_long_sessions_have_a_warm_flow(self) -> None:
        """A flow that costs points is there from twenty minutes on; before, only to warm up."""
        dull = drill(
            "dull", "flow", directions=(), mode="dynamic", reps=(6, 8, 10), schools=("yielding",)
        )
        own = [*ALWAYS, dull, LONG]
        for minutes, there in ((9.9, False), (20, True)):
            week = plan(own, Person(minutes=minutes, days=(0,), school="engaged"))
            self.assertEqual("dull" in ids(week)[0], there, minutes)
        self.assertTrue(
            plan([*ALWAYS, LONG], Person(minutes=30, days=(0,))).sessions, "none is there to take"
        )

    def test_a_goal_is_never_cold_nor_a_drill_beside_its_easier_form(self) -> None:
        person = Person(minutes=14, days=(0,), goals=("pigeon",))
        self.assertNotIn("goal", ids(plan([*ALWAYS, GOAL], person))[0])
        self.assertIn("goal", ids(plan([*ALWAYS, GOAL, LONG], person))[0])
        wide = Person(minutes=19, days=(0,), needs=(Need("lengthen", "adductors", 3.0, "short"),))
        self.assertEqual(
            len({"wide", "narrow"} & set(ids(plan([*ALWAYS, WIDE, NARROW], wide))[0])), 1
        )

    def test_what_is_turned_out_is_turned_in(self) -> None:
        bend = drill(
            "bend",
            "counter",
            sides="both",
            directions=(),
            counters=("flexion",),
            seconds=(40, 40, 40),
        )
        for person in (
            Person(minutes=14, days=(0,), needs=(HAMS,)),
            Person(minutes=14, days=(0, 1), needs=(HAMS,)),
        ):
            for day in ids(plan([*ALWAYS, bend, LONG], person)):
                self.assertTrue("long" in day and "bend" in day)

    def test_by_hand(self) -> None:
        person = Person(minutes=11, days=(0, 3), needs=(HAMS,))
        week = plan(
            [*ALWAYS, LONG, WIDE],
            person,
            Wishes(frozenset({(3, "wide")}), frozenset({(0, "long")})),
        )
        self.assertNotIn("long", ids(week)[0])
        self.assertIn("long", ids(week)[1])
        self.assertIn("wide", ids(week)[1])
        told = {i.drill.id: (i.reason, i.kept) for i in week.sessions[1].items}
        self.assertEqual(told["wide"], ("Kept by hand.", True))
        self.assertEqual(told["long"], ("They are short.", False))
        nowhere = plan(
            [*ALWAYS, LONG],
            person,
            Wishes(dropped=frozenset({(None, "long"), (5, "circle"), (0, "gone")})),
        )
        self.assertEqual(
            (nowhere.fell_out, ids(nowhere)[0][1]), ({"long": "dropped by hand"}, "circle")
        )
        with self.assertRaisesRegex(NoPlan, "no drill is left to rest with"):
            plan(ALWAYS[:3], person)
        with self.assertRaisesRegex(NoPlan, "nothing fits into 2 minutes"):
            plan(ALWAYS, Person(minutes=2, days=(0,)))
        self.assertEqual(
            plan([*ALWAYS, LONG], person, Wishes(frozenset({(5, "long"), (0, "gone")})))
            .sessions[0]
            .weekday,
            0,
        )

    def test_reasons_sides_and_seconds(self) -> None:
        person = Person(
            minutes=19, days=(0,), needs=(HAMS,), goals=("pigeon",), tight={"flexion": "right"}
        )
        week = plan([*ALWAYS, LONG, GOAL, PRESS], person)
        items = {i.drill.id: i for i in week.sessions[0].items}
        self.assertEqual(
            {k: i.reason for k, i in items.items()},
            {
                "arrive": "Every session begins by arriving.", "circle": "Warms the hips for abduction.",
                "press": "Keeps extension in the week.", "long": "They are short; one more round: the right hip is tighter.",
                "goal": "The goal itself, while warm.", "undo": "Undoes .", "rest": "Every session ends at rest.",
            },
        )  # fmt: skip
        self.assertEqual({k: i.first for k, i in items.items()}, {
            "arrive": None, "circle": None, "press": "left", "long": "right", "goal": "right", "undo": None, "rest": None})  # fmt: skip
        self.assertEqual(
            week.seconds["flexion"], items["long"].dose.work_s + items["goal"].dose.work_s
        )
        self.assertEqual((week.seconds["abduction"], week.seconds["adduction"]), (40, 0))
        order = [
            ("settle", 1),
            ("mobilise", 1),
            ("strength", 1),
            ("hold", 1),
            ("goal", 1),
            ("counter", 1),
            ("rest", 1),
        ]
        self.assertEqual([(i.drill.phase, 1) for i in week.sessions[0].items], order)

    def test_why_a_drill_is_not_in_it(self) -> None:
        person = Person(
            minutes=11, days=(0,), level=1, needs=(Need("lengthen", "adductors", 3.0, "short"),)
        )
        hard = drill("hard", level=2)
        week = plan([*ALWAYS, WIDE, NARROW, hard], person)
        self.assertEqual(week.fell_out["hard"], "is for level 2")
        (left,) = {"wide", "narrow"} - set(itertools.chain(*ids(week)))
        self.assertIn(left, week.fell_out)
        told = {i.drill.id for s in week.sessions for i in s.items} | set(week.fell_out)
        self.assertEqual(told, {d.id for d in (*ALWAYS, WIDE, NARROW, hard)})
