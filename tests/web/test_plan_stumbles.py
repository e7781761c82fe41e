"""Changes of a plan by hand: they change what they say they change, and can be taken back."""

from dachi.store import practitioners, weeks
from dachi.store.weeks import PlannedWeek, Profile, Tuned
from dachi.studio.practice import weeks as planning
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.practice.player import _card
from tests.support import Pages, day_ago, loaded, loaded_on


class ByHand(Pages):
    """ "Longer" on one drill changed nine entries on three days, "not on this day" twenty-one."""

    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        owned = {"mat", "strap", "block", "wall"}
        practitioners.update(self.db, self.coach.id, self.pid, props=owned)
        weeks.save_profile(
            self.db, self.coach.id, self.pid, Profile(level=2, minutes=20.0, weekdays=(0, 2, 4, 6))
        )
        self.before = self.week()

    def week(self) -> PlannedWeek:
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        return planning.week_of(Practising(self.work, who))

    def change(self, drill: str, act: str, weekday: int, **more: str) -> str:
        form = {"do": " ".join([act, str(weekday), drill, *more.values()])}
        return self.text(self.post(f"/p/{self.pid}/plan/wish", form, follow_redirects=True))

    def others(self, week: PlannedWeek, weekday: int) -> list[object]:
        return [s for s in week.sessions if s.weekday != weekday]

    def first_hold(self) -> str:
        known = drill_by_id()
        return next(
            i.drill for i in self.before.sessions[1].items if known[i.drill].phase == "hold"
        )

    def test_other_days_stay_as_they_are(self) -> None:
        name = self.first_hold()
        for act in ("drop", "longer", "keep"):
            with self.subTest(act):
                said = self.change(name, act, 2)
                self.assertEqual(self.others(self.week(), 2), self.others(self.before, 2))
                if act == "drop":
                    self.assertNotIn(name, [i.drill for i in self.week().sessions[1].items])
                    self.assertRegex(said, r"Wednesday: out [^.]*\. The other days stay as planned")
                self.post(f"/p/{self.pid}/plan/undo")
                self.assertEqual(self.week().sessions, self.before.sessions)

    def test_what_is_asked_for_every_day_changes_every_day(self) -> None:
        name = self.first_hold()
        self.change(name, "drop", -1)
        self.assertFalse([s for s in self.week().sessions for i in s.items if i.drill == name])
        said = self.text(self.post(f"/p/{self.pid}/plan/undo", follow_redirects=True))
        self.assertIn("Taken back", said)
        self.assertEqual(self.week().sessions, self.before.sessions)
        again = self.text(self.post(f"/p/{self.pid}/plan/undo", follow_redirects=True))
        self.assertIn("nothing to take back", again)

    def test_undoing_brings_back_nothing_that_is_forbidden_since(self) -> None:
        """A pain that was logged between the change and its undoing counts."""
        known = drill_by_id()
        loads = {
            i.drill
            for s in self.before.sessions
            for i in s.items
            if loaded(known[i.drill], "knee_end")
        }
        self.assertTrue(loads, "the week before must have something to forbid")
        self.change(self.first_hold(), "drop", 2)
        note = {"kind": "injury", "on_date": day_ago(0), "text": "a twist", "place": "left_knee"}
        self.post(f"/p/{self.pid}/notes", note)
        self.post(f"/p/{self.pid}/plan/undo")
        now = [i for s in self.week().sessions for i in s.items]
        self.assertEqual([i.drill for i in now if loaded_on(known[i.drill], "knee_end", "left", i.steps)], [])  # fmt: skip

    def test_longer_changes_the_dose_of_that_day(self) -> None:
        name = self.first_hold()
        said = self.change(name, "longer", 2)
        self.assertIn(drill_by_id()[name].name, said)
        dose = {i.drill: i.dose for i in self.week().sessions[1].items}
        self.assertNotEqual(
            dose.get(name), next(i.dose for i in self.before.sessions[1].items if i.drill == name)
        )

    def test_easier_needs_nothing_that_is_not_owned(self) -> None:
        """Forms of a drill on the page, and what the player says is needed."""
        known = drill_by_id()
        page = self.text(self.client.get(f"/p/{self.pid}/plan"))
        for session in self.before.sessions:
            for item in session.items:
                for other in (known[item.drill].easier, known[item.drill].harder):
                    if other and set(known[other].requires) - {"mat", "strap", "block", "wall"}:
                        self.assertNotIn(f'name="other" value="{other}"', page)
        for d in known.values():
            for owned in (frozenset(), frozenset({"block"})):
                shown = set(_card(d, Tuned(), {}, owned)["props"])
                self.assertEqual(shown - set(d.requires), set(d.optional) & owned, d.id)
