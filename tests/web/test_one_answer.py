"""One question, one answer: what is kept is what is shown, and what is refused changes nothing."""

import csv
import io
import re
import sqlite3
import threading
from contextlib import closing
from typing import Any
from unittest import mock

from dachi.core.body.pinhole import CORNERS
from dachi.data import catalogue
from dachi.simulation import outbox
from dachi.store import assessments, practitioners, preparation
from dachi.store.database import Conflict, Database, connect, transaction
from tests.support import (
    CLOCK,
    LEG_RAISE,
    Pages,
    ago,
    asked_of,
    day_ago,
    pictured,
    plain_picture,
    rendered,
)

LENGTHS = {"breath_s": "8", "birth_year": "1994", "call_name": "Runa"}
SPLIT, FRONT = "front-split", "split-squareness"


class OneAnswer(Pages):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in()

    def page(self, path: str) -> str:
        return self.text(self.client.get(path))

    def sent(self, aid: int, data: bytes, **place: Any) -> int:
        answer = self.upload(aid, data, **place)
        self.assertEqual(answer.status_code, 302, self.text(answer)[:2000])
        return int(answer.headers["Location"].rsplit("/", 1)[1])

    def marked(self, tid: int, truth: dict[str, Any], **changes: Any) -> None:
        answer = self.post(f"/t/{tid}/save", self.marks_form(truth, sure="1", **changes))
        self.assertEqual(answer.status_code, 302)

    def rows(self) -> list[dict[str, str]]:
        """What is charted, as the download has it."""
        return list(csv.DictReader(io.StringIO(self.page(f"/p/{self.pid}/readings.csv"))))

    def charted(self) -> list[float]:
        return [round(float(r["value"]), 2) for r in self.rows()]

    def shown(self, tid: int) -> float:
        """What the bench shows now."""
        found = re.search(r'class="big-number"[^>]*data-value="([-\d.]+)"', self.page(f"/t/{tid}"))
        assert found is not None
        return float(found[1])

    def agree(self, *tids: int) -> None:
        """Chart and bench tell the same of each photograph."""
        for kept, shown in zip(self.charted(), [self.shown(t) for t in tids], strict=True):
            self.assertAlmostEqual(kept, shown, delta=0.011)


class Inputs(OneAnswer):
    def test_a_tape_changes_what_is_charted(self) -> None:
        data, truth = rendered()
        tid = self.sent(self.new_assessment(), data)
        self.marked(tid, truth, marked="eye")
        before = self.charted()
        for field, cm in (("thigh_cm", "48"), ("shin_cm", "36")):
            with self.subTest(field):
                self.post(f"/p/{self.pid}/record", LENGTHS | {field: cm})
                self.assertNotEqual(self.charted(), before)
                self.agree(tid)
                before = self.charted()

    def test_earlier_shots_marked_again_and_days_moved(self) -> None:
        """Lengths are learnt from the visits before: which ones those are may change."""
        self.post(f"/p/{self.pid}/record", LENGTHS)
        data, truth = rendered()
        old = self.new_assessment(ago(60))
        first = [self.sent(old, data + b"%d" % n, number=str(n)) for n in range(1, 5)]
        new = self.new_assessment(ago(3))
        last = self.sent(new, data + b"new")
        for tid in (*first, last):
            self.marked(tid, truth, marked="eye")
        self.agree(*first, last)
        knee = truth["marks_px"]["knee"]
        far = truth | {"marks_px": truth["marks_px"] | {"knee": [knee[0] + 25, knee[1] - 40]}}
        before = self.charted()[-1]
        for tid in first:
            self.marked(tid, far, marked="eye", seen="1")
        self.assertNotEqual(self.charted()[-1], before)
        self.agree(*first, last)
        # The visit that taught is said to have been later: it teaches the other no more.
        revision = re.search(r'name="revision" value="(\d+)"', self.page(f"/a/{old}/edit"))
        before = self.charted()[-1]
        form = {"taken_at": ago(1), "warmth": "warm", "revision": revision[1] if revision else ""}
        self.post(f"/a/{old}/edit", form)
        self.assertNotEqual(self.charted()[0], before)
        self.agree(last, *first)

    def test_corners_of_a_later_shot_reach_the_kept_reading_of_the_first(self) -> None:
        data, truth = rendered()
        aid = self.new_assessment()
        one, two = (self.sent(aid, data + b"%d" % n, number=str(n)) for n in (1, 2))
        form = self.marks_form(truth, sure="1")
        del form["mat"]
        self.post(f"/t/{one}/save", form)
        before = self.charted()
        self.marked(two, truth)
        self.assertNotEqual(self.charted()[0], before[0])
        self.agree(one, two)
        # And back, once the lender is gone.
        self.post(f"/t/{two}/delete")
        self.agree(one)
        self.assertEqual(self.charted(), before)

    def test_a_second_photograph_that_goes_or_is_changed_for_another(self) -> None:
        aid, low = self.new_assessment(), catalogue().pose(FRONT).figure.low + 5
        place = {"side": "left", "mode": "passive"}
        made = {
            name: pictured(pose, "left", value, seed=seed)
            for name, pose, value, seed in (
                ("main", SPLIT, 150, 1), ("beside", FRONT, low, 1), ("other", FRONT, low + 9, 2),
            )
        }  # fmt: skip
        main = self.sent(aid, made["main"][0], pose=SPLIT, number="1", **place)
        beside = self.sent(aid, made["beside"][0], pose=FRONT, number="1", **place)
        self.marked(main, made["main"][1])
        self.marked(beside, made["beside"][1])

        def headline() -> float:
            return next(float(r["value"]) for r in self.rows() if r["pose"] == SPLIT)

        alone = headline()
        page = self.page(f"/t/{main}")
        chooser = re.search(r'id="held-with".*?</select>', page, re.S)
        assert chooser is not None
        choice = re.findall(r'value="([^"]+)"', chooser[0])[-1]
        self.post(f"/t/{main}/held-with", {"held-with": choice})
        both = headline()
        self.assertNotEqual(both, alone)
        # Moved elsewhere on the sheet it is the same photograph still.
        self.post(f"/t/{beside}/move", {"move-to": f"{FRONT}|left|passive|2"})
        self.assertEqual(headline(), both)
        # Another one in its old place is not the one that was chosen.
        third = self.sent(aid, made["other"][0], pose=FRONT, number="1", **place)
        # Without corners of its own: those would rightly tell about the same camera place too.
        bare = self.marks_form(made["other"][1], sure="1")
        del bare["mat"]
        self.post(f"/t/{third}/save", bare)
        self.assertEqual(headline(), both)
        self.assertAlmostEqual(self.shown(main), both, delta=0.011)
        # It leans on the corners of the one chosen, which therefore does not go before it.
        refused = self.text(self.post(f"/t/{beside}/delete", follow_redirects=True))
        self.assertIn("trial 1: this pose cannot be read without the mat", refused)
        self.assertEqual(headline(), both)
        self.post(f"/t/{third}/delete")
        self.post(f"/t/{beside}/delete")
        self.assertAlmostEqual(headline(), alone, places=6)
        self.post(f"/t/{beside}/restore")
        self.assertAlmostEqual(headline(), both, places=6)


class Corners(OneAnswer):
    """Whose the mat's corners are."""

    def setUp(self) -> None:
        super().setUp()
        self.aid = self.new_assessment()
        self.data, self.truth = rendered()
        self.first = self.sent(self.aid, self.data)

    def guessed(self, **states: str) -> dict[str, Any]:
        form = self.marks_form(self.truth)
        for c in CORNERS:
            form[f"corner-{c}-state"] = states.get(c, "guess")
        return form

    def corners_kept(self, tid: int) -> list[Any]:
        return [
            r["corners"]
            for r in self.db.execute("SELECT corners FROM marking WHERE trial_id = ?", (tid,))
        ]

    def test_guesses_tell_no_camera_and_are_not_kept(self) -> None:
        """`m` dropped four corners where an ideal camera would see them, and said "fine"."""
        form = self.guessed()
        with_guesses = self.text(self.post(f"/t/{self.first}/read", form))
        without = {k: v for k, v in form.items() if not k.startswith("corner") and k != "mat"}
        bare = self.text(self.post(f"/t/{self.first}/read", without))
        value = r'class="big-number"[^>]*data-value="([-\d.]+)"[^>]*>([^<]*)<'
        self.assertEqual(re.findall(value, with_guesses), re.findall(value, bare))
        self.assertIn("mat corner near left", with_guesses)
        answer = self.post(f"/t/{self.first}/save", form, follow_redirects=True)
        self.assertIn("still at the starting guess: mat corner near left", self.text(answer))
        one_left = self.guessed(**dict.fromkeys(CORNERS[:3], "placed"))
        answer = self.post(f"/t/{self.first}/save", one_left, follow_redirects=True)
        self.assertRegex(self.text(answer), r"starting guess: mat corner far left\. Move")
        self.assertEqual(self.corners_kept(self.first), [])
        self.post(f"/t/{self.first}/save", self.guessed(**dict.fromkeys(CORNERS, "placed")))
        self.assertEqual(len(self.corners_kept(self.first)), 1)

    def lent(self, side: str = "right", seed: int = 5) -> tuple[int, dict[str, Any]]:
        """Another side's photograph of the same camera place, the first one's corners marked."""
        self.marked(self.first, self.truth)
        data, truth = rendered(side=side, seed=seed)
        return self.sent(self.aid, data, side=side), truth

    def test_what_is_lent_is_drawn_said_and_agreed_to(self) -> None:
        second, truth = self.lent()
        page = self.page(f"/t/{second}")
        self.assertIn('class="outlined"', page)
        self.assertIn("The mat&#39;s corners are those of left passive, trial 1", page)
        form = self.marks_form(truth)
        del form["mat"]
        asked = self.text(self.post(f"/t/{second}/save", form, follow_redirects=True))
        self.assertIn("do they lie on the mat&#39;s corners of this photograph?", asked)
        self.assertEqual(self.corners_kept(second), [], "nothing is kept before that is said")
        self.post(f"/t/{second}/save", form | {"sure": "1"})
        kept = self.db.execute(
            "SELECT corners, lent_from FROM marking WHERE trial_id = ?", (second,)
        ).fetchone()
        self.assertEqual((kept["corners"], kept["lent_from"]), (None, self.first))
        # Agreed to once for this side from this place.
        data = rendered(side="right", seed=5)[0] + b"again"
        third = self.sent(self.aid, data, side="right", number="2")
        nudged = {
            k: v + 4 if k.startswith("mark-") and k[-2:] in ("-x", "-y") else v
            for k, v in form.items()
        }
        self.post(f"/t/{third}/save", nudged)
        self.assertEqual(len(self.corners_kept(third)), 1)

    def test_what_is_lent_beside_the_mat_that_is_seen_does_not_count(self) -> None:
        second, truth = self.lent()
        trial = assessments.trial(self.db, self.coach.id, second)
        assert trial is not None
        apart = {k: [x + 60.0, y + 8.0, 2.0] for k, (x, y) in truth["corners_px"].items()}
        near = {k: [x, y, 2.0] for k, (x, y) in truth["corners_px"].items()}
        form = self.marks_form(truth)
        del form["mat"]
        for outline, counts in ((apart, False), (near, True)):
            self.db.execute(
                "UPDATE photo SET outline = ? WHERE id = ?",
                (re.sub("'", '"', str(outline)), trial.photo_id),
            )
            said = self.text(self.post(f"/t/{second}/read", form))
            with self.subTest(counts=counts):
                self.assertEqual("off the mat that is seen here" in said, not counts)
        # What the outline confirms is not asked about.
        self.post(f"/t/{second}/save", form)
        self.assertEqual(len(self.corners_kept(second)), 1)

    def test_camera_moved_leaves_what_was_lent_behind(self) -> None:
        """`n` turned another photograph's corners into this one's own."""
        second, truth = self.lent()
        form = self.marks_form(truth)
        lent = form | {f"corner-{c}-state": "guess" for c in CORNERS}
        said = self.text(self.post(f"/t/{second}/camera-moved", lent, follow_redirects=True))
        self.assertIn("mark the mat&#39;s corners again", said)
        self.assertNotIn('id="mat-on" checked', said)
        form |= {f"corner-{c}-state": "placed" for c in CORNERS}
        said = self.text(self.post(f"/t/{second}/camera-moved", form, follow_redirects=True))
        self.assertIn("own corners count", said)
        self.assertRegex(said, r'id="mat-on" checked')


class Refused(OneAnswer):
    """A problem that is told changes nothing at all."""

    def everything(self) -> dict[str, list[tuple[Any, ...]]]:
        names = self.db.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
        return {
            n["name"]: sorted(map(tuple, self.db.execute(f"SELECT * FROM {n['name']}")), key=repr)
            for n in names
            # What somebody has drawn is kept whatever is said of it.
            if n["name"] not in ("sqlite_sequence", "draft")
        }

    def test_a_refused_move_leaves_no_camera_place(self) -> None:
        data, truth = rendered()
        aid = self.new_assessment()
        tid = self.sent(aid, data)
        self.marked(tid, truth)
        self.sent(aid, plain_picture(1280, 960), pose="straddle", side="both")
        before = self.everything()
        for where, words in (
            ("straddle|both|passive|1", "already has a photograph"),
            ("straddle|both|passive|10", "no such side, mode or trial"), ("", "no such pose"),
        ):  # fmt: skip
            said = self.text(self.post(f"/t/{tid}/move", {"move-to": where}, follow_redirects=True))
            self.assertIn(words, said)
            self.assertEqual(self.everything(), before)

    def test_every_command_that_fails_half_way_is_taken_back(self) -> None:
        """Something raised at the very end of each command: nothing of it stays."""
        data, truth = rendered()
        aid = self.new_assessment()
        tid = self.sent(aid, data)
        self.marked(tid, truth)
        other = self.sent(aid, data + b"2", number="2")
        revision = {"revision": "0"}
        day = {"taken_at": ago(5), "warmth": "warm"}
        wish = {"do": "keep 0 raise-up"}
        commands: dict[str, dict[str, str]] = {
            f"/p/{self.pid}/record": LENGTHS | {"thigh_cm": "50"},
            f"/p/{self.pid}/consent": {"given_on": day_ago(0), "scope": "measure", "lasts": ""},
            f"/p/{self.pid}/screening": asked_of("disc"),
            f"/p/{self.pid}/goals": {"pose": LEG_RAISE, "target": "90"},
            f"/p/{self.pid}/notes": {"kind": "note", "text": "x", "on_date": day_ago(1)},
            f"/p/{self.pid}/visit": {"next_visit_at": ago(-5)},
            f"/p/{self.pid}/plan/profile": {"level": "2", "minutes": "20", "weekday": "1"},
            f"/p/{self.pid}/plan/wish": wish,
            f"/p/{self.pid}/link": {"act": "new"},
            f"/p/{self.pid}/assess": day,
            f"/a/{aid}/edit": day | revision,
            f"/a/{aid}/lines": {"act": "drop", "pose": "butterfly"} | revision,
            f"/a/{aid}/sign-off": {"agreed": "more"},
            f"/t/{tid}/details": {"prop_cm": "12"},
            f"/t/{tid}/mat": {"length_cm": "200", "width_cm": "70"},
            f"/t/{tid}/camera-moved": {},
            f"/t/{tid}/delete": {},
            f"/t/{other}/save": self.marks_form(truth, sure="1"),
            "/account/deleted": {"days": "7"},
        }
        before = self.everything()
        execute, broken = Database.execute, []

        def failing(db: Database, *args: Any) -> Any:
            if args[0] == "RELEASE act_1" and not broken:
                broken.append(args[0])
                raise Conflict("no")
            return execute(db, *args)

        for path, form in commands.items():
            broken.clear()
            with self.subTest(path), mock.patch.object(Database, "execute", failing):
                self.post(path, form)
            self.assertTrue(broken, path)
            self.assertEqual(self.everything(), before, path)

    def test_ids_are_given_once(self) -> None:
        """An old tab filed its photograph into the next person."""
        aid = self.new_assessment()
        tid = self.sent(aid, plain_picture())
        self.post(f"/p/{self.pid}/erase", {"name": "Runa"})
        new = practitioners.add(self.db, self.coach.id, "Isk", birth_year=1990)
        self.assertGreater(new, self.pid)
        preparation.give_consent(self.db, self.coach.id, new, given_on=day_ago(9), scope="show")
        preparation.answer_screening(self.db, self.coach.id, new, answered_on=day_ago(9), yes=[])
        old, self.pid = self.pid, new
        later = self.new_assessment()
        self.assertGreater(later, aid)
        self.assertGreater(self.sent(later, plain_picture(800, 600)), tid)
        for path in (f"/p/{old}/record", f"/a/{aid}/photos", f"/t/{tid}/save", f"/p/{old}/notes"):
            self.assertEqual(self.post(path, {"text": "x"}).status_code, 404, path)

    def test_a_form_is_about_one_person(self) -> None:
        """Whatever an address names by now, a form says whom it was written about."""
        uid = practitioners.get(self.db, self.coach.id, self.pid).uid
        aid = self.new_assessment()
        tid = self.sent(aid, rendered()[0])
        for page in (f"/p/{self.pid}/record", f"/a/{aid}", f"/t/{tid}", f"/p/{self.pid}/plan"):
            forms = re.findall(r'<form[^>]*method="post".*?</form>', self.page(page), re.S)
            about = [f for f in forms if not re.search(r'action="/(theme|sign-out)"', f)]
            self.assertTrue(about, page)
            for form in about:
                self.assertIn(f'name="about" value="{uid}"', form, page)
        note = {"kind": "note", "text": "x", "on_date": day_ago(1)}
        for path, form in ((f"/p/{self.pid}/notes", note), (f"/t/{tid}/delete", {})):
            answer = self.post(path, form | {"about": "somebody-else"})
            self.assertEqual(answer.status_code, 409)
            self.assertIn("about somebody else", self.text(answer))
            self.assertEqual(self.post(path, form | {"about": uid}).status_code, 302)

    def test_letters_are_one_persons(self) -> None:
        """Erasing "Al" took everybody's whose name has it; a renamed person's letters stayed."""
        people = {}
        for name, email in (("Al", "al@quay.example"), ("Alma", "alma@quay.example")):
            people[name] = practitioners.add(self.db, self.coach.id, name, email=email)
            self.post(f"/p/{people[name]}/remind", {"kind": "practice"})
        practitioners.update(self.db, self.coach.id, people["Al"], call_name="Berit", email="")

        def left() -> list[str]:
            box = self.folder / "outbox" / str(self.coach.id)
            return sorted(x.to for x in outbox.letters(box))

        self.assertEqual(left(), ["al@quay.example", "alma@quay.example"])
        self.post(f"/p/{people['Al']}/erase", {"name": "Berit"})
        self.assertEqual(left(), ["alma@quay.example"])

    def test_nonsense_in_numbers(self) -> None:
        tid = self.sent(self.new_assessment(), rendered()[0])
        for x in ("nan", "inf", "-5", "99999", "1e400", ""):
            for path, words in (
                ("head", "Point at the head"), ("stickers", "Pick the sticker"),
            ):  # fmt: skip
                form = self.marks_form(rendered()[1]) | {"pick-x": x, "pick-y": "40"}
                answer = self.post(f"/t/{tid}/{path}", form, follow_redirects=True)
                with self.subTest(path, x=x):
                    self.assertEqual(answer.status_code, 200)
                    self.assertIn(words, self.text(answer))
        self.assertEqual(self.client.get("/photo/1/preview.jpg").status_code, 200)

    def test_beyond_the_last_trial(self) -> None:
        """ "Trial 10 already has a photograph" where there is none."""
        aid = self.new_assessment()
        files = [(io.BytesIO(plain_picture(800, 500 + n)), f"{n}.jpg") for n in range(3)]
        form = {"pose": LEG_RAISE, "side": "left", "mode": "passive", "number": "9", "photo": files}
        answer = self.post(
            f"/a/{aid}/photos", form, content_type="multipart/form-data", follow_redirects=True
        )
        self.assertIn("there is no trial 10 of left passive", self.text(answer))


class Reading(OneAnswer):
    """Pages that only look write nothing and wait for nobody."""

    def test_a_locked_database_is_said_and_does_not_stop_reading(self) -> None:
        tid = self.sent(self.new_assessment(), rendered()[0])
        form = self.marks_form(rendered()[1], csrf_token=self.token("/"))
        held, go = threading.Event(), threading.Event()

        def hold() -> None:
            with closing(connect(self.folder, CLOCK)) as db, transaction(db):
                held.set()
                go.wait(30)

        thread = threading.Thread(target=hold)
        thread.start()
        held.wait(10)
        try:
            for path in ("/", f"/t/{tid}", f"/p/{self.pid}/plan", f"/p/{self.pid}"):
                self.assertEqual(self.client.get(path).status_code, 200, path)
            real = sqlite3.connect

            def hasty(*args: Any, **more: Any) -> Any:
                return real(*args, **more | {"timeout": 0.1})

            with mock.patch("dachi.store.database.sqlite3.connect", hasty):
                answer = self.client.post(f"/t/{tid}/save", data=form)
            self.assertEqual(answer.status_code, 503)
            self.assertIn("busy with something long", self.text(answer))
        finally:
            go.set()
            thread.join()

    def test_statements_of_a_page(self) -> None:
        """A plan asked 61 times and read the practice log eight times."""
        tid = self.sent(self.new_assessment(), rendered()[0])
        self.marked(tid, rendered()[1])
        said: list[str] = []
        execute = sqlite3.Connection.execute

        def counted(db: Any, *args: Any) -> Any:
            if not str(args[0]).startswith(("PRAGMA", "BEGIN", "COMMIT", "ROLLBACK")):
                said.append(args[0])
            return execute(db, *args)

        for path, most in ((f"/p/{self.pid}/plan", 20), (f"/p/{self.pid}", 20), ("/", 20)):
            said.clear()
            with mock.patch("dachi.store.database.Database.execute", counted):
                self.assertEqual(self.client.get(path).status_code, 200)
            with self.subTest(path):
                self.assertLessEqual(len(said), most, "\n".join(said))
                writes = [s for s in said if not s.lstrip().startswith(("SELECT", "WITH"))]
                self.assertEqual(writes, [])
                self.assertLessEqual(sum("FROM practice_log" in s for s in said), 1)
