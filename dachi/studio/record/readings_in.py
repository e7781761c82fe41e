"""Readings written down elsewhere, taken in from a table: mapped, checked row by row, kept."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import IO

from PIL import Image, ImageDraw

from dachi.core.assessing.runsheet import Slot
from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.measuring.scene import CheckResult, Reading, Result
from dachi.core.rules import Z95
from dachi.core.words import Happened
from dachi.data import catalogue
from dachi.interchange.readings import MOST_BYTES, Table, TableError, decoded, read
from dachi.interchange.readings import NEEDED as NEEDED
from dachi.interchange.readings import TAKEN_IN as TAKEN_IN
from dachi.store import assessments, happenings, markings, photos, positions
from dachi.store.assessments import Trial
from dachi.store.markings import Marking
from dachi.store.photos import NewPhoto
from dachi.store.practitioners import Practitioner
from dachi.studio.acting import acting
from dachi.studio.visits import intake
from dachi.studio.work import Work

#: What a reading is off by where the table does not say: an angle taken with a goniometer or by
#: eye along a limb, and a tape measure.
USUAL_SD = {"deg": 4.0, "cm": 1.5, "ratio": 0.05}
METHODS = ("mat", "stickers", "flat")
ELSEWHERE = "elsewhere"
#: Where a trial's number is not told the next free one is taken, up to this.
MOST_TRIALS = 9
#: Further than this from zero no reading lies.
LIMITS = {"deg": 360.0, "cm": 300.0, "ratio": 100.0}
CHECK = "elsewhere"
#: A name of whoever measured is no longer than this.
MOST_NAME = 60
#: Of the picture that stands for a photograph there is not, px.
SIZE = (960, 720)


@dataclass(frozen=True)
class Row:
    """A row that can be taken in."""

    line: int
    taken_at: str
    warmth: str
    pose: Pose
    side: str
    mode: str
    number: int | None
    measure: Measure
    value: float
    sd: float
    variant: Mapping[str, str]
    method: str
    retake: bool
    overruled: bool
    prop_cm: float | None
    marker: str = ""


@dataclass(frozen=True)
class Checked:
    """Rows that can be taken in, and what is wrong with the others, by line."""

    good: tuple[Row, ...]
    wrong: tuple[tuple[int, str], ...]
    missing: tuple[str, ...] = ()


@dataclass(frozen=True)
class Done:
    """How many readings were taken in, were there already, and what could not be, by line."""

    taken: int
    there: int
    wrong: tuple[tuple[int, str], ...]


class _Wrong(ValueError):
    """What is wrong with a row, as words."""


def check(table: Table, mapping: Mapping[str, int], today: datetime) -> Checked:
    """Read every row by a mapping of what is wanted to columns."""
    missing = tuple(n for n in NEEDED if n not in mapping)
    if missing:
        return Checked((), (), missing)
    good: list[Row] = []
    wrong: list[tuple[int, str]] = []
    for line, cells in table.rows:
        said = {n: cells[at] if at < len(cells) else "" for n, at in mapping.items()}
        said = {n: v[1:] if v.startswith("'") else v for n, v in said.items()}
        try:
            good.append(_row(line, said, today))
        except _Wrong as error:
            wrong.append((line, str(error)))
    return Checked(tuple(good), tuple(wrong))


def _row(line: int, said: Mapping[str, str], today: datetime) -> Row:
    pose = _pose(said["pose"])
    measure = _measure(pose, said.get("measure", ""))
    value = _number(said["value"], "value")
    if abs(value) > LIMITS[measure.unit]:
        raise _Wrong(f"{value:g} is no {measure.family_label}")
    sd = _number(said["sd"], "sd") if said.get("sd") else USUAL_SD[measure.unit]
    if not 0 < sd < LIMITS[measure.unit]:
        raise _Wrong(f"an error of {sd:g} is none")
    prop = _number(said["prop_height_cm"], "prop height") if said.get("prop_height_cm") else None
    if prop is not None and not 0 <= prop <= 200:
        raise _Wrong(f"a prop of {prop:g} cm is none")
    return Row(
        line,
        _moment(said["taken_at"], today),
        _one_of(said.get("warmth", ""), {"warm": "warm", "cold": "cold"}, "warm", "warmth"),
        pose,
        _side(said.get("side", ""), pose),
        _mode(said.get("mode", ""), pose),
        _trial(said.get("trial", "")),
        measure,
        value,
        sd,
        _variant(said.get("variant", ""), pose),
        said.get("method", "") if said.get("method", "") in METHODS else ELSEWHERE,
        said.get("status", "") == "retake",
        said.get("overruled", "").lower() == "yes",
        prop,
        said.get("marker", "").strip()[:MOST_NAME],
    )


def _pose(text: str) -> Pose:
    plain = text.strip().lower()
    for pose in catalogue().poses:
        if plain in (pose.id, pose.name.lower()):
            return pose
    raise _Wrong(f"no pose is called “{text[:40]}”" if text else "no pose is named")


def _measure(pose: Pose, text: str) -> Measure:
    plain = text.strip().lower()
    if not plain:
        return pose.headline
    for m in (*pose.headlines, *pose.charted):
        if plain in (m.id, m.family_label.lower(), m.label.lower()):
            return m
    raise _Wrong(f"{pose.name} has no measure called “{text[:40]}”")


def _number(text: str, name: str) -> float:
    plain = text.strip().rstrip("°").strip().replace("−", "-").replace(",", ".")
    try:
        found = float(plain)
    except ValueError:
        raise _Wrong(f"the {name} “{text[:40]}” is no number") from None
    if not math.isfinite(found):
        raise _Wrong(f"the {name} “{text[:40]}” is no number")
    return found


def _moment(text: str, today: datetime) -> str:
    plain = text.strip()
    if dotted := re.fullmatch(r"(\d{1,2})\.(\d{1,2})\.(\d{4})", plain):
        # With dots the day comes first wherever dots are used; slashes may be either way.
        plain = f"{dotted[3]}-{int(dotted[2]):02d}-{int(dotted[1]):02d}"
    try:
        at = datetime.fromisoformat(plain)
    except ValueError:
        raise _Wrong(f"“{text[:40]}” is no day: write 2026-11-24, or 2026-11-24 17:30") from None
    at = at.astimezone().replace(tzinfo=None) if at.tzinfo else at
    if len(plain) <= 10:
        # A day alone: noon is in neither half of the day more than in the other.
        at = at.replace(hour=12)
    if at > today:
        raise _Wrong("the day lies ahead")
    if at.year < 1990:
        raise _Wrong("the day is too long ago")
    return at.isoformat(timespec="minutes")


def _one_of(text: str, words: Mapping[str, str], usual: str, name: str) -> str:
    plain = text.strip().lower()
    if not plain:
        return usual
    if plain not in words:
        raise _Wrong(f"the {name} “{text[:40]}” is not known")
    return words[plain]


def _side(text: str, pose: Pose) -> str:
    words = {"left": "left", "l": "left", "right": "right", "r": "right", "both": "both"}
    found = _one_of(text, words, "", "side")
    sides = ("both",) if pose.sides == "both" else ("left", "right")
    if not found and len(sides) == 1:
        return sides[0]
    if found not in sides:
        raise _Wrong(f"{pose.name} is of {' or '.join(sides)}")
    return found


def _mode(text: str, pose: Pose) -> str:
    words = {"passive": "passive", "p": "passive", "active": "active", "a": "active"}
    found = _one_of(text, words, "passive" if "passive" in pose.modes else "active", "mode")
    if found not in pose.modes:
        raise _Wrong(f"{pose.name} has no {found} form")
    return found


def _trial(text: str) -> int | None:
    if not text:
        return None
    if not text.isdecimal() or not 1 <= int(text[:4]) <= MOST_TRIALS:
        raise _Wrong(f"trial “{text[:10]}” is none from 1 to {MOST_TRIALS}")
    return int(text)


def _variant(text: str, pose: Pose) -> dict[str, str]:
    pieces = {p.strip() for p in text.split(",") if p.strip()}
    return {
        v.id: option
        for v in pose.variants
        for option, words in v.options.items()
        if words in pieces or option in pieces
    }


def table_of(sheet: IO[bytes] | str) -> tuple[str, Table]:
    """The text of a table that was sent, or sent before, and what it holds. Raises TableError."""
    text = sheet if isinstance(sheet, str) else decoded(sheet.read(MOST_BYTES + 1))
    if not text:
        raise TableError("Choose a file first")
    return text, read(text)


def take_in(work: Work, who: Practitioner, checked: Checked) -> Done:
    """Keep the good rows, all in one command. The same table again changes nothing."""
    picture = intake.store(work, intake.Incoming(placard()))
    with acting(work, who.id):
        done = _taken(work, who, checked, picture)
        if done.taken:
            happenings.note(work.db, work.coach, Happened.READINGS_IN, who.id, done.taken)
    return done


def _taken(work: Work, who: Practitioner, checked: Checked, picture: NewPhoto) -> Done:
    wrong = list(checked.wrong)
    taken = there = 0
    photo: int | None = None
    visits = {
        v.taken_at[:16]: v.id for v in assessments.of_practitioner(work.db, work.coach, who.id)
    }
    groups: dict[tuple[str, str, str, str, int | None, int], list[Row]] = {}
    seen: dict[tuple[str, str, str, str, str], int] = {}
    for row in checked.good:
        # Rows without a number: the second of the same measure is the second trial.
        nth = 0
        if row.number is None:
            key = (row.taken_at, row.pose.id, row.side, row.mode, row.measure.id)
            nth = seen[key] = seen.get(key, 0) + 1
        slot = (row.taken_at, row.pose.id, row.side, row.mode, row.number, nth)
        groups.setdefault(slot, []).append(row)
    for rows in groups.values():
        first = rows[0]
        aid = visits.get(first.taken_at)
        if aid is None:
            aid = visits[first.taken_at] = assessments.add(
                work.db, work.coach, who.id, taken_at=first.taken_at, warmth=first.warmth,
                notes="From a table of readings.",
            )  # fmt: skip
        own = [
            t
            for t in assessments.trials(work.db, work.coach, aid)
            if (t.pose, t.side, t.mode) == (first.pose.id, first.side, first.mode)
        ]
        if any(_same(work, t, rows) for t in own):
            there += len(rows)
            continue
        number = first.number or next(
            (n for n in range(1, MOST_TRIALS + 1) if n not in {t.number for t in own}), None
        )
        if number is None or number in {t.number for t in own}:
            wrong += [(r.line, "another reading is in this place already") for r in rows]
            continue
        if photo is None:
            photo = photos.add(work.db, work.coach, picture)
        _keep(work, aid, photo, number, rows)
        taken += len(rows)
    return Done(taken, there, tuple(sorted(wrong)))


def _same(work: Work, trial: Trial, rows: list[Row]) -> bool:
    """Whether a trial holds what the rows say."""
    kept = {r.id: r.value for r in markings.readings(work.db, work.coach, trial.id)}
    return all(abs(kept.get(r.measure.id, math.inf) - r.value) < 5e-4 for r in rows)


def _keep(work: Work, aid: int, photo: int, number: int, rows: list[Row]) -> None:
    first = rows[0]
    tid = assessments.add_trial(
        work.db, work.coach, aid, photo, Slot(first.pose.id, first.side, first.mode, number),
        variant=first.variant,
        position_id=positions.for_photo(
            work.db, work.coach, aid, first.pose.view, first.pose.setup, SIZE
        ),
    )  # fmt: skip
    assessments.read_elsewhere(work.db, work.coach, tid, "a table")
    if first.prop_cm is not None:
        assessments.set_details(work.db, work.coach, tid, first.variant, first.prop_cm)
    found = tuple(
        Reading(
            r.measure.id, r.measure.label, r.measure.unit, r.value, r.sd,
            r.value - Z95 * r.sd, r.value + Z95 * r.sd, True,
        )
        for r in rows
    )  # fmt: skip
    status = "retake" if any(r.retake for r in rows) else "ok"
    said = CheckResult(CHECK, "read elsewhere", 0.0, 0.0, "", 0.0, status, "Checked elsewhere.")
    result = Result("", first.method, first.pose.id, found, (said,), None, ())
    reason = "kept elsewhere" if any(r.overruled for r in rows) else ""
    # Who measured is another hand than whoever takes the table in.
    hand = first.marker or "a table"
    marking = Marking(marks={}, author="a table", overrule_reason=reason, marked="eye", marker=hand)
    number = markings.save(work.db, work.coach, tid, marking)
    markings.keep_readings(work.db, work.coach, number, result, ELSEWHERE)


#: What such readings were made from: nothing that is here.
ELSEWHERE = "elsewhere"


def placard() -> bytes:
    """The picture that stands where a reading has no photograph."""
    picture = Image.new("RGB", SIZE, (239, 231, 216))
    pen = ImageDraw.Draw(picture)
    for n in range(6):
        y = 180 + 60 * n
        pen.line((200, y, 760, y), (217, 208, 191), 6)
    pen.line((200, 180, 200, 480), (217, 208, 191), 6)
    pen.line((480, 180, 480, 480), (217, 208, 191), 6)
    pen.line((760, 180, 760, 480), (217, 208, 191), 6)
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()
