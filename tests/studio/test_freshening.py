"""Many stale verdicts do not keep a page waiting; they are derived a few at a time, all of them."""

import time
from unittest import mock

from dachi.store import summaries as stored
from dachi.studio import versions
from dachi.studio.verdicts import summaries
from tests.support import Pages, ago, pictured


class Stale(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        for n, (pose, side) in enumerate(
            (("supine-leg-raise", "left"), ("supine-leg-raise", "right"))
        ):
            data, truth = pictured(pose, side, 70, seed=n)
            place = {"pose": pose, "side": side, "mode": "passive", "number": "1"}
            tid = int(
                self.upload(self.new_assessment(ago(6 - n)), data, **place)
                .headers["Location"]
                .rsplit("/", 1)[1]
            )
            self.post(f"/t/{tid}/save", self.marks_form(truth))
        self.whole = stored.of_practitioner(self.db, self.coach.id, self.pid)

    def stale(self) -> int:
        return len(stored.stale(self.db, self.coach.id, versions.judging()))

    def test_the_page_does_not_wait(self) -> None:
        """What others' readings made stale is derived behind a page that only reads."""
        summaries.stale_from_now(self.work)
        self.assertEqual(self.stale(), 1)
        with mock.patch("dachi.web.jobs.Jobs.once") as once:
            page = self.text(self.client.get("/"))
            self.assertIn("1 to go", page)
            self.assertEqual(once.call_count, 1)
        self.assertEqual(self.stale(), 1)
        once.call_args.args[1]()
        self.assertEqual(self.stale(), 0)
        self.assertEqual(stored.of_practitioner(self.db, self.coach.id, self.pid), self.whole)
        with mock.patch("dachi.web.jobs.Jobs.once") as once:
            self.assertNotIn("to go", self.text(self.client.get("/")))
            once.assert_not_called()

    def test_done_once_and_faults_are_logged(self) -> None:
        jobs = self.app.extensions["jobs"]
        held: list[int] = []

        def slow() -> None:
            held.append(1)
            time.sleep(0.2)

        for _ in range(3):
            jobs.once("same", slow)
        for _ in range(100):
            if not jobs._busy:
                break
            time.sleep(0.02)
        self.assertEqual(held, [1])

        def broken() -> None:
            raise ZeroDivisionError

        with self.assertLogs("dachi"):
            jobs.once("broken", broken)
            for _ in range(100):
                if not jobs._busy:
                    break
                time.sleep(0.02)
        with mock.patch.object(summaries, "_derive_again"):
            stored.mark_stale(self.db, self.coach.id, ["supine-leg-raise"])
            summaries.freshen_all(self.work)  # what stays stale does not go round for ever
