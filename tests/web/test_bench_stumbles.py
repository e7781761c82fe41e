"""What a working day at the bench stumbled over: each once happened, none may again."""

import re
from typing import Any

from dachi.core.body.pinhole import CORNERS
from dachi.data import catalogue
from dachi.simulation.camera import Shot
from dachi.store import accounts, assessments, markings, positions
from dachi.studio.bench import starting_marks
from tests.support import CLOCK, LEG_RAISE, Pages, plain_picture, sketched

AT = CLOCK.local()


class Bench(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()
        self.aid = self.new_assessment()

    def place(self, pose: str, side: str, data: bytes, **more: str) -> int:
        answer = self.upload(self.aid, data, pose=pose, side=side, **more)
        self.assertEqual(answer.status_code, 302, self.text(answer))
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def photographed(self, pose: str, shot: Shot, **more: str) -> tuple[int, dict[str, Any]]:
        data, truth = sketched(catalogue().pose(pose), shot, AT)
        return self.place(pose, shot.side, data, **more), truth

    def page(self, path: str) -> str:
        return self.text(self.client.get(path, follow_redirects=True))

    def saved(self, tid: int, form: dict[str, Any]) -> str:
        return self.text(self.post(f"/t/{tid}/save", form, follow_redirects=True))

    def count(self, tid: int) -> int:
        return len(markings.history(self.db, self.coach.id, tid))

    def template(self, tid: int, pose: str, state: str) -> dict[str, Any]:
        """The starting guess as posted when nobody touched it."""
        trial = assessments.trial(self.db, self.coach.id, tid)
        assert trial is not None
        form: dict[str, Any] = {"seen": "0"}
        for name, (x, y) in starting_marks.guess_marks(
            catalogue().pose(pose), trial.side, 640, 480
        ).items():
            if name in catalogue().pose(pose).required:
                form |= {f"mark-{name}-x": f"{x:.1f}", f"mark-{name}-y": f"{y:.1f}"}
                form[f"mark-{name}-state"] = state
        return form


class NothingIsReadFromGuesses(Bench):
    """Any picture, six template marks, Space, Enter: "148°, valid, first time"."""

    def setUp(self) -> None:
        super().setUp()
        self.tid = self.place("front-split", "left", plain_picture())

    def test_no_number_and_no_check_over_guesses(self) -> None:
        page = self.page(f"/t/{self.tid}")
        self.assertNotIn("big-number", page)
        self.assertNotIn("Take it again", page)
        self.assertIn("The angle shows once every mark is in its place", page)
        form = self.template(self.tid, "front-split", "guess")
        names = [k for k in form if k.endswith("-state")]
        for left in (names[:1], names[-1:]):
            some = form | dict.fromkeys(names, "placed") | dict.fromkeys(left, "guess")
            self.assertNotIn("big-number", self.text(self.post(f"/t/{self.tid}/read", some)))
        whole = form | dict.fromkeys(names, "placed")
        self.assertIn("big-number", self.text(self.post(f"/t/{self.tid}/read", whole)))

    def test_untouched_guesses_are_asked_about_once(self) -> None:
        form = self.template(self.tid, "front-split", "placed")
        said = self.saved(self.tid, form)
        self.assertIn("still exactly where the program put them", said)
        self.assertEqual(self.count(self.tid), 0)
        self.assertIn('name="sure" value="1"', said)
        self.saved(self.tid, form | {"sure": "1"})
        self.assertEqual(self.count(self.tid), 1)

    def test_two_left_in_place_are_no_reason_to_ask(self) -> None:
        form = self.template(self.tid, "front-split", "placed")
        for name in [k for k in form if k.endswith("-x")][2:]:
            form[name] = str(float(form[name]) + 3)
        self.saved(self.tid, form)
        self.assertEqual(self.count(self.tid), 1)

    def test_the_camera_shows_while_marks_are_guesses(self) -> None:
        tid, truth = self.photographed(LEG_RAISE, Shot("left", 70.0, yaw_deg=9.0))
        form = {k: "guess" if k.endswith("state") else v for k, v in self.marks_form(truth).items()}
        answer = self.text(self.post(f"/t/{tid}/read", form))
        self.assertIn("Camera turned 9°", answer)
        self.assertNotIn("big-number", answer)

    def test_a_check_that_asks_for_another_is_said_on_the_next_photograph(self) -> None:
        tid, truth = self.photographed(LEG_RAISE, Shot("left", 76.0, yaw_deg=7.0))
        knee, ankle = truth["marks_px"]["knee"], truth["marks_px"]["ankle"]
        # Across the shin: the raised knee is bent.
        across = [0.35 * (ankle[1] - knee[1]), -0.35 * (ankle[0] - knee[0])]
        bent = {"ankle": [ankle[0] + across[0], ankle[1] + across[1]]}
        words = "left passive, trial 1: kept, but a check asks for another one"
        shots = ((truth["marks_px"] | bent, True), (truth["marks_px"], False))
        for number, (marks, said) in enumerate(shots):
            form = self.marks_form(truth | {"marks_px": marks}) | {"seen": str(number)}
            page = self.text(self.post(f"/t/{tid}/save", form, follow_redirects=True))
            self.assertIn("Front split: where the marks go", page, "the other one waits")
            self.assertEqual(words in page, said)

    def test_nobody_has_such_limbs(self) -> None:
        tid, truth = self.photographed(LEG_RAISE, Shot("left", 76.0, yaw_deg=7.0))
        knee, ankle = truth["marks_px"]["knee"], truth["marks_px"]["ankle"]
        hip = truth["marks_px"]["hip"]
        far = [knee[i] + 1.6 * (ankle[i] - knee[i]) for i in (0, 1)]
        short = [hip[i] + 0.3 * (knee[i] - hip[i]) for i in (0, 1)]
        for mat, odd, words in (
            ("on", {"ankle": far}, "cm long, which nobody has"),
            ("", {"knee": short}, "times as long as"),
        ):
            marks = truth["marks_px"] | odd
            form = self.marks_form(truth | {"marks_px": marks}, mat=mat)
            self.assertIn(words, self.text(self.post(f"/t/{tid}/read", form)))
            clean = self.marks_form(truth, mat=mat)
            self.assertNotIn(words, self.text(self.post(f"/t/{tid}/read", clean)))


class AnotherCamerasCorners(Bench):
    """Marking a second shot changed the accepted reading of the first, silently."""

    def setUp(self) -> None:
        super().setUp()
        self.first, self.truth = self.photographed(LEG_RAISE, Shot("left", 70.0, yaw_deg=4.0))
        self.saved(self.first, self.marks_form(self.truth))
        moved = Shot("left", 74.0, yaw_deg=-14.0, height_cm=95.0, distance_cm=260.0)
        self.second, self.moved = self.photographed(LEG_RAISE, moved, number="2")

    def value(self, tid: int) -> float:
        return next(r.value for r in markings.readings(self.db, self.coach.id, tid) if r.headline)

    def test_they_are_asked_about_and_change_nothing(self) -> None:
        before = self.value(self.first)
        form = self.marks_form(self.moved)
        said = self.text(self.post(f"/t/{self.second}/read", form))
        self.assertRegex(said, r"lie up to \d+ cm off those of the last photograph")
        self.assertIn("was the camera moved in between?", self.saved(self.second, form))
        self.assertEqual(self.count(self.second), 0)
        self.saved(self.second, form | {"sure": "1"})
        self.assertEqual(self.count(self.second), 1)
        self.assertAlmostEqual(self.value(self.second), self.moved["true_value_deg"], delta=1.5)
        self.post(f"/t/{self.first}/details", {"prop_cm": "0"})
        self.assertAlmostEqual(self.value(self.first), before, places=6)

    def test_camera_moved_keeps_the_corners_just_marked(self) -> None:
        form = self.marks_form(self.moved)
        self.post(f"/t/{self.second}/camera-moved", form)
        page = self.page(f"/t/{self.second}")
        self.assertNotIn("off those of the last", page)
        x = self.moved["corners_px"]["near_left"][0]
        self.assertIn(f'name="corner-near_left-x" value="{round(x, 1)}"', page)
        self.saved(self.second, form)
        self.assertEqual(self.count(self.second), 1)

    def test_corners_of_the_same_camera_are_still_pooled(self) -> None:
        third, truth = self.photographed(LEG_RAISE, Shot("left", 72.0, yaw_deg=4.0), number="3")
        near = {k: [x + 2.0, y - 2.0] for k, (x, y) in truth["corners_px"].items()}
        self.assertNotIn(
            "off those of", self.saved(third, self.marks_form(truth | {"corners_px": near}))
        )
        self.assertIn("pooled with 1 other shot", self.page(f"/t/{third}"))


class TrialsApart(Bench):
    def test_trials_that_cannot_both_be_right_are_said(self) -> None:
        """Two trials 54 degrees apart were averaged to 152 ± 30 without a word."""
        tids = []
        for number, value in enumerate((60.0, 100.0), start=1):
            shot = Shot("left", value, yaw_deg=7.0)
            tid, truth = self.photographed(LEG_RAISE, shot, number=str(number))
            said = self.saved(tid, self.marks_form(truth))
            tids.append(tid)
        self.assertRegex(said, r"left passive read (59|60|61)° and (99|100|101)°: further apart")
        page = self.page(f"/a/{self.aid}/review")
        self.assertIn("trials of this visit lie too far apart", page)
        self.assertIn("A slip: wrong side, pose or mark", page)

    def test_trials_as_they_scatter_are_not(self) -> None:
        for number, value in enumerate((74.0, 79.0), start=1):
            shot = Shot("left", value, yaw_deg=7.0)
            tid, truth = self.photographed(LEG_RAISE, shot, number=str(number))
            self.assertNotIn("further apart", self.saved(tid, self.marks_form(truth)))


class TheOtherSide(Bench):
    def test_a_right_leg_filed_as_left_is_said(self) -> None:
        data, truth = sketched(catalogue().pose(LEG_RAISE), Shot("right", 70.0), AT)
        tid = self.place(LEG_RAISE, "left", data)
        said = self.text(self.post(f"/t/{tid}/read", self.marks_form(truth)))
        self.assertIn("filed as left", said)
        self.assertIn("right side is towards the camera", said)


class Moving(Bench):
    def test_the_other_side_of_a_pose_keeps_marks_and_corners(self) -> None:
        tid, truth = self.photographed("pigeon", Shot("right", 60.0))
        self.saved(tid, self.marks_form(truth) | {"sure": "1"})
        self.assertEqual(self.count(tid), 1)
        self.post(f"/t/{tid}/move", {"move-to": "pigeon|left|passive|1"})
        self.assertEqual(self.count(tid), 1)
        kept = markings.history(self.db, self.coach.id, tid)[0]
        self.assertEqual(set(kept.corners or ()), set(CORNERS))
        moved = assessments.trial(self.db, self.coach.id, tid)
        assert moved is not None
        self.assertEqual(moved.side, "left")

    def test_another_pose_keeps_the_pictures_own_corners(self) -> None:
        """A straddle moved to another pose took a third shot's corners and read nonsense."""
        straddle, truth = self.photographed("straddle", Shot("both", 100.0))
        self.saved(straddle, self.marks_form(truth) | {"sure": "1"})
        other, seen = self.photographed("butterfly", Shot("both", 20.0, yaw_deg=15.0))
        self.saved(other, self.marks_form(seen) | {"sure": "1"})
        self.post(f"/t/{straddle}/move", {"move-to": "butterfly|both|passive|2"})
        page = self.page(f"/t/{straddle}")
        for name, (x, _) in truth["corners_px"].items():
            found = re.search(rf'name="corner-{name}-x" value="([\d.]+)"', page)
            assert found is not None
            self.assertAlmostEqual(float(found[1]), x, delta=0.1)
        self.assertRegex(page, r'id="mat-on" checked')

    def test_to_a_pose_of_the_other_view(self) -> None:
        tid, truth = self.photographed("straddle", Shot("both", 100.0))
        self.saved(tid, self.marks_form(truth) | {"sure": "1"})
        self.post(f"/t/{tid}/move", {"move-to": f"{LEG_RAISE}|left|passive|1"})
        trial = assessments.trial(self.db, self.coach.id, tid)
        assert trial is not None
        own = positions.of_assessment(self.db, self.coach.id, trial.assessment_id)
        place = own[trial.position_id or 0]
        self.assertEqual(place.view, "side")
        self.assertRegex(self.page(f"/t/{tid}"), r'id="mat-on" checked')


class TwoTabs(Bench):
    """ "Look at theirs" gave no way to look, and pressing again overwrote them."""

    def setUp(self) -> None:
        super().setUp()
        self.tid, self.truth = self.photographed(LEG_RAISE, Shot("left", 76.0, yaw_deg=7.0))
        self.mine = self.marks_form(self.truth)
        self.mine["mark-knee-x"] = float(self.mine["mark-knee-x"]) + 9
        self.saved(self.tid, self.marks_form(self.truth))

    def test_pressing_again_overwrites_nothing(self) -> None:
        for _ in range(2):
            said = self.saved(self.tid, self.mine)
            self.assertIn("look at theirs", said)
            self.assertEqual(self.count(self.tid), 1)
        self.assertIn(f'href="/t/{self.tid}?theirs=1"', said)
        self.assertIn(f'name="mark-knee-x" value="{self.mine["mark-knee-x"]}"', said)
        theirs = self.page(f"/t/{self.tid}?theirs=1")
        self.assertIn(f'name="mark-knee-x" value="{self.truth["marks_px"]["knee"][0]}"', theirs)
        self.assertIn("Back to yours", theirs)

    def test_marks_from_a_file_are_nobody_elses(self) -> None:
        """A draft that says nothing of what it started from starts from what is there."""
        markings.save_draft(
            self.db,
            self.coach.id,
            self.tid,
            {k: str(v) for k, v in self.mine.items() if k != "seen"},
        )
        page = self.page(f"/t/{self.tid}")
        self.assertNotIn("Other marks of this photograph", page)
        self.assertIn('name="seen" value="1"', page)

    def test_keeping_mine_is_a_choice(self) -> None:
        self.saved(self.tid, self.mine)
        self.saved(self.tid, self.mine | {"mine": "1"})
        self.assertEqual(self.count(self.tid), 2)

    def test_keeping_theirs_drops_mine(self) -> None:
        self.saved(self.tid, self.mine)
        self.post(f"/t/{self.tid}/theirs")
        page = self.page(f"/t/{self.tid}")
        self.assertNotIn("look at theirs", page.lower())
        self.assertIn(f'name="mark-knee-x" value="{self.truth["marks_px"]["knee"][0]}"', page)


class Deleted(Bench):
    def test_it_can_be_brought_back_after_leaving_the_page(self) -> None:
        tid, truth = self.photographed(LEG_RAISE, Shot("left", 76.0, yaw_deg=7.0))
        self.post(f"/t/{tid}/delete")
        self.page(f"/a/{self.aid}")
        sheet = self.page(f"/a/{self.aid}")
        self.assertIn("Deleted here: 1", sheet)
        self.assertIn(f'action="/t/{tid}/restore"', sheet)
        bench = self.page(f"/t/{tid}")
        self.assertIn("This photograph was deleted", bench)
        self.assertRegex(bench, r'id="accept"[^>]*disabled')
        said = self.saved(tid, self.marks_form(truth))
        self.assertIn("was deleted", said)
        self.assertNotIn("All photographs of this assessment are marked", said)
        self.assertEqual(self.count(tid), 0)
        self.post(f"/t/{tid}/restore")
        self.assertNotIn("Deleted here", self.page(f"/a/{self.aid}"))
        self.saved(tid, self.marks_form(truth))
        self.assertEqual(self.count(tid), 1)


class HowMarksAreSet(Bench):
    """Points on skin are no joints: what was said of it is kept, and the studio's way with it."""

    def test_it_is_kept_and_becomes_the_usual_way(self) -> None:
        tid, truth = self.photographed(LEG_RAISE, Shot("left", 76.0, yaw_deg=7.0))
        form = self.marks_form(truth)
        self.saved(tid, form | {"marked": "palpated"})
        kept = markings.history(self.db, self.coach.id, tid)[0]
        self.assertEqual(kept.marked, "palpated")
        on_skin = next(r for r in markings.readings(self.db, self.coach.id, tid) if r.headline)
        self.assertEqual(accounts.by_id(self.db, self.coach.id).usual_marked, "palpated")
        page = self.text(self.client.get(f"/t/{tid}"))
        self.assertRegex(page, r'value="palpated" selected')
        again = self.marks_form(truth) | {"marked": "joint", "seen": "1", "once_key": "second"}
        self.saved(tid, again)
        at_joints = next(r for r in markings.readings(self.db, self.coach.id, tid) if r.headline)
        self.assertNotAlmostEqual(on_skin.value, at_joints.value, places=1)
        self.assertEqual(
            accounts.by_id(self.db, self.coach.id).usual_marked, "palpated",
            "joint centres are what a file says, not how a studio marks",
        )  # fmt: skip

    def test_nonsense_is_no_way(self) -> None:
        tid, truth = self.photographed(LEG_RAISE, Shot("left", 76.0, yaw_deg=7.0))
        self.saved(tid, self.marks_form(truth) | {"marked": "by magic"})
        self.assertEqual(markings.history(self.db, self.coach.id, tid)[0].marked, "joint")
