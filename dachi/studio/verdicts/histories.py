"""From stored readings to the series that is judged and charted."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta
from functools import lru_cache

from dachi.core.catalogue.poses import Measure, Pose
from dachi.core.judging import series as judging
from dachi.core.judging.scatter import Evidence
from dachi.core.judging.series import Series, TrialValue
from dachi.data import catalogue, scatter_priors
from dachi.store.goals import Goal
from dachi.store.markings import Charted
from dachi.studio.verdicts.questions import Doubted

#: Of somebody nothing is doubted of.
NOTHING = Doubted()


def family_of(pose: Pose, family: str) -> tuple[Measure, ...]:
    """The measures charted together under a family name."""
    heads = tuple(m for m in pose.headlines if m.family == family)
    return heads or tuple(m for m in pose.measures if m.second and m.family == family)


def family_now(goal: Goal) -> str:
    """The family whose chart a goal looks at today: its own, or the one that took it over."""
    known = goal.pose in catalogue()
    return catalogue().pose(goal.pose).followed(goal.family) if known else goal.family


def trial_values(
    rows: Iterable[Charted], pose: Pose, family: str, set_ups: Sequence[str] = ()
) -> list[TrialValue]:
    """Turn stored readings of a pose into what a series is built from; ``set_ups`` are moments
    (ISO) from which on things stood otherwise.
    """
    shown = {m.id: m for m in family_of(pose, family)}
    at = (
        pose.likeness.measure
        if pose.likeness is not None and family_of(pose, family)[0].family == pose.headline.family
        else None
    )
    beside: dict[int, dict[str, float]] = {}
    own = []
    for row in rows:
        if row.pose != pose.id:
            continue
        if at == "prop_cm":
            # A raised seat whose height nobody wrote down is compared as if it were as now.
            if row.prop_cm is not None or "raised" not in row.variant:
                beside[row.trial_id] = {at: row.prop_cm or 0.0}
        elif at is not None and row.measure == at:
            beside.setdefault(row.trial_id, {})[at] = row.value
        if row.measure in shown:
            own.append(row)
    return [
        TrialValue(
            row.trial_id,
            row.assessment_id,
            _day(row.taken_at),
            shown[row.measure].side or row.side,
            row.mode,
            row.value,
            row.sd,
            row.status != "retake" or row.overruled,
            (
                row.warmth,
                compared_variant(pose, row.variant),
                row.method,
                part_of_day(row.taken_at),
                "" if row.prop_cm is None or at == "prop_cm" else f"{row.prop_cm:g} cm",
                "" if row.marked == "joint" else row.marked,
            ),
            beside.get(row.trial_id, {}),
            row.sd_change,
            row.marker,
            str(sum(at <= row.taken_at for at in set_ups) or ""),
        )
        for row in own
    ]


def series_of(
    rows: Iterable[Charted],
    pose: Pose,
    family: str,
    include: Collection[str] = (),
    others: Mapping[str, Sequence[Evidence]] | None = None,
    prefer: Mapping[str, str] | None = None,
    *,
    best: bool = False,
    still: Collection[int] = (),
    hurt: Collection[int] = (),
    doubted: Doubted = NOTHING,
) -> Series:
    """Build the series of one measure of a pose (see ``judging.series``), what is ``doubted`` of
    it counted wide.
    """
    own = family_of(pose, family)
    headline = own[0].family == pose.headline.family
    rows = list(rows)
    found = judging.build(
        trial_values(rows, pose, family, doubted.set_ups(rows)),
        better=own[0].better,
        likeness=pose.likeness if headline else None,
        include=include,
        others=others,
        priors={mode: scatter_priors().of(pose.id, mode) for mode in pose.modes}
        if own[0].unit == "deg"
        else None,
        prefer=prefer,
        best=best,
        still=still,
        hurt=hurt,
        kept=doubted.kept_trials(rows),
    )
    return doubted.counted(found, pose, family)


EPOCH = datetime.fromtimestamp(0)


def date_of(day_number: float) -> date:
    """The date of a day on the series' scale."""
    return (EPOCH + timedelta(days=day_number)).date()


def day_number(iso: str) -> float:
    """A date (ISO) on the series' scale, at noon."""
    return (datetime.fromisoformat(iso[:10]) + timedelta(hours=12) - EPOCH).total_seconds() / 86400


@lru_cache(maxsize=4096)
def _day(taken_at: str) -> float:
    return datetime.fromisoformat(taken_at).timestamp() / 86400.0


@lru_cache(maxsize=4096)
def part_of_day(taken_at: str) -> str:
    """The half of the day readings are compared in."""
    return judging.part_of_day(datetime.fromisoformat(taken_at).hour)


@lru_cache(maxsize=4096)
def compared_variant(pose: Pose, variant: str) -> str:
    """The options of a stored variant that readings must share, in words."""
    chosen = json.loads(variant)
    # What was photographed before a pose got another variant was done in the usual way.
    options = [(v, chosen.get(v.id, v.default)) for v in pose.variants if v.compared]
    return ", ".join(v.options.get(option, option) for v, option in options)
