"""How pain comes back: against a walk through every day, and by hand at each bound."""

import random
import unittest
from dataclasses import dataclass, field

from dachi.core.catalogue.hurts import Stage
from dachi.core.practising.returning import Pained, Said, fresh_dizziness, minded, returns, stops
from tests import slow

#: Moments of a day: pain in the morning, practice at noon, the question in the evening.
PAIN, PRACTICE, QUESTION, NIGHT = 0.0, 0.3, 0.6, 0.9
FORTNIGHT = ("sharp", "tingling", "pinch")


@dataclass
class Walk:
    """One place walked through day by day, as the page says it, with counters and nothing else."""

    stage: str = "well"
    closed_until: float = -1.0
    sessions: int = 0
    answered: bool = False
    referred: bool = False
    sharp: list[float] = field(default_factory=list)

    def hurts(self, day: int, kind: str, level: int, after: str) -> None:
        long = kind in FORTNIGHT or level >= 7 or after in ("next_day", "swelling", "locking")
        self.closed_until = max(self.closed_until, day + (14 if long else 7))
        if kind == "sharp":
            self.referred |= any(0 < day - s <= 28 for s in self.sharp)
            self.sharp.append(day)
        self.referred |= after in ("swelling", "locking")
        self.stage, self.sessions, self.answered = "fresh", 0, False

    def dawn(self, day: int) -> None:
        if self.stage == "fresh" and day >= self.closed_until and not self.referred:
            self.stage, self.sessions, self.answered = "middle", 0, False

    def practises(self) -> None:
        self.sessions += self.stage in ("middle", "end")
        self._on()

    def is_quiet(self) -> None:
        self.answered = self.stage == "middle" or self.answered
        self._on()

    def is_seen(self, day: int) -> None:
        self.referred, self.sharp = False, []
        self.dawn(day)
        self.is_quiet()

    def _on(self) -> None:
        if self.stage == "middle" and self.sessions >= 3 and self.answered:
            self.stage, self.sessions = "end", 0
        elif self.stage == "end" and self.sessions >= 3:
            self.stage = "well"


NAMES = {Stage.FRESH: "fresh", Stage.MIDDLE: "middle", Stage.END: "end"}


def agrees(rng: random.Random) -> tuple[str, str, Walk]:
    """Eight weeks of somebody: where the walk ends, and where the rule says they are."""
    walk = Walk()
    pains, sessions, said = [], [], []
    today, bad, often = 56, rng.choice([0.0, 0.02, 0.06]), rng.choice([0.2, 0.5, 0.9])
    first = rng.randrange(0, 30)
    for day in range(today + 1):
        walk.dawn(day)
        if day == first or (day > first and rng.random() < bad):
            kind = rng.choice(["ache", "ache", "sharp", "pinch", "tingling"])
            level, after = (
                rng.choice([2, 5, 8]),
                rng.choice(["", "", "gone", "next_day", "swelling"]),
            )
            walk.hurts(day, kind, level, after)
            pains.append((day + PAIN, kind, level, after))
        if rng.random() < often:
            walk.practises()
            sessions.append(day + PRACTICE)
        if day >= first and rng.random() < 0.15:
            seen = walk.referred and rng.random() < 0.5
            walk.is_seen(day) if seen else walk.is_quiet()
            said.append((day + QUESTION, seen))
    now = today + NIGHT
    found = returns(
        [
            Pained(days_ago=now - at, place="groin", kind=k, side="left", level=level, after=after)
            for at, k, level, after in pains
        ],
        [now - at for at in sessions],
        [Said(now - at, "groin", "left", seen) for at, seen in said],
    )
    return walk.stage, NAMES[found[0].stage] if found else "well", walk


class EightWeeks(unittest.TestCase):
    def walked(self, people: int, seed: int) -> None:
        rng = random.Random(seed)
        ends = dict.fromkeys(("fresh", "middle", "end", "well"), 0)
        for n in range(people):
            wanted, told, walk = agrees(rng)
            self.assertEqual(told, wanted, (n, walk))
            ends[wanted] += 1
        # Every end is reached, and by many: a walk that never comes back would show nothing.
        self.assertGreater(min(ends.values()), people / 40, ends)

    def test_some_histories(self) -> None:
        self.walked(800, 31)

    @slow("ten thousand histories of pain")
    def test_many_histories(self) -> None:
        self.walked(10_000, 3131)


def at(days: float, **more: object) -> Pained:
    said = {"place": "thigh_back", "side": "left"} | more
    return Pained(days_ago=days, **said)  # type: ignore[arg-type]


class Bounds(unittest.TestCase):
    def stage(self, pains: list[Pained], sessions=(), said=()) -> Stage | None:
        found = returns(pains, sessions, said)
        return found[0].stage if found else None

    def test_quiet_days(self) -> None:
        for pain, days, stage in (
            ({}, 6.9, Stage.FRESH), ({}, 7.0, Stage.MIDDLE), ({"kind": "sharp"}, 13.9, Stage.FRESH),
            ({"kind": "sharp"}, 14.0, Stage.MIDDLE), ({"kind": "tingling"}, 13.0, Stage.FRESH),
            ({"level": 7}, 13.0, Stage.FRESH), ({"level": 6}, 13.0, Stage.MIDDLE),
            ({"after": "next_day"}, 13.0, Stage.FRESH), ({"after": "hours"}, 13.0, Stage.MIDDLE),
            ({"kind": "stretch"}, 1.0, None), ({"kind": "stretch", "place": "knee_inner"}, 1.0, Stage.FRESH),
            ({"kind": "cramp"}, 1.0, None), ({"kind": "asleep"}, 1.0, None), ({}, 183.0, None),
        ):  # fmt: skip
            with self.subTest(pain, days=days):
                self.assertEqual(self.stage([at(days, **pain)]), stage)

    def test_a_referral_stands_until_it_was_seen(self) -> None:
        twice = [at(60, kind="sharp"), at(40, kind="sharp")]
        apart = [at(70, kind="sharp"), at(40, kind="sharp")]
        done = [20.0, 18.0, 16.0]
        self.assertEqual(self.stage(twice, done, [Said(15, "thigh_back")]), Stage.FRESH)
        self.assertEqual(self.stage(apart, done, [Said(15, "thigh_back")]), Stage.END)
        seen = [Said(15, "thigh_back", "left", seen=True)]
        self.assertEqual(self.stage(twice, done, seen), Stage.MIDDLE, "what was done before")
        self.assertEqual(self.stage(twice, [12.0, 9.0, 8.0], seen), Stage.END)
        self.assertEqual(self.stage([*twice, at(3, kind="sharp")], done, seen), Stage.FRESH)
        for after in ("swelling", "locking", "giving_way"):
            (one,) = returns([at(40, after=after)], done, [])
            self.assertTrue(one.referred, after)
            self.assertIn("doctor", one.next_step)

    def test_the_other_leg_is_another_place(self) -> None:
        found = returns([at(2), at(30, side="right")], [], [])
        self.assertEqual({(r.side, r.stage) for r in found}, {("left", Stage.FRESH), ("right", Stage.MIDDLE)})  # fmt: skip
        # Where nobody said which side, it may be either: it begins anew for both.
        found = returns([at(30), at(2, side="")], [], [])
        self.assertEqual({r.stage for r in found}, {Stage.FRESH})

    def test_the_question_is_asked_when_it_is_due(self) -> None:
        self.assertFalse(returns([at(2)], [], [])[0].asks)
        self.assertTrue(returns([at(9)], [], [])[0].asks)
        self.assertFalse(returns([at(9)], [], [Said(1, "thigh_back")])[0].asks)
        self.assertTrue(returns([at(9)], [], [Said(3, "thigh_back")])[0].asks, "said too early")

    def test_what_stops_every_plan(self) -> None:
        ten = [at(float(n), kind="tingling", side="") for n in range(10)]
        for pains, flags, said, found in (
            (ten, (), (), ("tingling",)), (ten[1:], (), (), ()), (ten[1:] + ten[1:2], (), (), ()),
            ([at(1, kind="tingling", spreads=True)], (), (), ("tingling",)),
            ([at(1, spreads=True)], (), (), ()), ([at(15, kind="tingling", spreads=True)], (), (), ()),
            ([at(1, kind="tingling"), at(2, kind="tingling", side="right")], (), (), ("both_legs",)),
            ([], ("saddle", "night"), (), ("saddle", "night")),
            (ten, (), (Said(0, "foot", seen=True),), ()),
        ):  # fmt: skip
            self.assertEqual(stops(pains, flags, said), found)

    def test_dizzy_cramp_and_asleep(self) -> None:
        dizzy = Pained(days_ago=6.0, place="elsewhere", kind="dizzy")
        self.assertEqual([h.kind for h in fresh_dizziness([dizzy])], ["dizzy"])
        self.assertEqual(fresh_dizziness([at(6.0), Pained(days_ago=7.0, place="elsewhere", kind="dizzy")]), ())  # fmt: skip
        told = [at(1, kind="cramp", drill="raise-up"), at(8, kind="cramp", drill="lizard"), at(1, kind="asleep", drill="goal-crossed-seat")]  # fmt: skip
        self.assertEqual(minded(told, "cramp"), {"raise-up"})
        self.assertEqual(minded(told, "asleep"), {"goal-crossed-seat"})


if __name__ == "__main__":
    unittest.main()
