"""Every function of the store, tried by a coach whose people these are not."""

import importlib
import inspect
import pkgutil
from collections.abc import Callable, Iterator
from typing import Any

import dachi.store
from dachi.core.assessing.runsheet import SheetLine, Slot
from dachi.core.catalogue.cautions import Answer
from dachi.core.judging.doubts import Doubt, What
from dachi.core.judging.steadiness import Twice
from dachi.core.measuring.figure_match import Region
from dachi.core.measuring.scene import CheckResult, Reading, Result
from dachi.core.practising.progression import Adjustment, Proposal, ProposalKind, Why
from dachi.core.words import PainKind, Place
from dachi.errors import Told
from dachi.store import (
    accounts,
    assessments,
    day_states,
    doubts,
    felt,
    goals,
    markings,
    messages,
    phone_links,
    photos,
    positions,
    practice_log,
    practitioners,
    preparation,
    private_links,
    proposals,
    remarks,
    run_sheets,
    safety,
    second_opinions,
    signing,
    summaries,
    unsorted_photos,
    weeks,
)
from dachi.store.day_states import DayState
from dachi.store.doubts import Said
from dachi.store.markings import Marking
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.safety import ComingEvent
from dachi.store.second_opinions import Opinion
from dachi.store.summaries import PoseSummary
from dachi.store.weeks import PlannedSession, PlannedWeek, Profile
from tests.support import LEG_RAISE, Studio, ago, day_ago

#: They say something of the whole copy, ask for no coach, make a coach or are the coach's own.
OPEN = {
    "accounts.close", "accounts.set_password", "sessions.begin", "sessions.end_all",
    "accounts.add", "accounts.by_id", "accounts.keep_sticker_colour", "rows.belongs",
    "accounts.keep_mat", "accounts.keep_put_away_days", "accounts.keep_usual_marked", "erasures.begin", "practitioners.add", "photos.add", "photos.use_of",
}  # fmt: skip
READING = Reading("leg_line", "leg above the floor", "deg", 70.0, 1.0, 68.0, 72.0, True)
CHECK = CheckResult("knee_bend", "knee", 3.0, 1.0, "deg", 8.0, "ok", "Straight.")
RESULT = Result("", "mat", LEG_RAISE, (READING,), (CHECK,), None, ())
LINE = SheetLine(LEG_RAISE, "left", "passive", 2)
STATE = DayState(pain={Place.LEFT_KNEE: 2}, sleep_h=7.5, hard_training="climbing", warm_up_min=10.0)
OPINION = Opinion("inclinometer", 71.0, 2.0)
WEEK = PlannedWeek(
    (PlannedSession(0, 600, False, ()),), {"lizard": "no time"}, {"flexion": 90.0}, 1.0, 1.1,
    (), True, False, (),
)  # fmt: skip
ENTRY = NewLogEntry(once_key="k1", started_at=ago(2, "08:00:00"), seconds=600, felt=Felt.EASY, finished=True, done=(DrillDone("lizard", 60.0),), pains=(Pain("lizard", Place.LEFT_KNEE, PainKind.KNEE),))  # fmt: skip
OFFER = Proposal(ProposalKind.ADVANCE, Why.EASY, "lizard", {"times": 3}, Adjustment())


#: What a name means in one function alone.
OWN_WORDS = {
    ("weeks.save_profile", "found"): Profile(level=5, minutes=60.0, weekdays=(1,)), ("weeks.plan_before", "moment"): ago(-1),
    ("photos.under_key", "once_key"): "k", ("photos.with_cards", "but"): 0, ("photos.outlined", "but"): 0, ("photos.set_doubtful", "count"): 1, ("assessments.read_elsewhere", "source"): "a table", ("invitations.take_back", "invitation_id"): 1, ("erasing.put_away", "before"): ago(-1), ("assessments.hold_with", "other"): None,
    ("felt.at_visit", "kind"): "tighter", ("felt.at_visit", "answer"): "left",
    ("felt.at_session", "kind"): "again", ("felt.at_session", "answer"): "freer",
    ("remarks.add", "readings"): {"leg_line": 71.0}, ("remarks.add", "first"): {"leg_line": 70.0},
    ("sessions.number_of", "token"): "a token", ("sessions.end", "session_id"): 1,
    ("happenings.note", "what"): "signed in", ("happenings.lately", "what"): "signed in",
    ("happenings.lately", "since"): ago(9), ("happenings.of_coach", "most"): 9,
    ("weeks.note_drill", "text"): "towel under the knee", ("safety.say_quiet", "answer"): "quiet", ("safety.say_quiet", "by_whom"): "Dr Reed", ("safety.say_quiet", "place"): "groin", ("safety.overrule", "what"): "open_drill", ("safety.overrule", "name"): "lizard", ("safety.lift", "name"): "lizard",
    ("safety.prepare_for", "event"): ComingEvent(day_ago(-9), "show"), ("practice_log.tell_more", "place"): Place.LEFT_KNEE,
    ("practice_log.tell_more", "level"): 4, ("practice_log.tell_more", "spreads"): True, ("practice_log.tell_more", "after"): "hours",
    ("preparation.answer_screening", "details"): {"disc": Answer(side="left")}, ("preparation.answer_screening", "flags"): ("night",),
    ("remarks.add", "by_whom"): "again", ("messages.send", "by_whom"): "coach",
    ("messages.read", "by_whom"): "practitioner", ("assessments.open_of_others", "most"): 9, ("assessments.set_still", "still"): True,
}  # fmt: skip


def store_functions() -> Iterator[tuple[str, Callable[..., Any]]]:
    """Public functions of the store that are asked in a coach's name."""
    for module in pkgutil.iter_modules(dachi.store.__path__):
        found = importlib.import_module(f"dachi.store.{module.name}")
        for name, thing in vars(found).items():
            if not inspect.isfunction(thing) or thing.__module__ != found.__name__:
                continue
            if not name.startswith("_") and "coach_id" in inspect.signature(thing).parameters:
                yield f"{module.name}.{name}", thing


class Strangers(Studio):
    def setUp(self) -> None:
        super().setUp()
        db, me, pid = self.db, self.coach.id, self.pid
        self.other = accounts.add(db, "other@quay.example", "Oska", "another long password")
        self.aid = assessments.add(db, me, pid, taken_at=ago(5), warmth="warm")
        self.photo = photos.add(db, me, photos.NewPhoto(sha256="a" * 64, source_sha256="b" * 64, width=1280, height=960, focal_35mm=26.0, taken_at=None, origin="upload"))  # fmt: skip
        self.position = positions.for_photo(db, me, self.aid, "side", "", (1280, 960))
        self.tid = self.trial(1)
        self.gone = self.trial(2)
        assessments.delete_trial(db, me, self.gone)
        marking = Marking(marks={"hip": (1.0, 2.0)}, corners={"near_left": (5.0, 0.0)})
        self.number = markings.save(db, me, self.tid, marking)
        markings.keep_readings(db, me, self.number, RESULT, "v")
        (self.marking,) = db.execute("SELECT id FROM marking").fetchone()
        markings.save_draft(db, me, self.tid, {"a": "1"})
        photos.set_head(db, me, self.photo, Region(5.0, 6.0, 7.0))
        unsorted_photos.add(db, me, self.aid, self.photo, "a.jpg")
        second_opinions.give(db, me, self.tid, OPINION)
        felt.at_visit(db, me, self.aid, "start", "stiff")
        doubts.replace_all(db, me, pid, [Doubt(What.JUMP, self.aid, 1.0, 9.0)])
        doubts.say(db, me, (self.aid, What.JUMP, "", "", ""), Said.SET_UP)
        messages.send(db, me, pid, "practitioner", "the knee is quiet")
        remarks.add(db, me, self.tid, "again", {}, {"leg_line": 71.0}, {"leg_line": 70.0})
        weeks.note_drill(db, me, pid, "lizard", "towel under the knee")
        safety.say_quiet(db, me, pid, "groin", "left", "quiet")
        safety.overrule(db, me, pid, "open_drill", "lizard", "seen in class")
        safety.prepare_for(db, me, pid, ComingEvent(day_ago(-20), "show"))
        run_sheets.save(db, me, self.aid, [LINE])
        day_states.save(db, me, self.aid, STATE)
        self.goal = goals.add(
            db, me, pid, pose=LEG_RAISE, family="leg_line", side="left", mode="passive",
            target=90.0, due_on=None,
        )  # fmt: skip
        goals.annotate(db, me, pid, day_ago(3), "plan", "New plan.")
        (note,) = goals.notes_of(db, me, pid)
        summaries.save(db, me, PoseSummary(pid, LEG_RAISE, (), (), None), "v", {})
        weeks.save_profile(db, me, pid, Profile(level=2, minutes=25.0, weekdays=(0, 3)))
        weeks.wish(db, me, pid, 0, "lizard", "keep")
        weeks.save_plan(db, me, pid, "v", WEEK)
        self.entry = practice_log.add(db, me, pid, ENTRY)
        proposals.offer(db, me, pid, [OFFER])
        (offered,) = proposals.of_practitioner(db, me, pid)
        self.own = private_links.make(db, me, pid)
        self.phone = phone_links.make(db, me, self.aid, ago(-3))
        practitioners.plan_visit(db, me, pid, ago(-7))
        self.given: dict[str, Any] = {
            "practitioner_id": pid, "assessment_id": self.aid, "trial_id": self.tid,
            "photo_id": self.photo, "position_id": self.position, "marking_id": self.marking,
            "goal_id": self.goal, "annotation_id": note.id, "proposal_id": offered.id,
            "entry_id": self.entry, "log_id": self.entry, "photo_ids": [self.photo],
            "slot": Slot(LEG_RAISE, "right", "passive", 1), "pose": LEG_RAISE, "side": "left",
            "mode": "passive", "family": "leg_line", "target": 80.0, "due_on": None,
            "variant": {}, "number": 1, "marking": marking, "result": RESULT, "made_from": "w",
            "body": {"x": 1}, "region": Region(1.0, 2.0, 3.0), "name": "b.jpg", "seen": 1,
            "reason": "second thoughts", "on": day_ago(1), "by": "a physiotherapist",
            "given_on": day_ago(1), "scope": "show", "answered_on": day_ago(1), "yes": ["disc"],
            "on_date": day_ago(1), "kind": "drop", "text": "words", "at": ago(-1),
            "expires_at": ago(-9), "view": "side", "setup": "", "size": (1280, 960),
            "length_cm": 200.0, "width_cm": 70.0, "weekday": 1, "drill": "lizard", "level": 3,
            "new": NewLogEntry(once_key="k2", started_at=ago(1, "08:00:00"), seconds=60, felt=Felt.HARD, finished=True, done=(), pains=ENTRY.pains),
            "soreness": 9, "accepted": True, "poses": [LEG_RAISE], "taken_at": ago(4),
            "warmth": "cold", "notes": "x", "modes": ("passive",), "readings": RESULT,
            "gone": True, "call_name": "X", "prop_cm": 3.0, "mat_cm": (200.0, 70.0),
            "asked": (self.aid, What.VISIT, "", "", ""), "answer": Said.SO,
            "fields": {"call_name": "X"}, "since": ago(30), "until": ago(0), "news_since": ago(9), "pain_since": ago(9),
        }  # fmt: skip

    def trial(self, number: int) -> int:
        return assessments.add_trial(self.db, self.coach.id, self.aid, self.photo, Slot(LEG_RAISE, "left", "passive", number), variant={}, position_id=self.position)  # fmt: skip

    def whole(self) -> dict[str, list[tuple[Any, ...]]]:
        """Every row of every table but the stranger's own account."""
        tables = [
            r[0] for r in self.db.execute("SELECT name FROM sqlite_master WHERE type='table'")
        ]
        return {
            t: sorted(map(tuple, self.db.execute(f"SELECT * FROM {t}")), key=repr) for t in tables
        }

    def arguments(
        self, function: Callable[..., Any], name: str
    ) -> tuple[list[Any], dict[str, Any]]:
        special = {
            "found": {"goals": None, "photos": {}, "run_sheets": [LINE], "day_states": STATE, "weeks": WEEK, "doubts": [Doubt(What.SLIP, self.aid, 1.0, 12.0, LEG_RAISE, "left", "passive")],
                      "second_opinions": OPINION, "proposals": [OFFER],
                      "summaries": PoseSummary(self.pid, LEG_RAISE, (), (), None)},
        }  # fmt: skip
        places: list[Any] = []
        words: dict[str, Any] = {}
        for key, p in list(inspect.signature(function).parameters.items())[2:]:
            if p.kind is p.VAR_KEYWORD:
                words |= self.given[key]
                continue
            if p.default is not p.empty and key not in self.given:
                continue
            if (name, key) in OWN_WORDS:
                value: Any = OWN_WORDS[name, key]
            elif key in special:
                value = special[key][name.split(".")[0]]
            elif name.endswith("restore_trial"):
                value = self.gone
            else:
                value = self.given.get(key, {})
            if p.kind is p.KEYWORD_ONLY:
                words[key] = value
            else:
                places.append(value)
        return places, words

    def test_see_nothing_and_change_nothing(self) -> None:
        tried = 0
        before = self.whole()
        for name, function in store_functions():
            if name in OPEN:
                continue
            places, words = self.arguments(function, name)
            with self.subTest(name):
                try:
                    found = function(self.db, self.other.id, *places, **words)
                except Told:
                    found = None
                self.assertFalse(found, f"{name} answered {found!r}")
                after = self.whole()
                changed = {t for t in after if after[t] != before[t]}
                self.assertEqual(changed, set())
                tried += 1
        self.assertGreater(tried, 70)

    def test_their_own_coach_sees_it_all(self) -> None:
        """The same arguments in the right name: what was kept comes back as it was given."""
        db, me, pid = self.db, self.coach.id, self.pid
        self.assertEqual(photos.head(db, me, self.photo), Region(5.0, 6.0, 7.0))
        shows = photos.shows(db, me, self.photo)
        assert shows is not None
        self.assertEqual(
            [p.name for p in unsorted_photos.of_assessment(db, me, self.aid)], ["a.jpg"]
        )
        self.assertEqual(second_opinions.of_trial(db, me, self.tid), OPINION)
        self.assertEqual(run_sheets.lines(db, me, self.aid), (LINE,))
        self.assertEqual(felt.of_visit(db, me, self.aid), {"start": "stiff"})
        self.assertEqual(felt.of_practitioner(db, me, pid), [(ago(5), {"start": "stiff"})])
        (again,) = remarks.of_coach(db, me)
        self.assertEqual(again.twice["leg_line"], Twice(70.0, 71.0))
        self.assertEqual(remarks.unseen(db, me), self.tid)
        state = day_states.of_assessment(db, me, self.aid)
        assert state is not None
        self.assertEqual(
            (state.pain, state.sleep_h, state.hard_training, state.warm_up_min),
            ({Place.LEFT_KNEE: 2}, 7.5, "climbing", 10.0),
        )
        self.assertEqual(day_states.newest(db, me, pid), state)
        (goal,) = goals.of_practitioner(db, me, pid)
        self.assertEqual((goal.id, goal.target, goal.side), (self.goal, 90.0, "left"))
        self.assertEqual(
            weeks.profile(db, me, pid), Profile(level=2, minutes=25.0, weekdays=(0, 3))
        )
        self.assertEqual(weeks.wishes(db, me, pid), [(0, "lizard", "keep")])
        plan = weeks.plan(db, me, pid, "v")
        assert plan is not None
        self.assertEqual(plan.sessions, WEEK.sessions)
        self.assertIsNone(weeks.plan(db, me, pid, "other rules"))
        before = weeks.plan_before(db, me, pid, ago(-1))
        self.assertEqual(before and before.sessions, WEEK.sessions)
        self.assertIsNone(weeks.plan_before(db, me, pid, ago(1)))
        (entry,) = practice_log.entries(db, me, pid)
        self.assertEqual((entry.done, entry.pains, entry.felt), (ENTRY.done, ENTRY.pains, "easy"))
        self.assertEqual(practice_log.add(db, me, pid, ENTRY), self.entry, "kept once")
        self.assertEqual(private_links.behind(db, private_links.live(db, me, pid).nonce), (me, pid))
        private_links.revoke(db, me, pid)
        self.assertIsNone(private_links.behind(db, self.own))
        self.assertIsNotNone(phone_links.live(db, me, self.aid, ago(-1)))
        self.assertIsNone(phone_links.live(db, me, self.aid, ago(-4)), "expired")
        phone_links.revoke(db, me, self.aid)
        self.assertIsNone(phone_links.live(db, me, self.aid, ago(-1)))
        self.assertEqual(summaries.stamp(db, me, pid, LEG_RAISE) is None, False)
        summaries.drop(db, me, pid, LEG_RAISE)
        self.assertEqual(summaries.poses(db, me, pid), set())

    def test_deciding_and_taking_back(self) -> None:
        db, me, pid = self.db, self.coach.id, self.pid
        (offered,) = proposals.of_practitioner(db, me, pid)
        self.assertTrue(proposals.decide(db, me, pid, offered.id, True))
        self.assertFalse(proposals.decide(db, me, pid, offered.id, False), "decided once")
        practice_log.remove(db, me, pid, self.entry)
        self.assertEqual(practice_log.entries(db, me, pid), [])
        practice_log.remove(db, me, pid, self.entry, back=True)
        self.assertEqual(len(practice_log.entries(db, me, pid)), 1)
        self.assertTrue(practice_log.set_soreness(db, me, pid, self.entry, 4))
        self.assertEqual(practice_log.entries(db, me, pid)[0].soreness, 4)
        self.assertTrue(signing.sign_off(db, me, self.aid))
        self.assertFalse(signing.sign_off(db, me, self.aid), "signed once")
        self.assertTrue(signing.reopen(db, me, self.aid, "one more shot"))
        kinds = [(e.kind, e.reason) for e in signing.history(db, me, self.aid)]
        self.assertEqual(set(kinds), {("signed off", ""), ("reopened", "one more shot")})
        unsorted_photos.take(db, me, self.aid, [self.photo])
        self.assertEqual(unsorted_photos.of_assessment(db, me, self.aid), [])
        self.assertTrue(preparation.withdraw_consent(db, me, pid, day_ago(1)))
        given = preparation.consent(db, me, pid)
        assert given is not None
        self.assertEqual(given.withdrawn_on, day_ago(1))
        self.assertEqual(goals.close(db, me, self.goal), pid)
        self.assertEqual(goals.of_practitioner(db, me, pid), [])
