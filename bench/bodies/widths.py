"""How much wider or narrower than their errors intervals are: the factors of a pose's ``[held]``.

``python -m bench.bodies.widths [fit|report] [SHOTS]`` takes, for each pose, headlines of bodies
marked where the points lie, with the trochanter a centimetre before and behind, with another
skinning of the groin, and by hands with a habit. The width is the least that holds ``WANTED`` of
those marked as meant and ``OTHERWISE`` of each of the others; a hand's habit is added to it, not
scaled. ``bare`` is what both are multiplied by without a mat. Fitted on the ``fit`` half; on the
``report`` half it only tells what is left.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace

import numpy as np

from bench.bodies.mesh import Array
from bench.bodies.poses import MAKERS
from bench.bodies.run import people
from bench.bodies.shots import CLICKS, Clicking, Shot, shoot
from bench.bodies.truth import truth
from dachi.core.measuring.asked import camera_for, usable_marks
from dachi.core.measuring.measure import measure_with
from dachi.core.measuring.scene import SceneError
from dachi.data import catalogue

WANTED, OTHERWISE = 95.0, 91.5
#: Shapes of a half.
SHAPES = 80
GRID = np.arange(0.3, 4.01, 0.05)
WAYS: dict[str, Clicking] = {
    "meant": CLICKS,
    "behind": replace(CLICKS, trochanter_cm=-1.0),
    "before": replace(CLICKS, trochanter_cm=1.0),
    "skin": replace(CLICKS, other_skin=True),
    "habit": replace(CLICKS, habit_cm=1.0),
    "bare": replace(CLICKS, bare=True),
}


@dataclass(frozen=True)
class Told:
    """A headline's error, what the body spreads of it and of its change, and the habit's part."""

    error: float
    sd: float
    change: float
    habit: float


def told(shot: Shot) -> list[Told]:
    """Every headline of a shot, width apart; none where it is refused."""
    scene = shot.scene
    pose = catalogue().pose(scene.pose)
    by_width = {}
    for w in (1.0, 0.0):
        own = replace(
            pose,
            needs_mat=False,
            held=replace(pose.held, width=w, change_width=w, bare_width=1.0),
        )
        try:
            marks = usable_marks(scene, own)
            by_width[w] = measure_with(scene, own, camera_for(scene, own, marks))
        except SceneError:
            return []
    found = []
    for name, value in truth(shot).items():
        whole, habit = (by_width[w].reading(name) for w in (1.0, 0.0))
        sd = np.sqrt(max(whole.sd**2 - habit.sd**2, 1e-9))
        left = (habit.sd_change or 0.0) ** 2
        change = np.sqrt(max((whole.sd_change or whole.sd) ** 2 - left, 1e-9))
        found.append(Told(whole.value - value, float(sd), float(change), habit.sd))
    return found


def holds(rows: list[Told], width: float) -> float:
    """Per cent of errors within 95 % intervals of a width."""
    e, sd, habit = np.array([(r.error, r.sd, r.habit) for r in rows]).T
    return float(100 * np.mean(abs(e) <= 1.96 * np.hypot(width * sd, habit)))


def changes_hold(pairs: Array, width: float) -> float:
    """The same of changes: rows of difference, both spreads, both habits' parts."""
    e, c1, c2, h1, h2 = pairs.T
    sd = np.sqrt(width**2 * (c1**2 + c2**2) + (h1**2 + h2**2) / 5.0)
    return float(100 * np.mean(abs(e) <= 1.96 * sd))


def least(enough: dict[str, float], groups: dict[str, list[Told]]) -> float:
    """The least width at which every group holds as much as is asked of it."""
    for w in GRID:
        if all(holds(groups[n], float(w)) >= asked for n, asked in enough.items() if groups[n]):
            return float(w)
    return float(GRID[-1])


def main(half: str = "fit", shots: int = 150, only: str = "") -> None:
    bodies = people(half, SHAPES)
    print(f"{'':20} {'width':>6} {'bare':>6} {'change':>6}  holds at it, and now: {' '.join(WAYS)}")
    for pose_id in only.split(",") if only else MAKERS:
        groups: dict[str, list[Told]] = {n: [] for n in WAYS}
        pairs = []
        for name, way in WAYS.items():
            rng = np.random.default_rng([9, *pose_id.encode()])
            for i in range(shots):
                one = told(shoot(pose_id, bodies[i % len(bodies)], rng, way))
                groups[name] += one
                if name in ("meant", "before"):
                    two = told(shoot(pose_id, bodies[i % len(bodies)], rng, way))
                    if one and two:
                        a, b = one[0], two[0]
                        pairs.append((b.error - a.error, a.change, b.change, a.habit, b.habit))
        asked = {"meant": WANTED, **dict.fromkeys(("behind", "before", "skin", "habit"), OTHERWISE)}
        width = least(asked, groups)
        bare = least({"bare": OTHERWISE}, groups) / width if groups["bare"] else float("nan")
        change = next(
            (float(w) for w in GRID if changes_hold(np.array(pairs), float(w)) >= WANTED), 9.0
        )
        held = catalogue().pose(pose_id).held
        told_now = " ".join(
            f"{holds(g, width):.0f}/"
            f"{holds(g, held.width * (held.bare_width if n == 'bare' else 1.0)):.0f}"
            for n, g in groups.items()
            if g
        )
        print(f"{pose_id:20} {width:6.2f} {bare:6.2f} {change:6.2f}  {told_now}", flush=True)


if __name__ == "__main__":
    main(
        sys.argv[1] if len(sys.argv) > 1 else "fit",
        int(sys.argv[2]) if len(sys.argv) > 2 else 150,
        sys.argv[3] if len(sys.argv) > 3 else "",
    )
