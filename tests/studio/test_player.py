"""What the player walks through: sessions, cards of drills, what is tried out, what may be shown."""

import unittest

from dachi.core.catalogue.cautions import brought_by
from dachi.core.catalogue.hurts import hurts_of
from dachi.core.practising.allowed import barred
from dachi.core.words import PainKind, Place
from dachi.data import catalogue, cautions, drills, screening_questions
from dachi.store import practitioners, preparation
from dachi.store import weeks as stored
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import Profile, Tuned
from dachi.studio.practice import acts, player, weeks
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.visits.allowed import allowed
from tests.support import LEG_RAISE, Studio, ago, day_ago

KNOWN = drill_by_id()


class Playing(Studio):
    def setUp(self) -> None:
        super().setUp()
        practitioners.update(self.db, self.coach.id, self.pid, props=("mat", "block", "strap", "wall", "bolster"))  # fmt: skip
        self.habit()

    def habit(self, **more) -> None:
        said = {"level": 2, "minutes": 30.0, "weekdays": (0, 2, 4)}
        stored.save_profile(self.db, self.coach.id, self.pid, Profile(**(said | more)))

    @property
    def own(self) -> Practising:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return Practising(self.work, who)

    def test_the_session_of_a_day_and_less_of_it(self) -> None:
        week = weeks.week_of(self.own)
        first = week.sessions[0]
        self.assertEqual(player.session_on(self.own, first.weekday), first)
        self.assertIsNone(player.session_on(self.own, 6))
        for minutes in ("7", "", "45", "ten"):
            self.assertEqual(player.session_on(self.own, first.weekday, minutes), first, minutes)
        less = player.session_on(self.own, first.weekday, "10")
        assert less is not None
        self.assertLess(less.seconds, first.seconds)
        self.assertLessEqual(less.seconds, 10 * 60 * 1.1)
        self.assertLessEqual({i.drill for i in less.items}, {i.drill for i in first.items})

    def test_everything_is_there_once(self) -> None:
        session = weeks.week_of(self.own).sessions[0]
        data, names = player.player(self.own, session, short=False)
        self.assertEqual([i["drill"] for i in data["items"]], [i.drill for i in session.items])
        self.assertEqual(len(names), len(set(names)))
        self.assertEqual(set(data["drills"]), set(names))
        self.assertEqual(set(data["eases"]), set(names))
        swaps = {o["drill"] for i in data["items"] for o in i["others"].values()}
        self.assertLessEqual({i.drill for i in session.items} | swaps, set(names))
        self.assertTrue(swaps, "something is easier or harder")
        for item in data["items"]:
            drill = KNOWN[item["drill"]]
            for kind, other in item["others"].items():
                self.assertEqual(other["drill"], getattr(drill, kind))
                self.assertTrue(other["steps"])
            self.assertGreater(sum(s["seconds"] for s in item["steps"]), 0)
        self.assertEqual(len(data["places"][Place.LEFT_KNEE]["parts"]), 4)
        for place in (Place.LEFT_GROIN, Place.RIGHT_GROIN, Place.LOW_BACK):
            self.assertEqual(data["places"][place]["parts"], [], "the drawing names the side")

    def test_what_hurt_closes_what_would_be_swapped_to(self) -> None:
        entry = NewLogEntry(once_key="k", started_at=ago(1), seconds=300, felt=Felt.HARD, finished=True, done=(DrillDone("lizard", 60.0),), pains=(Pain("lizard", Place.LEFT_KNEE, PainKind.KNEE),))  # fmt: skip
        acts.log_session(self.work, self.own.who, entry)
        closed = {d for d, drill in KNOWN.items() if barred(drill, self.own.person)}
        self.assertTrue(closed)
        for session in weeks.week_of(self.own).sessions:
            data, _ = player.player(self.own, session, short=False)
            offered = {o["drill"] for i in data["items"] for o in i["others"].values()}
            self.assertFalse(offered & closed)

    def test_tried_out_it_is_short(self) -> None:
        session = weeks.week_of(self.own).sessions[0]
        short, _ = player.player(self.own, session, short=True)
        for item, planned in zip(short["items"], session.items, strict=True):
            for step, whole in zip(item["steps"], planned.steps, strict=True):
                self.assertLessEqual(step["seconds"], 1.5)
                self.assertLessEqual(step["reps"], 2)
                if step["reps"]:
                    self.assertAlmostEqual(step["seconds"], step["reps"] * step["rep_s"])
                elif not whole.worked:
                    self.assertLessEqual(step["seconds"], 0.8)

    def test_breaths_where_they_are_counted(self) -> None:
        practitioners.update(self.db, self.coach.id, self.pid, schools={"counting": "breaths"}, breath_s=6.0)  # fmt: skip
        session = weeks.week_of(self.own).sessions[0]
        data, _ = player.player(self.own, session, short=False)
        self.assertEqual(data["breath_s"], 6.0)
        holds = [s for i in data["items"] for s in i["steps"] if s["kind"] == "hold"]
        self.assertTrue(holds)
        for step in holds:
            self.assertAlmostEqual(step["seconds"], step["breaths"] * 6.0)

    def test_a_card_says_what_this_person_uses(self) -> None:
        drill = next(d for d in KNOWN.values() if d.prop_height)
        tuned = Tuned(prop_cm={drill.id: 12.0})
        card = player._card(drill, tuned, {}, {"mat"})
        self.assertEqual((card["name"], card["prop_cm"]), (drill.name, 12.0))
        self.assertIsNone(player._card(drill, Tuned(), {}, {"mat"})["prop_cm"])
        self.assertEqual(set(card["legs"]), {"left", "right"})
        helped = next(d for d in KNOWN.values() if d.optional)
        bare = player._card(helped, Tuned(), {}, set())["props"]
        own = player._card(helped, Tuned(), {}, set(helped.optional))["props"]
        self.assertGreater(len(own), len(bare), "of what may help only what they own")


class Closing(Studio):
    def test_a_running_session_closes_what_the_week_would(self) -> None:
        """Every place and kind: tomorrow's week and the session that is running say the same."""
        names = [d.id for d in drills()]
        found = player.closes(names)
        shut = 0
        for place in Place:
            for kind in PainKind:
                brought = brought_by(cautions(), {}, hurts_of(place, kind))
                wanted = {
                    d.id: sides
                    for d in drills()
                    if (sides := sorted({s for c in brought for s in c.closes(d)}))
                }
                if f"{place}|{kind}" in found or place in player.POINTED:
                    self.assertEqual(found.get(f"{place}|{kind}", {}), wanted, (place, kind))
                    shut += len(wanted)
        self.assertGreater(shut, 1000)


class MayBeShown(Studio):
    """A pose before the camera, with the coach beside: what a yes, a place or an age closes."""

    def test_by_answers_and_clearance(self) -> None:
        closed = 0
        for question in screening_questions():
            who = practitioners.add(self.db, self.coach.id, question.id, birth_year=1990)
            preparation.answer_screening(
                self.db, self.coach.id, who, answered_on=day_ago(1), yes=[]
            )
            for pose in catalogue().poses:
                for mode in pose.modes:
                    self.assertIsNone(allowed(self.work, who).refused(pose, mode))
            preparation.answer_screening(self.db, self.coach.id, who, answered_on=day_ago(1), yes=[question.id])  # fmt: skip
            before = {(p.id, m) for p in catalogue().poses for m in p.modes if allowed(self.work, who).refused(p, m)}  # fmt: skip
            preparation.clear(self.db, self.coach.id, who, by="Dr Reed", on=day_ago(0))
            after = {(p.id, m) for p in catalogue().poses for m in p.modes if allowed(self.work, who).refused(p, m)}  # fmt: skip
            with self.subTest(question.id):
                self.assertLessEqual(after, before, "clearance opens, and closes nothing")
                own = [c for c in cautions() if question.id in c.screening]
                if question.clearing and not any(c.by_direction for c in own):
                    self.assertEqual(after, set())
                closed += len(before)
        self.assertGreater(closed, 0)

    def test_somebody_young_needs_a_guardian(self) -> None:
        year = self.work.today().year - 13
        who = practitioners.add(self.db, self.coach.id, "Young", birth_year=year)
        preparation.answer_screening(self.db, self.coach.id, who, answered_on=day_ago(1), yes=[])
        shut = [p for p in catalogue().poses if "passive" in p.modes and allowed(self.work, who).refused(p, "passive")]  # fmt: skip
        preparation.give_consent(self.db, self.coach.id, who, given_on=day_ago(1), scope="show", guardian="Pell")  # fmt: skip
        for pose in shut:
            self.assertIsNone(allowed(self.work, who).refused(pose, "passive"), pose.id)
        preparation.give_consent(self.db, self.coach.id, who, given_on=day_ago(0), scope="show", guardian="  ")  # fmt: skip
        for pose in shut:
            self.assertIsNotNone(allowed(self.work, who).refused(pose, "passive"), pose.id)

    def test_where_it_hurts_lately(self) -> None:
        pose = catalogue().pose(LEG_RAISE)
        self.assertIsNone(allowed(self.work, self.pid).refused(pose, "passive"))
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        acts.note_pain(self.work, who, Place.LEFT_THIGH_BACK, self.work.today())
        self.assertIsNotNone(allowed(self.work, self.pid).refused(pose, "passive", "left"))
        self.assertIsNone(allowed(self.work, self.pid).refused(pose, "passive", "right"))
        self.assertIsNone(allowed(self.work, self.pid).refused(pose, "passive"), "one side may")
        self.assertIsNone(
            allowed(self.work, self.pid).refused(catalogue().pose("butterfly"), "active")
        )

    def test_it_is_the_same_in_either_hand(self) -> None:
        """Two people who say the same may the same."""
        other = practitioners.add(self.db, self.coach.id, "Bo", birth_year=1994)
        preparation.answer_screening(self.db, self.coach.id, other, answered_on=day_ago(1), yes=[])
        for pose in catalogue().poses:
            for mode in pose.modes:
                self.assertEqual(allowed(self.work, other).refused(pose, mode), allowed(self.work, self.pid).refused(pose, mode))  # fmt: skip


if __name__ == "__main__":
    unittest.main()
