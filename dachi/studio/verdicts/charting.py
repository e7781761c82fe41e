"""One measure's chart: its series under the conditions that are asked for, and its numbers."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import series as judging
from dachi.core.judging import wording
from dachi.core.judging.best import since_best
from dachi.core.judging.series import Line, Series
from dachi.drawing import progress as charts
from dachi.drawing.progress import Note
from dachi.store import assessments, goals
from dachi.store.practitioners import Practitioner
from dachi.studio.phrases import say_day
from dachi.studio.verdicts import overview, summaries
from dachi.studio.verdicts.histories import date_of, day_number, family_now
from dachi.studio.verdicts.summaries import judged, label_of
from dachi.studio.work import Work

#: What a coach may choose to include after all.
INCLUDABLE = ("warmth", "part of day", "prop")


@dataclass(frozen=True)
class Asked:
    """The pose, measure and conditions a chart is asked for, with the series they give."""

    pose: Pose
    measure: Measure
    include: tuple[str, ...]
    variant: str | None
    series: Series
    label: str

    @property
    def usual(self) -> bool:
        """Whether it is the series as it is usually built: stages are settled on that."""
        return not self.include and self.variant is None


def asked(
    work: Work, pid: int, pose: Pose, family: str, include: tuple[str, ...], variant: str | None
) -> Asked:
    """The chart of a pose's measure under chosen conditions."""
    measure = next((m for m in pose.charted if m.family == family), pose.now(family))
    prefer = {"variant": variant} if variant is not None else None
    series = judged(work, pid, pose, measure.family, include=include, prefer=prefer)
    label = pose.labelled(label_of(work, pose, measure, series))
    return Asked(pose, measure, include, variant, series, label)


def drawn(
    work: Work, who: Practitioner, asked: Asked, bench: Callable[[int, bool], str], style: str = ""
) -> str:
    """The chart as SVG; with a ``style`` it is a file of its own, without pictures.

    ``bench`` is the address of a trial's bench, or of its preview.
    """
    visits = assessments.of_practitioner(work.db, work.coach, who.id)
    wanted = (asked.pose.id, asked.measure.family)
    target = next(
        (
            g.target
            for g in goals.of_practitioner(work.db, work.coach, who.id)
            if (g.pose, family_now(g)) == wanted
        ),
        None,
    )
    notes = [
        Note(day_number(n.on_date), n.kind, f"{say_day(n.on_date)}: {n.text}")
        for n in goals.notes_of(work.db, work.coach, who.id)
    ]
    notes += _hands(asked.series)
    legend = charts.Legend(
        lambda tid: bench(tid, False),
        {v.id: say_day(v.taken_at) for v in visits},
        None if style else lambda tid: bench(tid, True),
        wording.UNITS[asked.measure.unit],
    )
    title = f"{asked.pose.name}: {asked.label} of {who.call_name}"
    return charts.draw(asked.series, title, legend, target, notes, style)


def _hands(series: Series) -> list[Note]:
    """Where somebody else marks from then on, or things were said to stand otherwise."""
    sessions = sorted(
        {(s.day, s.hands) for line in series.lines for s in line.sessions if s.hands.strip("|")}
    )
    found = []
    for (_, before), (day, now) in pairwise(sessions):
        marker, set_up, *_ = now.split("|")
        on = say_day(date_of(day).isoformat())
        if marker != before.split("|")[0]:
            found.append(Note(day, "other hand", f"{on}: marked by {marker}"))
        elif set_up != before.split("|")[1]:
            found.append(Note(day, "set-up", f"{on}: set up otherwise"))
    return found


def _best(line: Line, unit: str) -> str:
    """What is lost from the best, where something is."""
    found = since_best(line)
    if found is None or not found.lost:
        return ""
    size = f"{wording.signed(found.change, unit)} ± {wording.plain(found.mdc, unit)}"
    best = wording.plain(found.best, unit)
    return f"{size} from the best, {best} on {say_day(date_of(found.at.day).isoformat())}."


def numbers(work: Work, who: Practitioner, asked: Asked) -> dict[str, Any]:
    """Everything said beside a chart: lines with their verdicts, a table, what is left out."""
    series, unit = asked.series, asked.measure.unit
    visits = assessments.of_practitioner(work.db, work.coach, who.id)
    dates = {v.id: say_day(v.taken_at) for v in visits}
    found = summaries.of_practitioner(work, who.id)
    lines = summaries.lines_of(found, asked.pose.id, asked.measure.family)
    staged = summaries.staged_of(lines) if asked.usual else {}
    return {
        "unit": wording.UNITS[unit],
        "sentence": wording.headline_sentence(series, unit, staged),
        "legend": charts.legend([line.mode for line in series.lines], asked.measure.better),
        "lines": [
            (
                line,
                wording.say_gain(
                    line.since_first,
                    wording.say_start(line),
                    unit,
                    staged.get((line.side, line.mode)),
                ),
                wording.say_gain(line.since_last, "last", unit),
                " ".join(x for x in (overview.trend_words(line, unit), _best(line, unit)) if x),
            )
            for line in series.lines
        ],
        "table": _table(series, dates),
        "differing": _differing(series),
        "variants": _variants(series),
        "left_out": [(t, wording.why_left_out(t, series)) for t in series.left_out[-40:]],
        "reserve": {
            side: wording.say_reserve(own[-1], unit)
            for side in series.sides
            if (own := judging.reserves(series, side))
        },
        "asymmetry": wording.say_asymmetry(series, unit),
        "retest": overview.retest_words(series),
        "dates": dates,
        "visits": visits,
    }


def _differing(series: Series) -> list[tuple[str, int]]:
    """Conditions in which valid trials differ from the series, with how many trials."""
    if series.conditions is None:
        return []
    counts: dict[str, int] = {}
    everything = [t for line in series.lines for t in (*line.trials, *line.left_out) if t.valid]
    for t in everything:
        for name in judging.differing(t, series.conditions):
            counts[name] = counts.get(name, 0) + 1
    return [(name, counts[name]) for name in INCLUDABLE if name in counts]


def _variants(series: Series) -> list[str]:
    """Ways of doing the pose that were photographed; only one is charted at a time."""
    everything = [t for line in series.lines for t in (*line.trials, *line.left_out)]
    return sorted({t.conditions[1] for t in everything})


def _table(
    series: judging.Series, dates: Mapping[int, str]
) -> tuple[list[tuple[str, str]], list[tuple[str, list[judging.SessionValue | None]]]]:
    """Columns (side, mode) and a row of session values for each assessment, newest first."""
    columns = [(line.side, line.mode) for line in series.lines]
    cells = {
        (s.assessment_id, line.side, line.mode): s for line in series.lines for s in line.sessions
    }
    days = {s.assessment_id: s.day for line in series.lines for s in line.sessions}
    order = sorted(days, key=lambda a: (days[a], a), reverse=True)
    return columns, [
        (dates.get(a, ""), [cells.get((a, side, mode)) for side, mode in columns]) for a in order
    ]
