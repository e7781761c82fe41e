"""Bodies behind marks: gradients against differences, intervals against drawn truths."""

import unittest
from dataclasses import replace
from typing import ClassVar
from unittest import mock

import numpy as np

from dachi.core.body.figure import root_axes
from dachi.core.body.pinhole import CORNERS, look_from, mat_points
from dachi.core.measuring import asked, measure, reconstruct, skeleton
from dachi.core.measuring.body_priors import held, seen
from dachi.core.measuring.calibration import Mat
from dachi.core.measuring.looks import CAMERA, Look
from dachi.core.measuring.posterior import Frames, posteriors
from dachi.core.measuring.reconstruct import Problem, View
from dachi.core.measuring.scene import Image, PhotoView, Scene, SceneError
from dachi.core.measuring.skeleton import INDEX, Points, joint_point
from dachi.data import catalogue
from dachi.simulation.camera import Shot
from tests.support import scene_of

WIDTH, HEIGHT = 1600, 1200
RAISE = catalogue().pose("supine-leg-raise")


class Somebody:
    """A lying body with a raised leg, drawn by hand-written chains of bones, not by the skeleton.

    Heading right, so the right side is towards the camera. Skin points are given in the
    world; ``raised`` is the angle of the raised thigh above the floor, degrees.
    """

    def __init__(
        self, rng: np.random.Generator, raised: float | None = None, rest: str = "straight"
    ) -> None:
        self.raised = float(rng.uniform(40, 115)) if raised is None else raised
        size = rng.normal(1.0, 0.05)
        thigh, shin = size * (39 + rng.normal(0, 1.5)), size * (42 + rng.normal(0, 1.2))
        hip = np.array([rng.normal(-5, 5), -9.0 + rng.normal(0, 2), 12 + rng.normal(0, 1)])
        a = np.radians(self.raised)
        way = np.array([np.cos(a), 0, np.sin(a)])
        ahead = np.array([-np.sin(a), 0, np.cos(a)])  # the front of the raised thigh
        out = np.array([0, -1.0, 0])
        knee = hip + thigh * way
        ankle = knee + shin * way
        far = hip + np.array([0, 18.0, 0])
        rest_knee = far + np.array([thigh, 1.0, -1.5])
        rest_ankle = rest_knee + np.array([shin, 1.0, -2.7])
        front, inner = np.array([0, 0, 1.0]), np.array([0, -1.0, 0])
        bone = np.array([-1.0, 0, 0])
        if rest != "straight":
            # Foot flat near the seat: the thigh stands, the shin comes down to the floor.
            rise = np.radians(rng.uniform(45, 58))
            bone = np.array([-np.cos(rise), 0, -np.sin(rise)])
            front = np.array([-np.sin(rise), 0, np.cos(rise)])
            rest_knee = far - thigh * bone
            drop = rest_knee[2] - 7.6
            ahead_of = np.sqrt(max(shin**2 - drop**2, 1.0))
            rest_ankle = rest_knee + np.array([ahead_of, 0, -drop])

        def skin(at, outward, forward, along, to):
            jitter = rng.normal(0, (0.6, 0.5, 0.6))
            x, y, z = np.array(to) + jitter
            return at + x * forward + y * outward + z * along

        self.spots = {
            "hip": skin(hip, out, ahead, -way, (-1.3, 8.8, -0.5)),
            "knee": skin(knee, out, ahead, -way, (-0.5, 5.4, -0.5)),
            "ankle": skin(ankle, out, ahead, -way, (-0.2, 3.4, -0.4)),
            "rest_knee": skin(rest_knee, inner, front, bone, (0.5, 5.4, 0.5)),
            "rest_ankle": skin(rest_ankle, inner, front, np.array([-1.0, 0, 0]), (0.2, 3.4, 0.3)),
            "shoulder": hip + np.array([-52.0, -8.0 - 0.2, 1.0]),
        }


def photograph(who: Somebody, rng: np.random.Generator, click: float = 3.0, **more) -> Scene:
    camera = look_from((0, -240, 65), float(rng.uniform(-12, 12)), -6, 0, 26, WIDTH, HEIGHT)
    marks = {n: camera.project(p) + rng.normal(0, click, 2) for n, p in who.spots.items()}
    corners = {
        n: tuple(camera.project(p) + rng.normal(0, 1.0, 2))
        for n, p in zip(CORNERS, mat_points(183, 61, "side"), strict=True)
    }
    return Scene(
        pose=RAISE.id, side="right", mode="passive", image=Image(WIDTH, HEIGHT, 26.0),
        marks={n: (float(u), float(v)) for n, (u, v) in marks.items()}, mark_sd_px=click,
        mat=Mat(183, 61, corners, 1.0), marked=more.pop("marked", "eye"), **more,
    )  # fmt: skip


def problem(scene: Scene) -> Problem:
    marks = tuple(m for m in RAISE.marks if m.id in scene.marks)
    variant = RAISE.default_variant()
    (prior,), names = held(RAISE, scene.side, variant, 1.0, True)
    how = tuple(scene.skin_way(m.id) for m in marks)
    spots = seen(RAISE, marks, names, variant, prior.contacts, how)
    estimate = asked.camera_for(scene, RAISE, marks)
    look = Look(scene, marks, estimate, spots.sds, np.eye(3), beside=False)
    return Problem((look,), prior, spots, reconstruct.taped(prior, scene.segments_cm))


class Weighing(unittest.TestCase):
    def test_the_gradient_leads_downhill(self) -> None:
        """At the peak no small step lowers the cost, and from a start the step does."""
        rng = np.random.default_rng(2)
        given = problem(photograph(Somebody(rng), rng))
        start = given.starts()[0]
        body = reconstruct.peak(given, start)
        self.assertLess(body.cost, given.weigh(start).cost)
        lowest = np.concatenate([np.zeros(CAMERA), body.x])
        for _ in range(40):
            step = np.linalg.cholesky(body.covariance) @ rng.normal(size=skeleton.SIZE) * 0.3
            lowest[CAMERA:] = body.x + step
            # With the camera left where it was a body can only fit worse, but for its share.
            self.assertGreater(given.weigh(lowest).cost, body.cost - 0.5)

    def test_what_repeats_is_a_part_of_all(self) -> None:
        rng = np.random.default_rng(3)
        body = reconstruct.peak(g := problem(photograph(Somebody(rng), rng)), g.starts()[0])
        new = body.covariance - body.repeats
        self.assertGreater(np.linalg.eigvalsh((new + new.T) / 2).min(), -1e-9)
        self.assertGreater(np.linalg.eigvalsh((body.repeats + body.repeats.T) / 2).min(), -1e-9)

    def test_a_taped_bone_is_believed(self) -> None:
        """Two Gaussians by hand: 39 cm with the spread of people, 46 cm with the tape's."""
        (prior,), _ = held(RAISE, "right", RAISE.default_variant(), 1.0, True)
        mean, precision, lengths = reconstruct.taped(prior, {"thigh": 46.0})
        i, at = INDEX["thigh"], slice(skeleton.FIRST_LENGTH, skeleton.SIZE)
        spread = np.linalg.inv(prior.precision[at, at])[1, 1]
        tape = reconstruct.TAPED_SD_CM**2
        self.assertAlmostEqual(mean[i], (39.0 * tape + 46.0 * spread) / (spread + tape), places=6)
        self.assertAlmostEqual(
            np.linalg.inv(precision[at, at])[1, 1], spread * tape / (spread + tape), places=6
        )
        self.assertGreater(mean[INDEX["shin"]], 42.5, "a long thigh is a tall person")
        self.assertGreater(lengths[i, i], prior.lengths[i, i])

    def test_a_tape_is_taken_out_of_what_a_shot_says_of_bones(self) -> None:
        """With any tape, the length a shot tells by itself is the one it tells without."""
        scene = photograph(Somebody(np.random.default_rng(5)), np.random.default_rng(5))
        bare = measure.measure(scene, catalogue())
        for tape in ({"thigh": 39.0}, {"thigh": 41.0, "shin": 43.0}):
            found = measure.measure(replace(scene, segments_cm=tape), catalogue())
            for name, bone in bare.bones.items():
                with self.subTest(tape=tape, bone=name):
                    self.assertAlmostEqual(found.bones[name].cm, bone.cm, delta=0.25)
                    self.assertAlmostEqual(found.bones[name].sd, bone.sd, delta=0.1)
                    self.assertLessEqual(found.bones[name].repeats, found.bones[name].sd)
        without = replace(scene, mat=None, level=((100.0, 900.0), (1500.0, 900.0)))
        self.assertEqual(measure.measure(without, catalogue()).bones, {})

    def test_a_body_that_lies_uneasily_is_looked_for_from_elsewhere(self) -> None:
        """A climb that ends badly from the first start is not the answer; an easy one is not redone."""
        given = problem(photograph(Somebody(rng := np.random.default_rng(8)), rng))
        honest = reconstruct.peak(given, given.starts()[0])
        bad = replace(honest, cost=honest.cost + 50.0, strain=40.0)
        easy = replace(honest, strain=1.0)
        for results, expected, climbs in (
            ([bad, honest, bad], honest, 3), ([bad, bad, honest], honest, 3), ([easy], easy, 1),
        ):  # fmt: skip
            with mock.patch.object(reconstruct, "peak", side_effect=results) as climbing:
                self.assertIs(reconstruct.solve(given), expected)
            self.assertEqual(climbing.call_count, climbs)
            starts = [c.args[1].tobytes() for c in climbing.call_args_list]
            self.assertEqual(len(set(starts)), climbs)

    def test_joints_have_no_skin(self) -> None:
        marks = RAISE.marks[:3]
        names = {"side": "right", "other": "left"}
        at = {}
        for way in ("eye", "joint"):
            spots = seen(RAISE, marks, names, {}, (), (way,) * 3)
            x = np.zeros((1, skeleton.SIZE))
            x[0, skeleton.FIRST_LENGTH :] = skeleton.USUAL_LENGTHS
            posed = skeleton.pose(x, root_axes("supine", "right").T)
            at[way] = spots.skin.at(x, posed)[0]
            centres = Points([joint_point(f"right.{j}") for j in ("shoulder", "hip", "knee")])
            if way == "joint":
                np.testing.assert_allclose(at[way], centres.at(x, posed)[0])
        self.assertGreater(np.linalg.norm(at["eye"] - at["joint"], axis=1).min(), 4.0)


class Habits(unittest.TestCase):
    """A hand that always puts a mark a centimetre off, against marks really moved so."""

    def test_what_a_habit_adds_is_what_moved_marks_read(self) -> None:
        for pose_id, side in (
            ("supine-leg-raise", "right"),
            ("straddle", "both"),
            ("low-lunge", "left"),
        ):
            pose = catalogue().pose(pose_id)
            value = pose.figure.low + 0.5 * (pose.figure.high - pose.figure.low)
            scene = replace(
                scene_of(pose_id, Shot(side, value, yaw_deg=6)), marked="eye", segments_cm={}
            )
            marks = asked.usable_marks(scene, pose)
            forward, _ = asked.forward_of(scene, pose)
            estimate = asked.camera_for(scene, pose, marks)
            (solution, *_) = reconstruct.reconstruct((View(scene, pose, marks, estimate, forward),))
            spots, x = solution.spots, solution.body.x[None]
            posed = skeleton.pose(x, solution.prior.root)
            at = spots.skin.at(x, posed)[0]
            frames = posed.frames[0, spots.skin.segment]
            name = pose.headline_for({}).id

            def read(own: Scene, pose=pose, estimate=estimate, name=name) -> float:
                return measure.measure_with(own, pose, estimate).reading(name).value

            variance = 0.0
            for kind in dict.fromkeys(spots.kinds):
                for axis in range(3):
                    ends = []
                    for sign in (1.0, -1.0):
                        moved = dict(scene.marks)
                        for i, m in enumerate(marks):
                            if spots.kinds[i] != kind:
                                continue
                            hand = spots.skin.hand[i] if axis == 1 else 1.0
                            # A quarter of a habit: the body answers in a straight line.
                            step = 0.25 * sign * hand * m.skin.habit * frames[i][:, axis]
                            a, b = (estimate.camera.project(p) for p in (at[i], at[i] + step))
                            x0, y0 = scene.marks[m.id]
                            moved[m.id] = (x0 + float(b[0] - a[0]), y0 + float(b[1] - a[1]))
                        ends.append(read(replace(scene, marks=moved)))
                    variance += ((ends[0] - ends[1]) / 0.5) ** 2
            (found,) = posteriors((View(scene, pose, marks, estimate, forward),))[:1]
            frames_of = Frames(scene, pose, found, forward)
            told = float(frames_of.evaluate([pose.headline_for({})])[3][0])
            with self.subTest(pose_id):
                self.assertGreater(told, 0.5)
                # Curvature is taken from first derivatives, and priors give way.
                self.assertAlmostEqual(told / np.sqrt(variance), 1.0, delta=0.2)

    def test_detected_joints_have_no_hand(self) -> None:
        scene = scene_of("supine-leg-raise", Shot("right", 80.0))
        for way, most in (("joint", 1e-9), ("eye", 9.0)):
            own = replace(scene, marked=way)
            marks = asked.usable_marks(own, RAISE)
            view = View(own, RAISE, marks, asked.camera_for(own, RAISE, marks), 1.0)
            (solution,) = reconstruct.reconstruct((view,))
            size = float(np.abs(solution.habits).max())
            self.assertLessEqual(size, most)
            self.assertEqual(size > 0.0, way == "eye")


class TwoPhotographs(unittest.TestCase):
    """Of one hold, from two places: one body behind both."""

    def pair(self, seed: int) -> tuple[Somebody, Scene, Scene]:
        rng = np.random.default_rng(seed)
        who = Somebody(rng)
        one, other = photograph(who, rng), photograph(who, rng)
        views = tuple(
            PhotoView("side", s.image, s.marks, s.mat, facing="right") for s in (one, other)
        )
        return who, one, replace(one, views=views, marks={}, mat=None)

    def test_two_say_more_than_one(self) -> None:
        alone, both = [], []
        for seed in range(30):
            who, one, two = self.pair(seed)
            for scene, found in ((one, alone), (two, both)):
                r = measure.measure(scene, catalogue()).headline
                found.append((r.value - who.raised, r.sd))
        a, b = np.array(alone), np.array(both)
        # The hand's habit is the same in both photographs: only the rest gets less.
        self.assertLess(b[:, 1].mean(), 1.1 * a[:, 1].mean())
        self.assertLess(abs(b[:, 0]).mean(), abs(a[:, 0]).mean() + 0.05)
        self.assertGreater(np.mean(abs(b[:, 0]) < 1.96 * b[:, 1]), 0.85)

    def test_the_order_of_photographs_changes_nothing(self) -> None:
        _, _, two = self.pair(3)
        back = replace(two, views=two.views[::-1])
        a, b = (measure.measure(s, catalogue()).headline for s in (two, back))
        self.assertAlmostEqual(a.value, b.value, delta=0.2)
        self.assertAlmostEqual(a.sd, b.sd, delta=0.05)

    def test_the_weaker_calibration_names_the_method(self) -> None:
        _, _, two = self.pair(4)
        flat = replace(two.views[1], mat=None)
        found = measure.measure(replace(two, views=(two.views[0], flat)), catalogue())
        self.assertEqual(found.method, "picture")

    def test_a_photograph_that_cannot_be_used_is_named(self) -> None:
        _, _, two = self.pair(5)
        for change, words in (
            ({"marks": {}}, r"photograph 2 \(side\): still to mark"),
            ({"view": "above"}, "photograph 2"),
        ):
            views = (two.views[0], replace(two.views[1], **change))
            with self.assertRaisesRegex(SceneError, words):
                measure.measure(replace(two, views=views), catalogue())

    def test_front_and_side_turn_by_where_the_person_faces(self) -> None:
        """By hand: a side view facing right, then left, against the front view's floor."""
        front = catalogue().pose("leg-raise-out")
        scene = photograph(Somebody(r := np.random.default_rng(1)), r)
        estimate = asked.camera_for(scene, RAISE, ())
        for forward, feet in ((1.0, (1.0, 0.0, 0.0)), (-1.0, (-1.0, 0.0, 0.0))):
            side = reconstruct.View(scene, RAISE, (), estimate, forward)
            other = reconstruct.View(scene, front, (), estimate, 1.0)
            turn = reconstruct.turn_between(side, other)
            np.testing.assert_allclose(turn @ feet, (0.0, -1.0, 0.0), atol=1e-12)
            np.testing.assert_allclose(turn @ (0, 0, 1.0), (0, 0, 1.0))
            np.testing.assert_allclose(turn @ turn.T, np.eye(3), atol=1e-12)


class Readings(unittest.TestCase):
    """Truths the program did not make: a hand-drawn leg, marked on its skin."""

    rows: ClassVar[list[tuple[float, float, float, str]]]

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(11)
        cls.rows = []
        for _ in range(120):
            who = Somebody(rng)
            found = measure.measure(photograph(who, rng), catalogue())
            r = found.reading("hip_flexion")
            cls.rows.append((r.value - who.raised, r.sd, r.sd_change, found.status))

    def test_bias_error_and_interval(self) -> None:
        e = np.array([r[0] for r in self.rows])
        sd = np.array([r[1] for r in self.rows])
        self.assertLess(abs(e.mean()), 1.5)
        self.assertLess(abs(e).mean(), 1.2)
        self.assertGreater(np.mean(abs(e) < 1.96 * sd), 0.9)
        self.assertLess(sd.mean(), 1.8 * np.sqrt((e**2).mean()))

    def test_clean_shots_are_not_sent_back(self) -> None:
        self.assertLessEqual(sum(r[3] == "retake" for r in self.rows), 3)

    def test_a_change_is_known_better_than_an_angle(self) -> None:
        self.assertTrue(all(change < sd for _, sd, change, _ in self.rows))

    def test_a_change_of_one_person(self) -> None:
        rng = np.random.default_rng(12)
        inside = []
        for _ in range(40):
            seed = int(rng.integers(1 << 30))
            pair = []
            for raised in (60.0, 95.0):
                who = Somebody(np.random.default_rng(seed), raised)
                r = measure.measure(photograph(who, rng), catalogue()).reading("hip_flexion")
                pair.append((r.value - raised, r.sd_change))
            (a, s), (b, t) = pair
            inside.append(abs(b - a) < 1.96 * np.hypot(s, t))
        self.assertGreater(np.mean(inside), 0.87)

    def test_a_resting_foot_flat_on_the_floor(self) -> None:
        """It was refused as no such pose, or read as a lifted thigh."""
        rng = np.random.default_rng(16)
        errors = []
        for _ in range(30):
            who = Somebody(rng, float(rng.uniform(75, 115)), rest="bent")
            scene = replace(photograph(who, rng), variant={"resting_leg": "bent"})
            found = measure.measure(scene, catalogue())
            self.assertNotEqual(found.status, "retake", [c.message for c in found.checks])
            errors.append(found.headline.value - who.raised)
        self.assertLess(np.mean(np.abs(errors)), 1.5)

    def test_a_bone_marked_two_centimetres_off_is_what_a_joint_reading_misses(self) -> None:
        """The same shots taken for joint centres read high by the trochanter's place."""
        rng = np.random.default_rng(13)
        found = []
        for _ in range(30):
            who = Somebody(rng)
            scene = photograph(who, rng)
            as_joint = measure.measure(replace(scene, marked="joint"), catalogue())
            found.append(as_joint.reading("hip_flexion").value - who.raised)
        self.assertGreater(np.mean(found), 0.8)

    def test_marks_that_are_no_body_are_said(self) -> None:
        rng = np.random.default_rng(14)
        scene = photograph(Somebody(rng), rng)
        swapped = scene.marks | {"knee": (1400.0, 300.0), "shoulder": (1500.0, 100.0)}
        found = measure.measure(replace(scene, marks=swapped), catalogue())
        self.assertEqual(found.status, "retake")

    def test_marks_anywhere_give_an_answer_or_a_sentence(self) -> None:
        rng = np.random.default_rng(17)
        scene = photograph(Somebody(rng), rng)
        for _ in range(25):
            wild = {n: tuple(rng.uniform(5, (WIDTH - 5, HEIGHT - 5))) for n in scene.marks}
            try:
                r = measure.measure(replace(scene, marks=wild), catalogue()).headline
            except SceneError:
                continue
            self.assertTrue(np.isfinite([r.value, r.sd, r.sd_change]).all())
        with (
            mock.patch.object(reconstruct, "peak", side_effect=np.linalg.LinAlgError),
            self.assertRaisesRegex(SceneError, "no body fits these marks"),
        ):
            measure.measure(scene, catalogue())

    def test_without_a_mat(self) -> None:
        """A level line still gives the angle, less surely, and never a crash."""
        rng = np.random.default_rng(15)
        who = Somebody(rng)
        scene = replace(photograph(who, rng), mat=None, level=((100.0, 900.0), (1500.0, 900.0)))
        r = measure.measure(scene, catalogue()).reading("hip_flexion")
        self.assertLess(abs(r.value - who.raised), 3 * r.sd + 1)

    def test_every_pose_gives_a_reading_on_skin(self) -> None:
        """Marks of the figure taken for skin: all twenty poses are data for one skeleton."""
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "left"
            middle = (pose.figure.low + pose.figure.high) / 2
            scene = replace(scene_of(pose.id, Shot(side, middle)), marked="eye")
            for way in ("eye", "palpated", "sticker"):
                for put in ("in_pose", "standing"):
                    given = replace(scene, marked=way, sticker_put=put, segments_cm={"thigh": 43.0})
                    with self.subTest(pose=pose.id, way=way, put=put):
                        r = measure.measure(given, catalogue()).headline
                        self.assertTrue(np.isfinite([r.value, r.sd, r.sd_change]).all())
                        self.assertLessEqual(r.sd_change, r.sd + 1e-9)

    def test_the_whole_body_is_told_seen_or_inferred(self) -> None:
        """The raised thigh and knee are in the picture; how that thigh is turned is not."""
        rng = np.random.default_rng(7)
        who = Somebody(rng, 70.0)
        scene = photograph(who, rng)
        found = {a.name: a for a in measure.measure(scene, catalogue()).body}
        self.assertEqual(len(found), 13)
        self.assertTrue(found["right_hip_flexion"].seen)
        self.assertFalse(found["right_hip_rotation"].seen)
        self.assertLess(abs(found["right_knee_flexion"].value), 8)
        self.assertEqual(found["left_hip_flexion"].label, "left hip flexion")
        flexion = found["right_hip_flexion"].value - found["pelvis_tilt"].value
        self.assertAlmostEqual(flexion, 70.0, delta=6.0)

    def test_what_an_eye_saw_is_a_check(self) -> None:
        """No marks tell of it: said, it is judged; unsaid, it is not spoken of."""
        told = []
        for pose in catalogue().poses:
            side = "both" if pose.sides == "both" else "left"
            scene = replace(scene_of(pose.id, Shot(side, pose.figure.low + 10)), marked="eye")
            for check in (c for c in pose.checks if c.formula.text == "1"):
                said = measure.measure(
                    replace(scene, variant=pose.default_variant() | check.when), catalogue()
                )
                with self.subTest(check.id):
                    found = next(c for c in said.checks if c.id == check.id)
                    self.assertEqual(found.status, check.severity)
                    self.assertNotIn("{", found.message)
                    unsaid = measure.measure(scene, catalogue()).checks
                    self.assertNotIn(check.id, [c.id for c in unsaid])
                told.append(pose.id)
        self.assertGreaterEqual(len(told), 6)

    def test_only_the_headline_is_given_the_width_bodies_deserve(self) -> None:
        pose = catalogue().pose("supine-leg-raise")
        scene = photograph(Somebody(np.random.default_rng(3)), np.random.default_rng(3))
        estimate = measure.camera_of(scene, catalogue())
        assert estimate is not None
        with_width = {
            w: measure.measure_with(
                scene,
                replace(pose, held=replace(pose.held, width=w, change_width=1.0)),
                estimate,
            )
            for w in (2.0, 1.0, 0.5)
        }
        for twice, one, half in zip(
            *(with_width[w].readings for w in (2.0, 1.0, 0.5)), strict=True
        ):
            # A hand's habit is added whatever the width: w² s² + h².
            self.assertAlmostEqual(twice.sd**2 - one.sd**2, 4.0 * (one.sd**2 - half.sd**2))
            self.assertEqual(half.sd < one.sd, one.headline)
            self.assertLessEqual(half.sd_change, half.sd + 1e-12)
            self.assertEqual(half.value, one.value)

    def test_marks_that_nobody_clicked_are_not_read_more_narrowly(self) -> None:
        """Widths under 1 were fitted to clicks; a mark of wider spread keeps the posterior's."""
        rng = np.random.default_rng(3)
        scene = photograph(Somebody(rng), rng)
        click = scene.sd_of("")
        for spread, narrowed in ((1.0, True), (1.9, True), (2.1, False), (5.0, False)):
            own = replace(scene, mark_sds={"knee": spread * click})
            pose = catalogue().pose(own.pose)
            estimate = measure.camera_of(own, catalogue())
            assert estimate is not None
            half, whole = (
                measure.measure_with(
                    own, replace(pose, held=replace(pose.held, width=w)), estimate
                ).headline.sd
                for w in (0.5, 1.0)
            )  # fmt: skip
            self.assertEqual(half < 0.95 * whole, narrowed)
            self.assertEqual(half == whole, not narrowed)

    def test_nothing_to_go_by(self) -> None:
        scene = replace(photograph(Somebody(r := np.random.default_rng(1)), r), marks={})
        with self.assertRaisesRegex(SceneError, "still to mark"):
            measure.measure(scene, catalogue())
        self.assertEqual(CAMERA, 7)


class AgainstThePelvis(unittest.TestCase):
    """A low lunge drawn by hand: the back arches, the hip does not open."""

    def lunge(self, arch: float, marked: bool, rng: np.random.Generator) -> Scene:
        """10° of hip extension under a trunk that leans back by ``arch`` more than the pelvis."""
        up, ahead, near = np.array([0, 0, 1.0]), np.array([1.0, 0, 0]), np.array([0, -1.0, 0])

        def tilted(degrees: float) -> tuple[np.ndarray, np.ndarray]:
            a = np.radians(degrees)
            return np.cos(a) * ahead - np.sin(a) * up, np.sin(a) * ahead + np.cos(a) * up

        # The pelvis tips forward with the arch, so that the thigh swings back under it.
        front, rise = tilted(arch)
        behind = np.radians(10.0 + arch)
        thigh = -np.sin(behind) * ahead - np.cos(behind) * up
        kneecap = np.cos(behind) * ahead - np.sin(behind) * up
        knee = np.array([-20.0, -9.0, 6.0])
        hip = knee - 39.5 * thigh
        far = hip + np.array([0, 18.0, 0])
        # Both thighs are as long: the front knee stands 41.5 cm over an ankle 2 cm behind it.
        reach = np.sqrt(39.5**2 - (6.8 + 41.5 - far[2]) ** 2)
        front_knee = np.array([far[0] + reach, far[1], 6.8 + 41.5])
        ankle = front_knee - [2.0, 0, 41.5]
        hip_skin = hip - 1.3 * kneecap + 8.8 * near - 0.5 * -thigh
        spots = {
            "hip": hip_skin,
            "back_knee": knee - 0.5 * kneecap + 5.4 * near + 0.5 * thigh,
            "shoulder": hip + 50.0 * up + 8.0 * near - 2.0 * ahead + 5.2 * up - 1.1 * ahead,
            "front_knee": front_knee + 5.4 * near,
            "front_ankle": ankle + 3.4 * near,
        }
        if marked:
            spots["asis"] = hip + 6.0 * front + 3.5 * near + 8.5 * rise
            spots["psis"] = hip - 12.0 * front - 3.9 * near + 9.2 * rise
        camera = look_from((0, -250, 65), float(rng.uniform(-8, 8)), -4, 0, 26, WIDTH, HEIGHT)
        marks = {n: camera.project(p) + rng.normal(0, 2, 2) for n, p in spots.items()}
        corners = {
            n: tuple(camera.project(p) + rng.normal(0, 1.0, 2))
            for n, p in zip(CORNERS, mat_points(183, 61, "side"), strict=True)
        }
        return Scene(
            pose="low-lunge", side="right", mode="passive", image=Image(WIDTH, HEIGHT, 26.0),
            marks={n: (float(u), float(v)) for n, (u, v) in marks.items()}, mark_sd_px=2.0,
            mat=Mat(183, 61, corners, 1.0), marked="palpated",
        )  # fmt: skip

    def test_an_arched_back_is_no_open_hip(self) -> None:
        rng = np.random.default_rng(21)
        for arch in (0.0, 20.0):
            found = [
                measure.measure(self.lunge(arch, True, rng), catalogue()).headline
                for _ in range(12)
            ]
            self.assertEqual({r.id for r in found}, {"hip_extension"})
            self.assertEqual({r.apparent for r in found}, {False})
            mean = float(np.mean([r.value for r in found]))
            self.assertLess(abs(mean - 10.0), 5.0, f"arch {arch}")
            inside = [abs(r.value - 10.0) < 1.96 * r.sd for r in found]
            self.assertGreaterEqual(sum(inside), 10)

    def test_without_the_pelvis_it_is_called_apparent(self) -> None:
        rng = np.random.default_rng(22)
        found = measure.measure(self.lunge(20.0, False, rng), catalogue())
        self.assertEqual((found.headline.id, found.headline.apparent), ("back_hip_extension", True))
        self.assertNotIn("hip_extension", {r.id for r in found.readings})
        self.assertGreater(found.headline.value, 24.0, "hip and low back together")
