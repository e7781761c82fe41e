"""What looks like a slip, asked on the review: answered, taken back, kept, and what it changes."""

from dachi.core.judging.doubts import What
from dachi.data import catalogue
from dachi.store import doubts, practitioners
from dachi.store.doubts import Said
from dachi.studio.record import moving, readings_in
from dachi.studio.verdicts import questions
from dachi.studio.verdicts.summaries import anew, judged, of_practitioner
from tests.support import CLOCK, LEG_RAISE, day_ago
from tests.web.test_progress import History

LEFT, RIGHT = (LEG_RAISE, "left", "passive"), (LEG_RAISE, "right", "passive")
POSES = ("straddle", "front-split", LEG_RAISE)


class Asked(History):
    def stood_still(self, last: float, weeks: int = 6) -> int:
        """Two sides that stand still, but for the left at the last visit."""
        aid = 0
        for n in range(weeks):
            left = last if n == weeks - 1 else 80 + n % 2
            aid = self.visit(7 * (weeks - n), {LEFT: [left, left + 1], RIGHT: [79, 80]})
        return aid

    def said(self) -> list[tuple[What, str]]:
        known = questions.of(self.work, self.pid)
        return [(d.what, d.side) for d in known.doubts]

    def line(self, side: str = "left"):
        series = judged(self.work, self.pid, catalogue().pose(LEG_RAISE), "leg_line")
        found = series.line(side, "passive")
        assert found is not None and found.since_first is not None
        return found

    def test_a_visit_off_its_line_is_asked_and_counts_wide(self) -> None:
        aid = self.stood_still(104)
        self.assertEqual(self.said(), [(What.SLIP, "left")])
        page = self.get(f"/a/{aid}/review")
        self.assertIn("Supine leg raise, left passive: +24° off its line", page)
        self.assertFalse(self.line().since_first.real)
        self.assertEqual([n for d in of_practitioner(self.work, self.pid) for n in d.news], [])

        # It is so: it counts like any other, is asked no more, and can be taken back.
        key = f"slip|{LEG_RAISE}|left|passive"
        self.post(f"/a/{aid}/answer", {"asked": key, "answer": "so"})
        self.assertEqual(self.said(), [])
        self.assertTrue(self.line().since_first.real)
        page = self.get(f"/a/{aid}/review")
        self.assertIn('aria-pressed="true">It is so', page)
        self.post(f"/a/{aid}/answer", {"asked": key, "answer": ""})
        self.assertEqual(self.said(), [(What.SLIP, "left")])
        self.assertFalse(self.line().since_first.real)

        # Something was off: it stays wide, and is not asked as if nobody had said.
        self.post(f"/a/{aid}/answer", {"asked": key, "answer": "off"})
        self.assertFalse(self.line().since_first.real)
        (q,) = questions.at_visit(self.work, self.own(aid))
        self.assertIs(q.answer, Said.OFF)
        self.assertNotIn("looks like a slip", self.get("/"))

    def own(self, aid: int):
        from dachi.store import assessments

        visit = assessments.get(self.db, self.coach.id, aid)
        assert visit is not None
        return visit

    def test_what_is_not_asked_is_no_answer(self) -> None:
        aid = self.stood_still(104)
        for asked, answer in (
            ("slip", "so"), ("nonsense|a|b|c", "so"), (f"slip|{LEG_RAISE}|left|passive", "maybe"),
            (f"slip|{LEG_RAISE}|left|passive", "tryout"), ("", ""),
        ):  # fmt: skip
            self.post(f"/a/{aid}/answer", {"asked": asked, "answer": answer})
        self.assertEqual(doubts.said(self.db, self.coach.id, self.pid), {})
        self.assertIn("load the page again", self.get("/"))

    def test_a_day_of_its_own_in_all_lines(self) -> None:
        lines = [(p, s, m) for p in POSES for s in ("left", "right") for m in ("active", "passive")]
        lines = [(p, "both" if catalogue().pose(p).sides == "both" else s, m) for p, s, m in lines]
        aids = []
        for n in range(6):
            off = -14 if n == 0 else n % 2
            aids.append(
                self.visit(28 * (6 - n), {x: [80 + off, 81 + off] for x in dict.fromkeys(lines)})
            )
        self.assertEqual(self.said(), [(What.VISIT, "")])
        self.assertFalse(self.line().since_first.real, "one bad first visit makes no gain")
        self.assertRegex(self.get(f"/a/{aids[0]}/review"), "−1[3-6]° everywhere at this visit")
        # Said to be a try-out, the next visit is where it starts.
        self.post(f"/a/{aids[0]}/answer", {"asked": "visit|||", "answer": "tryout"})
        start = self.line().baseline
        assert start is not None
        self.assertAlmostEqual(start.value, 81.5, delta=0.7)

    def test_trials_that_cannot_be_one_range(self) -> None:
        self.visit(40, {LEFT: [80, 81, 80]})
        aid = self.visit(10, {LEFT: [80, 81, 99]})
        self.assertEqual(self.said(), [(What.TRIAL, "left")])
        self.assertAlmostEqual(self.line().sessions[-1].value, 80.5)
        self.assertIn("the odd one does not count", self.get(f"/a/{aid}/review"))
        self.post(f"/a/{aid}/answer", {"asked": f"trial|{LEG_RAISE}|left|passive", "answer": "so"})
        self.assertAlmostEqual(self.line().sessions[-1].value, 260 / 3)

    def test_another_hand(self) -> None:
        """Half-way somebody else marks: what changes there may be the hand."""
        for n in range(6):
            self.visit(7 * (6 - n), {LEFT: [80, 81] if n < 3 else [92, 93]})
        before = self.line().since_first
        self.db.execute(
            "UPDATE marking SET marker = 'Oska' WHERE trial_id IN (SELECT t.id FROM trial t JOIN"
            " assessment a ON a.id = t.assessment_id ORDER BY a.taken_at DESC LIMIT 6)"
        )
        anew(self.work, [self.pid])
        after = self.line().since_first
        self.assertTrue(before.real)
        self.assertFalse(after.real)
        self.assertGreater(after.mdc, before.mdc)
        self.assertIn("Oska", self.get(f"/p/{self.pid}?pose={LEG_RAISE}"))

    def test_a_table_names_who_measured(self) -> None:
        """A history that came as a table is another hand's from the visit where the name changes."""
        rows = [
            (7 * (9 - n), "Keld" if n < 4 else "Wenna", 70 + (6 if n > 3 else 0)) for n in range(8)
        ]
        days = {w: day_ago(w) for w, _, _ in rows}
        text = "date,pose,side,mode,value,measured by\n" + "".join(
            f"{days[w]} 18:00,supine-leg-raise,left,passive,{v},{who}\n" for w, who, v in rows
        )
        _, table = readings_in.table_of(text)
        checked = readings_in.check(table, table.guess(), CLOCK.local())
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        self.assertEqual(readings_in.take_in(self.work, who, checked).taken, 8)
        hands = [s.hands.split("|")[0] for s in self.line().sessions]
        self.assertEqual(hands, ["Keld"] * 4 + ["Wenna"] * 4)
        self.assertIn(",Keld", self.get(f"/p/{self.pid}/readings.csv"))

    def test_today_asks_and_leads_there(self) -> None:
        aid = self.stood_still(104)
        page = self.get("/")
        self.assertIn("a reading looks like a slip: was it so?", page)
        self.assertIn(f"/a/{aid}/review#questions", page)
        self.post(f"/a/{aid}/answer", {"asked": f"slip|{LEG_RAISE}|left|passive", "answer": "off"})
        self.assertNotIn("looks like a slip", self.get("/"))

    def test_charts_say_which_leg_is_meant(self) -> None:
        for days in (40, 10):
            aid = self.visit(days, {("low-lunge", "left", "passive"): [20, 21]})
        for path in (f"/p/{self.pid}?pose=low-lunge", f"/a/{aid}/review"):
            self.assertIn("sides by the leg behind", self.get(path))

    def test_what_was_asked_goes_and_comes_with_the_person(self) -> None:
        """Erased with them; in a record that moves the answer comes along and the rest is derived."""
        aid = self.stood_still(104)
        key = f"slip|{LEG_RAISE}|left|passive"
        self.post(f"/a/{aid}/answer", {"asked": key, "answer": "off"})
        record = moving.record_of(self.work, [self.pid])
        self.assertEqual([r["answer"] for r in record["tables"]["doubt_answer"]], ["off"])
        self.assertNotIn("doubt", record["tables"])
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        self.post(f"/p/{self.pid}/erase", {"name": who.call_name})
        for table in ("doubt", "doubt_answer"):
            self.assertEqual(self.db.execute(f"SELECT count(*) FROM {table}").fetchone()[0], 0)
