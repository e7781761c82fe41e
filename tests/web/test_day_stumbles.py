"""What a working day stumbled over on the sheet, in the record and in the outbox."""

import io
import re
from unittest import mock

from dachi.core.assessing.runsheet import SheetLine, Slot
from dachi.core.catalogue.cautions import Caution
from dachi.data import catalogue, screening_questions
from dachi.simulation import outbox
from dachi.store import assessments, practitioners, preparation, run_sheets
from dachi.studio.phrases import moment_of
from dachi.studio.practice import reminders
from dachi.studio.practice.person import Practising
from dachi.studio.visits import sheets as visits
from tests.support import LEG_RAISE, Pages, ago, day_ago, plain_picture


class Day(Pages):
    def cautions(self) -> tuple[Caution, ...]:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return Practising(self.work, who).person.cautions

    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def page(self, path: str) -> str:
        return self.text(self.client.get(path, follow_redirects=True))

    def lines(self, aid: int) -> tuple[SheetLine, ...]:
        return run_sheets.lines(self.db, self.coach.id, aid)

    def open(self, **form: object) -> int:
        answer = self.post(f"/p/{self.pid}/assess", {"taken_at": ago(1), "warmth": "warm"} | form)
        return int(answer.headers["Location"].rsplit("/", 1)[1])


class NamesOfOthers(Day):
    def test_a_phone_hears_nothing_of_anybody_else(self) -> None:
        """ "This very photograph is already there: [name], [pose], [date]" stood on a phone."""
        other = practitioners.add(self.db, self.coach.id, "Zarenka", birth_year=1988)
        preparation.give_consent(self.db, self.coach.id, other, given_on=day_ago(9), scope="show")
        preparation.answer_screening(self.db, self.coach.id, other, answered_on=day_ago(9), yes=[])
        answer = self.post(f"/p/{other}/assess", {"taken_at": ago(3), "warmth": "warm"})
        theirs = int(answer.headers["Location"].rsplit("/", 1)[1])
        self.upload(theirs, plain_picture())
        mine = self.open()
        self.post(f"/a/{mine}/phone", {"act": "new"})
        link = self.page(f"/a/{mine}/phone").split("/c/")[1].split("<")[0].split('"')[0]

        def send(number: str, once: str) -> str:
            form = {
                "pose": LEG_RAISE, "side": "left", "mode": "active", "number": number,
                "once_key": once, "photo": (io.BytesIO(plain_picture()), "a.jpg"),
            }  # fmt: skip
            got = self.client.post(
                f"/c/{link}/photo", data=form, content_type="multipart/form-data"
            )
            self.assertEqual(got.status_code, 422)
            return str(got.json["problem"])

        said = send("1", "x")
        self.assertIn("was sent before", said)
        for word in ("Zarenka", "leg raise", "left"):
            self.assertNotIn(word, said)
        # The coach is told whose it is.
        told = self.text(self.upload(mine, plain_picture(), number="2"))
        self.assertIn("Zarenka", told)


class TheSheet(Day):
    def test_the_aim_shapes_it(self) -> None:
        """The first sheet was the same five poses whatever the person came for."""
        page = self.page(f"/p/{self.pid}/assess")
        self.assertIn("What is Runa here for?", page)
        self.assertRegex(page, r"Front split <small>\d+ poses, about \d+ min")
        plain = {x.pose for x in self.lines(self.open())}
        aimed = {x.pose for x in self.lines(self.open(aim=["front-split"]))}
        self.assertIn("front-split", aimed)
        self.assertNotEqual(plain, aimed)
        both = {x.pose for x in self.lines(self.open(aim=["front-split", "straddle"]))}
        self.assertLess(aimed, both)
        for a in visits.aims(self.work, self.pid):
            lines = visits.new_lines(self.work, self.pid, [a.pose.id])
            self.assertEqual(len({x.pose for x in lines}), a.poses)

    def test_poses_in_one_go(self) -> None:
        aid = self.open()
        six = ["butterfly", "pigeon", "straddle", LEG_RAISE, "low-lunge", "deep-squat"]
        self.post(f"/a/{aid}/lines", {"act": "choose", "poses": six})
        self.assertEqual({x.pose for x in self.lines(aid)}, set(six))
        demands = [catalogue().pose(x.pose).demand for x in self.lines(aid)]
        self.assertEqual(demands, sorted(demands))
        self.upload(aid, plain_picture())
        self.post(f"/a/{aid}/lines", {"act": "choose", "poses": ["butterfly"]})
        kept = {x.pose for x in self.lines(aid)}
        self.assertEqual(kept, {"butterfly", LEG_RAISE}, "what has photographs stays")

    def test_cold_has_no_warm_up(self) -> None:
        aid = self.open(warmth="cold", warm_up_min="8")
        self.assertNotIn("min warm-up", self.page(f"/a/{aid}"))
        self.assertIn("8 min warm-up", self.page(f"/a/{self.open(warm_up_min='8')}"))

    def test_what_is_planned_comes_before_one_more_of_a_retake(self) -> None:
        """The sheet opened with active trial 3 while passive was untaken."""
        taken = mock.Mock(spec=assessments.Trial)
        rows = (
            visits.Row(SheetLine(LEG_RAISE, "left", "active", 2), {1: taken, 2: taken}, "retake"),
            visits.Row(SheetLine(LEG_RAISE, "left", "passive", 2), {}, "empty"),
        )
        found = [visits.Station(catalogue().pose(LEG_RAISE), rows, 5.0, "", True)]
        order = [(s.mode, s.number) for s in visits.free(found)]
        self.assertEqual(order, [("passive", 1), ("passive", 2), ("active", 3)])
        last = Slot(LEG_RAISE, "left", "active", 2)
        self.assertEqual(visits.after(found, last), visits.free(found)[0])

    def test_a_clearance_opens_the_sheet(self) -> None:
        """Recorded after the sheet was opened, it changed nothing there, without a word."""
        preparation.answer_screening(
            self.db,
            self.coach.id,
            self.pid,
            answered_on=day_ago(2),
            yes=["knee"],
        )
        aid = self.open()
        self.assertEqual({x.mode for x in self.lines(aid)}, {"active"})
        self.assertNotIn("Clearance is recorded now", self.page(f"/a/{aid}"))
        ahead = {"cleared_by": "Dr Tern", "cleared_on": day_ago(-3)}
        said = self.text(self.post(f"/p/{self.pid}/clearance", ahead, follow_redirects=True))
        self.assertIn("it cannot lie ahead", said)
        self.assertNotIn("Say who", said)
        self.post(f"/p/{self.pid}/clearance", ahead | {"cleared_on": day_ago(0)})
        self.assertIn("Clearance is recorded now", self.page(f"/a/{aid}"))
        self.post(f"/a/{aid}/lines", {"act": "open"})
        lines = self.lines(aid)
        self.assertEqual({x.mode for x in lines}, {"active", "passive"})
        self.assertEqual([x.mode for x in lines[:2]], ["active", "passive"])
        self.assertNotIn("Clearance is recorded now", self.page(f"/a/{aid}"))


class Heard(Day):
    def test_knees_are_asked_about(self) -> None:
        self.assertIn("knee", [q.id for q in screening_questions()])
        preparation.answer_screening(
            self.db,
            self.coach.id,
            self.pid,
            answered_on=day_ago(2),
            yes=["knee"],
        )
        self.assertIn("knee", [c.id for c in self.cautions()])

    def test_an_injury_that_hurts_reaches_the_plan(self) -> None:
        note = {"kind": "injury", "on_date": day_ago(1), "text": "fell off the wall"}
        self.post(f"/p/{self.pid}/notes", note)
        self.assertEqual(self.cautions(), ())
        said = self.post(
            f"/p/{self.pid}/notes", note | {"place": "left_knee"}, follow_redirects=True
        )
        self.assertIn("Noted as pain in the left knee", self.text(said))
        self.assertEqual(
            [c.id for c in self.cautions()],
            ["knee_pain", "kneecap", "knee_sides", "knee_inside", "knee_behind"],
        )

    def test_reminders(self) -> None:
        """ "Remind of the visit" with no visit wrote about practice; pressed twice, twice."""
        practitioners.update(self.db, self.coach.id, self.pid, email="runa@quay.example")

        def remind(kind: str) -> str:
            path = f"/p/{self.pid}/remind"
            return self.text(self.post(path, {"kind": kind}, follow_redirects=True))

        def written() -> list[str]:
            return [m.subject for m in outbox.letters(reminders.box(self.work))]

        self.assertIn("No visit of Runa lies ahead", remind("visit"))
        self.assertIn("nothing was measured yet", remind("look"))
        practitioners.plan_visit(self.db, self.coach.id, self.pid, ago(1, "18:00"))
        self.assertIn("No visit of Runa lies ahead", remind("visit"))
        self.assertEqual(written(), [])
        practitioners.plan_visit(self.db, self.coach.id, self.pid, ago(-2, "18:00"))
        remind("visit")
        self.assertIn("was already written to Runa", remind("visit"))
        self.assertEqual(len(written()), 1)
        self.assertIn("See you on", written()[0])

    def test_the_log_form_opens_at_now(self) -> None:
        page = self.page(f"/p/{self.pid}/practice")
        value = re.search(r'name="started_at"[^>]*? value="([^"]*)"', page)
        assert value is not None
        self.assertEqual(moment_of(value[1]).date().isoformat(), day_ago(0))

    def test_a_goal_may_be_set_before_any_photograph(self) -> None:
        self.assertIn('id="goal-pose"', self.page(f"/p/{self.pid}"))
        goal = {"pose": "front-split", "side": "each", "mode": "passive", "target": "175"}
        self.assertIn(
            "Not measured yet",
            self.text(self.post(f"/p/{self.pid}/goals", goal, follow_redirects=True)),
        )
