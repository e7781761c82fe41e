"""What a coach does to a photograph, by its commands: what is refused, what is kept, what moves."""

import io
import json
import math
import unittest
from types import SimpleNamespace
from unittest import mock

from PIL import Image

from dachi.core.assessing.runsheet import Slot
from dachi.core.body.pinhole import CORNERS
from dachi.core.measuring.scene import Reading, Result, SceneError
from dachi.data import catalogue
from dachi.photos.stickers import ColourError, Found
from dachi.simulation import inclinometer
from dachi.store import accounts, assessments, markings, photos, positions, second_opinions
from dachi.store.markings import Marking
from dachi.store.practitioners import get as person
from dachi.studio.bench import (
    acts,
    corner_cards,
    drafts,
    opening,
    reading,
    scenes,
    seen_joints,
    starting_marks,
)
from dachi.studio.bench.around import Around, surroundings
from dachi.studio.visits.intake import Refused
from tests.support import LEG_RAISE, Studio, ago, rendered

POSE = catalogue().pose(LEG_RAISE)
TRUTH = rendered()[1]
#: Of the sketch the truth is of, px.
SIZE = Image.open(io.BytesIO(rendered()[0])).size


class Bench(Studio):
    def setUp(self) -> None:
        super().setUp()
        self.aid = assessments.add(self.db, self.coach.id, self.pid, taken_at=ago(2), warmth="warm")
        self.number = 0

    def shot(self, *slot, size=SIZE, place: int | None = None) -> int:
        """A shot of a leg raise (or another slot) from the side, that nobody looked at."""
        self.number += 1
        sha = f"{self.number:064d}"
        photo = photos.add(self.db, self.coach.id, photos.NewPhoto(sha256=sha, source_sha256=sha[::-1], width=size[0], height=size[1], focal_35mm=26.0, taken_at=None, origin="upload"))  # fmt: skip
        where = Slot(*(slot or (LEG_RAISE, "left", "passive", self.number)))
        pose = catalogue().pose(where.pose)
        place = place or positions.for_photo(self.db, self.coach.id, self.aid, pose.view, pose.setup, size)  # fmt: skip
        return assessments.add_trial(self.db, self.coach.id, self.aid, photo, where, variant=pose.default_variant(), position_id=place)  # fmt: skip

    def at(self, tid: int):
        trial = assessments.trial(self.db, self.coach.id, tid)
        assert trial is not None
        return surroundings(self.work, trial)

    def form(self, **more) -> dict[str, str]:
        """Marks and corners where the figure has them, as a bench posts them."""
        found: dict[str, str] = {"mat": "on"}
        for name, (x, y) in TRUTH["marks_px"].items():
            if name in POSE.required:
                found |= {f"mark-{name}-x": str(x), f"mark-{name}-y": str(y), f"mark-{name}-state": "placed"}  # fmt: skip
        for name, (x, y) in TRUTH["corners_px"].items():
            found |= {f"corner-{name}-x": str(x), f"corner-{name}-y": str(y)}
        return found | more

    def accept(self, tid: int, **more) -> None:
        acts.accept(self.work, self.at(tid), self.form(sure="1", **more), None, None)

    def trial(self, tid: int):
        found = assessments.trial(self.db, self.coach.id, tid)
        assert found is not None
        return found


class Said(Bench):
    def test_how_the_pose_was_done(self) -> None:
        tid = self.shot()
        variant = next(iter(POSE.variants), None)
        for text, kept in (("12,5", 12.5), ("0", 0.0), ("150", 150.0), ("", None), ("  ", None)):
            acts.say_how(self.work, self.at(tid), {"prop_cm": text})
            self.assertEqual(self.trial(tid).prop_cm, kept, text)
        for text in ("-1", "150.1", "nan", "high", "inf"):
            with self.subTest(text), self.assertRaises(Refused):
                acts.say_how(self.work, self.at(tid), {"prop_cm": text})
        if variant is not None:
            other = next(o for o in variant.options if o != variant.default)
            acts.say_how(self.work, self.at(tid), {f"variant-{variant.id}": other})
            self.assertEqual(self.trial(tid).variant[variant.id], other)
            acts.say_how(self.work, self.at(tid), {f"variant-{variant.id}": "no such"})
            self.assertEqual(self.trial(tid).variant[variant.id], other)

    def test_how_large_the_mat_is(self) -> None:
        tid = self.shot()
        for length, width, good in (
            ("180", "60", True), ("60", "60", True), ("400", "400", True), ("183,5", "61", True),
            ("60", "180", False), ("401", "60", False), ("180", "39.9", False), ("x", "60", False),
            ("180", "nan", False),
        ):  # fmt: skip
            with self.subTest(length=length, width=width):
                try:
                    acts.mat_size(self.work, self.at(tid), length, width)
                except Refused:
                    self.assertFalse(good)
                else:
                    self.assertTrue(good)
                    at = self.at(tid).position
                    sizes = float(length.replace(",", ".")), float(width)
                    self.assertEqual((at.mat_length_cm, at.mat_width_cm), sizes)

    def test_another_instrument(self) -> None:
        tid = self.shot()
        for text, good in (("70,5", True), ("-180", True), ("360", True), ("-181", False), ("361", False), ("", False), ("inf", False)):  # fmt: skip
            with self.subTest(text):
                try:
                    acts.second_instrument(self.work, self.at(tid), text, simulated=False)
                except Refused:
                    self.assertFalse(good)
                else:
                    self.assertTrue(good)
        kept = second_opinions.of_trial(self.db, self.coach.id, tid)
        assert kept is not None
        self.assertEqual(kept.angle, 360.0)
        # Their spread together: the instrument's and the photograph's, in quadrature.
        room = 1.96 * math.hypot(inclinometer.SD_DEG, 3.0)
        self.assertGreater(room, 1.96 * inclinometer.SD_DEG + 1)
        for apart, words in ((math.floor(room), "as far as the two can differ"), (math.ceil(room + 0.5), "more than chance")):  # fmt: skip
            read = Reading("m", "M", "deg", 60.0, 3.0, 58.0, 62.0, True)
            result = Result("", "mat", LEG_RAISE, (read,), (), None, ())
            acts.second_instrument(self.work, self.at(tid), str(60 + apart), simulated=False)
            said = reading.second_opinion(self.work, self.at(tid), result)
            assert said is not None
            self.assertIn(f"+{apart:.0f}° against the photograph ({words})", said.words)
        alone = reading.second_opinion(self.work, self.at(tid), None)
        assert alone is not None
        self.assertNotIn("against", alone.words)

    def test_where_the_head_is(self) -> None:
        tid = self.shot()
        wide, high = self.at(tid).size
        for x, y in (("-1", "5"), (str(wide + 1), "5"), ("5", str(high + 1)), ("nan", "5"), ("", "")):  # fmt: skip
            with self.subTest(x=x, y=y), self.assertRaises(Refused):
                acts.hide_head(self.work, self.at(tid), x, y)
        acts.hide_head(self.work, self.at(tid), str(wide), "0")
        head = photos.head(self.db, self.coach.id, self.at(tid).photo.id)
        assert head is not None
        self.assertAlmostEqual(head.radius, 0.075 * max(wide, high), places=3)

    def test_a_colour_has_to_be_picked_once(self) -> None:
        tid = self.shot()
        for spot in (("", ""), ("5", ""), ("-3", "5")):
            with self.subTest(spot), self.assertRaises(ColourError):
                acts.find_stickers(self.work, self.at(tid), {}, spot)


class Moved(Bench):
    def test_from_here_on_the_camera_stands_elsewhere(self) -> None:
        a, b, c = self.shot(), self.shot(), self.shot()
        other = positions.start(self.db, self.coach.id, self.aid, "front")
        d = self.shot("straddle", "both", "passive", 1, place=other)
        self.assertFalse(acts.camera_moved(self.work, self.at(b), {}))
        where = [self.trial(t).position_id for t in (a, b, c, d)]
        self.assertNotEqual(where[0], where[1])
        self.assertEqual(where[1], where[2])
        self.assertEqual(where[3], other, "another place is another place")
        acts.camera_same(self.work, self.at(b))
        self.assertEqual(self.trial(b).position_id, where[0])
        with self.assertRaises(Refused):
            acts.camera_same(self.work, self.at(a))
        small = self.shot(size=(640, 480))
        acts.camera_moved(self.work, self.at(small), {})
        with self.assertRaises(Refused):
            acts.camera_same(self.work, self.at(small))
        self.assertTrue(acts.camera_moved(self.work, self.at(c), self.form()))
        self.assertIsNotNone(markings.draft(self.db, self.coach.id, c))
        guess = self.form(**{f"corner-{n}-state": "guess" for n in CORNERS})
        self.assertFalse(acts.camera_moved(self.work, self.at(c), guess))

    def test_moved_with_its_marks_to_another_place(self) -> None:
        tid = self.shot()
        parts = {"pose": LEG_RAISE, "side": "right", "mode": "active", "number": "3"}
        said = acts.move(self.work, self.at(tid), parts, self.form())
        self.assertTrue(said.endswith("Supine leg raise, right active, trial 3: mark it."), said)
        draft = markings.draft(self.db, self.coach.id, tid)
        assert draft is not None
        self.assertEqual(len(drafts.corners_of(draft)), 4, "corners just set go along")
        marked = self.shot(LEG_RAISE, "left", "passive", 7)
        self.accept(marked)
        said = acts.move(self.work, self.at(marked), parts | {"number": "4"}, {})
        self.assertTrue(said.endswith("its marks with it."), said)
        with self.assertRaises(Exception) as taken:
            acts.move(self.work, self.at(marked), parts, {})
        self.assertEqual(type(taken.exception).__name__, "Conflict")
        self.assertEqual(self.trial(marked).number, 4)

    def test_what_may_not_be_taken_may_not_be_filed(self) -> None:
        from dachi.store import preparation
        from tests.support import day_ago

        tid = self.shot(LEG_RAISE, "left", "active", 1)
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(0))
        parts = {"pose": LEG_RAISE, "side": "left", "number": "2"}
        with self.assertRaises(Refused):
            acts.move(self.work, self.at(tid), parts | {"mode": "passive"}, {})
        acts.move(self.work, self.at(tid), parts | {"mode": "active"}, {})
        self.assertEqual(self.trial(tid).number, 2, "the same pose and mode is only another trial")

    def test_a_place_of_its_own_for_another_view(self) -> None:
        tid = self.shot(LEG_RAISE, "left", "passive", 1)
        other = next(p for p in catalogue().poses if p.view != POSE.view and "passive" in p.modes)
        side = "both" if other.sides == "both" else "left"
        parts = {"pose": other.id, "side": side, "mode": "passive", "number": "1"}
        before = self.trial(tid).position_id
        acts.move(self.work, self.at(tid), parts, {})
        after = self.trial(tid)
        self.assertNotEqual(after.position_id, before)
        self.assertEqual(self.at(tid).position.view, other.view)
        self.assertEqual(dict(after.variant), other.default_variant())


class Starts(Bench):
    """Where things lie before anybody has placed them."""

    def test_guesses_stay_in_the_picture(self) -> None:
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "left"
            for wide, high in ((1280, 960), (960, 1280), (400, 1600), (1600, 400)):
                marks = starting_marks.guess_marks(pose, side, wide, high)
                corners = starting_marks.guess_corners(pose, wide, high)
                with self.subTest(pose.id, size=(wide, high)):
                    for x, y in marks.values():
                        self.assertTrue(0.04 * wide - 0.1 <= x <= 0.96 * wide + 0.1)
                        self.assertTrue(0.04 * high - 0.1 <= y <= 0.96 * high + 0.1)
                    for x, y in corners.values():
                        self.assertTrue(10 <= x <= wide - 10 and 10 <= y <= high - 10)
                    self.assertGreater(len({*marks.values()}), 1)
        twice = starting_marks.guess_marks(POSE, "left", 2000, 1500)
        for name, (x, y) in starting_marks.guess_marks(POSE, "left", 1000, 750).items():
            self.assertAlmostEqual(twice[name][0], 2 * x, delta=0.2)
            self.assertAlmostEqual(twice[name][1], 2 * y, delta=0.2)

    def test_a_level_line_starts_along_the_floor(self) -> None:
        at = self.at(self.shot(size=(1000, 500)))
        self.assertEqual(opening.level_guess(at), ((150.0, 440.0), (850.0, 440.0)))

    def test_marks_of_a_picture_of_another_size(self) -> None:
        found = starting_marks.scaled({"hip": (100.0, 50.0)}, (400, 200), (800, 100))
        self.assertEqual(found, {"hip": (200.0, 25.0)})

    def test_which_joint_a_mark_stands_for(self) -> None:
        for body, side, joint in (
            ("side.knee", "left", "left.knee"), ("other.knee", "left", "right.knee"),
            ("side.knee", "both", "right.knee"), ("other.hip", "both", "left.hip"),
            ("left.ankle.outer", "right", "left.ankle"), ("side.rib", "left", None),
            ("mat.knee", "left", None), ("side", "left", None),
        ):  # fmt: skip
            with self.subTest(body, side=side):
                self.assertEqual(seen_joints.joint_of(body, side), joint)


class Cameras(unittest.TestCase):
    """Whether the camera was moved between two shots, by sightings written out."""

    def moved(self, *corners, sd: float = 2.0) -> float:
        """How far the first of some shots' corners lie from the others'; None sees no cards."""
        shots = [SimpleNamespace(number=i) for i in range(len(corners))]
        sights = [
            None if c is None else SimpleNamespace(corners=c or None, corner_sds_px=dict.fromkeys(CORNERS, sd))
            for c in corners
        ]  # fmt: skip
        with mock.patch.object(
            corner_cards, "sighting", side_effect=lambda p, *_: sights[p.number]
        ):
            return corner_cards.moved(shots[0], None, POSE, shots[1:])  # type: ignore[arg-type]

    def test_only_where_every_corner_has_moved(self) -> None:
        at = {c: (100.0 * i, 50.0) for i, c in enumerate(CORNERS)}
        room = 4.0 * math.hypot(2.0, 2.0) + corner_cards.LEAST_MOVE_PX

        def shifted(by: float, *, but: str = "") -> dict[str, tuple[float, float]]:
            return {c: (x + (0.0 if c == but else by), y) for c, (x, y) in at.items()}

        self.assertEqual(self.moved(at, shifted(room - 0.1)), 0.0)
        self.assertEqual(self.moved(at, shifted(room)), 0.0, "just within reason")
        self.assertAlmostEqual(self.moved(at, shifted(room + 0.1)), room + 0.1)
        self.assertEqual(self.moved(at, shifted(90.0, but=CORNERS[1])), 0.0)
        self.assertEqual(self.moved(at), 0.0)
        for nothing in (None, {}):
            self.assertEqual(self.moved(nothing, shifted(90.0)), 0.0)
            self.assertAlmostEqual(self.moved(at, nothing, shifted(90.0)), 90.0)
        self.assertEqual(self.moved(at, at, shifted(90.0)), 0.0, "the newest that shows any counts")


class Lending(Bench):
    def test_cards_of_another_shot_of_the_same_size(self) -> None:
        a, b = self.shot(), self.shot()
        place = self.trial(a).position_id
        small = self.shot(size=(640, 480), place=place)
        corners = {c: (100.0 * i, 50.0) for i, c in enumerate(CORNERS)}
        told = SimpleNamespace(corners=corners, corner_sds_px=dict.fromkeys(CORNERS, 1.5))
        for seen_by, sees, lends in ((a, told, True), (small, told, False), (a, SimpleNamespace(corners=None), False)):  # fmt: skip
            photo = self.trial(seen_by).photo_id

            def sighting(p, *_, photo=photo, sees=sees):
                return sees if p.id == photo else None

            with (
                self.subTest(seen_by),
                mock.patch("dachi.studio.bench.corner_cards.sighting", side_effect=sighting),
            ):
                lent = self.at(b).lent
                self.assertEqual(lent is not None, lends)
                if lent is not None:
                    self.assertEqual(
                        (lent.trial.id, lent.by_cards, dict(lent.corners)), (a, True, corners)
                    )

    def test_own_corners_without_marks(self) -> None:
        """What goes along when a photograph is moved: its corners, and required marks as guesses."""
        corners = dict.fromkeys(CORNERS, (5.0, 6.0))
        form = drafts.corner_form(POSE, "left", corners, SIZE)
        marks = {k.split("-")[1] for k in form if k.startswith("mark-")}
        self.assertEqual(marks, set(POSE.required))
        self.assertEqual({v for k, v in form.items() if k.startswith("mark-") and k.endswith("-state")}, {"guess"})  # fmt: skip
        again, guesses = drafts.read_form(form, POSE)
        self.assertEqual((again.corners, guesses), (corners, set(POSE.required)))

    def test_how_many_untouched_guesses_are_asked_about(self) -> None:
        tid = self.shot()
        marks = opening.blank(self.at(tid))[0].marks
        names = list(POSE.required)
        self.assertGreater(len(names), 3)
        for left in (2, 3):
            form = {"mat": ""}
            for i, name in enumerate(names):
                x, y = marks[name]
                x += 0.0 if i < left else 25.0
                form |= {f"mark-{name}-x": str(x), f"mark-{name}-y": str(y), f"mark-{name}-state": "placed"}  # fmt: skip
            with self.subTest(left):
                try:
                    opening.accepted(Around(self.work, self.pid), self.at(tid), form)
                except opening.Unsure as error:
                    self.assertEqual(left, 3)
                    self.assertIn("still exactly where the program put them", str(error))
                except SceneError:
                    self.assertEqual(left, 2)
                else:
                    self.assertEqual(left, 2)


class Posted(unittest.TestCase):
    """A form as the bench posts it, read field by field."""

    POSE = POSE
    NAMES = tuple(POSE.required)

    def read(self, **fields: str):
        return drafts.read_form(fields, self.POSE)

    def mark(self, name: str, x: str = "5", y: str = "6", state: str = "placed", sd: str = ""):
        return {f"mark-{name}-x": x, f"mark-{name}-y": y, f"mark-{name}-state": state, f"mark-{name}-sd": sd}  # fmt: skip

    def test_in_which_state_a_mark_is(self) -> None:
        name = self.NAMES[0]
        for state, sd, guess, sds, seen, author in (
            ("placed", "", False, {}, (), "hand"), ("placed", "3", False, {}, (), "hand"),
            ("guess", "", True, {}, (), "hand"), ("guess", "3", True, {name: 3.0}, (), "sticker"),
            ("sticker", "2,5", False, {name: 2.5}, (), "sticker"), ("sticker", "", False, {name: 1.0}, (), "sticker"),
            ("seen", "4", False, {name: 4.0}, (name,), "seen"),
        ):  # fmt: skip
            marking, guesses = self.read(**self.mark(name, state=state, sd=sd))
            with self.subTest(state, sd=sd):
                self.assertEqual(marking.marks, {name: (5.0, 6.0)})
                self.assertEqual(
                    (name in guesses, marking.mark_sds, marking.seen), (guess, sds, seen)
                )
                self.assertEqual(marking.author, author)
        for fields in (self.mark(name, state="absent"), self.mark(name, y=""), {}):
            self.assertEqual(self.read(**fields)[0].marks, {})
        for x in ("nan", "inf", "left"):
            with self.subTest(x), self.assertRaisesRegex(SceneError, "not a number"):
                self.read(**self.mark(name, x=x))

    def test_what_else_a_form_says(self) -> None:
        for said, kept in (("left", "left"), ("right", "right"), ("up", None), ("", None)):
            self.assertEqual(self.read(facing=said)[0].facing, kept, said)
        self.assertIsNone(self.read()[0].facing)
        for way in (*drafts.WAYS, "guesswork", ""):
            self.assertEqual(self.read(marked=way)[0].marked, way if way in drafts.WAYS else "")
        line = {"level-a-x": "1", "level-a-y": "2", "level-b-x": "3", "level-b-y": "4"}
        self.assertEqual(self.read(level="on", **line)[0].level, ((1.0, 2.0), (3.0, 4.0)))
        self.assertIsNone(self.read(**line)[0].level)
        self.assertIsNone(self.read(level="on", **(line | {"level-b-y": ""}))[0].level)
        self.assertEqual(len(self.read(overrule_reason=" x" * 400)[0].overrule_reason), 500)

    def test_corners_are_all_four_and_set(self) -> None:
        corners = {f"corner-{c}-{axis}": "7" for c in CORNERS for axis in "xy"}
        self.assertEqual(self.read(mat="on", **corners)[0].corners, dict.fromkeys(CORNERS, (7.0, 7.0)))  # fmt: skip
        self.assertIsNone(self.read(**corners)[0].corners)
        one = {"corner-near_left-state": "guess"}
        marking, guesses = self.read(mat="on", **(corners | one))
        self.assertIsNone(marking.corners)
        self.assertEqual(guesses, {"corner-near_left"})
        self.assertIsNone(self.read(mat="on", **(corners | {"corner-near_left-x": ""}))[0].corners)
        shown = drafts.corners_of({"mat": "on"} | corners | one)
        self.assertEqual([c.state for c in shown.values()], ["guess", "placed", "placed", "placed"])
        self.assertEqual(drafts.corners_of(corners), {})
        self.assertEqual(drafts.corners_of({"mat": "on"} | corners | {"corner-far_left-y": ""}), {})
        self.assertEqual(drafts.label_of("corner-far_left", POSE), "mat corner far left")
        self.assertEqual(drafts.label_of(self.NAMES[0], POSE), POSE.mark(self.NAMES[0]).label)
        order = drafts.in_order(POSE, {"corner-far_left", *self.NAMES})
        self.assertEqual(order[-1], "corner-far_left")
        self.assertEqual(order[:-1], [m.id for m in POSE.marks if m.id in self.NAMES])

    def test_what_a_form_keeps_comes_back(self) -> None:
        marks = {n: (10.0 * i, 5.0) for i, n in enumerate(self.NAMES, 1)}
        states = dict.fromkeys(self.NAMES, "placed") | {self.NAMES[0]: "seen"}
        form = drafts.form_of(Marking(marks=marks, mark_sds={self.NAMES[0]: 2.5}), states)
        again, guesses = drafts.read_form(form, POSE)
        self.assertEqual((again.marks, again.seen, guesses), (marks, (self.NAMES[0],), set()))
        self.assertEqual(again.mark_sds, {self.NAMES[0]: 2.5})

    def test_stickers_in_words(self) -> None:
        one, two = self.NAMES[:2]

        def said(**more):
            found = Found(**({"marks": {one: (1.0, 2.0)}, "sds": {one: 1.5}, "missing": (), "doubtful": (), "spare": 0} | more))  # fmt: skip
            return drafts.say_stickers(POSE, found), drafts.with_stickers({}, found)

        self.assertIn("1 sticker found. Look them over", said()[0])
        self.assertEqual(said()[1][f"mark-{one}-state"], "sticker")
        self.assertEqual(said()[1][f"mark-{one}-sd"], "1.50")
        words, form = said(doubtful=(one,), marks={one: (1.0, 2.0), two: (3.0, 4.0)}, sds={one: 1.0, two: 1.0})  # fmt: skip
        self.assertIn("2 stickers found. Could be another's dot", words)
        self.assertNotIn("Look them over", words)
        self.assertEqual((form[f"mark-{one}-state"], form[f"mark-{one}-sd"]), ("guess", ""))
        self.assertIn(f"Not found: {POSE.mark(two).label}", said(missing=(two,))[0])
        self.assertIn("1 more spot of", said(spare=1)[0])
        self.assertIn("2 more spots of", said(spare=2)[0])
        self.assertIn("No stickers of that colour", said(marks={}, sds={})[0])


class Marked(Bench):
    def test_kept_once_and_not_over_somebody_else(self) -> None:
        tid = self.shot()
        at = self.at(tid)
        acts.accept(self.work, at, self.form(sure="1"), "once", None)
        (first,) = markings.history(self.db, self.coach.id, tid)
        acts.accept(self.work, at, self.form(sure="1"), "once", None)
        self.assertEqual(len(markings.history(self.db, self.coach.id, tid)), 1)
        acts.accept(self.work, at, self.form(sure="1"), "twice", first.number)
        with self.assertRaises(Exception) as late:
            acts.accept(self.work, at, self.form(sure="1"), "late", first.number)
        self.assertEqual(type(late.exception).__name__, "Conflict")
        self.assertEqual(len(markings.history(self.db, self.coach.id, tid)), 2)

    def test_how_marks_are_usually_set_is_remembered(self) -> None:
        tid = self.shot()
        self.accept(tid)
        coach = accounts.by_id(self.db, self.coach.id)
        assert coach is not None
        self.assertEqual(coach.usual_marked, "joint", "the figure's own way is no habit")
        self.accept(tid, marked="sticker")
        coach = accounts.by_id(self.db, self.coach.id)
        assert coach is not None
        self.assertEqual(coach.usual_marked, "sticker")

    def test_untouched_guesses_are_asked_about_once(self) -> None:
        tid = self.shot()
        marking, states, _ = opening.blank(self.at(tid))
        self.assertEqual(set(states.values()), {"guess"})
        form = {"mat": ""}
        for name, (x, y) in marking.marks.items():
            form |= {f"mark-{name}-x": str(x), f"mark-{name}-y": str(y), f"mark-{name}-state": "placed"}  # fmt: skip
        with self.assertRaises(opening.Unsure):
            acts.accept(self.work, self.at(tid), form, None, None)
        self.assertEqual(markings.history(self.db, self.coach.id, tid), [])

    def test_a_fingerprint_holds_what_a_reading_is_made_from(self) -> None:
        """Anything that is given changes it; the trial's number does not."""
        a, b = self.shot(), self.shot()
        marking = drafts.read_form(self.form(), POSE)[0]

        def stamp(tid: int, of: Marking = marking) -> str:
            at = self.at(tid)
            return scenes.made_from(scenes.whole(at, scenes.scene_of(at, of)))

        first = stamp(a)
        self.assertEqual(first, stamp(b))
        moved = dict(marking.marks)
        name = next(iter(moved))
        moved[name] = (moved[name][0] + 1.0, moved[name][1])
        self.assertNotEqual(first, stamp(a, Marking(marks=moved, corners=marking.corners)))
        acts.say_how(self.work, self.at(a), {"prop_cm": "10"})
        self.assertNotEqual(first, stamp(a))
        self.assertEqual(first, stamp(b))
        acts.mat_size(self.work, self.at(b), "200", "70")
        self.assertNotEqual(first, stamp(b), "a mat's size is of the place, of all its shots")

    def test_corners_of_the_other_shots(self) -> None:
        a, b = self.shot(), self.shot()
        self.assertIsNone(self.at(b).lent)
        self.accept(a)
        lent = self.at(b).lent
        assert lent is not None
        self.assertEqual((lent.trial.id, lent.shots, lent.by_cards), (a, 1, False))
        self.assertIsNone(self.at(a).lent, "no shot borrows its own")
        for name, (x, y) in TRUTH["corners_px"].items():
            self.assertAlmostEqual(lent.corners[name][0], x, places=3)
            self.assertAlmostEqual(lent.corners[name][1], y, places=3)
        shown = opening.shown_corners(self.at(b), Marking(marks={}), {})
        self.assertTrue(shown.lent)
        self.assertFalse(shown.on)
        acts.camera_moved(self.work, self.at(b), {})
        self.assertIsNone(self.at(b).lent, "another place lends nothing")

    def test_what_stands_beside_a_hold(self) -> None:
        tid, other = self.shot(), self.shot("straddle", "both", "passive", 1)
        self.assertEqual(acts.may_stand_beside(self.work, self.trial(tid)), [])
        with self.assertRaises(Refused):
            acts.read_together(self.work, self.trial(tid), str(other))
        self.assertIsNone(self.trial(tid).held_with)
        self.accept(tid)
        before, after = acts.read_together(self.work, self.trial(tid), "")
        assert before is not None and after is not None
        self.assertEqual(before.value, after.value)

    def test_marks_from_a_file_of_keypoints(self) -> None:
        tid = self.shot()
        self.accept(tid)
        body = json.dumps(reading.coco_of(self.work, self.aid)).encode()
        self.assertIn(str(SIZE[0]).encode(), body)
        other = self.shot()
        count = acts.take_coco(self.work, self.at(other), io.BytesIO(body))
        draft = markings.draft(self.db, self.coach.id, other)
        assert draft is not None
        self.assertGreaterEqual(count, 1)
        self.assertEqual({k.split("-")[-1] for k in draft if k.startswith("mark-")}, {"x", "y", "state"})  # fmt: skip
        states = {v for k, v in draft.items() if k.endswith("-state")}
        self.assertEqual(states, {"guess"}, "a file says where to start, no more")

    def test_what_is_read_while_marks_are_guesses(self) -> None:
        tid = self.shot()
        marking, guesses = drafts.read_form(self.form(), POSE)
        found = reading.read(self.at(tid), marking, guesses)
        assert found.result is not None
        self.assertEqual((found.guesses, found.proposed, found.problem), ((), False, None))
        name = next(iter(POSE.required))
        guessed = reading.read(self.at(tid), marking, {name})
        self.assertIsNone(guessed.result)
        self.assertEqual(len(guessed.guesses), 1)
        self.assertIsNotNone(reading.describe_camera(guessed))
        seen = Marking(marks=marking.marks, corners=marking.corners, mark_sds={name: 6.0})
        proposed = reading.read(self.at(tid), seen, {name})
        self.assertTrue(proposed.proposed)
        assert proposed.result is not None
        value = found.result.readings[0].value
        self.assertAlmostEqual(proposed.result.readings[0].value, value, delta=0.5)

    def test_nobody_elses(self) -> None:
        with self.assertRaises(KeyError):
            Around(self.work, 10**6)
        self.assertIsNone(person(self.db, self.coach.id + 1, self.pid))


if __name__ == "__main__":
    unittest.main()
