"""The planner: every hard rule over random people, and its worth against exhaustive search."""

import itertools
import math
import random
import unittest
from itertools import pairwise

from msgspec import structs

from dachi.core.catalogue.cautions import Answer, brought_by
from dachi.core.catalogue.drills import ALWAYS, DIRECTIONS, PHASES, Drill
from dachi.core.catalogue.hurts import hurts_of
from dachi.core.practising.allowed import refused
from dachi.core.practising.dose import dose
from dachi.core.practising.planner import plan
from dachi.core.practising.programme import LEAST, Need, NoPlan, Person, Week, Wishes, most
from dachi.core.practising.timeline import balance, timeline
from dachi.core.practising.worth import coverage, served, trimmed, worth
from dachi.core.words import Place
from dachi.data import cautions, drills, gates, props
from tests import slow

#: ``bench practice`` does another thousand, with weeks of up to seven days.
PEOPLE = 300
BY_ID = {d.id: d for d in drills()}
TISSUES = ("hamstrings", "hip_flexors", "adductors", "outer_hip", "inward_rotators", "calves")


def somebody(rng: random.Random, most_days: int = 4) -> Person:
    """A person nobody would think of."""
    needs = tuple(
        Need(rng.choice(["lengthen", "strengthen"]), t, rng.choice([1.5, 2.0, 3.0]), "said so")
        for t in rng.sample(TISSUES, rng.randint(0, 3))
    )
    return Person(
        level=rng.randint(1, 3),
        minutes=rng.choice([5, 10, 15, 20, 30]),
        days=tuple(sorted(rng.sample(range(7), rng.randint(1, most_days)))),
        by_day={rng.randrange(7): rng.choice([5, 45])} if rng.random() < 0.3 else {},
        gentle=rng.random() < 0.2,
        props=frozenset(["mat", *(p.id for p in props() if rng.random() < 0.5)]),
        cautions=tuple(c for c in cautions() if rng.random() < 0.045 and not c.no_session),
        cleared=rng.random() < 0.8,
        school=rng.choice(["mixed", "engaged", "yielding"]),
        needs=needs,
        goals=tuple(
            rng.sample(["front-split", "butterfly", "pigeon", "straddle", "crossed-seat"], 1)
        ),
        tight={d: rng.choice(["left", "right"]) for d in DIRECTIONS if rng.random() < 0.3},
        shut={g: "not yet" for g in gates() if rng.random() < 0.5},
        styles={"split": rng.choice(["squared", "off_centre"])},
        known=frozenset(rng.sample(sorted(BY_ID), 10)),
        easy_week=rng.random() < 0.2,
        quiet_days=frozenset(rng.sample(range(7), rng.choice([0, 0, 2]))),
    )


def broken(week: Week, person: Person) -> list[str]:
    """Every hard rule that a plan breaks, in words; none is what is wanted."""
    wrong = []
    for s in week.sessions:
        used = [i.drill for i in s.items]
        minutes = person.by_day.get(s.weekday, person.minutes)
        if s.total_s > 60 * minutes + 1e-6:
            wrong.append(f"{s.total_s:.0f} s in {minutes} min")
        # Strength and holds go together, in an order of their own.
        order = [PHASES.index("hold" if d.phase == "strength" else d.phase) for d in used]
        if order != sorted(order):
            wrong.append("phases out of order")
        for phase in PHASES:
            n = sum(d.phase == phase for d in used)
            if not LEAST.get(phase, 0) <= n <= most(phase, minutes):
                wrong.append(f"{n} of {phase}")
        if s.weekday in person.quiet_days | person.soft_days and s.hard:
            wrong.append("strength on an assessment day or before an event")
        lying = sum(i.dose.total_s for i in s.items if i.drill.demands.body["on_back"])
        if lying > person.back_s:
            wrong.append(f"{lying:.0f} s on the back")
        strong = sum(i.dose.work_s for i in s.items if i.drill.strong)
        held = sum(i.dose.work_s for i in s.items if i.drill.phase in ("hold", "goal"))
        if person.strength_first and held > strong:
            wrong.append(f"{held:.0f} s held, {strong:.0f} of strength")
        if any(d.phase == "goal" for d in used) and not any(
            d.phase in ("flow", "hold", "strength") for d in used
        ):
            wrong.append("goal pose cold")
        for d in used:
            if why := refused(d, person):
                wrong.append(f"{d.id}: {why}")
            if d.strong and person.easy_week and not person.strength_first:
                wrong.append(f"{d.id} in an easy week")
            if {d.easier, d.harder} & {x.id for x in used}:
                wrong.append(f"{d.id} beside its easier form")
            if d.phase in ("hold", "goal") and d.directions:
                undone = [
                    c
                    for c in drills()
                    if c.phase == "counter"
                    and d.directions[0] in c.counters
                    and not refused(c, person)
                ]
                if undone and not any(c in used for c in undone):
                    wrong.append(f"{d.id} is not undone")
    for a, b in pairwise([*week.sessions, *week.sessions[:1]]):
        if a is not b and (a.weekday + 1) % 7 == b.weekday:
            both = {t for i in a.items if i.drill.strong for t in i.drill.strengthens} & {
                t for i in b.items if i.drill.strong for t in i.drill.strengthens
            }
            if both:
                wrong.append(f"{both} worked hard on two days in a row")
    return wrong


class HardRules(unittest.TestCase):
    @slow("weeks for hundreds of random people")
    def test_random_people(self) -> None:
        """Most practise one day a week, which is where a plan is quickest."""
        rng = random.Random(20261125)
        planned = 0
        for n in range(PEOPLE):
            person = somebody(rng, most_days=1 if n % 20 else 4)
            with self.subTest(n):
                week = plan(drills(), person)
                self.assertEqual(broken(week, person), [])
                self.assertEqual([s.weekday for s in week.sessions], list(person.days))
                self.assertAlmostEqual(
                    week.objective,
                    worth(person, [[i.drill for i in s.items] for s in week.sessions], drills()),
                    places=6,
                )
                told = set(week.fell_out) | {i.drill.id for s in week.sessions for i in s.items}
                self.assertEqual(told, set(BY_ID), "every drill is used or its absence explained")
                for s in week.sessions:
                    for left, right, _ in balance(timeline(s)).values():
                        self.assertAlmostEqual(left, right)
                planned += 1
        self.assertEqual(planned, PEOPLE)

    def test_no_caution_ever_lets_what_it_forbids_through(self) -> None:
        """Over the whole catalogue and every set of cautions, without solving anything."""
        for size in (1, 2):
            for chosen in itertools.combinations(cautions(), size):
                person = Person(level=3, props=frozenset(p.id for p in props()), cautions=chosen)
                for d in drills():
                    if refused(d, person) is None:
                        told = (d.id, [c.id for c in chosen])
                        for name, level in (x for c in chosen for x in c.blocks.items()):
                            self.assertLess(d.demands.most(name), level, told)
                        self.assertFalse(any(c.no_passive_end for c in chosen) and d.passive_end)

    def test_a_knee_caution(self) -> None:
        knee = brought_by(cautions(), {}, hurts_of(Place.LEFT_KNEE))
        self.assertEqual(
            [c.id for c in knee],
            ["knee_pain", "kneecap", "knee_sides", "knee_inside", "knee_behind"],
        )
        rng = random.Random(3)
        for _ in range(12):
            person = somebody(rng)
            person = Person(**{**person.__dict__, "cautions": (*person.cautions, *knee)})
            for s in plan(drills(), person).sessions:
                self.assertFalse([i for i in s.items if any(c.forbidden(i.drill) for c in knee)])

    def test_a_fever_gives_no_session(self) -> None:
        ill = brought_by(cautions(), {"fever": Answer()})
        with self.assertRaisesRegex(NoPlan, "rest"):
            plan(drills(), Person(cautions=ill))

    def test_without_clearance_nothing_is_brought_to_its_end(self) -> None:
        week = plan(
            drills(), Person(level=2, cleared=False, props=frozenset(p.id for p in props()))
        )
        self.assertFalse([i for s in week.sessions for i in s.items if i.drill.passive_end])
        self.assertIn("clearance", week.fell_out["raise-up"])

    def test_what_fell_out_says_why(self) -> None:
        week = plan(
            drills(),
            Person(level=1, minutes=10, shut={"supine-80": "74° left"}, goals=("front-split",)),
        )
        for drill, words in (
            ("raise-up", "needs a strap"),
            ("goal-full-lotus", "level 3"),
            ("hang-straight", "needs a bolster"),
        ):
            self.assertIn(words, week.fell_out[drill])


class LessTime(unittest.TestCase):
    def test_what_falls_out_first(self) -> None:
        rng = random.Random(4)
        for n in range(12):
            person = Person(**{**somebody(rng).__dict__, "minutes": 30, "easy_week": False})
            for session in plan(drills(), person).sessions:
                whole = [i.drill for i in session.items]
                for minutes in (30, 20, 15, 10, 5):
                    with self.subTest(n, minutes=minutes):
                        cut = trimmed(session, person, minutes)
                        used = [i.drill for i in cut.items]
                        self.assertEqual(used, [d for d in whole if d in used], "the order stays")
                        self.assertLessEqual(cut.total_s, 60 * minutes + 1e-6)
                        self.assertEqual(set(ALWAYS) - {d.phase for d in used}, set())


class ByHand(unittest.TestCase):
    person = Person(level=2, minutes=20, days=(0, 2, 4), props=frozenset(p.id for p in props()))

    def test_same_input_same_plan(self) -> None:
        a, b = plan(drills(), self.person), plan(drills(), self.person)
        self.assertEqual(self.ids(a), self.ids(b))

    def ids(self, week: Week) -> list[list[str]]:
        return [[i.drill.id for i in s.items] for s in week.sessions]

    def test_a_kept_drill_stays_and_a_dropped_one_goes(self) -> None:
        before = plan(drills(), self.person)
        kept = (2, "cross-reach")
        gone = next(i.drill.id for i in before.sessions[0].items if i.drill.phase == "hold")
        wishes = Wishes(frozenset({kept}), frozenset({(0, gone), (None, "flat-rest")}))
        after = plan(drills(), self.person, wishes)
        self.assertEqual(broken(after, self.person), [])
        wednesday = after.sessions[1]
        self.assertEqual([i.kept for i in wednesday.items if i.drill.id == "cross-reach"], [True])
        self.assertNotIn(gone, self.ids(after)[0])
        self.assertNotIn("flat-rest", {x for day in self.ids(after) for x in day})
        self.assertEqual(after.fell_out["flat-rest"], "dropped by hand")

    def test_wishes_that_leave_no_session(self) -> None:
        crowd = frozenset((0, d.id) for d in drills() if d.phase == "hold")
        with self.assertRaisesRegex(NoPlan, "kept by hand"):
            plan(drills(), self.person, Wishes(crowd))
        arrivals = frozenset((None, d.id) for d in drills() if d.phase == "settle")
        with self.assertRaisesRegex(NoPlan, "settle"):
            plan(drills(), self.person, Wishes(dropped=arrivals))


def best_by_search(own: list[Drill], person: Person) -> float:
    """The best worth over every legal choice for one or two days: exhaustive."""
    legal = []
    for size in range(len(own) + 1):
        for chosen in itertools.combinations(own, size):
            if session_is_legal(chosen, person):
                legal.append(list(chosen))
    best = -1e9
    for days in itertools.product(legal, repeat=len(person.days)):
        if len(days) == 2 and (person.days[0] + 1) % 7 == person.days[1]:
            hard = [{t for d in day if d.strong for t in d.strengthens} for day in days]
            if hard[0] & hard[1]:
                continue
        best = max(best, worth(person, days, own))
    return best


def session_is_legal(chosen: tuple[Drill, ...], person: Person) -> bool:
    tight = person.tight
    doses = {
        d.id: dose(
            d,
            person.level,
            person.minutes,
            tight=next((tight[x] for x in d.directions if x in tight), None),
            squat_s=min([c.squat_s for c in person.cautions if c.squat_s], default=math.inf),
        )
        for d in chosen
    }
    if sum(how.total_s for how in doses.values()) > 60 * person.minutes:
        return False
    lying = sum(doses[d.id].total_s for d in chosen if d.demands.body["on_back"])
    if lying > min([c.back_s for c in person.cautions if c.back_s], default=math.inf):
        return False
    strong = sum(doses[d.id].work_s for d in chosen if d.phase == "strength")
    held = sum(doses[d.id].work_s for d in chosen if d.phase in ("hold", "goal"))
    if any(c.strength_first for c in person.cautions) and held > strong:
        return False
    for phase in PHASES:
        n = sum(d.phase == phase for d in chosen)
        least = LEAST.get(phase, 0)
        if not least <= n <= most(phase, person.minutes):
            return False
    if any(d.phase == "goal" for d in chosen) and not any(
        d.phase in ("flow", "hold", "strength") for d in chosen
    ):
        return False
    ids = {d.id for d in chosen}
    return not any({d.easier, d.harder} & ids for d in chosen)


def small_case(rng: random.Random, *, two_days: bool) -> tuple[list[Drill], Person]:
    """A catalogue so small that every week of it can be tried."""
    days = (0, 1) if two_days else (0,)
    own: list[Drill] = []
    for phase in ALWAYS:
        free = [d for d in drills() if d.phase == phase and d.level == 1]
        own.append(rng.choice([d for d in free if not d.requires and not d.gate]))
    worked = ("flow", "strength", "hold")
    pool = [d for d in drills() if d.phase in worked and not d.gate and d.level <= 2]
    own += rng.sample(pool, (6 if two_days else 9) - len(own))
    # The counter rule asks the plan to undo what it does; left out of so small a choice.
    own = [d if d.phase != "counter" else structs.replace(d, counters=()) for d in own]
    person = Person(
        level=2, minutes=rng.choice([6, 8, 11]), days=days, props=frozenset(p.id for p in props()),
        needs=(Need("lengthen", rng.choice(TISSUES), 3.0, "x"), Need("strengthen", "glutes", 2.0, "y")),
    )  # fmt: skip
    return own, person


class AgainstExhaustiveSearch(unittest.TestCase):
    def test_small_catalogues(self) -> None:
        for n in range(8):
            own, person = small_case(random.Random(n), two_days=n % 2 == 0)
            with self.subTest(n, drills=[d.id for d in own]):
                try:
                    week = plan(own, person)
                except NoPlan:
                    self.assertEqual(best_by_search(own, person), -1e9)
                    continue
                best = best_by_search(own, person)
                self.assertGreaterEqual(week.objective, best - 0.05 * abs(best) - 1e-9)
                self.assertLessEqual(week.objective, best + 1e-6)
                self.assertGreaterEqual(week.bound, best - 1e-6)


class Needs(unittest.TestCase):
    def test_what_serves_what(self) -> None:
        for drill, need, expected in (
            ("raise-up", Need("lengthen", "hamstrings", 1, ""), True),
            ("raise-up", Need("strengthen", "hamstrings", 1, ""), False),
            ("lift-straight", Need("strengthen", "hip_flexors", 1, ""), True),
            ("internal-hold", Need("direction", "internal_rotation", 1, ""), True),
        ):
            self.assertEqual(served(BY_ID[drill], need), expected)
        names = [n.name for n in coverage(Person())]
        self.assertEqual(sorted(names), sorted(DIRECTIONS))
