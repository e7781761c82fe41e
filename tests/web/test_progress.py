"""Overview, chart, compare, goals, notes, downloads and Today through the test client."""

import contextlib
import csv
import io
import re
import unittest
import xml.etree.ElementTree as ET
from datetime import timedelta
from unittest import mock

import numpy as np

from dachi.core.assessing.runsheet import Slot
from dachi.core.measuring.scene import Reading, Result
from dachi.core.words import Place
from dachi.data import catalogue
from dachi.store import (
    accounts,
    assessments,
    day_states,
    goals,
    markings,
    photos,
    positions,
    practitioners,
    preparation,
    summaries,
)
from dachi.store import summaries as stored
from dachi.store.day_states import DayState
from dachi.store.markings import Marking
from dachi.studio.recompute import recompute
from dachi.studio.verdicts.histories import day_number
from dachi.studio.verdicts.overview import hip_ranges
from dachi.studio.verdicts.summaries import anew, of_practitioner
from tests.support import CLOCK, LEG_RAISE, Pages, ago, day_ago, plain_picture, rendered


class History(Pages):
    """A practitioner with invented readings over weeks; no photograph is looked at."""

    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.photo = photos.add(self.db, self.coach.id, photos.NewPhoto(sha256="0" * 64, source_sha256="1" * 64, width=1280, height=960, focal_35mm=26.0, taken_at=None, origin="upload"))  # fmt: skip

    def visit(
        self, days_ago: int, values: dict, pid: int | None = None, warmth: str = "warm"
    ) -> int:
        """``values``: (pose, side, mode) -> trial values of the headline."""
        pid = pid or self.pid
        at = CLOCK.local().replace(hour=18, minute=0) - timedelta(days=days_ago)
        aid = assessments.add(
            self.db, self.coach.id, pid, taken_at=at.isoformat(timespec="minutes"), warmth=warmth
        )
        place = positions.start(self.db, self.coach.id, aid, "side")
        for (pose_id, side, mode), trials in values.items():
            pose = catalogue().pose(pose_id)
            for number, value in enumerate(trials, start=1):
                tid = assessments.add_trial(self.db, self.coach.id, aid, self.photo, Slot(pose_id, side, mode, number), variant=pose.default_variant(), position_id=place)  # fmt: skip
                readings = tuple(
                    Reading(m.id, m.label, m.unit, value, 1.2, value - 2.4, value + 2.4, True)
                    for m in pose.headlines
                    if m.heads(pose.default_variant()) and not m.needs
                )
                result = Result("", "mat", pose_id, readings, (), None, ())
                marks = {"hip": (500.0, 500.0), "knee": (600.0, 400.0)}
                self.invent(tid, Marking(marks=marks), result)
        anew(self.work, [pid])
        return aid

    def rising(self, pid: int | None = None, rate: float = 3.0, visits: int = 6) -> None:
        rng = np.random.default_rng(2)
        for i in range(visits):
            level = 60 + rate * i
            self.visit(14 * (visits - 1 - i), {
                (LEG_RAISE, "left", "passive"): level + rng.normal(0, 0.8, 3),
                (LEG_RAISE, "left", "active"): level - 16 + rng.normal(0, 0.8, 3),
                (LEG_RAISE, "right", "passive"): 75 + rng.normal(0, 0.8, 3),
            }, pid)  # fmt: skip

    def get(self, path: str) -> str:
        answer = self.client.get(path)
        self.assertEqual(answer.status_code, 200, path)
        return self.text(answer)


class Overview(History):
    def test_empty_and_measured(self) -> None:
        self.assertIn("Nothing is charted yet", self.get(f"/p/{self.pid}"))
        self.rising()
        page = self.get(f"/p/{self.pid}")
        self.assertIn("confirmed", page)
        self.assertIn("Left hip: flexion active", page)
        self.assertIn("next look from", page)
        self.assertIn("since last time", self.get(f"/p/{self.pid}?pose={LEG_RAISE}"))

    def test_what_changed_says_what_is_confirmed_and_what_is_a_first_sign(self) -> None:
        for days, left, right in (
            (75, 60, 70),
            (60, 64, 70),
            (45, 68, 71),
            (30, 72, 70),
            (15, 76, 70),
            (2, 80, 79),
        ):
            self.visit(days, {
                (LEG_RAISE, "left", "passive"): [left, left + 0.5, left],
                (LEG_RAISE, "right", "passive"): [right, right + 0.5, right],
            })  # fmt: skip
        told = self.get(f"/p/{self.pid}").split("What changed")[1].split("</ul>")[0]
        self.assertRegex(
            told,
            r"left passive: \+1[78]° ± \d+° over 10 weeks, seen at the last two visits: confirmed",
        )
        self.assertRegex(told, r"right passive: \+9° ± \d+° over 10 weeks, a first sign")
        self.assertLess(told.index("left passive"), told.index("right passive"))

    def test_what_holds_back_with_readings_and_the_settling_shot(self) -> None:
        self.visit(3, {
            ("front-split", "left", "passive"): [150, 151], (LEG_RAISE, "left", "passive"): [92, 93],
            ("low-lunge", "right", "passive"): [18, 19],
        })  # fmt: skip
        page = self.get(f"/p/{self.pid}")
        self.assertIn("Front split, left leg in front: perhaps hip flexors of the back leg", page)
        self.assertIn("The back has its part in the low lunge: mark both bony points", page)
        self.assertIn("low lunge passive right 18°", page)
        self.assertIn("Hanging hip extension", page)

    def test_hip_circle_takes_half_of_a_straddle(self) -> None:
        self.visit(3, {("straddle", "both", "passive"): [120, 120]})
        found = hip_ranges(summaries.of_practitioner(self.db, self.coach.id, self.pid))
        self.assertAlmostEqual(found["left"]["abduction"].passive, 60)
        self.assertNotIn("flexion", found["left"])

    def test_hip_circle_takes_no_range_with_the_back_in_it(self) -> None:
        self.visit(3, {("low-lunge", "left", "passive"): [34, 33]})
        found = hip_ranges(summaries.of_practitioner(self.db, self.coach.id, self.pid))
        self.assertNotIn("extension", found["left"])


class Charts(History):
    def test_conditions_are_included_by_choice(self) -> None:
        self.visit(60, {(LEG_RAISE, "left", "passive"): [70, 71]})
        self.visit(40, {(LEG_RAISE, "left", "passive"): [74, 75]})
        self.visit(20, {(LEG_RAISE, "left", "passive"): [60, 61]}, warmth="cold")
        path = f"/p/{self.pid}?pose={LEG_RAISE}"
        page = self.get(path)
        self.assertEqual(page.count('class="c-ring '), 2)
        self.assertEqual(page.count('class="c-hollow '), 2)
        self.assertIn("warmth (2)", page)
        self.assertIn("not done like the others: warm or cold", page)
        page = self.get(f"{path}&include=warmth")
        self.assertEqual(page.count('class="c-ring '), 3)
        self.assertIn("included by choice", page)
        self.assertIn("Conditions differ", page)

    def test_prop_height_is_a_condition(self) -> None:
        self.visit(60, {("front-split", "left", "passive"): [140, 141]})
        aid = self.visit(40, {("front-split", "left", "passive"): [150, 151]})
        self.visit(20, {("front-split", "left", "passive"): [142, 143]})
        self.db.execute("UPDATE trial SET prop_cm = 12 WHERE assessment_id = ?", (aid,))
        page = self.get(f"/p/{self.pid}?pose=front-split")
        self.assertIn("prop (2)", page)
        self.assertEqual(page.count('class="c-ring '), 2)

    def test_one_variant_is_charted_at_a_time(self) -> None:
        ids = [
            self.visit(70 - 10 * i, {("front-split", "left", "passive"): [140 + i]})
            for i in range(5)
        ]
        off = {"hips": "off_centre", "near_leg": "front"}
        for aid in ids[3:]:
            (trial,) = assessments.trials(self.db, self.coach.id, aid)
            assessments.set_details(self.db, self.coach.id, trial.id, off, None)
        anew(self.work, [self.pid])
        page = self.get(f"/p/{self.pid}?pose=front-split")
        self.assertEqual(page.count('class="c-ring '), 3)
        self.assertIn("not done like the others: another form of the pose", page)
        choice = re.findall(r"<option ?(?:selected)?>([^<]*20 to 30°[^<]*)</option>", page)[0]
        page = self.get(f"/p/{self.pid}?pose=front-split&variant={choice}")
        self.assertEqual(page.count('class="c-ring '), 2)

    def test_both_sides_of_one_photograph_are_two_panels(self) -> None:
        self.visit(60, {("butterfly", "both", "passive"): [30, 31]})
        self.visit(20, {("butterfly", "both", "passive"): [12, 13]})
        page = self.get(f"/p/{self.pid}?pose=butterfly")
        self.assertIn("c-ring c-left c-passive", page)
        self.assertIn("c-ring c-right c-passive", page)
        self.assertIn("Lower is more range", page)
        self.assertIn("a first sign of a gain", page)

    def test_svg_stands_alone(self) -> None:
        self.rising()
        answer = self.client.get(f"/p/{self.pid}/chart.svg?pose={LEG_RAISE}")
        self.assertIn("attachment", answer.headers["Content-Disposition"])
        root = ET.fromstring(answer.data)
        self.assertTrue(root.tag.endswith("svg"))
        self.assertIn("--left", answer.get_data(as_text=True))
        self.assertEqual(self.client.get(f"/p/{self.pid}/chart.svg?pose=nothing").status_code, 404)

    def test_csv_has_every_reading_and_no_formulas(self) -> None:
        practitioners.update(
            self.db, self.coach.id, self.pid, call_name="=SUM(A1)", birth_year=None, height_cm=None,
            thigh_cm=None, shin_cm=None, notes="",
        )  # fmt: skip
        self.rising()
        answer = self.client.get(f"/p/{self.pid}/readings.csv")
        self.assertEqual(answer.content_type, "text/csv; charset=utf-8")
        rows = list(csv.DictReader(io.StringIO(answer.get_data(as_text=True))))
        self.assertEqual(len(rows), 6 * 9)
        self.assertEqual(rows[0]["practitioner"], "'=SUM(A1)")
        self.assertEqual(rows[0]["unit"], "deg")
        self.assertIn("T18:00", rows[0]["taken_at"])


class HowItWasDone(Pages):
    def test_variant_and_support_are_changed_on_the_bench(self) -> None:
        self.sign_in()
        tid = self.shot()
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        before = self.text(self.client.get(f"/t/{tid}"))
        self.assertIn("The resting thigh stays down", before)
        for text in ("high", "400", "-3"):
            answer = self.post(f"/t/{tid}/details", {"prop_cm": text}, follow_redirects=True)
            self.assertIn("0 to 150", self.text(answer))
        form = {"prop_cm": "12,5", "variant-resting_leg": "block"}
        page = self.text(self.post(f"/t/{tid}/details", form, follow_redirects=True))
        self.assertIn("on 12.5 cm", page)
        self.assertNotIn("The resting thigh stays down", page)
        row = self.db.execute("SELECT variant, prop_cm FROM trial").fetchone()
        self.assertIn('"block"', row["variant"])
        checks = self.db.execute("SELECT check_id FROM check_result").fetchall()
        self.assertEqual([c["check_id"] for c in checks], ["knee_bend"])
        chart = self.text(self.client.get(f"/p/{self.pid}?pose={LEG_RAISE}"))
        self.assertIn("pelvis on a block", chart)


class Comparing(Pages):
    def test_two_photographs_with_their_verdict(self) -> None:
        self.sign_in()
        self.assertIn(
            "not two assessments",
            self.text(self.client.get(f"/p/{self.pid}/compare?pose={LEG_RAISE}")),
        )
        for when, value, seed in ((ago(86, "18:00"), 76.0, 3), (ago(25, "18:00"), 62.0, 9)):
            aid = self.new_assessment(when)
            data, truth = rendered("left", value, seed)
            tid = int(self.upload(aid, data).headers["Location"].rsplit("/", 1)[1])
            self.post(f"/t/{tid}/save", self.marks_form(truth))
        page = self.text(self.client.get(f"/p/{self.pid}/compare?pose={LEG_RAISE}"))
        self.assertIn("a first sign of a loss", page)
        self.assertRegex(page, r"These two photographs: 7[4-8]° and 6[0-4]°, −1[0-8]° ± \d+°")
        self.assertEqual(page.count("fan-rim"), 2)
        # Aligned: hip and knee of both lie at the same distance in the shared picture.
        moves = re.findall(r"translate\(([-\d.]+) ([-\d.]+)\) scale\(([\d.]+)\)", page)[:2]
        hips = []
        for (x, y, k), (value, seed) in zip(moves, ((76.0, 3), (62.0, 9)), strict=True):
            marks = rendered("left", value, seed)[1]["marks_px"]
            place = [float(x) + float(k) * marks["hip"][0], float(y) + float(k) * marks["hip"][1]]
            hips.append(place)
            length = float(k) * np.hypot(*(np.array(marks["knee"]) - marks["hip"]))
            self.assertAlmostEqual(length, 180.0, delta=0.5)
        np.testing.assert_allclose(hips[0], hips[1], atol=0.3)
        same = self.text(self.client.get(f"/p/{self.pid}/compare?pose={LEG_RAISE}&a=1&b=1"))
        self.assertIn("same assessment", same)
        self.assertEqual(
            self.client.get(f"/p/{self.pid}/compare?pose={LEG_RAISE}&a=77").status_code, 404
        )


class Plans(History):
    def test_goals(self) -> None:
        form = {"pose": LEG_RAISE, "side": "left", "mode": "passive", "target": "90", "due_on": ""}
        for changes, words in (
            ({"pose": "handstand"}, "Choose a pose"), ({"target": "far"}, "as a number"),
            ({"target": "900"}, "not believable"), ({"due_on": "2020-01-01"}, "in the past"),
            ({"due_on": "soon"}, "27 Nov 2026 or 2026-11-27"),
        ):  # fmt: skip
            answer = self.post(f"/p/{self.pid}/goals", form | changes, follow_redirects=True)
            self.assertIn(words, self.text(answer))
        self.assertIn(
            "Not measured yet",
            self.text(self.post(f"/p/{self.pid}/goals", form, follow_redirects=True)),
        )
        self.rising()
        due = (CLOCK.today() + timedelta(days=400)).isoformat()
        self.post(f"/p/{self.pid}/goals", form | {"target": "82", "due_on": due})
        self.assertEqual(len(goals.of_practitioner(self.db, self.coach.id, self.pid)), 1)
        page = self.get(f"/p/{self.pid}")
        self.assertRegex(page, r"Now 7\d°; (between|not before)")
        self.assertIn("goal 82°", self.get(f"/p/{self.pid}?pose={LEG_RAISE}"))
        self.post(f"/p/{self.pid}/goals", form | {"target": "60"})
        self.assertIn("Reached (now", self.get(f"/p/{self.pid}"))
        (goal,) = goals.of_practitioner(self.db, self.coach.id, self.pid)
        self.post(f"/goals/{goal.id}/close")
        self.assertIn("No goal is set", self.get(f"/p/{self.pid}"))
        self.assertEqual(self.post(f"/goals/{goal.id}/close").status_code, 404)

    def test_notes_are_drawn(self) -> None:
        self.rising()
        bad = {"on_date": "", "kind": "injury", "text": "knee"}
        self.assertIn(
            "day of the note",
            self.text(self.post(f"/p/{self.pid}/notes", bad, follow_redirects=True)),
        )
        on = (CLOCK.today() - timedelta(days=30)).isoformat()
        self.post(f"/p/{self.pid}/notes", bad | {"on_date": on, "text": "Rolled the <b>ankle</b>"})
        chart = self.get(f"/p/{self.pid}?pose={LEG_RAISE}")
        self.assertIn("c-rule-injury", chart)
        self.assertIn("Rolled the &lt;b&gt;ankle", chart)
        (note,) = goals.notes_of(self.db, self.coach.id, self.pid)
        self.post(f"/notes/{note.id}/remove")
        self.assertNotIn("c-rule-injury", self.get(f"/p/{self.pid}?pose={LEG_RAISE}"))
        self.assertEqual(day_number(on) % 1, day_number(day_ago(300)) % 1)

    def test_another_coach_reaches_none_of_it(self) -> None:
        self.rising()
        goals.add(
            self.db,
            self.coach.id,
            self.pid,
            pose=LEG_RAISE,
            family="leg_line",
            side="left",
            mode="passive",
            target=90,
            due_on=None,
        )
        accounts.add(self.db, "other@quay.example", "Other", "a few words in a row")
        self.client.get("/")
        self.post("/sign-out")
        self.sign_in("other@quay.example")
        for path in (
            f"/p/{self.pid}",
            f"/p/{self.pid}/compare?pose={LEG_RAISE}",
            f"/p/{self.pid}/readings.csv",
            f"/p/{self.pid}/chart.svg?pose={LEG_RAISE}",
        ):
            self.assertEqual(self.client.get(path).status_code, 404, path)
        for path in (
            "/goals/1/close",
            f"/p/{self.pid}/notes",
            f"/p/{self.pid}/visit",
            f"/p/{self.pid}/goals",
        ):
            self.assertEqual(self.post(path).status_code, 404, path)
        self.assertNotIn("Runa", self.get("/"))


def rows(page: str) -> list[tuple[str, str, str]]:
    """Names, groups and things to do of Today's list."""
    return re.findall(
        r'class="day-name"[^>]*>([^<]+)</a>.*?day-group">([^<]+)<.*?class="day-act"[^>]*>([^<]+)<',
        page,
        re.S,
    )


class Today(History):
    def test_each_person_once_under_the_most_pressing_reason(self) -> None:
        self.rising(visits=4)
        ilo = practitioners.add(self.db, self.coach.id, "Ilo")
        soon = (CLOCK.local() + timedelta(hours=1)).isoformat(timespec="minutes")
        self.post(f"/p/{ilo}/visit", {"next_visit_at": soon})
        old = practitioners.add(self.db, self.coach.id, "Oona")
        self.visit(90, {(LEG_RAISE, "left", "passive"): [70, 70]}, old)
        page = self.get("/")
        first, rest = page.split('id="rest-head"')
        # Who comes today and who was measured today stand first, and are not said twice.
        self.assertIn(">Ilo</a>", first)
        self.assertRegex(first, r"comes today at")
        self.assertIn(">Runa</a>", first)
        self.assertIn("a confirmed gain", first)
        self.assertEqual(rows(rest), [("Oona", "Due for a look", "Prepare")])
        for query, names in (
            ("show=changed", ["Runa"]), ("show=due", ["Oona"]), ("q=oo", ["Oona"]),
            ("q=il", ["Ilo"]), ("q=nobody", []), ("show=nonsense", ["Oona"]),
        ):  # fmt: skip
            with self.subTest(query):
                self.assertEqual([name for name, *_ in rows(self.get(f"/?{query}"))], names)
        self.assertIn("Nobody by that name", self.get("/?q=nobody"))
        bad = self.post(f"/p/{ilo}/visit", {"next_visit_at": "later"}, follow_redirects=True)
        self.assertIn("date and a time", self.text(bad))
        self.post(f"/p/{ilo}/visit", {"next_visit_at": ""})
        page = self.get("/")
        self.assertNotIn("Coming", page)
        self.assertIn(("Ilo", "Not measured yet", "Prepare"), rows(page))

    def test_photographs_to_mark_lead_to_the_bench(self) -> None:
        aid = self.new_assessment()
        self.upload(aid, plain_picture())
        page = self.get("/")
        self.assertIn("1 photograph to mark", page)
        self.assertIn('href="/t/1"', page)

    def test_a_loss_is_news(self) -> None:
        """Once it is a first sign and no news; seen again it is confirmed."""
        for days, value in ((60, 80), (40, 81), (20, 61)):
            self.visit(days, {(LEG_RAISE, "left", "passive"): [value, value + 1, value]})
        self.assertNotIn("loss", self.get("/"))
        self.assertIn("first sign", self.get(f"/p/{self.pid}"))
        self.visit(1, {(LEG_RAISE, "left", "passive"): [60, 61, 60]})
        page = self.get("/")
        self.assertIn("a confirmed loss", page)
        self.assertIn("seen at the last two visits", page)

    def test_a_sharp_loss_with_pain_is_news_at_once(self) -> None:
        for days, value in ((60, 80), (40, 81)):
            self.visit(days, {(LEG_RAISE, "left", "passive"): [value, value + 1, value]})
        aid = self.visit(1, {(LEG_RAISE, "left", "passive"): [60, 61, 60]})
        self.assertNotIn("with pain", self.get("/"))
        day_states.save(self.db, self.coach.id, aid, DayState(pain={Place.LEFT_KNEE: 4}))
        anew(self.work, [self.pid])
        for path in ("/", f"/p/{self.pid}", f"/a/{aid}/review"):
            self.assertIn("with pain in the left knee: ask before anything else", self.get(path))


class Summaries(History):
    def test_deleting_the_last_trial_drops_the_digest(self) -> None:
        aid = self.visit(3, {(LEG_RAISE, "left", "passive"): [70]})
        (trial,) = assessments.trials(self.db, self.coach.id, aid)
        self.post(f"/t/{trial.id}/delete")
        self.assertEqual(summaries.of_practitioner(self.db, self.coach.id, self.pid), [])
        self.post(f"/t/{trial.id}/restore")
        self.assertEqual(len(summaries.of_practitioner(self.db, self.coach.id, self.pid)), 1)

    def test_other_people_inform_the_error(self) -> None:
        self.visit(3, {(LEG_RAISE, "left", "passive"): [60, 70, 80]})
        other = practitioners.add(self.db, self.coach.id, "Ilo")
        self.visit(3, {(LEG_RAISE, "left", "passive"): [70, 70, 70]}, other)
        found = summaries.others_evidence(self.db, self.coach.id, other, LEG_RAISE, "leg_line")
        ((own,),) = found.values()
        self.assertEqual((own.within, own.within_df, own.between_df), (200.0, 2.0, 0.0))

    def test_recompute_resumes_and_leaves_the_impossible_alone(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        _, truth = rendered()
        self.post(f"/t/{tid}/save", self.marks_form(truth))
        self.visit(3, {(LEG_RAISE, "left", "passive"): [70]})
        before = self.db.execute("SELECT value FROM reading WHERE marking_id = 1").fetchall()
        self.db.execute("UPDATE reading SET value = 1")
        self.db.execute("UPDATE marking SET made_from = 'old'")
        seen: list[tuple[int, int]] = []
        found = recompute(self.folder, CLOCK, progress=lambda d, t: seen.append((d, t)))
        # The invented marking has too few marks to be measured and stays as it was.
        self.assertEqual((found.done, found.failed), (1, 1))
        after = self.db.execute("SELECT value FROM reading WHERE marking_id = 1").fetchall()
        self.assertEqual([r["value"] for r in before], [r["value"] for r in after])
        self.assertEqual(seen[-1], (2, 2))
        self.assertEqual(recompute(self.folder, CLOCK).done, 0)

    def readings_and_summaries(self, pid: int) -> tuple[list[float], list[float]]:
        """Headline readings of a person, and the values that the overview would show."""
        rows = markings.charted(self.db, self.coach.id, pid)
        shown = of_practitioner(self.work, pid)
        return [r.value for r in rows], [
            line.value for x in shown for f in x.families for line in f.lines
        ]

    def test_recompute_stopped_after_any_person_shows_nothing_stale_and_goes_on(self) -> None:
        """Found: stopped between readings and digests, a chart said 75.8 and the overview 125.8.

        Who was here last is read first.
        """
        people = []
        for number in (1, 2, 3):
            self.pid = practitioners.add(
                self.db, self.coach.id, f"Person {number}", birth_year=1990
            )
            preparation.give_consent(
                self.db, self.coach.id, self.pid, given_on=day_ago(300), scope="show"
            )
            preparation.answer_screening(
                self.db, self.coach.id, self.pid, answered_on=day_ago(300), yes=[]
            )
            data, truth = rendered(value=70.0 + 3 * number, seed=number)
            answer = self.upload(self.new_assessment(ago(12 + 6 * number)), data)
            tid = int(answer.headers["Location"].rsplit("/", 1)[1])
            self.post(f"/t/{tid}/save", self.marks_form(truth))
            people.append(self.pid)
        right = [self.readings_and_summaries(p) for p in people]
        for stop_after in range(4):
            self.db.execute("UPDATE marking SET made_from = 'old'")
            self.db.execute("UPDATE reading SET value = value + 50")
            stored.mark_stale(self.db, self.coach.id, [LEG_RAISE])

            def stop(done: int, total: int, limit: int = stop_after) -> None:
                if done > limit:
                    raise KeyboardInterrupt

            with self.subTest(stop_after=stop_after):
                with contextlib.suppress(KeyboardInterrupt):
                    recompute(self.folder, CLOCK, progress=stop)
                found = [self.readings_and_summaries(p) for p in people]
                done = min(stop_after + 1, 3)
                self.assertEqual(found[:done], right[:done])
                self.assertTrue(
                    all(f != r for f, r in zip(found[done:], right[done:], strict=True))
                )
                recompute(self.folder, CLOCK)
                self.assertEqual([self.readings_and_summaries(p) for p in people], right)
                again = recompute(self.folder, CLOCK)
                self.assertEqual((again.done, again.summaries), (0, 0))

    def test_a_person_is_kept_whole_or_not_at_all(self) -> None:
        tid = self.shot(self.new_assessment())
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        right = self.readings_and_summaries(self.pid)
        self.db.execute("UPDATE marking SET made_from = 'old'")
        self.db.execute("UPDATE reading SET value = 1")
        with (
            mock.patch(
                "dachi.studio.verdicts.summaries.stale_from_now", side_effect=KeyboardInterrupt
            ),
            self.assertRaises(KeyboardInterrupt),
        ):
            recompute(self.folder, CLOCK)
        (kept,) = {r["made_from"] for r in self.db.execute("SELECT made_from FROM marking")}
        self.assertEqual(kept, "old")
        recompute(self.folder, CLOCK)
        self.assertEqual(self.readings_and_summaries(self.pid), right)


if __name__ == "__main__":
    unittest.main()
