"""Which two photographs a person is shown: by hand-made histories."""

from dachi.store import assessments, practitioners
from dachi.studio.verdicts.then_and_now import then_and_now
from tests.support import LEG_RAISE
from tests.web.test_progress import History

RAISE, SPLIT = (LEG_RAISE, "left", "passive"), ("front-split", "right", "passive")


class Pairs(History):
    def shown(self):
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return then_and_now(self.work, who)

    def test_the_greatest_gain_that_is_certain(self) -> None:
        """30 degrees at the last visit are a first sign; 30 seen three times are certain and come first."""
        for days, raised, split in (
            (120, 60, 120),
            (90, 60, 120),
            (60, 90, 120),
            (30, 90, 120),
            (9, 90, 150),
        ):
            self.visit(days, {RAISE: [raised] * 3, SPLIT: [split]})
        found = self.shown()
        assert found is not None
        self.assertEqual(found.name, "Supine leg raise, left")
        self.assertEqual((found.then.value, found.now.value), ("60°", "90°"))
        self.assertLess(found.then.on, found.now.on)

    def test_one_visit_has_no_then(self) -> None:
        self.assertIsNone(self.shown())
        self.visit(30, {RAISE: [60, 62]})
        self.assertIsNone(self.shown())

    def test_what_is_gone_is_not_shown(self) -> None:
        """A deleted first shot leaves the two that are there, or none."""
        first = self.visit(60, {RAISE: [60]})
        self.visit(30, {RAISE: [80]})
        self.visit(9, {RAISE: [80]})
        trial = assessments.trials(self.db, self.coach.id, first)[0]
        assessments.delete_trial(self.db, self.coach.id, trial.id)
        found = self.shown()
        assert found is not None
        self.assertEqual((found.then.value, found.now.value), ("80°", "80°"))
        self.assertNotEqual(found.then.on, found.now.on)
