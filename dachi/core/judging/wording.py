"""Verdicts as the sentences a coach would say."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from dachi.core.judging.doubts import Doubt, What
from dachi.core.judging.series import (
    WIDE_CONTROL,
    Asymmetry,
    Gain,
    Line,
    Reserve,
    Series,
    TrialValue,
    Verdict,
    asymmetries,
    differing,
)
from dachi.core.judging.stages import Stage, stage_of, verdict_of
from dachi.core.judging.thresholds import Reached

#: What differs where two readings are not compared, as a coach says it.
CONDITION_WORDS = {
    "warmth": "warm or cold", "variant": "another form of the pose",
    "method": "with the mat or without it", "part of day": "another time of day",
    "prop": "a support of another height", "marks": "marks set in another way",
}  # fmt: skip
UNITS = {"deg": "°", "cm": " cm", "ratio": ""}


def signed(value: float, unit: str = "deg") -> str:
    """Whole units with a true sign: +9°, −3°, 0°."""
    whole = round(value)
    return f"{'+' if whole > 0 else '−' if whole < 0 else ''}{abs(whole)}{UNITS[unit]}"


def plain(value: float, unit: str = "deg") -> str:
    """Whole units, with a true minus."""
    whole = round(value)
    return f"{'−' if whole < 0 else ''}{abs(whole)}{UNITS[unit]}"


def span(days: float) -> str:
    """A time span as a coach says it."""
    if days < 1.5:
        return "the same day" if days < 0.5 else "1 day"
    if days < 11:
        return f"{days:.0f} days"
    weeks = round(days / 7)
    return (
        "1 week" if weeks == 1 else f"{weeks} weeks" if weeks < 104 else f"{weeks / 52:.0f} years"
    )


def say_verdict(improvement: float, stage: Stage | None, why: str = "") -> str:
    """What a change amounts to, its stage and why it is that."""
    verdict = verdict_of(improvement, stage)
    if stage is None:
        return str(verdict)
    if stage is Stage.FIRST_SIGN:
        kind = "gain" if verdict is Verdict.GAIN else "loss"
        return f"a first sign of a {kind}: the next visit tells"
    return f"a {verdict}, {why}: confirmed" if why else f"a {verdict}, confirmed"


def say_gain(
    change: Gain | None,
    since: str,
    unit: str = "deg",
    staged: tuple[Stage | None, str] | None = None,
) -> str:
    """One sentence about a change since the first or the last assessment.

    ``staged``: its stage and why, where all lines were looked at; else it is looked at alone.
    Change, interval, stage and why: "+9° ± 6° since the first assessment (10 weeks), a real gain,
    seen at the last two visits: confirmed."
    """
    if change is None:
        return "Nothing to compare with yet."
    days = change.later.day - change.earlier.day
    size = f"{signed(change.change, unit)} ± {plain(change.mdc, unit)}"
    what = f"{size} since the {since} ({span(days)})"
    told = " Conditions differ between the two." if change.mixed else ""
    stage, why = (stage_of(change.real, False), "") if staged is None else staged
    return f"{what}, {say_verdict(change.improvement, stage, why)}.{told}"


def say_start(line: Line) -> str:
    """What changes since the start are counted from."""
    start = line.baseline
    return "first two visits" if start is not None and start.visits < 1.0 else "first assessment"


def say_doubt(d: Doubt, named: Callable[[str, str], str] | None) -> str:
    """What is asked about a visit; ``named`` says a pose's side and mode."""
    where = named(d.side, d.mode) if named is not None else d.pose
    size = signed(d.size) if abs(d.size) >= 1.0 else ""
    if d.what is What.TRIAL:
        apart = f" by {plain(abs(d.size))}" if size else ""
        return (
            f"{where}: trials of this visit lie too far apart{apart} to be one range. Until you "
            "say, the odd one does not count."
        )
    if d.what is What.SLIP:
        return (
            f"{where}: {size or 'some way'} off its line, with everything else as usual. Was it "
            "that leg, that mode, those marks?"
        )
    if d.what is What.VISIT:
        return f"{size or 'Off'} everywhere at this visit: tired or ill, or set up otherwise?"
    return (
        "From this visit on poses read otherwise, some more and some less: was the camera, the mat "
        "or who marked another?"
    )


def say_two_shots(change: Gain, unit: str = "deg") -> str:
    """What two single photographs show."""
    a, b = change.earlier.value, change.later.value
    size = f"{signed(change.change, unit)} ± {plain(change.mdc, unit)}"
    told = (
        "more than chance explains between two single photographs"
        if change.real
        else "two single photographs do not tell so small a change"
    )
    return f"These two photographs: {plain(a, unit)} and {plain(b, unit)}, {size}: {told}."


def headline_sentence(
    series: Series,
    unit: str = "deg",
    staged: Mapping[tuple[str, str], tuple[Stage | None, str]] | None = None,
) -> str:
    """The sentence above a chart: what changed since the first and since the last.

    ``staged``: of each side and mode the stage of the change since the first and why.
    """
    parts = []
    mode = series.main_mode
    for side in series.sides:
        line = series.line(side, mode)
        if line is None or not line.sessions:
            continue
        name = f"{side.capitalize()} {mode}" if side != "both" else mode.capitalize()
        first, last = line.since_first, line.since_last
        if first is None or last is None:
            value = plain(line.sessions[0].value, unit)
            parts.append(f"{name} has one assessment so far ({value}).")
            continue
        days = first.later.day - first.earlier.day
        alone = (stage_of(first.real, False), "")
        stage, why = (staged or {}).get((side, mode), alone)
        size = f"{signed(first.change, unit)} ± {plain(first.mdc, unit)}"
        said = say_verdict(first.improvement, stage, why)
        text = f"{name} {size} over {span(days)}, {said}"
        if len(line.sessions) > 2:
            change = "more than chance explains" if last.real else "too little to tell"
            text += f"; {signed(last.change, unit)} since last time, {change}"
        if last.later.doubt:
            text += "; the last visit looks like a slip and counts wide until somebody says"
        parts.append(text + ".")
        parts += [x for x in (say_likeness(line),) if x]
    if series.included and any(s.other_conditions for x in series.lines for s in x.sessions):
        parts.append("Sessions under other conditions are included by choice.")
    return " ".join(parts) or "Nothing to chart yet: mark a photograph first."


def say_likeness(line: Line) -> str:
    """That sessions were made alike before they were compared; empty where none had to be."""
    if not line.sessions or all(abs(s.like - s.value) < 0.5 for s in line.sessions):
        return ""
    first = line.sessions[0]
    return (
        f"The set-up has changed since: the first {plain(first.value)} would be about "
        f"{plain(first.like)} in today's, and that is what is compared."
    )


def say_reserve(r: Reserve, unit: str = "deg") -> str:
    """What the reserve of a session means for practice."""
    size = f"{plain(r.reserve, unit)} ± {plain(r.mdc, unit)}"
    if r.mixed_up:
        less = f"{plain(abs(r.reserve), unit)} ± {plain(r.mdc, unit)}"
        return (
            f"Passive reads {less} under active, which no body does: a side, a mode or a mark is "
            "mixed up, or the passive one was not taken to its end. Look at both; until then "
            "nothing is built on it."
        )
    if r.reserve <= r.mdc:
        return f"Reserve {size}: active and passive range are about the same."
    if r.control_ratio is None:
        return f"Reserve {size}: passive range that is not yet under control."
    share = f"active reaches {100 * r.control_ratio:.0f} % of passive"
    if r.control_ratio < WIDE_CONTROL:
        return f"Reserve {size}, wide ({share}): build strength near the end of range."
    return f"Reserve {size} ({share})."


def say_asymmetry(series: Series, unit: str = "deg") -> str:
    """Left against right in the newest session that has both."""
    found = asymmetries(series, series.main_mode)
    if not found:
        return ""
    newest = [
        line.sessions[-1].assessment_id
        for line in series.lines
        if line.mode == series.main_mode and line.side != "both" and line.sessions
    ]
    if any(at != found[-1].assessment_id for at in newest):
        return "Left and right were not both measured the last time: no comparison of sides."
    return describe_asymmetry(found[-1], unit)


def describe_asymmetry(a: Asymmetry, unit: str = "deg") -> str:
    """One asymmetry in words."""
    size = plain(abs(a.difference), unit)
    if a.tighter is None:
        return (
            f"Left and right differ by {size}, which chance explains (up to {plain(a.mdc, unit)})."
        )
    said = f"The {a.tighter} is tighter by {size} ± {plain(a.mdc, unit)}"
    if a.acting is Reached.YES:
        return (
            f"{said}, a real difference worth acting on: it gets more of the work, not all of it."
        )
    if a.acting is Reached.UNKNOWN:
        return f"{said}: real, but whether it is enough to act on one more look would tell."
    return f"{said}: real, but small enough to leave alone."


def say_disagreeing(low: TrialValue, high: TrialValue, where: str, unit: str = "deg") -> str:
    """That two trials of a session cannot both be right; ``where`` names side and mode."""
    return (
        f"The trials of {where} read {plain(low.value, unit)} and {plain(high.value, unit)}: "
        "further apart than their intervals allow. Look at the marks and corners of both before "
        "you trust the mean."
    )


def why_left_out(trial: TrialValue, series: Series) -> str:
    """Why a trial does not enter the series."""
    if not trial.valid:
        return "a check says take it again"
    if series.conditions is None:
        return "nothing to compare it with"
    other = differing(trial, series.conditions) - series.included
    if not other:
        return "the set-up was too different from the usual"
    return "not done like the others: " + ", ".join(sorted(CONDITION_WORDS[o] for o in other))
