"""Practice asked directly: what a log says, doses in words, reminders, Today, tables taken in."""

import io
import unittest
from dataclasses import replace
from datetime import date, datetime, timedelta
from types import SimpleNamespace
from typing import ClassVar
from unittest import mock

import msgspec
from PIL import Image

from dachi.core.catalogue.hurts import Stage
from dachi.core.judging.series import Verdict
from dachi.core.practising.dose import Dose
from dachi.core.practising.progression import Adjustment, Proposal, ProposalKind, Why
from dachi.core.words import PainKind, Place
from dachi.data import catalogue
from dachi.interchange.readings import Table
from dachi.store import (
    assessments,
    day_states,
    markings,
    practice_log,
    practitioners,
    private_links,
)
from dachi.store import proposals as stored_proposals
from dachi.store import weeks as stored
from dachi.store.day_states import DayState
from dachi.store.practice_log import DrillDone, Felt, LogEntry, NewLogEntry, Pain
from dachi.store.summaries import News, NewsKind
from dachi.store.today import Seen
from dachi.store.weeks import Profile, Tuned
from dachi.studio import today
from dachi.studio.practice import (
    acts,
    cautions,
    practice_history,
    proposals,
    reminders,
    weeks,
)
from dachi.studio.practice import (
    practice_log as logs,
)
from dachi.studio.practice.acts import Habit
from dachi.studio.practice.person import Practising, drill_by_id, facts_of
from dachi.studio.practice.practice_log import LogProblem
from dachi.studio.record import readings_in
from dachi.studio.today import Action, Group
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work
from tests.support import CLOCK, LEG_RAISE, Studio, ago, day_ago

KNOWN = drill_by_id()
SITTING = next(d for d in KNOWN.values() if d.sitting).id
STRONG = next(d for d in KNOWN.values() if d.strong).id
PLAIN = next(d for d in KNOWN.values() if not d.strong and not d.sitting).id
RIGHT, EASY, HARD = Felt.RIGHT, Felt.EASY, Felt.HARD


def entry(days: float, *done: DrillDone, pains=(), seconds: float = 600.0, **more) -> LogEntry:
    said = {"felt": RIGHT, "finished": True, "notes": "", "soreness": None, "id": 1}
    at = {"started_at": ago(days), "seconds": seconds}
    return LogEntry(**(said | at | {"done": done, "pains": tuple(pains)} | more))


class Log(unittest.TestCase):
    """By entries written out; days are counted back from today."""

    def test_places_that_hurt(self) -> None:
        knee, groin = Place.LEFT_KNEE, Place.GROIN
        dull, sharp = PainKind.DULL, PainKind.SHARP
        found = practice_history.pain_map([
            entry(1, pains=[Pain(PLAIN, groin, dull)]),
            entry(2, pains=[Pain(PLAIN, knee, sharp), Pain("", knee, dull)]),
            entry(9, pains=[Pain(PLAIN, knee, dull), Pain("gone", groin, dull)]),
        ])  # fmt: skip
        name = KNOWN[PLAIN].name
        self.assertEqual(
            [(r.place, r.times, r.last, r.at) for r in found],
            [
                (knee, 3, ago(2), (f"{name} ({sharp})", f"no one drill ({dull})")),
                (groin, 2, ago(1), (f"{name} ({dull})", f"no one drill ({dull})")),
            ],
        )
        self.assertEqual(practice_history.pain_map([]), [])

    def test_minutes_of_the_weeks(self) -> None:
        """From the first that has any; a session of less than a minute is none."""
        day = CLOCK.local().date()
        log = [
            entry(0, seconds=600),
            entry(0, seconds=90),
            entry(0, seconds=59.9),
            entry(14, seconds=1200),
        ]
        rows = practice_history.by_week(log, 3, day)
        self.assertEqual([(round(m, 2), n, p) for _, m, n, p in rows][-1], (11.5, 2, 3))
        self.assertEqual(rows[0][1:3], (20.0, 1))
        self.assertEqual(len(rows), 3)
        monday = day - timedelta(days=day.weekday())
        self.assertEqual(rows[-1][0], f"{monday.day} {monday:%b}")
        self.assertEqual(len(practice_history.by_week([], 3, day)), 1)

    def test_the_longest_crossed_sit(self) -> None:
        self.assertIsNone(practice_history.sitting([entry(1, DrillDone(PLAIN, 900))]))
        found = practice_history.sitting([
            entry(1, DrillDone(SITTING, 500, hold_s=59.0)), entry(2, DrillDone(SITTING, 60.0)),
            entry(3, DrillDone("gone", 999.0)),
        ])  # fmt: skip
        assert found is not None
        self.assertEqual((found.best, found.times[found.at]), (60.0, 60))

    def test_seconds_a_week_in_each_direction(self) -> None:
        day = CLOCK.local().date()
        (first, *_) = KNOWN[PLAIN].directions or ("",)
        found = practice_history.directions(
            [entry(1, DrillDone(PLAIN, 100)), entry(27, DrillDone(PLAIN, 60)),
             entry(29, DrillDone(PLAIN, 999)), entry(2, DrillDone("gone", 50))], day,
        )  # fmt: skip
        self.assertEqual(found, dict.fromkeys(KNOWN[PLAIN].directions, 40.0))
        self.assertTrue(first)

    def test_what_the_gates_hear(self) -> None:
        """Easy in a row, from the newest back; the newest height; the newest pain of a place."""
        now = CLOCK.local()
        found = facts_of(
            [
                entry(1, DrillDone(PLAIN, 30, EASY), DrillDone(STRONG, 30, HARD), pains=[Pain("", Place.GROIN, PainKind.DULL)]),
                entry(2, DrillDone(PLAIN, 30, EASY, prop_cm=12.0), DrillDone(STRONG, 30, EASY)),
                entry(3, DrillDone(PLAIN, 30, RIGHT, prop_cm=20.0), pains=[Pain("", Place.GROIN, PainKind.DULL)]),
                entry(4, DrillDone(PLAIN, 30, EASY)),
            ],
            now,
        )  # fmt: skip
        self.assertEqual(found.easy, {PLAIN: 2})
        self.assertEqual(found.prop_cm, {PLAIN: 12.0})
        self.assertEqual(found.sessions, 4)
        self.assertLess(found.pain_days[Place.GROIN], 2.0)

    def test_what_proposals_look_at(self) -> None:
        now = CLOCK.local()
        (one,) = proposals.logged(
            [entry(3, DrillDone(STRONG, 30), DrillDone(PLAIN, 30, EASY), felt=HARD, seconds=90, soreness=7, pains=[Pain(PLAIN, Place.GROIN, PainKind.DULL)])],
            now,
        )  # fmt: skip
        self.assertAlmostEqual(one.days_ago, cautions.days_since(ago(3), now))
        self.assertEqual([d.felt for d in one.done], [HARD, EASY], "said of a drill, else of all")
        self.assertEqual((one.soreness, one.minutes, one.hard), (7, 1.5, True))
        (other,) = proposals.logged([entry(3, DrillDone(PLAIN, 30), seconds=10)], now)
        self.assertFalse(other.hard)
        self.assertFalse(other.counts)

    def test_days_since_a_moment(self) -> None:
        now = datetime(2027, 6, 2, 12)
        self.assertEqual(cautions.days_since("2027-06-01T00:00", now), 1.5)
        utc = datetime(2027, 6, 1, 12).astimezone().isoformat()
        self.assertAlmostEqual(cautions.days_since(utc, now), 1.0)

    def test_a_dose_in_words(self) -> None:
        hold = Dose(reps=0, rep_s=0.0, hold_s=90.0, sides=1)
        for how, counting, words in (
            (hold, "seconds", "90 s"), (hold, "breaths", f"{hold.breaths(6.0)} breaths"),
            (replace(hold, hold_s=119.0), "seconds", "119 s"),
            (replace(hold, hold_s=120.0), "seconds", "2 min"),
            (replace(hold, hold_s=150.0, sides=2), "seconds", "2.5 min a side"),
            (replace(hold, reps=8, rep_s=3.0, hold_s=0.0), "breaths", "8 times"),
            (replace(hold, rounds=2), "seconds", "90 s, in two rounds"),
            (replace(hold, outs=1), "seconds", "90 s, 1 time out in between"),
            (replace(hold, outs=2), "seconds", "90 s, 2 times out in between"),
            (replace(hold, sides=2, extra="left"), "seconds", "90 s a side, left once more"),
        ):  # fmt: skip
            with self.subTest(words):
                self.assertEqual(weeks.say_dose(how, counting, 6.0), words)

    def test_the_monday_of_a_week(self) -> None:
        for day, monday in (("2027-05-31", "2027-05-31"), ("2027-06-06", "2027-05-31"), ("2027-06-07", "2027-06-07")):  # fmt: skip
            self.assertEqual(weeks.monday(date.fromisoformat(day)), monday)


class TakenIn(unittest.TestCase):
    """Sessions as they are sent or typed."""

    NOW = datetime(2027, 6, 2, 12)

    def sent(self, **more):
        body = {"once_key": "k" * 80, "started_at": "2027-06-02T09:00:00+09:00", "seconds": 300, "felt": "right", "done": [{"drill": PLAIN, "seconds": 200}]}  # fmt: skip
        return logs.read_played(msgspec.json.encode(body | more), self.NOW)

    def test_a_session_from_the_player(self) -> None:
        made = self.sent(
            done=[{"drill": PLAIN, "seconds": "12.5", "felt": "easy", "prop_cm": "", "left": 7}, {"drill": "gone"}],
            pains=[{"drill": PLAIN, "place": "groin", "kind": "dull"}, {"drill": PLAIN, "place": "tail", "kind": "dull"},
                   {"drill": "gone", "place": "groin", "kind": "dull"}, {"drill": PLAIN, "place": "groin", "kind": "odd"}],
            notes="n" * 2000, senses={"start": "stiff", "again": "", "x": "y"},
        )  # fmt: skip
        self.assertEqual(made.done, (DrillDone(PLAIN, 12.5, EASY, None, None, None, 7.0, None),))
        self.assertEqual(made.pains, (Pain(PLAIN, Place.GROIN, PainKind.DULL),))
        self.assertEqual((len(made.once_key), len(made.notes)), (64, 1000))
        self.assertEqual(dict(made.senses), {"start": "stiff"})
        self.assertEqual(made.started_at, "2027-06-02T09:00:00", "the wall clock there")
        self.assertEqual(len(self.sent(done=[{"drill": PLAIN}] * 99).done), 80)
        self.assertEqual(made.seconds, 300.0)
        self.assertEqual(
            (self.sent(seconds="").seconds, self.sent(seconds=None).seconds), (0.0, 0.0)
        )
        self.assertEqual(self.sent(done=[{"drill": PLAIN, "seconds": None}]).done[0].seconds, 0.0)

    def test_what_no_session_can_be(self) -> None:
        for wrong in (
            {"seconds": -1}, {"seconds": 86_401}, {"seconds": "nan"}, {"seconds": "long"},
            {"done": [{"drill": PLAIN, "prop_cm": 151}]}, {"done": [{"drill": PLAIN, "layers": 21}]},
            {"felt": "divine"}, {"started_at": "yesterday"}, {"started_at": "2019-12-31T23:59:00"},
            {"started_at": "2027-06-03T00:00:00"}, {"done": "all"},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(LogProblem):
                self.sent(**wrong)
        for good in ({"seconds": 86_400}, {"done": [{"drill": PLAIN, "layers": 20}]}, {"started_at": "2027-06-02T23:58:00"}):  # fmt: skip
            self.sent(**good)

    def test_walking_through_is_no_session(self) -> None:
        none = replace(self.sent(), done=(DrillDone(PLAIN, 4.0), DrillDone(PLAIN, 5.9)))
        self.assertFalse(logs.worth_keeping(none))
        self.assertTrue(logs.worth_keeping(replace(none, done=(DrillDone(PLAIN, 10.0),))))
        hurt = replace(none, pains=(Pain(PLAIN, Place.GROIN, PainKind.DULL),))
        self.assertTrue(logs.worth_keeping(hurt))

    def test_a_session_by_hand(self) -> None:
        form = {"started_at": "2027-06-01 18:00", "minutes": "12,5", "soreness": "10", "felt": "hard", "what": "", "place": "groin", "kind": "dull", "once_key": "", "notes": ""}  # fmt: skip
        made, sore = logs.read_by_hand(form, (), self.NOW)
        self.assertEqual((made.seconds, sore, made.felt), (750.0, 10, HARD))
        self.assertEqual(made.pains, (Pain("", Place.GROIN, PainKind.DULL),))
        self.assertGreater(len(made.once_key), 8)
        for wrong in (
            {"minutes": "0"}, {"minutes": "601"}, {"minutes": "x"}, {"soreness": "11"},
            {"soreness": "-1"}, {"felt": "divine"}, {"started_at": "2027-06-04"},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(LogProblem):
                logs.read_by_hand(form | wrong, (), self.NOW)
        for at in ("2020-01-01", "2027-06-02 23:59"):
            logs.read_by_hand(form | {"started_at": at}, (), self.NOW)
        with self.assertRaises(LogProblem):
            logs.read_by_hand(form | {"started_at": "2019-12-31 23:59"}, (), self.NOW)
        plain, none = logs.read_by_hand(form | {"minutes": "600", "soreness": "", "kind": "odd"}, (), self.NOW)  # fmt: skip
        self.assertEqual((none, plain.pains), (None, ()))


class Commands(Studio):
    @property
    def who(self):
        found = practitioners.get(self.db, self.coach.id, self.pid)
        assert found is not None
        return found

    def profile(self) -> Profile:
        found = stored.profile(self.db, self.coach.id, self.pid)
        assert found is not None
        return found

    def habit(self, **more) -> None:
        said = {"level": "2", "minutes": "20", "weekdays": ["0", "3"], "by_day": {3: "45", 5: "10"}}
        acts.say_habit(self.work, self.who, Habit(**(said | more)))

    def test_how_somebody_practises(self) -> None:
        self.habit(cautions=("no such",), twice=True)
        own = self.profile()
        self.assertEqual((own.level, own.minutes, own.weekdays), (2, 20.0, (0, 3)))
        self.assertEqual((own.by_day, own.cautions, own.twice), ({3: 45.0}, (), True))
        tuned = replace(own, tuned=Tuned(longer={PLAIN: 1.5}))
        stored.save_profile(self.db, self.coach.id, self.pid, tuned)
        self.habit()
        self.assertEqual(self.profile().tuned.longer, {PLAIN: 1.5})
        self.habit(untune=True, by_day={3: "20"})
        self.assertEqual((self.profile().tuned.longer, self.profile().by_day), ({}, {}))
        for wrong in (
            {"level": "4"}, {"level": "0"}, {"minutes": "25"}, {"weekdays": ["7"]},
            {"weekdays": []}, {"by_day": {3: "7"}},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(Refused):
                self.habit(**wrong)
        self.assertEqual(self.profile().minutes, 20.0)

    def test_a_planned_session_by_hand(self) -> None:
        """As much of each drill as the minutes are of the session; never more than all of it."""
        self.habit()
        week = weeks.week_of(Practising(self.work, self.who))
        planned = week.sessions[0]
        form = {"started_at": ago(1, "18:00"), "minutes": f"{planned.seconds / 120:.4f}", "soreness": "", "felt": "easy", "what": str(planned.weekday), "place": "", "kind": "", "once_key": "k", "notes": ""}  # fmt: skip
        half, _ = logs.read_by_hand(form, week.sessions, CLOCK.local())
        whole, _ = logs.read_by_hand(form | {"minutes": "600"}, week.sessions, CLOCK.local())
        worked = [sum(s.seconds for s in i.steps if s.worked) for i in planned.items]
        for done, share in ((half, 0.5), (whole, 1.0)):
            self.assertEqual([d.drill for d in done.done], [i.drill for i in planned.items])
            for d, seconds in zip(done.done, worked, strict=True):
                self.assertAlmostEqual(d.seconds, share * seconds, delta=0.06)
        none, _ = logs.read_by_hand(form | {"what": "6" if planned.weekday != 6 else "5"}, (planned,), CLOCK.local())  # fmt: skip
        self.assertEqual(none.done, ())

    def test_support_beside_range(self) -> None:
        """Ranges from two months before the first height; a height alone is no chart."""
        drill = next(d for d in KNOWN.values() if d.figure.pose == LEG_RAISE or d.goal == LEG_RAISE)
        log = [
            entry(1, DrillDone(drill.id, 60, prop_cm=10.0)),
            entry(9, DrillDone(drill.id, 60, prop_cm=14.0)),
        ]
        drawn: list[object] = []
        first = CLOCK.local() - timedelta(days=9)
        ranges = [((first - timedelta(days=d)).timestamp() / 86400, 70.0) for d in (70, 58, 5)]
        with (
            mock.patch.object(practice_history, "_passive", return_value=ranges),
            mock.patch(
                "dachi.drawing.practice.heights", side_effect=lambda *a: drawn.append(a) or "svg"
            ),
        ):
            self.assertEqual(
                practice_history.heights(self.work, self.who, log), [(drill.name, "svg")]
            )
            self.assertEqual(practice_history.heights(self.work, self.who, log[:1]), [])
        ((_, props, kept, _, _),) = drawn  # type: ignore[misc]
        self.assertEqual([p for _, p in props], [14.0, 10.0])
        self.assertEqual(len(kept), 2)

    def test_whose_week_is_kept(self) -> None:
        other = practitioners.add(self.db, self.coach.id, "Bo")
        self.assertEqual(acts.renew_weeks(self.work), 0)
        self.habit()
        self.assertEqual(acts.renew_weeks(self.work), 1)
        bo = practitioners.get(self.db, self.coach.id, other)
        assert bo is not None
        acts.note_pain(self.work, bo, Place.LEFT_KNEE, self.work.today())
        self.assertEqual(acts.renew_weeks(self.work), 2)
        (logged,) = practice_log.entries(self.db, self.coach.id, other)
        self.assertEqual(logged.pains, (Pain("", Place.LEFT_KNEE, PainKind.KNEE),))
        self.assertLessEqual(logged.started_at, self.work.now().isoformat(timespec="seconds"))
        self.assertFalse(logged.counts)

    def test_where_it_hurts_lately(self) -> None:
        now = CLOCK.local()

        def hurts(days: float) -> set[Stage]:
            log = [entry(0, pains=[Pain("", Place.GROIN, PainKind.DULL)], started_at=(now - timedelta(days=days)).isoformat())]  # fmt: skip
            return {h.stage for h in cautions.hurting(self.work, self.pid, log).hurts}

        wanted = [(0, {Stage.FRESH}), (6.9, {Stage.FRESH}), (7.1, {Stage.MIDDLE}), (181.0, {Stage.MIDDLE}), (183.0, set())]  # fmt: skip
        self.assertEqual([(d, hurts(d)) for d, _ in wanted], wanted)
        # A later visit that heard of no pain there has asked: it is quiet.
        aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(1), warmth="warm")
        day_states.save(self.db, self.coach.id, aid, DayState())
        self.assertEqual(hurts(6.9), {Stage.FRESH}, "too early to count")
        asked = [r.asks for r in cautions.hurting(self.work, self.pid, [entry(0, pains=[Pain("", Place.GROIN, PainKind.DULL)], started_at=(now - timedelta(days=20)).isoformat())]).returns]  # fmt: skip
        self.assertEqual(asked, [False])

    def test_a_drill_that_hurt_is_eased_for_a_fortnight(self) -> None:
        now = CLOCK.local().replace(microsecond=0)
        for late, eased in ((0, True), (1, False)):
            at = now - timedelta(days=14, seconds=late)
            entry = NewLogEntry(once_key=f"h{late}", started_at=at.isoformat(), seconds=300, felt=RIGHT, finished=True, done=(), pains=(Pain(PLAIN, Place.GROIN, PainKind.DULL),))  # fmt: skip
            log_id = practice_log.add(self.db, self.coach.id, self.pid, entry)
            with self.subTest(late), mock.patch.object(Work, "now", return_value=now):
                known = Practising(self.work, self.who).known
                self.assertEqual(known.hurt, frozenset({PLAIN} if eased else ()))
                self.assertEqual({h.stage for h in known.hurts}, {Stage.MIDDLE})
            practice_log.remove(self.db, self.coach.id, self.pid, log_id)

    def test_what_a_proposal_changes(self) -> None:
        day = date(2027, 6, 1)
        before = Profile(tuned=Tuned(longer={"a": 1.2}, eased=("z",), easy_until="2027-01-01"))
        change = Adjustment(longer={"b": 1.5}, prop_cm={"c": 9.0}, eased=("y",), stepped={"d": "e"})
        after = proposals.tuned_by(before, change, day)
        self.assertEqual(after.tuned.longer, {"a": 1.2, "b": 1.5})
        self.assertEqual(
            (after.tuned.prop_cm, after.tuned.stepped, after.tuned.eased, after.tuned.easy_until),
            ({"c": 9.0}, {"d": "e"}, ("y", "z"), "2027-01-01"),
        )
        self.assertEqual(after.minutes, before.minutes)
        eased = proposals.tuned_by(before, Adjustment(easy_week=True, minutes=30.0), day)
        self.assertEqual((eased.tuned.easy_until, eased.minutes), ("2027-06-08", 30.0))

    def test_a_proposal_is_decided_once(self) -> None:
        self.habit()

        def offer() -> int:
            offered = Proposal(ProposalKind.ADVANCE, Why.EARLIER, PLAIN, {"text": "x", "reason": "y"}, Adjustment(longer={PLAIN: 1.5}))  # fmt: skip
            stored_proposals.offer(self.db, self.coach.id, self.pid, [offered])
            return next(o.id for o in stored_proposals.of_practitioner(self.db, self.coach.id, self.pid) if o.decided_at is None)  # fmt: skip

        no = offer()
        self.assertIsNone(acts.decide(self.work, self.who, no, yes=False))
        self.assertEqual(self.profile().tuned.longer, {})
        self.assertIsNone(acts.decide(self.work, self.who, no, yes=True), "it was decided")
        self.assertEqual(self.profile().tuned.longer, {})
        self.db.execute("DELETE FROM proposal")
        self.assertIsNotNone(acts.decide(self.work, self.who, offer(), yes=True))
        self.assertEqual(self.profile().tuned.longer, {PLAIN: 1.5})
        with self.assertRaises(KeyError):
            acts.decide(self.work, self.who, 10**6, yes=True)

    def test_what_counts_as_grown(self) -> None:
        """Practice is changed by a passive gain that is confirmed, and by nothing less."""

        def line(mode: str, verdict: Verdict, *, sure: bool, last: Verdict | None = None):
            first = SimpleNamespace(confirmed=sure, verdict=verdict)
            newest = SimpleNamespace(confirmed=sure, verdict=last) if last else None
            return SimpleNamespace(mode=mode, first=first, last=newest)

        for own, grown in (
            (line("passive", Verdict.GAIN, sure=True), True), (line("passive", Verdict.GAIN, sure=False), False),
            (line("active", Verdict.GAIN, sure=True), False), (line("passive", Verdict.LOSS, sure=True), False),
            (line("passive", Verdict.GAIN, sure=True, last=Verdict.LOSS), False),
            (line("passive", Verdict.LOSS, sure=True, last=Verdict.GAIN), True),
            (SimpleNamespace(mode="passive", first=None, last=None), False),
        ):  # fmt: skip
            with self.subTest(own):
                self.assertEqual(proposals._gained(own), grown)

    def test_who_is_reminded_of_what(self) -> None:
        def kind():
            return reminders._most_pressing(self.work, self.who, CLOCK.local())

        self.assertIsNone(kind(), "no link, nothing due")
        acts.open_link(self.work, self.who)
        self.assertIsNotNone(private_links.live(self.db, self.coach.id, self.pid))
        self.assertEqual(kind(), "practice")
        for days, said in ((8, "practice"), (6, None)):
            acts.log_session(self.work, self.who, NewLogEntry(once_key=f"k{days}", started_at=ago(days), seconds=300, felt=RIGHT, finished=True, done=()))  # fmt: skip
            self.assertEqual(kind(), said, days)
        now = CLOCK.local()
        for hours, said in ((47, "visit"), (49, None), (-1, None)):
            at = (now + timedelta(hours=hours)).isoformat(timespec="minutes")
            practitioners.plan_visit(self.db, self.coach.id, self.pid, at)
            with self.subTest(hours):
                self.assertEqual(kind(), said)
        with self.assertRaises(reminders.NoReminder):
            reminders.reminder(self.work, self.who, "visit")
        with self.assertRaises(reminders.NoReminder):
            reminders.reminder(self.work, self.who, "look")
        acts.close_link(self.work, self.who)
        self.assertIsNone(private_links.live(self.db, self.coach.id, self.pid))

    def test_a_letter_is_not_written_twice(self) -> None:
        practitioners.update(self.db, self.coach.id, self.pid, email="runa@quay.example")
        acts.open_link(self.work, self.who)
        (one,) = reminders.waiting(self.work)
        self.assertFalse(reminders.written_lately(self.work, one))
        reminders.write(self.work, one, None)
        self.assertTrue(reminders.written_lately(self.work, one))
        self.assertEqual(reminders.waiting(self.work), [])
        self.assertFalse(reminders.written_lately(self.work, replace(one, kind="visit")))
        (letter,) = reminders.letters(self.work)
        self.assertIsNotNone(reminders.letter_file(self.work, letter.name))
        self.assertIsNone(reminders.letter_file(self.work, "other.eml"))

    def test_a_week_is_kept_while_nothing_changes(self) -> None:
        self.habit()
        own = Practising(self.work, self.who)
        week = weeks.week_of(own)
        self.assertEqual(weeks.week_of(own), week)
        drill = next(i.drill for s in week.sessions for i in s.items)
        before, after = acts.change_week(self.work, self.who, "drop", drill, -1)
        assert before is not None
        self.assertEqual(before.week, week)
        self.assertNotIn(drill, [i.drill for s in after.sessions for i in s.items])
        changed = weeks.changes(week, after)
        self.assertTrue(any(drill in c.gone for c in changed.values()))
        self.assertIn(f"out {KNOWN[drill].name}", weeks.say_changes(week, after))
        self.assertEqual(weeks.say_changes(week, week), "Nothing in the week changed.")
        acts.undo_change(self.work, self.who, before.wishes, before.longer)
        self.assertEqual(weeks.week_of(Practising(self.work, self.who)).sessions, week.sessions)
        with self.assertRaises(KeyError):
            acts.change_week(self.work, self.who, "polish", drill, -1)
        with self.assertRaises(KeyError):
            acts.change_week(self.work, self.who, "swap", drill, -1, "no such")
        self.assertEqual(stored.wishes(self.db, self.coach.id, self.pid), [])


class TodayPage(unittest.TestCase):
    """Why somebody is on the page and what to do, by people written out."""

    NOW = date(2027, 6, 2)
    NOBODY = Seen(
        id=1, call_name="Runa", next_visit_at=None, assessments=1, last_at="2027-05-01T09:00",
        first_unmarked=None, unmarked=0, looks=(), news=(),
    )  # fmt: skip

    def asked(self, **more):
        return today._entry(replace(self.NOBODY, **more), None, self.NOW)

    def test_the_most_pressing_reason_comes_first(self) -> None:
        self.assertIsNone(self.asked())
        gain = News(NewsKind.GAIN, "more", LEG_RAISE, "f", "2027-06-01", "left", "passive")
        everything = {
            "pain": ("groin", "2027-06-01"), "next_visit_at": "2027-06-02T18:00", "unmarked": 2,
            "news": (gain,) * 5, "looks": (("2027-05-01", "2027-06-05"),), "assessments": 0,
        }  # fmt: skip
        order = [Group.HURT, Group.COMING, Group.MARKING, Group.CHANGED, Group.DUE, Group.NEW]
        acts_ = [Action.PLAN, Action.ASSESS, Action.MARK, Action.PROGRESS, Action.ASSESS, Action.ASSESS]  # fmt: skip
        for name, group, action in zip(list(everything), order, acts_, strict=True):
            found = self.asked(**({"assessments": 0} | everything))
            assert found is not None
            with self.subTest(name):
                self.assertEqual((found.group, found.action), (group, action))
            everything.pop(name)
        full = self.asked(news=(gain,) * 5)
        assert full is not None
        self.assertEqual(len(full.reasons), 3)
        unasked = self.asked(assessments=0, consent_missing=True)
        assert unasked is not None
        self.assertIs(unasked.action, Action.PREPARE)

    def test_who_comes_within_the_week(self) -> None:
        for at, words in (
            ("2027-06-02T18:00", "comes today at 18:00"), ("2027-06-03T08:30", "comes tomorrow at 08:30"),
            ("2027-06-04T08:30", "comes on Friday at 08:30"), ("2027-06-09T08:30", "comes on Wednesday at 08:30"),
            ("2027-06-10T08:30", None), ("2027-06-01T08:30", None),
        ):  # fmt: skip
            found = self.asked(next_visit_at=at)
            with self.subTest(at):
                self.assertEqual(found.reasons[0][1] if found else None, words)
        missing = self.asked(next_visit_at="2027-06-02T18:00", consent_missing=True)
        assert missing is not None
        self.assertEqual([k for k, _ in missing.reasons], ["coming", "watch"])

    def test_when_a_look_is_due(self) -> None:
        for due, shown in (("2027-06-05", True), ("2027-06-06", False)):
            self.assertEqual(self.asked(looks=(("2027-05-01", due),)) is not None, shown)
        one, two = self.asked(unmarked=1), self.asked(unmarked=2)
        assert one is not None and two is not None
        self.assertEqual([x.reasons[0][1] for x in (one, two)], ["1 photograph to mark", "2 photographs to mark"])  # fmt: skip


class Tables(Studio):
    """Readings from a table, cell by cell."""

    NOW = datetime(2027, 6, 2, 12)
    COLUMNS = ("taken_at", "pose", "value", "side", "mode", "trial", "sd", "measure", "warmth", "prop_height_cm", "variant")  # fmt: skip
    USUAL: ClassVar = {"taken_at": "2027-06-01", "pose": LEG_RAISE, "value": "70", "side": "left"}

    def checked(self, *rows, now=None):
        table = Table(self.COLUMNS, tuple((n, tuple((self.USUAL | r).get(c, "") for c in self.COLUMNS)) for n, r in enumerate(rows, 2)))  # fmt: skip
        return readings_in.check(table, {c: i for i, c in enumerate(self.COLUMNS)}, now or self.NOW)

    def test_what_a_cell_may_say(self) -> None:
        for said, name, value in (
            ({"value": "71,5°"}, "value", 71.5), ({"value": "−3"}, "value", -3.0), ({"value": "360"}, "value", 360.0),
            ({"taken_at": "1.6.2027"}, "taken_at", "2027-06-01T12:00"), ({"taken_at": "2027-06-02"}, "taken_at", "2027-06-02T12:00"),
            ({"taken_at": "1990-01-01"}, "taken_at", "1990-01-01T12:00"), ({"taken_at": "2027-06-01 17:30"}, "taken_at", "2027-06-01T17:30"),
            ({"side": "R"}, "side", "right"), ({"mode": "a"}, "mode", "active"), ({"mode": ""}, "mode", "passive"),
            ({"trial": "9"}, "number", 9), ({"trial": ""}, "number", None), ({"sd": "2.5"}, "sd", 2.5), ({"sd": ""}, "sd", 4.0),
            ({"warmth": "Cold"}, "warmth", "cold"), ({"prop_height_cm": "200"}, "prop_cm", 200.0), ({"prop_height_cm": "0"}, "prop_cm", 0.0),
            ({"pose": catalogue().pose(LEG_RAISE).name.upper()}, "pose", catalogue().pose(LEG_RAISE)),
            ({"pose": "butterfly", "side": ""}, "side", "both"), *self.by_unit(),
        ):  # fmt: skip
            with self.subTest(said):
                found = self.checked(said)
                self.assertEqual(found.wrong, ())
                self.assertEqual(getattr(found.good[0], name), value)

    def by_unit(self):
        """What a reading is off by where nobody says, by the unit of its measure."""
        for unit, sd in (("cm", 1.5), ("ratio", 0.05)):
            for pose in catalogue().poses:
                m = next((m for m in pose.headlines if m.unit == unit), None)
                if m is not None:
                    side = "both" if pose.sides == "both" else "left"
                    yield {"pose": pose.id, "side": side, "measure": m.id, "value": "1", "mode": next(iter(pose.modes))}, "sd", sd  # fmt: skip
                    break

    def test_what_it_may_not(self) -> None:
        for said, words in (
            ({"value": "361"}, "is no"), ({"value": "nan"}, "no number"), ({"value": "much"}, "no number"),
            ({"taken_at": "2027-06-02T12:01"}, "lies ahead"), ({"taken_at": "1989-12-31"}, "too long ago"), ({"taken_at": "5/4"}, "is no day"),
            ({"side": "both"}, "is of left or right"), ({"side": ""}, "is of left or right"), ({"mode": "x"}, "not known"),
            ({"trial": "0"}, "none from 1"), ({"trial": "10"}, "none from 1"), ({"trial": "-1"}, "none from 1"),
            ({"sd": "0"}, "error of 0"), ({"sd": "360"}, "error of 360"), ({"prop_height_cm": "201"}, "prop of 201"),
            ({"prop_height_cm": "-1"}, "prop of -1"), ({"pose": "somersault"}, "no pose is called"), ({"pose": ""}, "no pose is named"),
            ({"measure": "height"}, "no measure called"), ({"warmth": "hot"}, "not known"),
            *(({**next(c for c, _, sd in self.by_unit() if sd == usual), "value": value}, "is no ")
              for usual, value in ((1.5, "301"), (1.5, "-301"))),
        ):  # fmt: skip
            with self.subTest(said):
                ((line, why),) = self.checked(said).wrong
                self.assertEqual(line, 2)
                self.assertIn(words, why)
        missing = readings_in.check(Table((), ()), {"pose": 0}, self.NOW)
        self.assertIn("value", missing.missing)

    def test_the_same_table_twice_and_full_places(self) -> None:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        at = {"taken_at": day_ago(20)}
        now = CLOCK.local()
        rows = [at | {"value": str(60 + n)} for n in range(10)]
        done = readings_in.take_in(self.work, who, self.checked(*rows, now=now))
        self.assertEqual((done.taken, done.there), (9, 0))
        self.assertEqual([n for n, _ in done.wrong], [11], "nine places and ten readings")
        again = readings_in.take_in(self.work, who, self.checked(*rows[:9], now=now))
        self.assertEqual((again.taken, again.there, again.wrong), (0, 9, ()))
        taken = readings_in.take_in(self.work, who, self.checked(at | {"value": "99", "trial": "4"}, now=now))  # fmt: skip
        self.assertEqual((taken.taken, len(taken.wrong)), (0, 1))
        (visit,) = assessments.of_practitioner(self.db, self.coach.id, self.pid)
        own = assessments.trials(self.db, self.coach.id, visit.id)
        self.assertEqual([t.number for t in own], list(range(1, 10)))
        (read,) = markings.readings(self.db, self.coach.id, own[0].id)
        self.assertEqual((read.value, read.sd, round(read.high - read.value, 2)), (60.0, 4.0, 7.84))
        self.assertTrue(own[0].valid)

    def test_the_picture_that_stands_for_none(self) -> None:
        with Image.open(io.BytesIO(readings_in.placard())) as seen:
            self.assertEqual(seen.size, (960, 720))
            grey = seen.convert("L")
            # A grid of rules from 200 to 760 across and 180 to 480 down, nothing beside it.
            box = grey.point(lambda v: 255 if v < 230 else 0).getbbox()
        assert box is not None
        for seen_at, drawn in zip(box, (200, 180, 760, 480), strict=True):
            self.assertLessEqual(abs(seen_at - drawn), 4)


if __name__ == "__main__":
    unittest.main()
