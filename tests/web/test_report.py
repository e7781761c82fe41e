"""The report on paper: what it says, whose pictures it shows, how it is made and fetched."""

import io
import re
import time
import unittest.mock

from PIL import Image

from dachi.core.measuring.scene import Result
from dachi.data import FOLDER
from dachi.drawing import overlay, paper
from dachi.store import accounts, assessments, markings, preparation
from dachi.studio.bench import scenes
from dachi.studio.bench.around import Around
from dachi.studio.renew import measured
from dachi.studio.verdicts import report
from dachi.studio.verdicts.report import Wanted
from dachi.web.filters import browser
from dachi.web.jobs import Jobs
from tests.support import PASSWORD, Pages, ago, day_ago, pictured


class Reports(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.visits = []
        for days, value in ((60.0, 62.0), (1.0, 80.0)):
            aid = self.new_assessment(ago(days))
            self.visits.append(aid)
            for n in (1, 2):
                data, truth = pictured("supine-leg-raise", "left", value + n, seed=n)
                tid = self.shot_of(aid, data, n)
                answer = self.post(f"/t/{tid}/save", self.marks_form(truth))
                self.assertIn(answer.status_code, (200, 302), self.text(answer)[:400])
        self.visit = assessments.get(self.db, self.coach.id, self.visits[1])

    def shot_of(self, aid: int, data: bytes, number: int) -> int:
        answer = self.upload(aid, data, number=str(number))
        self.assertEqual(answer.status_code, 302, self.text(answer)[:400])
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def gathered(self, **wanted: object) -> paper.Report:
        from dachi.store import practitioners

        who = practitioners.get(self.db, self.coach.id, self.pid)
        keys = frozenset(k for k, _, _ in report.offered(self.work, self.visit))
        asked = Wanted(keys, **wanted)  # type: ignore[arg-type]
        return report.gather(self.work, who, self.visit, asked, "Wenna")

    def test_it_says_what_the_review_says(self) -> None:
        found = self.gathered()
        (part,) = [p for p in found.parts if p.pose == "Supine leg raise"]
        (row,) = part.rows
        self.assertRegex(row.today, r"^8\d° ± \d+°$")
        self.assertRegex(row.change, r"^\+1\d° ± \d+° since ")
        self.assertIn(row.stage, ("a first sign", "confirmed"))
        page = self.text(self.client.get(f"/a/{self.visits[1]}/review"))
        self.assertIn(f"<b>{row.today.split(' ')[0]}</b>", page)
        self.assertEqual([len(c.dots) for c in part.courses], [2])
        self.assertEqual(len(found.method), 3)
        self.assertIn("visit 2 since", found.facts[0])
        self.assertEqual(found.cautions, ())
        # An earlier visit's report knows nothing of what came later.
        self.visit = assessments.get(self.db, self.coach.id, self.visits[0])
        (part,) = [p for p in self.gathered().parts if p.pose == "Supine leg raise"]
        self.assertEqual([len(c.dots) for c in part.courses], [1])

    def test_a_review_draws_what_was_kept_and_measures_nothing(self) -> None:
        with unittest.mock.patch("dachi.core.measuring.measure.read", side_effect=AssertionError):
            page = self.text(self.client.get(f"/a/{self.visits[1]}/review"))
        (trial,) = assessments.trials(self.db, self.coach.id, self.visits[1])[:1]
        (kept,) = markings.fans(self.db, self.coach.id, trial.id)
        at = Around(self.work, self.pid).of(trial)
        newest = markings.history(self.db, self.coach.id, trial.id)[0]
        again = measured(scenes.whole(at, scenes.scene_of(at, newest)))
        assert isinstance(again, Result)
        (fan,) = again.fans
        for a, b in zip((*fan.to_px, *fan.line_end), (*kept.to_px, *kept.line_end), strict=True):
            self.assertAlmostEqual(a, b, delta=1e-7 * max(1.0, abs(a)))
        self.assertGreaterEqual(page.count('class="fan-wedge"'), 2)
        drawn = overlay.fans(again.fans, again.readings, {fan.measure: "left"}, 1600)
        wedge = re.search(r'points="[^"]+"', drawn)
        assert wedge is not None
        self.assertIn(wedge[0], overlay.fans([kept], again.readings, {fan.measure: "left"}, 1600))

    def test_pictures_only_as_consent_says(self) -> None:
        key = "supine-leg-raise.leg_line"
        keys = [k for k, _, _ in report.offered(self.work, self.visit)]
        self.assertIn(key, keys)

        def pictures(scope: str | None, **more: object) -> list[paper.Picture]:
            if scope:
                preparation.give_consent(
                    self.db,
                    self.coach.id,
                    self.pid,
                    given_on=day_ago(1),
                    scope=scope,
                    **more,  # type: ignore[arg-type]
                )
            return [x for p in self.gathered(pictures=key).parts for x in p.pictures]

        hidden, open_ = pictures("show"), pictures("show", faces=True)
        self.assertEqual([len(hidden), len(open_)], [2, 2])
        self.assertNotEqual(hidden[1].jpeg, open_[1].jpeg, "the face is hidden")
        size = Image.open(io.BytesIO(hidden[0].jpeg)).size
        self.assertEqual(size, (1000, 760))
        self.assertEqual(pictures("measure"), [])
        self.assertEqual(pictures("show", until=day_ago(2)), [])
        pictures("show")
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(0))
        self.assertEqual(pictures(None), [])

    def test_a_clinician_reads_cautions(self) -> None:
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(1), yes=["hip_replacement"]
        )
        found = self.gathered(reader="clinician")
        self.assertIn("born 1994", found.heading)
        self.assertTrue(found.cautions)
        self.assertIn("not cleared yet", found.cautions[-1])

    def test_it_is_made_in_the_background_and_fetched_by_its_coach_alone(self) -> None:
        page = self.text(self.client.get(f"/a/{self.visits[1]}/report"))
        self.assertIn("Supine leg raise: leg above the floor", page)
        answer = self.post(f"/a/{self.visits[1]}/report", {"measure": "nonsense"})
        self.assertEqual(answer.status_code, 422)
        for size, box in (
            ("a4", "595.28 841.89"),
            ("letter", "612.00 792.00"),
            ("x", "595.28 841.89"),
        ):
            form = {"pictures": "supine-leg-raise.leg_line", "size": size, "reader": "x"}
            answer = self.post(f"/a/{self.visits[1]}/report", form)
            state = self.text(answer)
            for _ in range(200):
                if "hx-get" not in state:
                    break
                time.sleep(0.05)
                state = self.text(self.client.get(state.split('hx-get="')[1].split('"')[0]))
            file = state.split('href="')[1].split('"')[0]
            data = self.client.get(file).get_data()
            self.assertTrue(data.startswith(b"%PDF"))
            self.assertIn(f"MediaBox [0 0 {box}]".encode(), data)
            self.assertEqual(len(re.findall(rb"/Subtype /Image", data)), 2)
        accounts.add(self.db, "else@quay.example", "Else", PASSWORD)
        self.client = self.app.test_client()
        self.sign_in("else@quay.example")
        for path in (file, file.replace(".pdf", "/state"), f"/a/{self.visits[1]}/report"):
            self.assertEqual(self.client.get(path).status_code, 404, path)


class Drawn(Pages):
    def test_any_name_and_any_length(self) -> None:
        part = paper.Part(
            "Pose", "angle", "°", (paper.Row("left", "passive", "80° ± 4°", "", "", "6°"),) * 3,
            (paper.Course("left", "passive", tuple(paper.Dot(d, 70 + d / 9, 4) for d in range(90))),),
            "1 Jan", "1 Apr",
        )  # fmt: skip
        for name in ("Рута Ωμέγα", "Łucja 🦑", "a" * 400):
            found = paper.Report(
                name, (), (name,) * 30, (part,) * 9, (name,), (), (), (name,) * 3, name
            )
            done: list[int] = []
            data = paper.draw(found, FOLDER / "fonts", progress=done.append)
            self.assertTrue(data.startswith(b"%PDF"))
            self.assertEqual(done, list(range(1, 10)))

    def test_a_job_that_fails_says_so(self) -> None:
        jobs = Jobs()

        def broken(_: object) -> bytes:
            raise ZeroDivisionError

        with self.assertLogs("dachi"):
            key = jobs.start(1, "x", 1, broken)
            for _ in range(100):
                job = jobs.of(1, key)
                if job and job.problem:
                    break
                time.sleep(0.02)
        assert job is not None
        self.assertIn("could not be made", job.problem or "")
        self.assertIsNone(jobs.of(2, key))
        self.assertIsNone(jobs.of(1, "other"))

    def test_browsers_have_names(self) -> None:
        for agent, words in (
            ("Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/150 Safari/537.36", "Chrome on Linux"),
            ("Mozilla/5.0 (iPhone; CPU iPhone OS 19) AppleWebKit/605 Version/19 Safari/604", "Safari on iPhone"),
            ("curl/8", "a browser"),
        ):  # fmt: skip
            self.assertEqual(browser(agent), words)
