"""Two photographs of one hold, by two phones: linked on the bench, read together."""

import json
import re

from dachi.core.assessing.runsheet import SheetLine
from dachi.data import catalogue
from dachi.interchange.scenes import scene_to_json
from dachi.store import assessments, markings, run_sheets
from dachi.studio.bench.around import surroundings
from dachi.studio.bench.scenes import scene_of, whole
from dachi.studio.recompute import recompute
from tests.support import CLOCK, Pages, ago, pictured


class OneHold(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.aid = self.new_assessment()
        self.main = self.marked("front-split", 150)
        self.other = self.marked(
            "split-squareness", catalogue().pose("split-squareness").figure.low + 5
        )

    def marked(
        self, pose: str, value: float, number: str = "1", mode: str = "passive", side: str = "left"
    ) -> int:
        data, truth = pictured(pose, side, value, seed=int(number))
        place = {"pose": pose, "side": side, "mode": mode, "number": number}
        tid = int(self.upload(self.aid, data, **place).headers["Location"].rsplit("/", 1)[1])
        answer = self.post(f"/t/{tid}/save", self.marks_form(truth) | {"sure": "1"})
        self.assertNotEqual(answer.headers["Location"], f"/t/{tid}", "not accepted")
        return tid

    def headline(self, tid: int):
        return next(r for r in markings.readings(self.db, self.coach.id, tid) if r.headline)

    def link(self, other: int | str | None = None) -> str:
        form = {"held-with": str(self.other if other is None else other)}
        answer = self.post(f"/t/{self.main}/held-with", form, follow_redirects=True)
        return self.text(answer)

    def test_read_together_and_by_itself_again(self) -> None:
        page = self.text(self.client.get(f"/t/{self.main}"))
        self.assertIn("Second photograph of this very hold", page)
        self.assertIn(f"{catalogue().pose('split-squareness').name} left passive 1", page)
        alone = self.headline(self.main)
        self.assertRegex(self.link(), r"Read together: \d+° ± \d+°, before \d+° ± \d+°")
        both = self.headline(self.main)
        self.assertNotEqual(both.sd, alone.sd)
        # Just what the core says of both photographs.
        trial = assessments.trial(self.db, self.coach.id, self.main)
        assert trial is not None
        at = surroundings(self.work, trial)
        scene = whole(at, scene_of(at, markings.history(self.db, self.coach.id, self.main)[0]))
        self.assertEqual([v.view for v in scene.views], ["side", "front"])
        self.assertEqual(json.loads(json.dumps(scene_to_json(scene)))["views"][1]["view"], "front")
        # The bench shows the same, with its fan; derived again it is the same.
        page = self.text(self.client.get(f"/t/{self.main}"))
        self.assertIn(f'value="{self.other}" selected', page)
        self.assertIn("fan-line", page)
        self.db.execute("UPDATE marking SET made_from = 'older'")
        self.assertEqual(recompute(self.folder, CLOCK, progress=lambda *_: None).failed, 0)
        self.assertAlmostEqual(self.headline(self.main).value, both.value, 6)
        self.assertIn("Read by itself", self.link(""))
        self.assertAlmostEqual(self.headline(self.main).value, alone.value, 6)

    def test_it_follows_the_others_marks_and_does_without_it(self) -> None:
        alone = self.headline(self.main)
        self.link()
        both = self.headline(self.main)
        _, truth = pictured(
            "split-squareness", "left", catalogue().pose("split-squareness").figure.low + 5, seed=1
        )
        moved = dict(truth["marks_px"])
        name = catalogue().pose("split-squareness").required[0]
        moved[name] = [moved[name][0] + 12, moved[name][1] + 9]
        form = self.marks_form(truth | {"marks_px": moved}) | {"seen": "1", "sure": "1"}
        self.post(f"/t/{self.other}/save", form)
        self.assertNotEqual(self.headline(self.main).value, both.value)
        self.post(f"/t/{self.other}/delete")
        page = self.text(self.client.get(f"/t/{self.main}"))
        self.assertIn("A second phone at the front", page)
        self.assertAlmostEqual(self.headline(self.main).value, alone.value, 3)

    def test_what_cannot_be_the_same_hold_is_refused(self) -> None:
        right = self.marked(
            "split-squareness", catalogue().pose("split-squareness").figure.low + 5, side="right"
        )
        for key in (right, 999, self.main, "x"):
            self.assertIn("Choose a marked photograph of the same hold", self.link(key))
        trial = assessments.trial(self.db, self.coach.id, self.main)
        assert trial is not None
        self.assertIsNone(trial.held_with)
        self.assertNotIn("Second photograph", self.text(self.client.get(f"/t/{self.other}")))

    def test_the_sheet_offers_the_second_phone(self) -> None:
        aid = self.new_assessment(ago(2))
        run_sheets.save(
            self.db, self.coach.id, aid,
            (SheetLine("front-split", "left", "passive", 2), SheetLine("pigeon", "left", "passive", 1)),
        )  # fmt: skip
        page = self.text(self.client.get(f"/a/{aid}?pose=front-split"))
        self.assertIn("A second phone at the front", page)
        revision = re.search(r'name="revision" value="(\d+)"', page)[1]
        form = {"act": "beside", "pose": "front-split", "revision": revision}
        page = self.text(self.post(f"/a/{aid}/lines", form, follow_redirects=True))
        self.assertIn("the two are read together", page)
        rows = [
            (x.pose, x.side, x.mode, x.trials)
            for x in run_sheets.lines(self.db, self.coach.id, aid)
        ]
        self.assertEqual(
            rows,
            [
                ("front-split", "left", "passive", 2),
                ("split-squareness", "left", "passive", 2),
                ("pigeon", "left", "passive", 1),
            ],
        )
        # Twice adds nothing.
        again = form | {"revision": re.search(r'name="revision" value="(\d+)"', page)[1]}
        self.post(f"/a/{aid}/lines", again)
        self.assertEqual(len(run_sheets.lines(self.db, self.coach.id, aid)), 3)
