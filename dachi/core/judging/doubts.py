"""What looks like a slip: a visit against its line, one visit in all lines, a jump nobody said.

Each line is taken as a smooth course that nobody knows (a level, a pace, a bend, each with a
wide normal prior) + the scatter of visits and trials: a Gaussian process, of which what every
visit leaves, foretold by all others, is known in closed form (leave one out: Rasmussen and
Williams 2006, eq. 5.12). What lies further off than chance puts one look in some hundreds is
asked about, and counts wide until somebody says that it is so.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from statistics import fmean

import numpy as np
from numpy.typing import NDArray
from scipy.special import chdtrc

from dachi.core.judging.series import HABIT_SD, Line, Series, SessionValue

Array = NDArray[np.float64]
#: A line by its pose (or pose and measure), side and mode.
Key = tuple[str, str, str]


class What(StrEnum):
    """What is asked about."""

    TRIAL = "trial"
    SLIP = "slip"
    VISIT = "visit"
    JUMP = "jump"


#: A visit, what is asked about it, and of which pose, side and mode (empty: of all).
Asked = tuple[int, What, str, str, str]

#: Priors of a course: its level, its pace (a week) and its bend (a week squared), degrees.
LEVEL_SD, PACE_SD, BEND_SD = 60.0, 0.5, 0.01
#: Standard errors from which one visit of a line, and a visit in all lines, is asked about.
LINE_Z, VISIT_Z = 3.6, 3.0
#: How far it must lie from both its neighbours besides, the same way: what stays is a step.
NEIGHBOUR_Z = 2.3
#: A visit that lies off everywhere by less than this is not asked about, degrees.
VISIT_DEG = 3.0
#: Lines and poses that a visit must hold for one to say that it lies off everywhere.
FEW_LINES, FEW_POSES = 4, 2
#: How rarely chance alone makes a jump of several poses that is asked about. The scatter being
#: estimated wide, clean people are asked far more seldom (``bench clinic``).
JUMP_P = 0.2
#: How much of a pose's day all poses share, as a guess, and so many days it is worth.
EVERYWHERE, DAYS_GUESSED = 0.7, 6.0
#: Visits that a jump needs on either side of it.
BESIDE = 2
#: So many visits back a look is worth it.
RECENT = 12


@dataclass(frozen=True)
class Doubt:
    """Something asked about a visit; of one line, of one pose or (no ``pose``) of all.

    ``size``: how far it lies off, as read; of a jump how far poses jumped apart.
    """

    what: What
    assessment_id: int
    day: float
    size: float
    pose: str = ""
    side: str = ""
    mode: str = ""

    @property
    def asked(self) -> Asked:
        """What an answer is kept by."""
        return self.assessment_id, self.what, self.pose, self.side, self.mode


@dataclass(frozen=True)
class _Looked:
    """A line with what its visits leave: how far each lies off what the others foretell."""

    key: Key
    sessions: tuple[SessionValue, ...]
    inverse: Array
    off: Array
    sd: Array
    #: What of each visit's variance all lines of that visit share.
    common: Array

    def z(self, i: int) -> float:
        return float(self.off[i] / self.sd[i])

    def stands_out(self, i: int) -> bool:
        """Whether a visit lies on the same side of both its neighbours: what stays is a step."""
        way = math.copysign(1.0, self.off[i])
        own = self.sessions[i]
        return all(
            way * (own.like - self.sessions[j].like)
            > NEIGHBOUR_Z * math.sqrt(own.opened + self.sessions[j].opened)
            for j in (i - 1, i + 1)
            if 0 <= j < len(self.sessions)
        )


def _looked(key: Key, sessions: Sequence[SessionValue]) -> _Looked | None:
    """The leave-one-out residuals of a line, None with fewer than three visits."""
    if len(sessions) < 3:
        return None
    weeks = np.array([s.day / 7.0 for s in sessions])
    weeks = weeks - weeks.mean()
    own = np.array([s.opened + s.apart**2 for s in sessions])
    shared = np.array([s.scatter.shared * s.scatter.visit for s in sessions]) / own
    names = [s.hands for s in sessions]
    same = np.array([[float(a == b) for b in names] for a in names])
    course = LEVEL_SD**2 + PACE_SD**2 * np.outer(weeks, weeks)
    course = course + BEND_SD**2 * np.outer(weeks**2, weeks**2)
    inverse = np.linalg.inv(course + HABIT_SD**2 / 2.0 * same + np.diag(own))
    values = np.array([s.like for s in sessions])
    scaled = inverse @ (values - values.mean())
    kept = np.diag(inverse)
    off, sd = np.asarray(scaled / kept), np.asarray(1.0 / np.sqrt(kept))
    return _Looked(key, tuple(sessions), np.asarray(inverse), off, sd, np.asarray(shared))


def look(
    lines: Mapping[Key, Line], kept: Collection[Asked] = (), *, recent: int = RECENT
) -> list[Doubt]:
    """What is asked about a person's lines, the widest first of each kind.

    ``kept``: what somebody said is so: it is not asked again, and counts like any other.
    """
    now = {
        k: x for k, line in lines.items() if (x := _looked(k, line.sessions[-recent:])) is not None
    }
    found: list[Doubt] = []
    for _ in range(2):
        one = _visit_off(now, {*kept, *(d.asked for d in found)})
        if one is None:
            break
        found.append(one)
        now = {k: _again(x, one) for k, x in now.items()}
    for key in now:
        for _ in range(2):
            one = _line_off(now[key], kept)
            if one is None:
                break
            found.append(one)
            now[key] = _again(now[key], one)
    return found + _jumps(list(now.values()), kept)


def _again(x: _Looked, doubt: Doubt) -> _Looked:
    """A line looked at once more, what is doubtful of it counted wide."""
    return _looked(x.key, _wider(x.sessions, [doubt], x.key)) or x


def trials_asked(lines: Mapping[Key, Line], kept: Collection[Asked] = ()) -> list[Doubt]:
    """Trials that lie too far from their siblings, one doubt a session."""
    return [
        Doubt(What.TRIAL, s.assessment_id, s.day, _apart(line, s), *key)
        for key, line in lines.items()
        for s in line.sessions
        if s.slips and (s.assessment_id, What.TRIAL, *key) not in kept
    ]


def _apart(line: Line, s: SessionValue) -> float:
    out = [t.value for t in line.trials if t.trial_id in s.slips]
    if len(out) == len(s.trial_ids):
        return max(out) - min(out)
    return max((v - s.value for v in out), key=abs)


def widened(line: Line, doubts: Iterable[Doubt], key: Key) -> Line:
    """A line whose doubtful visits count wide."""
    return replace(line, sessions=_wider(line.sessions, doubts, key))


def _wider(
    sessions: Sequence[SessionValue], doubts: Iterable[Doubt], key: Key
) -> tuple[SessionValue, ...]:
    more: dict[int, float] = defaultdict(float)
    for d in doubts:
        line = (d.pose, d.side, d.mode)
        if d.what is What.VISIT or (d.what is What.SLIP and line == key):
            more[d.assessment_id] += d.size**2
    return tuple(
        replace(s, doubt=s.doubt + more[s.assessment_id]) if s.assessment_id in more else s
        for s in sessions
    )


def _line_off(x: _Looked, kept: Collection[Asked]) -> Doubt | None:
    """The visit of a line that lies furthest from what the others foretell, where it is far."""
    asked = [
        i
        for i, s in enumerate(x.sessions)
        if (s.assessment_id, What.SLIP, *x.key) not in kept
        and (s.assessment_id, What.VISIT, "", "", "") not in kept
        and abs(x.z(i)) > LINE_Z
        and x.stands_out(i)
    ]
    if not asked:
        return None
    i = max(asked, key=lambda i: abs(x.z(i)))
    s = x.sessions[i]
    return Doubt(What.SLIP, s.assessment_id, s.day, float(x.off[i]), *x.key)


def _visit_off(now: Mapping[Key, _Looked], kept: Collection[Asked]) -> Doubt | None:
    """The visit that lies off in all lines, where one does."""
    at: dict[int, list[tuple[_Looked, int]]] = defaultdict(list)
    for x in now.values():
        for i, s in enumerate(x.sessions):
            at[s.assessment_id].append((x, i))
    found: list[tuple[float, Doubt]] = []
    for visit, own in at.items():
        poses = {x.key[0] for x, _ in own}
        if (
            len(own) < FEW_LINES
            or len(poses) < FEW_POSES
            or (visit, What.VISIT, "", "", "") in kept
        ):
            continue
        # Lines whose direction is the other way round read less where a body has more.
        off = fmean(float(x.off[i]) for x, i in own)
        shared = fmean(float(x.common[i]) for x, i in own)
        usual = fmean(float(x.sd[i]) ** 2 for x, i in own)
        sd = math.sqrt(usual * (shared + (1.0 - shared) / len(own)))
        if abs(off) > max(VISIT_Z * sd, VISIT_DEG) and _alone(own, off):
            day = own[0][0].sessions[own[0][1]].day
            found.append((abs(off) / sd, Doubt(What.VISIT, visit, day, off)))
    return max(found, key=lambda f: f[0])[1] if found else None


def _alone(own: Sequence[tuple[_Looked, int]], off: float) -> bool:
    """Whether a visit lies off from both its neighbours over all lines, by half of it at least."""
    for step in (-1, 1):
        beside = [
            x.sessions[i].like - x.sessions[i + step].like
            for x, i in own
            if 0 <= i + step < len(x.sessions)
        ]
        if beside and math.copysign(1.0, off) * fmean(beside) < abs(off) / 2.0:
            return False
    return True


def _jumps(looked: Sequence[_Looked], kept: Collection[Asked]) -> list[Doubt]:
    """The visit from which on several poses read otherwise, more apart than courses go."""
    everywhere = _everywhere(looked)
    at: dict[tuple[float, int], dict[str, list[tuple[float, float, float]]]] = {}
    for x in looked:
        for i, step, spread in _steps(x):
            s = x.sessions[i]
            found = at.setdefault((s.day, s.assessment_id), {})
            found.setdefault(x.key[0], []).append((step, spread, float(x.common.mean())))
    best: tuple[float, Doubt] | None = None
    for (day, visit), by_pose in sorted(at.items(), key=lambda item: item[0]):
        if (visit, What.JUMP, "", "", "") in kept or len(by_pose) <= FEW_POSES:
            continue
        steps, spreads = [], []
        for own in by_pose.values():
            # What all poses share of a day moves none against the others.
            shared = fmean(c for _, _, c in own)
            common, alone = (1.0 - everywhere) * shared, 1.0 - shared
            steps.append(fmean(s for s, _, _ in own))
            spreads.append(fmean(v for _, v, _ in own) * (common + alone / len(own)))
        weights = [1.0 / v for v in spreads]
        middle = sum(w * s for w, s in zip(weights, steps, strict=True)) / sum(weights)
        total = sum(w * (s - middle) ** 2 for w, s in zip(weights, steps, strict=True))
        p = float(chdtrc(len(steps) - 1, total))
        if p < JUMP_P and (best is None or p < best[0]):
            best = (p, Doubt(What.JUMP, visit, day, max(steps) - min(steps)))
    return [best[1]] if best else []


def _steps(x: _Looked) -> list[tuple[int, float, float]]:
    """For each visit that may begin a jump of a line: its index, the step and its variance.

    Generalised least squares of one step in what the course leaves.
    """
    n = len(x.sessions)
    if n < 2 * BESIDE:
        return []
    after = np.tri(n)[:, BESIDE : n - BESIDE + 1]
    scaled = x.inverse @ after
    precision = (after * scaled).sum(axis=0)
    values = np.array([s.like for s in x.sessions])
    steps = (values - values.mean()) @ scaled / precision
    return [
        (i, float(step), float(1.0 / weight))
        for i, step, weight in zip(range(BESIDE, n - BESIDE + 1), steps, precision, strict=True)
        # Where another hand is named there is nothing to ask.
        if x.sessions[i].hands == x.sessions[i - 1].hands
    ]


def _everywhere(looked: Sequence[_Looked]) -> float:
    """How much of what the lines of one pose share of a day all poses share, 0 to 1.

    By products of what they leave, of different poses against those of one pose, with a guess.
    """
    at: dict[int, dict[str, list[float]]] = defaultdict(lambda: defaultdict(list))
    for x in looked:
        for i, s in enumerate(x.sessions):
            at[s.assessment_id][x.key[0]].append(float(x.off[i]))
    usual = fmean(float((x.common * x.sd**2).mean()) for x in looked) if looked else 0.0
    across, within = EVERYWHERE * DAYS_GUESSED * usual, DAYS_GUESSED * usual
    for poses in at.values():
        sums = [(sum(v), sum(r * r for r in v), len(v)) for v in poses.values()]
        pairs = sum(n * (n - 1) for _, _, n in sums)
        total, count = sum(s for s, _, _ in sums), sum(n for _, _, n in sums)
        others = count * count - sum(n * n for _, _, n in sums)
        if pairs and others:
            within += sum(s * s - q for s, q, _ in sums) / pairs
            across += (total * total - sum(s * s for s, _, _ in sums)) / others
    return min(max(across / within, 0.0), 1.0) if within > 0.0 else EVERYWHERE


def lines_of(series: Mapping[str, Series]) -> dict[Key, Line]:
    """A person's lines by pose, side and mode."""
    return {(pose, x.side, x.mode): x for pose, s in series.items() for x in s.lines if x.sessions}


def applied(series: Mapping[str, Series], doubts: Sequence[Doubt]) -> dict[str, Series]:
    """A person's series with what is asked about counted wide."""
    return {
        pose: replace(s, lines=tuple(widened(x, doubts, (pose, x.side, x.mode)) for x in s.lines))
        for pose, s in series.items()
    }
