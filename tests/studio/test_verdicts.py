"""What is said of readings, asked directly: by summaries written out and by invented histories."""

import unittest
from dataclasses import replace
from datetime import date, timedelta
from types import SimpleNamespace
from unittest import mock

import numpy as np

from dachi.core.judging import stages
from dachi.core.judging.series import Verdict
from dachi.core.judging.stages import Stage
from dachi.core.practising.programme import NoPlan
from dachi.data import catalogue, screening_questions
from dachi.store import assessments, goals, practitioners, preparation
from dachi.store.goals import Goal
from dachi.store.markings import Charted
from dachi.store.summaries import Change, News, NewsKind
from dachi.studio.bench.around import Around
from dachi.studio.practice import weeks
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.verdicts import (
    acts,
    charting,
    comparing,
    conclusions,
    kind_words,
    overview,
    report,
    reports,
    steadiness,
    summaries,
    then_and_now,
    tiles,
)
from dachi.studio.verdicts.histories import date_of, day_number, trial_values
from dachi.studio.verdicts.summaries import judged, of_practitioner
from dachi.studio.visits.intake import Refused
from tests.core.judging.test_boundaries import line, session
from tests.studio.test_sentences import summary
from tests.support import CLOCK, LEG_RAISE, day_ago
from tests.web.test_progress import History

GAIN, LOSS, NONE = Verdict.GAIN, Verdict.LOSS, Verdict.NONE
SURE, SIGN = Stage.CONFIRMED, Stage.FIRST_SIGN
RAISE = (LEG_RAISE, "left", "passive")
POSE = catalogue().pose(LEG_RAISE)


def changed(pose: str, change: float, mdc: float = 5.0, stage=SURE, since_last=None, **more):
    """A summary whose line has a change since the first time and, on asking, since the last."""
    made = summary(pose, change, mdc, GAIN if change > 0 else LOSS, stage, **more)
    (family,) = made.families
    (one,) = family.lines
    if since_last is not None:
        lost = GAIN if since_last > 0 else LOSS
        one = replace(one, last=Change(since_last, 4.0, lost, 7.0, True, SIGN, ""))
    return replace(made, families=(replace(family, lines=(one,)),))


class Changes(unittest.TestCase):
    """The overview's list: which change comes first, and as what."""

    def test_confirmed_before_signs_larger_before_smaller(self) -> None:
        found = overview.changes([
            changed("butterfly", 6.0, stage=SIGN), changed(LEG_RAISE, 8.0),
            changed("pigeon", -9.0), changed("straddle", 20.0, stage=SIGN),
            changed("front-split", 12.0, mdc=12.0), changed("deep-squat", 1.0, stage=None),
        ])  # fmt: skip
        self.assertEqual(
            [n.pose for n in found],
            ["pigeon", LEG_RAISE, "front-split", "straddle", "butterfly"],
            "by how often the change fills what chance explains",
        )
        self.assertEqual([n.kind.value for n in found], ["loss", "gain", "gain", "gain", "gain"])
        self.assertIn("+8° ± 5° over 4 weeks, seen twice: confirmed", found[1].text)
        self.assertTrue(found[3].text.endswith("a first sign"))

    def test_a_loss_since_the_last_visit_comes_before_all(self) -> None:
        found = overview.changes([
            changed(LEG_RAISE, 12.0, since_last=-7.0), changed("pigeon", 12.0, since_last=7.0)
        ])  # fmt: skip
        self.assertEqual([(n.kind.value, n.pose) for n in found], [("loss", LEG_RAISE), ("gain", LEG_RAISE), ("gain", "pigeon")])  # fmt: skip
        self.assertIn("−7° ± 4° since the last visit, a first sign", found[0].text)

    def test_news_that_is_said_already_is_not_said_again(self) -> None:
        def news(at: str, *, pained: bool = False, side: str = "left"):
            return News(NewsKind.LOSS, f"told {at}", LEG_RAISE, "f", at, side, "passive", pained)

        hurt = replace(changed(LEG_RAISE, 12.0, since_last=-7.0), news=(news("2028-02-02", pained=True),))  # fmt: skip
        self.assertEqual(
            [n.text for n in overview.changes([hurt])][:1], ["told 2028-02-02"],
            "pain first, and its loss not a second time",
        )  # fmt: skip
        self.assertEqual(sum(n.kind is NewsKind.LOSS for n in overview.changes([hurt])), 1)
        other = replace(
            changed(LEG_RAISE, 1.0, stage=None),
            news=(news("2028-01-01"), news("2028-03-01"), news("2028-02-01", side="right")),
        )
        self.assertEqual(
            [n.at for n in overview.changes([other])], ["2028-03-01", "2028-02-01", "2028-01-01"]
        )

    def test_range_of_a_direction_is_the_poses_that_isolates_it(self) -> None:
        one = changed(LEG_RAISE, 12.0)
        (family,) = one.families
        (x,) = family.lines
        active = replace(x, mode="active", value=50.0, before=None)
        both = replace(one, families=(replace(family, lines=(x, active)),))
        left = overview.hip_ranges([both])["left"][family.motion]
        self.assertEqual((left.active, left.passive, left.before), (50.0, 70.0, 60.0))
        self.assertEqual(overview.hip_ranges([both])["right"], {})
        wide = replace(
            one, families=(replace(family, motion="abduction", lines=(replace(x, side="both"),)),)
        )
        found = overview.hip_ranges([wide])
        for side in ("left", "right"):
            half = found[side]["abduction"]
            self.assertEqual((half.passive, half.before, half.active), (35.0, 30.0, None))
        for out in ({"motion": ""}, {"unit": "cm"}, {"better": "lower"}):
            none = replace(one, families=(replace(family, **out),))
            self.assertEqual(overview.hip_ranges([none]), {"left": {}, "right": {}}, out)

    def test_whether_a_goal_is_within_reach(self) -> None:
        measure = POSE.headline
        goal = Goal(1, 1, LEG_RAISE, measure.family, "left", "passive", 80.0, None)
        self.assertEqual(overview.say_forecast(goal, None, measure)[0], "unmarked")
        near = line(session(79.0, 0.0), session(81.0, 28.0))
        steady = line(*(session(60.0 + 0.01 * i, 14.0 * i, sem=0.5) for i in range(6)))
        rising = line(*(session(50.0 + 4.0 * i, 14.0 * i, sem=0.5) for i in range(6)))
        for own, target, state, words in (
            (line(session(95.0)), 80.0, "ok", "Reached (now 95°"),
            (near, 80.0, "watch", "There by its value"),
            (line(session(60.0)), 80.0, "unmarked", "four assessments tell"),
            (steady, 90.0, "watch", "no date can be given"),
            (rising, 78.0, "ok", "between"),
        ):  # fmt: skip
            with self.subTest(words):
                said = overview.say_forecast(replace(goal, target=target), own, measure)
                self.assertEqual(said[0], state)
                self.assertIn(words, said[1])
        by_rate = 70.0 + (78.0 - 70.0) / 2.0 * 7.0
        for off, state, words in (
            (-400, "watch", "later than the date set"), (400, "ok", "in time"),
            (0, "watch", "may be too early"),
        ):  # fmt: skip
            due = (date_of(by_rate) + timedelta(days=off)).isoformat()
            said = overview.say_forecast(replace(goal, target=78.0, due_on=due), rising, measure)
            with self.subTest(words):
                self.assertEqual(said[0], state, said)
                self.assertIn(words, said[1])

    def test_days_and_dates_agree(self) -> None:
        for iso in ("2026-12-31", "2028-02-29", "2027-03-28"):
            self.assertEqual(date_of(day_number(iso)), date.fromisoformat(iso))
        self.assertAlmostEqual(day_number("2028-03-01") - day_number("2028-02-28"), 2.0)


class Kindly(History):
    def told(self, *found):
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        with mock.patch.object(summaries, "of_practitioner", return_value=list(found)):
            return kind_words.kind_words(self.work, who)

    def test_what_grew_what_holds_what_rests(self) -> None:
        none = {"stage": None}
        for one, words in (
            (changed(LEG_RAISE, 12.4), "Your left supine leg raise has 12° more room"),
            (changed(LEG_RAISE, 12.0, stage=SIGN), "Too early to say: supine leg raise (left)"),
            (changed(LEG_RAISE, -12.0), "Resting a little, as they may: supine leg raise (left)"),
            (changed(LEG_RAISE, 5.0, 5.0, **none), "Holding steady"),
            (changed(LEG_RAISE, -5.0, 5.1, **none), "Too early to say"),
        ):  # fmt: skip
            if one.families[0].lines[0].first.stage is None:
                (family,) = one.families
                (x,) = family.lines
                x = replace(x, first=replace(x.first, verdict=NONE))
                one = replace(one, families=(replace(family, lines=(x,)),))
            with self.subTest(words):
                (said,) = self.told(one)
                self.assertIn(words, said)
        self.assertEqual(self.told(replace(changed(LEG_RAISE, 12.0), pose="gone")), [])


class Histories(History):
    def who(self):
        found = practitioners.get(self.db, self.coach.id, self.pid)
        assert found is not None
        return found

    def visit_of(self, aid: int):
        found = assessments.get(self.db, self.coach.id, aid)
        assert found is not None
        return found

    def parts(self, aid: int):
        return reports.parts_of(self.work, self.visit_of(aid), POSE)

    def test_a_visit_against_the_last_and_the_first(self) -> None:
        right = (LEG_RAISE, "right", "passive")
        ids = [
            self.visit(60, {RAISE: [60, 61], right: [70, 70]}), self.visit(30, {RAISE: [70, 71]}),
            self.visit(2, {RAISE: [85, 86], right: [71, 71]}),
        ]  # fmt: skip
        (first,) = self.parts(ids[0])
        self.assertEqual([(r.side, r.last, r.first) for r in first.rows], [("left", None, None), ("right", None, None)])  # fmt: skip
        (second,) = self.parts(ids[1])
        (row,) = second.rows
        assert row.last is not None
        self.assertAlmostEqual(row.last.change, 10.0)
        self.assertIsNone(row.first)
        self.assertIs(row.whole, row.last)
        (third,) = self.parts(ids[2])
        left, other = third.rows
        assert left.first is not None and left.last is not None and other.last is not None
        # From the mean of the first two visits, the first weighing less: the pose was new.
        self.assertTrue(15.0 < left.first.change < 20.0)
        self.assertAlmostEqual(left.last.change, 15.0)
        self.assertIs(left.whole, left.first)
        self.assertEqual(left.detectable, left.last.mdc)
        self.assertAlmostEqual(other.last.change, 1.0)
        self.assertIsNotNone(left.stage)
        self.assertIsNone(other.stage)
        self.assertNotEqual(third.asymmetry, "")
        self.assertEqual(second.asymmetry, "", "one side alone has none")

    def test_reserve_is_passive_less_active_of_that_visit(self) -> None:
        self.visit(30, {RAISE: [80, 80], (LEG_RAISE, "left", "active"): [60, 60]})
        aid = self.visit(2, {RAISE: [80, 80], (LEG_RAISE, "left", "active"): [50, 50]})
        (part,) = self.parts(aid)
        (said,) = part.reserve
        self.assertTrue(said.startswith("Left: "), said)
        self.assertIn("30°", said)
        self.assertNotIn("20°", said)

    def test_trials_that_cannot_both_be_right_are_named(self) -> None:
        aid = self.visit(2, {RAISE: [60, 90]})
        series = judged(self.work, self.pid, POSE, POSE.headline.family)
        own = [t.trial_id for x in series.lines for t in x.trials]
        self.assertTrue(reports.trials_apart(series, aid, "deg"))
        self.assertTrue(reports.trials_apart(series, aid, "deg", with_trial=own[0]))
        self.assertEqual(reports.trials_apart(series, aid, "deg", with_trial=max(own) + 1), ())
        self.assertEqual(reports.trials_apart(series, aid + 1, "deg"), ())

    def test_news_of_a_visit_losses_first(self) -> None:
        aid = self.visit(2, {RAISE: [60]})
        at = self.visit_of(aid).taken_at[:10]
        made = [News(k, f"{k} {d}", LEG_RAISE, "f", d, "left", "passive") for k, d in (
            (NewsKind.GAIN, at), (NewsKind.LOSS, at), (NewsKind.PLATEAU, at), (NewsKind.LOSS, "2001-01-01"),
        )]  # fmt: skip
        found = [replace(changed(LEG_RAISE, 12.0), news=tuple(made))]
        with mock.patch.object(reports, "of_practitioner", return_value=found):
            kinds = [n.kind for n in reports.news_of(self.work, self.visit_of(aid))]
        self.assertEqual(kinds, [NewsKind.LOSS, NewsKind.GAIN, NewsKind.PLATEAU])

    def test_the_table_of_a_chart(self) -> None:
        a = self.visit(60, {RAISE: [60, 62]})
        b = self.visit(20, {RAISE: [70]})
        c = self.visit(3, {RAISE: [72], (LEG_RAISE, "left", "active"): [50]})
        self.visit(1, {RAISE: [40]}, warmth="cold")
        asked = charting.asked(self.work, self.pid, POSE, POSE.headline.family, (), None)
        self.assertTrue(asked.usual)
        told = charting.numbers(self.work, self.who(), asked)
        columns, rows = told["table"]
        self.assertCountEqual(columns, [("left", "active"), ("left", "passive")])
        shown = [
            {col: cell and round(cell.value) for col, cell in zip(columns, cells, strict=True)}
            for _, cells in rows
        ]
        passive, active = ("left", "passive"), ("left", "active")
        self.assertEqual(
            shown,
            [{passive: 72, active: 50}, {passive: 70, active: None}, {passive: 61, active: None}],
        )
        self.assertEqual([day for day, _ in rows], [told["dates"][v] for v in (c, b, a)])
        self.assertEqual(told["differing"], [("warmth", 1)])
        self.assertEqual(len(told["left_out"]), 1)
        wider = charting.asked(self.work, self.pid, POSE, POSE.headline.family, ("warmth",), None)
        self.assertFalse(wider.usual)
        self.assertEqual(len(charting.numbers(self.work, self.who(), wider)["table"][1]), 4)
        self.assertIs(
            charting.asked(self.work, self.pid, POSE, POSE.headline.family, (), None).series,
            asked.series, "kept while nothing changes",
        )  # fmt: skip
        self.visit(0, {RAISE: [90]})
        anew = charting.asked(self.work, self.pid, POSE, POSE.headline.family, (), None)
        self.assertIsNot(anew.series, asked.series)

    def test_the_shot_a_visit_is_shown_by_is_the_nearest_to_its_value(self) -> None:
        aid = self.visit(2, {RAISE: [60, 75, 66]})
        series = judged(self.work, self.pid, POSE, POSE.headline.family)
        (one,) = (s for x in series.lines for s in x.sessions)
        with mock.patch.object(comparing, "placed", side_effect=lambda w, t, *a: t):
            best = comparing.typical(
                Around(self.work, self.pid), one, POSE, "left", POSE.headline.family
            )
        values = {t.id: v for t, v in zip(assessments.trials(self.db, self.coach.id, aid), (60, 75, 66), strict=True)}  # fmt: skip
        self.assertEqual(values[best], 66, f"of a mean of {one.value}")

    def test_two_shots_and_their_visits(self) -> None:
        early = self.visit(60, {RAISE: [60, 62]})
        late = self.visit(2, {RAISE: [80, 84]})
        series = judged(self.work, self.pid, POSE, POSE.headline.family)
        a, b = (assessments.trials(self.db, self.coach.id, v)[0].id for v in (early, late))
        other = assessments.trials(self.db, self.coach.id, late)[1].id

        def said(one: int, two: int, staged=(None, "")):
            return comparing.say_difference(series, "left", "passive", one, two, "deg", staged)

        self.assertIn("+20°", said(a, b)[0])
        self.assertEqual(said(a, b), said(b, a), "the order they are asked in is no matter")
        self.assertIn("+21°", said(a, b)[1])
        self.assertIn("same assessment", said(b, other)[0])
        self.assertIn("does not count", said(a, 10**6)[0])
        self.assertNotEqual(said(a, b, (SURE, "seen twice")), said(a, b, (SIGN, "")))

    def test_goals_are_set_on_the_sides_a_pose_has(self) -> None:
        def own():
            return [(g.pose, g.side, g.mode, g.target) for g in goals.of_practitioner(self.db, self.coach.id, self.pid)]  # fmt: skip

        who = self.who()
        acts.set_goal(self.work, who, POSE, "each", "passive", 90.0, None)
        self.assertCountEqual(own(), [(LEG_RAISE, s, "passive", 90.0) for s in ("left", "right")])
        acts.set_goal(self.work, who, POSE, "left", "sideways", 95.0, None)
        self.assertIn((LEG_RAISE, "left", next(iter(POSE.modes)), 95.0), own())
        self.assertIn((LEG_RAISE, "right", "passive", 90.0), own())
        today = self.work.today()
        for target, due in ((-60.1, None), (240.1, None), (90.0, today), (90.0, today - timedelta(days=1))):  # fmt: skip
            with self.subTest(target=target, due=due), self.assertRaises(Refused):
                acts.set_goal(self.work, who, POSE, "left", "passive", target, due)
        acts.set_goal(self.work, who, POSE, "right", "passive", 240.0, today + timedelta(days=1))
        acts.set_goal(self.work, who, POSE, "right", "passive", -60.0, None)
        gid = goals.of_practitioner(self.db, self.coach.id, self.pid)[0].id
        self.assertEqual(acts.close_goal(self.work, gid), self.pid)
        self.assertIsNone(acts.close_goal(self.work, 10**6))

    def test_how_trials_count_is_the_persons_school(self) -> None:
        self.visit(30, {RAISE: [60, 64]})
        self.visit(2, {RAISE: [70, 76]})

        def values():
            (own,) = judged(self.work, self.pid, POSE, POSE.headline.family).lines
            return [round(s.value) for s in own.sessions]

        self.assertEqual(values(), [62, 73])
        practitioners.update(self.db, self.coach.id, self.pid, schools={"trials": "best"})
        self.renew()
        self.assertEqual(values(), [64, 76])

    def test_the_report_says_what_was_asked_for(self) -> None:
        self.visit(60, {RAISE: [60, 62]})
        aid = self.visit(2, {RAISE: [80, 82], ("butterfly", "both", "passive"): [100]})
        visit, who = self.visit_of(aid), self.who()
        keys = {k for k, _, _ in report.offered(self.work, visit)}
        raised = f"{LEG_RAISE}.{POSE.headline.family}"
        self.assertIn(raised, keys)
        for asked, kept in (
            (report.Wanted(frozenset({raised, "x.y"}), "clinician", raised), (frozenset({raised}), "clinician", raised)),
            (report.Wanted(frozenset({raised}), "a friend", "x.y"), (frozenset({raised}), "practitioner", "")),
        ):  # fmt: skip
            found = report.only_known(self.work, visit, asked)
            self.assertEqual((found.measures - {""}, found.reader, found.pictures), kept)
        made = report.gather(self.work, who, visit, report.Wanted(frozenset({raised})), "Wenna")
        (part,) = made.parts
        (row,) = part.rows
        self.assertEqual((part.pose, row.side, row.mode), (POSE.name, "left", "passive"))
        self.assertIn("81° ±", row.today)
        self.assertIn("+20°", row.change)
        self.assertIn("Measured by Wenna, warm, visit 2 since", made.facts[0])
        self.assertFalse(made.details)
        self.assertNotIn("born", made.heading)
        self.assertEqual(made.cautions, ())
        (course,) = part.courses
        self.assertEqual([round(d.value) for d in course.dots], [61, 81])
        first = report.gather(self.work, who, self.visit_of(min(v.id for v in assessments.of_practitioner(self.db, self.coach.id, self.pid))), report.Wanted(frozenset({raised})), "W")  # fmt: skip
        self.assertIn("the first visit", first.facts[0])
        self.assertEqual([round(d.value) for d in first.parts[0].courses[0].dots], [61], "nothing of what came later")  # fmt: skip
        self.assertEqual(first.parts[0].rows[0].change, "")
        question = screening_questions()[0].id
        preparation.answer_screening(self.db, self.coach.id, self.pid, answered_on=day_ago(1), yes=[question])  # fmt: skip
        asked = report.Wanted(frozenset({raised}), "clinician")
        told = report.gather(self.work, who, visit, asked, "Wenna")
        self.assertIn(f"born {who.birth_year}", told.heading)
        self.assertIn("not cleared yet", told.cautions[-1])
        preparation.clear(self.db, self.coach.id, self.pid, by="Dr Reed", on=day_ago(0))
        told = report.gather(self.work, who, visit, asked, "Wenna")
        self.assertIn("cleared by Dr Reed", told.cautions[-1])
        practised = report.gather(self.work, self.who(), visit, asked, "Wenna").practise
        own = Practising(self.work, self.who())
        week = weeks.week_of(own)
        rest = {drill_by_id()[i.drill].name for s in week.sessions for i in s.items}
        named = {line.split(":")[0] for line in practised[2:]}
        self.assertTrue(named)
        self.assertLessEqual(named, rest)
        late = (CLOCK.local() + timedelta(days=9)).isoformat(timespec="minutes")
        practitioners.plan_visit(self.db, self.coach.id, self.pid, late)
        nexts = report.gather(self.work, self.who(), visit, asked, "Wenna").next
        self.assertTrue(nexts[0].startswith("Next visit: "), nexts)

    def test_what_to_practise_begins_with_what_holds_back(self) -> None:
        def drill(name, phase, lengthens=()):
            return SimpleNamespace(name=name, phase=phase, lengthens=lengthens, strengthens=())

        phase = next(iter(conclusions.WORK))
        known = {
            "often": drill("Often", phase), "right": drill("Right", phase, ("hip_flexors",)),
            "warm": drill("Warm", "not work"), "seldom": drill("Seldom", phase),
        }  # fmt: skip
        items = [SimpleNamespace(drill=d, first=f) for d, f in (
            ("often", None), ("often", None), ("seldom", None), ("right", None), ("warm", None), ("gone", None),
        )]  # fmt: skip
        week = SimpleNamespace(sessions=[SimpleNamespace(items=items)])
        rule = SimpleNamespace(lengthen=("hip_flexors",), strengthen=(), practice="hip flexors")
        held = SimpleNamespace(limiter=SimpleNamespace(rule=rule))
        with (
            mock.patch.object(conclusions, "drill_by_id", return_value=known),
            mock.patch.object(weeks, "week_of", return_value=week),
        ):
            own = Practising(self.work, self.who())
            named, said = conclusions._practise(own, held, None)
            all_of, plain = conclusions._practise(own, None, "2028-02-29")
            rule.lengthen = ("glutes",)
            none, nothing = conclusions._practise(own, held, None)
        self.assertTrue(said.endswith("once a week: above all right."), said)
        self.assertEqual((named, all_of), (("right",), ("often", "seldom", "right")))
        self.assertEqual(none, ())
        self.assertIn("has nothing for it yet", nothing)
        self.assertIn("above all often", plain)
        self.assertNotIn("warm", said + plain)
        self.assertIn("until", plain)
        with mock.patch.object(weeks, "week_of", side_effect=NoPlan("x")):
            self.assertIn("Work on hip flexors", conclusions._practise(own, held, None)[1])

    def test_a_day_of_pain_makes_a_loss_news_of_its_own(self) -> None:
        for i, value in enumerate((80, 81, 79, 60)):
            self.visit(60 - 18 * i, {RAISE: [value, value + 1]})
        (d,) = of_practitioner(self.work, self.pid)
        (x,) = d.families[0].lines
        assert x.first is not None and x.last is not None
        self.assertIs(x.last.verdict, LOSS)
        told = summaries._told(x, "deg", known=False, gone=False, hurting="groin")
        assert told is not None
        self.assertEqual((told[0], told[2]), (NewsKind.LOSS, True))
        self.assertIn("pain in the groin", told[1])

    def test_when_standing_still_is_worth_a_word(self) -> None:
        """New, and certain enough that a useful rate is out of the question: either way round."""
        still = [session(60.0 + 0.01 * (i % 2), 21.0 * i, sem=0.4) for i in range(6)]
        own = line(*still)
        found = [n for n in range(2, 7) if summaries._new_plateau(line(*still[:n])) is not None]
        self.assertEqual(len(found), 1, "said once, as it begins")
        down = replace(own, sessions=own.sessions[: found[0]], better="lower")
        up = replace(own, sessions=own.sessions[: found[0]])
        self.assertEqual(summaries._new_plateau(up), summaries._new_plateau(down))
        slow = [session(60.0 - 0.5 * i, 21.0 * i, sem=4.0) for i in range(6)]
        loose = [summaries._new_plateau(replace(line(*slow[:n]), better="lower")) for n in range(2, 7)]  # fmt: skip
        self.assertEqual(loose, [None] * 5, "with such scatter half a degree a week may be there")

    def test_steadiness_begins_with_what_most_were_measured_in(self) -> None:
        other = practitioners.add(self.db, self.coach.id, "Bo")
        for pid, values in ((self.pid, {RAISE: [60, 62], ("pigeon", "left", "passive"): [60, 61]}), (other, {RAISE: [70, 72]})):  # fmt: skip
            self.visit(9, values, pid=pid)
        found = steadiness.steady(self.work)
        self.assertEqual(found[0].pose.id, LEG_RAISE)
        self.assertEqual([s.people for s in found], sorted((s.people for s in found), reverse=True))
        self.assertIs(steadiness.steady(self.work), found, "worked out once")
        self.visit(2, {RAISE: [64]}, pid=other)
        self.assertIsNot(steadiness.steady(self.work), found)

    def test_which_measure_a_chart_is_of(self) -> None:
        pose = next(p for p in catalogue().poses if len(p.families) > 1)
        for m in pose.families:
            asked = charting.asked(self.work, self.pid, pose, m.family, (), None)
            self.assertEqual(asked.measure.family, m.family)
        usual = charting.asked(self.work, self.pid, pose, "no such", (), None)
        self.assertEqual(usual.measure.family, pose.families[0].family)

    def test_a_series_is_built_once_while_nothing_changes(self) -> None:
        self.visit(30, {RAISE: [60, 62]})
        family = POSE.headline.family
        first = judged(self.work, self.pid, POSE, family)
        self.assertIs(judged(self.work, self.pid, POSE, family), first)
        self.assertIsNot(judged(self.work, self.pid, POSE, family, include=("warmth",)), first)
        self.assertIsNot(judged(self.work, self.pid, POSE, family, prefer={"variant": "x"}), first)
        other = practitioners.add(self.db, self.coach.id, "Bo")
        self.visit(20, {RAISE: [60, 70, 65]}, pid=other)
        self.assertIsNot(
            judged(self.work, self.pid, POSE, family), first, "others tell the scatter"
        )


class Kinds(unittest.TestCase):
    def test_a_side_is_named_where_one_is_meant(self) -> None:
        for sides, words in (
            (["left"], "A: fold (left)."), (["left", "right"], "A: fold."), (["both"], "A: fold."),
            (["left", "left"], "A: fold (left)."),
        ):  # fmt: skip
            self.assertEqual(kind_words._together("A: {}.", {"fold": sides}), [words])
        self.assertEqual(kind_words._together("A: {}.", {}), [])

    def test_what_stood_before_the_newest_visit(self) -> None:
        """Of five visits, what the first four said: news are what that did not."""
        values = (60.0, 60.0, 75.0, 75.0, 60.0)
        own = line(*(session(v, 14.0 * i, sem=0.5) for i, v in enumerate(values)))
        made = summaries._line(own, {}, flat=False)
        four = stages.standing(replace(own, sessions=own.sessions[:4]))
        self.assertNotEqual(four, stages.standing(own))
        self.assertEqual(made.stood, four)
        self.assertEqual(made.standing, stages.standing(own))

    def test_which_way_is_a_gain(self) -> None:
        """Of a measure where lower is more a smaller value is the gain."""
        (f,) = changed(LEG_RAISE, 12.0).families
        (x,) = f.lines
        assert x.first is not None
        for better, change, verdict in (
            ("higher", 12.0, GAIN), ("higher", -12.0, LOSS), ("lower", 12.0, LOSS), ("lower", -12.0, GAIN),
        ):  # fmt: skip
            made = replace(x, better=better, first=replace(x.first, change=change, real=True))
            staged = summaries._staged(made, sure=True, sign=True, gone=False)
            assert staged.first is not None
            with self.subTest(better, change=change):
                self.assertIs(staged.first.verdict, verdict)
        none = summaries._staged(x, sure=False, sign=False, gone=False)
        assert none.first is not None
        self.assertIsNone(none.first.stage)
        self.assertEqual(none.first.why, "", "only what is confirmed says why")


class LevelsOff(History):
    def test_a_course_that_slows_down_says_where_it_ends(self) -> None:
        """Twenty-five degrees at a pace that falls: the goal beyond them gets no date but a level."""
        for n in range(8):
            value = 60 + 25 * (1 - np.exp(-n / 3.5))
            self.visit(28 * (8 - n), {RAISE: [value, value + 0.3, value - 0.3]})
        who = practitioners.get(self.db, self.coach.id, self.pid)
        assert who is not None
        acts.set_goal(self.work, who, POSE, "left", "passive", 110.0, None)
        (goal,) = goals.of_practitioner(self.db, self.coach.id, self.pid)
        _, status, words = overview.goal_state(self.work, who, goal)
        self.assertEqual(status, "watch")
        self.assertRegex(
            words, r"it slows down and would level off near (7[89]|8[0-9])°: change something"
        )


class Rows(unittest.TestCase):
    """From stored readings to what is judged, row by row."""

    def test_what_a_seat_is_compared_by(self) -> None:
        """One whose height nobody wrote down counts as none; a raised one as it is now."""
        pose = next(p for p in catalogue().poses if p.likeness and p.likeness.measure == "prop_cm")
        side = "both" if pose.sides == "both" else "left"

        def beside(variant: str, prop: float | None):
            row = Charted(1, 1, "2027-06-01T09:00", "warm", pose.id, side, "passive", variant, 1, pose.headline.id, 60.0, 1.0, "mat", "ok", False, prop, "eye", None, "")  # fmt: skip
            (one,) = trial_values([row], pose, pose.headline.family)
            return dict(one.beside), one.conditions

        self.assertEqual(beside("{}", None)[0], {"prop_cm": 0.0})
        self.assertEqual(beside("{}", 12.0)[0], {"prop_cm": 12.0})
        self.assertEqual(beside('{"seat": "raised"}', None)[0], {})
        self.assertEqual(beside('{"seat": "raised"}', 9.0)[0], {"prop_cm": 9.0})
        self.assertEqual(beside("{}", 12.0)[1][4], "", "what is compared by is no condition")

    def test_conditions_of_a_trial(self) -> None:
        def made(**changes):
            row = Charted(1, 2, "2027-06-01T09:00", "warm", LEG_RAISE, "left", "passive", "{}", 1, POSE.headline.id, 60.0, 1.0, "mat", "ok", False, None, "joint", None, "Wenna")  # fmt: skip
            (one,) = trial_values([row._replace(**changes)], POSE, POSE.headline.family)
            return one

        usual = made()
        self.assertEqual((usual.side, usual.mode, usual.value, usual.valid), ("left", "passive", 60.0, True))  # fmt: skip
        self.assertEqual(usual.conditions[0], "warm")
        self.assertEqual(usual.conditions[5], "", "the figure's own way is no condition")
        self.assertEqual(made(marked="sticker").conditions[5], "sticker")
        self.assertEqual(made(prop_cm=7.5).conditions[4], "7.5 cm")
        self.assertNotEqual(made(marker="Oska").hands, usual.hands, "another hand, another habit")
        self.assertEqual((made(status="retake").valid, made(status="retake", overruled=True).valid), (False, True))  # fmt: skip
        self.assertNotEqual(made(taken_at="2027-06-01T18:00").conditions[3], usual.conditions[3])
        own = Charted(1, 2, "2027-06-01T09:00", "warm", "pigeon", "left", "passive", "{}", 1, POSE.headline.id, 60.0, 1.0, "mat", "ok", False, None, "joint", None, "Wenna")  # fmt: skip
        self.assertEqual(trial_values([own], POSE, POSE.headline.family), [])

    def test_what_photographs_are_laid_on(self) -> None:
        """The headline's joint and the end of its bone; else the first two marks there are."""
        m = POSE.headline
        assert m.fan is not None
        marks = {"a": (1.0, 2.0), "b": (3.0, 4.0), "c": (5.0, 6.0)}
        self.assertEqual(comparing.anchors(POSE, [m], marks), ((1.0, 2.0), (3.0, 4.0)))
        told = marks | {m.fan.vertex: (10.0, 10.0), m.fan.to: (10.0, 100.0)}
        self.assertEqual(comparing.anchors(POSE, [m], told), ((10.0, 10.0), (10.0, 100.0)))
        # A line over two bones is laid on the first of them.
        knee = told | {"knee": (10.0, 50.0)}
        self.assertEqual(comparing.anchors(POSE, [m], knee), ((10.0, 10.0), (10.0, 50.0)))
        x, y, scale = comparing.align((10.0, 10.0), (10.0, 100.0))
        self.assertEqual((scale, x + scale * 10.0), (2.0, 500.0))
        self.assertAlmostEqual(y + scale * 10.0, 0.66 * 760.0)


class Told(unittest.TestCase):
    def test_what_surely_holds_back_comes_first(self) -> None:
        made = [
            ("front-split", "left", SimpleNamespace(rule=SimpleNamespace(id=f"r{i}", settle=SimpleNamespace(pose=LEG_RAISE)), sure=sure, readings=()))
            for i, sure in enumerate((False, True, False, True))
        ]  # fmt: skip
        with mock.patch("dachi.core.practising.person.held_back", return_value=made), mock.patch.object(overview, "replace", side_effect=lambda x, **_: x):  # fmt: skip
            found = overview.held_back([], [])
        self.assertEqual([h.limiter.sure for h in found], [True, True, False, False])

    def test_which_shots_may_stand_for_then_and_now(self) -> None:
        d = changed(LEG_RAISE, 12.0)
        line_ = d.families[0].lines[0]
        usual = {"valid": True, "read_from": None, "number": 1, "pose": LEG_RAISE, "side": "left", "mode": "passive"}  # fmt: skip
        self.assertTrue(then_and_now._shows(SimpleNamespace(**usual), d, line_))
        for change in ({"valid": False}, {"read_from": "a table"}, {"number": 2}, {"pose": "pigeon"}, {"side": "right"}, {"mode": "active"}):  # fmt: skip
            with self.subTest(change):
                self.assertFalse(then_and_now._shows(SimpleNamespace(**(usual | change)), d, line_))

    def test_a_goals_way_begins_at_the_first_visit(self) -> None:
        made = changed(LEG_RAISE, 12.0)
        (f,) = made.families
        (x,) = f.lines
        x = replace(x, course=((3.0, 58.0), (31.0, 70.0)))
        found = replace(made, families=(replace(f, lines=(x,)),))
        goal = Goal(1, 1, LEG_RAISE, "f", "left", "passive", 90.0, None)
        with mock.patch("dachi.drawing.small_charts.distance", return_value="svg") as drawn:
            (way,) = tiles.distances([found], [(goal, "Raise", "watch", "Now 70.")])
        drawn.assert_called_once_with(58.0, 70.0, 3.0, 90.0, "Raise. Now 70.", "left")
        self.assertEqual((way.drawing, way.now), ("svg", "70°"))


class SmallTiles(unittest.TestCase):
    def test_what_became_of_a_side(self) -> None:
        (f,) = changed(LEG_RAISE, 12.0).families
        (x,) = f.lines
        assert x.first is not None
        for first, said in (
            (None, ("", "first time", "none")),
            (replace(x.first, stage=None), ("+12°", "could be chance", "none")),
            (x.first, ("+12°", "confirmed", "gain")),
            (replace(x.first, stage=SIGN, verdict=GAIN), ("+12°", "a first sign", "gain")),
            (replace(x.first, change=-12.0, verdict=LOSS), ("−12°", "confirmed", "loss")),
        ):  # fmt: skip
            self.assertEqual(tiles._became(replace(x, first=first), "deg"), said)


if __name__ == "__main__":
    unittest.main()
