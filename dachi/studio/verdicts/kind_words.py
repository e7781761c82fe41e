"""What the measurements say to the person themselves."""

from __future__ import annotations

from collections.abc import Mapping

from dachi.core.judging.series import Verdict
from dachi.data import catalogue
from dachi.store.practitioners import Practitioner
from dachi.studio.verdicts import summaries
from dachi.studio.work import Work

#: Steady is what surely moved by no more than this, either way.
STEADY_DEG = 10.0


def kind_words(work: Work, who: Practitioner) -> list[str]:
    """What the measurements say, kindly: what grew, what holds, nothing compared with others."""
    grown: list[str] = []
    holds: dict[str, list[str]] = {}
    rests: dict[str, list[str]] = {}
    unknown: dict[str, list[str]] = {}
    for d in summaries.of_practitioner(work, who.id):
        if d.pose not in catalogue():
            continue
        pose = catalogue().pose(d.pose)
        name = pose.name.lower()
        for line in (x for f in d.families if f.unit == "deg" for x in f.lines):
            if line.mode != "passive" or line.first is None:
                continue
            if line.first.verdict is Verdict.GAIN and line.first.confirmed:
                size = abs(round(line.first.change))
                whose = pose.whose(line.side)
                grown.append(f"Your {whose} has {size}° more room than at the start.")
            elif line.first.verdict is Verdict.LOSS and line.first.confirmed:
                rests.setdefault(name, []).append(line.side)
            elif abs(line.first.change) + line.first.mdc <= STEADY_DEG:
                holds.setdefault(name, []).append(line.side)
            else:
                unknown.setdefault(name, []).append(line.side)
    return [
        *grown,
        *_together("Holding steady: {}.", holds),
        *_together("Resting a little, as they may: {}. Your coach sees it too.", rests),
        *_together("Too early to say: {}. The next look will tell more.", unknown),
    ]


def _together(sentence: str, found: Mapping[str, list[str]]) -> list[str]:
    """One sentence for several poses; a side is named where only one of them is meant."""
    words = [
        name if len(set(sides)) != 1 or sides[0] == "both" else f"{name} ({sides[0]})"
        for name, sides in found.items()
    ]
    return [sentence.format(", ".join(words))] if words else []
