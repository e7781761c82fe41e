"""Pages on which pain is told and answered, rules are disagreed with, and clinicians are asked."""

import unittest

from dachi.core.words import PainKind, Place
from dachi.store import practice_log, practitioners, preparation, safety
from dachi.store import weeks as stored
from dachi.store.practice_log import DrillDone, Felt, NewLogEntry, Pain
from dachi.store.weeks import Profile
from tests.support import Pages, ago, asked_of, day_ago


class Told(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        stored.save_profile(self.db, self.coach.id, self.pid, Profile(level=2, minutes=20.0, weekdays=(0, 3)))  # fmt: skip
        self.plan = f"/p/{self.pid}/plan"

    def hurt(self, days: float, place: Place = Place.LEFT_GROIN, kind: PainKind = PainKind.DULL) -> int:  # fmt: skip
        entry = NewLogEntry(once_key=f"k{days}", started_at=ago(days, "07:00:00"), seconds=600, felt=Felt.RIGHT, finished=True, done=(DrillDone("lizard", 60.0),), pains=(Pain("lizard", place, kind),))  # fmt: skip
        return practice_log.add(self.db, self.coach.id, self.pid, entry)

    def page(self, path: str) -> str:
        answer = self.client.get(path)
        self.assertEqual(answer.status_code, 200)
        return self.text(answer)

    def own_page(self) -> str:
        self.post(f"/p/{self.pid}/link", {"act": "new"})
        page = self.page(f"/p/{self.pid}/practice")
        return "/me/" + page.split("<code>")[1].split("</code>")[0].split("/me/")[1]

    def test_the_question_is_asked_of_both(self) -> None:
        self.hurt(9)
        plan = self.page(self.plan)
        self.assertIn("Is it quiet?", plan)
        self.assertIn("its end opens, at half the dose", plan.casefold())
        own = self.own_page()
        self.assertIn("left groin: is it quiet now?", self.page(own))
        self.client.post(f"{own}/quiet", data={"key": "groin|left", "answer": "not_yet"})
        self.assertIn("is it quiet now?", self.page(own))
        self.client.post(f"{own}/quiet", data={"key": "groin|left", "answer": "seen"})
        self.client.post(f"{own}/quiet", data={"key": "moon|left", "answer": "quiet"})
        self.assertIn("is it quiet now?", self.page(own), "that is the coach's to say")
        self.client.post(f"{own}/quiet", data={"key": "groin|left", "answer": "quiet"})
        self.assertNotIn("is it quiet now?", self.page(own))
        self.assertNotIn("Is it quiet?", self.page(self.plan))
        said = self.post(f"{self.plan}/quiet", {"key": "groin|left", "answer": "seen"}, follow_redirects=True)  # fmt: skip
        self.assertIn("Say which doctor", self.text(said))

    def test_more_of_a_pain_later(self) -> None:
        log_id = self.hurt(1)
        own = self.own_page()
        self.assertIn("About the left groin last time", self.page(own))
        self.client.post(f"{own}/pain", data={"log": "x"})
        self.client.post(f"{own}/pain", data={"log": str(log_id), "place": "left_groin", "level": "99"})  # fmt: skip
        self.assertIn("About the left groin last time", self.page(own), "nothing was kept")
        self.client.post(f"{own}/pain", data={"log": str(log_id), "place": "left_groin", "level": "6", "after": "hours", "spreads": "1"})  # fmt: skip
        self.assertNotIn("last time", self.page(own))
        page = self.page(f"/p/{self.pid}/practice")
        self.assertIn("6 of 10, spreading, some hours", page)
        self.assertIn("left leg 1 times, at most 6 of 10", page)

    def test_by_hand_with_all_of_it(self) -> None:
        form = {"once_key": "h", "started_at": ago(1), "minutes": "10", "what": "", "felt": "", "soreness": "", "notes": "", "place": "right_groin", "kind": "sharp"}  # fmt: skip
        for wrong, words in (({"level": "11"}, "from 0 to 10"), ({"level": "3", "after": "ever"}, "from the list")):  # fmt: skip
            answer = self.post(f"/p/{self.pid}/practice", form | wrong)
            self.assertIn(words, self.text(answer))
        self.post(f"/p/{self.pid}/practice", form | {"level": "7", "after": "swelling", "spreads": "1"})  # fmt: skip
        (entry,) = practice_log.entries(self.db, self.coach.id, self.pid)
        self.assertEqual((entry.pains[0].level, entry.pains[0].after, entry.pains[0].spreads), (7, "swelling", True))  # fmt: skip
        self.assertIn("until a doctor", self.page(self.plan))

    def test_a_coach_disagrees(self) -> None:
        self.hurt(1)
        search = self.page(f"{self.plan}/0/raise-up/other?q=lizard")
        self.assertIn("I disagree", search)
        self.post(f"{self.plan}/overrule", {"what": "open_drill", "name": "lizard", "reason": "it was the cold"})  # fmt: skip
        self.assertIn("it was the cold", self.page(self.plan))
        none = self.post(f"{self.plan}/overrule", {"what": "open_gate", "name": "supine-80", "reason": ""}, follow_redirects=True)  # fmt: skip
        self.assertIn("Say why", self.text(none))
        self.post(f"{self.plan}/overrule", {"what": "open_gate", "name": "supine-80", "reason": "seen in class", "from": "ladders"})  # fmt: skip
        ladders = self.page(f"/p/{self.pid}/ladders")
        self.assertIn("opened by the coach: seen in class", ladders)
        for name in ("lizard", "supine-80"):
            self.post(f"{self.plan}/overrule", {"what": "lift", "name": name})
        self.assertEqual(safety.known(self.db, self.coach.id, self.pid).overruled, ())

    def test_a_drill_is_added_and_said_something_of(self) -> None:
        practitioners.update(self.db, self.coach.id, self.pid, props=("mat", "strap"))
        search = self.page(f"{self.plan}/0/add?q=knees+sway")
        self.assertIn("Add it", search)
        self.assertEqual(self.client.get(f"{self.plan}/9/add").status_code, 404)
        self.post(f"{self.plan}/wish", {"do": "keep 0 knees-sway"})
        self.post(f"{self.plan}/note", {"drill": "knees-sway", "text": " a towel  under the left knee ", "day": "0"})  # fmt: skip
        self.assertEqual(self.post(f"{self.plan}/note", {"drill": "moon"}).status_code, 400)
        page = self.page(self.plan)
        self.assertIn("“a towel under the left knee”", page)
        own = self.own_page()
        self.assertIn("a towel under the left knee", self.page(f"{own}/play/0"))
        # What was put in by hand and closes since says why it is not there.
        self.hurt(0.2, Place.LOW_BACK, PainKind.SHARP)
        self.assertIn("not planned: Sharp pain in the low back", self.page(self.plan))
        self.post(f"{self.plan}/note", {"drill": "knees-sway", "text": ""})
        self.assertNotIn("towel", self.page(self.plan))

    def test_a_day_to_prepare_for(self) -> None:
        self.post(f"{self.plan}/event", {"on": day_ago(-3), "what": "autumn show"})
        page = self.page(self.plan)
        self.assertIn("Autumn show on", page)
        wrong = self.post(f"{self.plan}/event", {"on": "soon"}, follow_redirects=True)
        self.assertIn("Give the day of the event", self.text(wrong))
        self.post(f"{self.plan}/event", {"on": ""})
        self.assertIn("Preparing for a day?", self.page(self.plan))

    def test_signs_clearance_and_a_page_for_a_clinician(self) -> None:
        form = asked_of("hip_replacement", **{"side-hip_replacement": "left", "part-hip_replacement": "back"})  # fmt: skip
        self.post(f"/p/{self.pid}/screening", form | {"group-today": "yes", "flag": ["saddle"]})
        page = self.page(f"/p/{self.pid}/prepare")
        self.assertIn("wants a doctor today", page)
        self.assertIn("left, from the back, not cleared yet", page)
        self.assertIn("wants a doctor today", self.page(self.plan))
        self.assertIn("wants a doctor today", self.page(self.own_page()))
        paper = self.page(f"/p/{self.pid}/handover")
        self.assertIn("which directions and loads are free", paper)
        none = self.post(f"/p/{self.pid}/seen", {"by": ""}, follow_redirects=True)
        self.assertIn("Say which doctor", self.text(none))
        self.post(f"/p/{self.pid}/seen", {"by": "Dr Reed"})
        self.assertNotIn("wants a doctor today", self.page(f"/p/{self.pid}/prepare"))
        clear = {"question": "hip_replacement", "cleared_by": "Dr Reed", "cleared_on": day_ago(0), "allowed": ["flexion"]}  # fmt: skip
        for until, words in (("soon", "Give the last day"), (day_ago(3), "cannot end before")):
            said = self.post(f"/p/{self.pid}/clearance", clear | {"until": until}, follow_redirects=True)  # fmt: skip
            self.assertIn(words, self.text(said))
        self.post(f"/p/{self.pid}/clearance", clear | {"until": day_ago(-90)})
        found = preparation.answers(self.db, self.coach.id, self.pid)["hip_replacement"]
        self.assertEqual((found.cleared, found.allowed, found.side, found.until), (True, ("flexion",), "left", day_ago(-90)))  # fmt: skip
        self.assertIn("cleared by Dr Reed until", self.page(f"/p/{self.pid}/prepare"))


if __name__ == "__main__":
    unittest.main()
