"""Lengths of bones learnt from a person's own shots."""

from dachi.store import assessments, markings, practitioners
from dachi.studio.bench.around import Around, surroundings
from tests.support import Pages, ago, rendered


class Learning(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        practitioners.update(self.db, self.coach.id, self.pid, thigh_cm=None, shin_cm=None)
        self.old, self.new = self.new_assessment(ago(800)), self.new_assessment(ago(6))
        for number in range(1, 5):
            self.mark(self.photographed(self.old, str(number)), "eye")

    def photographed(self, aid: int, number: str = "1") -> int:
        """Every trial is a picture of its own, if only by a byte after its end."""
        answer = self.upload(aid, rendered()[0] + f"{aid}-{number}".encode(), number=number)
        self.assertEqual(answer.status_code, 302, self.text(answer))
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def mark(self, tid: int, way: str, seen: int = 0, **more: str) -> None:
        form = self.marks_form(rendered()[1], marked=way, sure="1", seen=str(seen), **more)
        answer = self.post(f"/t/{tid}/save", form)
        self.assertEqual(answer.status_code, 302, self.text(answer))

    def lengths(self) -> dict[str, float]:
        trial = assessments.trial(self.db, self.coach.id, self.photographed(self.new))
        assert trial is not None
        return dict(surroundings(self.work, trial).segments_cm)

    def test_earlier_shots_teach_and_a_tape_goes_before_them(self) -> None:
        learnt = Around(self.work, self.pid).learnt()
        self.assertEqual({n: b.shots for n, b in learnt.items()}, {"thigh": 4, "shin": 4})
        self.assertEqual(self.lengths(), {n: round(b.cm, 1) for n, b in learnt.items()})
        page = self.text(self.client.get(f"/p/{self.pid}/record"))
        self.assertIn("Learnt from 4 shots", page)
        practitioners.update(self.db, self.coach.id, self.pid, thigh_cm=44.0)
        trial = assessments.trials(self.db, self.coach.id, self.new)[0]
        at = surroundings(self.work, trial)
        self.assertEqual(at.segments_cm["thigh"], 44.0)

    def test_a_visit_is_not_read_with_its_own_lengths(self) -> None:
        for trial in assessments.trials(self.db, self.coach.id, self.old):
            self.assertEqual(surroundings(self.work, trial).segments_cm, {})

    def test_only_the_newest_marking_of_what_is_there_counts(self) -> None:
        first, *_ = assessments.trials(self.db, self.coach.id, self.old)
        self.mark(first.id, "palpated", 1)
        self.assertEqual(len(markings.bones(self.db, self.coach.id, self.pid)), 4)
        self.assertEqual(Around(self.work, self.pid).learnt()["thigh"].shots, 4)
        self.post(f"/t/{first.id}/delete", {})
        self.assertEqual(len(markings.bones(self.db, self.coach.id, self.pid)), 3)
        # Of three shots no length is believed.
        self.assertEqual(Around(self.work, self.pid).learnt(), {})
