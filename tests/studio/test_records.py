"""A person's record and a copy's coaches by their commands: who may, what is kept, what is shown."""

import shutil
import unittest
from datetime import timedelta
from unittest import mock

from dachi.core.assessing import permission
from dachi.core.catalogue.cautions import Answer
from dachi.core.words import Happened
from dachi.data import screening_questions
from dachi.photos import faces
from dachi.photos.ingest import path_of, take_in
from dachi.store import (
    accounts,
    happenings,
    invitations,
    photos,
    practitioners,
    preparation,
    sessions,
)
from dachi.store.database import Conflict
from dachi.studio.record import acts, health, keeping, letting_in, picture_privacy
from dachi.studio.record.asking import Told
from dachi.studio.record.prepared import prepared
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work
from tests.support import CLOCK, PASSWORD, Studio, day_ago, plain_picture


class Records(Studio):
    @property
    def who(self):
        found = practitioners.get(self.db, self.coach.id, self.pid)
        assert found is not None
        return found

    def told(self):
        return [h.kind for h in happenings.of_coach(self.db, self.coach.id, 50)]

    def test_consent_as_a_form_says_it(self) -> None:
        today = self.work.today()
        for lasts, until in (("", None), ("1", today + timedelta(days=365)), ("2", today + timedelta(days=730))):  # fmt: skip
            acts.give_consent(
                self.work, self.who, today, {"scope": "show", "lasts": lasts, "faces": "1"}
            )
            kept = preparation.consent(self.db, self.coach.id, self.pid)
            assert kept is not None
            self.assertEqual(kept.until, until and until.isoformat())
            self.assertTrue(kept.faces)
        for wrong in ({"scope": ""}, {"scope": "sell"}, {"lasts": "3"}):
            with self.subTest(wrong), self.assertRaises(Refused):
                acts.give_consent(self.work, self.who, today, {"scope": "show"} | wrong)
        practitioners.update(self.db, self.coach.id, self.pid, birth_year=today.year - 14)
        with self.assertRaises(Refused):
            acts.give_consent(self.work, self.who, today, {"scope": "show", "guardian": "  "})
        acts.give_consent(
            self.work, self.who, today, {"scope": "show", "guardian": " Pell ", "faces": "0"}
        )
        kept = preparation.consent(self.db, self.coach.id, self.pid)
        assert kept is not None
        self.assertEqual((kept.guardian, kept.faces), ("Pell", False))

    def test_questions_and_clearance(self) -> None:
        other = acts.add_person(self.work, {"call_name": "Bo"})
        with self.assertRaises(Refused):
            acts.clear(self.work, other, "Dr Reed", self.work.today(), ())
        ids = [q.id for q in screening_questions()][:2]
        acts.answer_screening(self.work, other, Told(tuple(ids), {}, ()))
        kept = preparation.screening(self.db, self.coach.id, other)
        assert kept is not None
        self.assertEqual(set(kept.yes), set(ids))
        with self.assertRaises(Refused):
            acts.clear(self.work, other, "", self.work.today(), ())
        acts.clear(self.work, other, "Dr Reed", self.work.today(), ["flexion", "sideways"])
        answers = preparation.answers(self.db, self.coach.id, other)
        self.assertTrue(
            all(a.cleared and tuple(a.allowed) == ("flexion",) for a in answers.values())
        )
        acts.answer_screening(self.work, other, Told((ids[0],), {ids[0]: Answer(side="left")}, ()))
        answers = preparation.answers(self.db, self.coach.id, other)
        self.assertFalse(any(a.cleared for a in answers.values()), "another side asks again")

    def test_how_far_somebody_is_prepared(self) -> None:
        today = self.work.today()
        for days, soon, stops in ((30, True, False), (31, False, False), (-1, False, True), (0, True, False)):  # fmt: skip
            until = (today + timedelta(days=days)).isoformat()
            preparation.give_consent(self.db, self.coach.id, self.pid, given_on=day_ago(1), scope="show", until=until)  # fmt: skip
            found = prepared(self.work, self.who)
            with self.subTest(days):
                told = permission.photograph_refused(found.consent, self.who.birth_year, today.isoformat())  # fmt: skip
                self.assertEqual(found.no_photograph, told)
                self.assertEqual(found.no_photograph is not None, stops)
                self.assertEqual(found.ends_soon, soon)
        acts.withdraw_consent(self.work, self.pid, today)
        found = prepared(self.work, self.who)
        self.assertFalse(found.ends_soon)
        self.assertIsNotNone(found.no_photograph)
        self.assertIn(Happened.CONSENT_WITHDRAWN, self.told())

    def test_who_may_see_a_picture(self) -> None:
        taken = take_in(plain_picture(640, 480), self.folder)
        pid = photos.add(self.db, self.coach.id, photos.NewPhoto(sha256=taken.sha256, source_sha256=taken.source_sha256, width=640, height=480, focal_35mm=None, taken_at=None, origin="upload"))  # fmt: skip
        photo = photos.get(self.db, self.coach.id, pid)
        assert photo is not None
        stored = path_of(self.folder, photo.sha256, "preview")
        with mock.patch.object(faces, "hidden", return_value="hidden"):
            self.assertEqual(picture_privacy.outside(self.work, photo, "preview"), "hidden", "of nobody known")  # fmt: skip
            with mock.patch.object(photos, "people_on", return_value=[self.pid]):
                for hidden in (True, False):
                    preparation.give_consent(self.db, self.coach.id, self.pid, given_on=day_ago(1), scope="show", faces=not hidden)  # fmt: skip
                    kept = preparation.consent(self.db, self.coach.id, self.pid)
                    assert kept is not None
                    seen = "hidden" if kept.face_hidden else stored
                    self.assertEqual(picture_privacy.outside(self.work, photo, "preview"), seen)
                preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(0))
                self.assertIsNone(picture_privacy.outside(self.work, photo, "preview"))

    def test_who_agreed_to_see_themselves(self) -> None:
        today = self.work.today()
        for scope, until, shown in (
            ("show", None, True), ("measure", None, False), ("show", today, True),
            ("show", today - timedelta(days=1), False),
        ):  # fmt: skip
            preparation.give_consent(self.db, self.coach.id, self.pid, given_on=day_ago(1), scope=scope, until=until and until.isoformat())  # fmt: skip
            with self.subTest(scope, until=until):
                self.assertIs(picture_privacy.to_themselves(self.work, self.pid), shown)
        self.assertFalse(picture_privacy.withdrawn(self.work, self.pid))
        preparation.withdraw_consent(self.db, self.coach.id, self.pid, day_ago(0))
        self.assertTrue(picture_privacy.withdrawn(self.work, self.pid))
        self.assertFalse(picture_privacy.to_themselves(self.work, self.pid))

    def test_how_the_record_is_doing(self) -> None:
        def said(n: int):
            return health.lines(self.work)[n]

        self.assertTrue(any("No backup was ever" in x.words for x in health.lines(self.work)))
        self.assertEqual(said(0).status, "watch")
        keeping.backup(self.folder, self.folder.parent / f"{self.folder.name}.zip", CLOCK)
        self.addCleanup((self.folder.parent / f"{self.folder.name}.zip").unlink)
        for days, status in ((13, "ok"), (15, "watch")):
            later = Work(self.db, self.folder, self.coach.id)
            at = CLOCK.local() + timedelta(days=days, hours=1)
            with mock.patch.object(Work, "now", return_value=at):
                self.assertEqual(health._backup(later).status, status, days)
        for free, status in ((1_999_999_999, "watch"), (2_000_000_000, "ok")):
            with mock.patch.object(shutil, "disk_usage", return_value=mock.Mock(free=free)):
                self.assertEqual(health._room(self.folder).status, status)
        taken = take_in(plain_picture(640, 480), self.folder)
        photos.add(self.db, self.coach.id, photos.NewPhoto(sha256=taken.sha256, source_sha256=taken.source_sha256, width=640, height=480, focal_35mm=None, taken_at=None, origin="upload"))  # fmt: skip
        self.assertIn("All 1 pictures are there", health._pictures(self.work).words)
        path_of(self.folder, taken.sha256, "photo").write_bytes(b"")
        self.assertIn("1 of 1 pictures are lost", health._pictures(self.work).words)


class Coaches(Studio):
    def test_sessions_end_with_a_password(self) -> None:
        token, number = letting_in.begin_session(self.db, self.coach, "a browser")
        _, second = letting_in.begin_session(self.db, self.coach, "a phone")
        self.assertEqual(sessions.number_of(self.db, self.coach.id, token), number)
        self.assertEqual(letting_in.change_password(self.work, "something else", number), 1)
        self.assertIsNone(letting_in.check_password(self.db, "coach@quay.example", PASSWORD))
        self.assertIsNotNone(
            letting_in.check_password(self.db, "coach@quay.example", "something else")
        )
        self.assertEqual(letting_in.end_others(self.work, number), 0, "the other has ended")
        letting_in.end_session(self.work, number)
        self.assertNotEqual(number, second)

    def test_a_second_first_coach(self) -> None:
        with self.assertRaises(Conflict):
            letting_in.first_coach(self.db, "b@quay.example", "Bo", PASSWORD)
        self.assertIsNone(accounts.check_password(self.db, "b@quay.example", PASSWORD)[0])

    def test_joining_once(self) -> None:
        with self.assertRaises(Refused):
            letting_in.invite(self.work, "")
        token = letting_in.invite(self.work, "Bo")
        with self.assertRaises(Conflict):
            letting_in.join(self.db, token, "coach@quay.example", "Bo", PASSWORD)
        bo = letting_in.join(self.db, token, "b@quay.example", "Bo", PASSWORD)
        self.assertIsNone(invitations.behind(self.db, token), "used up")
        with self.assertRaises(Conflict):
            letting_in.join(self.db, token, "c@quay.example", "Cy", PASSWORD)
        self.assertFalse(bo.owner)
        letting_in.begin_session(self.db, bo, "a browser")
        back = letting_in.join(self.db, letting_in.reset(self.work, bo), "x", "y", "a new password")
        self.assertEqual(back.id, bo.id)
        self.assertIsNotNone(letting_in.check_password(self.db, "b@quay.example", "a new password"))
        self.assertEqual(sessions.end_all(self.db, bo.id), 0, "all of theirs ended with it")
        token = letting_in.invite(self.work, "Cy")
        found = invitations.behind(self.db, token)
        assert found is not None
        self.assertTrue(letting_in.take_back(self.work, found.id))
        self.assertFalse(letting_in.take_back(self.work, found.id))
        with self.assertRaises(Conflict):
            letting_in.join(self.db, token, "c@quay.example", "Cy", PASSWORD)

    def test_an_account_is_closed_and_opened(self) -> None:
        bo = letting_in.join(self.db, letting_in.invite(self.work, "Bo"), "b@quay.example", "Bo", PASSWORD)  # fmt: skip
        letting_in.begin_session(self.db, bo, "a browser")
        self.assertFalse(letting_in.close(self.work, self.coach, closed=True), "never the owner's")
        self.assertTrue(letting_in.close(self.work, bo, closed=True))
        self.assertEqual(sessions.end_all(self.db, bo.id), 0)
        self.assertIsNone(letting_in.check_password(self.db, "b@quay.example", PASSWORD))
        letting_in.close(self.work, bo, closed=False)
        self.assertIsNotNone(letting_in.check_password(self.db, "b@quay.example", PASSWORD))
        kinds = [h.kind for h in happenings.of_coach(self.db, self.coach.id, 50)]
        self.assertIn(Happened.CLOSED, kinds)
        self.assertIn(Happened.OPENED, kinds)

    def test_how_long_what_is_deleted_is_kept(self) -> None:
        for days, good in (("7", True), ("365", True), ("8", False), ("", False), ("-7", False)):
            with self.subTest(days):
                try:
                    letting_in.keep_deleted(self.work, days)
                except Refused:
                    self.assertFalse(good)
                else:
                    self.assertTrue(good)
                    kept = accounts.by_id(self.db, self.coach.id)
                    assert kept is not None
                    self.assertEqual(kept.put_away_days, int(days))


if __name__ == "__main__":
    unittest.main()
