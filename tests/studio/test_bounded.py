"""Files from anywhere: what they unpack to, what rows may hold, and what of it pages then say."""

import hashlib
import io
import json
import resource
import typing
import unittest
import zipfile
from typing import Any
from unittest import mock

import msgspec

from dachi import archives
from dachi.core.judging.doubts import What
from dachi.core.measuring.figure_match import Region
from dachi.core.practising.progression import Adjustment, Proposal, ProposalKind, Why
from dachi.errors import Told
from dachi.interchange import json_lines
from dachi.store import (
    doubts,
    felt,
    goals,
    markings,
    messages,
    moved_rows,
    moving,
    photos,
    practitioners,
    proposals,
    remarks,
    run_sheets,
    safety,
    second_opinions,
    signing,
    unsorted_photos,
    weeks,
)
from dachi.store.database import Conflict
from dachi.store.doubts import Said
from dachi.store.safety import ComingEvent
from dachi.store.second_opinions import Opinion
from dachi.store.weeks import Profile, Tuned
from dachi.studio.record import erasing
from dachi.studio.record import moving as boxes
from dachi.studio.record.moving import MovingProblem
from tests.studio.test_moving import Boxes
from tests.support import CLOCK, LEG_RAISE, day_ago


def packed(parts: dict[str, bytes], **manifest: Any) -> io.BytesIO:
    """A file of records as this program would write it, whatever they hold."""
    out = io.BytesIO()
    files = {
        n: hashlib.sha256(d).hexdigest() for n, d in parts.items() if not n.startswith("photos/")
    }
    told = {"format": "dachi-record", "version": 1, "made_at": "x", "files": files} | manifest
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as into:
        for name, data in parts.items():
            into.writestr(name, data)
        into.writestr("manifest.json", json.dumps(told))
    out.seek(0)
    return out


class Bombs(Boxes):
    """Small files that say they are large: refused before they are, with a sentence."""

    def test_nothing_unpacks_to_more_than_it_may(self) -> None:
        zeros = b"0" * 300_000_000
        many = io.BytesIO()
        with zipfile.ZipFile(many, "w") as into:
            for n in range(3000):
                into.writestr(f"photos/{n}" + "x" * 20_000, b"")
        lists = b"[" + b"[]," * 20_000_000 + b"[]]"
        forged = io.BytesIO()
        with zipfile.ZipFile(forged, "w", zipfile.ZIP_DEFLATED) as into:
            into.writestr("manifest.json", lists)
        locked = bytearray(self.box(self.pid).getvalue())
        # Bit 0 of the flags says that a part is encrypted: in its own head and in the list.
        for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
            where = locked.find(mark)
            while where >= 0:
                locked[where + at] |= 1
                where = locked.find(mark, where + 4)
        record = self.record()
        cases = {
            "a manifest of lists": (forged, "not taken in|cannot be read"),
            "a record of zeros": (packed({"record.json": zeros}), "hundred times|larger than any"),
            "a list of names": (many, "lists more files"),
            "encrypted": (io.BytesIO(bytes(locked)), "no record"),
            "files that are a list": (packed({"record.json": record}, files=[1]), "cannot be read"),
            "files that are nothing": (packed({"record.json": record}, files=None), "cannot be read"),
            "a version in words": (packed({"record.json": record}, version="one"), "cannot be read"),
            "half a character": (packed({"record.json": record.replace(b'"Runa"', b'"\\ud800"')}), "not right"),
            "ten thousand deep": (packed({"record.json": b'{"a":' * 10_000}), "not right"),
        }  # fmt: skip
        del zeros, lists
        people = self.there.execute("SELECT count(*) FROM practitioner").fetchone()[0]
        for name, (file, words) in cases.items():
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            with self.subTest(name), self.assertRaisesRegex(MovingProblem, words):
                self.take(file)
            more = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
            self.assertLess(more, 400_000, f"{name}: {more} kB more")
        left = self.there.execute("SELECT count(*) FROM practitioner").fetchone()[0]
        self.assertEqual(left, people)

    def record(self) -> bytes:
        with zipfile.ZipFile(self.box(self.pid)) as found:
            return found.read("record.json")

    def test_how_far_the_ratio_goes(self) -> None:
        """Text of ours is well within it; what packs a thousandfold is not."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as into:
            into.writestr("small", b"0" * archives.FREE)
            into.writestr("large", b"0" * (archives.FREE + 1))
            into.writestr("plain", bytes(range(256)) * 100, zipfile.ZIP_STORED)
        with archives.opened(out) as found:
            self.assertEqual(len(archives.read(found, "small", archives.FREE)), archives.FREE)
            self.assertEqual(len(archives.read(found, "plain", 25_600)), 25_600)
            for name, most in (("large", 1 << 30), ("plain", 25_599)):
                with self.subTest(name), self.assertRaises(archives.TooMuch):
                    archives.read(found, name, most)

    def test_several_people_are_several_records(self) -> None:
        """Little of a studio is in memory at a time; all of them come, or none."""
        with zipfile.ZipFile(self.box()) as found:
            names = [n for n in found.namelist() if n.startswith("people/")]
            self.assertEqual(len(names), 2)
            parts = {n: found.read(n) for n in found.namelist() if n != "manifest.json"}
        good = packed(parts, version=2)
        broken = dict(parts)
        body = json.loads(broken[names[1]])
        body["tables"]["practitioner"][0]["next_visit_at"] = "zzz"
        broken[names[1]] = json.dumps(body).encode()
        with self.assertRaisesRegex(
            MovingProblem, r"people/00002.json is not right: .*next_visit_at"
        ):
            self.take(packed(broken, version=2))
        self.assertEqual(practitioners.listing(self.there, self.them.coach), [])
        with self.assertRaisesRegex(MovingProblem, "newer"):
            self.take(packed(parts, version=3))
        self.assertEqual(len(self.take(good).people), 2)

    def test_sent_while_it_is_written(self) -> None:
        """The same file; whoever stops listening ends it, and what fails ends it unfinished."""
        blocks = list(boxes.stream(self.folder, CLOCK, self.coach.id, [self.pid]))
        self.assertGreater(len(blocks), 3)
        self.assertEqual(len(self.take(io.BytesIO(b"".join(blocks))).people), 1)
        listening = boxes.stream(self.folder, CLOCK, self.coach.id, [self.pid, self.tavi])
        next(listening)
        listening.close()
        with mock.patch.object(boxes, "record_of", side_effect=OSError(5, "no")), self.assertRaises(OSError):  # fmt: skip
            list(boxes.stream(self.folder, CLOCK, self.coach.id, [self.pid]))


#: A value for every kind of mistake, by what the column holds.
ODD_TEXTS = ("zzz", "", "2026-99-99", "2026-11-24T25:00", "{}", "[]", "null", "[[1]]", '{"a": null}', '{"a": [1, 2, 3, 4]}', "0", "x" * 30_000, "\u202e", "<b>")  # fmt: skip
ODD_NUMBERS = (-1, 0, 10**12, 1e300, 2.5, -400.0)
#: What names a row or another, or must be told apart: odd ones are other rows' business.
KEYS = ("id", "uid", "sha256", "source_sha256", "digest")


class Odd(Boxes):
    """Each field of each table in turn holds something odd: refused by name, or pages can say it."""

    def setUp(self) -> None:
        super().setUp()
        me, pid = self.coach.id, self.pid
        (aid,) = self.db.execute("SELECT id FROM assessment").fetchone()
        tid, photo = self.db.execute("SELECT id, photo_id FROM trial WHERE number = 1").fetchone()
        goals.add(self.db, me, pid, pose=LEG_RAISE, family="leg_line", side="left", mode="passive", target=90.0, due_on=day_ago(-90))  # fmt: skip
        goals.annotate(self.db, me, pid, day_ago(3), "injury", "fell")
        practitioners.update(self.db, me, pid, email="runa@quay.example", schools={"trials": "best"}, comes_for=("front-split",), props=("mat", "strap"), breath_s=8.0)  # fmt: skip
        practitioners.plan_visit(self.db, me, pid, f"{day_ago(-2)}T09:00")
        second_opinions.give(self.db, me, tid, Opinion("inclinometer", 71.0, 2.0))
        photos.set_head(self.db, me, photo, Region(50.0, 60.0, 7.0))
        photos.set_joints(self.db, me, photo, {"left.knee": (5.0, 6.0)}, [("watch", "dim")], {"left.knee": 2.0})  # fmt: skip
        photos.set_outline(self.db, me, photo, {"near_left": (1.0, 2.0, 3.0)})
        photos.set_doubtful(self.db, me, photo, 2)
        unsorted_photos.add(self.db, me, aid, photo, "a.jpg")
        unsorted_photos.set_joints(self.db, me, aid, photo, {"left.knee": (5.0, 6.0)})
        felt.at_visit(self.db, me, aid, "start", "stiff")
        doubts.say(self.db, me, (aid, What.SLIP, LEG_RAISE, "left", "passive"), Said.OFF)
        remarks.add(self.db, me, tid, "again", {"hip": (1.0, 2.0)}, {"leg_line": 71.0}, {"leg_line": 70.0})  # fmt: skip
        messages.send(self.db, me, pid, "coach", "less on Friday")
        weeks.note_drill(self.db, me, pid, "lizard", "towel under the knee")
        safety.say_quiet(self.db, me, pid, "groin", "left", "seen", "Dr Reed")
        safety.overrule(self.db, me, pid, "shut_gate", "supine-80", "not this year")
        safety.prepare_for(self.db, me, pid, ComingEvent(day_ago(-20), "show"))
        signing.sign_off(self.db, me, aid)
        signing.reopen(self.db, me, aid, "once more")
        weeks.save_profile(self.db, me, pid, Profile(level=2, minutes=20.0, weekdays=(0, 3), by_day={3: 30.0}, tuned=Tuned(longer={"lizard": 1.5}, easy_until=day_ago(-3))))  # fmt: skip
        weeks.wish(self.db, me, pid, 0, "lizard", "keep")
        proposals.offer(self.db, me, pid, [Proposal(ProposalKind.ADVANCE, next(iter(Why)), "lizard", {}, Adjustment(longer={"lizard": 1.5}))])  # fmt: skip
        self.db.execute("UPDATE practice_log SET soreness = 3")
        markings.save_draft(self.db, me, tid, {"mark-hip-x": "3", "mark-hip-y": "4"})
        self.assertTrue(run_sheets.lines(self.db, me, aid))
        self.tables = msgspec.json.decode(json.dumps(boxes.record_of(self.work, [pid])["tables"]))

    def refused(self, tables: dict[str, list[dict[str, Any]]]) -> str | None:
        try:
            read = msgspec.convert(tables, moved_rows.Tables)
            moved_rows.checked(boxes.brought_up(msgspec.to_builtins(read)))
        except (msgspec.ValidationError, Conflict) as error:
            return str(error)
        return None

    def with_one(self, table: str, column: str, value: Any) -> dict[str, list[dict[str, Any]]]:
        rows = [dict(r) for r in self.tables[table]]
        rows[0][column] = value
        return self.tables | {table: rows}

    def test_is_refused_by_name_or_can_be_said(self) -> None:
        self.assertIsNone(self.refused(self.tables), "as it is, it comes in")
        empty = [t for t in moving.MOVED if not self.tables[t]]
        self.assertEqual(empty, [], "every table has a row")
        let_in: dict[tuple[str, str], list[Any]] = {}
        turned_down = 0
        for table, rows in self.tables.items():
            for column, usual in rows[0].items():
                if column in KEYS or column.endswith("_id") or column in ("held_with", "lent_from"):
                    continue
                odd = (
                    (*ODD_TEXTS, None, 5) if isinstance(usual, str) else (*ODD_NUMBERS, "zzz", None)
                )
                odd = (*ODD_TEXTS, *ODD_NUMBERS) if usual is None else odd
                for value in odd:
                    said = self.refused(self.with_one(table, column, value))
                    if said is None:
                        let_in.setdefault((table, column), []).append(value)
                    else:
                        turned_down += 1
                        self.assertIn(table, said)
        self.assertGreater(turned_down, 1000)
        for layer in range(max(map(len, let_in.values()))):
            self.walk(layer, let_in)

    def walk(self, layer: int, let_in: dict[tuple[str, str], list[Any]]) -> None:
        """Take in a person with an odd value in every field that may have it, and open pages."""
        tables = {t: [dict(r) for r in rows] for t, rows in self.tables.items()}
        for (table, column), values in let_in.items():
            if layer and column == "pose":
                # Nobody looks further into a pose that is not known.
                continue
            tables[table][0][column] = values[layer % len(values)]
        tables["practitioner"][0]["uid"] = f"odd{layer}"
        record = {"format": "dachi-record", "version": 1, "schema": 29, "tables": tables}
        try:
            done = boxes.receive(self.work, packed({"record.json": json.dumps(record).encode()}), beside=True)  # fmt: skip
        except Told as error:
            self.assertIn("tables.", str(error))
            return
        (pid,) = done.people
        (aid,) = self.db.execute(
            "SELECT id FROM assessment WHERE practitioner_id = ?", (pid,)
        ).fetchone()
        (tid,) = self.db.execute(
            "SELECT id FROM trial WHERE assessment_id = ? ORDER BY id", (aid,)
        ).fetchall()[0]
        for path in (
            "/", "/outbox", f"/p/{pid}", f"/p/{pid}/record", f"/p/{pid}/plan", f"/p/{pid}/practice",
            f"/p/{pid}/ladders", f"/p/{pid}/prepare", f"/p/{pid}/chart.svg?pose={LEG_RAISE}",
            f"/p/{pid}/compare?pose={LEG_RAISE}", f"/a/{aid}", f"/a/{aid}/review", f"/a/{aid}/run",
            f"/a/{aid}/tray", f"/a/{aid}/report", f"/a/{aid}/marks.coco.json", f"/t/{tid}",
            f"/t/{tid}/history", f"/t/{tid}/marks.json", f"/t/{tid}/again", f"/p/{pid}/record.zip",
            "/steadiness", f"/p/{pid}/erase", f"/p/{pid}/readings.csv", f"/p/{pid}/readings",
        ):  # fmt: skip
            answer = self.client.get(path)
            with self.subTest(path, layer=layer):
                self.assertLess(answer.status_code, 500, path)
        erasing.person(self.work, pid)

    def test_every_column_has_its_type(self) -> None:
        """A column that a later schema adds is typed here too, or its records come in nowhere."""
        for table, kind in msgspec.structs.asdict(moved_rows.Tables(practitioner=[])).items():
            (row,) = typing.get_args(typing.get_type_hints(moved_rows.Tables)[table])
            columns = {r["name"] for r in self.db.execute(f"PRAGMA table_info({table})")}
            columns -= {"coach_id", moving._FORGOTTEN.get(table, "")}
            typed = set(row.__struct_fields__)
            with self.subTest(table):
                self.assertEqual(kind, [])
                self.assertLessEqual(columns, typed)
                earlier = {"text", "reason"} if table == "proposal" else {"made_from"} if table == "reading" else {"half_width_cm"} if table == "practitioner" else set()  # fmt: skip
                self.assertEqual(typed - columns, earlier)
        self.assertEqual(set(moved_rows.Tables.__struct_fields__), set(moving.MOVED))

    def test_the_published_form_holds(self) -> None:
        record = boxes.record_of(self.work, [self.pid])
        self.assertIsNone(json_lines.complaint("record", record))

    def test_what_is_missing_is_named(self) -> None:
        """A row whose visit, person or photograph is not in the file is not passed over."""
        for table, column, other in (
            ("trial", "assessment_id", "assessment"), ("marking", "trial_id", "trial"),
            ("goal", "practitioner_id", "practitioner"), ("trial", "photo_id", "photo"),
            ("practice_pain", "log_id", "practice_log"),
        ):  # fmt: skip
            tables = self.with_one(table, column, 999)
            record = {"format": "dachi-record", "version": 1, "schema": 29, "tables": tables}
            file = packed({"record.json": json.dumps(record).encode()})
            with self.subTest(table, column=column):
                words = rf"tables.{table}\[0\].{column}: there is no {other} 999 in the file"
                with self.assertRaisesRegex(Conflict, words):
                    boxes.receive(self.work, file, beside=True)
        self.assertEqual(len(practitioners.listing(self.db, self.coach.id)), 2)

    def test_one_broken_record_takes_no_page_from_others(self) -> None:
        """As rows may be that an earlier Dachi let in."""
        for column, value in (("next_visit_at", "zzz"), ("props", "{"), ("schools", "[]"), ("comes_for", "5")):  # fmt: skip
            with self.subTest(column):
                (usual,) = self.db.execute(f"SELECT {column} FROM practitioner WHERE id = ?", (self.pid,)).fetchone()  # fmt: skip
                self.db.execute(
                    f"UPDATE practitioner SET {column} = ? WHERE id = ?", (value, self.pid)
                )
                for path in ("/", "/outbox", f"/p/{self.tavi}", "/account", "/steadiness"):
                    self.assertEqual(self.client.get(path).status_code, 200, path)
                page = self.text(self.client.get("/"))
                self.assertIn("Tavi", page)
                self.assertIn("Runa", page)
                self.assertEqual(self.client.get(f"/p/{self.pid}/erase").status_code, 200)
                self.db.execute(
                    f"UPDATE practitioner SET {column} = ? WHERE id = ?", (usual, self.pid)
                )


if __name__ == "__main__":
    unittest.main()
