"""How the landmark network sees bodies: ``python -m bench.bodies.network [FOLDER]``.

Fits the tables of ``dachi.core.measuring.fuse`` on pictures of bodies that are reported on nowhere
(``python -m bench.bodies.pictures var/fit 150 1000``): where it sees each kind of joint in the
frame of its bone, how widely, and how each mark on the body behind the joints is missed, which is
written to ``dachi/data/habits.csv``, and how the misses of one picture go together (together.csv).
"""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from bench.bodies.mesh import Array
from bench.bodies.poses import MAKERS
from bench.bodies.sights import THIGH, Sight, sights, untouched
from dachi.core.measuring import fuse, skeleton
from dachi.core.measuring.fuse import CENTRES, Hypothesis, Saw, likeliest
from dachi.core.measuring.habits import Habit
from dachi.core.measuring.looks import CAMERA
from dachi.core.measuring.recognise import JOINTS
from dachi.core.measuring.skeleton import Points, joint_point
from dachi.core.measuring.together import Together, write_together
from dachi.data import FOLDER

#: A ridge on offsets, as so many joints that lie at nothing; the same for habits.
RIDGE, SHRUNK = 4.0, 4
#: A mark is wrong by so much of the thigh; odds are learnt of those nearly so, which are more; the
#: ridge on their weights, and how many parts of the pictures are left out in turn.
WRONG, NEARLY, ODDS_RIDGE, TURNS = 0.10, 0.08, 10.0, 10
#: How much marks of a pose are taken to miss each by itself; 0.1 and 0.5 did much the same.
APART = 0.3


def body(sight: Sight, tables: Mapping[str, fuse.Sight]) -> Hypothesis | None:
    """The body behind the joints of a picture, through its true camera."""
    if sight.seen is None:
        return None
    saw = Saw(sight.image, sight.seen.joints, sight.seen.apart, sight.estimate(), True, tables)
    return likeliest(sight.pose, sight.side, sight.pose.default_variant(), saw, {})


def offsets(found: list[tuple[Sight, Hypothesis]]) -> dict[str, tuple[Array, float]]:
    """Offset (3,) and spread of each kind of joint, cm, in the frames of the bodies found.

    Robust least squares: Student's t by reweighting.
    """
    ways, gaps = defaultdict(list), defaultdict(list)
    points = Points([joint_point(n) for n in CENTRES])
    for sight, one in found:
        x, cam = one.body.x[None], one.body.state[:CAMERA]
        posed = skeleton.pose(x, one.prior.root)
        rotation, _, focal = one.look.view(cam)
        _, depth = one.seen(points)
        for i, name in enumerate(CENTRES):
            side, part = name.split(".")
            frame = posed.frames[0, points.segment[i]].copy()
            frame[:, 1] *= -1.0 if side == "right" else 1.0
            ways[part].append((rotation @ frame)[:2])
            seen = one.px[JOINTS.index(name)]
            gaps[part].append((seen - sight.told["joints"][name]) * depth[i] / focal)
    told = {}
    for part in ways:
        a, b = np.vstack(ways[part]), np.concatenate(gaps[part])
        w, offset, spread = np.ones(len(b)), np.zeros(3), 1.0
        for _ in range(30):
            offset = np.linalg.solve(a.T @ (a * w[:, None]) + RIDGE * np.eye(3), a.T @ (w * b))
            far = np.hypot(*(b - a @ offset).reshape(-1, 2).T)
            # Of a Rayleigh distribution the median is 1.18 standard deviations.
            spread = float(np.median(far)) / 1.18
            w = np.repeat((fuse.STUDENT + 2) / (fuse.STUDENT + (far / spread) ** 2), 2)
        told[part] = offset, spread
    return told


@dataclass(frozen=True)
class Miss:
    """A mark on the body behind the joints: how it misses, cm (ahead, down), how far its joint
    lies off the body and looks at it apart, cm, and about how long the thigh is, cm.
    """

    picture: str
    pose: str
    mark: str
    kind: str
    gap: Array
    off: float
    apart: float
    thigh: float


def misses(found: list[tuple[Sight, Hypothesis]]) -> list[Miss]:
    """Every mark of every picture, without what is known of the network's habits."""
    rows = []
    for sight, one in found:
        told = one.told(sight.pose, sight.pose.default_variant(), {})
        for mark in sight.pose.marks:
            if mark.id not in told.marks or mark.id not in sight.told["marks"]:
                continue
            names = one.joints_of(mark)
            cm = told.sds_cm[mark.id] / told.sds[mark.id]
            gap = np.subtract(sight.told["marks"][mark.id], told.marks[mark.id]) * cm
            gap[0] *= one.ahead(sight.pose, mark)
            kind = names[0].partition(".")[2] if len(names) == 1 else ""
            thigh = THIGH * sight.told["height_cm"]
            rows.append(
                Miss(sight.name, sight.pose.id, mark.id, kind, gap, *one.strayed(names), thigh)
            )
    return rows


def own_sd(rows: list[Miss], middle: Array) -> float:
    """What is left of misses about a middle beside what doubts explain, cm, by moments."""
    left = [
        float(np.sum((r.gap - middle) ** 2)) / 2
        - (fuse.OFF * r.off) ** 2
        - (fuse.DISAGREED * r.apart) ** 2
        for r in rows
    ]
    return float(np.sqrt(max(float(np.mean(left)), 0.36)))


def habits(rows: list[Miss]) -> tuple[dict[tuple[str, str], Habit], dict[str, float]]:
    """A habit for every mark of every pose, drawn towards none by SHRUNK marks more; the spread
    of each kind of mark without one.
    """
    kinds, marks = defaultdict(list), defaultdict(list)
    for r in rows:
        kinds[r.kind].append(r)
        marks[r.pose, r.mark].append(r)
    usual = {k: own_sd(v, np.zeros(2)) for k, v in kinds.items()}
    told = {}
    for key, own in marks.items():
        n = len(own)
        middle = np.median([r.gap for r in own], axis=0) * n / (n + SHRUNK)
        var = (n * own_sd(own, middle) ** 2 + SHRUNK * usual[own[0].kind] ** 2) / (n + SHRUNK)
        told[key] = Habit(float(middle[0]), float(middle[1]), float(np.sqrt(var)))
    return told, usual


def halves_of(found: list[tuple[Sight, Hypothesis]]) -> list[list[tuple[Sight, Hypothesis]]]:
    """The pictures in two halves; poses take turns, so they are made of whole rounds."""
    rounds = [found[i : i + len(MAKERS)] for i in range(0, len(found), len(MAKERS))]
    return [[f for r in rounds[half::2] for f in r] for half in (0, 1)]


def doubts(
    found: list[tuple[Sight, Hypothesis]], told: Mapping[tuple[str, str], Habit]
) -> dict[tuple[str, str], float]:
    """Log odds, by pose and mark, that it is wrong where its joint lies on the body and looks
    agree; what the one and the other add is printed, and what each limit would ask for.

    Logistic, with a ridge, of the logarithms of a mark's spread and doubts and of its pose. A mark
    is wrong by the habits of the other half of the pictures.
    """
    halves = [misses(half) for half in halves_of(found)]
    rows, share = [], []
    for own, other in zip(halves, reversed(halves), strict=True):
        middles = {k: np.array([h.ahead, h.down]) for k, h in habits(own)[0].items()}
        for r in other:
            rows.append(r)
            off = r.gap - middles.get((r.pose, r.mark), np.zeros(2))
            share.append(float(np.hypot(*off)) / r.thigh)
    poses = sorted({r.pose for r in rows})

    def row(pose: str, sd: float, off: float, apart: float) -> Array:
        return np.array([*np.log1p([off, apart, sd]), *(pose == p for p in poses)], dtype=float)

    x = np.array([row(r.pose, told[r.pose, r.mark].sd, r.off, r.apart) for r in rows])
    wrong, nearly = np.array(share) > WRONG, (np.array(share) > NEARLY).astype(float)
    turn = np.array([int(r.picture) // len(MAKERS) % TURNS for r in rows])
    chance = np.zeros(len(rows))
    for i in range(TURNS):
        weights = logistic(x[turn != i], nearly[turn != i])
        chance[turn == i] = 1 / (
            1 + np.exp(-np.column_stack([x[turn == i], np.ones(sum(turn == i))]) @ weights)
        )
    for limit in (0.05, 0.06, 0.07, 0.08, 0.1, 0.12):
        caught, asked = np.mean(chance[wrong] > limit), np.mean(chance > limit)
        print(f"asked above {limit}: {caught:.1%} of {wrong.sum()} wrong, {asked:.0%} of all")
    weights = logistic(x, nearly)
    print(f"ODDS_OFF, ODDS_APART = {weights[0]:.3f}, {weights[1]:.3f}")
    return {
        (pose, mark): float(row(pose, h.sd, 0.0, 0.0) @ weights[:-1] + weights[-1])
        for (pose, mark), h in told.items()
    }


def together(rows: list[Miss], told: Mapping[tuple[str, str], Habit]) -> dict[str, Together]:
    """How misses of each pose's marks go together, about its habits: a Student's t by reweighting,
    drawn by APART towards each mark missing by itself.
    """
    found = {}
    for pose in dict.fromkeys(r.pose for r in rows):
        shots: dict[str, dict[str, Array]] = defaultdict(dict)
        for r in rows:
            if r.pose == pose:
                habit = told[pose, r.mark]
                shots[r.picture][r.mark] = r.gap - [habit.ahead, habit.down]
        marks = max((tuple(s) for s in shots.values()), key=len)
        x = np.array([np.concatenate([s[m] for m in marks])
                      for s in shots.values() if len(s) == len(marks)])  # fmt: skip
        w, drawn = np.ones(len(x)), np.eye(x.shape[1])
        for _ in range(20):
            own = (x * w[:, None]).T @ x / len(x)
            drawn = (1 - APART) * own + APART * np.diag(np.diag(own))
            far = np.einsum("ij,jk,ik->i", x, np.linalg.inv(drawn), x)
            w = (fuse.STUDENT + x.shape[1]) / (fuse.STUDENT + far)
        found[pose] = Together(marks, drawn)
    return found


def logistic(x: Array, y: Array) -> Array:
    """Weights of x (n, k), then a constant, for the log odds of y (n,), by Newton; a ridge of
    ODDS_RIDGE on those of x at its own scale.
    """
    middle, scale = x.mean(axis=0), x.std(axis=0) + 1e-9
    a = np.column_stack([(x - middle) / scale, np.ones(len(x))])
    ridge = np.diag([ODDS_RIDGE] * x.shape[1] + [0.0])
    w = np.zeros(a.shape[1])
    for _ in range(30):
        p = 1 / (1 + np.exp(-a @ w))
        slope = a.T @ (y - p) - ridge @ w
        w = w + np.linalg.solve(a.T @ (a * (p * (1 - p))[:, None]) + ridge, slope)
    own = w[:-1] / scale
    return np.append(own, w[-1] - middle @ own)


def widened(found: list[tuple[Sight, Hypothesis]]) -> dict[str, float]:
    """How much wider a pose's marks must be taken for its reading's interval to hold: marks of one
    picture miss together. Habits of one half of the pictures are tried on the other. Never
    narrower; two pictures that hold count with each pose's.
    """
    halves = halves_of(found)
    told = [habits(misses(half))[0] for half in halves]
    scores: dict[str, list[float]] = defaultdict(lambda: [1.0, 1.0])
    for own, other in zip(told, reversed(halves), strict=True):
        for sight, one in other:
            pose = sight.pose
            mine = {m: h for (p, m), h in own.items() if p == pose.id}
            read = untouched(sight, one.told(pose, pose.default_variant(), mine))
            if read is not None:
                scores[pose.id].append((read[0] / read[1]) ** 2)
    return {p: max(1.0, float(np.sqrt(np.mean(z2)))) for p, z2 in scores.items()}


def main(argv: list[str] | None = None) -> None:
    every = [s for s in sights(Path((argv or ["var/fit"])[0])) if s.seen is not None]
    tables = dict(fuse.SIGHTS)
    for turn in range(3):
        found = [(s, h) for s in every if (h := body(s, tables)) is not None]
        for part, (offset, spread) in offsets(found).items():
            x, y, z = offset.tolist()
            tables[part] = fuse.Sight((x, y, z), spread)
            print(f"{turn} {part:9} {x:6.2f} {y:6.2f} {z:6.2f}  sd {spread:.2f}")
    found = [(s, h) for s in every if (h := body(s, tables)) is not None]
    told, usual = habits(misses(found))
    for pose, factor in widened(found).items():
        print(f"{pose:20} spreads times {factor:.2f}")
        told |= {k: replace(h, sd=h.sd * factor) for k, h in told.items() if k[0] == pose}
    print(len(every), "pictures; without a habit", {k: round(v, 2) for k, v in usual.items()})
    odds = doubts(found, told)
    lines = [
        f"{p},{m},{h.ahead:.2f},{h.down:.2f},{h.sd:.2f},{odds[p, m]:.2f}"
        for (p, m), h in told.items()
    ]
    table = FOLDER / "habits.csv"
    table.write_text("\n".join(["pose,mark,ahead,down,sd,odds", *lines, ""]))
    rows = FOLDER / "together.csv"
    rows.write_text(write_together(together(misses(found), told)))
    print("written:", table, rows)


if __name__ == "__main__":
    main(sys.argv[1:])
