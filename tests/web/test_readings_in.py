"""Readings from a table: mapped, checked row by row, taken in once, charted as read elsewhere."""

import csv
import io

from hypothesis import given, settings
from hypothesis import strategies as st

from dachi.data import catalogue
from dachi.interchange import readings
from dachi.interchange.readings import TableError
from dachi.store import assessments, markings, outdated, practitioners
from dachi.studio.recompute import recompute
from dachi.studio.record import export, readings_in
from tests.support import CLOCK, Pages, day_ago

HEAD = "Date;Leg;Exercise;Degrees;Active/passive"
GOOD = f"{HEAD}\n{{a}};L;Supine leg raise;71,5;passive\n{{a}};r;supine-leg-raise;70°;p\n{{b}};L;Supine leg raise;78;passive\n"


class Reading(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.text_in = GOOD.format(a=day_ago(90), b=day_ago(30))

    def send(self, data: bytes, name: str = "t.csv"):
        form = {"table": (io.BytesIO(data), name)}
        return self.post(f"/p/{self.pid}/readings", form, content_type="multipart/form-data")

    def mapped(self, text: str) -> dict[str, str]:
        found = readings.read(text).guess()
        return {f"column-{k}": str(v) for k, v in found.items()} | {"text": text}

    def values(self) -> list[tuple[str, str, str, float]]:
        rows = markings.charted(self.db, self.coach.id, self.pid)
        return [(r.taken_at[:10], r.pose, r.side, r.value) for r in rows]

    def test_looked_over_then_taken_in_once(self) -> None:
        page = self.text(self.send(self.text_in.encode()))
        self.assertIn("3 of 3 rows can be taken in", page)
        self.assertEqual(self.values(), [], "nothing is taken in before that is said")
        form = self.mapped(self.text_in) | {"act": "take"}
        self.assertIn(
            "3 readings were taken in.",
            self.text(self.post(f"/p/{self.pid}/readings", form, follow_redirects=True)),
        )
        raised = "supine-leg-raise"
        self.assertEqual(
            self.values(),
            [
                (day_ago(90), raised, "left", 71.5),
                (day_ago(90), raised, "right", 70.0),
                (day_ago(30), raised, "left", 78.0),
            ],
        )
        again = self.text(self.post(f"/p/{self.pid}/readings", form, follow_redirects=True))
        self.assertIn("0 readings were taken in; 3 were here already", again)
        chart = self.text(self.client.get(f"/p/{self.pid}?pose={raised}"))
        self.assertIn("78°", chart)
        tid = markings.charted(self.db, self.coach.id, self.pid)[0].trial_id
        bench = self.text(self.client.get(f"/t/{tid}"))
        self.assertIn("taken in from a table", bench)
        saved = self.post(f"/t/{tid}/save", {"mat": "on", "seen": "1"})
        self.assertNotEqual(saved.status_code, 200)
        self.assertEqual(len(self.values()), 3)
        for path in (
            "",
            "/history",
            "/compare?pose=supine-leg-raise&side=left&mode=passive",
            "/plan",
        ):
            answer = self.client.get(
                f"/p/{self.pid}{path}" if path != "/history" else f"/t/{tid}/history"
            )
            self.assertEqual(answer.status_code, 200, path)
        visit = assessments.of_practitioner(self.db, self.coach.id, self.pid)[0]
        for path in ("", "/review", "/report"):
            self.assertEqual(self.client.get(f"/a/{visit.id}{path}").status_code, 200, path)
        # Nothing is read again from a photograph that never was.
        self.assertEqual(outdated.people(self.db, None), {})
        self.assertEqual(
            recompute(self.folder, CLOCK, everything=True, progress=lambda *_: None).failed, 0
        )

    def test_each_row_says_what_is_wrong_with_it(self) -> None:
        head = "taken_at,pose,side,mode,value,sd,trial,warmth,measure,prop_height_cm"
        day = day_ago(5)
        rows = {
            f"{day},Nonsense,left,passive,70,,,,,": "no pose is called",
            f"{day},,left,passive,70,,,,,": "no pose is named",
            f"{day},front-split,middle,passive,70,,,,,": "the side “middle” is not known",
            f"{day},butterfly,left,passive,70,,,,,": "Butterfly is of both",
            f"{day},front-split,left,active,70,,,,,": "",
            "24.1.2025,front-split,left,active,70,,,,,": "",
            "31.2.2025,front-split,left,active,70,,,,,": "is no day",
            f"{day},front-split,left,passive,many,,,,,": "is no number",
            f"{day},front-split,left,passive,nan,,,,,": "is no number",
            f"{day},front-split,left,passive,999,,,,,": "999 is no",
            "24/11/2026,front-split,left,passive,70,,,,,": "is no day: write 2026-11-24",
            f"{day_ago(-3)},front-split,left,passive,70,,,,,": "lies ahead",
            "1890-01-01,front-split,left,passive,70,,,,,": "too long ago",
            f"{day},front-split,left,passive,70,-2,,,,": "an error of -2",
            f"{day},front-split,left,passive,70,,12,,,": "trial “12” is none",
            f"{day},front-split,left,passive,70,,,tepid,,": "warmth “tepid”",
            f"{day},front-split,left,passive,70,,,,colour,": "no measure called “colour”",
            f"{day},front-split,left,passive,70,,,,,900": "a prop of 900 cm",
        }  # fmt: skip
        table = readings.read("\n".join([head, *rows]))
        found = readings_in.check(table, table.guess(), CLOCK.local())
        wrong = dict(found.wrong)
        for n, (row, words) in enumerate(rows.items(), 2):
            with self.subTest(row):
                self.assertIn(words, wrong.get(n, "" if not words else "nothing"))
                self.assertEqual(n in wrong, bool(words))
        self.assertEqual(readings_in.check(table, {}, CLOCK.local()).missing, readings.NEEDED)
        page = self.text(self.send("\n".join([head, *rows]).encode("cp1252", "replace")))
        self.assertIn("Line 2: no pose is called", page)

    def test_files_that_are_none(self) -> None:
        for data, words in (
            (b"", "Choose a file first"), (b"\x00\x01\x02", "This is no table"),
            (b"x" * 1_100_000, "over 1 MB"), (b"a,b\n" * 30_000, "over 20000 rows"),
            (b'a,b\n"' + b"x" * 200_000, "cannot be read"),
        ):  # fmt: skip
            answer = self.send(data)
            self.assertEqual(answer.status_code, 422, words)
            self.assertIn(words, self.text(answer))

    def test_what_went_out_comes_in_as_it_was(self) -> None:
        self.post(f"/p/{self.pid}/readings", self.mapped(self.text_in) | {"act": "take"})
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        out = export.readings_csv(self.work, who)
        other = practitioners.add(self.db, self.coach.id, "Other")
        table = readings.read(out)
        them = practitioners.get(self.db, self.coach.id, other)
        assert them is not None
        checked = readings_in.check(table, table.guess(), CLOCK.local())
        self.db.begin(write=True)
        done = readings_in.take_in(self.work, them, checked)
        self.db.end(keep=True)
        self.assertEqual((done.taken, done.there, done.wrong), (3, 0, ()))
        back = export.readings_csv(self.work, them).replace("Other", "Runa")
        self.assertEqual(list(csv.reader(io.StringIO(back))), list(csv.reader(io.StringIO(out))))


class Any(Pages):
    @settings(max_examples=150, deadline=None)
    @given(st.text(max_size=400))
    def test_any_text_is_a_table_or_a_sentence(self, text: str) -> None:
        try:
            table = readings.read(text)
        except TableError:
            return
        mapping = {n: i for i, n in enumerate(readings.TAKEN_IN) if i < len(table.columns)}
        found = readings_in.check(
            table, mapping | {"value": 0, "pose": 0, "taken_at": 0}, CLOCK.local()
        )
        self.assertEqual(len(found.good) + len(found.wrong), len(table.rows))

    def test_every_pose_can_come_in(self) -> None:
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "left"
            mode = next(iter(pose.modes))
            for m in pose.families:
                text = f"date;pose;side;mode;value;measure\n{day_ago(2)};{pose.name};{side};{mode};12;{m.id}\n"
                table = readings.read(text)
                found = readings_in.check(table, table.guess(), CLOCK.local())
                self.assertEqual((len(found.good), found.wrong), (1, ()), pose.id)
