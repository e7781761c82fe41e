"""Consent and screening through the test client: what they stop, and what lifts it."""

import unittest
from datetime import timedelta

from dachi.core.words import Place
from dachi.store import accounts, day_states, practitioners, preparation
from dachi.store.day_states import DayState
from tests.support import CLOCK, LEG_RAISE, Pages, ago, asked_of, plain_picture


class Prepare(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.today = CLOCK.today().isoformat()
        self.new = practitioners.add(self.db, self.coach.id, "Merel", birth_year=1990)

    def visit_of(self, pid: int) -> int:
        form = {"taken_at": ago(6), "warmth": "warm"}
        return int(self.post(f"/p/{pid}/assess", form).headers["Location"].rsplit("/", 1)[1])

    def said(self, path: str, **form: object) -> str:
        return self.text(self.post(path, form, follow_redirects=True))

    def test_no_photograph_without_consent(self) -> None:
        aid = self.visit_of(self.new)
        answer = self.upload(aid, plain_picture(), mode="active")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("not recorded yet", self.text(answer))
        self.assertIn(
            "Say what", self.said(f"/p/{self.new}/consent", given_on=self.today, scope="all")
        )
        tomorrow = (CLOCK.today() + timedelta(days=1)).isoformat()
        for day in ("", "soon", tomorrow):
            self.assertIn(
                "cannot lie ahead", self.said(f"/p/{self.new}/consent", given_on=day, scope="show")
            )
        self.assertIn(
            "Given on", self.said(f"/p/{self.new}/consent", given_on=self.today, scope="measure")
        )
        self.assertEqual(self.upload(aid, plain_picture(), mode="active").status_code, 302)
        page = self.said(f"/p/{self.new}/consent", given_on=self.today, withdraw="1")
        self.assertIn("was withdrawn", page)
        answer = self.upload(aid, plain_picture(700, 500), mode="active", number="2")
        self.assertIn("was withdrawn", self.text(answer))
        self.assertEqual(self.db.execute("SELECT count(*) FROM trial").fetchone()[0], 1)

    def test_a_minor_needs_a_guardian(self) -> None:
        young = practitioners.add(
            self.db, self.coach.id, "Tavi", birth_year=CLOCK.today().year - 14
        )
        form = {"given_on": self.today, "scope": "show"}
        self.assertIn("name the guardian", self.said(f"/p/{young}/consent", **form))
        self.assertIn("by Mother", self.said(f"/p/{young}/consent", **form, guardian="Mother"))

    def test_passive_shots_wait_for_clearance(self) -> None:
        aid = self.visit_of(self.new)
        self.post(f"/p/{self.new}/consent", {"given_on": self.today, "scope": "show"})
        self.assertIn("have not been asked", self.text(self.upload(aid, plain_picture())))
        self.assertIn("Still to be asked", self.said(f"/p/{self.new}/screening", yes="disc"))
        lacking = asked_of() | {"group-back": "yes"}
        self.assertIn("Say what of it applies", self.said(f"/p/{self.new}/screening", **lacking))
        page = self.said(f"/p/{self.new}/screening", **asked_of("disc"))
        self.assertIn("No folding with a rounded back", page)
        answer = self.upload(aid, plain_picture())
        self.assertIn("waits for a doctor", self.text(answer))
        place = {"pose": LEG_RAISE, "side": "left", "mode": "passive", "number": "1"}
        shot = {"angle": "70", "yaw": "5", "height": "60", "scatter": "0"}
        self.assertIn(
            "waits for a doctor", self.text(self.post(f"/a/{aid}/simulate", place | shot))
        )
        self.assertEqual(self.upload(aid, plain_picture(), mode="active").status_code, 302)
        self.assertIn(
            "Say who gave",
            self.said(f"/p/{self.new}/clearance", cleared_by="", cleared_on=self.today),
        )
        page = self.said(f"/p/{self.new}/clearance", cleared_by="Dr Quay", cleared_on=self.today)
        self.assertIn("cleared by Dr Quay", page)
        self.assertEqual(self.upload(aid, plain_picture(700, 500)).status_code, 302)
        # The same answers again keep the clearance; another yes asks for it anew.
        again = self.said(f"/p/{self.new}/screening", **asked_of("disc"))
        self.assertIn("cleared by Dr Quay", again)
        more = self.said(f"/p/{self.new}/screening", **asked_of("disc", "labrum"))
        self.assertIn("cleared by Dr Quay", more)
        self.assertIn("not cleared yet", more)
        other = self.said(f"/p/{self.new}/screening", **asked_of("disc", **{"side-disc": "left"}))
        self.assertNotIn("cleared by Dr Quay", other, "of another side it is another answer")
        rows = self.db.execute(
            "SELECT count(*) FROM screening WHERE practitioner_id = ?", (self.new,)
        ).fetchone()[0]
        self.assertEqual(rows, 4)

    def test_a_replaced_hip_is_cleared_one_direction_at_a_time(self) -> None:
        """Flexion allowed: the leg raise may be taken, the leg across may not, cleared or not."""
        aid = self.visit_of(self.new)
        self.post(f"/p/{self.new}/consent", {"given_on": self.today, "scope": "show"})
        page = self.said(f"/p/{self.new}/screening", **asked_of("hip_replacement"))
        self.assertIn("Directions the surgeon allows", page)
        page = self.said(
            f"/p/{self.new}/clearance", cleared_by="Dr Quay", cleared_on=self.today,
            allowed=["flexion", "sideways"],
        )  # fmt: skip
        self.assertIn('value="flexion" checked', page)
        self.assertNotIn('value="abduction" checked', page)
        found = preparation.answers(self.db, self.coach.id, self.new)
        self.assertEqual(found["hip_replacement"].allowed, ("flexion",))
        self.assertEqual(self.upload(aid, plain_picture()).status_code, 302)
        refused = self.upload(aid, plain_picture(700, 500), pose="leg-raise-across")
        self.assertIn("Only the directions the surgeon allows", self.text(refused))

    def test_pain_closes_a_shot(self) -> None:
        """A knee that hurts today is not photographed in pigeon; a leg raise of its own may be."""
        aid = self.visit_of(self.new)
        self.post(f"/p/{self.new}/consent", {"given_on": self.today, "scope": "show"})
        self.said(f"/p/{self.new}/screening", **asked_of())
        day_states.save(self.db, self.coach.id, aid, DayState(pain={Place.LEFT_KNEE: 5}))
        refused = self.upload(aid, plain_picture(), pose="pigeon", mode="active")
        self.assertIn("No weight on the kneecap", self.text(refused))
        self.assertIn(
            "No weight on the kneecap", self.text(self.client.get(f"/a/{aid}?pose=pigeon"))
        )

    def test_clearance_needs_answers(self) -> None:
        page = self.said(f"/p/{self.new}/clearance", cleared_by="Dr Quay", cleared_on=self.today)
        self.assertIn("Ask the screening questions first", page)

    def test_another_coach_changes_nothing(self) -> None:
        accounts.add(self.db, "other@quay.example", "Other", "a few words in a row")
        self.post("/sign-out")
        self.sign_in("other@quay.example")
        for path in ("consent", "screening", "clearance"):
            self.assertEqual(self.post(f"/p/{self.new}/{path}").status_code, 404)
        self.assertEqual(self.client.get(f"/p/{self.new}/prepare").status_code, 404)


if __name__ == "__main__":
    unittest.main()
