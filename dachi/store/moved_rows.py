"""What a row that comes from elsewhere may hold: the same types that pages read it by.

A row is read into the ``Struct`` of its table (columns, kinds, ranges), then texts that hold JSON
into the type their module reads, and days and moments as such. Columns that another schema had not
yet, or has no longer, may be left out or given.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Annotated, Any, Literal

import msgspec
from msgspec import UNSET, Meta, Struct, UnsetType

from dachi.core.catalogue.cautions import Answer
from dachi.core.catalogue.hurts import PLACES
from dachi.core.practising.progression import Adjustment, ProposalKind, Why
from dachi.core.words import PainKind, Place
from dachi.store import felt
from dachi.store.database import Conflict
from dachi.store.practice_log import DrillDone
from dachi.store.weeks import FORMAT, PlannedWeek, Tuned

Id = Annotated[int, Meta(ge=1, le=2**53)]
Flag = Literal[0, 1]
Name = Annotated[str, Meta(max_length=300)]
Words = Annotated[str, Meta(max_length=20_000)]
Stored = Annotated[str, Meta(max_length=2_000_000)]
Sha = Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
Day = Annotated[str, Meta(pattern=r"^(19|20|21)\d\d-\d\d-\d\d$")]
Moment = Annotated[
    str, Meta(pattern=r"^(19|20|21)\d\d-\d\d-\d\d([T ]\d\d:\d\d[0-9:.+Z-]*)?$", max_length=40)
]
Side = Literal["left", "right", "both"]
Mode = Literal["active", "passive"]
Status = Literal["ok", "watch", "retake"]
Since = Literal["", "gone", "hours", "next_day", "swelling", "locking", "giving_way"]
Small = Annotated[float, Meta(ge=0, le=1e4)]
Px = Annotated[float, Meta(ge=-1e6, le=1e6)]
Value = Annotated[float, Meta(ge=-1e6, le=1e6)]
Cm = Annotated[float, Meta(ge=0, le=500)]
Point = tuple[Px, Px]


class Row(Struct, kw_only=True, forbid_unknown_fields=True):
    """A row of a table; what a schema may not have is ``UNSET``."""


class Person(Row):
    id: Id
    uid: Annotated[str, Meta(min_length=1, max_length=100)]
    call_name: Annotated[str, Meta(min_length=1, max_length=300)]
    created_at: Moment
    birth_year: Annotated[int, Meta(ge=1850, le=2200)] | None = None
    height_cm: Cm | None = None
    thigh_cm: Cm | None = None
    shin_cm: Cm | None = None
    half_width_cm: Annotated[float, Meta(gt=0, le=100)] | UnsetType = UNSET
    notes: Words | UnsetType = UNSET
    next_visit_at: Moment | None = None
    dominant_side: Literal["", "left", "right"] | UnsetType = UNSET
    props: Stored | UnsetType = UNSET
    schools: Stored | UnsetType = UNSET
    breath_s: Annotated[float, Meta(ge=3, le=30)] | UnsetType = UNSET
    email: Name | UnsetType = UNSET
    comes_for: Stored | UnsetType = UNSET


class Visit(Row):
    id: Id
    practitioner_id: Id
    taken_at: Moment
    warmth: Literal["warm", "cold"]
    created_at: Moment
    notes: Words | UnsetType = UNSET
    revision: Annotated[int, Meta(ge=0, le=2**53)] | UnsetType = UNSET
    signed_off_at: Moment | None = None
    still: Flag | UnsetType = UNSET


class Photo(Row):
    id: Id
    sha256: Sha
    source_sha256: Sha
    width: Annotated[int, Meta(ge=1, le=100_000)]
    height: Annotated[int, Meta(ge=1, le=100_000)]
    origin: Literal["upload", "simulated"]
    created_at: Moment
    focal_35mm: Annotated[float, Meta(gt=0, le=5000)] | None = None
    taken_at: Moment | None = None
    truth: Stored | None = None
    cards: Stored | None = None
    joints: Stored | None = None
    said: Stored | None = None
    doubtful: Annotated[int, Meta(ge=0, le=1000)] | None = None
    outline: Stored | None = None
    glimpsed: Stored | None = None


class Camera(Row):
    id: Id
    assessment_id: Id
    view: Name
    created_at: Moment
    mat_length_cm: Annotated[float, Meta(ge=10, le=1000)] | UnsetType = UNSET
    mat_width_cm: Annotated[float, Meta(ge=10, le=1000)] | UnsetType = UNSET
    setup: Name | UnsetType = UNSET


class Trial(Row):
    id: Id
    assessment_id: Id
    photo_id: Id
    pose: Name
    side: Side
    mode: Mode
    number: Annotated[int, Meta(ge=1, le=9)]
    created_at: Moment
    position_id: Id | None = None
    variant: Stored | UnsetType = UNSET
    deleted_at: Moment | None = None
    prop_cm: Annotated[float, Meta(ge=0, le=150)] | None = None
    marked: Flag | UnsetType = UNSET
    read_from: Name | None = None
    #: By its place as text in earlier schemas.
    held_with: Id | Name | None = None


class Marking(Row):
    id: Id
    trial_id: Id
    number: Annotated[int, Meta(ge=1, le=100_000)]
    marks: Stored
    created_at: Moment
    mark_sds: Stored | UnsetType = UNSET
    level: Stored | None = None
    corners: Stored | None = None
    facing: Literal["left", "right"] | None = None
    author: Name | UnsetType = UNSET
    overrule_reason: Words | UnsetType = UNSET
    marked: Name | UnsetType = UNSET
    bones: Stored | None = None
    seen: Stored | UnsetType = UNSET
    made_from: Name | UnsetType = UNSET
    lent_from: Id | None = None
    marker: Words | UnsetType = UNSET


class Reading(Row):
    marking_id: Id
    measure: Name
    label: Name
    unit: Literal["deg", "cm", "ratio"]
    value: Value
    sd: Small
    low: Value
    high: Value
    headline: Flag
    method: Name
    sd_change: Small | None = None
    fan: Stored | None = None
    made_from: Name | UnsetType = UNSET


class Check(Row):
    marking_id: Id
    check_id: Name
    label: Name
    value: Value
    sd: Small
    unit: Name
    limit_value: Value
    status: Status
    message: Words


class Draft(Row):
    trial_id: Id
    body: Stored
    updated_at: Moment


class Goal(Row):
    id: Id
    practitioner_id: Id
    pose: Name
    family: Name
    side: Side
    mode: Mode
    target: Value
    created_at: Moment
    due_on: Day | None = None
    closed_at: Moment | None = None


class Annotation(Row):
    id: Id
    practitioner_id: Id
    on_date: Day
    kind: Literal["injury", "holiday", "plan", "note"]
    text: Words
    created_at: Moment


class Consent(Row):
    id: Id
    practitioner_id: Id
    given_on: Day
    scope: Literal["measure", "show", "teaching"]
    created_at: Moment
    guardian: Name | UnsetType = UNSET
    withdrawn_on: Day | None = None
    faces: Flag | UnsetType = UNSET
    until: Day | None = None


class Screening(Row):
    id: Id
    practitioner_id: Id
    answered_on: Day
    yes: Stored
    created_at: Moment
    cleared_by: Name | UnsetType = UNSET
    cleared_on: Day | None = None
    allowed: Stored | UnsetType = UNSET
    details: Stored | UnsetType = UNSET
    flags: Stored | UnsetType = UNSET


class State(Row):
    assessment_id: Id
    saved_at: Moment
    pain: Stored | UnsetType = UNSET
    sleep_h: Annotated[float, Meta(ge=0, le=24)] | None = None
    hard_training: Words | UnsetType = UNSET
    warm_up_min: Annotated[float, Meta(ge=0, le=180)] | None = None


class SheetRow(Row):
    assessment_id: Id
    place: Annotated[int, Meta(ge=0, le=10_000)]
    pose: Name
    side: Side
    mode: Mode
    trials: Annotated[int, Meta(ge=1, le=9)]


class Event(Row):
    id: Id
    assessment_id: Id
    kind: Literal["signed off", "reopened"]
    at: Moment
    reason: Words | UnsetType = UNSET


class InTray(Row):
    assessment_id: Id
    photo_id: Id
    name: Name
    created_at: Moment
    joints: Stored | None = None
    left_out_at: Moment | None = None


class Opinion(Row):
    trial_id: Id
    device: Name
    angle: Annotated[float, Meta(ge=-360, le=360)]
    sd: Small
    saved_at: Moment


class Head(Row):
    photo_id: Id
    x: Px
    y: Px
    radius: Annotated[float, Meta(gt=0, le=1e6)]


class Habit(Row):
    practitioner_id: Id
    level: Annotated[int, Meta(ge=1, le=3)]
    minutes: Annotated[float, Meta(ge=5, le=90)]
    weekdays: Stored
    saved_at: Moment
    cautions: Stored | UnsetType = UNSET
    tuned: Stored | UnsetType = UNSET
    by_day: Stored | UnsetType = UNSET
    twice: Flag | UnsetType = UNSET
    gentle: Flag | UnsetType = UNSET


class Wish(Row):
    practitioner_id: Id
    weekday: Annotated[int, Meta(ge=-1, le=6)]
    drill: Name
    kind: Literal["keep", "drop"]


class Log(Row):
    id: Id
    practitioner_id: Id
    once_key: Name
    started_at: Moment
    seconds: Annotated[float, Meta(ge=0, le=86_400)]
    felt: Literal["easy", "right", "hard"] | None
    finished: Flag
    done: Stored
    created_at: Moment
    notes: Words | UnsetType = UNSET
    soreness: Annotated[int, Meta(ge=0, le=10)] | None = None
    removed_at: Moment | None = None


class Pain(Row):
    log_id: Id
    drill: Name
    place: Name
    kind: PainKind
    level: Annotated[int, Meta(ge=0, le=10)] | None = None
    spreads: Flag | UnsetType = UNSET
    after: Since | UnsetType = UNSET


class PainAnswer(Row):
    id: Id
    practitioner_id: Id
    place: Literal[PLACES]  # type: ignore[valid-type]
    side: Literal["", "left", "right"]
    answer: Literal["quiet", "not_yet", "seen"]
    by_whom: Name
    said_at: Moment


class Overrule(Row):
    id: Id
    practitioner_id: Id
    what: Literal["open_drill", "open_gate", "shut_gate"]
    name: Name
    reason: Words
    said_at: Moment
    ended_at: Moment | None = None


class DrillNote(Row):
    practitioner_id: Id
    drill: Name
    text: Words
    said_at: Moment


class ComingEvent(Row):
    practitioner_id: Id
    on_date: Day
    what: Name


class Felt(Row):
    id: Id
    practitioner_id: Id
    kind: Literal["tighter", "catch", "start", "again"]
    answer: Name
    saved_at: Moment
    assessment_id: Id | None = None
    log_id: Id | None = None


class Remark(Row):
    id: Id
    trial_id: Id
    by_whom: Name
    marks: Stored
    readings: Stored
    first: Stored
    saved_at: Moment


class DoubtAnswer(Row):
    id: Id
    assessment_id: Id
    what: Literal["trial", "slip", "visit", "jump"]
    pose: Name
    side: Literal["left", "right", "both", ""]
    mode: Literal["active", "passive", ""]
    answer: Literal["so", "off", "set_up", "tryout"]
    said_at: Moment


class Message(Row):
    id: Id
    practitioner_id: Id
    by_whom: Literal["coach", "practitioner"]
    text: Words
    sent_at: Moment
    read_at: Moment | None = None


class Proposal(Row):
    id: Id
    practitioner_id: Id
    kind: ProposalKind
    subject: Name
    change: Stored
    made_at: Moment
    why: Why | UnsetType = UNSET
    about: Stored | UnsetType = UNSET
    decided_at: Moment | None = None
    accepted: Flag | None = None
    #: In words in earlier schemas.
    text: Words | UnsetType = UNSET
    reason: Words | UnsetType = UNSET


class Plan(Row):
    id: Id
    practitioner_id: Id
    digest: Name
    body: Stored
    made_at: Moment


class Tables(Struct, kw_only=True, forbid_unknown_fields=True):
    """Rows by table, each after what it refers to."""

    practitioner: list[Person]
    assessment: list[Visit] = []
    photo: list[Photo] = []
    camera_position: list[Camera] = []
    trial: list[Trial] = []
    marking: list[Marking] = []
    reading: list[Reading] = []
    check_result: list[Check] = []
    draft: list[Draft] = []
    goal: list[Goal] = []
    annotation: list[Annotation] = []
    consent: list[Consent] = []
    screening: list[Screening] = []
    assessment_state: list[State] = []
    sheet_line: list[SheetRow] = []
    assessment_event: list[Event] = []
    tray: list[InTray] = []
    second_opinion: list[Opinion] = []
    head_region: list[Head] = []
    practice_profile: list[Habit] = []
    practice_wish: list[Wish] = []
    practice_log: list[Log] = []
    practice_pain: list[Pain] = []
    felt: list[Felt] = []
    remark: list[Remark] = []
    proposal: list[Proposal] = []
    week_plan: list[Plan] = []
    message: list[Message] = []
    doubt_answer: list[DoubtAnswer] = []
    pain_answer: list[PainAnswer] = []
    overrule: list[Overrule] = []
    coming_event: list[ComingEvent] = []
    drill_note: list[DrillNote] = []


class Record(Struct, kw_only=True, forbid_unknown_fields=True):
    """``record.json``: people as moved from one Dachi to another."""

    format: Literal["dachi-record"]
    version: int
    schema: Annotated[int, Meta(ge=1)]
    tables: Tables


class Truth(Struct):
    """What a simulated camera knows; more may stand beside it."""

    true_values: dict[str, float] = {}


class Corners(Struct, forbid_unknown_fields=True):
    """A mat's corners: all four, by name."""

    near_left: Point
    near_right: Point
    far_right: Point
    far_left: Point


Names = list[Name]
Measured = dict[Name, Value]
#: The numbers of a laid fan (see ``store.markings``).
Fan = Annotated[list[Annotated[float, Meta(ge=-1e12, le=1e12)]], Meta(min_length=15, max_length=15)]
#: What texts hold, by table and column, as their modules read them.
HOLDS: Mapping[tuple[str, str], Any] = {
    ("practitioner", "props"): Names,
    ("practitioner", "schools"): dict[str, str],
    ("practitioner", "comes_for"): Names,
    ("photo", "truth"): Truth,
    ("photo", "cards"): dict[int, list[Point]],
    ("photo", "joints"): dict[str, Annotated[list[Px], Meta(min_length=2, max_length=3)]],
    ("photo", "said"): list[tuple[Literal["retake", "watch"], Words]],
    ("photo", "outline"): dict[str, tuple[Px, Px, Small]],
    ("photo", "glimpsed"): dict[str, Point],
    ("trial", "variant"): dict[str, str],
    ("marking", "marks"): dict[str, Point],
    ("marking", "mark_sds"): dict[str, Small],
    ("marking", "level"): tuple[Point, Point],
    ("marking", "corners"): Corners,
    ("marking", "bones"): dict[str, tuple[Small, Small, Small]],
    ("marking", "seen"): Names,
    ("reading", "fan"): Fan,
    ("draft", "body"): dict[str, str],
    ("screening", "yes"): Names,
    ("screening", "allowed"): Names,
    ("screening", "flags"): Names,
    ("screening", "details"): dict[str, Answer],
    ("assessment_state", "pain"): dict[Place, Annotated[int, Meta(ge=0, le=10)]],
    ("tray", "joints"): dict[str, Point],
    ("practice_profile", "weekdays"): list[Annotated[int, Meta(ge=0, le=6)]],
    ("practice_profile", "cautions"): Names,
    ("practice_profile", "tuned"): Tuned,
    ("practice_profile", "by_day"): dict[
        Annotated[int, Meta(ge=0, le=6)], Annotated[float, Meta(ge=5, le=90)]
    ],
    ("practice_log", "done"): list[DrillDone],
    ("remark", "marks"): dict[str, Point],
    ("remark", "readings"): Measured,
    ("remark", "first"): Measured,
    ("proposal", "about"): dict[str, str | float],
    ("proposal", "change"): Adjustment,
    ("week_plan", "body"): PlannedWeek,
}
#: Columns that are a day or a moment.
_DATED, _DATES = ("_at", "_on", "until"), ("on_date", "at")


def checked(tables: Mapping[str, Sequence[Mapping[str, Any]]]) -> None:
    """Raise Conflict naming the first row that holds what no page could read."""
    for table, rows in tables.items():
        for number, row in enumerate(rows):
            for column, value in row.items():
                if isinstance(value, str) and (why := _wrong(table, column, value, row)):
                    raise Conflict(f"tables.{table}[{number}].{column}: {why}")


def _wrong(table: str, column: str, value: str, row: Mapping[str, Any]) -> str | None:
    """Why a text cannot be what its column is for; None where it can."""
    if column.endswith(_DATED) or column in _DATES:
        try:
            datetime.fromisoformat(value) if len(value) > 10 else date.fromisoformat(value)
        except ValueError:
            return f"“{value[:40]}” is no day there is"
    elif (table, column) == ("practice_pain", "place") and value not in set(Place):
        return f"“{value[:40]}” is no place that is known here"
    elif (table, column) == ("felt", "answer") and not (value and felt.known(row["kind"], value)):
        return f"“{value[:40]}” is no answer to that"
    elif (table, column) == ("week_plan", "body") and not row["digest"].startswith(f"{FORMAT}:"):
        # Of another form: nobody reads it.
        return None
    elif (kind := HOLDS.get((table, column))) is not None:
        try:
            msgspec.json.decode(value, type=kind)
        except (msgspec.DecodeError, UnicodeError, RecursionError) as error:
            return str(error)[:200]
    return None
