"""What a report for the practitioner or a clinician says, gathered from everywhere it is known."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path

from PIL import Image, ImageDraw

from dachi.clock import Clock
from dachi.core.assessing import permission
from dachi.core.judging import wording
from dachi.core.judging.stages import Stage
from dachi.core.practising.programme import NoPlan
from dachi.data import catalogue, chosen_schools, screening_questions
from dachi.drawing.paper import Course, Dot, Part, Picture, Report, Row
from dachi.store import assessments, preparation
from dachi.store.assessments import Assessment
from dachi.store.database import connect
from dachi.store.practitioners import Practitioner
from dachi.store.weeks import PlannedWeek
from dachi.studio.bench.around import Around
from dachi.studio.phrases import say_day
from dachi.studio.practice import weeks
from dachi.studio.practice.person import Practising, drill_by_id
from dachi.studio.record import picture_privacy
from dachi.studio.record.asking import about
from dachi.studio.verdicts import overview, reports, summaries
from dachi.studio.verdicts.comparing import HEIGHT, WIDTH, PlacedPhoto
from dachi.studio.verdicts.conclusions import WORK, Advice, advise
from dachi.studio.verdicts.histories import date_of
from dachi.studio.verdicts.reports import ReviewPart, TodayAgainst
from dachi.studio.verdicts.summaries import judged
from dachi.studio.work import Work

FOR = {"practitioner": "the practitioner", "clinician": "a clinician"}
#: Pixels across a picture on paper: 86 mm at some 300 dots an inch.
PIXELS = 1000
MOST_DRILLS = 8


@dataclass(frozen=True)
class Wanted:
    """What a report is asked to hold: keys of measures (``pose.family``), and for whom."""

    measures: frozenset[str]
    reader: str = "practitioner"
    pictures: str = ""


def offered(work: Work, visit: Assessment) -> list[tuple[str, str, bool]]:
    """Measures of a visit that a report may hold: key, words, and whether its line has news."""
    told = {(n.pose, n.family) for n in reports.news_of(work, visit)}
    return [
        (key_of(p), f"{p.pose.name}: {p.label}", (p.pose.id, p.measure.family) in told)
        for p in _parts(work, visit)
    ]


def key_of(part: ReviewPart) -> str:
    """A part's name in forms."""
    return f"{part.pose.id}.{part.measure.family}"


def _parts(work: Work, visit: Assessment) -> list[ReviewPart]:
    own = assessments.trials(work.db, work.coach, visit.id)
    around = Around(work, visit.practitioner_id)
    return [
        p
        for pose in dict.fromkeys(t.pose for t in own)
        if pose in catalogue()
        for p in reports.parts_of(work, visit, catalogue().pose(pose), around)
        if p.rows
    ]


def gather_apart(
    folder: Path, clock: Clock, coach: int, who: Practitioner, visit: Assessment, wanted: Wanted,
    by: str,
) -> Report:  # fmt: skip
    """The same (see ``gather``) on a connection of its own that only reads: for the background."""
    with closing(connect(folder, clock)) as db:
        db.guard()
        db.begin(write=False)
        return gather(Work(db, folder, coach), who, visit, wanted, by)


def gather(work: Work, who: Practitioner, visit: Assessment, wanted: Wanted, coach: str) -> Report:
    """The report of a visit. Pictures only where the person agreed to be shown them."""
    details, written = wanted.reader == "clinician", say_day(work.today().isoformat())
    parts = [p for p in _parts(work, visit) if key_of(p) in wanted.measures]
    shown = picture_privacy.to_themselves(work, who.id)
    own = Practising(work, who)
    kept, found, week = own.goals, own.summaries, _week(own)
    advice = advise(work, who, own)
    born = f", born {who.birth_year}" if details and who.birth_year else ""
    return Report(
        heading=f"{who.call_name}{born}: {say_day(visit.taken_at)}",
        facts=_facts(work, visit, coach),
        news=tuple(n.text for n in reports.news_of(work, visit)[:5]),
        parts=tuple(
            _part(work, who, visit, p, details, shown and wanted.pictures == key_of(p))
            for p in parts
        ),
        held=(
            advice.held,
            *(f"{h.sentence} ({h.readings})" for h in overview.held_back(found, kept)[:3]),
        ),
        practise=(advice.practise, *_practise(own, week, advice)),
        next=_next(work, who, summaries.next_look(found)),
        method=_method(visit, parts),
        foot=f"{who.call_name}, {say_day(visit.taken_at)}. Written {written}.",
        details=details,
        cautions=_cautions(work, who) if details else (),
    )  # fmt: skip


def _facts(work: Work, visit: Assessment, coach: str) -> tuple[str, ...]:
    before = assessments.of_practitioner(work.db, work.coach, visit.practitioner_id)
    count = sum(v.taken_at <= visit.taken_at for v in before)
    first = min((v.taken_at for v in before), default=visit.taken_at)
    since = f", visit {count} since {say_day(first)}" if count > 1 else ", the first visit"
    return (f"Measured by {coach}, {visit.warmth}{since}.",)


def _part(
    work: Work, who: Practitioner, visit: Assessment, p: ReviewPart, details: bool, pictures: bool
) -> Part:
    series = judged(work, who.id, p.pose, p.measure.family)
    courses = tuple(
        Course(
            line.side,
            line.mode,
            tuple(
                Dot(s.day, s.value, s.mdc / math.sqrt(2))
                for s in line.sessions
                if date_of(s.day).isoformat() <= visit.taken_at[:10]
            ),
        )
        for line in series.lines
        if line.mode in ("passive", "active")
    )
    courses = tuple(c for c in courses if c.dots)
    days = [d.day for c in courses for d in c.dots] or [0.0]
    unit = p.measure.unit
    return Part(
        p.pose.name,
        p.label,
        wording.UNITS[unit],
        tuple(_row(n, unit) for n in p.rows),
        courses,
        say_day(date_of(min(days)).isoformat()),
        say_day(date_of(max(days)).isoformat()),
        (*p.reserve, *((p.asymmetry,) if p.asymmetry else ()), *(p.apart if details else ())),
        _pictures(work, p) if pictures else (),
    )


def _row(n: TodayAgainst, unit: str) -> Row:
    today = f"{wording.plain(n.today.value, unit)} ± {wording.plain(n.today.half, unit)}"
    g = n.whole
    change, stage = "", ""
    if g is not None:
        since = say_day(date_of(g.earlier.day).isoformat())
        change = f"{wording.signed(g.change, unit)} ± {wording.plain(g.mdc, unit)} since {since}"
        words = {Stage.CONFIRMED: "confirmed", Stage.FIRST_SIGN: "a first sign"}
        stage = words.get(n.stage, "too little to tell") if n.stage else "too little to tell"
    return Row(n.side, n.mode, today, change, stage, wording.plain(n.detectable, unit))


def _pictures(work: Work, p: ReviewPart) -> tuple[Picture, ...]:
    """The first time and today of the first side that has both, as they may be shown."""
    pairs = [placed for _, placed in p.pairs if placed]
    best = max(pairs, key=len, default=())
    made = [(_cut(work, one), one) for one in best]
    return tuple(
        Picture(jpeg, f"{say_day(one.taken_at)}: {one.reading}") for jpeg, one in made if jpeg
    )


def _cut(work: Work, one: PlacedPhoto) -> bytes | None:
    """A photograph laid into the shared picture with the lines of its angle drawn; None where it
    may not be shown or is lost.
    """
    try:
        path = picture_privacy.outside(work, one.photo, "photo")
        if path is None:
            return None
        with Image.open(path) as stored:
            picture = stored.convert("RGB")
    except OSError:
        return None
    dx, dy, scale = one.place
    shrink = WIDTH / PIXELS
    # From the pixels of what is drawn back to those of the photograph.
    back = shrink / scale
    size = (PIXELS, round(PIXELS * HEIGHT / WIDTH))
    cut = picture.transform(
        size, Image.Transform.AFFINE, (back, 0, -dx / scale, 0, back, -dy / scale),
        Image.Resampling.BICUBIC, fillcolor=(239, 231, 216),
    )  # fmt: skip
    pen = ImageDraw.Draw(cut)

    def at(point: tuple[float, float]) -> tuple[float, float]:
        return ((scale * point[0] + dx) / shrink, (scale * point[1] + dy) / shrink)

    for fan in one.fans:
        for ends, width in (
            ((fan.vertex, fan.zero_end), 4), ((fan.vertex, fan.line_end), 7), (fan.rim, 5),
        ):  # fmt: skip
            line = [at(p) for p in ends]
            pen.line(line, (255, 253, 248), width + 4)
            pen.line(line, (13, 95, 82), width)
    out = io.BytesIO()
    cut.save(out, "JPEG", quality=85)
    return out.getvalue()


def _week(own: Practising) -> PlannedWeek | None:
    """The week as it stands, planned where nobody had: before anything is said of it."""
    try:
        return weeks.week_of(own)
    except NoPlan:
        return None


def _practise(own: Practising, week: PlannedWeek | None, advice: Advice) -> tuple[str, ...]:
    """The days, and what is worked on in them: what the advice names comes first."""
    days = [weeks.WEEKDAYS[s.weekday] for s in week.sessions] if week else []
    if week is None or not days:
        return ()
    who = own.who
    minutes = sum(s.seconds for s in week.sessions) / 60 / len(days)
    known, counting = drill_by_id(), chosen_schools(who.schools)["counting"]
    doses = {
        i.drill: weeks.say_dose(i.dose, counting, who.breath_s)
        for s in week.sessions
        for i in s.items
        if i.drill in known and known[i.drill].phase in WORK
    }
    order = sorted(doses, key=lambda d: d not in advice.drills)[:MOST_DRILLS]
    named = [f"{known[d].name}: {doses[d]}" for d in order]
    return (f"About {minutes:.0f} minutes on {', '.join(days)}.", *named)


def _next(work: Work, who: Practitioner, look: str | None) -> tuple[str, ...]:
    found = []
    if who.next_visit_at:
        found.append(f"Next visit: {say_day(who.next_visit_at)}.")
    if look:
        found.append(f"A new look can show something from {say_day(look)}.")
    return tuple(found)


def _method(visit: Assessment, parts: Sequence[ReviewPart]) -> tuple[str, ...]:
    trials = max((r.today.count for p in parts for r in p.rows), default=1)
    return (
        "Joint angles were read from photographs: the mat's known size gives the camera, and a "
        "skeleton is fitted to the marked points.",
        f"Each value is that of up to {trials} photographs of the visit, {visit.warmth}; ± is half "
        "of the interval that holds the true value 95 times in 100, how much a body differs from "
        "day to day included: it is wider than that of one photograph.",
        "A change is called a first sign when it is larger than how far such readings scatter, and "
        "confirmed when a later visit or a trend bears it out; smaller ones say nothing yet.",
    )


def _cautions(work: Work, who: Practitioner) -> tuple[str, ...]:
    screening = preparation.screening(work.db, work.coach, who.id)
    asked = screening_questions()
    said = [f"{c[0].upper()}{c[1:]}." for c in permission.cautions(screening, asked)]
    answers = preparation.answers_of(screening, work.today())
    for q in asked:
        if q.id in answers and q.clearing:
            said.append(f"{q.ask.rstrip('?')}: {about(q, answers[q.id])}.")
    return tuple(said)


def only_known(work: Work, visit: Assessment, wanted: Wanted) -> Wanted:
    """What was asked for, without what this visit does not have."""
    kept = (wanted.measures | {wanted.pictures}) & {k for k, _, _ in offered(work, visit)}
    return replace(
        wanted,
        measures=kept,
        reader=wanted.reader if wanted.reader in FOR else "practitioner",
        pictures=wanted.pictures if wanted.pictures in kept else "",
    )
