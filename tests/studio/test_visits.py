"""A visit worked by its commands alone: what the sheet becomes, who may, what is kept."""

import unittest
from dataclasses import replace
from datetime import timedelta
from types import SimpleNamespace

import numpy as np

from dachi.core.assessing.runsheet import SheetLine, Slot
from dachi.core.words import Place as Spot
from dachi.core.words import Status
from dachi.data import catalogue, schools, screening_questions, variant_under
from dachi.store import (
    assessments,
    day_states,
    felt,
    goals,
    phone_links,
    photos,
    practitioners,
    preparation,
    run_sheets,
    signing,
    unsorted_photos,
)
from dachi.store.database import Conflict
from dachi.store.day_states import DayState
from dachi.studio.bench.seen_joints import Sighted, joint_of
from dachi.studio.visits import acts, intake, sheets, shot_words
from dachi.studio.visits.allowed import allowed
from dachi.studio.visits.intake import Refused
from dachi.studio.visits.sheets import Row, Station
from tests.support import CLOCK, LEG_RAISE, Studio, day_ago, plain_picture

BUTTERFLY, SPLIT = "butterfly", "front-split"


class Visits(Studio):
    """A visit with a leg raise and a butterfly on its sheet, and photographs nobody looked at."""

    def setUp(self) -> None:
        super().setUp()
        at = CLOCK.local().replace(microsecond=0) - timedelta(hours=1)
        self.aid = acts.open_visit(
            self.work, self.pid, at, "warm", "quiet", DayState(pain={Spot.LEFT_KNEE: 2}),
            still=False, aims=(), once_key="k1",
        )  # fmt: skip
        rows = [SheetLine(LEG_RAISE, s, m, 2) for s in ("left", "right") for m in ("active", "passive")]  # fmt: skip
        run_sheets.save(self.db, self.coach.id, self.aid, [*rows, SheetLine(BUTTERFLY, "both", "passive", 2)])  # fmt: skip
        self.photo = photos.add(self.db, self.coach.id, photos.NewPhoto(sha256="0" * 64, source_sha256="1" * 64, width=1280, height=960, focal_35mm=26.0, taken_at=None, origin="upload"))  # fmt: skip

    @property
    def visit(self):
        found = assessments.get(self.db, self.coach.id, self.aid)
        assert found is not None
        return found

    @property
    def who(self):
        found = practitioners.get(self.db, self.coach.id, self.pid)
        assert found is not None
        return found

    def lines(self):
        return run_sheets.lines(self.db, self.coach.id, self.aid)

    def shot(self, *slot) -> int:
        pose = catalogue().pose(slot[0])
        return assessments.add_trial(
            self.db, self.coach.id, self.aid, self.photo, Slot(*slot),
            variant=pose.default_variant(),
        )  # fmt: skip

    def nonce(self):
        at = self.work.now().isoformat(timespec="seconds")
        return phone_links.live(self.db, self.coach.id, self.aid, at)

    def shut(self) -> None:
        self.assertTrue(acts.sign_off(self.work, self.visit, "", None))


class Opening(Visits):
    def test_the_same_key_again_is_the_same_visit(self) -> None:
        at = CLOCK.local() - timedelta(hours=1)
        again = acts.open_visit(
            self.work, self.pid, at, "cold", "", DayState(), still=True, aims=(), once_key="k1"
        )
        self.assertEqual(again, self.aid)
        state = day_states.of_assessment(self.db, self.coach.id, self.aid)
        assert state is not None
        self.assertEqual((self.visit.warmth, dict(state.pain)), ("warm", {Spot.LEFT_KNEE: 2}))
        self.assertEqual(len(self.lines()), 5, "the sheet that was made stays")

    def test_which_visit_a_day_can_be_compared_with(self) -> None:
        """Twelve hours to a week before, and not itself."""
        now = CLOCK.local()
        for before, found in (
            (timedelta(hours=11, minutes=59), False), (timedelta(hours=12), True),
            (timedelta(days=7), True), (timedelta(days=7, minutes=1), False),
        ):  # fmt: skip
            at = (now - timedelta(hours=1)).replace(second=0, microsecond=0) + before
            with self.subTest(before):
                seen = acts.lately(self.work, self.pid, at.isoformat())
                self.assertEqual(seen is not None and seen.id == self.aid, found)
                self.assertIsNone(acts.lately(self.work, self.pid, at.isoformat(), self.aid))
        self.assertIsNone(acts.lately(self.work, self.pid, "soon"))

    def test_nothing_practised_since_counts_only_beside_an_earlier_visit(self) -> None:
        def opened(days: float, key: str) -> int:
            at = CLOCK.local() + timedelta(days=days)
            return acts.open_visit(
                self.work, self.pid, at, "warm", "", DayState(), still=True, aims=(), once_key=key
            )

        far, near = opened(-20, "far"), opened(2, "near")
        self.assertEqual(assessments.still(self.db, self.coach.id, self.pid), {near})
        visit = assessments.get(self.db, self.coach.id, near)
        assert visit is not None
        moved = CLOCK.local() + timedelta(days=9)
        acts.change_visit(
            self.work, visit, moved, "cold", "n", DayState(sleep_h=6.0), still=True,
            revision=visit.revision,
        )  # fmt: skip
        self.assertEqual(assessments.still(self.db, self.coach.id, self.pid), set())
        state = day_states.of_assessment(self.db, self.coach.id, near)
        assert state is not None
        self.assertEqual(state.sleep_h, 6.0)
        with self.assertRaises(Conflict):
            acts.change_visit(
                self.work, visit, moved, "warm", "other", DayState(), still=False,
                revision=visit.revision,
            )  # fmt: skip
        kept = assessments.get(self.db, self.coach.id, near)
        assert kept is not None
        self.assertEqual((kept.warmth, kept.notes), ("cold", "n"), "what was refused left nothing")
        self.assertNotEqual(far, near)

    def test_a_tap_and_the_same_again(self) -> None:
        def felt_now():
            return felt.of_visit(self.db, self.coach.id, self.aid)

        acts.feel(self.work, self.visit, "start", "stiff")
        self.assertEqual(felt_now(), {"start": "stiff"})
        acts.feel(self.work, self.visit, "start", "easy")
        self.assertEqual(felt_now(), {"start": "easy"})
        acts.feel(self.work, self.visit, "start", "no such answer")
        self.assertEqual(felt_now(), {"start": "easy"})
        acts.feel(self.work, self.visit, "start", "easy")
        self.assertEqual(felt_now(), {})
        self.shut()
        with self.assertRaises(Refused):
            acts.feel(self.work, self.visit, "start", "stiff")


class Sheet(Visits):
    def change(self, act: str, pose: str | None = None, **more):
        return acts.change_lines(self.work, self.visit, self.visit.revision, act, pose, **more)

    def order(self):
        return list(dict.fromkeys(x.pose for x in self.lines()))

    def test_earlier_later_dropped_and_trials(self) -> None:
        self.change("up", BUTTERFLY)
        self.assertEqual(self.order(), [BUTTERFLY, LEG_RAISE])
        self.change("down", BUTTERFLY)
        self.assertEqual(self.order(), [LEG_RAISE, BUTTERFLY])
        self.change("trials", LEG_RAISE, side="right", mode="active", trials="3")
        wanted = {(x.side, x.mode): x.trials for x in self.lines() if x.pose == LEG_RAISE}
        self.assertEqual(wanted, {("left", "active"): 2, ("left", "passive"): 2, ("right", "active"): 3, ("right", "passive"): 2})  # fmt: skip
        self.change("trials", LEG_RAISE, side="right", mode="active", trials="many")
        self.assertEqual(sum(x.trials for x in self.lines()), 11)
        self.change("drop", BUTTERFLY)
        self.assertEqual(self.order(), [LEG_RAISE])
        with self.assertRaises(Refused):
            self.change("up", None)

    def test_what_has_photographs_stays(self) -> None:
        self.shot(LEG_RAISE, "left", "active", 1)
        with self.assertRaises(Conflict):
            self.change("drop", LEG_RAISE)
        self.change("choose", poses=[BUTTERFLY, "no-such-pose"])
        self.assertEqual(self.order(), [LEG_RAISE, BUTTERFLY])
        stale = self.visit.revision - 1
        with self.assertRaises(Conflict):
            acts.change_lines(self.work, self.visit, stale, "drop", BUTTERFLY)
        self.assertEqual(self.order(), [LEG_RAISE, BUTTERFLY])

    def test_poses_that_are_ticked_come_in_by_demand_with_the_side_in_use(self) -> None:
        self.change("choose", poses=[LEG_RAISE, BUTTERFLY, SPLIT])
        demand = [catalogue().pose(p).demand for p in self.order()]
        self.assertEqual(demand, sorted(demand))
        split = [x.side for x in self.lines() if x.pose == SPLIT]
        self.assertEqual(split[0], "left", "the side that goes first on this sheet")
        self.change("choose", poses=[SPLIT])
        self.assertEqual(self.order(), [SPLIT])

    def test_a_pose_beside_takes_its_rows_in(self) -> None:
        other = catalogue().beside(SPLIT)
        self.assertTrue(other)
        self.change("choose", poses=[SPLIT])
        self.change("beside", SPLIT)
        for pose in other:
            self.assertIn(pose.id, self.order())

    def test_a_question_answered_yes_keeps_passive_off_until_it_is_cleared(self) -> None:
        question = "blood_thinning"
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(2), yes=[question]
        )
        self.assertTrue(allowed(self.work, self.pid).closed(catalogue().pose(LEG_RAISE), "passive"))
        self.assertEqual({x.mode for x in sheets.new_lines(self.work, self.pid)}, {"active"})
        active = [SheetLine(LEG_RAISE, "left", "active", 3), SheetLine(LEG_RAISE, "right", "active", 2)]  # fmt: skip
        run_sheets.save(self.db, self.coach.id, self.aid, active)
        self.assertEqual(sheets.opened_since(self.work, self.visit), ())
        preparation.clear(self.db, self.coach.id, self.pid, by="Dr Reed", on=day_ago(1))
        self.assertFalse(
            allowed(self.work, self.pid).closed(catalogue().pose(LEG_RAISE), "passive")
        )
        self.change("open")
        self.assertEqual(
            [(x.side, x.mode, x.trials) for x in self.lines()],
            [("left", "active", 3), ("left", "passive", 3), ("right", "active", 2), ("right", "passive", 2)],
        )  # fmt: skip
        self.assertEqual(sheets.opened_since(self.work, self.visit), (), "once")

    def test_nobody_asked_yet_leaves_the_sheet_whole(self) -> None:
        other = practitioners.add(self.db, self.coach.id, "Bo")
        may = allowed(self.work, other)
        self.assertEqual([p.id for p in catalogue().poses for m in p.modes if may.closed(p, m)], [])
        self.assertEqual(preparation.answers(self.db, self.coach.id, other), {})

    def test_a_goal_comes_before_what_somebody_came_for(self) -> None:
        self.assertEqual(sheets.wanted(self.work, self.pid), set())
        practitioners.update(self.db, self.coach.id, self.pid, comes_for=(BUTTERFLY, "poetry"))
        self.assertEqual(sheets.wanted(self.work, self.pid), {BUTTERFLY} & {p.id for p in sheets.may_come_for()})  # fmt: skip
        goals.add(
            self.db, self.coach.id, self.pid, pose=SPLIT, side="left", mode="passive", target=170.0,
            family=catalogue().pose(SPLIT).headline.family, due_on=None,
        )  # fmt: skip
        self.assertEqual(sheets.wanted(self.work, self.pid), {SPLIT})
        chosen = {a.pose.id for a in sheets.aims(self.work, self.pid) if a.chosen}
        self.assertEqual(chosen, {SPLIT})
        for aim in sheets.aims(self.work, self.pid):
            self.assertGreater(aim.minutes, 0)
            self.assertGreaterEqual(aim.poses, 1)

    def test_a_shot_beside_the_sheet_has_a_row_of_its_own(self) -> None:
        self.shot(SPLIT, "left", "passive", 1)
        self.shot(SPLIT, "left", "passive", 3)
        self.shot(LEG_RAISE, "left", "passive", 1)
        first, last = SheetLine(LEG_RAISE, "left", "active", 2), SheetLine(BUTTERFLY, "both", "passive", 2)  # fmt: skip
        run_sheets.save(self.db, self.coach.id, self.aid, [first, last])
        own = sheets.all_trials(self.work, self.visit)
        self.assertEqual(
            sheets.lines_of(self.work, self.visit, own),
            (first, SheetLine(LEG_RAISE, "left", "passive", 1), last, SheetLine(SPLIT, "left", "passive", 3)),
        )  # fmt: skip


class Places(Visits):
    """Which places are asked for, and which comes next: by a sheet written out."""

    def test_places_of_a_row(self) -> None:
        line = SheetLine(LEG_RAISE, "left", "active", 2)
        one = SimpleNamespace()
        for taken, state, places in (
            ((), "empty", [1, 2]), ((1,), "photographed", [1, 2]), ((1, 4), "photographed", [1, 2, 3, 4]),
            ((1,), "retake", [1, 2]), ((1, 2), "retake", [1, 2, 3]),
            (range(1, 9), "retake", list(range(1, 10))), (range(1, 10), "retake", list(range(1, 10))),
        ):  # fmt: skip
            row = Row(line, dict.fromkeys(taken, one), state)  # type: ignore[arg-type]
            with self.subTest(taken=taken, state=state):
                self.assertEqual(list(row.numbers), places)

    def test_a_station_is_as_its_worst_row(self) -> None:
        line, pose = SheetLine(LEG_RAISE, "left", "active", 2), catalogue().pose(LEG_RAISE)
        for states, one in (
            (("valid", "retake"), "retake"), (("retake", "photographed"), "retake"),
            (("photographed", "empty"), "photographed"), (("valid", "valid"), "valid"),
            (("empty", "empty"), "empty"), (("valid", "empty"), "marked"), (("marked",), "marked"),
        ):  # fmt: skip
            rows = tuple(Row(line, {}, s) for s in states)
            with self.subTest(states):
                self.assertEqual(Station(pose, rows, 1.0, "", False).state, one)

    def test_what_is_free_and_what_comes_next(self) -> None:
        self.shot(LEG_RAISE, "left", "active", 1)
        self.shot(LEG_RAISE, "right", "passive", 2)
        found = sheets.stations(self.work, self.visit, sheets.all_trials(self.work, self.visit))
        self.assertEqual([s.pose.id for s in found], [LEG_RAISE, BUTTERFLY])
        self.assertEqual([s.counter for s in found], ["", catalogue().pose(LEG_RAISE).counter])
        self.assertTrue(found[0].camera_moves)
        one, two = catalogue().pose(LEG_RAISE), catalogue().pose(BUTTERFLY)
        self.assertEqual(found[1].camera_moves, (one.view, one.setup) != (two.view, two.setup))
        self.assertEqual(len(sheets.every(found)), 10)
        free = sheets.free(found)
        self.assertEqual(len(free), 8)
        first = Slot(LEG_RAISE, "left", "active", 2)
        self.assertEqual(free[0], first)
        for at, then in (
            (None, first), (Slot(LEG_RAISE, "left", "active", 1), first),
            (first, Slot(LEG_RAISE, "left", "passive", 1)),
            (Slot(LEG_RAISE, "right", "passive", 1), Slot(BUTTERFLY, "both", "passive", 1)),
            (Slot(BUTTERFLY, "both", "passive", 2), first), (Slot("pigeon", "left", "active", 1), first),
        ):  # fmt: skip
            with self.subTest(at):
                self.assertEqual(sheets.after(found, at), then)
        self.assertIsNone(sheets.after([], first))

    def test_where_a_form_says_a_photograph_goes(self) -> None:
        good = {"pose": LEG_RAISE, "side": "left", "mode": "active", "number": "2"}
        self.assertEqual(intake.place_of(good, self.who).slot, Slot(LEG_RAISE, "left", "active", 2))
        self.assertEqual(intake.place_of(good | {"number": "9"}, self.who).number, 9)
        for wrong in (
            {"pose": "somersault"}, {"side": "both"}, {"side": ""}, {"mode": "sung"},
            {"number": "0"}, {"number": "10"}, {"number": "12"}, {"number": ""},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(Refused):
                intake.place_of(good | wrong, self.who)

    def test_a_way_of_doing_a_pose_is_one_the_pose_has(self) -> None:
        pose = next(p for p in catalogue().poses if p.variants)
        v = pose.variants[0]
        other = next(o for o in v.options if o != v.default)
        form = {"pose": pose.id, "side": "both" if pose.sides == "both" else "left", "mode": next(iter(pose.modes))}  # fmt: skip
        for said, option in ((other, other), ("upside down", v.default), (v.default, v.default)):
            found = intake.place_of(form | {f"variant-{v.id}": said}, self.who)
            self.assertEqual(found.variant[v.id], option)
            self.assertEqual(set(found.variant), {x.id for x in pose.variants})

    def test_a_school_says_how_a_pose_is_usually_done(self) -> None:
        told = 0
        for school in schools():
            for option in school.options:
                for pose in catalogue().poses:
                    own = {school.id: option}
                    said = variant_under(pose.id, own)
                    found = intake.usual_variant(pose, replace(self.who, schools=own))
                    known = {v.id for v in pose.variants}
                    wanted = pose.default_variant() | {k: v for k, v in said.items() if k in known}
                    self.assertEqual(found, wanted, (pose.id, own))
                    told += wanted != pose.default_variant()
        self.assertGreater(told, 0)

    def test_what_is_cut_off(self) -> None:
        """A joint out of the picture in one direction, in either look, is out of it."""
        pose = catalogue().pose(LEG_RAISE)
        image = np.zeros((600, 800, 3), np.uint8)
        mark = next(m for m in pose.marks if not m.optional and joint_of(m.body, "left"))
        joint = str(joint_of(mark.body, "left"))
        inside = {str(joint_of(m.body, "left")): (400.0, 300.0) for m in pose.marks if joint_of(m.body, "left")} | {"nose": (300.0, 200.0)}  # fmt: skip
        for at, cut in (
            ((400.0, 300.0), False), ((400.0, 3.0), True), ((3.0, 300.0), True), ((400.0, 597.0), True),
            ((797.0, 300.0), True), ((7.0, 7.0), False),
        ):  # fmt: skip
            for look in ("joints", "roughly"):
                seen = {"joints": dict(inside), "roughly": dict(inside)}
                seen[look][joint] = at
                said = shot_words._of_body(image, pose, "left", Sighted(seen["joints"], {}, seen["roughly"]))  # fmt: skip
                with self.subTest(at, look=look):
                    self.assertEqual(any("Cut off" in c.words for c in said), cut)


class Photographs(Visits):
    def test_what_may_be_photographed(self) -> None:
        def told(mode: str = "active", **more):
            return intake.refusal(self.work, self.visit, self.who, mode, **more)

        self.assertIsNone(told())
        self.assertIsNone(told("passive"))
        question = screening_questions()[0].id
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(1), yes=[question])  # fmt: skip
        self.assertIsNone(told())
        raised = catalogue().pose(LEG_RAISE)
        self.assertIsNotNone(told("passive", pose=raised))
        self.assertIsNotNone(told("passive", pose=raised, figure=True))
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(0))
        self.assertIsNotNone(told())
        self.assertIsNone(told(figure=True), "a figure shows nobody")
        self.shut()
        self.assertIn("signed off", str(told(figure=True)))

    def test_the_tray(self) -> None:
        acts.into_tray(self.work, self.visit, plain_picture(640, 480), "a.jpg")
        acts.into_tray(self.work, self.visit, plain_picture(660, 480), "b.jpg")
        acts.into_tray(self.work, self.visit, plain_picture(640, 480), "a.jpg")
        rest = unsorted_photos.of_assessment(self.db, self.coach.id, self.aid)
        self.assertEqual([r.name for r in rest], ["a.jpg", "b.jpg"])
        place = f"{LEG_RAISE}|left|active|1"
        acts.place_from_tray(self.work, self.visit, self.who, rest[0].photo_id, place)
        with self.assertRaises(Conflict):
            acts.place_from_tray(self.work, self.visit, self.who, rest[1].photo_id, place)
        (left,) = unsorted_photos.of_assessment(self.db, self.coach.id, self.aid)
        self.assertEqual(left.name, "b.jpg", "what was refused lies there still")
        with self.assertRaisesRegex(Refused, "already there"):
            acts.into_tray(self.work, self.visit, plain_picture(640, 480), "c.jpg")
        (trial,) = sheets.all_trials(self.work, self.visit)
        self.assertEqual((trial.photo_id, trial.number), (rest[0].photo_id, 1))
        self.assertEqual(acts.empty_tray(self.work, self.visit), 1)
        self.assertEqual(acts.empty_tray(self.work, self.visit), 0)

    def test_put_away_and_brought_back(self) -> None:
        tid = self.shot(LEG_RAISE, "left", "active", 1)
        trial = assessments.trial(self.db, self.coach.id, tid)
        assert trial is not None
        self.assertTrue(acts.delete_shot(self.work, trial))
        self.assertFalse(acts.delete_shot(self.work, trial))
        self.assertEqual(sheets.all_trials(self.work, self.visit), [])
        other = self.shot(LEG_RAISE, "left", "active", 1)
        with self.assertRaises(Conflict):
            acts.restore_shot(self.work, trial)
        self.assertEqual([t.id for t in sheets.all_trials(self.work, self.visit)], [other])
        second = assessments.trial(self.db, self.coach.id, other)
        assert second is not None
        acts.delete_shot(self.work, second)
        acts.restore_shot(self.work, trial)
        (back,) = sheets.all_trials(self.work, self.visit)
        self.assertEqual((back.id, back.status), (tid, Status.UNMARKED))
        self.shut()
        for act in (acts.delete_shot, acts.restore_shot):
            with self.subTest(act), self.assertRaisesRegex(Refused, "signed off"):
                act(self.work, trial)


class Closing(Visits):
    def test_a_phone_is_let_in_and_out(self) -> None:
        acts.let_phone_in(self.work, self.visit, close=False)
        first = self.nonce()
        self.assertIsNotNone(first)
        acts.let_phone_in(self.work, self.visit, close=False)
        self.assertNotIn(self.nonce(), (None, first), "the link before has ended")
        later = (self.work.now() + timedelta(hours=3, seconds=1)).isoformat(timespec="seconds")
        self.assertIsNone(phone_links.live(self.db, self.coach.id, self.aid, later))
        acts.let_phone_in(self.work, self.visit, close=True)
        self.assertIsNone(self.nonce())
        acts.let_phone_in(self.work, self.visit, close=False)
        self.shut()
        self.assertIsNone(self.nonce(), "signing off shuts phones out")
        acts.let_phone_in(self.work, self.visit, close=False)
        self.assertIsNone(self.nonce(), "and none is let into what is closed")

    def test_signed_off_with_what_was_agreed_and_opened_with_a_reason(self) -> None:
        at = CLOCK.local() + timedelta(days=30)
        self.assertTrue(acts.sign_off(self.work, self.visit, "x" * 400, at))
        (note,) = goals.notes_of(self.db, self.coach.id, self.pid)
        self.assertEqual((note.kind, len(note.text)), ("plan", 300))
        self.assertEqual(note.on_date, self.visit.taken_at[:10], "agreed at the visit")
        self.assertEqual(self.who.next_visit_at, at.isoformat(timespec="minutes"))
        self.assertFalse(acts.sign_off(self.work, self.visit, "", None), "it was closed")
        with self.assertRaises(Refused):
            acts.reopen(self.work, self.visit, "")
        self.assertIsNotNone(intake.closed(self.visit))
        self.assertTrue(acts.reopen(self.work, self.visit, "y" * 400))
        self.assertIsNone(intake.closed(self.visit))
        self.assertFalse(acts.reopen(self.work, self.visit, "again"))
        kinds = [(s.kind, len(s.reason)) for s in signing.history(self.db, self.coach.id, self.aid)]
        self.assertCountEqual(kinds, [("signed off", 300), ("reopened", 300)])


if __name__ == "__main__":
    unittest.main()
