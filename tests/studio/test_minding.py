"""What is said of pain, what a coach opens or shuts, what an event changes: asked of the program."""

import unittest
from datetime import timedelta

from dachi.core.catalogue.cautions import Answer
from dachi.core.catalogue.hurts import Stage
from dachi.core.practising.allowed import closed_sides, refused
from dachi.core.practising.programme import NoPlan
from dachi.core.words import PainKind, Place
from dachi.data import drills, red_flags
from dachi.store import assessments, day_states, practice_log, practitioners, preparation
from dachi.store import weeks as stored
from dachi.store.day_states import DayState
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import Profile
from dachi.studio.practice import acts, minding, weeks
from dachi.studio.practice.cautions import hurting
from dachi.studio.practice.person import Practising
from dachi.studio.practice.practice_history import pain_chart
from dachi.studio.record import asking
from dachi.studio.today import Action, Group, today_page
from dachi.studio.verdicts.handover import handover
from dachi.studio.visits.intake import Refused
from tests.support import Studio, ago, asked_of, day_ago

BY_ID = {d.id: d for d in drills()}


class Minding(Studio):
    def setUp(self) -> None:
        super().setUp()
        practitioners.update(self.db, self.coach.id, self.pid, props=("mat", "wall", "block", "strap", "chair"))  # fmt: skip
        stored.save_profile(self.db, self.coach.id, self.pid, Profile(level=2, minutes=30.0, weekdays=(0, 2, 4)))  # fmt: skip

    @property
    def own(self) -> Practising:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return Practising(self.work, who)

    def session(self, days: float, *pains: Pain) -> int:
        entry = NewLogEntry(once_key=f"k{days}", started_at=ago(days, "07:00:00"), seconds=600, felt=Felt.RIGHT, finished=True, done=(DrillDone("raise-up", 120.0),), pains=pains)  # fmt: skip
        return acts.log_session(self.work, self.own.who, entry)


class Back(Minding):
    def test_a_place_comes_back_by_sessions_and_the_answer(self) -> None:
        self.session(12, Pain("raise-up", Place.LEFT_THIGH_BACK, PainKind.DULL))
        (one,) = minding.coming_back(self.own)
        self.assertTrue(one.asks)
        self.assertEqual(one.words, "back of the left thigh")
        for days in (4, 3, 2):
            self.session(days)
        minding.answer(self.work, self.own.who, one.key, "not_yet")
        self.assertEqual({r.stage for r in self.own.pain.returns}, {Stage.MIDDLE})
        minding.answer(self.work, self.own.who, one.key, "quiet")
        self.assertEqual({r.stage for r in self.own.pain.returns}, {Stage.END})
        self.assertFalse(closed_sides(BY_ID["raise-up"], self.own.person))
        self.session(0.5, Pain("raise-up", Place.LEFT_THIGH_BACK, PainKind.DULL))
        self.assertEqual(set(closed_sides(BY_ID["raise-up"], self.own.person)), {"left"})

    def test_a_whole_knee_is_answered_once(self) -> None:
        self.session(10, Pain("lizard", Place.RIGHT_KNEE, PainKind.DULL))
        (one,) = minding.coming_back(self.own)
        minding.answer(self.work, self.own.who, one.key, "quiet")
        self.assertEqual([r.asks for r in self.own.pain.returns], [False] * 4)

    def test_answers_that_cannot_be(self) -> None:
        for key, said, by in (("moon|left", "quiet", ""), ("groin|up", "quiet", ""), ("groin|left", "perhaps", ""), ("groin|left", "seen", " ")):  # fmt: skip
            with self.assertRaises(Refused):
                minding.answer(self.work, self.own.who, key, said, by)

    def test_a_referral_waits_for_a_name(self) -> None:
        for days in (20, 3):
            self.session(days, Pain("lizard", Place.LEFT_GROIN, PainKind.SHARP))
        (one,) = minding.coming_back(self.own)
        self.assertTrue(one.referred)
        self.assertIn("Left groin", " ".join(handover(self.work, self.own.who).asked))
        minding.answer(self.work, self.own.who, one.key, "seen", "Dr Reed")
        self.assertFalse(any(r.referred for r in self.own.pain.returns))

    def test_nothing_is_drawn_where_nothing_hurt(self) -> None:
        self.session(3)
        self.assertEqual(pain_chart(self.work, self.pid), "")

    def test_a_visit_that_heard_of_no_pain_has_asked(self) -> None:
        self.session(12, Pain("raise-up", Place.LEFT_THIGH_BACK, PainKind.DULL))
        self.assertTrue(self.own.pain.returns[0].asks)
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(1), warmth="warm")
        day_states.save(self.db, self.coach.id, aid, DayState(pain={Place.LEFT_THIGH_BACK: 2}))
        self.assertTrue(self.own.pain.returns[0].asks, "a little is not quiet")
        day_states.save(self.db, self.coach.id, aid, DayState(pain={Place.LOW_BACK: 6}))
        found = {r.place: r for r in self.own.pain.returns}
        self.assertFalse(found["thigh_back"].asks)
        self.assertEqual(found["low_back"].stage, Stage.FRESH)

    def test_more_may_be_said_of_a_pain_and_it_counts(self) -> None:
        log_id = self.session(8, Pain("raise-up", Place.LEFT_GROIN, PainKind.DULL))
        (told,) = minding.to_tell(self.own)
        self.assertEqual((told.log_id, told.place), (log_id, Place.LEFT_GROIN))
        self.assertEqual(self.own.pain.returns[0].stage, Stage.MIDDLE)
        for wrong in ({"place": "moon"}, {"place": "left_groin", "level": "11"}, {"place": "left_groin", "after": "ever"}):  # fmt: skip
            with self.assertRaises(Refused):
                minding.tell_more(self.work, self.own.who, log_id, wrong)
        minding.tell_more(self.work, self.own.who, log_id, {"place": "left_groin", "level": "8", "after": "next_day", "spreads": "1"})  # fmt: skip
        self.assertEqual(self.own.pain.returns[0].stage, Stage.FRESH, "as strong as this is sharp")
        self.assertEqual(minding.to_tell(self.own), [])
        self.assertIn("left leg 1 times, at most 8 of 10", pain_chart(self.work, self.pid))
        (entry,) = practice_log.entries(self.db, self.coach.id, self.pid)
        self.assertEqual((entry.pains[0].level, entry.pains[0].spreads, entry.pains[0].after), (8, True, "next_day"))  # fmt: skip

    def test_a_cramp_and_a_leg_asleep_close_nothing_and_ask_for_less(self) -> None:
        usual = next(i.dose for s in weeks.week_of(self.own).sessions for i in s.items if i.drill.startswith("raise"))  # fmt: skip
        name = next(i.drill for s in weeks.week_of(self.own).sessions for i in s.items if i.drill.startswith("raise"))  # fmt: skip
        self.session(1, Pain(name, Place.LEFT_THIGH_BACK, PainKind.CRAMP))
        self.assertEqual(self.own.pain.hurts, frozenset())
        self.assertIn(name, self.own.person.halved)
        self.assertNotIn(name, self.own.known.hurt)
        later = [
            i.dose for s in weeks.week_of(self.own).sessions for i in s.items if i.drill == name
        ]
        self.assertTrue(all(x.side_s < usual.side_s for x in later))


class Overruled(Minding):
    def test_a_drill_is_opened_until_it_hurts_there_again(self) -> None:
        self.session(2, Pain("lizard", Place.LEFT_GROIN, PainKind.DULL))
        who = self.own.who
        self.assertIn(BY_ID["raise-out"], minding.to_open(self.own))
        self.assertEqual(minding.one_sided(self.own)["raise-out"], "right side only (groin, left)")
        with self.assertRaisesRegex(Refused, "Say why"):
            minding.overrule(self.work, who, "open_drill", "raise-out", " ")
        with self.assertRaisesRegex(Refused, "no such drill"):
            minding.overrule(self.work, who, "open_drill", "moon", "why not")
        with self.assertRaisesRegex(Refused, "no such drill"):
            minding.overrule(self.work, who, "burn", "raise-out", "why not")
        minding.overrule(self.work, who, "open_drill", "raise-out", "it was the cold")
        self.assertEqual(closed_sides(BY_ID["raise-out"], self.own.person), {})
        self.assertTrue(closed_sides(BY_ID["adductor-lift"], self.own.person), "the others stay")
        self.session(0, Pain("raise-up", Place.LEFT_ANKLE_FOOT, PainKind.DULL))
        self.assertEqual([o.name for o in self.own.overruled], ["raise-out"], "not there")
        later = NewLogEntry(once_key="later", started_at=(self.work.now() + timedelta(seconds=1)).isoformat(timespec="seconds"), seconds=60, felt=None, finished=True, done=(), pains=(Pain("lizard", Place.LEFT_GROIN, PainKind.DULL),))  # fmt: skip
        found = practice_log.add(self.db, self.coach.id, self.pid, later)
        early, late = ((self.work.now() - timedelta(hours=h)).isoformat() for h in (5, 1))
        self.db.execute("UPDATE overrule SET said_at = ?", (early,))
        self.db.execute("UPDATE practice_log SET started_at = ? WHERE id = ?", (late, found))
        self.assertEqual(self.own.overruled, [])
        self.assertIn("left", closed_sides(BY_ID["raise-out"], self.own.person))

    def test_what_is_not_a_coachs_to_open(self) -> None:
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(2), yes=["labrum"], details={"labrum": Answer(side="left")})  # fmt: skip
        with self.assertRaisesRegex(Refused, "not for a coach"):
            minding.overrule(self.work, self.own.who, "open_drill", "raise-across", "he says so")
        for days in (9, 3):
            self.session(days, Pain("lizard", Place.RIGHT_GROIN, PainKind.SHARP))
        with self.assertRaisesRegex(Refused, "not for a coach"):
            minding.overrule(self.work, self.own.who, "open_drill", "adductor-lift", "he says so")
        practitioners.update(self.db, self.coach.id, self.pid, birth_year=self.work.today().year - 13)  # fmt: skip
        with self.assertRaisesRegex(Refused, "not for a coach"):
            minding.overrule(self.work, self.own.who, "open_drill", "butterfly-reclined", "ok")

    def test_gates_are_opened_and_shut_with_a_reason(self) -> None:
        def why(drill: str) -> str:
            return refused(BY_ID[drill], self.own.person) or ""

        self.assertIn("gate", why("pigeon-upright"))
        minding.overrule(self.work, self.own.who, "open_gate", "figure-four-easy", "seen in class")
        self.assertNotIn("gate", why("pigeon-upright"))
        minding.overrule(self.work, self.own.who, "shut_gate", "figure-four-easy", "too soon")
        self.assertIn("shut by the coach: too soon", why("pigeon-upright"))
        minding.lift(self.work, self.own.who, "figure-four-easy")
        self.assertIn("0 of", why("pigeon-upright"))


class Plainly(Minding):
    def test_a_ladder_that_is_closed_for_good_says_so(self) -> None:
        self.assertEqual(self.own.closed_ladders, {})
        self.session(1, Pain("lizard", Place.LEFT_KNEE, PainKind.SHARP))
        self.assertEqual(self.own.closed_ladders, {}, "a pain passes")
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(2), yes=["hip_replacement"], details={"hip_replacement": Answer(True, ("flexion",), "left")})  # fmt: skip
        self.assertIn("Hip replacement, cleared, left", self.own.closed_ladders["straddle"])

    def test_a_day_that_cannot_be_filled_says_so(self) -> None:
        own = self.own
        self.assertEqual(weeks.thin(own, weeks.week_of(own), acts.LENGTHS), {})
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(2), yes=["pregnancy", "pubic", "falls"], details={"pregnancy": Answer(weeks=30.0)})  # fmt: skip
        stored.save_profile(self.db, self.coach.id, self.pid, Profile(level=2, minutes=60.0, weekdays=(0, 3)))  # fmt: skip
        own = self.own
        said = weeks.thin(own, weeks.week_of(own), acts.LENGTHS)
        self.assertEqual(set(said), {0, 3})
        self.assertRegex(said[0], r"of 60 minutes: .* A day of (10|15|20|30) minutes would do")


class Stopped(Minding):
    def test_a_sign_stops_week_shots_and_is_first_on_today(self) -> None:
        form = asked_of() | {"group-today": "yes", "flag": ["night"]}
        told = asking.read({k: str(v) for k, v in form.items()}, lambda n: form.get(n, []))
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(0), yes=told.yes, details=told.details, flags=told.flags)  # fmt: skip
        with self.assertRaisesRegex(NoPlan, "night"):
            weeks.week_of(self.own)
        self.assertEqual(hurting(self.work, self.pid).stops, ("night",))
        entry = next(e for _, es in today_page(self.work).groups for e in es if e.who.id == self.pid)  # fmt: skip
        self.assertEqual((entry.group, entry.action), (Group.HURT, Action.PREPARE))
        night = next(f for f in red_flags() if f.id == "night")
        self.assertIn(night.words.rstrip("."), " ".join(handover(self.work, self.own.who).asked))
        with self.assertRaises(Refused):
            minding.seen(self.work, self.own.who, " ")
        minding.seen(self.work, self.own.who, "Dr Reed")
        self.assertTrue(weeks.week_of(self.own).sessions)

    def test_tingling_that_spreads_stops_until_seen(self) -> None:
        self.session(1, Pain("raise-up", Place.LEFT_ANKLE_FOOT, PainKind.NUMB, spreads=True))
        self.assertEqual(hurting(self.work, self.pid).stops, ("tingling",))
        minding.seen(self.work, self.own.who, "Dr Reed")
        self.assertEqual(hurting(self.work, self.pid).stops, ())


class Event(Minding):
    def test_before_a_show_nothing_is_hard_and_the_eve_is_short(self) -> None:
        who, today = self.own.who, self.work.today()
        for wrong in ("soon", (today - timedelta(days=1)).isoformat(), (today + timedelta(days=500)).isoformat()):  # fmt: skip
            with self.assertRaises(Refused):
                minding.prepare_for(self.work, who, wrong, "show")
        stored.save_profile(self.db, self.coach.id, self.pid, Profile(level=2, minutes=30.0, weekdays=tuple(range(7))))  # fmt: skip
        usual = weeks.week_of(self.own)
        minding.prepare_for(self.work, who, (today + timedelta(days=3)).isoformat(), "show")
        found = {s.weekday: s for s in weeks.week_of(self.own).sessions}
        for n in range(7):
            s = found[(today.weekday() + n) % 7]
            strong = [i for i in s.items if BY_ID[i.drill].strong]
            ends = [i for i in s.items if BY_ID[i.drill].passive_end]
            if n <= 3:
                self.assertEqual(strong, [], n)
                self.assertLess(s.seconds, 0.8 * 1800)
            if n in (2, 3):
                self.assertEqual(ends, [], n)
        self.assertTrue(any(s.hard for s in usual.sessions))
        self.assertTrue(any(BY_ID[i.drill].strong for n in (4, 5, 6) for i in found[(today.weekday() + n) % 7].items))  # fmt: skip
        minding.prepare_for(self.work, who, "", "")
        self.assertIsNone(self.own.event)

    def test_nothing_new_in_the_last_ten_days(self) -> None:
        self.session(3)
        known = {"raise-up"}
        minding.prepare_for(self.work, self.own.who, (self.work.today() + timedelta(days=9)).isoformat(), "")  # fmt: skip
        for s in weeks.week_of(self.own).sessions:
            worked = {i.drill for i in s.items if BY_ID[i.drill].phase in ("hold", "strength", "goal", "flow")}  # fmt: skip
            self.assertLessEqual(worked, known)


class Asking(unittest.TestCase):
    def read(self, form):
        return asking.read({k: str(v) for k, v in form.items()}, lambda n: form.get(n, []))

    def test_ten_taps_for_a_healthy_person(self) -> None:
        form = asked_of()
        self.assertEqual(len([k for k in form if k.startswith("group-")]), 10)
        told = self.read(form)
        self.assertEqual((told.yes, dict(told.details), told.flags), ((), {}, ()))

    def test_what_lies_behind_a_yes(self) -> None:
        told = self.read(asked_of("knee", "pregnancy", "muscle_tear", **{"side-knee": "left", "part-knee": "meniscus", "weeks-pregnancy": "24", "stage-muscle_tear": "2", "part-muscle_tear": "groin", "since-knee": "2026-03"}))  # fmt: skip
        self.assertEqual(
            told.details["knee"], Answer(side="left", part="meniscus", since="2026-03")
        )
        self.assertEqual(told.details["pregnancy"].weeks, 24.0)
        self.assertEqual((told.details["muscle_tear"].stage, told.details["muscle_tear"].part), (2, "groin"))  # fmt: skip
        odd = self.read(asked_of("knee", **{"side-knee": "up", "part-knee": "moon"}))
        self.assertEqual(odd.details["knee"], Answer())
        for wrong, words in (
            ({"group-hips": ""}, "Still to be asked"), ({"group-hips": "yes"}, "Say what of it applies"),
            ({"group-birth": "yes", "yes": ["pregnancy"], "weeks-pregnancy": "soon"}, "whole number"),
        ):  # fmt: skip
            with self.assertRaisesRegex(Refused, words):
                self.read(asked_of() | wrong)
        # A yes that was ticked and then folded away by No is no yes.
        self.assertEqual(self.read(asked_of() | {"yes": ["knee"], "flag": ["night"]}).flags, ())

    def test_who_is_asked_what(self) -> None:
        for born, growing in ((2010, True), (1990, False), (None, True)):
            own = {q.id for a in asking.asked(None, born, 2026) for q in a.questions}
            self.assertEqual("growth" in own, growing)

    def test_asked_again_when_it_matters(self) -> None:
        from dachi.core.assessing.permission import Screening

        for yes, days, found in (
            ((), 100, False), ((), 366, True), (("pregnancy",), 27, False), (("pregnancy",), 28, True),
            (("growth",), 91, True), (("surgery",), 43, True), (("knee",), 200, False),
        ):  # fmt: skip
            told = Screening("2026-01-01", yes)
            self.assertEqual(bool(asking.again(told, days, told.answers("2026-03-01", 4))), found, (yes, days))  # fmt: skip
        ended = Screening(
            "2026-01-01", ("disc",), details={"disc": Answer(True, until="2026-02-01")}
        )
        self.assertIn("ended on", asking.again(ended, 60, ended.answers("2026-03-01", 8))[0])


class Told(Minding):
    def test_a_clinician_reads_what_is_closed_done_and_asked(self) -> None:
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(2), yes=["disc"], details={"disc": Answer(side="left", since="2025-06")})  # fmt: skip
        for days in (10, 8, 6):
            self.session(days)
        self.session(2, Pain("raise-up", Place.LEFT_GROIN, PainKind.DULL, 5, True, "next_day"))
        found = handover(self.work, self.own.who)
        self.assertIn("left, since 2025-06, not cleared yet", found.answers[0])
        self.assertTrue(any(c.startswith("Groin, left") for c in found.closed))
        self.assertIn("5 of 10, spreading, still there next day", found.pains[0])
        self.assertIn("4 of about", found.practised[0])
        self.assertIn("which directions and loads are free", found.asked[0])
        self.assertIn("its middle opens", found.back[0])


if __name__ == "__main__":
    unittest.main()
