"""The day of an assessment through its pages: state, sheet, phone, folder, faces, signing off."""

import io
import json
import os
import re
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from PIL import Image

from dachi.clock import Clock
from dachi.core.measuring.figure_match import Region
from dachi.core.words import Place
from dachi.data import catalogue
from dachi.files import write_once
from dachi.photos import faces, strays
from dachi.photos.ingest import path_of
from dachi.store import (
    accounts,
    assessments,
    day_states,
    goals,
    markings,
    photos,
    preparation,
    run_sheets,
    signing,
    summaries,
    unsorted_photos,
)
from dachi.store.practitioners import get
from dachi.studio.verdicts.histories import compared_variant
from dachi.studio.visits import sheets as visits
from tests import slow
from tests.support import (
    CLOCK,
    LEG_RAISE,
    PASSWORD,
    Pages,
    ago,
    day_ago,
    plain_picture,
    rendered,
    written_ago,
)  # fmt: skip


class Day(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def trials(self, aid: int) -> list[assessments.Trial]:
        return assessments.trials(self.db, self.coach.id, aid)

    def marked(self, aid: int) -> int:
        tid = self.shot(aid)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1]))
        return tid

    def picture(self, path: str) -> np.ndarray:
        answer = self.client.get(path)
        self.assertEqual(answer.status_code, 200)
        return np.asarray(Image.open(io.BytesIO(answer.data)).convert("RGB"), dtype=float)


class State(Day):
    def test_the_record_takes_what_they_bring(self) -> None:
        form = {
            "call_name": "Runa", "birth_year": "1994", "dominant_side": "left", "breath_s": "7",
            "props": ["block", "strap", "jetpack"], "school-counting": "breaths", "school-fold": "nonsense",
        }  # fmt: skip
        self.assertEqual(self.post(f"/p/{self.pid}/record", form).status_code, 302)
        who = get(self.db, self.coach.id, self.pid)
        assert who is not None
        self.assertEqual((who.dominant_side, who.props), ("left", {"block", "strap"}))
        self.assertEqual((who.schools, who.breath_s), ({"counting": "breaths"}, 7.0))
        answer = self.post(f"/p/{self.pid}/record", form | {"breath_s": "99"})
        self.assertIn("breath should lie between 3 and 30", self.text(answer))

    def test_todays_state_is_kept_said_and_asked_about_next_time(self) -> None:
        answer = self.post(
            f"/p/{self.pid}/assess",
            {"taken_at": ago(6), "warmth": "warm", "warm_up_min": "3", "sleep_h": "7,5",
             "pain-low_back": "5", "pain-left_knee": "2", "part-left_knee": "inner", "hard_training": "yesterday"},
        )  # fmt: skip
        aid = int(answer.headers["Location"].rsplit("/", 1)[1])
        found = day_states.of_assessment(self.db, self.coach.id, aid)
        assert found is not None
        self.assertEqual(
            (found.pain, found.sleep_h), ({Place.LOW_BACK: 5, Place.LEFT_KNEE_INNER: 2}, 7.5)
        )
        page = self.text(self.client.get(f"/a/{aid}"))
        self.assertIn("Pain in the low back is 5 of 10", page)
        self.assertIn("shorter than 5 minutes", page)
        again = self.text(self.client.get(f"/p/{self.pid}/assess"))
        self.assertIn("Last time: low back 5, left knee, inner side 2", again)
        form = self.text(self.client.get(f"/a/{aid}/edit"))
        self.assertIn('<option value="inner" selected>inner side</option>', form)
        self.assertIn('value="3"', again)

    def test_numbers_that_are_none(self) -> None:
        for field, value in (("sleep_h", "plenty"), ("warm_up_min", "900"), ("sleep_h", "-1")):
            answer = self.post(
                f"/p/{self.pid}/assess",
                {"taken_at": ago(6), "warmth": "warm", field: value},
            )
            self.assertEqual(answer.status_code, 422)
            self.assertIn("or leave it empty", self.text(answer))

    def test_the_second_device_sees_what_the_first_one_saved(self) -> None:
        aid = self.new_assessment()
        form = {
            "taken_at": ago(6),
            "warmth": "cold",
            "notes": "from the tablet",
            "revision": "0",
        }
        self.assertEqual(self.post(f"/a/{aid}/edit", form).status_code, 302)
        late = self.post(f"/a/{aid}/edit", form | {"notes": "from the laptop"})
        self.assertEqual(late.status_code, 422)
        page = self.text(late)
        self.assertIn("Another device has changed this assessment", page)
        self.assertIn("from the tablet", page)
        self.assertIn("from the laptop", page)
        revision = page.split('name="revision" value="')[1].split('"')[0]
        self.post(f"/a/{aid}/edit", form | {"notes": "from the laptop", "revision": revision})
        visit = assessments.get(self.db, self.coach.id, aid)
        assert visit is not None
        self.assertEqual(visit.notes, "from the laptop")


class Sheet(Day):
    def test_change_the_sheet(self) -> None:
        aid = self.new_assessment()

        def order() -> list[str]:
            return list(
                dict.fromkeys(x.pose for x in run_sheets.lines(self.db, self.coach.id, aid))
            )

        first = order()
        self.post(f"/a/{aid}/lines", {"act": "down", "pose": first[0]})
        self.assertEqual(order()[1], first[0])
        self.post(f"/a/{aid}/lines", {"act": "drop", "pose": first[1]})
        self.assertNotIn(first[1], order())
        before = order()
        self.post(f"/a/{aid}/lines", {"act": "choose", "poses": [*before, "butterfly", "pigeon"]})
        self.assertEqual([p for p in order() if p in before], before, "order by hand stays")
        self.assertEqual(set(order()), {*before, "butterfly", "pigeon"})
        row = {"act": "trials", "pose": "butterfly", "side": "both", "mode": "active"}
        self.post(f"/a/{aid}/lines", row | {"trials": "3"})
        lines = {(x.pose, x.mode): x.trials for x in run_sheets.lines(self.db, self.coach.id, aid)}
        self.assertEqual(lines["butterfly", "active"], 3)
        stale = self.post(f"/a/{aid}/lines", {"act": "drop", "pose": "butterfly", "revision": "0"})
        self.assertIn("Another device", self.text(self.client.get(stale.headers["Location"])))
        self.assertIn("butterfly", order())

    def test_a_pose_with_photographs_is_not_dropped(self) -> None:
        aid = self.new_assessment()
        self.shot(aid)
        answer = self.post(f"/a/{aid}/lines", {"act": "drop", "pose": LEG_RAISE})
        self.assertIn("has photographs", self.text(self.client.get(answer.headers["Location"])))

    def test_blocked_screening_leaves_passive_shots_off_the_sheet(self) -> None:
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(25), yes=["disc"]
        )
        aid = self.new_assessment()
        self.assertEqual(
            {x.mode for x in run_sheets.lines(self.db, self.coach.id, aid)}, {"active"}
        )

    def test_the_next_visit_begins_with_the_other_side(self) -> None:
        sides = []
        for at in (ago(25), ago(18), ago(11)):
            aid = self.new_assessment(at)
            sides.append(run_sheets.lines(self.db, self.coach.id, aid)[0].side)
        self.assertEqual(sides, ["left", "right", "left"])

    def test_a_photograph_of_another_pose_is_said_and_moved(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        # The joints of a lying leg raise, named as if somebody sat in a lunge.
        truth = rendered()[1]["marks_px"]
        odd = {
            "shoulder": truth["ankle"], "hip": truth["rest_ankle"], "knee": truth["shoulder"],
            "ankle": truth["hip"], "rest_knee": truth["knee"], "rest_ankle": truth["rest_knee"],
        }  # fmt: skip
        form = self.marks_form(rendered()[1] | {"marks_px": odd})
        self.assertIn("do not form the pose", self.text(self.post(f"/t/{tid}/read", form)))
        self.post(f"/t/{tid}/save", form)
        kept = self.trials(aid)[0]
        self.assertEqual((kept.status, kept.valid), ("retake", False))
        self.post(f"/t/{tid}/move", {"move-to": "low-lunge|left|passive|1"})
        moved = self.trials(aid)[0]
        self.assertEqual((moved.pose, moved.status), ("low-lunge", "unmarked"))
        self.assertEqual(markings.history(self.db, self.coach.id, tid), [])
        # Back where it was: the marks that named those joints are there again, once.
        self.post(f"/t/{tid}/move", {"move-to": f"{LEG_RAISE}|left|active|2"})
        back = self.trials(aid)[0]
        self.assertEqual(
            (back.id, back.mode, back.number, back.status), (tid, "active", 2, "retake")
        )
        self.assertEqual(len(markings.history(self.db, self.coach.id, tid)), 1)
        # Another trial of the same joints keeps them.
        self.post(f"/t/{tid}/move", {"move-to": f"{LEG_RAISE}|left|passive|3"})
        (only,) = self.trials(aid)
        self.assertEqual((only.mode, only.status), ("passive", "retake"))
        self.assertTrue(markings.readings(self.db, self.coach.id, tid))
        # A place that is taken costs nothing.
        other = int(self.upload(aid, rendered(value=80.0)[0]).headers["Location"].rsplit("/", 1)[1])
        self.post(f"/t/{other}/move", {"move-to": "low-lunge|left|passive|1"})
        taken = self.post(f"/t/{tid}/move", {"move-to": "low-lunge|left|passive|1"})
        self.assertIn("already has a photo", self.text(self.client.get(taken.headers["Location"])))
        self.assertEqual(self.trials(aid)[0].status, "retake")
        wrong = self.post(f"/t/{tid}/move", {"move-to": "low-lunge|both|passive|1"})
        self.assertIn("no such side", self.text(self.client.get(wrong.headers["Location"])))

    def test_a_retake_opens_one_more_place(self) -> None:
        aid = self.new_assessment()
        row = {"act": "trials", "pose": LEG_RAISE, "side": "left", "mode": "passive", "trials": "1"}
        self.post(f"/a/{aid}/lines", row)
        tid = self.shot(aid)
        place = 'data-place="left|passive|2"'
        self.assertNotIn(place, self.text(self.client.get(f"/a/{aid}?pose={LEG_RAISE}")))
        bent = dict(rendered()[1]["marks_px"])
        bent["ankle"] = (bent["ankle"][0] - 140, bent["ankle"][1] + 60)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1] | {"marks_px": bent}))
        self.assertEqual(self.trials(aid)[0].status, "retake")
        self.assertIn(place, self.text(self.client.get(f"/a/{aid}?pose={LEG_RAISE}")))

    def test_a_second_opinion(self) -> None:
        aid = self.new_assessment()
        tid = self.marked(aid)
        value = next(r.value for r in markings.readings(self.db, self.coach.id, tid) if r.headline)
        self.post(f"/t/{tid}/second", {"second": f"{value + 9:.1f}"})
        page = self.text(self.client.get(f"/t/{tid}"))
        self.assertIn("+9° against the photograph (more than chance)", page)
        answer = self.post(f"/t/{tid}/second", {"second": "steep"})
        self.assertIn("in degrees", self.text(self.client.get(answer.headers["Location"])))


class Closing(Day):
    def test_signed_off_and_opened_again(self) -> None:
        aid = self.new_assessment()
        tid = self.marked(aid)
        self.assertIn(
            "the first one to compare with", self.text(self.client.get(f"/a/{aid}/review"))
        )
        self.post(f"/a/{aid}/sign-off")
        refused = self.upload(aid, plain_picture(), number="2")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("signed off", self.text(refused))
        form = self.marks_form(rendered()[1], seen="1")
        for path, data in (
            (f"/t/{tid}/save", form),
            (f"/t/{tid}/delete", {}),
            (f"/a/{aid}/lines", {"act": "add", "pose": "butterfly"}),
            (f"/a/{aid}/edit", {"notes": "changed"}),
        ):
            with self.subTest(path):
                self.post(path, data)
                self.assertEqual(len(markings.history(self.db, self.coach.id, tid)), 1)
                self.assertEqual(len(self.trials(aid)), 1)
        self.post(f"/a/{aid}/reopen", {"reason": ""})
        self.assertIn("signed off", self.text(self.upload(aid, plain_picture(), number="2")))
        self.post(f"/a/{aid}/reopen", {"reason": "left leg forgotten"})
        self.assertEqual(self.upload(aid, plain_picture(), number="2").status_code, 302)
        history = [(e.kind, e.reason) for e in signing.history(self.db, self.coach.id, aid)]
        self.assertEqual(history, [("signed off", ""), ("reopened", "left leg forgotten")])
        self.assertIn("left leg forgotten", self.text(self.client.get(f"/a/{aid}/review")))

    def test_the_review_compares_with_the_first_and_the_last(self) -> None:
        for at, value in (
            (ago(56, "15:00"), 62.0),
            (ago(37, "15:00"), 70.0),
            (ago(6, "15:00"), 85.0),
        ):
            data, truth = rendered(value=value, seed=int(value))
            aid = self.new_assessment(at)
            tid = int(self.upload(aid, data).headers["Location"].rsplit("/", 1)[1])
            self.post(f"/t/{tid}/save", self.marks_form(truth))
        page = self.text(self.client.get(f"/a/{aid}/review"))
        self.assertRegex(page, r"\+1[5-9]° ± \d+° since the start, a first sign")
        self.assertRegex(page, r"\+1[3-7]° ± \d+°")
        self.assertEqual(page.count("<figure"), 2)
        self.assertIn(written_ago(56), page)


class Phone(Day):
    def link(self, aid: int) -> str:
        self.post(f"/a/{aid}/phone", {"act": "new"})
        page = self.text(self.client.get(f"/a/{aid}/phone"))
        self.assertIn("<svg", page)
        return "/c/" + page.split("/c/")[1].split("<")[0]

    def send(self, link: str, data: bytes, **more: str) -> Any:
        form = {
            "pose": LEG_RAISE,
            "side": "left",
            "mode": "active",
            "number": "1",
            "once_key": "k1",
        } | more
        stranger = self.app.test_client()
        return stranger.post(
            f"{link}/photo", data=form | {"photo": (io.BytesIO(data), "p.jpg")},
            content_type="multipart/form-data",
        )  # fmt: skip

    def test_a_phone_needs_no_account_and_sends_once(self) -> None:
        aid = self.new_assessment()
        link = self.link(aid)
        page = self.app.test_client().get(link)
        self.assertEqual(page.status_code, 200)
        self.assertIn("Runa", self.text(page))
        for _ in range(2):
            answer = self.send(link, plain_picture())
            self.assertEqual(answer.status_code, 200, self.text(answer))
        self.assertEqual(len(self.trials(aid)), 1)
        taken = [s for s in answer.json["order"] if s["taken"]]
        self.assertEqual([s["words"] for s in taken], ["Supine leg raise, left active, trial 1"])
        full = self.send(link, plain_picture(700), once_key="k2")
        self.assertIn("already has a photograph", full.json["problem"])
        self.assertIn(
            "not a picture", self.send(link, b"words", number="2", once_key="k3").json["problem"]
        )

    def test_links_that_open_nothing(self) -> None:
        aid = self.new_assessment()
        link = self.link(aid)
        stranger = self.app.test_client()
        for wrong in (f"{link}x", "/c/abc", "/c/ImFiYyI.abc"):
            answer = stranger.get(wrong)
            self.assertEqual(answer.status_code, 404)
            self.assertIn("Scan the code again", self.text(answer))
        with self.app.app_context():
            self.db.execute("UPDATE phone_link SET expires_at = '2020-01-01T00:00:00'")
        self.assertEqual(stranger.get(link).status_code, 410)
        self.assertIn("has ended", self.send(link, plain_picture()).json["problem"])
        again = self.link(aid)
        self.assertEqual(stranger.get(again).status_code, 200)
        self.post(f"/a/{aid}/phone", {"act": "close"})
        self.assertEqual(stranger.get(again).status_code, 410)
        other = self.link(aid)
        self.post(f"/a/{aid}/sign-off")
        self.assertEqual(stranger.get(other).status_code, 410)

    def test_withdrawn_consent_and_screening_hold_for_the_phone(self) -> None:
        aid = self.new_assessment()
        link = self.link(aid)
        preparation.answer_screening(
            self.db, self.coach.id, self.pid, answered_on=day_ago(25), yes=["disc"]
        )
        answer = self.send(link, plain_picture(), mode="passive")
        self.assertIn("doctor or physiotherapist", answer.json["problem"])
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(6))
        self.assertIn("withdrawn", self.send(link, plain_picture()).json["problem"])
        page = self.app.test_client().get(link)
        self.assertEqual(page.status_code, 410)
        self.assertIn("Consent to photographs was withdrawn", self.text(page))
        self.assertIn(
            "Consent to photographs was withdrawn", self.text(self.client.get(f"/a/{aid}"))
        )
        self.assertEqual(self.trials(aid), [])

    def test_the_door_lets_private_links_through_and_nothing_else(self) -> None:
        from werkzeug.test import Client

        from dachi.web.private_links import Door

        outside = Client(Door(self.app))
        link = self.link(self.new_assessment())
        self.assertEqual(outside.get(link).status_code, 200)
        self.assertEqual(outside.get("/static/dachi.css", buffered=True).status_code, 200)
        for path in ("/", "/sign-in", "/photo/1/thumb.jpg", "/cat", "/me"):
            self.assertEqual(outside.get(path).status_code, 404)


class Folder(Day):
    def sent(self, aid: int, *named: tuple[str, bytes]) -> Any:
        return self.post(
            f"/a/{aid}/tray",
            {"photo": [(io.BytesIO(data), name) for name, data in named]},
            content_type="multipart/form-data",
        )

    @slow("200 photographs")
    def test_two_hundred_photographs(self) -> None:
        aid = self.new_assessment()
        pictures = []
        for i in range(200):
            exif = Image.Exif()
            exif.get_ifd(0x8769)[0x9003] = f"2026:11:25 {9 + i // 60:02d}:{i % 60:02d}:00"
            pictures.append((f"IMG_{1000 + i}.jpg", plain_picture(400 + i, 330, exif=exif)))
        for i in range(0, 200, 50):
            found = self.sent(aid, *pictures[i : i + 50])
            self.assertEqual(found.json, {"kept": 50, "problems": []})
        page = self.text(self.client.get(f"/a/{aid}/tray"))
        self.assertIn("200 photographs and 40 free places: 160 without a place", page)
        out = "&".join(
            f"out={w.photo_id}"
            for w in unsorted_photos.of_assessment(self.db, self.coach.id, aid)[:160]
        )
        rest = self.text(self.client.get(f"/a/{aid}/tray?{out}"))
        self.assertNotIn("without a place", rest)
        chosen = {
            f"place-{w.photo_id}": f"{s.pose}|{s.side}|{s.mode}|{s.number}"
            for w, s in zip(
                unsorted_photos.of_assessment(self.db, self.coach.id, aid)[160:],
                self.free(aid),
                strict=True,
            )
        }
        self.post(f"/a/{aid}/tray/place", chosen)
        taken = self.trials(aid)
        self.assertEqual(len(taken), 40)
        self.assertEqual(len(unsorted_photos.of_assessment(self.db, self.coach.id, aid)), 160)
        self.post(f"/a/{aid}/tray/empty")
        self.assertEqual(unsorted_photos.of_assessment(self.db, self.coach.id, aid), [])

    def free(self, aid: int) -> list[Any]:
        from dachi.core.assessing.runsheet import slots

        return list(slots(run_sheets.lines(self.db, self.coach.id, aid)))

    def test_what_is_no_photograph_is_named_and_the_rest_is_kept(self) -> None:
        aid = self.new_assessment()
        self.shot(aid)
        found = self.sent(
            aid, ("a.jpg", plain_picture()), ("notes.txt", b"words"), ("twice.jpg", rendered()[0])
        )
        self.assertEqual(found.json["kept"], 1)
        self.assertIn("notes.txt: This is not a picture", found.json["problems"][0])
        self.assertIn("already there", found.json["problems"][1])
        place = {
            f"place-{unsorted_photos.of_assessment(self.db, self.coach.id, aid)[0].photo_id}": f"{LEG_RAISE}|left|passive|1"
        }
        self.post(f"/a/{aid}/tray/place", place)
        self.assertEqual(
            len(unsorted_photos.of_assessment(self.db, self.coach.id, aid)),
            1,
            "a taken place keeps it in the tray",
        )

    def test_a_full_disk_is_said_and_nothing_is_half_there(self) -> None:
        aid = self.new_assessment()
        full = OSError(28, "No space left on device")
        with mock.patch("dachi.files.os.fsync", side_effect=full):
            answer = self.upload(aid, plain_picture())
            self.assertEqual(answer.status_code, 422)
            self.assertIn("No space left on device", self.text(answer))
            self.assertEqual(self.sent(aid, ("a.jpg", plain_picture())).status_code, 507)
        self.assertEqual(
            (self.trials(aid), unsorted_photos.of_assessment(self.db, self.coach.id, aid)), ([], [])
        )
        self.assertEqual(list(self.folder.glob("photos/**/*.jpg")), [])

    def test_a_database_that_cannot_grow_is_said(self) -> None:
        aid = self.new_assessment()
        notes = {"taken_at": ago(6), "warmth": "warm", "notes": "x" * 4000}
        from dachi.store import database

        real = database.connect

        def small(folder: Path, clock: Clock) -> Any:
            db = real(folder, clock)
            (pages,) = db.execute("PRAGMA page_count").fetchone()
            db.execute(f"PRAGMA max_page_count = {pages}")
            return db

        token = self.token("/")
        with mock.patch("dachi.store.database.connect", small), self.assertLogs("dachi", "ERROR"):
            answers = [
                self.client.post(f"/a/{aid}/edit", data=notes | {"csrf_token": token})
                for _ in range(3)
            ] + [
                self.client.post(
                    f"/p/{self.pid}/assess", data=notes | {"csrf_token": token, "once_key": f"k{i}"}
                )
                for i in range(12)
            ]
        full = [a for a in answers if a.status_code == 507]
        self.assertTrue(full)
        self.assertIn("The disk is full: nothing was saved", self.text(full[0]))
        self.assertEqual(self.client.get(f"/a/{aid}").status_code, 200)


class Faces(Day):
    def shot(self, aid: int | None = None, **place: object) -> int:
        """A picture with detail everywhere: a sketch would have none to hide."""
        data = rendered(stickers=True)[0]
        answer = self.upload(aid or self.new_assessment(), data, **place)
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def test_the_face_is_hidden_outside_the_bench(self) -> None:
        aid = self.new_assessment()
        tid = self.marked(aid)
        photo = photos.get(self.db, self.coach.id, self.trials(aid)[0].photo_id)
        assert photo is not None
        bench = self.picture(f"/t/{tid}/bench.jpg")
        shown = self.picture(f"/photo/{photo.id}/photo.jpg")
        from dachi.simulation.camera import Shot
        from tests.support import staged

        head = staged(LEG_RAISE, Shot("left", 76.0, yaw_deg=9.0, seed=3))
        x, y = (int(v) for v in head.camera.project(head.points["head"]))
        near = np.s_[y - 15 : y + 15, x - 15 : x + 15]
        self.assertGreater(np.abs(bench[near] - shown[near]).mean(), 8)
        hip = [int(v) for v in rendered()[1]["marks_px"]["hip"]]
        far = np.s_[hip[1] - 15 : hip[1] + 15, hip[0] - 15 : hip[0] + 15]
        self.assertLess(np.abs(bench[far] - shown[far]).mean(), 4)

    def test_faces_are_shown_only_where_the_person_agrees(self) -> None:
        aid = self.new_assessment()
        tid = self.marked(aid)
        at = f"/photo/{self.trials(aid)[0].photo_id}/photo.jpg"
        bench = self.picture(f"/t/{tid}/bench.jpg")
        for scope, agreed, same in (
            ("show", True, True),
            ("show", False, False),
            ("teaching", True, False),
            ("measure", True, False),
        ):
            preparation.give_consent(
                self.db,
                self.coach.id,
                self.pid,
                given_on=CLOCK.today().isoformat(),
                scope=scope,
                faces=agreed,
            )
            with self.subTest(scope=scope, agreed=agreed):
                self.assertEqual(bool(np.abs(self.picture(at) - bench).max() < 1), same)

    def test_unmarked_photographs_are_hidden_altogether_until_the_head_is_known(self) -> None:
        aid = self.new_assessment()
        tid = self.shot(aid)
        photo = self.trials(aid)[0].photo_id
        bench = self.picture(f"/t/{tid}/bench.jpg")
        detail = lambda p: np.abs(np.diff(p, axis=1)).mean()  # noqa: E731
        self.assertLess(detail(self.picture(f"/photo/{photo}/photo.jpg")), 0.55 * detail(bench))
        self.post(f"/t/{tid}/head", {"pick-x": "900", "pick-y": "500"})
        self.assertGreater(detail(self.picture(f"/photo/{photo}/photo.jpg")), 0.8 * detail(bench))
        wrong = self.post(f"/t/{tid}/head", {"pick-x": "", "pick-y": ""})
        self.assertIn("Point at the head", self.text(self.client.get(wrong.headers["Location"])))

    def test_withdrawn_consent_takes_every_picture_away(self) -> None:
        aid = self.new_assessment()
        tid = self.marked(aid)
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(6))
        for path in (
            f"/photo/{self.trials(aid)[0].photo_id}/photo.jpg",
            f"/t/{tid}/bench.jpg",
            f"/t/{tid}/preview.jpg",
        ):
            self.assertEqual(self.picture(path).shape, (480, 640, 3))
        page = self.text(self.client.get(f"/t/{tid}"))
        self.assertIn(f"Consent to photographs was withdrawn on {written_ago(6)}", page)
        self.post(f"/t/{tid}/save", self.marks_form(rendered()[1], seen="1"))
        self.assertEqual(len(markings.history(self.db, self.coach.id, tid)), 1)

    def test_squares_hold_means_and_no_more(self) -> None:
        rng = np.random.default_rng(1)
        picture = Image.fromarray(rng.integers(0, 255, (200, 300, 3), dtype=np.uint8))
        hidden = np.asarray(faces.pixelated(picture, Region(150, 100, 40)))
        inside = hidden[75:125, 125:175].reshape(-1, 3)
        self.assertLessEqual(len(np.unique(inside, axis=0)), 25)
        outside = np.asarray(picture)[:, :100]
        self.assertTrue((hidden[:, :100] == outside).all())
        away = faces.pixelated(picture, Region(-500, -500, 20))
        # A head said to be outside the picture may be anywhere in it.
        whole = faces.pixelated(picture, None)
        self.assertTrue((np.asarray(away) == np.asarray(whole)).all())


class Strays(Day):
    def picture_files(self) -> set[str]:
        return {p.name for p in (self.folder / "photos").glob("*/*")}

    def test_what_nobody_knows_is_moved_and_ends(self) -> None:
        self.shot()
        known = photos.known_hashes(self.db)
        own = self.picture_files()
        write_once(path_of(self.folder, "ab" + "0" * 62, "preview"), plain_picture())
        (self.folder / "photos" / "ab" / ".part-x").write_bytes(b"half")
        start = CLOCK.seconds()
        self.assertEqual(strays.sweep(self.folder, known, now=start).moved, 1)
        self.assertEqual(strays.sweep(self.folder, known, now=start), strays.Swept())
        self.assertEqual(self.picture_files(), own)
        stray = next((self.folder / "strays").glob("*"))
        for day, there in ((29, True), (31, False)):
            strays.sweep(self.folder, known, now=start + day * 86400)
            self.assertEqual(stray.exists(), there, f"after {day} days")

    def test_the_wrong_database_costs_no_picture(self) -> None:
        """Found by removing the database, starting, stopping and putting it back."""
        self.shot()
        known, own = photos.known_hashes(self.db), self.picture_files()
        others = {"c" * 64, "d" * 64}
        for told in (set(), others):
            for days_later in (0, 40):
                swept = strays.sweep(self.folder, told, now=CLOCK.seconds() + days_later * 86400)
                self.assertEqual(swept.moved, 0)
                self.assertIn("not known to this database", swept.left_alone)
                self.assertEqual(self.picture_files(), own)
        self.assertEqual(strays.sweep(self.folder, known, now=CLOCK.seconds()), strays.Swept())

    def test_strays_that_a_record_names_come_back(self) -> None:
        """An earlier start may have put away what the present database wants."""
        self.shot()
        known, own = photos.known_hashes(self.db), self.picture_files()
        (self.folder / "strays").mkdir()
        for path in (self.folder / "photos").glob("*/*"):
            path.rename(self.folder / "strays" / path.name)
        later = CLOCK.seconds() + 90 * 86400
        self.assertEqual(strays.sweep(self.folder, known, now=later), strays.Swept(0, len(own)))
        self.assertEqual(self.picture_files(), own)
        self.assertEqual(list((self.folder / "strays").glob("*")), [])

    def test_one_program_a_folder(self) -> None:
        handle = strays.hold(self.folder)
        with self.assertRaisesRegex(strays.InUse, "already open"):
            strays.hold(self.folder)
        os.close(handle)
        os.close(strays.hold(self.folder))


class Schools(Day):
    def record(self, **chosen: str) -> None:
        form = {"call_name": "Runa", "birth_year": "1994", "height_cm": "170"}
        form |= {"thigh_cm": "41.7", "shin_cm": "41.8"}
        self.post(f"/p/{self.pid}/record", form | {f"school-{k}": v for k, v in chosen.items()})

    def test_height_first_allows_a_small_bend_and_charts_the_leg_line(self) -> None:
        for chosen, value, status in (("straight", "straight", "retake"), ("height", "bent", "ok")):
            self.record(**{"raise": chosen})
            aid = self.new_assessment(ago(16 if chosen == "height" else 14, "15:00"))
            data, truth = rendered(value=71.0 if chosen == "height" else 73.0, seed=5)
            tid = int(self.upload(aid, data).headers["Location"].rsplit("/", 1)[1])
            self.assertEqual(self.trials(aid)[0].variant["knee"], value)
            marks = dict(truth["marks_px"])
            # The ankle swung 18 degrees about the knee, as a bent knee would have it.
            (kx, ky), (ax, ay) = marks["knee"], marks["ankle"]
            turn = np.deg2rad(18.0)
            c, s = np.cos(turn), np.sin(turn)
            marks["ankle"] = (
                kx + c * (ax - kx) - s * (ay - ky),
                ky + s * (ax - kx) + c * (ay - ky),
            )
            self.post(f"/t/{tid}/save", self.marks_form(truth | {"marks_px": marks}))
            with self.subTest(chosen):
                self.assertIn(
                    self.trials(aid)[0].status, (status, "watch") if status == "ok" else (status,)
                )
                found = markings.readings(self.db, self.coach.id, tid)
                (head,) = (r.label for r in found if r.headline)
                self.assertEqual(head, "leg above the floor")
                way = compared_variant(catalogue().pose(LEG_RAISE), json.dumps({"knee": value}))
                query = {"pose": LEG_RAISE, "variant": way}
                page = self.text(self.client.get(f"/p/{self.pid}", query_string=query))
                self.assertIn(f"<h1>Supine leg raise: {head}</h1>", page)
                self.assertIn(head, self.text(self.client.get(f"/a/{aid}/review")))

    def test_best_of_the_trials(self) -> None:
        aid = self.new_assessment(ago(16, "15:00"))
        values = []
        for n, value in ((1, 70.0), (2, 78.0)):
            data, truth = rendered(value=value, seed=20 + n)
            tid = int(self.upload(aid, data, number=str(n)).headers["Location"].rsplit("/", 1)[1])
            self.post(f"/t/{tid}/save", self.marks_form(truth))
            values += [
                r.value for r in markings.readings(self.db, self.coach.id, tid) if r.headline
            ]

        def shown() -> float:
            found = summaries.of_practitioner(self.db, self.coach.id, self.pid)
            return found[0].families[0].lines[0].value

        self.assertAlmostEqual(shown(), sum(values) / 2, delta=0.5)
        self.record(trials="best")
        self.assertAlmostEqual(shown(), max(values), places=4)

    def test_what_is_said_follows_the_school(self) -> None:
        aid = self.new_assessment()
        self.assertIn(
            "Low back flat to the floor", self.text(self.client.get(f"/a/{aid}?pose={LEG_RAISE}"))
        )
        self.record(low_back="natural")
        self.assertIn("lightly braced", self.text(self.client.get(f"/a/{aid}?pose={LEG_RAISE}")))


class AnotherCoach(Day):
    def test_no_room_opens_for_somebody_elses_people(self) -> None:
        """Every address that names a practitioner, an assessment or a photograph."""
        aid = self.new_assessment()
        tid = self.marked(aid)
        accounts.add(self.db, "other@quay.example", "Bryn", PASSWORD)
        self.post("/sign-out")
        self.sign_in("other@quay.example")
        before = [tuple(r) for r in self.db.execute("SELECT * FROM trial")]
        known = {
            "pid": self.pid,
            "aid": aid,
            "tid": tid,
            "photo_id": 1,
            "gid": 1,
            "nid": 1,
            "oid": 1,
        }
        seen = 0
        for rule in self.app.url_map.iter_rules():
            if not any(f"<int:{k}>" in rule.rule for k in known) or rule.rule.startswith("/me/"):
                continue
            path = re.sub(r"<[^>]*kind>", "thumb", rule.rule)
            for name, value in known.items():
                path = path.replace(f"<int:{name}>", str(value))
            if "<" in path:
                continue
            for method in {"GET", "POST"} & rule.methods:
                with self.subTest(method=method, path=path):
                    answer = self.client.get(path) if method == "GET" else self.post(path)
                    self.assertEqual(answer.status_code, 404)
                    seen += 1
        self.assertGreater(seen, 45)
        self.assertEqual([tuple(r) for r in self.db.execute("SELECT * FROM trial")], before)


class ComesFor(Pages):
    def test_what_somebody_comes_for_shapes_the_first_sheet(self) -> None:
        self.sign_in()
        form = {"call_name": "Sorrel", "aim": ["front-split", "no-such-pose"]}
        answer = self.post("/practitioners/new", form)
        pid = int(answer.headers["Location"].split("/")[2])
        who = get(self.db, self.coach.id, pid)
        self.assertEqual(who.comes_for, {"front-split"})
        page = self.text(self.client.get(f"/p/{pid}/assess"))
        self.assertRegex(page, r'value="front-split" checked')
        self.assertEqual(page.count('name="aim"'), page.count('name="aim" value='))
        self.assertEqual(len(re.findall(r'name="aim"[^>]*checked', page)), 1)
        lines = visits.new_lines(self.work, pid)
        self.assertIn("front-split", {x.pose for x in lines})
        self.assertNotIn("butterfly", {x.pose for x in lines})
        # A goal with a value says it better.
        goals.add(
            self.db, self.coach.id, pid, pose="butterfly", family="thigh_rise", side="left",
            mode="passive", target=8.0, due_on=None,
        )  # fmt: skip
        self.assertEqual(visits.wanted(self.work, pid), {"butterfly"})
        # Changed on the record; a form of before that does not name any takes them away.
        self.post(f"/p/{pid}/record", {"call_name": "Sorrel", "aim": ["pigeon"]})
        who = get(self.db, self.coach.id, pid)
        self.assertEqual(who.comes_for, {"pigeon"})
