"""Who may be photographed, and who may not be taken to the end of passive range."""

import unittest

from dachi.core.assessing.permission import (
    Consent,
    Screening,
    ages,
    cautions,
    may_be_minor,
    passive_refused,
    photograph_refused,
    shot_refused,
)
from dachi.core.catalogue.cautions import Answer, brought_by
from dachi.data import cautions as all_cautions
from dachi.data import demands_of_pose, screening_questions

GIVEN = Consent("2026-01-01", "show")


class Photographs(unittest.TestCase):
    def test_table(self) -> None:
        cases = [
            (None, 1990, "not recorded"),
            (GIVEN, 1990, None),
            (GIVEN, None, "birth year"),
            (Consent("2026-01-01", "show", withdrawn_on="2026-02-02"), 1990, "withdrawn"),
            (GIVEN, 2012, "guardian"),
            (GIVEN, 2008, "guardian"),  # eighteen this year, perhaps not yet
            (GIVEN, 2007, None),
            (Consent("2026-01-01", "show", until="2026-04-30"), 1990, "until 2026-04-30"),
            (Consent("2026-01-01", "show", until="2026-05-01"), 1990, None),
            (Consent("2026-01-01", "show", guardian="  "), 2012, "guardian"),
            (Consent("2026-01-01", "show", guardian="Mother"), 2012, None),
            (Consent("2026-01-01", "show", "Mother", "2026-02-02"), 2012, "withdrawn"),
        ]
        for consent, born, words in cases:
            with self.subTest(consent=consent, born=born):
                said = photograph_refused(consent, born, "2026-05-01")
                self.assertEqual(said is None, words is None)
                self.assertIn(words or "", said or "")

    def test_unknown_age_is_not_adult(self) -> None:
        self.assertTrue(may_be_minor(None, 2026))
        for born, young in ((None, True), (2010, True), (2009, False), (1980, False)):
            self.assertEqual(ages(born, 2026)[0] <= 15, young)


class Passive(unittest.TestCase):
    def test_every_yes_waits_for_clearance(self) -> None:
        self.assertIn("not been asked", passive_refused(None))
        self.assertIsNone(passive_refused(Screening("2026-01-01", ())))
        raised = demands_of_pose("butterfly")
        for q in screening_questions():
            with self.subTest(q.id):
                asked = Screening("2026-01-01", (q.id,))
                cleared = Screening("2026-01-01", (q.id,), "Dr Quay", "2026-01-05")
                for found, waits in ((asked, q.clearing), (cleared, False)):
                    brought = brought_by(all_cautions(), found.answers("2026-02-01", 4.0))
                    own = [c for c in brought if c.id == "uncleared"]
                    self.assertEqual(shot_refused(raised, own, passive=True) is not None, waits)
                    self.assertIsNone(shot_refused(raised, own, passive=False))
                # Cleared or not, the caution stays in sight.
                self.assertEqual(cautions(cleared, screening_questions()), (q.caution,))

    def test_a_clearance_has_an_end_and_a_pregnancy_goes_on(self) -> None:
        told = {
            "surgery": Answer(True, by="Dr Quay", until="2026-03-01"),
            "pregnancy": Answer(weeks=14.0),
        }
        found = Screening("2026-01-01", ("pregnancy", "surgery"), details=told)
        for today, weeks, cleared in (("2026-03-01", 8.4, True), ("2026-03-02", 8.6, False)):
            now = found.answers(today, weeks)
            self.assertEqual(now["surgery"].cleared, cleared)
            self.assertAlmostEqual(now["pregnancy"].weeks or 0.0, 14 + weeks)
