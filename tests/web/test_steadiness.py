"""The studio's own error: its page, photographs marked again, visits without practice, felt."""

import json

from dachi.store import assessments, felt, markings, preparation, remarks, second_opinions
from tests.support import CLOCK, LEG_RAISE, ago, day_ago, plain_picture, rendered
from tests.web.test_progress import History


class Steadiness(History):
    def test_with_nobody_measured(self) -> None:
        page = self.get("/steadiness")
        self.assertIn("Nothing is measured yet", page)
        self.assertNotIn("Mark one again, blind", page)

    def test_what_the_error_is_made_of(self) -> None:
        self.rising()
        page = self.get("/steadiness")
        self.assertIn("Supine leg raise", page)
        self.assertIn("3.0 trials a visit", page)
        self.assertRegex(page, r"mostly (the day|the body from trial to trial|camera)")
        self.assertIn("two visits in one week", page)

    def marked(self) -> int:
        tid = self.shot(self.new_assessment())
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        return tid

    def test_marked_again_blind(self) -> None:
        """The first marks are nowhere on the page, nothing that counts changes, both are told."""
        _, truth = rendered()
        tid = self.marked()
        first = markings.readings(self.db, self.coach.id, tid)
        page = self.get(f"/t/{tid}/again")
        for x, y in truth["marks_px"].values():
            self.assertNotIn(f'value="{x}"', page)
            self.assertNotIn(f'value="{y}"', page)
        self.assertNotIn("big-number", page)
        form = self.marks_form(truth)
        answer = self.text(self.post(f"/t/{tid}/again/read", form))
        self.assertNotIn("big-number", answer)
        self.assertIn('data-guesses="0"', answer)
        form["mark-ankle-x"] = float(form["mark-ankle-x"]) + 12
        said = self.text(self.post(f"/t/{tid}/again", form, follow_redirects=True))
        self.assertRegex(said, r"leg above the floor: \d+° the first time, \d+° now")
        (kept,) = remarks.of_coach(self.db, self.coach.id)
        pair = kept.twice["leg_line"]
        headline = next(r for r in first if r.headline)
        self.assertAlmostEqual(pair.first, headline.value)
        self.assertGreater(abs(pair.again - pair.first), 0.5)
        self.assertEqual(markings.readings(self.db, self.coach.id, tid), first)
        self.assertEqual(len(markings.history(self.db, self.coach.id, tid)), 1)
        self.assertIn("1 so far", self.get("/steadiness"))

    def test_unhappy_paths(self) -> None:
        _, truth = rendered()
        tid = self.marked()
        form = self.marks_form(truth)
        guess = self.post(
            f"/t/{tid}/again", form | {"mark-knee-state": "guess"}, follow_redirects=True
        )
        self.assertIn("still at the starting guess: raised knee", self.text(guess))
        odd = self.post(f"/t/{tid}/again", form | {"mark-knee-x": "far"}, follow_redirects=True)
        self.assertIn("not a number", self.text(odd))
        self.assertEqual(
            self.post(f"/t/{tid}/again/read", form | {"mark-knee-x": "far"}).status_code, 422
        )
        sent = self.upload(self.new_assessment(ago(3)), plain_picture())
        waiting = int(sent.headers["Location"].rsplit("/", 1)[1])
        for answer in (
            self.client.get(f"/t/{waiting}/again", follow_redirects=True),
            self.post(f"/t/{waiting}/again", form, follow_redirects=True),
        ):
            self.assertIn("not marked yet", self.text(answer))
        self.assertEqual(remarks.of_coach(self.db, self.coach.id), [])
        preparation.give_consent(
            self.db, self.coach.id, self.pid, given_on=day_ago(1), scope="show"
        )
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(0))
        self.assertIn(
            "Consent was withdrawn",
            self.text(self.client.get(f"/t/{tid}/again", follow_redirects=True)),
        )
        self.assertIsNone(remarks.unseen(self.db, self.coach.id))

    def test_a_week_without_practice(self) -> None:
        """Asked only within the week, kept and taken back."""
        self.visit(9, {(LEG_RAISE, "left", "passive"): [70, 71]})
        self.assertNotIn("Nothing was practised since", self.get(f"/p/{self.pid}/assess"))
        now = CLOCK.local().strftime("%Y-%m-%dT%H:%M")
        self.visit(4, {(LEG_RAISE, "left", "passive"): [70, 71]})
        self.assertIn("Nothing was practised since", self.get(f"/p/{self.pid}/assess"))
        answer = self.post(
            f"/p/{self.pid}/assess", {"taken_at": now, "warmth": "warm", "still": "1"}
        )
        aid = int(answer.headers["Location"].rsplit("/", 1)[1])
        self.assertEqual(assessments.still(self.db, self.coach.id, self.pid), {aid})
        self.assertIn(
            "checked", self.get(f"/a/{aid}/edit").split("Nothing was practised")[0][-120:]
        )
        self.post(f"/a/{aid}/edit", {"taken_at": now, "warmth": "warm", "notes": ""})
        self.assertEqual(assessments.still(self.db, self.coach.id, self.pid), set())


class Felt(History):
    def test_one_tap_and_back(self) -> None:
        aid = self.new_assessment(ago(5))
        for kind, answer in (("tighter", "left"), ("again", "freer"), ("tighter", "right")):
            self.post(f"/a/{aid}/felt", {"kind": kind, "answer": answer})
        self.assertEqual(
            felt.of_visit(self.db, self.coach.id, aid), {"tighter": "right", "again": "freer"}
        )
        self.assertIn('value="right" aria-pressed="true"', self.get(f"/a/{aid}"))
        self.assertIn(
            "Felt: tighter today: right; the same movement at the end: freer.",
            self.get(f"/a/{aid}/review"),
        )
        self.post(f"/a/{aid}/felt", {"kind": "tighter", "answer": "right"})
        self.assertEqual(felt.of_visit(self.db, self.coach.id, aid), {"again": "freer"})
        for kind, answer in (("tighter", "up"), ("mood", "left"), ("", "")):
            self.post(f"/a/{aid}/felt", {"kind": kind, "answer": answer})
        self.assertEqual(felt.of_visit(self.db, self.coach.id, aid), {"again": "freer"})

    def test_beside_the_chart(self) -> None:
        aid = self.visit(2, {(LEG_RAISE, "left", "passive"): [70]})
        felt.at_visit(self.db, self.coach.id, aid, "catch", "left out")
        self.assertIn(
            "a circle of the hip catches: left, outward",
            self.get(f"/p/{self.pid}?pose={LEG_RAISE}"),
        )

    def test_words_that_nobody_offered_are_refused(self) -> None:
        aid = self.new_assessment(ago(5))
        with self.assertRaises(ValueError):
            felt.at_visit(self.db, self.coach.id, aid, "tighter", json.dumps("x"))


class Instruments(History):
    def test_photographs_against_an_inclinometer(self) -> None:
        """Photographs read 70 each; 72, 74 and 73: +3 on average, a standard deviation of 1."""
        aid = self.visit(3, {(LEG_RAISE, "left", "passive"): [70, 70, 70]})
        self.assertNotIn("against the photographs", self.get("/steadiness"))
        own = assessments.trials(self.db, self.coach.id, aid)
        for trial, angle in zip(own, (72.0, 74.0, 73.0), strict=True):
            second_opinions.give(
                self.db,
                self.coach.id,
                trial.id,
                second_opinions.Opinion("inclinometer", angle, 1.0),
            )
        self.assertIn(
            "So far 3: they read +3° against the photographs on average, and scatter by 1.0°",
            self.get("/steadiness"),
        )
