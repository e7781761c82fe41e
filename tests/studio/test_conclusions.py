"""What a visit comes to, said in sentences; measures as tiles and goals as distances."""

import unittest
from dataclasses import replace
from types import SimpleNamespace

from dachi.core.judging.series import Verdict
from dachi.core.judging.stages import Stage
from dachi.data import catalogue
from dachi.store.goals import Goal
from dachi.studio.verdicts import tiles
from dachi.studio.verdicts.conclusions import changed
from tests.studio.test_sentences import LEG_RAISE, summary
from tests.support import Pages, rendered


def part(pose_id: str, *rows):
    """A part whose rows are (side, change, stage, gained)."""
    made = [
        SimpleNamespace(
            side=side, mode="passive", stage=stage,
            whole=SimpleNamespace(change=change, improvement=change, mdc=5.0),
        )
        for side, change, stage in rows
    ]  # fmt: skip
    pose = catalogue().pose(pose_id)
    return SimpleNamespace(pose=pose, measure=pose.headline, rows=made)


class Changed(unittest.TestCase):
    def test_what_is_certain_then_signs_then_nothing(self) -> None:
        sure, sign = Stage.CONFIRMED, Stage.FIRST_SIGN
        for rows, words in (
            ([("left", 12.0, sure), ("right", 6.0, sign)],
             "For certain: supine leg raise, left passive +12°."),
            ([("left", 12.0, sure), ("right", -9.0, sure)],
             "For certain: supine leg raise, right passive −9°; supine leg raise, left passive"),
            ([("left", 6.0, sign)], "Nothing is certain yet; first signs are supine leg raise"),
            ([("left", 2.0, None)], "Nothing has moved that could be told from chance."),
            ([], "This is the first time"),
        ):  # fmt: skip
            with self.subTest(words):
                self.assertIn(words, changed([part(LEG_RAISE, *rows)]))
        again = changed([part(LEG_RAISE)], before=True)
        self.assertIn("Nothing of this visit compares with an earlier one", again)
        many = [part(LEG_RAISE, *[("left", 9.0 + i, sure) for i in range(5)])]
        self.assertIn("and 2 more", changed(many))


class Tiles(unittest.TestCase):
    GOAL = Goal(1, 1, LEG_RAISE, "f", "left", "passive", 90.0, None)

    def line(self, **changes):
        made = summary(LEG_RAISE, 12.0, 5.0, Verdict.GAIN)
        family = made.families[0]
        course = ((0.0, 58.0), (28.0, 70.0))
        line = replace(family.lines[0], **({"course": course} | changes))
        return replace(made, families=(replace(family, lines=(line,)),))

    def test_a_tile_says_what_its_chart_shows(self) -> None:
        (tile,) = tiles.tiles([self.line()], [self.GOAL])
        (side,) = tile.sides
        self.assertEqual((side.value, side.give), ("70°", "3°"))
        self.assertEqual((side.change, side.stage, side.tone), ("+12°", "confirmed", "gain"))
        self.assertIn("left passive from 58° to 70° in 2 visits", tile.drawing)
        self.assertIn("c-target", tile.drawing)
        self.assertFalse(tile.wide)

    def test_an_interval_wider_than_its_value_is_said(self) -> None:
        (tile,) = tiles.tiles([self.line(value=4.0, half=10.0)], [])
        self.assertTrue(tile.wide)

    def test_goals_come_first_and_are_drawn_as_a_way(self) -> None:
        other = replace(self.line(), pose="butterfly")
        found = [other, self.line()]
        self.assertEqual(next(t.pose.id for t in tiles.tiles(found, [self.GOAL])), LEG_RAISE)
        states = [(self.GOAL, "Leg raise 90°", "watch", "Now 70°.")]
        (way,) = tiles.distances(found, states)
        self.assertEqual(way.now, "70°")
        self.assertIn("Leg raise 90°. Now 70°.", way.drawing)
        (missing,) = tiles.distances([other], states)
        self.assertEqual((missing.drawing, missing.now), ("", ""))


class ThePage(Pages):
    def test_three_sentences_and_what_was_agreed(self) -> None:
        self.sign_in()
        aid = self.new_assessment()
        tid = self.shot(aid)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]) | {"sure": "1"})
        page = self.text(self.client.get(f"/a/{aid}/review"))
        for head in ("What changed", "What holds back", "What to practise"):
            self.assertIn(head, page)
        self.assertIn("This is the first time", page)
        typed = {"next_visit_at": "soon", "agreed": "Lunge holds"}
        wrong = self.post(f"/a/{aid}/sign-off", typed)
        self.assertEqual(wrong.status_code, 422)
        for words in ("Nothing was signed off yet", ">Lunge holds</textarea>", 'value="soon"'):
            self.assertIn(words, self.text(wrong), "nothing that was typed is lost")
        form = {"agreed": "Lunge holds, right first.", "next_visit_at": "2028-12-24T18:00"}
        said = self.text(self.post(f"/a/{aid}/sign-off", form, follow_redirects=True))
        self.assertIn("Signed off on", said)
        self.assertIn("Agreed: “Lunge holds, right first.”", said)
        overview = self.text(self.client.get(f"/p/{self.pid}"))
        self.assertIn("Lunge holds, right first.", overview)
        self.assertIn("24 Dec 2028, 18:00", overview)
